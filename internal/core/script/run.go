package script

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/screen"
	"yamato/internal/core/verdict"
)

// Defaults of what Options leaves at zero, in device time.
const (
	DefaultPatience  = 8 * time.Second
	DefaultCaseLimit = 5 * time.Minute
	// DefaultQuiet is how long nothing has to change before a screen counts as
	// settled where nothing says that it is busy.
	DefaultQuiet = 300 * time.Millisecond
	// lastLook is for how long an app is looked at after the last action of a case, before
	// that is called passed; it is looked at for DefaultQuiet after the last step at least.
	lastLook = time.Second
)

// Options are the circumstances of a case.
type Options struct {
	Patience  time.Duration // where neither step nor suite says otherwise
	CaseLimit time.Duration
	Quiet     time.Duration
	// Known tells whether a locator, in canonical form, had matched in this app before the
	// run began.
	Known func(locator string) bool
}

// Result is one case as it went.
type Result struct {
	Verdict verdict.Verdict `json:"verdict"`
	TookMS  int64           `json:"took_ms"` // device time
	Steps   []StepRecord    `json:"steps"`
	Failure *Failure        `json:"failure,omitempty"`
	Matched []string        `json:"matched,omitempty"` // locators that matched, in canonical form
	Err     error           `json:"-"`                 // of the device, where it kept the case from being judged
}

// Failure says why a case did not pass, in the order in which people ask.
type Failure struct {
	Cause      Cause       `json:"cause"`
	Line       int         `json:"line"`
	Column     int         `json:"column"`
	Step       string      `json:"step"`
	Expected   string      `json:"expected"`
	Actual     string      `json:"actual"`
	WaitedMS   int64       `json:"waited_ms"`            // device time
	QuietMS    int64       `json:"quiet_ms"`             // since when nothing had changed
	PendingMS  int64       `json:"pending_ms,omitempty"` // for how long the app's answer had been awaited
	Settled    bool        `json:"settled"`              // false: the screen was still changing, or an answer awaited
	Candidates []Candidate `json:"candidates,omitempty"`
	Obstacle   string      `json:"obstacle,omitempty"`
	Report     string      `json:"report,omitempty"` // the system's crash report
}

// Sentence is the failure in one line.
func (f Failure) Sentence() string {
	return fmt.Sprintf("line %d: expected %s, but %s", f.Line, f.Expected, f.Actual)
}

// Candidate is an element that a locator may have meant.
type Candidate struct {
	Number int         `json:"number"` // as on the picture
	Role   string      `json:"role"`
	ID     string      `json:"id,omitempty"`
	Label  string      `json:"label,omitempty"`
	Bounds screen.Rect `json:"bounds"`
}

// Cause is what kind of thing went wrong.
type Cause string

// The causes, and outcomes the verdict of each: the table of docs/script.md.
const (
	Contradicted Cause = "contradicted"  // the screen contradicts the expectation
	Awaited      Cause = "awaited"       // the app's answer was still awaited when patience ended
	Unusable     Cause = "unusable"      // there, but hidden, covered or disabled
	Missing      Cause = "missing"       // not there, though it has been before
	NeverMatched Cause = "never_matched" // nothing has ever matched the locator
	Ambiguous    Cause = "ambiguous"     // several match where one is needed
	NotANumber   Cause = "not_a_number"  // a number is asked of something that shows none
	Crashed      Cause = "crashed"       // the app died or stopped answering
	OutOfTime    Cause = "out_of_time"   // past the case's own limit
	Trouble      Cause = "trouble"       // device, host, link or site
	NoAbility    Cause = "no_ability"    // the device cannot do this
)

// Same reports whether a cause would be met again on any device of the class: it is the
// script's own, so that trying again elsewhere is of no use.
func (c Cause) Same() bool {
	return c == NeverMatched || c == Ambiguous || c == NoAbility
}

var outcomes = map[Cause]verdict.Verdict{
	Contradicted: verdict.Fail,
	Awaited:      verdict.Fail,
	Unusable:     verdict.Fail,
	Missing:      verdict.Fail,
	NeverMatched: verdict.Error,
	Ambiguous:    verdict.Error,
	NotANumber:   verdict.Fail,
	Crashed:      verdict.Fail,
	OutOfTime:    verdict.Fail,
	Trouble:      verdict.Error,
	NoAbility:    verdict.Error,
}

