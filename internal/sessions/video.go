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

// video has ffmpeg make a WebM of a session's pictures. A frame stands for a
// fifth of a second of the session's clock, from its beginning on, so that video
// and commands agree.
type video struct {
	p     *process.Process
	in    io.WriteCloser
	stop  context.CancelFunc
	ended chan struct{}
	good  bool
}

func startVideo(r *Recording) (*video, error) {
	path := engine.FindProgram("ffmpeg")
	if path == "" {
		return nil, errors.New("ffmpeg is not installed on the agent: apt-get install ffmpeg")
	}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer read.Close()
	args := []string{"-hide_banner", "-loglevel", "error", "-nostdin", "-y",
		"-f", "image2pipe", "-framerate", strconv.Itoa(framesPerSecond), "-i", "pipe:3",
		"-vf", "scale=w='min(1280,iw)':h='min(1280,ih)':force_original_aspect_ratio=decrease:force_divisible_by=2:flags=fast_bilinear", "-an", "-c:v", "libvpx", "-deadline", "realtime", "-cpu-used", "8", "-threads", "1",
		"-b:v", "500k", "-crf", "30", "-g", "50", "-pix_fmt", "yuv420p", filepath.Join(r.dir, recording.VideoFile)}
	p, err := process.StartWith(nil, []string{process.SessionEnv(r.s.dir)}, []*os.File{read}, path, args...)
	if err != nil {
		write.Close()
		return nil, err
	}
	ctx, cancel := context.WithCancel(r.ctx)
	v := &video{p: p, in: write, stop: cancel, ended: make(chan struct{})}
	go v.pump(ctx, r)
	return v, nil
}

// pump takes pictures and writes as many frames of each as belong to the time
// it was shown.
func (v *video) pump(ctx context.Context, r *Recording) {
	defer close(v.ended)
	defer v.in.Close()
	var picture []byte
	written := 0
	catchUp := func() bool {
		due := int(time.Since(r.began).Seconds() * framesPerSecond)
		for picture != nil && written < due {
			if _, err := v.in.Write(picture); err != nil {
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
	v.stop()
	<-v.ended
	select {
	case <-v.p.Done():
	case <-time.After(20 * time.Second):
		v.p.Stop(0)
		return errors.New("ffmpeg did not finish the video")
	}
	if err := v.p.Failed(); err != nil {
		return fmt.Errorf("ffmpeg: %w", err)
	}
	v.good = true
	return nil
}
