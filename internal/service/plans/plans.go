// Package plans keeps plans, tries them, and starts them: at their moments, on builds that arrive,
// after other plans, and when people ask. Each reason to start one is a row before it is a run, so
// that it is one run whatever dies in between, and tells why where it is none.
package plans

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plan"
	"yamato/internal/core/remedy"
	"yamato/internal/core/states"
	"yamato/internal/service/base"
	"yamato/internal/service/runs"
	"yamato/internal/store"
	"yamato/internal/store/pg"
	kept "yamato/internal/store/plans"
)

// Part is these use cases.
type Part struct {
	*base.Base
	runs *runs.Part
	read readings
}

// New gives them.
func New(b *base.Base, runs *runs.Part) *Part { return &Part{Base: b, runs: runs} }

// maxPlans bounds the plans of a project.
const maxPlans = 1000

const howWritten = "docs/plans.md says how a plan is written"

// Standing is a plan with how it stands: what starts it, when next, and how it went lately.
type Standing struct {
	kept.Plan
	About  string
	Starts []string
	Next   *time.Time
	Late   []kept.Start // the newest first
	Broken string       // why its text cannot be read by this version, "" where it can
	Lacks  string       // why it could not be started now, "" where it could
}

// SavePlan keeps a plan under the name that stands in it; another text is another revision.
func (s *Part) SavePlan(ctx context.Context, c base.Caller, text string) (Standing, error) {
	p, _, err := plan.Read(text)
	if err != nil {
		return Standing{}, base.Invalid(err.Error(), howWritten)
	}
	if a := p.When.After; a != nil {
		if _, err := s.Store.PlanNamed(ctx, c.ProjectID, a.Plan); err != nil {
			return Standing{}, base.NotThere(err, remedy.Say("save that plan first, or name another: %s", remedy.PlanList),
				"there is no plan %q to start after", a.Plan)
		}
	}
	saved, err := s.Store.SavePlan(ctx, kept.Plan{ProjectID: c.ProjectID, Name: p.Name, App: p.App, Text: text,
		SavedBy: c.Name}, maxPlans)
	if errors.Is(err, pg.ErrNone) {
		return Standing{}, base.Invalid(fmt.Sprintf("a project has at most %d plans", maxPlans),
			remedy.Say("remove one: %s", remedy.PlanRemove))
	}
	if err != nil {
		return Standing{}, err
	}
	s.Bell.Ring()
	return s.standing(saved, nil, time.Now()), nil
}

// Plans gives the plans by name.
func (s *Part) Plans(ctx context.Context, c base.Caller) ([]Standing, error) {
	list, err := s.Store.AllPlans(ctx, c.ProjectID)
	if err != nil {
		return nil, err
	}
	late, err := s.Store.LateStarts(ctx, c.ProjectID, 12)
	out := []Standing{}
	for i, p := range list {
		one := s.standing(p, late[p.ID], time.Now())
		if i < maxLacking {
			one.Lacks = s.lacks(ctx, c, p)
		}
		out = append(out, one)
	}
	return out, err
}

// maxLacking bounds the plans of a list of which it is looked for whether they could be started; of each it is on its
// own page.
const maxLacking = 200

// lacks tells why a plan could not be started now.
func (s *Part) lacks(ctx context.Context, c base.Caller, p kept.Plan) string {
	one := s.read.of(p)
	if one.err != nil || p.Paused {
		return ""
	}
	var problem *base.Problem
	if err := s.runs.Lacking(ctx, c, one.plan); errors.As(err, &problem) {
		return problem.Title
	}
	return "" // what could not be asked is not said of the plan
}

// Plan gives one.
func (s *Part) Plan(ctx context.Context, c base.Caller, name string) (Standing, error) {
	p, err := s.named(ctx, c, name)
	if err != nil {
		return Standing{}, err
	}
	late, err := s.Store.StartsOf(ctx, p.ID, 0, 12)
	out := s.standing(p, late, time.Now())
	out.Lacks = s.lacks(ctx, c, p)
	return out, err
}

func (s *Part) named(ctx context.Context, c base.Caller, name string) (kept.Plan, error) {
	p, err := s.Store.PlanNamed(ctx, c.ProjectID, name)
	return p, base.NotThere(err, remedy.Say("%s lists the plans; %s keeps one", remedy.PlanList, remedy.PlanSave),
		"there is no plan %q", name)
}

func (s *Part) standing(p kept.Plan, late []kept.Start, now time.Time) Standing {
	out := Standing{Plan: p, Late: late, Starts: []string{}}
	read, moments, err := plan.Read(p.Text)
	if err != nil {
		out.Broken = err.Error()
		return out
	}
	out.About, out.Starts = read.About, append(out.Starts, read.Starts(moments)...)
	if next := moments.Next(now); !p.Paused && !next.IsZero() {
		out.Next = &next
	}
	return out
}

