// Package checklists has people go through lists by hand. What they say is a run beside the automated ones: its legs
// are of the same combinations, and never go to a device by themselves.
package checklists

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/checklist"
	"yamato/internal/core/evidence"
	"yamato/internal/core/remedy"
	"yamato/internal/core/script"
	"yamato/internal/core/states"
	"yamato/internal/core/verdict"
	"yamato/internal/service/base"
	"yamato/internal/service/dispatch"
	"yamato/internal/service/runs"
	"yamato/internal/store"
	"yamato/internal/store/pg"
	"yamato/internal/store/sessions"
)

// Part is these use cases.
type Part struct {
	*base.Base
	runs *runs.Part
}

// New gives them.
func New(b *base.Base, runs *runs.Part) *Part { return &Part{b, runs} }

// Checklists gives the newest version of each.
func (s *Part) Checklists(ctx context.Context, c base.Caller) ([]store.Checklist, error) {
	return s.Store.Checklists(ctx, c.ProjectID)
}

// SaveChecklist keeps a checklist under its title; another text is another version.
func (s *Part) SaveChecklist(ctx context.Context, c base.Caller, text string) (store.Checklist, error) {
	list, err := checklist.Read(text)
	if err != nil {
		var f *checklist.Fault
		hint := "docs/by-hand.md shows one"
		if errors.As(err, &f) && f.Hint != "" {
			hint = f.Hint
		}
		return store.Checklist{}, base.Invalid("this is no checklist: "+err.Error(), hint)
	}
	info, err := s.Put(ctx, strings.NewReader(text), "", checklist.MaxSize)
	if err != nil {
		return store.Checklist{}, err
	}
	in := store.Suite{Name: list.Title, Digest: info.Digest, FileName: "checklist.md", Tried: true}
	in.Locators.V = []string{}
	for _, i := range list.Items {
		in.Cases.V = append(in.Cases.V, store.CaseName{Name: i.Name(), Tags: []string{}})
	}
	revision, _, err := s.Store.AddSuite(ctx, c.ProjectID, in, nil)
	if err != nil {
		return store.Checklist{}, err
	}
	if err := s.Store.AddChecklist(ctx, c.ProjectID, store.Checklist{Name: list.Title, Text: text, Digest: info.Digest,
		SavedBy: c.Name, Revision: revision.ID}); err != nil {
		return store.Checklist{}, err
	}
	return s.named(ctx, c, list.Title)
}

func (s *Part) named(ctx context.Context, c base.Caller, name string) (store.Checklist, error) {
	all, err := s.Store.Checklists(ctx, c.ProjectID)
	if err != nil {
		return store.Checklist{}, err
	}
	at := slices.IndexFunc(all, func(l store.Checklist) bool { return strings.EqualFold(l.Name, name) })
	if at < 0 {
		return store.Checklist{}, base.NotFound(fmt.Sprintf("there is no checklist %q", name),
			remedy.Say("%s lists them", remedy.ChecklistList))
	}
	return all[at], nil
}

// StartChecklist makes a run of a checklist, over devices as any run.
func (s *Part) StartChecklist(ctx context.Context, c base.Caller, name string, in runs.Order, key string) (store.Run, error) {
	list, err := s.named(ctx, c, name)
	if err != nil {
		return store.Run{}, err
	}
	in.Suites, in.Checklist = []string{list.Digest}, list.Name
	return s.runs.StartRun(ctx, c, in, key)
}

// ChecklistRuns gives the runs that people go through now.
func (s *Part) ChecklistRuns(ctx context.Context, c base.Caller) ([]store.Run, error) {
	return s.Store.ByHand(ctx, c.ProjectID)
}

// Mark is what a person says of one thing.
type Mark struct {
	Verdict, Note       string
	Session, Lease, Seq int64 // of a picture that a session kept
}

