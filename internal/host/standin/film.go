package standin

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/jpeg"
	"sync"
	"time"

	"golang.org/x/image/draw"

	"yamato/internal/core/device"
	standin "yamato/internal/host/standin/draw"
)

// film is who watches the screen. A frame is laid out where the screen changes, by whoever
// changes it, and drawn by who watches: so that Frames, once its first frame
// is laid out, may run beside other calls.
type film struct {
	mu     sync.Mutex
	frames chan moment // nil where nobody watches; it holds the newest
}

type moment struct {
	at      time.Duration
	picture standin.Picture
}

// show has the newest frame be what is on the screen now.
func (f *film) show(now func() moment) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.frames == nil {
		return
	}
	select {
	case <-f.frames: // nobody has looked at it, and it is no more
	default:
	}
	f.frames <- now()
}

// Frames shows the screen as it moves.
func (d *Device) Frames(ctx context.Context, width, height int, show func(device.Frame) error) error {
	if width < 1 || height < 1 {
		return errors.New("a frame is at least one pixel wide and high")
	}
	if err := d.alive(); err != nil {
		return err
	}
	frames := make(chan moment, 1)
	d.film.mu.Lock()
	if d.film.frames != nil {
		d.film.mu.Unlock()
		return errors.New("somebody is shown the screen of this device already")
	}
	d.film.frames = frames
	d.film.mu.Unlock()
	defer func() {
		d.film.mu.Lock()
		d.film.frames = nil
		d.film.mu.Unlock()
	}()
	d.film.show(d.moment)
	for {
		select {
		case <-ctx.Done():
			return nil
		case m := <-frames:
			f, err := m.draw(width, height)
			if err != nil {
				return err
			}
			if err := show(f); err != nil {
				return err
			}
		}
	}
}

func (d *Device) moment() moment {
	s := d.current()
	return moment{d.now, standin.Picture{Scene: s, Look: d.look, Scale: 1}}
}

// draw draws a frame at most so large.
func (m moment) draw(width, height int) (device.Frame, error) {
	t := m.picture.Scene.Tree
	part := min(float64(width)/t.Width, float64(height)/t.Height)
	m.picture.Scale = max(1, min(part, 4))
	img, err := m.picture.Image()
	if err != nil {
		return device.Frame{}, err
	}
	if part < 1 {
		small := image.NewRGBA(image.Rect(0, 0, max(1, int(t.Width*part)), max(1, int(t.Height*part))))
		draw.ApproxBiLinear.Scale(small, small.Bounds(), img, img.Bounds(), draw.Src, nil)
		img = small
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 75}); err != nil {
		return device.Frame{}, err
	}
	return device.Frame{At: m.at, MediaType: "image/jpeg", Data: b.Bytes()}, nil
}
