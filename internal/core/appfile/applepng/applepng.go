// Package applepng reads pictures in the kind of PNG that Apple's packaging makes.
package applepng

import (
	"bytes"
	"compress/flate"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"image"
	"image/png"
	"io"
)

const (
	pngHead     = "\x89PNG\r\n\x1a\n"
	maxIconSide = 2048 // pixels
)

// Is tells whether a PNG begins with the chunk that Apple's packaging puts
// before all others. What follows is then not as in the standard: its rows are packed
// without the wrapping of zlib, red and blue have changed places, and colours are
// multiplied by their opacity.
func Is(data []byte) bool { return len(data) > 16 && string(data[12:16]) == "CgBI" }

// Standard turns a PNG of Apple's kind into one as in ISO/IEC 15948.
func Standard(data []byte) ([]byte, error) {
	bad := func(why string) ([]byte, error) { return nil, errors.New(why) }
	var head, packed []byte
	for at := len(pngHead); at+12 <= len(data); {
		n := int64(binary.BigEndian.Uint32(data[at:]))
		if n > int64(len(data)-at-12) {
			return bad("a chunk of it is cut short")
		}
		body := data[at+8 : at+8+int(n)]
		switch string(data[at+4 : at+8]) {
		case "IHDR":
			head = body
		case "IDAT":
			packed = append(packed, body...)
		}
		at += 12 + int(n)
	}
	if len(head) != 13 {
		return bad("it has no head")
	}
	w, h := binary.BigEndian.Uint32(head), binary.BigEndian.Uint32(head[4:])
	depth, kind := head[8], head[9]
	if w == 0 || h == 0 || w > maxIconSide || h > maxIconSide || depth != 8 || kind != 6 && kind != 2 {
		return bad("it is not of 8 bits a colour, or too large")
	}
	rows, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), int64(w)*int64(h)*4+int64(h)*8))
	if err != nil {
		return bad("its rows cannot be unpacked")
	}
	var wrapped bytes.Buffer
	z, _ := zlib.NewWriterLevel(&wrapped, zlib.BestSpeed) // the level is one that there is
	_, _ = z.Write(rows)                                  // a buffer takes everything
	_ = z.Close()
	plain := bytes.NewBufferString(pngHead)
	for _, c := range []struct {
		name string
		body []byte
	}{{"IHDR", head}, {"IDAT", wrapped.Bytes()}, {"IEND", nil}} {
		chunk := append([]byte(c.name), c.body...)
		plain.Write(binary.BigEndian.AppendUint32(nil, uint32(len(c.body))))
		plain.Write(chunk)
		plain.Write(binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(chunk)))
	}
	picture, err := png.Decode(plain)
	if err != nil {
		return bad(err.Error())
	}
	var out bytes.Buffer
	if err := png.Encode(&out, standardColours(picture)); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func standardColours(picture image.Image) image.Image {
	var pix []byte
	switch p := picture.(type) {
	case *image.NRGBA:
		pix = p.Pix
	case *image.RGBA:
		pix = p.Pix
	}
	for i := 0; i+3 < len(pix); i += 4 {
		pix[i], pix[i+2] = pix[i+2], pix[i]
		if a := int(pix[i+3]); a > 0 && a < 255 {
			for c := range 3 {
				pix[i+c] = byte(min(255, (int(pix[i+c])*255+a/2)/a))
			}
		}
	}
	return picture
}
