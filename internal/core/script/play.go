package script

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/verdict"
)

// RunCase runs one case of a suite on a device, as if it were all of it, and judges it. It gives
// a result whatever happens; a cancelled ctx counts as trouble.
func RunCase(ctx context.Context, s *Suite, c *Case, d device.Device, o Options, rec Recorder) Result {
	return NewPlay(s, d, o).Case(ctx, c, true, rec)
}

// Play carries out cases of a suite, one after the other, on one device. What comes before all
// is carried out with the first of them, what comes after all with the last.
type Play struct {
	suite  *Suite
	device device.Device
	o      Options
	begun  bool
	broken *stop                   // what came before all did not go well
	values map[string]amount.Value // that it gave names
	felt   feelings                // what it made the device feel
	given  feelings                // what the run has it feel, whatever the script does
	by     *runner                 // that carried it out
	seen   map[Seen]bool
	base   string // the build that each case begins on; "" for the run's own
	build  string // the one that is installed
}

// NewPlay begins one.
func NewPlay(s *Suite, d device.Device, o Options) *Play {
	return &Play{suite: s, device: d, o: o, values: s.given(o.Given), seen: map[Seen]bool{}}
}

// feel has the device feel what the run says, once.
func (p *Play) feel(r *runner) *stop {
	p.by = r
	for _, f := range p.o.Felt {
		do := func() error { return f.Do(r.ctx) }
		p.given.note(f.Kind, do, func() error { return nil }) // cleaning undoes it
		if err := do(); err != nil {
			return r.trouble(opening(Pos{Line: 1, Column: 1}), err)
		}
	}
	return nil
}

// usual is what the device feels when a case begins: what the run says, and over that what came
// before all.
func (p *Play) usual() feelings {
	out := feelings{}
	for _, f := range []feelings{p.given, p.felt} {
		for _, kind := range f.kinds {
			out.note(kind, f.do[kind], f.undo[kind])
		}
	}
	return out
}

// Case carries out one case and judges it; last tells that none comes after it. It gives a
// result whatever happens; a cancelled ctx counts as trouble.
func (p *Play) Case(ctx context.Context, c *Case, last bool, rec Recorder) Result {
	if p.by != nil {
		p.by.ctx = ctx // what it made the device feel is done again and undone within this case's time
	}
	if lacks := missing(p.suite.Needs(c), append(p.device.Abilities(), p.o.Traits...)); len(lacks) > 0 {
		result := Result{Verdict: verdict.Skip, Steps: []StepRecord{}, Failure: &Failure{Cause: NoAbility,
			File: c.Pos.File,
			Line: c.Pos.Line, Column: c.Pos.Column,
			Step: c.Name, Expected: "a device that can do `" + strings.Join(lacks, "`, `") + "`",
			Actual: "this one cannot"}}
		if last && p.begun { // what the cases before left is tidied up all the same
			r := newRunner(ctx, p.suite, p.device, p.o, rec)
			r.build = &p.build
			r.values, r.usual = maps.Clone(p.values), p.usual()
			if b := p.suite.Around.AfterAll; b != nil {
				if stopped := r.phase(AfterAll, b); stopped != nil {
					result.Failure.After = append(result.Failure.After, stopped.failure.Sentence())
				}
			}
			result.Failure.After = append(result.Failure.After, p.restore(r, true)...)
			result.Steps = r.steps
		}
		return result
	}
	r := newRunner(ctx, p.suite, p.device, p.o, rec)
	r.seen, r.build = p.seen, &p.build
	stopped := p.before(r)
	if stopped == nil {
		stopped = r.body(c)
	}
	ended := p.device.Now()
	if stopped == nil {
		stopped = r.lookOnceMore(c, edge(p.suite.bodies(c), true))
	}
	if stopped == nil || stopped.err == nil {
		stopped = p.after(r, stopped, last)
	}
	result := Result{Verdict: verdict.Pass, TookMS: (ended - r.first).Milliseconds(), Steps: r.steps,
		Matched: slices.Sorted(maps.Keys(r.matched)), Seen: r.sighted}
	if stopped != nil {
		result.Verdict, result.Failure, result.Err = outcomes[stopped.failure.Cause], &stopped.failure, stopped.err
		for _, k := range r.unless {
			k.give(rec)
		}
	}
	if result.Matched == nil {
		result.Matched = []string{}
	}
	_ = r.readLog() // what cannot be read is told by whoever reads the rest
	result.Log = append(result.Log, r.hidden.log(r.log)...)
	return result
}