// RemovePlan takes a plan off the list; its runs and its history stay.
func (s *Part) RemovePlan(ctx context.Context, c base.Caller, name string, anyway bool) error {
	if err := s.Spare(ctx, c, base.NeedsPlan, name, anyway); err != nil {
		return err
	}
	err := s.Store.RemovePlan(ctx, c.ProjectID, name)
	if err == nil {
		s.Bell.Ring()
	}
	return base.NotThere(err, remedy.Say("%s lists the plans", remedy.PlanList), "there is no plan %q", name)
}

// PausePlan has a plan start nothing by itself, or again do so from now on.
func (s *Part) PausePlan(ctx context.Context, c base.Caller, name string, paused bool) (Standing, error) {
	p, err := s.named(ctx, c, name)
	if err != nil {
		return Standing{}, err
	}
	if err := s.Store.PausePlan(ctx, p.ID, paused); err != nil {
		return Standing{}, err
	}
	s.Bell.Ring()
	return s.Plan(ctx, c, name)
}

// PlanRevisions gives the versions of a plan, the newest first.
func (s *Part) PlanRevisions(ctx context.Context, c base.Caller, name string) ([]kept.Revision, error) {
	p, err := s.named(ctx, c, name)
	if err != nil {
		return nil, err
	}
	return s.Store.PlanRevisions(ctx, p.ID, 200)
}

// PlanHistory gives the starts of a plan, the newest first, before an id.
func (s *Part) PlanHistory(ctx context.Context, c base.Caller, name string, before int64, limit int) (list []kept.Start,
	next *int64, err error) {
	p, err := s.named(ctx, c, name)
	if err != nil {
		return nil, nil, err
	}
	list, err = s.Store.StartsOf(ctx, p.ID, before, limit+1)
	if len(list) > limit {
		list, next = list[:limit], &list[limit-1].ID
	}
	return list, next, err
}

// Changes are what is other than in the plan, for one run. What is empty stays.
type Changes struct {
	Build        string         `json:"build,omitempty"`
	Lineup       string         `json:"lineup,omitempty"`
	Devices      []string       `json:"devices,omitempty"`
	Suites       []string       `json:"suites,omitempty"`
	Tags         []string       `json:"tags,omitempty"`
	Cover        string         `json:"cover,omitempty"`
	Combinations int            `json:"combinations,omitempty"`
	Minutes      int            `json:"minutes,omitempty"`
	Seed         uint64         `json:"seed,omitempty"`
	Keep         evidence.Rules `json:"keep,omitempty"` // over what the plan keeps, for this run alone
}

// Words say what is other.
func (ch Changes) Words() []string {
	_, words := ch.apply(plan.Plan{})
	return words
}

// apply gives the plan with the changes, and them in words.
func (ch Changes) apply(p plan.Plan) (plan.Plan, []string) {
	words := []string{}
	say := func(what, is string) { words = append(words, what+" "+is) }
	if ch.Build != "" {
		say("build", ch.Build)
	}
	if ch.Lineup != "" {
		p.Lineup, p.Devices = ch.Lineup, nil
		say("lineup", ch.Lineup)
	}
	if len(ch.Devices) > 0 {
		p.Devices, p.Lineup = ch.Devices, cmp.Or(ch.Lineup, "")
		say("devices", strings.Join(ch.Devices, ", "))
	}
	if len(ch.Suites) > 0 {
		p.Suites = ch.Suites
		say("suites", strings.Join(ch.Suites, ", "))
	}
	if len(ch.Tags) > 0 {
		p.Tags = ch.Tags
		say("tags", strings.Join(ch.Tags, ", "))
	}
	if ch.Cover != "" {
		p.Cover = ch.Cover
		say("cover", ch.Cover)
	}
	if ch.Combinations > 0 {
		p.Budget.Combinations = ch.Combinations
		say("budget", fmt.Sprintf("%d combinations", ch.Combinations))
	}
	if ch.Minutes > 0 {
		p.Budget.Minutes = ch.Minutes
		say("budget", fmt.Sprintf("%d device-minutes", ch.Minutes))
	}
	if ch.Seed != 0 {
		p.Seed = ch.Seed
		say("seed", fmt.Sprint(ch.Seed))
	}
	for _, rule := range ch.Keep.Words() {
		say("keep", rule)
	}
	return p, words
}

