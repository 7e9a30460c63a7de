package sessions

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"parallelpane/internal/engine/process"
	"parallelpane/internal/recording"
	"parallelpane/internal/webdriver"
)

// framesPerSecond is how often a video of pictures shows something new, and
// displayPerSecond one of a display: what it misses it cannot know of later.
const (
	framesPerSecond  = 5
	displayPerSecond = 10
)

// video has ffmpeg make a WebM of a session: of its virtual display where it has
// one of its own, else of the pictures that the engine takes. Either begins with
// the session's clock, so that video and commands agree.
type video struct {
	ffmpeg string
	path   string
	begun  sync.Once // of a display: the film has begun
	p      *process.Process
	err    error         // of its beginning
	stop   func()        // has ffmpeg finish
	ended  chan struct{} // closed when no more pictures come
	good   bool

	pictures chan timed // of a film of pictures: those that commands were taken for
}

// timed is what the session showed from a time on, in milliseconds.
type timed struct {
	picture []byte
	from    float64
}

// show gives a film of pictures one that was taken for a command.
func (v *video) show(picture []byte, from float64) {
	select {
	case v.pictures <- timed{picture, from}:
	case <-v.ended:
	}
}

// encoding is how ffmpeg writes every video.
var encoding = []string{"-an", "-c:v", "libvpx", "-deadline", "realtime", "-cpu-used", "8", "-threads", "1", "-b:v", "500k", "-crf",
	"30", "-g", "50", "-pix_fmt", "yuv420p",
	"-flush_packets", "1", "-cluster_time_limit", "1000"} // on disk within a second, for what is handed in as it grows

const fitting = "scale=w='min(1280,iw)':h='min(1280,ih)':force_original_aspect_ratio=decrease:force_divisible_by=2:flags=fast_bilinear"

func startVideo(r *Recording) (*video, error) {
	v := &video{path: filepath.Join(r.dir, recording.VideoFile), ended: make(chan struct{})}
	v.ffmpeg, _ = exec.LookPath("ffmpeg")
	if v.ffmpeg == "" {
		return nil, errors.New("ffmpeg is not installed on the agent: apt-get install ffmpeg")
	}
	if r.s.inst.Display != nil {
		close(v.ended)
		return v, nil // it begins with the first page
	}
	if err := v.ofPictures(r); err != nil {
		return nil, err
	}
	return v, nil
}

func (v *video) start(r *Recording, files []*os.File, input ...string) (err error) {
	args := append([]string{"-hide_banner", "-loglevel", "error", "-nostdin", "-y"}, input...)
	to, err := r.s.box.Lend(v.path)
	if err != nil {
		return err
	}
	v.p, err = r.s.box.Start(process.Command{Files: files, Path: v.ffmpeg, Args: append(append(args, encoding...), to)})
	if err == nil {
		v.p.Hasten() // a film that lags shows what was
	}
	return err
}

// firstPage begins the film of a display before the first page: by then the
// window has its size.
func (v *video) firstPage(ctx context.Context, r *Recording, x *exchange) {
	if r.s.inst.Display != nil && webdriver.CommandOf(x.method, x.path).Name == "Navigate To" {
		v.begun.Do(func() { v.err = v.ofDisplay(ctx, r) })
	}
}

// ofDisplay films the part of the display where the window is. What is grabbed
// carries the time of day, which becomes the session's; what was before the first
// frame looks like it.
func (v *video) ofDisplay(ctx context.Context, r *Recording, more ...string) error {
	rate := strconv.Itoa(displayPerSecond)
	zero := strconv.FormatFloat(float64(r.began.UnixMicro())/1e6, 'f', 6, 64)
	a := r.s.window(ctx)
	args := []string{"-f", "x11grab", "-framerate", rate, "-video_size", fmt.Sprintf("%dx%d", a.Dx(), a.Dy()), "-draw_mouse", "0", "-copyts",
		"-i", fmt.Sprintf("%s+%d,%d", r.s.inst.Display.Name, a.Min.X, a.Min.Y), "-vf", "setpts=PTS-" + zero + "/TB,fps=" +
			rate + ":start_time=0," + fitting}
	if err := v.start(r, nil, append(args, more...)...); err != nil {
		return err
	}
	v.stop = v.p.Ask // it finishes the file and then says that it was interrupted
	return nil
}