// before carries out what comes before all, once; where that did not go well, no case does.
func (p *Play) before(r *runner) *stop {
	if !p.begun {
		p.begun = true
		r.values = maps.Clone(p.values)
		if stopped := p.feel(r); stopped != nil {
			p.broken = stopped
			return stopped
		}
		r.usual = p.given
		if b := p.suite.Around.BeforeAll; b != nil {
			stopped := r.opened(edge([]*Block{b}, false), Pos{Line: 1, Column: 1})
			if stopped == nil {
				stopped = r.phase(BeforeAll, b)
			}
			p.felt, p.by, p.base, r.felt = r.felt, r, p.build, feelings{}
			if p.values = r.values; stopped != nil {
				stopped.failure.Phase = BeforeAll
				p.broken = stopped
				return stopped
			}
			r.ran = 0 // the case's first step is yet to come
		}
	}
	r.values, r.usual = maps.Clone(p.values), p.usual()
	if p.build != p.base && !p.suite.KeepApp { // the case before has put another build in place
		if err := p.o.Update(r.ctx, p.base); err != nil {
			return r.trouble(opening(Pos{Line: 1, Column: 1}),
				fmt.Errorf("the build that the case before has updated could not be put back: %w", err))
		}
		p.build = p.base
	}
	if p.broken != nil {
		again := *p.broken
		again.err = nil
		return &again
	}
	return nil
}

// body carries out a case with what comes before each.
func (r *runner) body(c *Case) *stop {
	r.limitFrom = r.device.Now()
	maps.Copy(r.values, c.Values)
	bodies := r.suite.bodies(c)
	if stopped := r.opened(edge(bodies, false), c.Pos); stopped != nil {
		return stopped
	}
	if b := r.suite.Around.BeforeEach; b != nil {
		if stopped := r.phase(BeforeEach, b); stopped != nil {
			return stopped
		}
	}
	return r.block(c.Body)
}

// after carries out what comes after the case, whatever became of it. What goes wrong then is
// the case's own failure only where it had none.
func (p *Play) after(r *runner, stopped *stop, last bool) *stop {
	tidy := func(phase Phase, b *Block) {
		if b == nil || stopped != nil && stopped.err != nil {
			return
		}
		if phase == AfterAll {
			r.values = maps.Clone(p.values)
		}
		r.limitFrom, r.ran = r.device.Now(), 1
		r.way = nil
		trouble := r.phase(phase, b)
		switch {
		case trouble == nil:
		case stopped == nil:
			stopped = trouble
		default:
			stopped.failure.After = append(stopped.failure.After, trouble.failure.Sentence())
		}
	}
	if p.broken == nil {
		tidy(AfterEach, p.suite.Around.AfterEach)
	}
	if last {
		tidy(AfterAll, p.suite.Around.AfterAll)
	}
	for _, what := range p.restore(r, last) {
		if stopped != nil {
			stopped.failure.After = append(stopped.failure.After, what)
		}
	}
	if t, ok := device.As[device.Tidying](r.device); ok && !p.suite.KeepApp {
		if err := t.Tidy(r.ctx, r.o.App); err != nil && stopped == nil {
			return r.trouble(opening(Pos{Line: 1, Column: 1}),
				fmt.Errorf("what the case left on the device could not be taken away: %w", err))
		}
	}
	return stopped
}

// restore undoes what a case has made the device feel, and what came before all has once no case
// comes after.
func (p *Play) restore(r *runner, last bool) (troubles []string) {
	for _, what := range r.restore(&r.felt) {
		troubles = append(troubles, "what the case made the device feel could not be undone: "+what)
	}
	if last {
		for _, what := range r.restore(&p.felt) {
			troubles = append(troubles, "what came before all made the device feel could not be undone: "+what)
		}
	}
	return troubles
}

// phase carries out a block beside the case.
func (r *runner) phase(phase Phase, b *Block) *stop {
	r.at = phase
	stopped := r.block(b)
	if r.at = ""; stopped != nil {
		stopped.failure.Phase = phase
	}
	return stopped
}

func missing(needs, have []string) []string {
	return slices.DeleteFunc(slices.Compact(slices.Sorted(slices.Values(needs))), func(n string) bool {
		return slices.Contains(have, n)
	})
}

