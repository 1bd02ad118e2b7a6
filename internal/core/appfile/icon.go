package appfile

import (
	"archive/zip"
	"bytes"
	"io"
	"path"

	"yamato/internal/core/appfile/applepng"
)

const pngHead = "\x89PNG\r\n\x1a\n"

// ReadIcon gives the icon that p names, from the same bytes, and its media type, as
// browsers show it: pictures in Apple's own kind of PNG are converted, and drawings in
// Android's XML become SVG.
func (p *Package) ReadIcon(r io.ReaderAt, size int64) (data []byte, mediaType string, err error) {
	archive, _, err := openApp(r, size)
	if err != nil {
		return nil, "", err
	}
	if path.Ext(p.Icon) == ".xml" {
		data, err = drawIcon(archive, p.Icon)
		return data, "image/svg+xml", err
	}
	if data, err = entryOf(archive, p.Icon, maxIcon, "icon"); err != nil {
		return nil, "", err
	}
	if mediaType = pictureType(data); mediaType == "" {
		return nil, "", refuse("", "%s is no picture that browsers show", show(p.Icon))
	}
	if mediaType == "image/png" && applepng.Is(data) {
		if data, err = applepng.Standard(data); err != nil {
			err = refuse(hintDamaged, "the icon is damaged: %w", err)
		}
	}
	return data, mediaType, err
}

func pictureType(data []byte) string {
	switch {
	case bytes.HasPrefix(data, []byte(pngHead)):
		return "image/png"
	case bytes.HasPrefix(data, []byte("\xff\xd8\xff")):
		return "image/jpeg"
	case len(data) > 12 && string(data[:4]) == "RIFF" && string(data[8:12]) == "WEBP":
		return "image/webp"
	}
	return ""
}

// entryOf unpacks the entry of a name. what says what it would have been.
func entryOf(archive *zip.Reader, name string, limit int64, what string) ([]byte, error) {
	for _, f := range archive.File {
		if f.Name == name && name != "" {
			return readEntry(f, limit)
		}
	}
	return nil, refuse("", "the package holds no %s", what)
}
