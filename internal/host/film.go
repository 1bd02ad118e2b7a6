package host

import (
	"context"
	"time"

	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/host/pictures"
)

// maxFrames bounds the pictures of one case's film.
const maxFrames = 200

// camera takes a picture after each step after which the screen is another. It
// keeps what is needed to draw it; drawing is done off the path of the steps.
type camera struct {
	ctx    context.Context
	device driver.Device
	began  time.Duration
	last   uint64        // revision
	off    bool          // no pictures are taken
	took   time.Duration // how long the case took, once it has ended
	frames []pictures.Frame
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
	c.frames = append(c.frames, pictures.Frame{At: c.device.Now() - c.began, Picture: p})
}
