package host

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/link"
)

// Bounds on one case's film.
const (
	maxFrames = 200
	maxFilm   = 32 << 20 // bytes
)

// frame is a picture that was taken because the screen had changed.
type frame struct {
	at      time.Duration // since the case began
	picture device.Picture
}

// camera takes a picture after each step after which the screen is another. It
// keeps what is needed to draw it; drawing is done off the path of the steps.
type camera struct {
	ctx    context.Context
	device driver.Device
	began  time.Duration
	last   uint64        // revision
	off    bool          // no pictures are taken
	took   time.Duration // how long the case took, once it has ended
	frames []frame
	held   int // bytes that the pictures of the case take until they are drawn
}

// sizeOf is about what a picture takes until it is drawn: its tree, and as much again
// for each of what is laid out and what is described of it.
func sizeOf(t *screen.Tree) int {
	if t == nil {
		return 0
	}
	return 3 * t.Size()
}

func (c *camera) look() {
	if c.off || len(c.frames) >= maxFrames {
		return
	}
	tree, err := c.device.Tree(c.ctx)
	if err != nil || tree.Revision == c.last { // trouble is for the steps to tell
		return
	}
	size := sizeOf(tree)
	if c.held+size > maxHeld {
		return
	}
	p, err := c.device.Picture(c.ctx)
	if err != nil {
		return
	}
	c.last, c.held = tree.Revision, c.held+size
	c.frames = append(c.frames, frame{c.device.Now() - c.began, p})
}

// film draws frames and packs them: a zip of PNGs, stored as they are, with a list.
func film(out io.Writer, frames []frame, drawn *gallery) error {
	z, size := zip.NewWriter(out), 0
	var list []link.Frame
	var before []byte
	for _, f := range frames {
		png, err := drawn.draw(f.picture)
		if err != nil {
			return fmt.Errorf("drawing a picture of the film: %w", err)
		}
		if bytes.Equal(png, before) { // the screen changed and looks the same
			continue
		}
		if size += len(png); size > maxFilm {
			break
		}
		before = png
		one := link.Frame{File: fmt.Sprintf("%03d.png", len(list)), AtMS: f.at.Milliseconds()}
		w, err := z.CreateHeader(&zip.FileHeader{Name: one.File, Method: zip.Store})
		if err != nil {
			return err
		}
		if _, err := w.Write(png); err != nil {
			return err
		}
		list = append(list, one)
	}
	w, err := z.Create(link.FilmList)
	if err != nil {
		return err
	}
	if err := json.NewEncoder(w).Encode(list); err != nil {
		return err
	}
	return z.Close() // writes the directory
}

// Alike is a picture that knows which others look the same: those of equal key.
type Alike interface{ Key() string }

// gallery remembers drawn pictures: cases of a suite pass the same screens again
// and again, and drawing costs more than anything else that a host does.
type gallery struct {
	mu    sync.Mutex
	drawn map[string][]byte
	size  int
}

// maxGallery bounds what is remembered, in bytes.
const maxGallery = 32 << 20

func (g *gallery) draw(p device.Picture) ([]byte, error) {
	alike, ok := p.(Alike)
	if !ok {
		return drawn(p)
	}
	k := alike.Key()
	g.mu.Lock()
	png := g.drawn[k]
	g.mu.Unlock()
	if png != nil {
		return png, nil
	}
	png, err := drawn(p)
	if err != nil {
		return nil, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.size += len(png); g.drawn == nil || g.size > maxGallery {
		g.drawn, g.size = map[string][]byte{}, len(png)
	}
	g.drawn[k] = png
	return png, nil
}
