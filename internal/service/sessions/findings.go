package sessions

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"slices"
	"strings"

	"yamato/internal/blob"
	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/plain"
	"yamato/internal/core/remedy"
	"yamato/internal/core/script"
	"yamato/internal/core/states"
	"yamato/internal/core/verdict"
	"yamato/internal/report"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
	kept "yamato/internal/store/sessions"
)

// NewFinding is a finding to be written down: of an entry of a session, or of a failed case of a run.
type NewFinding struct {
	Title, Note         string
	Session, Lease, Seq int64
	Run, Leg            int64
	Case                int
	Marks               []kept.Drawn
}

// Bounds of what is written down with a finding.
const (
	wayBack   = 25 // steps
	logAround = 5000
	logBefore = 12 // lines, where fewer were written then
	maxAround = 80 // lines
	maxMarks  = 50
)

// AddFinding writes down something that should be mended. Everybody of the project may read it: that is what it is
// for.
func (s *Part) AddFinding(ctx context.Context, c base.Caller, in NewFinding, key string) (kept.Finding, error) {
	wish, err := base.Wished(c, "finding", key, in)
	if err != nil {
		return kept.Finding{}, err
	}
	f := kept.Finding{ProjectID: c.ProjectID, Title: strings.TrimSpace(in.Title), Note: in.Note, FoundBy: c.Name,
		Marks: pg.JSON[[]kept.Drawn]{V: in.Marks}}
	if f.Title == "" {
		return f, base.Invalid("a finding has a title", "say in a few words what should be mended")
	}
	if err := checkMarks(in.Marks); err != nil {
		return f, err
	}
	switch {
	case in.Session > 0:
		err = s.ofSession(ctx, c, in, &f)
	case in.Run > 0:
		err = s.ofRun(ctx, c, in, &f)
	default:
		err = base.Invalid("it does not say where it was seen", "name an entry of a session, or a failed case of a run")
	}
	if err != nil {
		return f, err
	}
	number, err := s.Store.AddFinding(ctx, f, wish)
	if err != nil {
		return f, base.Granted(err)
	}
	return s.Store.FindingNumbered(ctx, c.ProjectID, number)
}

func checkMarks(list []kept.Drawn) error {
	within := func(v float64) bool { return v >= 0 && v <= 1 }
	for _, m := range list {
		if !slices.Contains([]string{"arrow", "box", "words"}, m.Kind) || !within(m.X) || !within(m.Y) ||
			!within(m.ToX) ||
			!within(m.ToY) || len(m.Text) > 800 {
			return base.Invalid("a mark is an arrow, a box or words, at parts of the picture from 0 to 1",
				"draw it anew")
		}
	}
	if len(list) > maxMarks {
		return base.Invalid(fmt.Sprintf("a picture takes at most %d marks", maxMarks), "draw fewer")
	}
	return nil
}

func (s *Part) ofSession(ctx context.Context, c base.Caller, in NewFinding, f *kept.Finding) error {
	one, list, err := s.SessionEntries(ctx, c, in.Session)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(e kept.Entry) bool { return e.Lease == in.Lease && e.Seq == in.Seq })
	if at < 0 {
		return base.NotFound(fmt.Sprintf("session %d has no such entry", in.Session),
			remedy.Say("%s lists what it has", remedy.SessionShow))
	}
	e := list[at]
	if e.MediaType == "image/png" {
		f.Picture = e.Digest
	}
	f.SessionID, f.LeaseID, f.Seq = &one.ID, &e.Lease, &e.Seq
	facts := kept.Facts{Build: one.Build, Device: one.Device, Language: one.Language, Surroundings: feltAt(list[:at+1],
		e)}
	if one.Facts != nil {
		facts.Model, facts.OS = one.Facts.V.Model, one.Facts.V.OS
		facts.Circumstances = json.RawMessage(pg.Encode(one.Facts.V))
	}
	if one.Pack != nil {
		facts.App = one.Pack.V.ApplicationID
	}
	for i := at; i >= 0 && len(facts.Way) < wayBack && list[i].Lease == e.Lease; i-- {
		facts.Way = append(facts.Way, slices.Clone(list[i].Lines.V)...)
		if list[i].Kind == "did" && len(list[i].Lines.V) == 0 { // no line does the same: it is told in words
			facts.Way = append(facts.Way, "// "+list[i].Text)
		}
	}
	slices.Reverse(facts.Way)
	if facts.Log, err = s.logNear(ctx, one.ID, e.AtMS); err != nil {
		return err
	}
	f.Facts.V = facts
	return nil
}

