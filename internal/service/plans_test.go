package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
	"yamato/internal/core/states"
	"yamato/internal/link"
	"yamato/internal/pgbox/pgtest"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/plans"
	"yamato/internal/store"
	kept "yamato/internal/store/plans"
)

// planText is a plan of the world's suite; more is added to it.
func planText(name, more string) string {
	return "plan: " + name + "\napp: Tideline\nsuites: [Two]\nfactors:\n  language: [en-GB, de-DE]\n" + more
}

func (w *world) savePlan(text string) plans.Standing {
	w.t.Helper()
	p, err := w.service.Plans.SavePlan(context.Background(), w.user, text)
	require.NoError(w.t, err)
	return p
}

func (w *world) starts(name string) []kept.Start {
	w.t.Helper()
	list, _, err := w.service.Plans.PlanHistory(context.Background(), w.user, name, 0, 200)
	require.NoError(w.t, err)
	slices.Reverse(list) // as they came
	return list
}

// sql gives the records as they lie, for what no call does.
func (w *world) sql(t *testing.T) *sqlx.DB {
	t.Helper()
	db, err := sqlx.Open("pgx", w.url)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

func able(d link.Device, abilities ...string) link.Device {
	d.Abilities = abilities
	return d
}

func TestAPlanIsKeptInRevisionsTriedAndStarted(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	narrow := kaede("kaede-mini-1")
	narrow.Model = "Kaede Mini"
	w.link(w.service, able(kaede("kaede-7-1"), "rotation"), able(kaede("kaede-7-2"), "rotation"), narrow)

	_, err := w.service.Plans.SavePlan(ctx, w.user, planText("Every night", "cover: sometimes\n"))
	refusal(t, err, "line 6: `cover` is all, each, pairs or triples")
	text := planText("Every night", "  rotation: [portrait, landscape]\ncover: all\nwhen: {cron: \"0 2 * * *\"}\n")
	p := w.savePlan(text)
	require.Equal(t, 1, p.Revision)
	require.NotNil(t, p.Next)
	require.Equal(t, 1, w.savePlan(text).Revision, "the same again is no revision")
	require.Equal(t, 2, w.savePlan(text+"about: two languages\n").Revision)
	revisions, err := w.service.Plans.PlanRevisions(ctx, w.user, "every night")
	require.NoError(t, err, "however its name is written")
	require.Len(t, revisions, 2)

	trial, err := w.service.Plans.TryPlan(ctx, w.user, "Every night", "", plans.Changes{})
	require.NoError(t, err)
	require.Len(t, trial.Selection.Picked, 6, "Kaede 7 in two languages and two ways, Kaede Mini in two languages")
	require.Len(t, trial.LeftOut, 2)
	require.Contains(t, trial.LeftOut[0].Reasons[0].Why, "without the ability `rotation`")
	require.Len(t, trial.Next, 5)
	require.Contains(t, strings.Join(trial.Findings, "\n"),
		"1 of 2 kinds of device lack the ability `rotation`: there rotation stays portrait")
	require.Contains(t, strings.Join(trial.Findings, "\n"), "2 of 2 cases have never run: each is taken to last 20s")
	require.Equal(t, int64(6*2*20_000), trial.Selection.Cost)
	require.Empty(t, w.starts("Every night"), "trying starts nothing")

	run, err := w.service.Plans.StartPlan(ctx, w.user, "Every night", plans.Changes{Combinations: 2, Seed: 7}, "once")
	require.NoError(t, err)
	again, err := w.service.Plans.StartPlan(ctx, w.user, "Every night", plans.Changes{Combinations: 2, Seed: 7}, "once")
	require.NoError(t, err)
	require.Equal(t, run.Number, again.Number, "the same call is one start")
	d := w.detail(run.Number)
	require.Len(t, d.Legs, 2)
	require.Equal(t, []string{"budget 2 combinations", "seed 7"}, *d.Run.Changed, "the run says that it was changed")
	require.Equal(t, "Every night", *d.Run.Plan)
	require.Equal(t, 2, *d.Run.PlanRevision)
	require.Equal(t, []string{"device", "language", "rotation"}, *d.Run.Factors)
	require.Equal(t, []string{"language", "rotation"}, []string{d.Legs[0].Combination.Levels[0].Factor,
		d.Legs[0].Combination.Levels[1].Factor})
	_, err = w.service.Plans.StartPlan(ctx, w.user, "Every night", plans.Changes{Build: "9.9"}, "")
	refusal(t, err, "there is no build")
	require.Len(t, w.starts("Every night"), 1, "what cannot be started leaves nothing behind")

	require.NoError(t, w.service.Plans.RemovePlan(ctx, w.user, "Every night", false))
	_, err = w.service.Plans.Plan(ctx, w.user, "Every night")
	refusal(t, err, "there is no plan")
	require.Equal(t, "Every night", *w.detail(run.Number).Run.Plan, "its runs stay")
}

// Two services look at once, again and again, and one is killed between what it notes and what it
// starts, or between what it starts and what it says of it: each moment is exactly one run.
func TestEachMomentOfAPlanIsExactlyOneRunWhoeverLooks(t *testing.T) {
	w := newWorld(t, base.Config{})
	other := w.another(base.Config{})
	ctx := context.Background()
	w.link(w.service, kaede("kaede-7-1"))
	p := w.savePlan(planText("Every hour", "when: {cron: \"0 * * * *\", busy: take over}\n"))
	first := *p.Next
	for hour := range 3 {
		now := first.Add(time.Duration(hour)*time.Hour + time.Minute)
		var looks sync.WaitGroup
		for _, s := range []*Service{w.service, other, w.service, other} {
			looks.Go(func() {
				for range 3 {
					if err := s.Plans.LookAtPlans(ctx, now); err != nil {
						t.Error(err)
					}
				}
			})
		}
		looks.Wait()
		list := w.starts("Every hour")
		require.Len(t, list, hour+1)
		require.EqualValues(t, "started", list[hour].State)
		require.NotNil(t, list[hour].Run)
		require.NotEqual(t, "cancelled", *list[hour].RunState, "nobody takes over what was started a moment ago")
		// it was killed before it could say so
		pgtest.Rewind(t, w.url, fmt.Sprintf(`update plan_start set state = 'due', run_id = null where id = %d`, list[hour].ID))
		require.NoError(t, other.Plans.LookAtPlans(ctx, now))
		require.Equal(t, *list[hour].Run, *w.starts("Every hour")[hour].Run, "the same run, and no second")
	}
	_, next, err := w.service.Runs.Runs(ctx, w.user, store.RunFilter{}, 0, 100)
	require.NoError(t, err)
	require.Nil(t, next)
	list, _, err := w.service.Runs.Runs(ctx, w.user, store.RunFilter{}, 0, 100)
	require.NoError(t, err)
	require.Len(t, list, 3)
}

func TestStartsThatWereMissedAreStartedAsThePlanSays(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	w.link(w.service, kaede("kaede-7-1"))
	for missed, want := range map[string]string{"none": "missed missed missed", "once": "missed missed started",
		"all": "started started started"} {
		name := "Hourly " + missed
		p := w.savePlan(planText(name, fmt.Sprintf("when: {cron: \"0 * * * *\", busy: take over, missed: %s}\n",
			missed)))
		require.NoError(t, w.service.Plans.LookAtPlans(ctx, p.Next.Add(2*time.Hour+30*time.Minute)),
			"nothing was up for more than two hours")
		var states []string
		for _, s := range w.starts(name) {
			states = append(states, string(s.State))
		}
		require.Equal(t, want, strings.Join(states, " "), missed)
		_, err := w.service.Plans.PausePlan(ctx, w.user, name, true)
		require.NoError(t, err)
	}
	paused, err := w.service.Plans.PausePlan(ctx, w.user, "Hourly all", true)
	require.NoError(t, err)
	require.Nil(t, paused.Next)
	before := len(w.starts("Hourly all"))
	require.NoError(t, w.service.Plans.LookAtPlans(ctx, time.Now().Add(9*time.Hour)))
	require.Len(t, w.starts("Hourly all"), before, "what is paused starts nothing")
}

func TestWhatHappensWhenTheLastRunStillRuns(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	w.link(w.service, kaede("kaede-7-1")).hangUp() // its legs wait
	w.awaitState("kaede-7-1", "offline")
	for busy, state := range map[string]string{"leave out": "left out", "wait": "due", "take over": "started"} {
		p := w.savePlan(planText("Hourly "+busy, "when: {cron: \"0 * * * *\", busy: "+busy+"}\n"))
		require.NoError(t, w.service.Plans.LookAtPlans(ctx, p.Next.Add(time.Minute)))
		now := p.Next.Add(time.Hour + time.Minute)
		require.NoError(t, w.service.Plans.LookAtPlans(ctx, now))
		list := w.starts("Hourly " + busy)
		require.Len(t, list, 2)
		require.EqualValues(t, state, list[1].State, busy)
		running := *list[0].Run
		switch busy {
		case "leave out":
			require.Equal(t, fmt.Sprintf("run %d of this plan was not over", running), list[1].Told)
		case "wait":
			require.Equal(t, fmt.Sprintf("waits for run %d to end", running), list[1].Told)
			_, err := w.service.Runs.CancelRun(ctx, w.user, running)
			require.NoError(t, err)
			require.Eventually(t, func() bool { return w.detail(running).Run.FinishedAt != nil }, 10*time.Second,
				10*time.Millisecond)
			require.NoError(t, w.service.Plans.LookAtPlans(ctx, now))
			require.EqualValues(t, "started", w.starts("Hourly " + busy)[1].State)
		case "take over":
			require.Equal(t, "cancelled", w.detail(running).Run.State)
		}
		_, err := w.service.Plans.PausePlan(ctx, w.user, "Hourly "+busy, true)
		require.NoError(t, err)
	}
}

func TestAPlanStartsOnBuildsThatArriveAndAfterOtherPlans(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"))
	w.savePlan(planText("On arrival", "build: arriving\nlabels: [branch=main]\nwhen: {busy: wait}\n"))
	_, err := w.service.Plans.SavePlan(ctx, w.user, planText("Afterwards", "when: {after: {plan: No such plan}}\n"))
	refusal(t, err, "there is no plan \"No such plan\"")
	w.savePlan(planText("Afterwards", "when: {after: {plan: on arrival, verdict: fail}}\n"))
	require.NoError(t, w.service.Plans.LookAtPlans(ctx, time.Now()))
	require.Empty(t, w.starts("On arrival"), "what was there before starts nothing")

	b := w.push("3.2.0")
	require.NoError(t, w.service.Plans.LookAtPlans(ctx, time.Now()))
	require.Empty(t, w.starts("On arrival"), "it has not the labels")
	_, err = w.service.Builds.ChangeBuild(ctx, w.user, "", fmt.Sprint(b.Number),
		builds.Words{Labels: map[string]string{"branch": "main"}})
	require.NoError(t, err)
	require.NoError(t, w.service.Plans.LookAtPlans(ctx, time.Now()))
	require.NoError(t, w.service.Plans.LookAtPlans(ctx, time.Now()))
	list := w.starts("On arrival")
	require.Len(t, list, 1)
	run := *list[0].Run
	require.Equal(t, "3.2.0", w.detail(run).Run.VersionName)
	require.Empty(t, w.starts("Afterwards"))
	h.each(2, func(l link.Lease) { // two languages, one device
		h.say(began(l.Number), result(l.Number, 2, 0, "fail"), result(l.Number, 3, 1, "pass"))
		h.say(finished(l.Number, 4)...)
	})
	w.awaitRun(run, func(d contract.RunDetail) bool { return d.Run.State == "finished" })
	require.Eventually(t, func() bool {
		return w.service.Plans.LookAtPlans(ctx, time.Now()) == nil && len(w.starts("Afterwards")) == 1
	}, 10*time.Second, 10*time.Millisecond)
	require.Equal(t, "after", w.starts("Afterwards")[0].Reason)
}

func TestARunStopsEarlyOnceItsPlanSaysSo(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"))
	w.savePlan(planText("Until one fails", "stop: {certain: true}\nlimits: {step: 3s, case: 2m, leg: 9m}\nrepeat: {fail: 0}\n"))
	run, err := w.service.Plans.StartPlan(ctx, w.user, "Until one fails", plans.Changes{}, "")
	require.NoError(t, err)
	l := h.lease()
	require.Equal(t, []int64{3_000, 120_000, 540_000}, []int64{l.Attempt.StepMS, l.Attempt.CaseMS, l.Attempt.LegMS})
	h.say(began(l.Number), result(l.Number, 2, 0, "fail"), result(l.Number, 3, 1, "pass"),
		// its device is not clean yet: nothing else can run
		link.Event{Lease: l.Number, Seq: 4, Finished: &link.Finished{}})
	d := w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.State == "finished" })
	require.Equal(t, "fail", d.Run.Verdict)
	require.Equal(t, "skip", d.Legs[1].Cases[0].Verdict)
	require.Contains(t, *d.Legs[1].Cases[0].Results[0].Sentence, "the run stopped early, after a failure")

	w.savePlan(planText("In no time", "limits: {run: 1s}\n"))
	run, err = w.service.Plans.StartPlan(ctx, w.user, "In no time", plans.Changes{}, "")
	require.NoError(t, err)
	d = w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.State == "finished" })
	require.Equal(t, "error", d.Run.Verdict)
	require.Contains(t, *d.Legs[0].Cases[0].Results[0].Sentence, "took more than the 1s")
}