// RunCase runs one case of a suite on a device and judges it. It gives a result
// whatever happens; a cancelled ctx counts as trouble.
func RunCase(ctx context.Context, s *Suite, c *Case, d Device, o Options, rec Recorder) Result {
	r := newRunner(s, d, o, rec)
	if lacks := missing(s.Needs(c), d.Abilities()); len(lacks) > 0 {
		return Result{Verdict: verdict.Skip, Steps: []StepRecord{}, Failure: &Failure{Cause: NoAbility, Line: c.Pos.Line, Column: c.Pos.Column,
			Step: c.Name, Expected: "a device that can do `" + strings.Join(lacks, "`, `") + "`", Actual: "this one cannot"}}
	}
	stopped := r.open(ctx, c)
	for _, body := range [][]Statement{s.BeforeEach, c.Body} {
		for _, st := range body {
			if stopped != nil {
				break
			}
			stopped = r.step(ctx, st)
		}
	}
	took := d.Now() - r.began
	if stopped == nil {
		stopped = r.lookOnceMore(ctx, c)
	}
	result := Result{Verdict: verdict.Pass, TookMS: took.Milliseconds(), Steps: r.steps, Matched: r.matched}
	if stopped != nil {
		result.Verdict, result.Failure, result.Err = outcomes[stopped.failure.Cause], &stopped.failure, stopped.err
	}
	return result
}

func missing(needs, have []string) []string {
	return slices.DeleteFunc(slices.Compact(slices.Sorted(slices.Values(needs))), func(n string) bool { return slices.Contains(have, n) })
}

type runner struct {
	suite   *Suite
	device  Device
	o       Options
	rec     Recorder
	began   time.Duration
	steps   []StepRecord
	values  map[string]value
	matched []string

	settling *settling
	idle     int    // calls in a row that brought neither a change nor time
	idleAt   uint64 // the revision then
	app      string // in front once the case had begun
	note     string // on the step that is under way
	doubted  string // what it found nothing by, as nothing ever had
}

// stop ends a case.
type stop struct {
	failure Failure
	err     error // of the device
}

func newRunner(s *Suite, d Device, o Options, rec Recorder) *runner {
	if s.Patience > 0 {
		o.Patience = s.Patience
	}
	if o.Patience <= 0 {
		o.Patience = DefaultPatience
	}
	if o.CaseLimit <= 0 {
		o.CaseLimit = DefaultCaseLimit
	}
	if o.Quiet <= 0 {
		o.Quiet = DefaultQuiet
	}
	if o.Known == nil {
		o.Known = func(string) bool { return false }
	}
	return &runner{suite: s, device: d, o: o, rec: rec, began: d.Now(), values: map[string]value{}, steps: []StepRecord{},
		settling: newSettling(d.Now())}
}

// open starts the app afresh, unless the case's own first step does, or the
// suite goes on in what the case before left.
func (r *runner) open(ctx context.Context, c *Case) *stop {
	first := append(slices.Clone(r.suite.BeforeEach), c.Body...)
	if len(first) > 0 {
		if start, ok := first[0].(*StartApp); ok {
			if !r.suite.KeepApp {
				start.Fresh = true
			}
			return nil
		}
	}
	how := Fresh
	if r.suite.KeepApp {
		how = Resume
	}
	if err := r.device.Start(ctx, how); err != nil {
		return r.trouble(ctx, &StartApp{Step: Step{Pos: c.Pos, Text: "start app"}}, err)
	}
	r.acted()
	return nil
}

func (r *runner) acted() { r.settling.acted(r.device.Now()) }

func (r *runner) step(ctx context.Context, st Statement) *stop {
	b := st.base()
	at := r.device.Now()
	r.note, r.doubted = "", ""
	stopped := r.do(ctx, st)
	if stopped == nil && r.device.Now()-r.began >= r.o.CaseLimit {
		stopped = r.stop(st, OutOfTime, r.endInTime(), fmt.Sprintf("it has run for %s", short(r.device.Now()-r.began)))
		r.keepFailure(ctx, stopped, nil)
	}
	record := StepRecord{Line: b.Pos.Line, Text: b.Text, AtMS: (at - r.began).Milliseconds(), TookMS: (r.device.Now() - at).Milliseconds(), Verdict: string(verdict.Pass), Note: r.note, Absent: r.doubted}
	if stopped != nil {
		record.Verdict, record.Note = string(outcomes[stopped.failure.Cause]), stopped.failure.Actual
	}
	r.steps = append(r.steps, record)
	r.rec.Step(record)
	return stopped
}

func (r *runner) do(ctx context.Context, st Statement) *stop {
	switch s := st.(type) {
	case *StartApp:
		how := Resume
		if s.Fresh {
			how = Fresh
		}
		return r.act(ctx, st, r.device.Start(ctx, how))
	case *Tap:
		return r.tap(ctx, st, s.Element)
	case *Fill:
		return r.fill(ctx, s)
	case *Type:
		return r.typeKeys(ctx, s)
	case *Press:
		return r.press(ctx, s)
	case *Let:
		v, stopped := r.valueWhenSettled(ctx, st, s.Value)
		if stopped == nil {
			r.values[s.Name] = v
		}
		return stopped
	case *TakePicture:
		return r.picture(ctx, s)
	case *ExpectShown:
		return r.expectShown(ctx, s)
	case *ExpectShows:
		return r.expectShows(ctx, s)
	case *ExpectCount:
		return r.expectCount(ctx, s)
	case *ExpectNumber:
		return r.expectNumber(ctx, s)
	}
	return r.stop(st, Trouble, "a step that this version knows", fmt.Sprintf("it is a %T", st))
}