// feltAt tells what the device was made to feel at an entry.
func feltAt(list []kept.Entry, e kept.Entry) []string {
	var scene struct {
		Felt []struct{ Words string }
	}
	var out []string
	for i := len(list) - 1; i >= 0; i-- { // what was written down with it, or else with the last that was before
		if list[i].Lease == e.Lease && list[i].Detail != nil && json.Unmarshal(*list[i].Detail, &scene) == nil &&
			scene.Felt != nil {
			for _, f := range scene.Felt {
				out = append(out, "it "+f.Words)
			}
			break
		}
	}
	return out
}

// logNear gives the lines of a session's log around a moment, and at least the last few before it:
// what somebody marks may have happened a while ago.
func (s *Part) logNear(ctx context.Context, session, at int64) ([]string, error) {
	var out []string
	early := 0 // of those, how many were written long before
	err := s.eachLine(ctx, session, func(l device.LogLine) bool {
		if l.AtMS <= at+logAround/2 {
			if l.AtMS < at-logAround {
				if early++; len(out) == logBefore {
					out, early = out[1:], early-1
				}
			} else if early > 0 && len(out)-early >= logBefore {
				out, early = out[early:], 0
			}
			out = append(out, fmt.Sprintf("%9.3f %-5s %s: %s", float64(l.AtMS)/1000, l.Level, l.Tag,
				plain.Clip(l.Text, 500)))
		}
		return l.AtMS <= at+logAround
	})
	if n := len(out); n > maxAround {
		out = out[n-maxAround:]
	}
	return out, err
}

// eachLine goes through a session's log, until visit gives false.
func (s *Part) eachLine(ctx context.Context, session int64, visit func(device.LogLine) bool) error {
	pieces, err := s.Store.LogPieces(ctx, session)
	if err != nil {
		return err
	}
	for _, p := range pieces {
		f, err := s.Blobs.Open(ctx, p.Digest)
		if err != nil {
			return err
		}
		more, err := eachLineOf(f, visit)
		_ = f.Close()
		if err != nil || !more {
			return err
		}
	}
	return nil
}

func eachLineOf(r io.Reader, visit func(device.LogLine) bool) (more bool, err error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var l device.LogLine
		if json.Unmarshal(lines.Bytes(), &l) == nil && !visit(l) {
			return false, nil
		}
	}
	return true, lines.Err()
}

// SessionLog writes a session's log, as lines of JSON or as text.
func (s *Part) SessionLog(ctx context.Context, c base.Caller, number int64, asText bool, w io.Writer) error {
	one, err := s.Session(ctx, c, number)
	if err != nil {
		return err
	}
	var failed error
	err = s.eachLine(ctx, one.ID, func(l device.LogLine) bool {
		if asText {
			_, failed = fmt.Fprintf(w, "%9.3f %-5s %s: %s\n", float64(l.AtMS)/1000, l.Level, l.Tag, l.Text)
		} else {
			var body []byte
			if body, failed = json.Marshal(l); failed == nil {
				_, failed = w.Write(append(body, '\n'))
			}
		}
		return failed == nil
	})
	if err == nil {
		err = failed
	}
	return err
}

// Kept opens what an entry of a session keeps.
func (s *Part) Kept(ctx context.Context, c base.Caller, number, lease, seq int64) (kept.Entry, blob.File, error) {
	one, err := s.Session(ctx, c, number)
	if err != nil {
		return kept.Entry{}, nil, err
	}
	e, err := s.Store.EntryAt(ctx, one.ID, lease, seq)
	if err == nil && e.Digest == "" {
		err = pg.ErrNone
	}
	if err != nil {
		return e, nil, base.NotThere(err, remedy.Say("%s lists what it has", remedy.SessionShow), "session %d keeps nothing there",
			number)
	}
	f, err := s.Blobs.Open(ctx, e.Digest)
	return e, f, err
}

// ofRun fills a finding in from a failed case of a run.
func (s *Part) ofRun(ctx context.Context, c base.Caller, in NewFinding, f *kept.Finding) error {
	failed, err := s.failedCase(ctx, c, in.Run, in.Leg, in.Case)
	if err != nil {
		return err
	}
	id, err := s.Store.RunID(ctx, c.ProjectID, in.Run)
	if err != nil {
		return err
	}
	f.RunID = &id
	facts := kept.Facts{Device: failed.attempt.Device, Model: failed.leg.Model, OS: failed.leg.OS, Build: failed.build}
	for _, l := range failed.leg.Levels.V {
		facts.Surroundings = append(facts.Surroundings, l.Factor+" "+l.Value)
	}
	facts.Way = failed.lines
	if c := failed.attempt.Circumstances; len(c) > 0 && string(c) != "null" {
		facts.Circumstances = c
	}
	for _, e := range failed.evidence {
		switch {
		case e.Sort == evidence.Picture.Name && e.Name == script.FailurePicture:
			f.Picture = e.Digest
		case e.Sort == evidence.Log.Name && e.Size < 8<<20:
			if facts.Log, err = s.endOf(ctx, e.Digest); err != nil {
				return err
			}
		}
	}
	f.Facts.V = facts
	return nil
}

