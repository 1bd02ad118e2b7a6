package journal

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/google/renameio/v2"
)

// Stains remembers, also when the host is started again, which devices could not be
// cleaned of what a lease put on them, and what that was.
type Stains struct {
	path string
	log  *slog.Logger

	mu   sync.Mutex
	apps map[string][]string // by device
}

// OpenStains reads what an earlier host remembered in dir.
func OpenStains(dir string, log *slog.Logger) (*Stains, error) {
	s := &Stains{path: filepath.Join(dir, "unclean.json"), log: log, apps: map[string][]string{}}
	body, err := os.ReadFile(s.path)
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(body, &s.apps); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", s.path, err)
	}
	return s, nil
}

// Of gives what was left on a device, and whether anything was.
func (s *Stains) Of(device string) ([]string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	apps, ok := s.apps[device]
	return apps, ok
}

// Add notes what a lease left on a device.
func (s *Stains) Add(device string, apps []string) {
	s.change(func() {
		all := append(slices.Clone(s.apps[device]), apps...)
		slices.Sort(all)
		s.apps[device] = slices.Compact(all)
	})
}

// Remove notes that a device is clean.
func (s *Stains) Remove(device string) { s.change(func() { delete(s.apps, device) }) }

// change keeps what is remembered. Where the disk takes no more it is remembered for as
// long as this process runs, and said.
func (s *Stains) change(how func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	before := maps.Clone(s.apps)
	if how(); maps.EqualFunc(before, s.apps, slices.Equal) {
		return
	}
	body, err := json.Marshal(s.apps)
	if err == nil {
		err = renameio.WriteFile(s.path, body, 0o600)
	}
	if err != nil {
		s.log.Error("which devices are not clean could not be kept", "file", s.path, "error", err)
	}
}
