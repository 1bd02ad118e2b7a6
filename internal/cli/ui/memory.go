package ui

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"github.com/google/renameio/v2"
)

// memory keeps where uploads were begun, in a file of the user's, so that a command
// that is given again goes on where the last one stopped. Trouble with the file
// costs no more than that.
type memory struct{ path string }

type begunUpload struct {
	Address string    `json:"address"`
	At      time.Time `json:"at"`
}

// uploadsKept is how long a service keeps what was begun.
const uploadsKept = 24 * time.Hour

func OpenMemory() memory {
	base := os.Getenv("XDG_STATE_HOME")
	if base == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return memory{}
		}
		base = filepath.Join(home, ".local", "state")
	}
	return memory{filepath.Join(base, "yamato", "uploads.json")}
}

func (m memory) read() map[string]begunUpload {
	out := map[string]begunUpload{}
	body, err := os.ReadFile(m.path)
	if err != nil || json.Unmarshal(body, &out) != nil {
		return map[string]begunUpload{}
	}
	for key, u := range out {
		if time.Since(u.At) > uploadsKept {
			delete(out, key)
		}
	}
	return out
}

func (m memory) write(all map[string]begunUpload) {
	body, err := json.Marshal(all)
	if err != nil || os.MkdirAll(filepath.Dir(m.path), 0o700) != nil {
		return
	}
	_ = renameio.WriteFile(m.path, body, 0o600) // without it an upload begins anew
}

func (m memory) Recall(key string) string { return m.read()[key].Address }

func (m memory) Remember(key, address string) {
	all := m.read()
	if all[key].Address == address {
		return
	}
	all[key] = begunUpload{address, time.Now()}
	m.write(all)
}

func (m memory) Forget(key string) {
	all := m.read()
	if _, ok := all[key]; ok {
		delete(all, key)
		m.write(all)
	}
}
