package script

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/screen"
)

// A place counts as changing by itself once it has changed restlessTimes within
// restlessWithin since anybody last acted. What changes by itself, such as a stopwatch,
// does not keep a screen from settling.
const (
	restlessTimes  = 4
	restlessWithin = 4 * time.Second
	maxPlaces      = 4000     // that are kept count of
	maxMemory      = 16 << 20 // bytes of screens since the last action that are remembered
)

// settling knows since when a screen has been as it is, apart from what changes by
// itself, and what it was since the last action.
type settling struct {
	last    *screen.Tree
	changed time.Duration // when something last changed that does not change by itself, or was acted on
	any     time.Duration // the same for anything at all
	busy    time.Duration // since when an answer has been awaited; -1 where none is
	acts    time.Duration // when somebody last acted
	fresh   bool          // nothing has changed since the last action yet
	places  map[string]*restless
	restive []*screen.Node // what changed by itself, as last seen
	memory  []seenAt
	held    int // bytes of memory
}

type seenAt struct {
	tree *screen.Tree
	at   time.Duration
	size int
}

// restless is when a place has changed lately, and by how many its children grew.
type restless struct {
	at   [restlessTimes]time.Duration
	kids [restlessTimes]int
	n    int
}

func newSettling(now time.Duration) *settling {
	return &settling{changed: now, any: now, acts: now, busy: -1, fresh: true, places: map[string]*restless{}}
}

// acted notes that the device was acted on: what it showed until then proves nothing.
func (s *settling) acted(now time.Duration) {
	s.acts = now
	s.changed, s.any, s.fresh, s.memory, s.held = now, now, true, nil, 0
	s.busy = -1
}

// see takes in the screen as it is now.
func (s *settling) see(t *screen.Tree, now time.Duration) {
	if t.Busy && s.busy < 0 {
		s.busy = now
	} else if !t.Busy {
		s.busy = -1
	}
	s.remember(t, now)
	before := s.last
	s.last = t
	if before != nil && before.Revision == t.Revision {
		return
	}
	if before == nil || before.App != t.App || before.Width != t.Width {
		s.changed, s.any, s.fresh = max(now, s.changed), max(now, s.any), false
		return
	}
	changes := screen.Changes(before, t)
	if len(changes) == 0 {
		if before.Busy != t.Busy { // an answer has come and changed nothing
			s.changed, s.any = max(now, s.changed), max(now, s.any)
		}
		return
	}
	s.any, s.restive = max(now, s.any), nil
	byAction := s.fresh // the first change after an action is the action's
	s.fresh = false
	counts := byAction
	for _, c := range changes {
		if byAction {
			continue
		}
		if p := s.place(c.Place); p.note(now, c.Kids) {
			s.restive = append(s.restive, c.Node)
		} else {
			counts = true
		}
	}
	if counts {
		s.changed = max(now, s.changed)
	}
}

func (s *settling) remember(t *screen.Tree, now time.Duration) {
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

func (s *settling) place(name string) *restless {
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

// settled reports whether nothing is awaited and nothing has changed for quiet.
func (s *settling) settled(now, quiet time.Duration) bool {
	return s.busy < 0 && now-s.changed >= quiet
}

// unrest says what kept a screen from settling.
func (s *settling) unrest(before *screen.Tree) string {
	nodes := s.restive
	if before != nil && s.last != nil {
		for _, c := range screen.Changes(before, s.last) {
			nodes = append(nodes, c.Node)
		}
	}
	var names []string
	for _, n := range nodes {
		if name := describe(n); !slices.Contains(names, name) && (n.ID != "" || n.Label() != "") {
			names = append(names, name)
		}
	}
	if more := len(names) - 3; more > 0 {
		names = append(names[:3], fmt.Sprintf("%d more", more))
	}
	if len(names) == 0 {
		return "the screen was still changing"
	}
	return "the screen was still changing: " + strings.Join(names, ", ")
}

// before is the screen that was seen before the one that is there now.
func (s *settling) before() *screen.Tree {
	if len(s.memory) < 2 {
		return nil
	}
	return s.memory[len(s.memory)-2].tree
}

// lastSeen tells from when until when something was shown since the last action, as
// far as screens are remembered.
func (s *settling) lastSeen(shown func(*screen.Tree) bool) (from, to time.Duration, ok bool) {
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
