package script

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/verdict"
)

// runner carries out one case.
type runner struct {
	ctx       context.Context // of the case, as a runner is
	suite     *Suite
	device    device.Device
	o         Options
	rec       Recorder
	hidden    *Mask
	first     time.Duration // when it began
	limitFrom time.Duration // from when its limit is counted
	ran       int           // steps that were carried out
	steps     []StepRecord
	at        Phase
	way       []Place // calls of actions that are under way
	values    map[string]amount.Value
	gave      *amount.Value // what the action that is under way has given back
	branch    bool          // what the last `if` decided
	expecting bool          // an expectation or a condition is being judged, and nothing is to be acted on
	undecided string        // why that was decided by nothing, "" where it was not
	wanted    amount.Value  // what the condition that was judged last wanted, as it came out
	wantedOf  Value         // of which of its values that is; nil for none yet
	matched   map[string]bool
	looked    map[string]bool // locators that the step under way has looked for
	found     []*screen.Node  // by the step that is under way, or that was last
	felt      feelings        // what the case has made the device feel
	levels    []Level         // the same, in the order in which it did; of a trial's line
	usual     feelings        // what came before all has
	unless    []keptPicture   // that are kept unless the case passes
	log       []device.LogLine
	seen      map[Seen]bool
	sighted   []Seen

	rememberedAt uint64
	lastTree     *screen.Tree
	language     string        // of the device, as last seen
	started      time.Duration // when the app was last started, -1 for not yet
	build        *string       // the one that is installed, as Play has it
	startedBy    time.Duration // when that had been done
	away         bool          // the app was stopped
	opening      bool          // the app has been opened in this case, and was seen to feel what it is to
	settling     *screen.Settling
	idle         int    // calls in a row that brought neither a change nor time
	idleAt       uint64 // the revision then
	app          string // in front once the case had begun
	note         string // on the step that is under way
	doubted      string // what it found nothing by, as nothing ever had
}

// stop ends a case.
type stop struct {
	failure Failure
	err     error // of the device
}

// tell has a failure say what was expected, unless it is of another kind than that.
func (s *stop) tell(expected string) {
	if s.failure.Expected == "" || s.failure.Cause == Contradicted && s.err == nil {
		s.failure.Expected = expected
	}
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
	now := d.Now()
	return &runner{ctx: ctx, suite: s, device: d, o: o, rec: rec, first: now, limitFrom: now, started: -1,
		values: map[string]amount.Value{}, matched: map[string]bool{}, looked: map[string]bool{}, seen: map[Seen]bool{},
		hidden: NewMask(o.Secrets, o.Accounts), steps: []StepRecord{}, settling: screen.NewSettling(now)}
}

// block carries out statements one after the other, until one gives a value back.
func (r *runner) block(b *Block) *stop {
	for _, st := range b.Steps {
		if stopped := r.step(st); stopped != nil || r.gave != nil {
			return stopped
		}
	}
	return nil
}

func (r *runner) step(st Statement) *stop {
	if t, ok := st.(*Times); ok { // its steps are records of their own
		for range t.Count {
			if stopped := r.block(t.Body); stopped != nil || r.gave != nil {
				return stopped
			}
		}
		return nil
	}
	b := st.base()
	at := r.device.Now()
	r.note, r.doubted, r.found = "", "", nil
	clear(r.looked)
	// What actions do stands after the step that calls them.
	place := len(r.steps)
	r.steps = append(r.steps, StepRecord{File: b.Pos.File, Line: b.Pos.Line, Depth: len(r.way), Phase: r.at,
		Text: r.mask(b.Text),
		AtMS: (at - r.first).Milliseconds()})
	stopped := st.run(r)
	r.ran++
	if why := unsure(r.found); why != "" && stopped == nil {
		r.note = joinWords(r.note, "not sure: "+why)
	} else if why != "" {
		stopped.failure.Actual = joinWords(stopped.failure.Actual, "not sure: "+why)
	}
	if ran := r.device.Now() - r.limitFrom; stopped == nil && (ran >= r.o.CaseLimit || r.ran >= maxRan) {
		stopped = r.stop(st, OutOfTime, r.endInTime(), fmt.Sprintf("it has run for %s, %d steps", short(ran), r.ran))
		r.keepFailure(stopped, nil)
	}
	record := &r.steps[place]
	record.TookMS, record.Verdict = (r.device.Now() - at).Milliseconds(), string(verdict.Pass)
	record.Note, record.Absent = r.mask(r.note), r.doubted
	if _, calls := callOf(st); !calls {
		record.Locators = slices.Sorted(maps.Keys(r.looked))
	}
	if stopped != nil {
		record.Verdict, record.Note = string(outcomes[stopped.failure.Cause]), r.mask(stopped.failure.Actual)
		r.finish(stopped, at, record.Locators)
	}
	r.remember(r.lastTree)
	r.rec.Step(*record)
	if i, ok := st.(*If); ok && stopped == nil {
		if chosen := i.chosen(r.branch); chosen != nil {
			return r.block(chosen)
		}
	}
	return stopped
}

