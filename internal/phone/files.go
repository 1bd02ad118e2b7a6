package phone

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"yamato/internal/bridge"
)

// files are the phone's own, in a folder that nothing leads out of (os.Root).
type files struct{ root *os.Root }

var errReadOnly = errors.New("Read-only file system") //nolint:staticcheck // the OS's own words

// writable are the folders that a shell may write to.
var writable = []string{"sdcard", "data/local/tmp"}

// at gives the place of a path of the phone's in its folder. /storage/emulated/0 and /mnt/sdcard are the card as well.
func (f *files) at(name string) string {
	name = path.Clean("/" + name)
	for _, other := range []string{"/storage/emulated/0", "/storage/self/primary", "/mnt/sdcard"} {
		if name == other || strings.HasPrefix(name, other+"/") {
			name = "/sdcard" + strings.TrimPrefix(name, other)
		}
	}
	if name == "/" {
		return "."
	}
	return name[1:]
}

func (f *files) mayWrite(at string) bool {
	for _, w := range writable {
		if strings.HasPrefix(at, w+"/") {
			return true
		}
	}
	return false
}

// Stat tells of a file.
func (f *files) Stat(name string, follow bool) (bridge.Stat, error) {
	look := f.root.Lstat
	if follow {
		look = f.root.Stat
	}
	info, err := look(f.at(name))
	if err != nil {
		return bridge.Stat{}, err
	}
	return statOf(info), nil
}

func statOf(i fs.FileInfo) bridge.Stat {
	return bridge.Stat{Name: i.Name(), Mode: i.Mode(), Size: i.Size(), Mtime: i.ModTime()}
}

// List lists a folder.
func (f *files) List(name string) ([]bridge.Stat, error) {
	d, err := f.root.Open(f.at(name))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	infos, err := d.Readdir(-1)
	if err != nil {
		return nil, err
	}
	out := make([]bridge.Stat, len(infos))
	for i, info := range infos {
		out[i] = statOf(info)
	}
	return out, nil
}

// Get opens a file.
func (f *files) Get(name string) (io.ReadCloser, error) {
	file, err := f.root.Open(f.at(name))
	if err != nil {
		return nil, plainWords(err)
	}
	if info, err := file.Stat(); err != nil || info.IsDir() {
		_ = file.Close()
		return nil, errors.New("Is a directory")
	}
	return file, nil
}

// plainWords gives what the OS says of a file that is not to be had.
func plainWords(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("No such file or directory")
	case errors.Is(err, fs.ErrPermission):
		return errors.New("Permission denied")
	}
	return err
}

type upload struct {
	files      *files
	part, name string
	mode       fs.FileMode
	file       *os.File
}

// Put begins a file under another name, so that half of it is never seen.
func (f *files) Put(name string, mode fs.FileMode) (bridge.Upload, error) {
	at := f.at(name)
	if !f.mayWrite(at) {
		return nil, errReadOnly
	}
	if err := f.root.MkdirAll(path.Dir(at), 0o755); err != nil {
		return nil, plainWords(err)
	}
	var chance [6]byte
	_, _ = rand.Read(chance[:]) // never fails (crypto/rand)
	u := &upload{files: f, name: at, part: path.Join(path.Dir(at), ".part-"+hex.EncodeToString(chance[:])), mode: mode}
	file, err := f.root.OpenFile(u.part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, plainWords(err)
	}
	u.file = file
	return u, nil
}

func (u *upload) Write(b []byte) (int, error) { return u.file.Write(b) }

func (u *upload) Commit(mtime time.Time) error {
	err := errors.Join(u.file.Chmod(u.mode|0o400), u.file.Close())
	u.file = nil
	if err == nil {
		err = u.files.root.Chtimes(u.part, mtime, mtime)
	}
	if err == nil {
		err = u.files.root.Rename(u.part, u.name)
	}
	if err != nil {
		_ = u.files.root.Remove(u.part)
		return plainWords(err)
	}
	return nil
}

func (u *upload) Abort() {
	if u.file == nil {
		return
	}
	_ = u.file.Close()
	_ = u.files.root.Remove(u.part)
	u.file = nil
}
