package byhand

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/har"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/video"
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
	s.film.mu.Lock()
	newest, width, height := s.film.newest, s.film.width, s.film.height
	s.film.mu.Unlock()
	if newest.Data == nil {
		return refuse("try again in a moment", "there is nothing to be seen yet")
	}
	v, err := video.Begin(s.Folder, s.Room, newest, width, height)
	if errors.Is(err, video.ErrNoEncoder) {
		return refuse("install Debian's package ffmpeg on the host, then try again",
			"this host has no ffmpeg to make a video with")
	}
	if err != nil {
		return err
	}
	s.film.mu.Lock()
	s.film.onShow = v.Show
	s.film.mu.Unlock()
	s.video, s.videoFrom = v, s.now()
	return nil
}

// endVideo ends the video and keeps it.
func (s *sitting) endVideo(ctx context.Context) (string, error) {
	v := s.video
	s.video = nil
	s.film.mu.Lock()
	s.film.onShow = nil
	s.film.mu.Unlock()
	defer v.Discard()
	path, err := v.End(ctx)
	if err != nil {
		return "", err
	}
	ref, err := s.UploadFile(ctx, evidence.Video, evidence.Video.Name, path)
	if err != nil {
		return "", err
	}
	text := fmt.Sprintf("video of %.0f s", float64(s.now()-s.videoFrom)/1000)
	return text, s.note(link.Entry{Kind: link.EntryVideo, Text: text, Blob: &ref,
		Detail: encoded(map[string]int64{"from_ms": s.videoFrom})})
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
