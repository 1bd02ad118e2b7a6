// Package bundle holds a suite with the files that lie beside it as one blob, so that a suite is
// what it was when it was handed in: the text alone where it uses nothing, else a zip that is the
// same for the same files.
package bundle

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"time"

	"yamato/internal/core/script"
)

// Bounds on a bundle.
const (
	MaxFiles = 100     // beside the suite
	MaxSize  = 6 << 20 // bytes of all of them, unpacked
)

// Bundle is a suite with what lies beside it, by paths from the suite's folder on.
type Bundle struct {
	Text  string
	Files map[string][]byte
}

const main = "suite"

// Check tells why a bundle is too large, nil where it is not.
func (b Bundle) Check() error {
	size := len(b.Text)
	for name, data := range b.Files {
		size += len(name) + len(data)
	}
	switch {
	case len(b.Files) > MaxFiles:
		return fmt.Errorf("a suite has at most %d files beside it, not %d", MaxFiles, len(b.Files))
	case size > MaxSize:
		return fmt.Errorf("a suite has at most %d MB with the files beside it", MaxSize>>20)
	}
	return nil
}

// Encode gives the blob.
func (b Bundle) Encode() ([]byte, error) {
	if err := b.Check(); err != nil {
		return nil, err
	}
	if len(b.Files) == 0 {
		return []byte(b.Text), nil
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	add := func(name string, data []byte) error {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: time.Unix(1767225600,
			0).UTC()})
		if err == nil {
			_, err = w.Write(data)
		}
		return err
	}
	if err := add(main, []byte(b.Text)); err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(b.Files)) {
		if err := add("beside/"+url.PathEscape(name), b.Files[name]); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return out.Bytes(), err
}

var errLarge = errors.New("the suite's bundle holds more than it may")

// Decode reads a blob.
func Decode(blob []byte) (Bundle, error) {
	if !bytes.HasPrefix(blob, []byte("PK\x03\x04")) {
		return Bundle{Text: string(blob)}, nil
	}
	z, err := zip.NewReader(bytes.NewReader(blob), int64(len(blob)))
	if err != nil {
		return Bundle{}, fmt.Errorf("the suite's bundle cannot be read: %w", err)
	}
	if len(z.File) > MaxFiles+1 {
		return Bundle{}, errLarge
	}
	b, left, found := Bundle{Files: map[string][]byte{}}, int64(MaxSize), false
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			return Bundle{}, fmt.Errorf("the suite's bundle cannot be read: %w", err)
		}
		data, err := io.ReadAll(io.LimitReader(r, left+1))
		err = errors.Join(err, r.Close())
		if left -= int64(len(data)); err == nil && left < 0 {
			err = errLarge
		}
		if err != nil {
			return Bundle{}, err
		}
		if f.Name == main {
			b.Text, found = string(data), true
			continue
		}
		name, ok := bytes.CutPrefix([]byte(f.Name), []byte("beside/"))
		path, err := url.PathUnescape(string(name))
		if !ok || err != nil {
			return Bundle{}, errors.New("the suite's bundle holds something else")
		}
		b.Files[path] = data
	}
	if !found {
		return Bundle{}, errors.New("the suite's bundle holds no suite")
	}
	return b, nil
}

// Beside gives the scripts of a bundle as a reader of scripts wants them.
func (b Bundle) Beside() script.FileMap {
	out := script.FileMap{}
	for name, data := range b.Files {
		if script.IsFile(name) {
			out[name] = string(data)
		}
	}
	return out
}