// endOf gives the last lines of a log.
func (s *Part) endOf(ctx context.Context, digest string) ([]string, error) {
	file, err := s.Blobs.Open(ctx, digest)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	body, err := io.ReadAll(file)
	lines := strings.Split(strings.TrimRight(string(body), "\n"), "\n")
	if n := len(lines); n > maxAround/2 {
		lines = lines[n-maxAround/2:]
	}
	for i := range lines {
		lines[i] = plain.Clip(lines[i], 600)
	}
	return lines, err
}

// failure is a case of a run that failed, with the attempt that shows it.
type failure struct {
	leg      store.Leg
	attempt  store.Attempt // none of one that never had a lease
	evidence []store.Evidence
	lines    []string // of script, up to the one that failed
	line     int
	step     string
	build    string
	app      string
	version  string
	name     string
}

// failedCase finds the last attempt at a case that did not pass.
func (s *Part) failedCase(ctx context.Context, c base.Caller, run, leg int64, index int) (failure, error) {
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, run)
	if err != nil {
		return failure{}, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", run)
	}
	legs, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return failure{}, err
	}
	at := slices.IndexFunc(legs, func(l store.Leg) bool { return l.ID == leg })
	if at < 0 || !slices.Contains(legs[at].Cases, index) || index >= len(legs[at].CaseNames.V) {
		return failure{}, base.NotFound(fmt.Sprintf("run %d has no case %d in a leg %d", run, index, leg),
			"open it from the run's page")
	}
	f := failure{leg: legs[at], build: r.App + " " + r.VersionName, app: r.App, version: r.VersionName,
		name: legs[at].CaseNames.V[index].Name}
	results, err := s.Store.CrossingResults(ctx, leg, index)
	if err != nil {
		return f, err
	}
	var last *store.Result
	for i, one := range results {
		if v := verdict.Verdict(one.Verdict); v == verdict.Fail || v == verdict.Error {
			last = &results[i]
		}
	}
	if last == nil {
		return f, base.Invalid(fmt.Sprintf("%q did not fail there", f.name), "choose a case that failed")
	}
	var steps []script.StepRecord
	if err := json.Unmarshal(last.Steps, &steps); err != nil {
		return f, fmt.Errorf("reading the steps of %q: %w", f.name, err)
	}
	for _, step := range steps {
		if step.Verdict != string(verdict.Pass) {
			f.line, f.step = step.Line, step.Text
			break
		}
		f.lines = append(f.lines, step.Text)
	}
	attempts, err := s.Store.LegAttempts(ctx, leg)
	if err != nil {
		return f, err
	}
	for _, a := range attempts {
		if a.Lease == last.LeaseID {
			f.attempt = a
		}
	}
	all, err := s.Store.CrossingEvidence(ctx, r.ID, leg, index)
	f.evidence = slices.DeleteFunc(all, func(e store.Evidence) bool { return e.LeaseID != last.LeaseID })
	return f, err
}

// Findings lists them, newest first.
func (s *Part) Findings(ctx context.Context, c base.Caller, q, state string, session, cursor int64,
	limit int) ([]kept.Finding, int64, error) {
	list, err := s.Store.Findings(ctx, c.ProjectID, q, state, session, cursor, limit)
	var next int64
	if len(list) == limit {
		next = list[limit-1].Number
	}
	return list, next, err
}

// Finding gives one.
func (s *Part) Finding(ctx context.Context, c base.Caller, number int64) (kept.Finding, error) {
	f, err := s.Store.FindingNumbered(ctx, c.ProjectID, number)
	return f, base.NotThere(err, remedy.Say("%s lists them", remedy.FindingList), "there is no finding %d", number)
}

// FindingWords are what may be changed of a finding; nil leaves it as it is.
type FindingWords struct {
	Title, Note, State, MendedIn *string
	Marks                        *[]kept.Drawn
}

