package byhand

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/har"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/link"
)

// picture keeps a picture of the screen, or of the one element that a locator or a place means.
func (s *sitting) picture(ctx context.Context, o link.Order) (link.Answer, error) {
	tree, err := s.Device.Tree(ctx)
	if err != nil {
		return link.Answer{}, err
	}
	s.see(tree)
	crop, what := screen.Rect{}, "the screen"
	if o.At != nil {
		n := meant(tree, *o.At)
		if n == nil {
			return link.Answer{}, refuse("point at an element", "there is no element at that place")
		}
		crop, what = n.Visible, screen.Describe(n)
	}
	p, err := s.Device.Picture(ctx)
	if err != nil {
		return link.Answer{}, err
	}
	name := strings.TrimSpace(o.Name)
	if name == "" {
		name = what
	}
	return link.Answer{Text: name}, s.keepPicture(ctx, name, p, tree, crop)
}

func (s *sitting) keepPicture(ctx context.Context, name string, p device.Picture, tree *screen.Tree,
	crop screen.Rect) error {
	var png []byte
	var err error
	if crop.Empty() {
		png, err = s.Draw(p)
	} else {
		png, err = s.DrawPart(p, tree, crop)
	}
	if err != nil {
		return fmt.Errorf("drawing the picture: %w", err)
	}
	s.keepLogSoFar(ctx)
	name = plain.Text(name, 200)
	ref, err := s.Upload(ctx, evidence.Picture, name, png)
	if err != nil {
		return err
	}
	return s.note(link.Entry{Kind: link.EntryPicture, Text: name, Blob: &ref, Detail: encoded(s.scene(tree))})
}

// scene is what matters of a moment, for whoever writes down what was to be seen.
func (s *sitting) scene(tree *screen.Tree) map[string]any {
	return map[string]any{"app": tree.App, "width": tree.Width, "height": tree.Height, "language": tree.Language,
		"felt": s.feels()}
}

// mark keeps a note at this moment, with a picture of it.
func (s *sitting) mark(ctx context.Context, o link.Order) (link.Answer, error) {
	text := plain.Text(strings.TrimSpace(o.Text), 2000)
	if text == "" {
		text = "marked"
	}
	s.keepLogSoFar(ctx)
	e := link.Entry{Kind: link.EntryMark, Text: text}
	if tree, err := s.Device.Tree(ctx); err == nil {
		e.Detail = encoded(s.scene(tree))
		if p, err := s.Device.Picture(ctx); err == nil {
			if png, err := s.Draw(p); err == nil {
				if ref, err := s.Upload(ctx, evidence.Picture, text, png); err == nil {
					e.Blob = &ref
				}
			}
		}
	}
	return link.Answer{Text: text}, s.note(e)
}

// Bounds of a video.
const (
	videoRate = 12 // frames a second
	maxVideo  = 96 << 20
	videoTime = 30 * time.Minute
)

// video is a video that is being made: the newest frame, so many times a second, goes into a process
// that encodes it.
type video struct {
	path    string
	process *exec.Cmd
	in      io.WriteCloser
	end     chan struct{}
	done    chan error
	began   int64 // on the session's time

	mu     sync.Mutex
	newest []byte
}

func (v *video) take(f device.Frame) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.newest = f.Data
}

// record begins or ends a video.
func (s *sitting) record(ctx context.Context, o link.Order) (link.Answer, error) {
	switch {
	case o.On && s.video != nil:
		return link.Answer{}, refuse("", "a video is being made already")
	case o.On:
		return link.Answer{}, s.beginVideo()
	case s.video == nil:
		return link.Answer{}, refuse("begin one first", "no video is being made")
	}
	text, err := s.endVideo(ctx)
	return link.Answer{Text: text}, err
}