func TestTheCalendarTellsWhatRanAndWhatWillAndIsReadByItsSecretAlone(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	w.link(w.service, kaede("kaede-7-1"))
	p := w.savePlan(planText("Every day", "when: {cron: \"0 2 * * *\", zone: Asia/Tokyo}\n"))
	require.NoError(t, w.service.Plans.LookAtPlans(ctx, p.Next.Add(time.Minute)))
	now := p.Next.Add(time.Minute)
	list, err := w.service.Plans.Calendar(ctx, w.user.ProjectID, now.Add(-24*time.Hour), now.Add(3*24*time.Hour), now)
	require.NoError(t, err)
	require.Len(t, list, 4)
	require.False(t, list[0].Coming)
	require.NotNil(t, list[0].Run)
	require.Equal(t, []string{"bench"}, list[1].Sites)
	require.True(t, list[1].Coming)
	_, err = w.service.Plans.Calendar(ctx, w.user.ProjectID, now, now.Add(-time.Hour), now)
	refusal(t, err, "a span of up to a year")

	secret, err := w.service.Plans.MakeFeed(ctx, w.user)
	require.NoError(t, err)
	body, err := w.service.Plans.Feed(ctx, secret, "http://yamato.example", now)
	require.NoError(t, err)
	read, err := ics.ParseCalendar(strings.NewReader(string(body)))
	require.NoError(t, err)
	events := read.Events()
	require.Greater(t, len(events), 40)
	require.Contains(t, events[0].GetProperty(ics.ComponentPropertyUrl).Value, "http://yamato.example/runs/")
	require.Equal(t, "Every day", events[1].GetProperty(ics.ComponentPropertySummary).Value)
	at, err := events[1].GetStartAt()
	require.NoError(t, err)
	require.Equal(t, list[1].At.Unix(), at.Unix())
	_, err = w.service.Plans.MakeFeed(ctx, w.user)
	require.NoError(t, err)
	_, err = w.service.Plans.Feed(ctx, secret, "", now)
	refusal(t, err, "this calendar is not to be had")
}

