package byhand

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/suggest"
	"yamato/internal/link"
)

// sighting is what was on the screen at a time of the device's.
type sighting struct {
	at   time.Duration
	tree *screen.Tree
}

// Bounds of what is remembered of the screen, so that it can be told what somebody has aimed at.
const (
	maxHistory = 60
	maxRecall  = 6 << 20 // bytes
)

// look sees how the device is, and tells what has changed.
func (s *sitting) look(ctx context.Context) {
	s.readLog(ctx)
	tree, err := s.Device.Tree(ctx)
	var crash *device.Crash
	switch {
	case errors.As(err, &crash):
		s.died(ctx, crash)
	case err != nil:
		if s.trouble != err.Error() && ctx.Err() == nil {
			s.trouble = err.Error()
			_ = s.note(link.Entry{Kind: link.EntryTrouble, Text: "the device: " + plain.Text(err.Error(), 500)})
		}
		s.status.Busy = "the device does not answer: " + s.trouble
	default:
		if s.trouble != "" {
			s.trouble, s.status.Busy = "", ""
			_ = s.note(link.Entry{Kind: link.EntryTrouble, Text: "the device is back"})
		}
		s.dead = false
		s.see(tree)
	}
	if s.tree != nil && s.trouble == "" {
		s.watch(ctx)
	}
	s.tellStatus()
	s.logged.turn(ctx)
}

// see remembers what is on the screen.
func (s *sitting) see(tree *screen.Tree) {
	if s.tree != nil && s.tree.Revision == tree.Revision && s.tree.App == tree.App {
		return
	}
	s.tree = tree
	s.history = append(s.history, sighting{s.Device.Now(), tree})
	size := 0
	for i := len(s.history) - 1; i >= 0; i-- {
		if size += s.history[i].tree.Size(); size > maxRecall || len(s.history)-i > maxHistory {
			s.history = append([]sighting{}, s.history[i+1:]...)
			break
		}
	}
	s.status.Front, s.status.Width, s.status.Height = tree.App, tree.Width, tree.Height
}

// died keeps that the app has crashed, and goes on with what is behind it.
func (s *sitting) died(ctx context.Context, crash *device.Crash) {
	if s.dead { // it was told, and the device still shows nothing else
		return
	}
	s.dead = true
	app := s.status.Front
	s.keepLogSoFar(ctx)
	s.flushTyping()
	_ = s.note(link.Entry{Kind: link.EntryCrash, Text: plain.Text(crash.Error(), 1000),
		Detail: encoded(map[string]string{"app": app, "report": plain.Text(crash.Report, 20_000)})})
	if err := s.Device.Stop(ctx, app); err != nil {
		s.Said.Info("an app that had crashed could not be stopped", "app", app, "error", err)
	}
	if p, ok := device.As[device.Presser](s.Device); ok {
		_ = p.Press(ctx, "home")
	}
}

// nearest is how far, in device time, a look at the screen may be from a frame and still tell what was to be
// seen on that.
const nearest = 400 * time.Millisecond

// aimedAt gives the screen as it was on a frame, nil where nobody knows.
func (s *sitting) aimedAt(number int64) *screen.Tree {
	at, ok := s.film.takenAt(number)
	if !ok {
		return nil
	}
	var best *screen.Tree
	apart := nearest
	for _, h := range s.history {
		if d := h.at - at; d.Abs() <= apart {
			best, apart = h.tree, d.Abs()
		}
	}
	if best == nil && len(s.history) > 0 { // nothing has changed since long before
		for _, h := range s.history {
			if h.at <= at {
				best = h.tree
			}
		}
	}
	return best
}

// missed tells what a person aimed at that has moved or gone since, "" where all is as it was.
func missed(then, now *screen.Tree, at screen.Point) string {
	if then == nil || now == nil || then == now {
		return ""
	}
	if then.Width != now.Width || then.Height != now.Height {
		return "the screen was turned since; nothing was touched"
	}
	if then.App != now.App {
		return "another app is in front since; nothing was touched"
	}
	was, is := meant(then, at), meant(now, at)
	switch {
	case was == nil && is == nil:
		return ""
	case was == nil:
		return fmt.Sprintf("%s has come to be there since; nothing was touched", screen.Describe(is))
	case is == nil || !alike(was, is):
		return fmt.Sprintf("%s is not there any more; nothing was touched", screen.Describe(was))
	}
	return ""
}

// alike tells whether two elements are the same one, about where it was.
func alike(a, b *screen.Node) bool {
	if a.ID != b.ID || a.Role != b.Role || a.ID == "" && a.Label() != b.Label() {
		return false
	}
	return math.Abs(a.Bounds.X-b.Bounds.X) < maxMoved && math.Abs(a.Bounds.Y-b.Bounds.Y) < maxMoved
}

const maxMoved = 24 // dp that an element may have moved and still be where a person aimed

// meant is the element that a person means who points at a place: the last painted one that is anything, or what it
// lies in.
func meant(t *screen.Tree, at screen.Point) *screen.Node {
	var found *screen.Node
	t.Walk(func(n *screen.Node, depth int) bool {
		if depth > 0 && n.Visible.Contains(at) && (n.Role != "" || n.ID != "" || n.Text != "") {
			found = n
		}
		return true
	})
	return found
}

// actedOn is the element that a touch at a place is for: a button rather than the words on it.
func actedOn(t *screen.Tree, at screen.Point) *screen.Node {
	n := meant(t, at)
	if n == nil {
		return nil
	}
	for _, p := range append([]*screen.Node{n}, t.Ancestors(n)...) {
		if p.Touch && p.Role != "" && p.Role != "application" {
			return p
		}
	}
	return n
}

// card tells of an element.
func card(t *screen.Tree, n *screen.Node) *link.Card {
	c := &link.Card{Role: n.Role, ID: n.ID, Label: plain.Text(screen.Fold(n.Content()), 300), Bounds: n.Bounds,
		States:   []string{},
		Locators: []string{}, Lines: []string{}, Path: []string{}}
	c.States = n.States(len(t.Shown([]*screen.Node{n})) > 0)
	if locators, lines := suggest.For(t, n); len(locators) > 0 {
		c.Locators, c.Lines = locators, lines
	}
	around := t.Ancestors(n)
	for i := len(around) - 1; i >= 0; i-- {
		if a := around[i]; a.Role != "" || a.ID != "" {
			c.Path = append(c.Path, screen.Describe(a))
		}
	}
	return c
}

// lineFor is the line of script that does something with an element, "" where nothing finds it alone.
func lineFor(t *screen.Tree, n *screen.Node, does string) string {
	if n == nil {
		return ""
	}
	locators, _ := suggest.For(t, n)
	if len(locators) == 0 {
		return ""
	}
	return does + " " + locators[0]
}
