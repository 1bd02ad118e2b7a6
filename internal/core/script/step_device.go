package script

import (
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// The conditions on the app as a whole and on what the device tells of it.
type (
	// AppIs holds where the app runs, or is in front.
	AppIs struct{ State string }
	// Logged holds where the app has written a line that a pattern finds since the case began,
	// or none with No; without a pattern, a line that is an error.
	Logged struct {
		No      bool
		Pattern *Wanted
	}
	// StartedWithin holds where the app, when it was last started, had settled by then.
	StartedWithin struct{ Limit time.Duration }
	// MemoryBelow holds where the app takes less memory than so many bytes.
	MemoryBelow struct {
		Limit int64
		size  string
	}
	// Accessible holds where everything that can be used has a name and room for a finger.
	Accessible struct{}
)

// deviceCondition reads a condition that names no element, nil where there is none.
func (p *parser) deviceCondition() Condition {
	t, next := p.peek(), p.tokens[min(p.at+1, len(p.tokens)-1)]
	switch {
	case t.Is("app"):
		p.next()
		if p.accept("in", "front") || p.accept("is", "in", "front") {
			return &AppIs{"in front"}
		}
		if p.accept("is", "running") {
			return &AppIs{"running"}
		}
		p.fail(p.peek(), "expect app is running, or expect app in front", "%s is not expected here", p.peek())
	case t.Is("log") && (next.Is("matches") || next.Is("contains")):
		p.next()
		if n := p.next(); n.Is("contains") {
			p.fail(n, "write: expect log matches /…/", "a log is looked through by a pattern")
		}
		return &Logged{Pattern: p.wanted(p.next())}
	case t.Is("no") && next.Is("log"):
		p.next()
		p.next()
		p.want("matches")
		return &Logged{No: true, Pattern: p.wanted(p.next())}
	case t.Is("no") && (next.Is("errors") || next.Is("error")) && p.tokens[min(p.at+2, len(p.tokens)-1)].Is("in"):
		p.next()
		p.next()
		p.wantPhrase("in", "log")
		return &Logged{No: true}
	case t.Is("start") && next.Is("within"):
		p.next()
		p.next()
		return &StartedWithin{p.duration("how long a start may take, which is a duration,")}
	case t.Is("memory"):
		p.next()
		p.want("below")
		s := p.next()
		if s.Kind != token.Size {
			p.fail(s, "expect memory below 200MB", "a size is missing before %s", s)
		}
		bytes := new(big.Int).Quo(s.Number.Num(), s.Number.Denom())
		if !bytes.IsInt64() || bytes.Sign() == 0 {
			p.fail(s, "expect memory below 200MB", "no app takes so much or so little: %s", s)
		}
		return &MemoryBelow{bytes.Int64(), s.Raw}
	case t.Is("screen"):
		p.next()
		if p.accept("is", "accessible") {
			return &Accessible{}
		}
		if p.peek().Is("like") {
			p.fail(p.peek(), "a layout can be expected meanwhile: expect E is left of F, expect E is whole",
				"there are no baselines to compare a screen with yet")
		}
		p.fail(p.peek(), "expect screen is accessible", "%s is not expected here", p.peek())
	}
	return nil
}

func (c *AppIs) parts() []Node         { return nil }
func (c *StartedWithin) parts() []Node { return nil }
func (c *MemoryBelow) parts() []Node   { return nil }
func (c *Accessible) parts() []Node    { return nil }

func (c *Logged) parts() []Node {
	return c.Pattern.parts()
}

func (c *AppIs) words() string {
	if c.State == "running" {
		return "app is running"
	}
	return "app in front"
}

func (c *Logged) words() string {
	no := ""
	if c.No {
		no = "no "
	}
	if c.Pattern == nil {
		return no + "errors in log"
	}
	return no + "log matches " + c.Pattern.words()
}

func (c *StartedWithin) words() string { return "start within " + durationWords(c.Limit) }
func (c *MemoryBelow) words() string   { return "memory below " + c.size }
func (c *Accessible) words() string    { return "screen is accessible" }

func (c *Logged) needs() []string      { return []string{"log"} }
func (c *MemoryBelow) needs() []string { return []string{"readings"} }

func (c *AppIs) expected(*runner) string { return "the app to be " + c.State }

func (c *Logged) expected(*runner) string {
	switch {
	case c.Pattern == nil:
		return "no errors in the app's log since the case began"
	case c.No:
		return "no line of the app's log to match " + c.Pattern.words()
	}
	return "a line of the app's log to match " + c.Pattern.words()
}

func (c *StartedWithin) expected(*runner) string {
	return "the app to have started within " + durationWords(c.Limit)
}
func (c *MemoryBelow) expected(*runner) string { return "the app to take less than " + c.size }
func (c *Accessible) expected(*runner) string {
	return "everything that can be used to have a name, and room for a finger"
}

func (c *AppIs) view(r *runner, t *screen.Tree) sight {
	if why := r.running(t); why != "" {
		return sight{cause: Contradicted, actual: why}
	}
	if c.State == "in front" && t.App != r.o.App {
		return sight{cause: Contradicted, actual: front(t) + " is in front"}
	}
	return sight{ok: true}
}

func (c *Logged) view(r *runner, t *screen.Tree) sight {
	if err := r.readLog(); err != nil {
		return sight{cause: Trouble, final: true, actual: "the log could not be read: " + err.Error()}
	}
	var m screen.Match
	if c.Pattern != nil {
		var trouble *sight
		if m, trouble = r.match(c.Pattern, t); trouble != nil {
			return *trouble
		}
	}
	for _, l := range slices.Backward(r.log) {
		if l.App != r.o.App || c.Pattern == nil && l.Level != "error" || c.Pattern != nil && !finds(m, l.Text) {
			continue
		}
		if c.No {
			return sight{cause: Contradicted, actual: fmt.Sprintf("%s after the case began it wrote %s: %q",
				short(time.Duration(l.AtMS)*time.Millisecond-r.first), l.Level, r.clip(l.Text))}
		}
		return sight{ok: true}
	}
	if c.No {
		return sight{ok: true}
	}
	own := 0
	for _, l := range r.log {
		if l.App == r.o.App {
			own++
		}
	}
	return sight{cause: Contradicted, actual: fmt.Sprintf("none of its %d lines does", own)}
}

// finds: a text is looked for anywhere in a line.
func finds(m screen.Match, line string) bool {
	if m.Pattern != nil {
		return m.Takes(line)
	}
	return strings.Contains(screen.Fold(line), screen.Fold(m.Text))
}

func (c *StartedWithin) view(r *runner, t *screen.Tree) sight {
	switch {
	case r.started < 0:
		return sight{cause: NoValue, final: true, actual: "the app has not been started in this case"}
	case r.settling.Acts > r.startedBy:
		return sight{cause: NoValue, final: true, actual: "something was done since the app was started: expect it right after `start app`"}
	case t.App != r.o.App:
		return sight{cause: Contradicted, actual: "the app has not come to the front yet"}
	}
	took := r.settling.Changed - r.started
	if took <= c.Limit {
		return sight{ok: true}
	}
	return sight{cause: Contradicted, final: true, actual: "it took " + short(took)}
}

func (c *MemoryBelow) view(r *runner, _ *screen.Tree) sight {
	d, ok := device.As[device.Measured](r.device)
	if !ok {
		return sight{cause: NoAbility, final: true, actual: "this device does not tell what an app takes"}
	}
	readings, err := d.Readings(r.ctx)
	if err != nil {
		return sight{cause: Trouble, final: true, actual: "its readings could not be taken: " + err.Error()}
	}
	for _, one := range readings {
		if one.Name != "memory" {
			continue
		}
		if one.Value < float64(c.Limit) {
			return sight{ok: true}
		}
		return sight{cause: Contradicted, actual: fmt.Sprintf("it takes %.1f MB", one.Value/1e6)}
	}
	return sight{cause: NoAbility, final: true, actual: "this device does not tell how much memory an app takes"}
}

// usedRoles are the roles of what a person uses, and so has to be called something.
var usedRoles = []string{"button", "link", "textbox", "searchbox", "checkbox", "radio", "switch", "slider",
	"spinbutton", "combobox",
	"tab", "menuitem", "option"}

// minTouch is the least width and height of what is touched, in density-independent pixels
// (WCAG 2.2, 2.5.8 Target Size, level AA).
const minTouch = 24

func (c *Accessible) view(r *runner, t *screen.Tree) sight {
	var nodes []*screen.Node
	var why []string
	note := func(n *screen.Node, what string) {
		nodes = append(nodes, n)
		if len(why) < 4 {
			why = append(why, r.describe(n)+" "+what)
		}
	}
	for _, n := range t.Shown(used(t)) {
		switch {
		case screen.Fold(n.Name) == "" && screen.Fold(n.Text) == "" && strings.TrimSpace(textWithin(n)) == "":
			note(n, "has no name")
		case n.Role != "link" && !n.Disabled && (n.Bounds.W < minTouch || n.Bounds.H < minTouch):
			note(n, fmt.Sprintf("is %.0f by %.0f, less than %d by %d", n.Bounds.W, n.Bounds.H, minTouch, minTouch))
		}
	}
	if len(nodes) == 0 {
		return sight{ok: true}
	}
	words := strings.Join(why, "; ")
	if more := len(nodes) - len(why); more > 0 {
		words += fmt.Sprintf("; and %d more", more)
	}
	return sight{cause: Contradicted, nodes: nodes, actual: words}
}

// used are the elements that a person uses.
func used(t *screen.Tree) []*screen.Node {
	var out []*screen.Node
	t.Walk(func(n *screen.Node, _ int) bool {
		if slices.Contains(usedRoles, n.Role) {
			out = append(out, n)
		}
		return true
	})
	return out
}

// textWithin is what is written in n, whatever n holds itself.
func textWithin(n *screen.Node) string {
	var b strings.Builder
	for _, c := range n.Children {
		(&screen.Tree{Root: c}).Walk(func(n *screen.Node, _ int) bool {
			b.WriteString(n.Text + n.Name)
			return true
		})
	}
	return b.String()
}

// maxLog bounds the lines of a case's log that are kept to look through.
const maxLog = 20_000

// readLog takes what the device has logged since the last time.
func (r *runner) readLog() error {
	l, ok := device.As[device.Logger](r.device)
	if !ok {
		return device.ErrNoAbility
	}
	lines, err := l.Log(r.ctx)
	if r.log = append(r.log, lines...); len(r.log) > maxLog {
		r.log = slices.Clone(r.log[len(r.log)-maxLog:])
	}
	return err
}