// One start is moved, and moved back in part; the others stay where they are.
func TestAStartThatIsMovedStartsThenAndNotBefore(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	w.link(w.service, kaede("kaede-7-1")).hangUp()
	w.awaitState("kaede-7-1", "offline")
	p := w.savePlan(planText("Every day", "when: {cron: \"0 2 * * *\", busy: take over}\n"))
	next := *p.Next
	refusal(t, w.service.Plans.MoveStart(ctx, w.user, "Every day", next.Add(time.Minute), next.Add(time.Hour)),
		"does not start then")
	refusal(t, w.service.Plans.MoveStart(ctx, w.user, "Every day", next, time.Now().Add(-time.Hour)),
		"a time that is to come")
	require.NoError(t, w.service.Plans.MoveStart(ctx, w.user, "Every day", next, next.Add(5*time.Hour)))
	require.NoError(t, w.service.Plans.MoveStart(ctx, w.user, "Every day", next.Add(5*time.Hour), next.Add(3*time.Hour)),
		"moved once more")
	require.NoError(t, w.service.Plans.MoveStart(ctx, w.user, "Every day", next.Add(3*time.Hour), next),
		"and back, as an undo does")
	coming, err := w.service.Plans.Calendar(ctx, w.user.ProjectID, next.Add(-time.Hour), next.Add(30*time.Hour),
		next.Add(-time.Hour))
	require.NoError(t, err)
	require.Len(t, coming, 2)
	require.Equal(t, next.Unix(), coming[0].At.Unix())
	require.Nil(t, coming[0].MovedFrom, "it is where it always was")
	require.Empty(t, coming[0].Told)
	require.NoError(t, w.service.Plans.MoveStart(ctx, w.user, "Every day", next, next.Add(3*time.Hour)))
	coming, err = w.service.Plans.Calendar(ctx, w.user.ProjectID, next.Add(-time.Hour), next.Add(30*time.Hour),
		next.Add(-time.Hour))
	require.NoError(t, err)
	require.Len(t, coming, 2)
	require.Equal(t, next.Add(3*time.Hour).Unix(), coming[0].At.Unix())
	require.Equal(t, next.Unix(), coming[0].MovedFrom.Unix())
	require.Nil(t, coming[1].MovedFrom)

	require.NoError(t, w.service.Plans.LookAtPlans(ctx, next.Add(time.Minute)))
	require.EqualValues(t, "due", w.starts("Every day")[0].State, "not before")
	require.NoError(t, w.service.Plans.LookAtPlans(ctx, next.Add(3*time.Hour+time.Minute)))
	list := w.starts("Every day")
	require.Len(t, list, 1)
	require.EqualValues(t, "started", list[0].State)
	refusal(t, w.service.Plans.MoveStart(ctx, w.user, "Every day", next, next.Add(9*time.Hour)), "that start has been")
}

