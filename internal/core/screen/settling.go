package screen

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A place counts as changing by itself once it has changed restlessTimes within
// restlessWithin since anybody last acted. What changes by itself, such as a stopwatch,
// does not keep a screen from settling.
const (
	restlessTimes  = 4
	restlessWithin = 4 * time.Second
	maxPlaces      = 4000     // that are kept count of
	maxMemory      = 16 << 20 // bytes of screens since the last action that are remembered
	maxMoves       = 20       // of a screen, in which children came or went before others
)

// Settling knows since when a screen has been as it is, apart from what changes by
// itself, and what it was since the last action.
type Settling struct {
	last    *Tree
	Changed time.Duration // when something last changed that does not change by itself, or was acted on
	Any     time.Duration // the same for anything at all
	Busy    time.Duration // since when an answer has been awaited; -1 where none is
	Acts    time.Duration // when somebody last acted
	blind   time.Duration // for how long of the time since Changed nobody looked
	late    time.Duration // by how much all looks together took longer than looks do
	fresh   bool          // nothing has changed since the last action yet
	places  map[string]*restless
	restive []*Node // what changed by itself, as last seen
	memory  []seenAt
	held    int // bytes of memory
}

type seenAt struct {
	tree *Tree
	at   time.Duration
	size int
}

// restless is when a place has changed lately, and by how many its children grew.
type restless struct {
	at   [restlessTimes]time.Duration
	kids [restlessTimes]int
	n    int
}

// NewSettling begins to look.
func NewSettling(now time.Duration) *Settling {
	return &Settling{Changed: now, Any: now, Acts: now, Busy: -1, fresh: true, places: map[string]*restless{}}
}

// Acted notes that the device was acted on: what it showed until then proves nothing.
func (s *Settling) Acted(now time.Duration) {
	s.Acts = now
	s.Changed, s.Any, s.blind, s.fresh, s.memory, s.held = now, now, 0, true, nil, 0
	s.Busy = -1
}

// Unwatched notes that the screen was not looked at for a while, as when it had gone off and was put on
// again: that is no time in which nothing changed.
func (s *Settling) Unwatched(d time.Duration) { s.blind += max(0, d) }

// lookTakes is what a look usually takes at most.
const lookTakes = 100 * time.Millisecond

// Looked notes what the look at the screen that was seen last took. Where each takes long, as on a machine that has
// other things to do, what changes by itself is seen to change more rarely, and is known by that nevertheless.
func (s *Settling) Looked(took time.Duration) { s.late += max(0, took-lookTakes) }

// Calm is since when nothing has changed, as far as the screen was looked at.
func (s *Settling) Calm() time.Duration { return s.Changed + s.blind }

// changed notes when something changed that counts.
func (s *Settling) changed(now time.Duration) {
	if now > s.Changed {
		s.Changed, s.blind = now, 0
	}
}

// See takes in the screen as it is now.
func (s *Settling) See(t *Tree, now time.Duration) {
	if t.Busy && s.Busy < 0 {
		s.Busy = now
	} else if !t.Busy {
		s.Busy = -1
	}
	s.remember(t, now)
	before := s.last
	s.last = t
	if before != nil && before.Revision == t.Revision {
		return
	}
	if before == nil || before.App != t.App || before.Width != t.Width {
		s.changed(now)
		s.Any, s.fresh = max(now, s.Any), false
		return
	}
	changes := Changes(before, t)
	if len(changes) == 0 {
		if before.Busy != t.Busy { // an answer has come and changed nothing
			s.changed(now)
			s.Any = max(now, s.Any)
		}
		return
	}
	s.Any, s.restive = max(now, s.Any), nil
	byAction := s.fresh // the first change after an action is the action's
	s.fresh = false
	counts := byAction
	for i, c := range changes {
		if c.Tail > 0 && i < maxMoves {
			s.move(c)
		}
		if byAction {
			continue
		}
		if p := s.place(c.Place); p.note(now-s.late, c.Kids) {
			s.restive = append(s.restive, c.Node)
		} else {
			counts = true
		}
	}
	if counts {
		s.changed(now)
	}
}

// move has what is known of places go with what is there: children that stand farther on, or
// farther back, as others have come or gone before them.
func (s *Settling) move(c Change) {
	now := len(c.Node.Children)
	moved := map[string]*restless{}
	for place, p := range s.places {
		rest, below := strings.CutPrefix(place, c.Path)
		number, rest, child := strings.Cut(rest, "/")
		i, err := strconv.Atoi(number)
		if !below || !child || err != nil {
			continue
		}
		if before := now - c.Kids; i >= before-c.Tail && i < before {
			moved[c.Path+strconv.Itoa(i+c.Kids)+"/"+rest] = p
			delete(s.places, place)
		}
	}
	maps.Copy(s.places, moved)
}

func (s *Settling) remember(t *Tree, now time.Duration) {
	if n := len(s.memory); n > 0 && s.memory[n-1].tree.Revision == t.Revision {
		return
	}
	seen := seenAt{t, now, t.Size()}
	s.memory, s.held = append(s.memory, seen), s.held+seen.size
	for len(s.memory) > 2 && s.held > maxMemory {
		s.held -= s.memory[0].size
		s.memory[0] = seenAt{}
		s.memory = s.memory[1:]
	}
}

func (s *Settling) place(name string) *restless {
	p := s.places[name]
	if p == nil {
		if len(s.places) >= maxPlaces {
			clear(s.places)
		}
		p = &restless{}
		s.places[name] = p
	}
	return p
}

// note takes in a change, and reports whether the place has changed so often lately
// that it must change by itself. What only grows is being filled.
func (p *restless) note(now time.Duration, kids int) bool {
	p.at[p.n%restlessTimes], p.kids[p.n%restlessTimes] = now, kids
	p.n++
	if p.n < restlessTimes || now-slices.Min(p.at[:]) > restlessWithin {
		return false
	}
	return slices.Max(p.kids[:]) <= 0 || slices.Min(p.kids[:]) < 0
}

// Settled reports whether nothing is awaited and nothing has changed for quiet.
func (s *Settling) Settled(now, quiet time.Duration) bool {
	return s.Busy < 0 && now-s.Calm() >= quiet
}

// Unrest is what kept the screen from settling: what changes by itself, and what was
// changed last.
func (s *Settling) Unrest() []*Node {
	nodes := s.restive
	if before := s.Before(); before != nil && s.last != nil {
		for _, c := range Changes(before, s.last) {
			nodes = append(nodes, c.Node)
		}
	}
	return nodes
}

// Before is the screen that was seen before the one that is there now.
func (s *Settling) Before() *Tree {
	if len(s.memory) < 2 {
		return nil
	}
	return s.memory[len(s.memory)-2].tree
}

// LastSeen tells from when until when something was shown since the last action, as
// far as screens are remembered.
func (s *Settling) LastSeen(shown func(*Tree) bool) (from, to time.Duration, ok bool) {
	for i := len(s.memory) - 1; i >= 0; i-- {
		if !shown(s.memory[i].tree) {
			if ok {
				return from, to, true
			}
			continue
		}
		from = s.memory[i].at
		if !ok {
			to, ok = from, true
			if i+1 < len(s.memory) {
				to = s.memory[i+1].at
			}
		}
	}
	return from, to, ok
}
