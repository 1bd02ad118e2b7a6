package pictures

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/link"
)

// maxFilm bounds a film, in bytes.
const maxFilm = 32 << 20

// Frame is a picture that was taken because the screen had changed.
type Frame struct {
	At      time.Duration // since the case began
	Picture device.Picture
}

// Film draws frames and packs them: a zip of PNGs, stored as they are, with a list.
func Film(out io.Writer, frames []Frame, drawn *Gallery) error {
	z, size := zip.NewWriter(out), 0
	var list []link.Frame
	var before []byte
	for _, f := range frames {
		png, err := drawn.Draw(f.Picture)
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
		one := link.Frame{File: fmt.Sprintf("%03d.png", len(list)), AtMS: f.At.Milliseconds()}
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

// Gallery remembers drawn pictures: cases of a suite pass the same screens again
// and again, and drawing costs more than anything else that a host does.
type Gallery struct {
	mu    sync.Mutex
	drawn map[string][]byte
	size  int
}

// maxGallery bounds what is remembered, in bytes.
const maxGallery = 32 << 20

// Draw gives a picture as a PNG.
func (g *Gallery) Draw(p device.Picture) ([]byte, error) {
	alike, ok := p.(Alike)
	if !ok {
		return Drawn(p)
	}
	k := alike.Key()
	g.mu.Lock()
	png := g.drawn[k]
	g.mu.Unlock()
	if png != nil {
		return png, nil
	}
	png, err := Drawn(p)
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
