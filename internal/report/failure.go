package report

import (
	"encoding/json"
	"fmt"
	"strings"

	"yamato/internal/contract"
	"yamato/internal/core/script"
)

// Failure is what a case failed with, as every report tells it.
type Failure struct{ script.Failure }

// FailureOf reads the failure of a result; ok tells whether it has one.
func FailureOf(r contract.Result) (f Failure, ok bool) {
	if r.Failure == nil {
		return f, false
	}
	body, err := json.Marshal(*r.Failure)
	return f, err == nil && json.Unmarshal(body, &f.Failure) == nil
}

// Line is a line of what is told of a failure. Faint is for what matters less.
type Line struct {
	Label, Text string
	Faint       bool
}

// How much of a crash report and of a log is told.
const (
	maxReport = 8
	maxLog    = 6
)

// Lines tells a failure in the order in which people ask: the step and the way there, what was
// expected and what was there, how long it waited, what values had, the log around it. It is the
// same in every report.
func (f Failure) Lines() []Line {
	var out []Line
	say := func(label, format string, args ...any) {
		out = append(out, Line{label, fmt.Sprintf(format, args...), false})
	}
	step := fmt.Sprintf("%s: %s", lineOf(f.File, f.Line), f.Step)
	if f.Phase != "" {
		step += fmt.Sprintf(" (%s)", f.Phase)
	}
	if f.Line > 0 || f.Step != "" {
		say("step", "%s", step)
	}
	for i := len(f.Way) - 1; i >= 0; i-- {
		say("called", "%s: %s", lineOf(f.Way[i].File, f.Way[i].Line), f.Way[i].Text)
	}
	say("expected", "%s", f.Expected)
	say("but", "%s", f.Actual)
	if len(f.Difference) > 0 {
		say("differs", "%s", plainDifference(f.Difference))
	}
	if f.WaitedMS > 0 {
		since := fmt.Sprintf("nothing had changed for %.1f s", float64(f.QuietMS)/1000)
		if f.PendingMS > 0 {
			since = fmt.Sprintf("an answer had been awaited for %.1f s", float64(f.PendingMS)/1000)
		}
		say("waited", "%.1f s; %s", float64(f.WaitedMS)/1000, since)
	}
	if len(f.Values) > 0 {
		var list []string
		for _, v := range f.Values {
			list = append(list, fmt.Sprintf("$%s = %s", v.Name, v.Value))
		}
		say("values", "%s", strings.Join(list, ", "))
	}
	for i, l := range strings.Split(strings.TrimSpace(f.Report), "\n") {
		if i == maxReport || l == "" {
			break
		}
		out = append(out, Line{map[bool]string{true: "report"}[i == 0], l, true})
	}
	for i, l := range f.Log[:min(len(f.Log), maxLog)] {
		out = append(out, Line{map[bool]string{true: "log"}[i == 0],
			fmt.Sprintf("%8.3f %-5s %s: %s", float64(l.AtMS)/1000, l.Level, l.Tag, l.Text), true})
	}
	for _, a := range f.After {
		say("after", "%s", a)
	}
	return out
}

func lineOf(file string, line int) string {
	if file != "" {
		return fmt.Sprintf("%s, line %d", file, line)
	}
	return fmt.Sprintf("line %d", line)
}

// plainDifference marks a difference without colour: what only was expected, and what only was
// there.
func plainDifference(list []script.Piece) string {
	var b strings.Builder
	for _, p := range list {
		switch p.Of {
		case script.OfExpected:
			b.WriteString("[-" + p.Text + "-]")
		case script.OfActual:
			b.WriteString("{+" + p.Text + "+}")
		default:
			b.WriteString(p.Text)
		}
	}
	return b.String()
}

// Text is all lines, one below the other.
func (f Failure) Text() string {
	var b strings.Builder
	for _, l := range f.Lines() {
		fmt.Fprintf(&b, "%-8s %s\n", l.Label, l.Text)
	}
	return b.String()
}
