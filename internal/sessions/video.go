package sessions

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"parallelpane/internal/engine"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/recording"
)

// framesPerSecond is how often a video shows something new.
const framesPerSecond = 5

// video has ffmpeg make a WebM of a session: of its virtual display where it has
// one of its own, else of the pictures that the engine takes. Either begins with
// the session's clock, so that video and commands agree.
type video struct {
	p     *process.Process
	path  string
	stop  func() // has ffmpeg finish
	ended chan struct{}
	good  bool
}

// encoding is how ffmpeg writes every video.
var encoding = []string{"-an", "-c:v", "libvpx", "-deadline", "realtime", "-cpu-used", "8", "-threads", "1", "-b:v", "500k", "-crf", "30", "-g", "50", "-pix_fmt", "yuv420p"}

const fitting = "scale=w='min(1280,iw)':h='min(1280,ih)':force_original_aspect_ratio=decrease:force_divisible_by=2:flags=fast_bilinear"

func startVideo(r *Recording) (*video, error) {
	ffmpeg := engine.FindProgram("ffmpeg")
	if ffmpeg == "" {
		return nil, errors.New("ffmpeg is not installed on the agent: apt-get install ffmpeg")
	}
	v := &video{path: filepath.Join(r.dir, recording.VideoFile), ended: make(chan struct{})}
	if d := r.s.inst.Display; d != nil {
		return v, v.ofDisplay(r, ffmpeg, d)
	}
	return v, v.ofPictures(r, ffmpeg)
}

func (v *video) start(r *Recording, ffmpeg string, files []*os.File, input ...string) (err error) {
	args := append([]string{"-hide_banner", "-loglevel", "error", "-nostdin", "-y"}, input...)
	v.p, err = process.StartWith(nil, []string{process.SessionEnv(r.s.dir)}, files, ffmpeg, append(append(args, encoding...), v.path)...)
	return err
}

// ofDisplay films a display. What it grabs carries the time of day, which
// becomes the session's; what was before the first frame looks like it.
func (v *video) ofDisplay(r *Recording, ffmpeg string, d *process.Display) error {
	rate := strconv.Itoa(framesPerSecond)
	zero := strconv.FormatFloat(float64(r.began.UnixMicro())/1e6, 'f', 6, 64)
	err := v.start(r, ffmpeg, nil, "-f", "x11grab", "-framerate", rate, "-video_size", fmt.Sprintf("%dx%d", d.Width, d.Height), "-draw_mouse", "0", "-copyts", "-i", d.Name,
		"-vf", "setpts=PTS-"+zero+"/TB,fps="+rate+":start_time=0,"+fitting)
	if err != nil {
		return err
	}
	close(v.ended)
	v.stop = v.p.Ask // it finishes the file and then says that it was interrupted
	return nil
}

func (v *video) ofPictures(r *Recording, ffmpeg string) error {
	read, write, err := os.Pipe()
	if err != nil {
		return err
	}
	defer read.Close()
	if err := v.start(r, ffmpeg, []*os.File{read}, "-f", "image2pipe", "-framerate", strconv.Itoa(framesPerSecond), "-i", "pipe:3", "-vf", fitting); err != nil {
		write.Close()
		return err
	}
	ctx, cancel := context.WithCancel(r.ctx)
	v.stop = cancel
	go v.pump(ctx, r, write)
	return nil
}

// pump takes pictures and writes as many frames of each as belong to the time
// it was shown.
func (v *video) pump(ctx context.Context, r *Recording, in io.WriteCloser) {
	defer close(v.ended)
	defer in.Close()
	var picture []byte
	written := 0
	catchUp := func() bool {
		due := int(time.Since(r.began).Seconds() * framesPerSecond)
		for picture != nil && written < due {
			if _, err := in.Write(picture); err != nil {
				return false
			}
			written++
		}
		return true
	}
	t := time.NewTicker(time.Second / framesPerSecond)
	defer t.Stop()
	for {
		shot, cancel := context.WithTimeout(ctx, 5*time.Second)
		next, err := r.s.Picture(shot)
		cancel()
		if err == nil && !bytes.Equal(next, picture) {
			if picture == nil {
				picture = next
			}
			if !catchUp() {
				return
			}
			picture = next
		}
		select {
		case <-ctx.Done():
			catchUp()
			return
		case <-t.C:
		}
	}
}

// end finishes the file.
func (v *video) end() error {
	early := v.p.Gone()
	v.stop()
	<-v.ended
	select {
	case <-v.p.Done():
	case <-time.After(20 * time.Second):
		v.p.Stop(0)
		return errors.New("ffmpeg did not finish the video")
	}
	if early != nil {
		return early
	}
	if info, err := os.Stat(v.path); err != nil || info.Size() == 0 {
		return fmt.Errorf("ffmpeg made no video: %w", errors.Join(err, v.p.Gone()))
	}
	v.good = true
	return nil
}
