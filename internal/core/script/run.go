package script

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
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
	App       string        // id of the app under test
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
	File       string      `json:"file,omitempty"`
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
func RunCase(ctx context.Context, s *Suite, c *Case, d device.Device, o Options, rec Recorder) Result {
	r := newRunner(ctx, s, d, o, rec)
	if lacks := missing(s.Needs(c), d.Abilities()); len(lacks) > 0 {
		return Result{Verdict: verdict.Skip, Steps: []StepRecord{}, Failure: &Failure{Cause: NoAbility,
			File: c.Pos.File,
			Line: c.Pos.Line, Column: c.Pos.Column,
			Step: c.Name, Expected: "a device that can do `" + strings.Join(lacks, "`, `") + "`",
			Actual: "this one cannot"}}
	}
	bodies := s.bodies(c)
	stopped := r.open(c, edge(bodies, false))
	for _, b := range bodies {
		if stopped == nil {
			stopped = r.block(b)
		}
	}
	took := d.Now() - r.began
	if stopped == nil {
		stopped = r.lookOnceMore(c, edge(bodies, true))
	}
	result := Result{Verdict: verdict.Pass, TookMS: took.Milliseconds(), Steps: r.steps, Matched: r.matched}
	if stopped != nil {
		result.Verdict, result.Failure, result.Err = outcomes[stopped.failure.Cause], &stopped.failure, stopped.err
	}
	return result
}

func missing(needs, have []string) []string {
	return slices.DeleteFunc(slices.Compact(slices.Sorted(slices.Values(needs))), func(n string) bool {
		return slices.Contains(have, n)
	})
}

// runner carries out one case.
type runner struct {
	ctx     context.Context // of the case, as a runner is
	suite   *Suite
	device  device.Device
	o       Options
	rec     Recorder
	began   time.Duration
	ran     int // steps that were carried out
	steps   []StepRecord
	values  map[string]amount.Value
	matched []string
	found   []*screen.Node // by the step that is under way, or that was last

	settling *screen.Settling
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

func newRunner(ctx context.Context, s *Suite, d device.Device, o Options, rec Recorder) *runner {
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
	return &runner{ctx: ctx, suite: s, device: d, o: o, rec: rec, began: d.Now(), values: map[string]amount.Value{},
		steps:    []StepRecord{},
		settling: screen.NewSettling(d.Now())}
}

// opening is the step that no script writes: the app is started for a case.
func opening(c *Case) Statement { return &StartApp{Step: Step{Pos: c.Pos, Text: "start app"}} }

// open starts the app afresh, unless the case's own first step does, or the
// suite goes on in what the case before left.
func (r *runner) open(c *Case, first Statement) *stop {
	if _, ok := first.(*StartApp); ok {
		return nil
	}
	how := device.Fresh
	if r.suite.KeepApp {
		how = device.Resume
	}
	return r.act(opening(c), r.device.Start(r.ctx, r.o.App, how))
}

// block carries out statements one after the other.
func (r *runner) block(b *Block) *stop {
	for _, st := range b.Steps {
		if stopped := r.step(st); stopped != nil {
			return stopped
		}
	}
	return nil
}

func (r *runner) step(st Statement) *stop {
	if inner, ok := st.(bodied); ok && inner.body() != nil { // its steps are records of their own
		return st.run(r)
	}
	b := st.base()
	at := r.device.Now()
	r.note, r.doubted = "", ""
	stopped := st.run(r)
	r.ran++
	if ran := r.device.Now() - r.began; stopped == nil && (ran >= r.o.CaseLimit || r.ran >= maxRan) {
		stopped = r.stop(st, OutOfTime, r.endInTime(), fmt.Sprintf("it has run for %s, %d steps", short(ran), r.ran))
		r.keepFailure(stopped, nil)
	}
	record := StepRecord{File: b.Pos.File, Line: b.Pos.Line, Text: b.Text, AtMS: (at - r.began).Milliseconds(),
		TookMS:  (r.device.Now() - at).Milliseconds(),
		Verdict: string(verdict.Pass), Note: r.note, Absent: r.doubted}
	if stopped != nil {
		record.Verdict, record.Note = string(outcomes[stopped.failure.Cause]), stopped.failure.Actual
	}
	r.steps = append(r.steps, record)
	r.rec.Step(record)
	return stopped
}

// act notes that the device was acted on, unless err came of it.
func (r *runner) act(st Statement, err error) *stop {
	if err != nil {
		return r.trouble(st, err)
	}
	r.settling.Acted(r.device.Now())
	return nil
}

// stop ends the case at a statement.
func (r *runner) stop(st Statement, cause Cause, expected, actual string) *stop {
	b := st.base()
	return &stop{failure: Failure{Cause: cause, File: b.Pos.File, Line: b.Pos.Line, Column: b.Pos.Column, Step: b.Text,
		Expected: expected, Actual: actual,
		QuietMS: (r.device.Now() - r.settling.Any).Milliseconds(), Settled: true}}
}

// trouble tells an app's crash from everything else that a device may report.
func (r *runner) trouble(st Statement, err error) *stop {
	var crash *device.Crash
	switch {
	case errors.As(err, &crash):
		stopped := r.stop(st, Crashed, "the app to keep running", "it crashed: "+crash.Reason)
		stopped.failure.Report = crash.Report
		r.keepFailure(stopped, nil)
		return stopped
	case errors.Is(err, device.ErrNoAbility):
		return r.stop(st, NoAbility, "a device that can do this", err.Error())
	}
	stopped := r.stop(st, Trouble, "the device to do as told", err.Error())
	stopped.err = err
	return stopped
}

// FailurePicture names the picture that is kept where a case ends.
const FailurePicture = "failure"

// keepFailure keeps the picture with the places marked, and the tree.
func (r *runner) keepFailure(s *stop, marks []screen.Rect) {
	tree, _ := r.device.Tree(r.ctx)
	if p, err := r.device.Picture(r.ctx); err == nil {
		r.rec.Picture(FailurePicture, p, tree, marks, screen.Rect{})
	}
}

// lookOnceMore sees whether the app outlives the last step of a case: what it was told
// by it has been answered, or patience has ended, and some time has passed since.
func (r *runner) lookOnceMore(c *Case, last Statement) *stop {
	if last == nil {
		last = opening(c)
	}
	from := r.device.Now()
	until := max(from+r.o.Quiet, r.settling.Acts+lastLook)
	for {
		tree, err := r.device.Tree(r.ctx)
		now := r.device.Now()
		if err == nil && now >= until && (!tree.Busy || now >= from+r.o.Patience) {
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

func short(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}