// unsure says of what a step rests on why a person may see it otherwise, "" where nothing speaks for that.
func unsure(nodes []*screen.Node) string {
	for _, n := range nodes {
		if n.Unsure != "" {
			return screen.Describe(n) + ": " + n.Unsure
		}
	}
	return ""
}

// callOf is the action that a statement calls.
func callOf(st Statement) (*Call, bool) {
	switch st := st.(type) {
	case *Call:
		return st, true
	case *Let:
		return st.Call, st.Call != nil
	}
	return nil, false
}

// finish adds to a failure what is known where it came about: the step in the action and the way
// there, the values of names, the log.
func (r *runner) finish(s *stop, at time.Duration, locators []string) {
	f := &s.failure
	if f.Way != nil { // it was told by the step itself, in an action
		return
	}
	f.Way = slices.Clone(r.way)
	if f.Way == nil {
		f.Way = []Place{}
	}
	f.Values, f.Locators, f.AtMS = r.named(), locators, (at - r.first).Milliseconds()
	f.Log = r.around()
	r.hidden.failure(f)
}

// act notes that the device was acted on, unless err came of it.
func (r *runner) act(st Statement, err error) *stop {
	if err != nil {
		return r.trouble(st, err)
	}
	r.settling.Acted(r.device.Now())
	if _, ok := st.(*StartApp); ok {
		r.startedBy = r.settling.Acts
	}
	return nil
}

// stop ends the case at a statement.
func (r *runner) stop(st Statement, cause Cause, expected, actual string) *stop {
	b := st.base()
	return &stop{failure: Failure{Cause: cause, File: b.Pos.File, Line: b.Pos.Line, Column: b.Pos.Column,
		Step:  r.mask(b.Text),
		Phase: r.at, Expected: expected, Actual: actual,
		QuietMS: (r.device.Now() - r.settling.Any).Milliseconds(), Settled: true}}
}

// trouble tells an app's crash from everything else that a device may report.
func (r *runner) trouble(st Statement, err error) *stop {
	var crash *device.Crash
	var refused *device.Refusal
	switch {
	case errors.As(err, &crash):
		stopped := r.stop(st, Crashed, "the app to keep running", "it crashed: "+r.mask(crash.Reason))
		stopped.failure.Report = r.mask(crash.Report)
		r.keepFailure(stopped, nil)
		return stopped
	case errors.As(err, &refused):
		stopped := r.stop(st, Unusable, "it to take what it is given", r.mask(refused.Why))
		r.keepFailure(stopped, nil)
		return stopped
	case errors.Is(err, device.ErrNoAbility):
		return r.stop(st, NoAbility, "a device that can do this", err.Error())
	}
	stopped := r.stop(st, Trouble, "the device to do as told", r.mask(err.Error()))
	stopped.err = err
	return stopped
}

// FailurePicture names the picture that is kept where a case ends.
const FailurePicture = "failure"

// keepFailure keeps the picture with the places marked, and the tree.
func (r *runner) keepFailure(s *stop, marks []screen.Rect) {
	tree, _ := r.device.Tree(r.ctx)
	if p, err := r.device.Picture(r.ctx); err == nil {
		r.rec.Picture(FailurePicture, p, r.hidden.Tree(tree), marks, screen.Rect{})
	}
}

// maxMarked bounds the elements that a failure marks.
const maxMarked = 20

// mark tells which elements a failure is about, and keeps the picture with them marked.
func (r *runner) mark(s *stop, nodes []*screen.Node) {
	var marks []screen.Rect
	for i, n := range nodes[:min(len(nodes), maxMarked)] {
		marks = append(marks, n.Visible)
		s.failure.Candidates = append(s.failure.Candidates, Candidate{i + 1, n.Role, n.ID, r.mask(n.Label()), n.Bounds})
	}
	r.keepFailure(s, marks)
}

func short(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}