// Seen is something that a screen of the app had on it.
type Seen struct {
	ID     string `json:"id,omitempty"`
	Text   string `json:"text,omitempty"`
	Role   string `json:"role,omitempty"`
	Screen string `json:"screen,omitempty"` // what the screen calls itself
	// why a person may have seen it otherwise, "" where it was seen without a doubt
	Unsure string `json:"unsure,omitempty"`
}

// Bounds on what is remembered of screens, of one suite on one device.
const (
	maxSeen     = 2000
	maxSeenText = 60 // characters
)

// remember notes what the app has on its screen, once each: ids, and texts without figures.
func (r *runner) remember(t *screen.Tree) {
	if t == nil || t.Revision == r.rememberedAt || t.App != r.o.App || len(r.seen) >= maxSeen {
		return
	}
	r.rememberedAt = t.Revision
	name := title(t)
	t.Walk(func(n *screen.Node, depth int) bool {
		label := n.Name
		if label == "" {
			label = n.Text
		}
		label = screen.Fold(label)
		if len([]rune(label)) > maxSeenText || strings.ContainsAny(label, "0123456789") || r.mask(label) != label {
			label = ""
		}
		id := n.ID
		if r.mask(id) != id {
			id = ""
		}
		if depth == 0 || id == "" && label == "" || !n.OnScreen() {
			return true
		}
		key := Seen{ID: id, Text: label, Role: n.Role}
		if r.seen[key] || len(r.seen) >= maxSeen {
			return true
		}
		if key.Unsure = n.Unsure; r.seen[key] { // it has been seen so, and may still be seen without a doubt
			return true
		}
		r.seen[key] = true
		key.Screen = r.mask(name)
		r.sighted = append(r.sighted, key)
		return true
	})
}

// title is what a screen calls itself: its first heading, else its selected tab.
func title(t *screen.Tree) string {
	heading, tab := "", ""
	t.Walk(func(n *screen.Node, _ int) bool {
		switch {
		case n.Role == "heading" && n.OnScreen():
			heading = screen.Fold(n.Content())
		case n.Role == "tab" && n.Selected:
			tab = screen.Fold(n.Label())
		}
		return heading == ""
	})
	if heading != "" {
		return clipText(heading)
	}
	return clipText(tab)
}

// opening is the step that no script writes: the app is started for a case.
func opening(at Pos) Statement { return &StartApp{Step: Step{Pos: at, Text: "start app"}} }

// opened starts the app afresh, unless the first step does, or the suite goes on in what the
// case before left.
func (r *runner) opened(first Statement, at Pos) *stop {
	if _, ok := first.(*StartApp); ok {
		return nil
	}
	how := device.Fresh
	if r.suite.KeepApp {
		how = device.Resume
	}
	return r.start(opening(at), how)
}

// lookOnceMore sees whether the app outlives the last step of a case: what it was told
// by it has been answered, or patience has ended, and some time has passed since.
func (r *runner) lookOnceMore(c *Case, last Statement) *stop {
	if last == nil {
		last = opening(c.Pos)
	}
	from := r.device.Now()
	until := max(from+r.o.Quiet, r.settling.Acts+lastLook)
	for {
		tree, err := r.device.Tree(r.ctx)
		now := r.device.Now()
		if err == nil && (now >= until || tree.Rests >= until-now) && (!tree.Busy || now >= from+r.o.Patience) {
			r.remember(tree)
			return nil
		}
		if err == nil {
			if now >= until {
				until = from + r.o.Patience
			}
			err = r.pass(tree.Revision, until)
		}
		if err != nil {
			stopped := r.trouble(last, err)
			stopped.failure.Actual += ", after the last step"
			return stopped
		}
	}
}

// around gives the lines of the app's log that are worth reading at a failure: errors first, then
// what was written last.
func (r *runner) around() []device.LogLine {
	_ = r.readLog()
	var errs, lines []device.LogLine
	for _, l := range slices.Backward(r.log) {
		if l.App != r.o.App {
			continue
		}
		l.AtMS -= r.first.Milliseconds()
		l.Text = clipLine(l.Text)
		if l.Level == "error" && len(errs) < maxAround/2 {
			errs = append(errs, l)
		} else if len(lines) < maxAround {
			lines = append(lines, l)
		}
	}
	slices.Reverse(errs)
	lines = lines[:min(len(lines), maxAround-len(errs))]
	slices.Reverse(lines)
	return append(errs, lines...)
}

const maxAround = 12 // lines of log that a failure tells

func clipLine(s string) string {
	if len(s) <= 300 {
		return s
	}
	return strings.ToValidUTF8(s[:300], "") + "…"
}
