package script

import (
	"fmt"
	"math"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// The steps that touch the screen.
type (
	// Tap touches the middle of an element, twice where Double.
	Tap struct {
		Step
		Element *Element
		Double  bool
	}
	// Hold keeps a finger on an element.
	Hold struct {
		Step
		Element *Element
		Long    time.Duration
	}
	// Swipe moves a finger one way, over the whole app or over an element.
	Swipe struct {
		Step
		Way string
		On  *Element
	}
	// Drag moves one element onto another.
	Drag struct {
		Step
		Element, Onto *Element
	}
	// Pinch moves two fingers on an element, apart where Spread.
	Pinch struct {
		Step
		Element *Element
		Spread  bool
	}
	// ScrollTo moves what an element lies in until the element can be seen.
	ScrollTo struct {
		Step
		Element *Element
		List    *Element
	}
)

// How long gestures take.
const (
	swipeTime = 300 * time.Millisecond
	dragTime  = 600 * time.Millisecond
	pinchTime = 400 * time.Millisecond
	holdTime  = time.Second // where a script says nothing
)

func init() {
	add(
		form{word: "tap", usage: "tap E", read: func(p *parser, s Step) Statement {
			return &Tap{Step: s, Element: p.element()}
		}},
		form{word: "double", usage: "double tap E", read: func(p *parser, s Step) Statement {
			p.want("tap")
			return &Tap{Step: s, Element: p.element(), Double: true}
		}},
		form{word: "hold", usage: "hold E [for 2s]", read: func(p *parser, s Step) Statement {
			h := &Hold{Step: s, Element: p.element(), Long: holdTime}
			if p.accept("for") {
				h.Long = p.duration("how long the finger stays, which is a duration,")
			}
			return h
		}},
		form{word: "swipe", usage: "swipe up|down|left|right [on E]", read: readSwipe},
		form{word: "drag", usage: "drag E onto F", read: func(p *parser, s Step) Statement {
			d := &Drag{Step: s, Element: p.element()}
			if t := p.peek(); t.Is("to") || t.Is("on") || t.Is("into") {
				p.fail(t, "write: drag E onto F", "`onto` is missing before %s", t)
			}
			p.want("onto")
			d.Onto = p.element()
			return d
		}},
		form{word: "pinch", usage: "pinch E", read: func(p *parser, s Step) Statement {
			return &Pinch{Step: s, Element: p.element()}
		}},
		form{word: "spread", usage: "spread E", read: func(p *parser, s Step) Statement {
			return &Pinch{Step: s, Element: p.element(), Spread: true}
		}},
		form{word: "scroll", usage: "scroll to E [in F]", read: func(p *parser, s Step) Statement {
			p.want("to")
			e := p.element()
			if e.Relation != screen.In { // what it lies in is what is scrolled
				return &ScrollTo{Step: s, Element: e}
			}
			return &ScrollTo{Step: s, Element: e, List: e.Of}
		}},
	)
}

func readSwipe(p *parser, s Step) Statement {
	t := p.next()
	if _, ok := ways[t.Text]; t.Kind != token.Word || !ok {
		p.fail(t, token.Meant(t.Raw, []string{"up", "down", "left", "right"}),
			"a finger is swiped up, down, left or right, not %s", t)
	}
	w := &Swipe{Step: s, Way: t.Text}
	if p.accept("on") {
		w.On = p.element()
	}
	return w
}

// ways are where fingers go.
var ways = map[string]screen.Point{"up": {Y: -1}, "down": {Y: 1}, "left": {X: -1}, "right": {X: 1}}

func elements(list ...*Element) []Node {
	var out []Node
	for _, e := range list {
		if e != nil {
			out = append(out, e)
		}
	}
	return out
}

func (s *Tap) parts() []Node   { return elements(s.Element) }
func (s *Hold) parts() []Node  { return elements(s.Element) }
func (s *Swipe) parts() []Node { return elements(s.On) }
func (s *Drag) parts() []Node  { return elements(s.Element, s.Onto) }
func (s *Pinch) parts() []Node { return elements(s.Element) }

// parts: the list is a part of the element that lies in it.
func (s *ScrollTo) parts() []Node { return elements(s.Element) }

func (s *Tap) words() string {
	if s.Double {
		return "double tap " + s.Element.words()
	}
	return "tap " + s.Element.words()
}

func (s *Hold) words() string {
	if s.Long == holdTime {
		return "hold " + s.Element.words()
	}
	return "hold " + s.Element.words() + " for " + durationWords(s.Long)
}

func (s *Swipe) words() string {
	if s.On == nil {
		return "swipe " + s.Way
	}
	return "swipe " + s.Way + " on " + s.On.words()
}

func (s *Drag) words() string { return "drag " + s.Element.words() + " onto " + s.Onto.words() }

func (s *Pinch) words() string {
	if s.Spread {
		return "spread " + s.Element.words()
	}
	return "pinch " + s.Element.words()
}

func (s *ScrollTo) words() string { return "scroll to " + s.Element.words() }

var gestures = []string{"gestures"}

func (s *Tap) needs() []string {
	if s.Double {
		return gestures
	}
	return nil
}

func (s *Hold) needs() []string     { return gestures }
func (s *Swipe) needs() []string    { return gestures }
func (s *Drag) needs() []string     { return gestures }
func (s *Pinch) needs() []string    { return gestures }
func (s *ScrollTo) needs() []string { return gestures }

func (s *Tap) content(j judged) bool      { return j.steady }
func (s *Hold) content(j judged) bool     { return j.steady }
func (s *Swipe) content(j judged) bool    { return j.steady }
func (s *Drag) content(j judged) bool     { return j.steady }
func (s *Pinch) content(j judged) bool    { return j.steady }
func (s *ScrollTo) content(j judged) bool { return j.steady }

func (s *Tap) run(r *runner) *stop {
	if s.Double {
		return r.gesture(s, s.Element, func(n *screen.Node) []device.Finger {
			return []device.Finger{device.DoubleTap(n.Visible.Centre())}
		})
	}
	return r.tap(s, s.Element)
}

func (s *Hold) run(r *runner) *stop {
	return r.gesture(s, s.Element, func(n *screen.Node) []device.Finger {
		return []device.Finger{device.Hold(n.Visible.Centre(), s.Long)}
	})
}

func (s *Pinch) run(r *runner) *stop {
	return r.gesture(s, s.Element, func(n *screen.Node) []device.Finger {
		near := math.Max(24, math.Min(n.Visible.W, n.Visible.H)*0.2)
		far := math.Max(60, n.Visible.W*0.8)
		if s.Spread {
			return device.Pinch(n.Visible.Centre(), near, far, pinchTime)
		}
		return device.Pinch(n.Visible.Centre(), far, near, pinchTime)
	})
}

func (s *Swipe) run(r *runner) *stop {
	if s.On == nil {
		tree, stopped := r.settled(s, "a screen to swipe on")
		if stopped != nil {
			return stopped
		}
		return r.perform(s, swipe(tree.Root.Visible, ways[s.Way], 1))
	}
	return r.gesture(s, s.On, func(n *screen.Node) []device.Finger {
		return []device.Finger{swipe(n.Visible, ways[s.Way], 1)}
	})
}

// swipe is a finger that goes over the middle part of an area; share says how much of that.
func swipe(over screen.Rect, way screen.Point, share float64) device.Finger {
	c := over.Centre()
	x, y := over.W*0.36*share*way.X, over.H*0.36*share*way.Y
	return device.Drag(screen.Point{X: c.X - x, Y: c.Y - y}, screen.Point{X: c.X + x, Y: c.Y + y}, swipeTime)
}

func (s *Drag) run(r *runner) *stop {
	saw, stopped := r.judge(s, s.Element.Text+" to drag, and "+s.Onto.Text+" to drag it onto",
		func(t *screen.Tree) sight {
			what, onto := r.usable(s.Element)(t), r.readable(s.Onto, t)
			switch {
			case !what.ok:
				return what
			case !onto.ok:
				return onto
			}
			return sight{ok: true, nodes: []*screen.Node{what.nodes[0], onto.nodes[0]},
				key: what.key + fmt.Sprint(onto.nodes[0].Visible)}
		})
	if stopped != nil {
		return stopped
	}
	return r.perform(s, device.Drag(saw.nodes[0].Visible.Centre(), saw.nodes[1].Visible.Centre(), dragTime))
}

// tap touches the middle of an element once that is there, shown, still, enabled and
// uncovered.
func (r *runner) tap(st Statement, e *Element) *stop {
	saw, stopped := r.judge(st, e.Text+" to act on", r.usable(e))
	if stopped != nil {
		return stopped
	}
	return r.act(st, r.device.Tap(r.ctx, saw.nodes[0].Visible.Centre()))
}

// gesture does something with fingers to an element that can be acted on.
func (r *runner) gesture(st Statement, e *Element, fingers func(*screen.Node) []device.Finger) *stop {
	saw, stopped := r.judge(st, e.Text+" to act on", r.usable(e))
	if stopped != nil {
		return stopped
	}
	return r.perform(st, fingers(saw.nodes[0])...)
}

func (r *runner) perform(st Statement, fingers ...device.Finger) *stop {
	g, ok := device.As[device.Gesturing](r.device)
	if !ok {
		return r.trouble(st, device.ErrNoAbility)
	}
	return r.act(st, g.Perform(r.ctx, fingers...))
}

// settled waits for a screen that has settled.
func (r *runner) settled(st Statement, expected string) (*screen.Tree, *stop) {
	var seen *screen.Tree
	_, stopped := r.judge(st, expected, func(t *screen.Tree) sight {
		seen = t
		return sight{ok: true}
	})
	return seen, stopped
}

// Bounds on scrolling: how often a finger goes over a list each way, and for how long where a
// step says nothing else.
const (
	maxSwipes  = 200
	scrollTime = 40 * time.Second
)

// run scrolls: towards the element where the tree has it out of sight, else onwards to the end
// of the list and then back to its beginning.
func (s *ScrollTo) run(r *runner) *stop { return r.scrollTo(s, s.Element, s.List) }

func (r *runner) scrollTo(st Statement, e, list *Element) *stop {
	deadline := r.device.Now() + max(scrollTime, st.base().Within)
	way, turned, still := screen.Point{Y: -1}, 0, 0
	for range maxSwipes {
		tree, stopped := r.settled(st, "a screen to scroll")
		if stopped != nil {
			return stopped
		}
		saw := r.find(e, tree)
		if saw.trouble != nil && saw.trouble.cause != Ambiguous {
			return r.scrollEnds(st, *saw.trouble)
		}
		area, trouble := r.scrolled(list, saw, tree)
		if trouble != nil {
			return r.scrollEnds(st, *trouble)
		}
		if len(saw.shown) > 0 && comfortable(tree, saw.shown[0]) {
			return nil
		}
		if len(saw.nodes) > 0 {
			if towards := toward(saw.nodes[0], area); towards != (screen.Point{}) {
				way = towards
			} else if len(saw.shown) > 0 {
				return nil // it is in sight, and nothing can be scrolled to show more of it
			}
		}
		if r.device.Now() > deadline {
			break
		}
		share := 1.0
		if len(saw.nodes) > 0 {
			share = stretch(saw.nodes[0], area, way)
		}
		if stopped := r.perform(st, swipe(area, way, share)); stopped != nil {
			return stopped
		}
		after, stopped := r.settled(st, "the list to come to rest")
		if stopped != nil {
			return stopped
		}
		if moved(tree, after) {
			still = 0
			continue
		}
		if still++; still < 2 {
			continue
		}
		if turned++; turned == 2 || len(saw.nodes) > 0 {
			break
		}
		still, way = 0, screen.Point{X: -way.X, Y: -way.Y} // the end has come: back, to what was passed
	}
	tree, stopped := r.settled(st, "a screen to scroll")
	if stopped != nil {
		return stopped
	}
	if saw := r.find(e, tree); len(saw.shown) > 0 {
		return nil
	}
	return r.scrollEnds(st, r.readable(e, tree))
}

// scrollEnds tells that scrolling has not found what it was to.
func (r *runner) scrollEnds(st Statement, saw sight) *stop {
	stopped := r.stop(st, saw.cause, "to find it by scrolling to both ends", saw.actual)
	if saw.cause == "" {
		stopped.failure.Cause = Missing
	}
	r.mark(stopped, saw.nodes)
	return stopped
}

// scrolled is the area that a finger goes over: what is named, else the nearest element about
// the one that is looked for whose content goes on out of sight, else the largest such on the
// screen, else the app.
func (r *runner) scrolled(list *Element, saw found, t *screen.Tree) (screen.Rect, *sight) {
	if list != nil {
		in := r.readable(list, t)
		if !in.ok {
			return screen.Rect{}, &in
		}
		return in.nodes[0].Visible, nil
	}
	if len(saw.nodes) > 0 {
		for _, a := range t.Ancestors(saw.nodes[0]) {
			if a.OnScreen() && overflows(a) {
				return a.Visible, nil
			}
		}
	}
	var best screen.Rect
	t.Walk(func(n *screen.Node, depth int) bool {
		if v := n.Visible; depth > 0 && overflows(n) && v.W*v.H > best.W*best.H {
			best = v
		}
		return true
	})
	if best.Empty() {
		return t.Root.Visible, nil
	}
	return best, nil
}

// overflows reports whether something in n goes on where n ends.
func overflows(n *screen.Node) bool {
	for _, c := range n.Children {
		if c.Bounds.Y+c.Bounds.H > n.Visible.Y+n.Visible.H+1 || c.Bounds.Y < n.Visible.Y-1 ||
			c.Bounds.X+c.Bounds.W > n.Visible.X+n.Visible.W+1 || c.Bounds.X < n.Visible.X-1 {
			return true
		}
	}
	return false
}

// comfortable reports whether enough of n is in sight to act on it: its whole height, or as
// much as the screen has room for, and not under anything.
func comfortable(t *screen.Tree, n *screen.Node) bool {
	return n.Visible.H >= math.Min(n.Bounds.H, t.Height*0.5)-1 && n.Visible.W >= math.Min(n.Bounds.W, t.Width*0.5)-1 &&
		t.Obstacle(n) == nil
}

// toward is where a finger goes to bring n into an area; nowhere, where it lies in it.
func toward(n *screen.Node, area screen.Rect) screen.Point {
	switch b := n.Bounds; {
	case b.Y+b.H > area.Y+area.H+1:
		return screen.Point{Y: -1}
	case b.Y < area.Y-1:
		return screen.Point{Y: 1}
	case b.X+b.W > area.X+area.W+1:
		return screen.Point{X: -1}
	case b.X < area.X-1:
		return screen.Point{X: 1}
	}
	return screen.Point{}
}

// stretch is how much of a whole swipe brings n to the middle of an area, and no farther.
func stretch(n *screen.Node, area screen.Rect, way screen.Point) float64 {
	c, m := n.Bounds.Centre(), area.Centre()
	apart, whole := math.Abs(c.Y-m.Y), area.H*0.72
	if way.Y == 0 {
		apart, whole = math.Abs(c.X-m.X), area.W*0.72
	}
	return math.Max(0.15, math.Min(1, apart/math.Max(1, whole)))
}

// moved reports whether anything is where it was not.
func moved(before, after *screen.Tree) bool {
	return before.Revision != after.Revision && len(screen.Changes(before, after)) > 0
}
