package link

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf8"

	"yamato/internal/core/plain"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
)

// Bounds on what goes over a link, in bytes as encoded.
const (
	MaxText  = 32 << 10       // of one text
	MaxEvent = 1 << 20        // of one event
	MaxBatch = MaxMessage / 4 // of the events of one message
)

// Decode reads a message as it enters: every text of it is plain and bounded after that.
// Only a message that may hold another is gone through: what is no UTF-8 is replaced by
// whoever reads JSON, and no text is longer than its message.
func Decode(body []byte, into any) error {
	if err := json.Unmarshal(body, into); err != nil {
		return fmt.Errorf("a message that cannot be read: %w", err)
	}
	if len(body) > MaxText || bytes.Contains(body, []byte(`\u0000`)) || bytes.Contains(body, []byte(`\ud`)) ||
		bytes.Contains(body, []byte(`\uD`)) || !utf8.Valid(body) {
		plain.Deep(into, MaxText)
	}
	return nil
}

// Weight is about how many bytes a lease takes as encoded.
func (l *Lease) Weight() int {
	n := 6000
	if l.Attempt == nil {
		return n
	}
	n += 8 * len(l.Attempt.Cases)
	n += 8000 * len(l.Attempt.Updates)
	for _, k := range l.Attempt.Known {
		n += 4 + len(k) + 5*(strings.Count(k, "<")+strings.Count(k, ">")+strings.Count(k, "&")) + strings.Count(k, `"`)
	}
	return n
}

func refsWeight(list []EvidenceRef) (n int) {
	for _, r := range list {
		n += 250 + len(r.Facts)
	}
	return n
}

// Weight is about how many bytes an event takes, told without encoding it.
func (e *Event) Weight() int {
	n := 200 + refsWeight(e.Evidence)
	if e.Began != nil {
		n += len(e.Began.Circumstances)
	}
	if e.Finished != nil {
		n += len(e.Finished.Trouble)
	}
	if e.Entry != nil {
		n += e.Entry.weight()
	}
	if e.Step != nil {
		n += stepWeight(e.Step.Step)
	}
	if c := e.Case; c != nil {
		n += 200 + refsWeight(c.Evidence) + 300*len(c.NotKept)
		for _, s := range c.Steps {
			n += stepWeight(s)
		}
		for _, m := range c.Matched {
			n += len(m) + 3
		}
		for _, s := range c.Seen {
			n += 74 + len(s.ID) + len(s.Text) + len(s.Role) + len(s.Screen) + len(s.Unsure)
		}
		if f := c.Failure; f != nil {
			n += failureWeight(f)
		}
	}
	return n
}

func stepWeight(s script.StepRecord) int {
	n := 160 + len(s.Text) + len(s.Note) + len(s.File) + len(s.Absent)
	for _, l := range s.Locators {
		n += len(l) + 3
	}
	return n
}

func failureWeight(f *script.Failure) int {
	n := 400 + len(f.Step) + len(f.Expected) + len(f.Actual) + len(f.Obstacle) + len(f.Report) + 200*len(f.Candidates)
	for _, p := range f.Way {
		n += 60 + len(p.File) + len(p.Text)
	}
	for _, v := range f.Values {
		n += 30 + len(v.Name) + len(v.Value)
	}
	for _, l := range f.Log {
		n += 80 + len(l.Tag) + len(l.Text)
	}
	for _, p := range f.Difference {
		n += 30 + len(p.Text)
	}
	for _, s := range append(append([]string{}, f.After...), f.Locators...) {
		n += len(s) + 3
	}
	return n
}

// Fit cuts an event down until it takes no more than MaxEvent bytes, and gives how many
// it takes. What goes first is what matters least; what cannot be made to fit becomes an
// error that says so.
func (e *Event) Fit() (int, error) {
	size, err := e.size()
	if err != nil || size <= MaxEvent {
		return size, err
	}
	plain.Deep(e, MaxText)
	cuts := []func(){
		func() { plain.Deep(e, 2000) },
		func() { e.cutMatched(1000); e.cutSeen() },
		func() {
			if e.Entry != nil {
				e.Entry.Detail = nil
			}
		},
		func() { e.cutSteps(1000, 300) },
		func() { e.cutEvidence(500) },
		func() { e.cutSteps(200, 100); e.cutMatched(0); e.cutEvidence(100); plain.Deep(e, 300) },
		e.giveUp,
	}
	for _, cut := range cuts {
		cut()
		if size, err = e.size(); err != nil || size <= MaxEvent {
			return size, err
		}
	}
	return size, fmt.Errorf("an event of %d bytes is over the %d that are taken", size, MaxEvent)
}

// size encodes only what is not known to be too large already.
func (e *Event) size() (int, error) {
	w := e.Weight()
	if w > MaxEvent || 6*w < MaxEvent { // no byte takes more than six once encoded
		return w, nil
	}
	return SizeOf(e)
}

// cutSeen leaves out what screens had on them, and the locators of steps: they only help.
func (e *Event) cutSeen() {
	if e.Case == nil {
		return
	}
	e.Case.Seen = nil
	for i := range e.Case.Steps {
		e.Case.Steps[i].Locators = nil
	}
}

func (e *Event) cutMatched(keep int) {
	if e.Case != nil && len(e.Case.Matched) > keep {
		e.Case.Matched = e.Case.Matched[:keep]
	}
}

// cutSteps keeps the first and the last steps, and says how many are left out.
func (e *Event) cutSteps(keep, text int) {
	if e.Case == nil || len(e.Case.Steps) <= keep {
		return
	}
	steps := e.Case.Steps
	kept := append(steps[:keep/2:keep/2], steps[len(steps)-keep/2:]...)
	kept[keep/2].Note = fmt.Sprintf("%d steps before this one are left out", len(steps)-len(kept))
	for i := range kept {
		kept[i].Text, kept[i].Note = plain.Text(kept[i].Text, text), plain.Text(kept[i].Note, text)
	}
	e.Case.Steps = kept
}

func (e *Event) cutEvidence(keep int) {
	if e.Case != nil && len(e.Case.Evidence) > keep {
		e.Case.Evidence = e.Case.Evidence[:keep]
	}
	if len(e.Evidence) > keep {
		e.Evidence = e.Evidence[:keep]
	}
}

func (e *Event) giveUp() {
	const why = "what was to be said of this is larger than can be kept"
	switch {
	case e.Case != nil:
		failure := e.Case.Failure
		e.Case = &CaseClosed{Case: e.Case.Case, Verdict: e.Case.Verdict, TookMS: e.Case.TookMS}
		if failure != nil {
			failure.Candidates, failure.Report = nil, ""
			e.Case.Failure = failure
		} else if e.Case.Verdict != string(verdict.Pass) {
			e.Case.Verdict = string(verdict.Error)
		}
	case e.Began != nil:
		e.Began.Circumstances, _ = json.Marshal(map[string]string{"left_out": why})
	case e.Clean != nil:
		e.Clean.Condition = nil
	}
}
