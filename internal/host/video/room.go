package video

import (
	"fmt"
	"sync"

	"github.com/shirou/gopsutil/v4/disk"
)

// Room is what may be taken of a host's disk by what is optional: frames of videos. When it is
// used up they are dropped, and everything else goes on.
type Room struct {
	most int64
	dir  string

	mu      sync.Mutex
	used    int64
	unasked int64 // bytes taken since the disk itself was asked
	low     bool
}

// What is left free on the disk, whatever the bound says, and how often the disk is asked: in bytes.
const (
	leastFree = 512 << 20
	askEvery  = 4 << 20
)

// NewRoom gives room for so many bytes in a folder.
func NewRoom(most int64, dir string) *Room { return &Room{most: most, dir: dir, unasked: askEvery} }

// Take takes n bytes, and tells whether there was room for them.
func (r *Room) Take(n int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.unasked += n; r.unasked >= askEvery {
		if use, err := disk.Usage(r.dir); err == nil {
			r.low, r.unasked = use.Free < leastFree, 0
		}
	}
	if r.low || r.used+n > r.most {
		return false
	}
	r.used += n
	return true
}

// Give gives n bytes back.
func (r *Room) Give(n int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.used -= n
}

// Words says why there is no room.
func (r *Room) Words() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.low {
		return fmt.Sprintf("for less than %d MB are free on the host's disk", leastFree>>20)
	}
	return fmt.Sprintf("for videos take at most %d MB of the host's disk until they are handed on (`yamato host --scratch`)", r.most>>20)
}