// One plan of which hundreds wait, and one whose kept text cannot be read any more, keep no other from starting.
func TestWhatOnePlanMeetsKeepsNoOtherFromStarting(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	w.link(w.service, kaede("kaede-7-1"))
	crowd := w.savePlan(planText("A crowd", "when: {cron: \"0 * * * *\", busy: wait}\n"))
	broken := w.savePlan(planText("B broken", "when: {cron: \"0 * * * *\"}\n"))
	other := w.savePlan(planText("C other", "when: {cron: \"0 * * * *\"}\n"))
	_, err := w.service.Plans.StartPlan(ctx, w.user, "A crowd", plans.Changes{}, "")
	require.NoError(t, err, "its run is open, and all others wait for it")
	db := w.sql(t)
	_, err = db.Exec(`insert into plan_start (project_id, plan_id, key, reason, due, asked_by)
		select project_id, id, 'crowd ' || n, 'time', now() - interval '2 hours', 'mira' from plan, generate_series(1, 3000) n where id = $1`, crowd.ID)
	require.NoError(t, err)
	_, err = db.Exec(`update plan set text = 'plan: [', revision = revision + 1 where id = $1`, broken.ID)
	require.NoError(t, err)
	require.NoError(t, w.service.Plans.LookAtPlans(ctx, other.Next.Add(time.Minute)))
	list := w.starts("C other")
	require.NotEmpty(t, list)
	require.Equal(t, states.StartStarted, list[len(list)-1].State)
}