// Trial is what a plan comes to now.
type Trial struct {
	runs.Prepared
	Plan    *plan.Plan
	Next    []time.Time // the next five starts
	Starts  []string
	Changed []string
}

// TryPlan tells what a plan comes to now, saved by name or as a text, without starting it.
func (s *Part) TryPlan(ctx context.Context, c base.Caller, name, text string, ch Changes) (Trial, error) {
	in := runs.Planned{}
	if text == "" {
		p, err := s.named(ctx, c, name)
		if err != nil {
			return Trial{}, err
		}
		text, in.ID, in.Revision = p.Text, p.ID, p.Revision
	}
	read, moments, err := plan.Read(text)
	if err != nil {
		return Trial{}, base.Invalid(err.Error(), howWritten)
	}
	if in.ID == 0 { // what a plan of this name has run lately counts
		if p, err := s.Store.PlanNamed(ctx, c.ProjectID, read.Name); err == nil {
			in.ID = p.ID
		}
	}
	changed, words := ch.apply(*read)
	if fault := changed.Grid.Check(); fault != nil {
		return Trial{}, base.Invalid(fault.Message, fault.Hint)
	}
	in.Plan, in.Build, in.Changed, in.Keep = &changed, ch.Build, words, ch.Keep
	out := Trial{Plan: &changed, Changed: words, Starts: read.Starts(moments)}
	if out.Prepared, err = s.runs.Prepare(ctx, c, in); err != nil {
		var p *base.Problem
		if errors.As(err, &p) && p.Hint.IsZero() {
			p.Hint = remedy.Plain(howWritten)
		}
		return out, err
	}
	out.Next = moments.Between(time.Now(), time.Now().Add(9*366*24*time.Hour), 5)
	return out, nil
}

// StartPlan starts a plan now, with changes for this one run. key makes it one start, however often
// the call is made.
func (s *Part) StartPlan(ctx context.Context, c base.Caller, name string, ch Changes, key string) (store.Run, error) {
	p, err := s.named(ctx, c, name)
	if err != nil {
		return store.Run{}, err
	}
	body, err := json.Marshal(ch)
	if err != nil {
		return store.Run{}, err
	}
	if len(key) > 200 {
		return store.Run{}, base.Invalid("an idempotency key has at most 200 characters", "")
	}
	start := kept.Start{Key: "hand " + cmp.Or(key, uuid.NewString()), Reason: "hand", Due: time.Now(), State: states.StartDue,
		AskedBy: c.Name}
	start.Changed.V = body
	// whether it can be started is seen first: what cannot leaves nothing behind
	trial, err := s.TryPlan(ctx, c, name, "", ch)
	if err != nil {
		return store.Run{}, err
	}
	if err := s.Store.NoteStarts(ctx, p, time.Time{}, []kept.Start{start}); err != nil {
		return store.Run{}, err
	}
	noted, err := s.Store.StartKeyed(ctx, p.ID, start.Key)
	if err != nil {
		return store.Run{}, err
	}
	if noted.State == states.StartDue {
		if err := s.told(ctx, p, noted)(s.runs.StartPrepared(ctx, c, trial.Prepared, keyOf(noted))); err != nil {
			return store.Run{}, err
		}
		if noted, err = s.Store.StartKeyed(ctx, p.ID, start.Key); err != nil {
			return store.Run{}, err
		}
	}
	if noted.Run == nil {
		return store.Run{}, base.Invalid("the plan could not be started: "+noted.Told,
			remedy.Say("%s tells what it comes to", remedy.PlanTry))
	}
	return s.Store.RunNumbered(ctx, c.ProjectID, *noted.Run)
}

// MoveStart has one coming start be at another time; those after it stay.
func (s *Part) MoveStart(ctx context.Context, c base.Caller, name string, from, to time.Time) error {
	p, err := s.named(ctx, c, name)
	if err != nil {
		return err
	}
	_, moments, err := plan.Read(p.Text)
	if err != nil {
		return base.Invalid(err.Error(), howWritten)
	}
	from, to = from.UTC().Truncate(time.Second), to.UTC().Truncate(time.Minute)
	key := atKey(from)
	if noted, err := s.Store.StartsBetween(ctx, c.ProjectID, from, from.Add(time.Second), maxEntries); err != nil {
		return err
	} else if at := slices.IndexFunc(noted, func(n kept.Start) bool {
		return n.PlanID == p.ID && moved(n) &&
			n.State == states.StartDue
	}); at >= 0 {
		key = noted[at].Key // it was moved before
	} else if !moments.Next(from.Add(-time.Nanosecond)).Equal(from) {
		return base.Invalid(fmt.Sprintf("%s does not start then", p.Name), remedy.Say("%s tells when it does", remedy.PlanCalendar))
	}
	switch now := time.Now(); {
	case !to.After(now):
		return base.Invalid("a start is moved to a time that is to come", remedy.Say("start it now instead: %s", remedy.PlanStart))
	case to.Sub(now) > 370*24*time.Hour:
		return base.Invalid("a start is moved by less than a year", "")
	}
	start := kept.Start{Key: key, Due: to, AskedBy: c.Name}
	if moved(start) { // and not back to where it was
		start.Told = "moved by " + c.Name + " from " + strings.TrimPrefix(key, atPrefix)
	}
	err = s.Store.MoveStart(ctx, p, start)
	if errors.Is(err, pg.ErrNone) {
		return base.Invalid("that start has been", remedy.Say("start the plan now instead: %s", remedy.PlanStart))
	}
	if err == nil {
		s.Bell.Ring()
	}
	return err
}