// ChangeFinding changes it.
func (s *Part) ChangeFinding(ctx context.Context, c base.Caller, number int64, in FindingWords) (kept.Finding, error) {
	f, err := s.Finding(ctx, c, number)
	if err != nil {
		return f, err
	}
	if in.Title != nil {
		if f.Title = strings.TrimSpace(*in.Title); f.Title == "" {
			return f, base.Invalid("a finding has a title", "say in a few words what should be mended")
		}
	}
	if in.Note != nil {
		f.Note = *in.Note
	}
	if in.Marks != nil {
		if err := checkMarks(*in.Marks); err != nil {
			return f, err
		}
		f.Marks.V = *in.Marks
	}
	if in.State != nil {
		was := f.State
		if f.State = states.Finding(*in.State); f.State != was && !states.Findings.May(was, f.State) {
			return f, base.Invalid(fmt.Sprintf("a finding is open, mended or no fault, not %q",
				plain.Clip(*in.State, 40)), "")
		}
		f.MendedIn = nil
	}
	if in.MendedIn != nil && *in.MendedIn != "" {
		app, _, _ := strings.Cut(f.Facts.V.Build, " ")
		b, err := s.builds.BuildNamed(ctx, c, app, *in.MendedIn)
		if err != nil {
			return f, err
		}
		f.State, f.MendedIn = "mended", &b.ID
	}
	if f.State == "mended" && f.MendedIn == nil {
		return f, base.Invalid("it does not say in which build it was mended", "name the build, by number or version")
	}
	f.ChangedBy = c.Name
	if err := s.Store.ChangeFinding(ctx, f); err != nil {
		return f, err
	}
	return s.Finding(ctx, c, number)
}

// FindingPicture gives its picture as a PNG, with what was drawn on it or without.
func (s *Part) FindingPicture(ctx context.Context, c base.Caller, number int64, unmarked bool) ([]byte, error) {
	f, err := s.Finding(ctx, c, number)
	if err != nil {
		return nil, err
	}
	return s.pictureOf(ctx, f, unmarked)
}

// maxPicture bounds a picture that is drawn on, in pixels.
const maxPicture = 40_000_000

func (s *Part) pictureOf(ctx context.Context, f kept.Finding, unmarked bool) ([]byte, error) {
	if f.Picture == "" {
		return nil, base.NotFound(fmt.Sprintf("finding %d has no picture", f.Number), "")
	}
	file, err := s.Blobs.Open(ctx, f.Picture)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	body, err := io.ReadAll(io.LimitReader(file, 64<<20))
	if err != nil || unmarked || len(f.Marks.V) == 0 {
		return body, err
	}
	size, err := png.DecodeConfig(bytes.NewReader(body))
	if err != nil || size.Width*size.Height > maxPicture {
		return body, nil // it is shown as it came
	}
	img, err := png.Decode(bytes.NewReader(body))
	if err != nil {
		return body, nil
	}
	var out bytes.Buffer
	err = png.Encode(&out, draw(img, f.Marks.V))
	return out.Bytes(), err
}

// FindingFile writes a finding as Markdown with its pictures, in a zip.
func (s *Part) FindingFile(ctx context.Context, c base.Caller, number int64, w io.Writer) error {
	f, err := s.Finding(ctx, c, number)
	if err != nil {
		return err
	}
	z := zip.NewWriter(w)
	name := fmt.Sprintf("finding-%d", f.Number)
	text, err := z.Create(name + "/" + name + ".md")
	if err != nil {
		return err
	}
	if _, err := io.WriteString(text, report.Finding(handedOn(f))); err != nil {
		return err
	}
	if f.Picture != "" {
		for file, unmarked := range map[string]bool{"marked.png": false, "plain.png": true} {
			if unmarked && len(f.Marks.V) == 0 {
				continue
			}
			body, err := s.pictureOf(ctx, f, unmarked)
			if err != nil {
				return err
			}
			p, err := z.Create(name + "/" + file)
			if err != nil {
				return err
			}
			if _, err := p.Write(body); err != nil {
				return err
			}
		}
	}
	return z.Close()
}

// handedOn is a finding as it is handed on.
func handedOn(f kept.Finding) report.Found {
	v := f.Facts.V
	return report.Found{Number: f.Number, Session: f.Session, Run: f.Run, Title: f.Title, State: string(f.State), Note: f.Note,
		FoundBy: f.FoundBy, Mended: f.Mended, At: f.At, Build: v.Build, App: v.App, Device: v.Device, Model: v.Model, OS: v.OS,
		Language: v.Language, Surroundings: v.Surroundings, Way: v.Way, Log: v.Log, Marked: f.Picture != ""}
}
