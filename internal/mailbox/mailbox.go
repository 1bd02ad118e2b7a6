// Package mailbox holds what waits to be said to somebody: messages in order, bounded in bytes, with a bell for who sends
// them. Whoever puts something in waits for nobody. What happens where too much waits is the box's rule: it refuses,
// drops the oldest, or is lost, so that the other end comes anew and sees how things are.
package mailbox

import (
	"encoding/json"
	"errors"
	"sync"
)

// ErrFull tells that too much waits already; ErrLost that too much waited, and all of it is gone.
var (
	ErrFull = errors.New("what was said before has not been taken")
	ErrLost = errors.New("this end does not take what it is told")
)

// Rule is what happens to a message for which there is no room.
type Rule int

// The rules. A message that is larger than the whole box goes in where nothing else waits, but for Lose.
const (
	Refuse Rule = iota // ErrFull; those that wait stay
	Drop               // those that have waited longest go, and nobody is told
	Lose               // the box is lost with all in it, for good
)

// Box is a mailbox. Its methods may be called from anywhere.
type Box struct {
	rule  Rule
	most  int
	rings chan struct{}

	mu      sync.Mutex
	queue   []json.RawMessage
	waiting int // bytes in the queue
	taken   int // bytes that were taken and not sent yet, as far as that is told (Sent)
	lost    bool
}

// New gives an empty box for so many bytes.
func New(rule Rule, most int) *Box {
	return &Box{rule: rule, most: most, rings: make(chan struct{}, 1)}
}

// Put puts a message in, and rings.
func (b *Box) Put(body json.RawMessage) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.lost {
		return ErrLost
	}
	over := b.waiting+b.taken+len(body) > b.most
	switch {
	case over && b.rule == Refuse && b.waiting+b.taken > 0:
		return ErrFull
	case over && b.rule == Lose:
		b.queue, b.waiting, b.lost = nil, 0, true
		b.Ring()
		return ErrLost
	}
	b.queue, b.waiting = append(b.queue, body), b.waiting+len(body)
	for b.rule == Drop && b.waiting > b.most && len(b.queue) > 1 {
		b.waiting -= len(b.queue[0])
		b.queue = b.queue[1:]
	}
	b.Ring()
	return nil
}

// Ring rings for another reason than a message.
func (b *Box) Ring() {
	select {
	case b.rings <- struct{}{}:
	default:
	}
}

// Rings gives the bell: something may be there. It belongs to one who sends.
func (b *Box) Rings() <-chan struct{} { return b.rings }

// Take takes out all that waits. In a box that refuses it counts until it is said to be Sent.
func (b *Box) Take() ([]json.RawMessage, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.lost {
		return nil, ErrLost
	}
	list := b.queue
	if b.rule == Refuse {
		b.taken += b.waiting
	}
	b.queue, b.waiting = nil, 0
	return list, nil
}

// Sent says that a message that was taken out has gone.
func (b *Box) Sent(body json.RawMessage) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.taken -= min(b.taken, len(body))
}