// Entry is something in the calendar: a start that was, or one that will be.
type Entry struct {
	kept.Start
	At     time.Time
	Coming bool
	Sites  []string // where it runs, or may run

	MovedFrom *time.Time // when it would have been
}

// maxEntries bounds what a calendar tells.
const maxEntries = 2000

// Calendar gives what started and what will start in a span, in order.
func (s *Part) Calendar(ctx context.Context, project int64, from, until time.Time, now time.Time) ([]Entry, error) {
	if until.Sub(from) > 370*24*time.Hour || !from.Before(until) {
		return nil, base.Invalid("a calendar is of a span of up to a year", "choose a shorter one")
	}
	past, err := s.Store.StartsBetween(ctx, project, from, until, maxEntries)
	if err != nil {
		return nil, err
	}
	out := []Entry{}
	for _, p := range past {
		e := Entry{Start: p, At: p.Due, Coming: p.State == states.StartDue && p.Due.After(now)}
		if was, err := time.Parse(time.RFC3339, strings.TrimPrefix(p.Key, atPrefix)); err == nil && moved(p) {
			e.MovedFrom = &was
		}
		out = append(out, e)
	}
	elsewhere, err := s.Store.MovedStarts(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.AllPlans(ctx, project)
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		_, moments, err := plan.Read(p.Text)
		if err != nil || p.Paused {
			continue
		}
		after := from.Add(-time.Nanosecond)
		if now.After(after) {
			after = now
		}
		for _, at := range moments.Between(after, until, 400) {
			if len(out) >= maxEntries {
				break
			}
			if slices.Contains(elsewhere[p.ID], atKey(at)) {
				continue
			}
			out = append(out, Entry{At: at, Coming: true, Start: kept.Start{PlanID: p.ID,
				Plan: p.Name, ProjectID: project, Due: at,
				Reason: "time", State: "coming"}})
		}
	}
	slices.SortStableFunc(out, func(a, b Entry) int { return a.At.Compare(b.At) })
	return out, s.sites(ctx, project, out)
}

// sites says of each entry where it runs: of a run, where it has run; of a plan, where its devices are.
func (s *Part) sites(ctx context.Context, project int64, list []Entry) error {
	var ids []int64
	for _, e := range list {
		if e.RunID != nil {
			ids = append(ids, *e.RunID)
		}
	}
	ran, err := s.Store.SitesOf(ctx, ids)
	if err != nil {
		return err
	}
	planned := map[int64][]string{}
	for i, e := range list {
		if e.RunID != nil && len(ran[*e.RunID]) > 0 {
			list[i].Sites = ran[*e.RunID]
			continue
		}
		if _, known := planned[e.PlanID]; !known && len(planned) < maxPlaced {
			planned[e.PlanID] = s.sitesOfPlan(ctx, project, e.Plan)
		}
		list[i].Sites = planned[e.PlanID]
	}
	return nil
}

// maxPlaced bounds the plans of a calendar that are tried for the sites that they may run at.
const maxPlaced = 40

func (s *Part) sitesOfPlan(ctx context.Context, project int64, name string) []string {
	c := base.Caller{ProjectID: project, Name: base.Automatic}
	t, err := s.TryPlan(ctx, c, name, "", Changes{})
	out := []string{}
	if err != nil {
		return out
	}
	devices, err := s.Candidates(ctx, c)
	if err != nil {
		return out
	}
	for _, d := range devices {
		if d.State == "unready" || d.State == "sidelined" {
			continue
		}
		for _, g := range t.Groups {
			if fleet.ClassOf(d.Device) == g.Combination.Class && !slices.Contains(out, d.Site) &&
				!slices.Contains(g.Never, d.ID) {
				out = append(out, d.Site)
			}
		}
	}
	slices.Sort(out)
	return out
}
