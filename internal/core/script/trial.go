package script

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/script/token"
)

// Trial carries out lines of script one at a time, on an app as it stands: nothing is
// started for them. What a line names, later ones may use.
type Trial struct{ r *runner }

// Tried is how a line went.
type Tried struct {
	Steps   []StepRecord
	Failure *Failure       // nil where it did as it says
	Found   []*screen.Node // what its last step acted on or looked at
	Named   string         // what it gave a value, as in "total = 6.3"
	Felt    []Level        // what it made the device feel
	Err     error          // of the device
}

// Level is a level of a surrounding that a step has a device feel.
type Level struct {
	Of    *feel.Surrounding
	Level string
}

// NewTrial begins one.
func NewTrial(d device.Device, o Options, rec Recorder) *Trial {
	return &Trial{newRunner(context.Background(), &Suite{KeepApp: true}, d, o, rec)}
}

// Line carries out a line, or a block, in the app of an id. It gives findings, and does nothing, where
// that cannot be read.
func (t *Trial) Line(ctx context.Context, app, line string) (Tried, []Finding) {
	head := "suite \"by hand\"\nbefore each\n"
	for _, name := range slices.Sorted(maps.Keys(t.r.values)) {
		if !strings.Contains(name, ".") {
			head += "let " + name + " = 0\n"
		}
	}
	head += "end\ncase \"line\"\n"
	suite, findings := Read(head + line + "\nend\n")
	shift := strings.Count(head, "\n")
	findings = slices.DeleteFunc(findings, func(f Finding) bool { return f.Advice })
	for i := range findings {
		findings[i].Pos.Line -= shift
	}
	if len(findings) > 0 {
		return Tried{}, findings
	}
	if len(suite.Cases) != 1 || len(suite.Cases[0].Body.Steps) == 0 {
		return Tried{}, []Finding{{Pos: Pos{Line: 1, Column: 1}, Length: 1, Line: line, Rule: token.Form,
			Message: "there is no step to carry out", Hint: `write one, such as: tap "Continue"`}}
	}
	r := t.r
	now := r.device.Now()
	r.ctx, r.o.App, r.first, r.limitFrom, r.ran, r.steps, r.found = ctx, app, now, now, 1, []StepRecord{}, nil
	r.settling, r.app, r.levels = screen.NewSettling(r.device.Now()), "", nil
	stopped := r.block(suite.Cases[0].Body)
	out := Tried{Steps: r.steps, Found: r.found, Felt: r.levels}
	for i := range out.Steps {
		out.Steps[i].Line -= shift
	}
	if stopped != nil {
		stopped.failure.Line -= shift
		out.Failure, out.Err = &stopped.failure, stopped.err
	}
	if last, ok := suite.Cases[0].Body.Steps[len(suite.Cases[0].Body.Steps)-1].(naming); ok && stopped == nil {
		for _, name := range last.names() {
			out.Named = fmt.Sprintf("%s = %s", name, r.quotedPlain(r.values[name]))
		}
	}
	return out, nil
}

// Undo takes back what lines made the device feel of a surrounding.
func (t *Trial) Undo(ctx context.Context, of *feel.Surrounding) error {
	undo := t.r.felt.undo[of.Name]
	if undo == nil {
		return nil
	}
	t.r.ctx = ctx
	return undo()
}

// quotedPlain writes a value as it is, with what is to be hidden hidden.
func (r *runner) quotedPlain(v amount.Value) string { return r.mask(v.String()) }