func (r *runner) act(ctx context.Context, st Statement, err error) *stop {
	if err != nil {
		return r.trouble(ctx, st, err)
	}
	r.acted()
	return nil
}

// stop ends the case at a statement.
func (r *runner) stop(st Statement, cause Cause, expected, actual string) *stop {
	b := st.base()
	return &stop{failure: Failure{Cause: cause, Line: b.Pos.Line, Column: b.Pos.Column, Step: b.Text, Expected: expected, Actual: actual,
		QuietMS: (r.device.Now() - r.settling.any).Milliseconds(), Settled: true}}
}

// trouble tells an app's crash from everything else that a device may report.
func (r *runner) trouble(ctx context.Context, st Statement, err error) *stop {
	var crash *Crash
	switch {
	case errors.As(err, &crash):
		stopped := r.stop(st, Crashed, "the app to keep running", "it crashed: "+crash.Reason)
		stopped.failure.Report = crash.Report
		r.keepFailure(ctx, stopped, nil)
		return stopped
	case errors.Is(err, errNoAbility):
		return r.stop(st, NoAbility, "a device that can do this", err.Error())
	}
	stopped := r.stop(st, Trouble, "the device to do as told", err.Error())
	stopped.err = err
	return stopped
}

// FailurePicture names the picture that is kept where a case ends.
const FailurePicture = "failure"

// keepFailure keeps the picture with the places marked, and the tree.
func (r *runner) keepFailure(ctx context.Context, s *stop, marks []screen.Rect) {
	tree, _ := r.device.Tree(ctx)
	if p, err := r.device.Picture(ctx); err == nil {
		r.rec.Picture(FailurePicture, p, tree, marks, screen.Rect{})
	}
}

// lookOnceMore sees whether the app outlives the last step of a case: what it was told
// by it has been answered, or patience has ended, and some time has passed since.
func (r *runner) lookOnceMore(ctx context.Context, c *Case) *stop {
	last := Statement(&StartApp{Step: Step{Pos: c.Pos, Text: "start app"}})
	for _, body := range [][]Statement{r.suite.BeforeEach, c.Body} {
		if len(body) > 0 {
			last = body[len(body)-1]
		}
	}
	from := r.device.Now()
	until := max(from+r.o.Quiet, r.settling.acts+lastLook)
	for {
		tree, err := r.device.Tree(ctx)
		now := r.device.Now()
		if err == nil && now >= until && (!tree.Busy || now >= from+r.o.Patience) {
			return nil
		}
		if err == nil {
			if now >= until {
				until = from + r.o.Patience
			}
			err = r.pass(ctx, tree.Revision, until)
		}
		if err != nil {
			stopped := r.trouble(ctx, last, err)
			stopped.failure.Actual += ", after the last step"
			return stopped
		}
	}
}

// find resolves an element to what is on the screen, and remembers what matched.
func (r *runner) find(e Element, t *screen.Tree) (screen.Locator, []*screen.Node) {
	l := r.locator(e)
	nodes := l.Find(t)
	for p := &e; p != nil; p = p.In {
		if !slices.Contains(r.matched, p.Text) && (p == &e && len(nodes) > 0 || p != &e && len(r.locator(*p).Find(t)) > 0) {
			r.matched = append(r.matched, p.Text)
		}
	}
	return l, nodes
}

func (r *runner) locator(e Element) screen.Locator {
	l := screen.Locator{ID: e.ID, Role: e.Role, Ordinal: e.Ordinal, Label: r.match(e.Label), Called: r.match(e.Called)}
	if e.In != nil {
		in := r.locator(*e.In)
		l.In = &in
	}
	return l
}

func (r *runner) match(w *Wanted) screen.Match {
	switch {
	case w == nil:
		return screen.Match{}
	case w.Pattern != nil:
		return screen.Match{Pattern: w.Pattern}
	}
	return screen.Match{Text: r.text(*w.Text)}
}

func (r *runner) text(t Template) string {
	var b strings.Builder
	for _, p := range t.Parts {
		if p.Variable != "" {
			b.WriteString(r.values[p.Variable].String())
		} else {
			b.WriteString(p.Text)
		}
	}
	return b.String()
}

func short(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}