// MarkCase keeps what a person says of one thing on one combination, in place of what was said before. With the last
// thing the leg is finished, and with the last leg the run.
func (s *Part) MarkCase(ctx context.Context, c base.Caller, run, leg int64, index int, in Mark) error {
	v := verdict.Verdict(in.Verdict)
	in.Note = strings.TrimSpace(in.Note)
	switch {
	case v != verdict.Pass && v != verdict.Fail && v != verdict.Skip:
		return base.Invalid(fmt.Sprintf("a thing is pass, fail or skip, not %q", base.Short(in.Verdict, 40)),
			"choose one of them")
	case v == verdict.Skip && in.Note == "":
		return base.Invalid("what is skipped says why", "add a note")
	case len(in.Note) > 2000:
		return base.Invalid("a note has at most 2000 bytes", "shorten it")
	}
	picture, err := s.picture(ctx, c, in)
	if err != nil {
		return err
	}
	err = s.Store.InTx(ctx, func(t *store.Tx) error {
		g, err := t.Legs.LockHandLeg(ctx, c.ProjectID, run, leg)
		if err != nil {
			return base.NotThere(err, "list the run's legs", "run %d has no leg %d", run, leg)
		}
		switch {
		case g.Checklist == "":
			return base.Invalid(fmt.Sprintf("run %d is carried out by machines", run), "start a run of a checklist")
		case g.State != "running":
			return base.Invalid(fmt.Sprintf("this leg is %s; what was said of it stands", g.State),
				"start the checklist again")
		case !slices.Contains(g.Cases, index):
			return base.NotFound(fmt.Sprintf("the checklist has no thing %d", index), "they count from 0")
		}
		return keep(ctx, t.Legs, g, c.Name, index, v, in.Note, picture)
	})
	if err == nil {
		s.Bell.Ring()
	}
	return err
}

// picture gives the picture that a mark refers to, nil where it does to none.
func (s *Part) picture(ctx context.Context, c base.Caller, in Mark) (*sessions.Entry, error) {
	if in.Session == 0 {
		return nil, nil
	}
	one, err := s.Store.SessionNumbered(ctx, c.ProjectID, c.Name, in.Session)
	if err != nil {
		return nil, base.NotThere(err, remedy.Say("%s lists the sessions that you may see", remedy.SessionList),
			"there is no session %d", in.Session)
	}
	e, err := s.Store.EntryAt(ctx, one.ID, in.Lease, in.Seq)
	if err == nil && e.MediaType != evidence.Picture.MediaType {
		err = pg.ErrNone
	}
	return &e, base.NotThere(err, "keep a picture in the session first", "session %d has no such picture", in.Session)
}

func keep(ctx context.Context, t store.Legs, g store.HandLeg, who string, index int, v verdict.Verdict, note string,
	picture *sessions.Entry) error {
	was, err := t.TakeMark(ctx, g.ID, index)
	if err != nil {
		return err
	}
	result := store.NewResult{ProjectID: g.ProjectID, Lease: -g.ID, RunID: g.RunID, LegID: g.ID, Case: index,
		Verdict: string(v),
		Steps:   []script.StepRecord{{Text: "looked at by " + who, Verdict: string(v), Note: note}}}
	if v != verdict.Pass {
		result.Sentence = base.Short(who+": "+note, 500)
		result.Failure = script.Failure{Cause: script.Contradicted, Expected: "what the checklist says", Actual: note,
			Settled: true}
	}
	if err := t.AddResults(ctx, []store.NewResult{result}); err != nil {
		return err
	}
	if picture != nil {
		if err := t.AddEvidence(ctx, []store.NewEvidence{{ProjectID: g.ProjectID, RunID: g.RunID, Lease: -g.ID,
			Case: index,
			Sort: evidence.Picture.Name, Name: picture.Text, MediaType: picture.MediaType, Digest: picture.Digest,
			Size: picture.Size}}); err != nil {
			return err
		}
	}
	news := store.RunEvents{Run: g.RunID, Events: []any{dispatch.Event{Kind: "result", Leg: g.ID, Case: &index,
		Verdict:  string(v),
		Sentence: result.Sentence}}}
	fails := func(v string) int {
		if v == string(verdict.Fail) {
			return 1
		}
		return 0
	}
	news.Fails = fails(string(v)) - fails(was)
	if was == "" {
		news.Results = 1
	}
	said, err := t.LegResults(ctx, []int64{g.ID})
	if err != nil {
		return err
	}
	if len(said) == len(g.Cases) {
		n, err := t.Change(ctx, []store.LegChange{{Leg: g.ID, From: states.LegRunning, To: states.LegFinished, Todo: g.Cases}})
		if err != nil {
			return err
		}
		news.Legs = n
		news.Events = append(news.Events, dispatch.Event{Kind: "leg", Leg: g.ID, State: "finished"})
	}
	return dispatch.AppendAndClose(ctx, t.Runs, map[int64]int64{g.RunID: g.ProjectID}, []store.RunEvents{news})
}