// window is where the session's window is on its display, in whole pairs of
// pixels, as videos want it; the whole display if that is not known.
func (s *Session) window(ctx context.Context) image.Rectangle {
	d, scale := s.inst.Display, max(1, s.inst.Scale)
	whole := image.Rect(0, 0, d.Width&^1, d.Height&^1)
	ctx, cancel := context.WithTimeout(Quiet(ctx), 10*time.Second)
	defer cancel()
	w, err := s.WindowRect(ctx)
	if err != nil {
		return whole
	}
	a := image.Rect(int(w.X)*scale, int(w.Y)*scale, int(w.X+w.Width)*scale, int(w.Y+w.Height)*scale).Intersect(whole)
	a.Min.X, a.Min.Y = a.Min.X&^1, a.Min.Y&^1
	a.Max.X, a.Max.Y = a.Max.X&^1, a.Max.Y&^1
	if a.Dx() < 100 || a.Dy() < 100 {
		return whole
	}
	return a
}

func (v *video) ofPictures(r *Recording) error {
	read, write, err := os.Pipe()
	if err != nil {
		return err
	}
	defer read.Close()
	if err := v.start(r, []*os.File{read}, "-f", "image2pipe", "-framerate", strconv.Itoa(framesPerSecond), "-i", "pipe:3",
		"-vf", fitting); err != nil {
		write.Close()
		return err
	}
	v.pictures = make(chan timed)
	ctx, cancel := context.WithCancel(r.ctx)
	v.stop = cancel
	go v.pump(ctx, r, write)
	return nil
}

// pump takes pictures, and those that were taken for commands, and writes as many
// frames of each as belong to the time it was shown. A picture of its own counts
// from when it was asked for, and not at all when a command may have changed the
// page meanwhile: that command's own picture says what it did, and from when.
func (v *video) pump(ctx context.Context, r *Recording, in io.WriteCloser) {
	defer close(v.ended)
	defer in.Close()
	var picture []byte
	since, written := 0.0, 0
	until := func(at float64) bool { // writes what is shown up to a time
		for due := int(at/1000*framesPerSecond + 0.5); picture != nil && written < due; written++ {
			if _, err := in.Write(picture); err != nil {
				return false
			}
		}
		return true
	}
	show := func(next timed) bool {
		if next.from < since { // one of its own that a command's has overtaken
			return true
		}
		since = next.from
		if picture == nil {
			picture = next.picture // what was before the first picture looks like it
		}
		if bytes.Equal(next.picture, picture) {
			return true
		}
		ok := until(next.from)
		picture = next.picture
		return ok
	}
	own := make(chan timed, 1)
	taking := false
	defer func() {
		if taking {
			<-own
		}
	}()
	t := time.NewTicker(time.Second / framesPerSecond)
	defer t.Stop()
	for {
		ok := true
		select {
		case <-ctx.Done():
			until(r.At())
			return
		case next := <-v.pictures:
			ok = show(next)
		case next := <-own:
			taking = false
			ok = next.picture == nil || show(next)
		case <-t.C:
			if !taking {
				taking = true
				go func() { own <- v.take(ctx, r) }()
			}
		}
		if !ok {
			return
		}
	}
}

// take takes a picture, if nothing changes the page meanwhile.
func (v *video) take(ctx context.Context, r *Recording) timed {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	from, before := r.At(), r.changing.Load()
	picture, err := r.s.Picture(ctx)
	if err != nil || r.changing.Load() != before {
		return timed{}
	}
	return timed{picture, from}
}

// end finishes the file.
func (v *video) end(r *Recording) error {
	if r.s.inst.Display != nil {
		v.begun.Do(func() { // no page was ever asked for
			frames := 1 + int(r.At()/1000*displayPerSecond)
			if v.err = v.ofDisplay(r.ctx, r, "-frames:v", strconv.Itoa(frames)); v.err == nil {
				v.stop = func() {}
			}
		})
	}
	if v.err != nil {
		return v.err
	}
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
