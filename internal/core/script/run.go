package script

import (
	"context"
	"fmt"
	"time"

	"yamato/internal/core/device"
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
	App       string        // id of the app under test
	Patience  time.Duration // where neither step nor suite says otherwise
	CaseLimit time.Duration
	Quiet     time.Duration
	// Known tells whether a locator, in canonical form, had matched in this app before the
	// run began.
	Known func(locator string) bool
	// Words gives a text of the app's own by its key, in a language (BCP 47) or the one nearest
	// to it that the build has; nil where no texts of the build could be read.
	Words    func(key, language string) (string, bool)
	Secrets  map[string]string            // by name
	Accounts map[string]map[string]string // lent to this leg: by name, what each holds by field
	Traits   []string                     // that the device has, beside its abilities
	// Felt is what the device feels in every case; what a case changes of it is undone to this.
	Felt []Felt
	// Given are the variables that a run gives a suite, by name, for those that it says it is given.
	Given map[string]string
	// Opened is called once a case has its app open: whether the device feels what it is made to. Its
	// error is the device's.
	Opened func(ctx context.Context) error
	// Update installs another build of the app over the one that is there, named as the script does;
	// "" puts the run's own build there in place of whatever is.
	Update func(ctx context.Context, build string) error
	// File gives the place on the host of a file that lies beside the suite.
	File func(path string) (string, error)
	// Ask has a person do something. It gives what the person said where that was not that it is
	// done.
	Ask func(ctx context.Context, what string, limit time.Duration) (said string, err error)
}

// Felt is something that a device is made to feel: of a kind, as steps have them (docs/vocabulary.md),
// and how that is done.
type Felt struct {
	Kind string
	Do   func(ctx context.Context) error
}

// Result is one case as it went.
type Result struct {
	Verdict verdict.Verdict  `json:"verdict"`
	TookMS  int64            `json:"took_ms"` // device time
	Steps   []StepRecord     `json:"steps"`
	Failure *Failure         `json:"failure,omitempty"`
	Matched []string         `json:"matched,omitempty"` // locators that matched, in canonical form
	Seen    []Seen           `json:"seen,omitempty"`    // what the app's screens had on them
	Log     []device.LogLine `json:"-"`                 // what was read of the device's log so far
	Err     error            `json:"-"`                 // of the device, where it kept the case from being judged
}

// Failure says why a case did not pass, in the order in which people ask.
type Failure struct {
	Cause      Cause   `json:"cause"`
	Phase      Phase   `json:"phase,omitempty"`
	File       string  `json:"file,omitempty"`
	Line       int     `json:"line"`
	Column     int     `json:"column"`
	Step       string  `json:"step"`
	Way        []Place `json:"way,omitempty"` // the calls of actions that led there, from the case on
	Expected   string  `json:"expected"`
	Actual     string  `json:"actual"`
	Difference []Piece `json:"difference,omitempty"` // between what was expected and what was there
	WaitedMS   int64   `json:"waited_ms"`            // device time
	QuietMS    int64   `json:"quiet_ms"`             // since when nothing had changed
	PendingMS  int64   `json:"pending_ms,omitempty"` // for how long the app's answer had been awaited
	// false: the screen was still changing, or an answer awaited
	Settled    bool        `json:"settled"`
	Candidates []Candidate `json:"candidates,omitempty"`
	Obstacle   string      `json:"obstacle,omitempty"`
	Values     []Named     `json:"values,omitempty"`   // that names had
	Locators   []string    `json:"locators,omitempty"` // that the step looked for
	// the app's, around it: errors first; times since the case began
	Log    []device.LogLine `json:"log,omitempty"`
	AtMS   int64            `json:"at_ms"`            // when the step began, since the case began
	Report string           `json:"report,omitempty"` // the system's crash report
	After  []string         `json:"after,omitempty"`  // what went wrong when it was tidied up
}

// Place is a line of a script.
type Place struct {
	File string `json:"file,omitempty"`
	Line int    `json:"line"`
	Text string `json:"text"`
}

// Sentence is the failure in one line.
func (f Failure) Sentence() string {
	line := fmt.Sprintf("line %d", f.Line)
	if f.File != "" {
		line = fmt.Sprintf("%s, line %d", f.File, f.Line)
	}
	if f.Phase != "" && f.Phase != BeforeEach {
		line = string(f.Phase) + ", " + line
	}
	return fmt.Sprintf("%s: expected %s, but %s", line, f.Expected, f.Actual)
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
	NoValue      Cause = "no_value"      // a name, a key or a secret that has no value
	NotRun       Cause = "not_run"       // its run ended before
)

// Same reports whether a cause would be met again on any device of the class: it is the
// script's own, so that trying again elsewhere is of no use.
func (c Cause) Same() bool {
	return c == NeverMatched || c == Ambiguous || c == NoAbility || c == NoValue
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
	NoValue:      verdict.Error,
	NotRun:       verdict.Skip,
}
