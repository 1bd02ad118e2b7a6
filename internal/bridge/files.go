package bridge

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"
)

// The words of a file transfer (SYNC.TXT), four letters each.
const (
	wordList   = "LIST"
	wordEntry  = "DENT"
	wordStat   = "STAT"
	wordLstat2 = "LST2"
	wordStat2  = "STA2"
	wordSend   = "SEND"
	wordRecv   = "RECV"
	wordData   = "DATA"
	wordDone   = "DONE"
	wordOkay   = "OKAY"
	wordFail   = "FAIL"
	wordQuit   = "QUIT"
)

// Bounds of a file transfer, in bytes.
const (
	maxPath  = 1024
	maxChunk = 64 << 10
)

// Errors of stat, as the OS numbers them.
const (
	noEntry  = 2
	noAccess = 13
)

// Stat is what is known of a file.
type Stat struct {
	Name  string
	Mode  fs.FileMode
	Size  int64
	Mtime time.Time
}

// unixMode gives the mode as the OS has it: kind and rights.
func (s Stat) unixMode() uint32 {
	m := uint32(s.Mode.Perm())
	switch {
	case s.Mode.IsDir():
		m |= 0o040000
	case s.Mode&fs.ModeSymlink != 0:
		m |= 0o120000
	default:
		m |= 0o100000
	}
	return m
}

// Folder is what a device's files lie in, as a transfer needs it. Paths are absolute, and those of the device.
type Folder interface {
	Stat(path string, follow bool) (Stat, error)
	List(path string) ([]Stat, error)
	Get(path string) (io.ReadCloser, error)
	// Put makes a file, with the folders that it lies in. It is there once it has been closed without an error.
	Put(path string, mode fs.FileMode) (Upload, error)
}

// Upload is a file that is arriving.
type Upload interface {
	io.Writer
	Commit(mtime time.Time) error
	Abort()
}

// ServeFiles carries out what the other end of a stream asks for, until it says that it is done. It gives an error where
// that is no file transfer.
func ServeFiles(rw io.ReadWriter, at Folder) error {
	for {
		word, path, err := readRequest(rw)
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
		switch word {
		case wordQuit:
			return nil
		case wordStat:
			err = stat(rw, at, path)
		case wordLstat2, wordStat2:
			err = stat2(rw, at, path, word)
		case wordList:
			err = list(rw, at, path)
		case wordRecv:
			err = get(rw, at, path)
		case wordSend:
			err = put(rw, at, path)
		default:
			return fail(rw, fmt.Errorf("%q is not known here", word))
		}
		if err != nil {
			return err
		}
	}
}

func readWord(r io.Reader) (word string, n uint32, err error) {
	var head [8]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return "", 0, err
	}
	return string(head[:4]), binary.LittleEndian.Uint32(head[4:]), nil
}

func readRequest(r io.Reader) (word, path string, err error) {
	word, n, err := readWord(r)
	if err != nil || word == wordQuit {
		return word, "", err
	}
	if n > maxPath {
		return "", "", fmt.Errorf("a path of %d bytes is over the %d that are taken", n, maxPath)
	}
	text := make([]byte, n)
	_, err = io.ReadFull(r, text)
	return word, string(text), err
}

func say(w io.Writer, word string, numbers ...uint32) error {
	out := []byte(word)
	for _, n := range numbers {
		out = binary.LittleEndian.AppendUint32(out, n)
	}
	_, err := w.Write(out)
	return err
}

// fail tells why something is not done. The stream goes on.
func fail(w io.Writer, why error) error {
	text := why.Error()
	text = text[:min(len(text), maxPath)]
	_, err := w.Write(append(binary.LittleEndian.AppendUint32([]byte(wordFail), uint32(len(text))), text...))
	return err
}

func stat(w io.Writer, at Folder, path string) error {
	s, err := at.Stat(path, false)
	if err != nil {
		return say(w, wordStat, 0, 0, 0) // so it says that there is none
	}
	return say(w, wordStat, s.unixMode(), uint32(s.Size), uint32(s.Mtime.Unix()))
}

func stat2(w io.Writer, at Folder, path, word string) error {
	s, err := at.Stat(path, word == wordStat2)
	out := []byte(word)
	if err != nil {
		code := uint32(noAccess)
		if errors.Is(err, fs.ErrNotExist) {
			code = noEntry
		}
		out = binary.LittleEndian.AppendUint32(out, code)
		_, err := w.Write(append(out, make([]byte, 64)...))
		return err
	}
	out = binary.LittleEndian.AppendUint32(out, 0)
	out = append(out, make([]byte, 16)...) // device and inode
	out = binary.LittleEndian.AppendUint32(out, s.unixMode())
	out = binary.LittleEndian.AppendUint32(out, 1) // links
	out = append(out, make([]byte, 8)...)          // owner and group
	out = binary.LittleEndian.AppendUint64(out, uint64(s.Size))
	for range 3 { // read, changed, made
		out = binary.LittleEndian.AppendUint64(out, uint64(s.Mtime.Unix()))
	}
	_, err = w.Write(out)
	return err
}

func list(w io.Writer, at Folder, path string) error {
	entries, err := at.List(path)
	if err == nil {
		for _, s := range entries {
			if err := say(w, wordEntry, s.unixMode(), uint32(s.Size), uint32(s.Mtime.Unix()), uint32(len(s.Name))); err != nil {
				return err
			}
			if _, err := io.WriteString(w, s.Name); err != nil {
				return err
			}
		}
	}
	return say(w, wordDone, 0, 0, 0, 0)
}

func get(w io.Writer, at Folder, path string) error {
	f, err := at.Get(path)
	if err != nil {
		return fail(w, err)
	}
	defer f.Close()
	buffer := make([]byte, 8+maxChunk)
	for {
		n, err := io.ReadFull(f, buffer[8:])
		if n > 0 {
			copy(buffer, wordData)
			binary.LittleEndian.PutUint32(buffer[4:], uint32(n))
			if _, err := w.Write(buffer[:8+n]); err != nil {
				return err
			}
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return say(w, wordDone, 0)
		case err != nil:
			return fail(w, err)
		}
	}
}

func put(rw io.ReadWriter, at Folder, spec string) error {
	path, mode := spec, fs.FileMode(0o644)
	for i := len(spec) - 1; i >= 0; i-- { // a path may hold commas, and its mode comes last
		if spec[i] == ',' {
			var m uint32
			if _, err := fmt.Sscanf(spec[i+1:], "%d", &m); err == nil {
				path, mode = spec[:i], fs.FileMode(m&0o777)
			}
			break
		}
	}
	up, refused := at.Put(path, mode)
	if refused == nil {
		defer up.Abort()
	}
	chunk := make([]byte, maxChunk)
	for {
		word, n, err := readWord(rw)
		if err != nil {
			return err
		}
		switch word {
		case wordData:
			if n > maxChunk {
				return fail(rw, fmt.Errorf("a piece of %d bytes is over the %d that are taken", n, maxChunk))
			}
			if _, err := io.ReadFull(rw, chunk[:n]); err != nil {
				return err
			}
			if refused == nil {
				_, refused = up.Write(chunk[:n])
			}
		case wordDone:
			if refused == nil {
				refused = up.Commit(time.Unix(int64(n), 0))
			}
			if refused != nil {
				return fail(rw, refused)
			}
			return say(rw, wordOkay, 0)
		default:
			return fail(rw, fmt.Errorf("%q is not known within a file", word))
		}
	}
}