func (s *sitting) beginVideo() error {
	encoder, err := exec.LookPath("ffmpeg")
	if err != nil {
		return refuse("install Debian's package ffmpeg on the host, then try again",
			"this host has no ffmpeg to make a video with")
	}
	s.film.mu.Lock()
	newest, width, height := s.film.newest, s.film.width, s.film.height
	s.film.mu.Unlock()
	if newest.Data == nil {
		return refuse("try again in a moment", "there is nothing to be seen yet")
	}
	codec := "mjpeg"
	if newest.MediaType == "image/png" {
		codec = "png"
	}
	f, err := os.CreateTemp(s.Folder, "video-*.webm")
	if err != nil {
		return err
	}
	path := f.Name()
	if err := f.Close(); err != nil {
		return err
	}
	w, h := width&^1, height&^1 // what is turned meanwhile is shown whole, smaller
	size := fmt.Sprintf("scale=%d:%d:force_original_aspect_ratio=decrease,pad=%d:%d:(ow-iw)/2:(oh-ih)/2", w, h, w, h)
	p := exec.Command(encoder, "-hide_banner", "-loglevel", "error", "-y", "-f", "image2pipe", "-framerate",
		fmt.Sprint(videoRate),
		"-c:v", codec, "-i", "pipe:0", "-an", "-c:v", "libvpx", "-deadline", "realtime", "-cpu-used", "8", "-threads",
		"1",
		"-b:v", "1200k", "-vf", size, "-fs", fmt.Sprint(maxVideo), "-f", "webm", path)
	in, err := p.StdinPipe()
	if err != nil {
		return err
	}
	var said strings.Builder
	p.Stderr = &said
	p.WaitDelay = 2 * time.Second
	if err := p.Start(); err != nil {
		return fmt.Errorf("starting %s: %w", filepath.Base(encoder), err)
	}
	v := &video{path: path, process: p, in: in, end: make(chan struct{}), done: make(chan error, 1), began: s.now(),
		newest: newest.Data}
	s.film.mu.Lock()
	s.film.onShow = v.take
	s.film.mu.Unlock()
	go func() { // ends when end is closed, and endVideo waits for it
		v.feed()
		err := errors.Join(in.Close(), p.Wait())
		if err != nil && said.Len() > 0 {
			err = fmt.Errorf("%w: %s", err, plain.Clip(said.String(), 300))
		}
		v.done <- err
	}()
	s.video = v
	return nil
}

// feed writes the newest frame at the video's rate until its end.
func (v *video) feed() {
	tick := time.NewTicker(time.Second / videoRate)
	defer tick.Stop()
	limit := time.NewTimer(videoTime)
	defer limit.Stop()
	for {
		select {
		case <-v.end:
			return
		case <-limit.C:
			return
		case <-tick.C:
			v.mu.Lock()
			frame := v.newest
			v.mu.Unlock()
			if _, err := v.in.Write(frame); err != nil {
				return // the process tells why
			}
		}
	}
}

// endTime is how long the maker of a video may take to write the rest.
const endTime = 10 * time.Second

// endVideo ends the video and keeps it.
func (s *sitting) endVideo(ctx context.Context) (string, error) {
	v := s.video
	s.video = nil
	s.film.mu.Lock()
	s.film.onShow = nil
	s.film.mu.Unlock()
	close(v.end)
	late := time.NewTimer(endTime)
	defer late.Stop()
	var err error
	select {
	case err = <-v.done:
	case <-late.C: // it hangs, and the device is not to hang with it
		_ = v.process.Process.Kill()
		<-v.done
		err = fmt.Errorf("ffmpeg did not end within %s", endTime)
	case <-ctx.Done():
		_ = v.process.Process.Kill()
		<-v.done
		err = context.Cause(ctx)
	}
	defer os.Remove(v.path)
	if err != nil {
		return "", fmt.Errorf("the video could not be made: %w", err)
	}
	content, err := os.ReadFile(v.path) // bounded by maxVideo
	if err != nil {
		return "", err
	}
	ref, err := s.Upload(ctx, evidence.Video, "video", content)
	if err != nil {
		return "", err
	}
	text := fmt.Sprintf("video of %.0f s", float64(s.now()-v.began)/1000)
	return text, s.note(link.Entry{Kind: link.EntryVideo, Text: text, Blob: &ref,
		Detail: encoded(map[string]int64{"from_ms": v.began})})
}

// keepGathered keeps what the apps asked the network for, and what they took, as evidence of its own.
func (s *sitting) keepGathered(ctx context.Context) error {
	g := s.gathered
	if g == nil {
		return nil
	}
	s.gathered = nil
	g.End(ctx)
	rec := har.Record{Calls: g.Calls, Dropped: g.Dropped,
		Began:  s.began.Add(-time.Duration(s.Session.SinceMS) * time.Millisecond),
		Device: s.Device.Describe().Name, Bodies: true}
	if len(rec.Calls) > 0 {
		var b bytes.Buffer // bounded by what is gathered
		if err := rec.Write(&b); err != nil {
			return err
		}
		ref, err := s.Upload(ctx, evidence.Network, evidence.Network.Name, b.Bytes())
		if err != nil {
			return err
		}
		if err := s.note(link.Entry{Kind: link.EntryNetwork, Text: fmt.Sprintf("%d calls over the network",
			len(rec.Calls)), Blob: &ref,
			Detail: encoded(rec.Sum())}); err != nil {
			return err
		}
	}
	packed, facts, err := g.Readings()
	if err != nil || packed == nil {
		return err
	}
	ref, err := s.Upload(ctx, evidence.Readings, evidence.Readings.Name, packed)
	if err != nil {
		return err
	}
	return s.note(link.Entry{Kind: link.EntryReadings, Text: "readings", Blob: &ref, Detail: encoded(facts)})
}
