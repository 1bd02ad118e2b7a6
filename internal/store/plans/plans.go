// Package plans keeps saved plans, the reasons for which they start, and calendar feeds. It decides
// nothing: what is due, and what becomes of it, is asked of it.
package plans

import (
	"context"
	"encoding/json"
	"time"

	"yamato/internal/core/states"
	"yamato/internal/store/pg"
)

// Records are these tables.
type Records struct{ pool *pg.Pool }

// New gives the records that a pool leads to.
func New(p *pg.Pool) *Records { return &Records{p} }

// Plan is a saved plan.
type Plan struct {
	ID          int64     `db:"id"`
	ProjectID   int64     `db:"project_id"`
	Name        string    `db:"name"`
	App         string    `db:"app"`
	Text        string    `db:"text"`
	Revision    int       `db:"revision"`
	Paused      bool      `db:"paused"`
	SavedBy     string    `db:"saved_by"`
	SavedAt     time.Time `db:"saved_at"`
	CheckedTo   time.Time `db:"checked_to"`
	WatchedFrom time.Time `db:"watched_from"`
}

const planColumns = `
	select id, project_id, name, app, text, revision, paused, saved_by, saved_at, checked_to, watched_from from plan
	where removed_at is null `

// AllPlans gives a project's plans by name; of all projects where it is 0.
func (r *Records) AllPlans(ctx context.Context, project int64) ([]Plan, error) {
	list := []Plan{}
	err := r.pool.DB.SelectContext(ctx, &list, planColumns+`and ($1 = 0 or project_id = $1) order by lower(name)`,
		project)
	return list, err
}

// PlanNamed gives one. It gives ErrNone where there is none.
func (r *Records) PlanNamed(ctx context.Context, project int64, name string) (Plan, error) {
	var p Plan
	err := r.pool.DB.GetContext(ctx, &p, planColumns+`and project_id = $1 and lower(name) = lower($2)`, project, name)
	return p, pg.Found(err)
}

// SavePlan keeps a plan under its name, as a new revision where its text has changed, unless there
// are most already (ErrNone). What is saved anew starts nothing for what came before.
func (r *Records) SavePlan(ctx context.Context, p Plan, most int) (Plan, error) {
	var kept Plan
	err := pg.Found(r.pool.DB.GetContext(ctx, &kept, `
		with kept as (
			insert into plan (project_id, name, app, text, saved_by)
			select $1, $2, $3, $4, $5 where exists (select 1 from plan where project_id = $1 and removed_at is null and lower(name) = lower($2))
				or (select count(*) from plan where project_id = $1 and removed_at is null) < $6
			on conflict (project_id, lower(name)) where removed_at is null do update set name = excluded.name,
				app = excluded.app, saved_by = excluded.saved_by, saved_at = now(),
				revision = plan.revision + case when plan.text = excluded.text then 0 else 1 end,
				checked_to = case when plan.text = excluded.text then plan.checked_to else now() end,
				watched_from = case when plan.text = excluded.text then plan.watched_from else now() end,
				text = excluded.text
			returning id, project_id, name, app, text, revision, paused, saved_by, saved_at, checked_to, watched_from),
		rev as (insert into plan_revision (plan_id, revision, text, saved_by) select id, revision, text, saved_by from kept
			on conflict do nothing)
		select * from kept`, p.ProjectID, p.Name, p.App, p.Text, p.SavedBy, most))
	return kept, err
}

// Revision is a version of a plan.
type Revision struct {
	Revision int       `db:"revision"`
	Text     string    `db:"text"`
	SavedBy  string    `db:"saved_by"`
	SavedAt  time.Time `db:"saved_at"`
}

// PlanRevisions gives the versions of a plan, the newest first.
func (r *Records) PlanRevisions(ctx context.Context, plan int64, most int) ([]Revision, error) {
	list := []Revision{}
	err := r.pool.DB.SelectContext(ctx, &list, `
		select revision, text, saved_by, saved_at from plan_revision where plan_id = $1 order by revision desc limit $2`, plan, most)
	return list, err
}

// PausePlan has a plan start nothing by itself, or again do so, from now on. What waits is left out.
func (r *Records) PausePlan(ctx context.Context, plan int64, paused bool) error {
	_, err := r.pool.DB.ExecContext(ctx, `
		with waits as (update plan_start set state = 'left out', told = 'the plan was paused', decided_at = now()
			where $2 and plan_id = $1 and state = 'due' and due <= now())
		update plan set paused = $2, checked_to = case when $2 then checked_to else now() end,
			watched_from = case when $2 then watched_from else now() end
		where id = $1 and paused <> $2`, plan, paused)
	return err
}

// RemovePlan takes a plan off the list; its runs and its history stay. ErrNone tells that there is none.
func (r *Records) RemovePlan(ctx context.Context, project int64, name string) error {
	var id int64
	return pg.Found(r.pool.DB.GetContext(ctx, &id, `
		with gone as (update plan set removed_at = now() where project_id = $1 and lower(name) = lower($2) and removed_at is null returning id),
		left_out as (update plan_start set state = 'left out', told = 'the plan was removed', decided_at = now()
			where plan_id in (select id from gone) and state = 'due')
		select id from gone`, project, name))
}

// Start is a reason to start a plan, and what became of it.
type Start struct {
	ID        int64                    `db:"id"`
	ProjectID int64                    `db:"project_id"`
	PlanID    int64                    `db:"plan_id"`
	Key       string                   `db:"key"`
	Reason    string                   `db:"reason"`
	Due       time.Time                `db:"due"`
	State     states.Start             `db:"state"`
	Told      string                   `db:"told"`
	BuildID   *int64                   `db:"build_id"`
	AskedBy   string                   `db:"asked_by"`
	Changed   pg.JSON[json.RawMessage] `db:"changed"`
	RunID     *int64                   `db:"run_id"`
	DecidedAt *time.Time               `db:"decided_at"`
	// of its run
	Run      *int64  `db:"run"`
	RunState *string `db:"run_state"`
	Verdict  *string `db:"verdict"`
	Plan     string  `db:"plan"`

	StartedAt  *time.Time `db:"started_at"`
	FinishedAt *time.Time `db:"finished_at"`
}

// NoteStarts keeps reasons to start a plan, those that are new, and that its moments have been looked
// at up to a time, if nobody else has since.
func (r *Records) NoteStarts(ctx context.Context, p Plan, checkedTo time.Time, list []Start) error {
	tx, err := r.pool.DB.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // after a commit it does nothing
	for _, s := range list {
		if _, err := tx.ExecContext(ctx, `
			insert into plan_start (project_id, plan_id, key, reason, due, state, told, build_id, asked_by, changed, decided_at)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, coalesce($10::jsonb, '{}'), case when $6 <> 'due' then now() end)
			on conflict (plan_id, key) do nothing`, p.ProjectID, p.ID, s.Key, s.Reason, s.Due, s.State, s.Told, s.BuildID,
			s.AskedBy, changedOf(s)); err != nil {
			return err
		}
	}
	if !checkedTo.IsZero() {
		if _, err := tx.ExecContext(ctx, `update plan set checked_to = $3 where id = $1 and checked_to = $2`, p.ID,
			p.CheckedTo,
			checkedTo); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func changedOf(s Start) *string {
	if len(s.Changed.V) == 0 {
		return nil
	}
	text := string(s.Changed.V)
	return &text
}

const startColumns = `
	select s.id, s.project_id, s.plan_id, s.key, s.reason, s.due, s.state, s.told, s.build_id, s.asked_by, s.changed, s.run_id,
		s.decided_at, r.number as run, r.state as run_state, r.verdict, r.started_at, r.finished_at, p.name as plan
	from plan_start s join plan p on p.id = s.plan_id left join run r on r.id = s.run_id `

// StartKeyed gives a start of a plan by its key. It gives ErrNone where there is none.
func (r *Records) StartKeyed(ctx context.Context, plan int64, key string) (Start, error) {
	var s Start
	err := r.pool.DB.GetContext(ctx, &s, startColumns+`where s.plan_id = $1 and s.key = $2`, plan, key)
	return s, pg.Found(err)
}

// startsAtOnce bounds the starts of one plan that are looked at: one plan of which many wait keeps no other waiting.
const startsAtOnce = 5

// DueStarts gives what is to be started by now, of each plan the few that fell due first: the first of every plan comes
// before the second of any.
func (r *Records) DueStarts(ctx context.Context, now time.Time, limit int) ([]Start, error) {
	list := []Start{}
	err := r.pool.DB.SelectContext(ctx, &list, startColumns+`
		join (select id, row_number() over (partition by plan_id order by due, id) as turn from plan_start
			where state = 'due' and due <= $1) x on x.id = s.id
		where s.state = 'due' and not p.paused and p.removed_at is null and x.turn <= $3
		order by x.turn, s.due, s.id limit $2`, now, limit, startsAtOnce)
	return list, err
}

// MoveStart has a start that has not been be at another time. It gives ErrNone where it has been.
func (r *Records) MoveStart(ctx context.Context, p Plan, s Start) error {
	var id int64
	return pg.Found(r.pool.DB.GetContext(ctx, &id, `
		insert into plan_start (project_id, plan_id, key, reason, due, asked_by, told) values ($1, $2, $3, 'time', $4, $5, $6)
		on conflict (plan_id, key) do update set due = excluded.due, told = excluded.told, asked_by = excluded.asked_by
			where plan_start.state = 'due' and plan_start.due > now()
		returning id`, p.ProjectID, p.ID, s.Key, s.Due, s.AskedBy, s.Told))
}

// DecideStart says what became of a start, unless that is said already.
func (r *Records) DecideStart(ctx context.Context, id int64, state states.Start, told string, run *int64) error {
	_, err := r.pool.DB.ExecContext(ctx, `
		update plan_start set state = $2, told = $3, run_id = coalesce($4, run_id), decided_at = case when $2 <> 'due' then now() end
		where id = $1 and state = 'due'`, id, state, told, run)
	return err
}

// StartsOf gives the starts of a plan, the newest first, before an id (0 for the newest).
func (r *Records) StartsOf(ctx context.Context, plan, before int64, limit int) ([]Start, error) {
	list := []Start{}
	err := r.pool.DB.SelectContext(ctx, &list, startColumns+`
		where s.plan_id = $1 and ($2::bigint = 0 or s.id < $2) order by s.id desc limit $3`, plan, before, limit)
	return list, err
}

// LateStarts gives the newest starts of each of a project's plans, by plan.
func (r *Records) LateStarts(ctx context.Context, project int64, each int) (map[int64][]Start, error) {
	list := []Start{}
	if err := r.pool.DB.SelectContext(ctx, &list, `
		with ranked as (select id, row_number() over (partition by plan_id order by id desc) as n from plan_start where project_id = $1)
		`+startColumns+`join ranked k on k.id = s.id where k.n <= $2 and p.removed_at is null order by s.id desc`, project, each); err != nil {
		return nil, err
	}
	out := map[int64][]Start{}
	for _, s := range list {
		out[s.PlanID] = append(out[s.PlanID], s)
	}
	return out, nil
}

// StartsBetween gives a project's starts that fell due in a span, in order, at most limit.
func (r *Records) StartsBetween(ctx context.Context, project int64, from, until time.Time, limit int) ([]Start, error) {
	list := []Start{}
	err := r.pool.DB.SelectContext(ctx, &list, startColumns+`
		where s.project_id = $1 and s.due >= $2 and s.due < $3 order by s.due, s.id limit $4`, project, from, until, limit)
	return list, err
}

// Arrived gives the builds of an app with labels that came since the plan is watched, and that it has
// not been started for.
func (r *Records) Arrived(ctx context.Context, p Plan, labels map[string]string, limit int) (ids []int64, err error) {
	err = r.pool.DB.SelectContext(ctx, &ids, `
		select b.id from build b join app a on a.id = b.app_id
		where b.project_id = $1 and (a.name = $2 or exists (select 1 from app_identity i where i.app_id = a.id and i.application_id = $2))
			and b.created_at > $3 and b.removed_at is null
			and not exists (select 1 from jsonb_each_text($4::jsonb) w where not exists (
				select 1 from build_label l where l.build_id = b.id and l.key = w.key and l.value = w.value))
			and not exists (select 1 from plan_start s where s.plan_id = $5 and s.key = 'build ' || b.id)
		order by b.id limit $6`, p.ProjectID, p.App, p.WatchedFrom, pg.Encode(labels), p.ID, limit)
	return ids, err
}

// Ended gives the runs of another plan that ended since a plan is watched with one of some verdicts
// (any where there are none), and that it has not been started after.
func (r *Records) Ended(ctx context.Context, p Plan, other string, verdicts []string, limit int) (ids []int64,
	err error) {
	err = r.pool.DB.SelectContext(ctx, &ids, `
		select r.id from run r join plan o on o.id = r.plan_id
		where o.project_id = $1 and lower(o.name) = lower($2) and o.removed_at is null and r.finished_at > $3
			and (cardinality($4::text[]) = 0 or r.verdict = any($4))
			and not exists (select 1 from plan_start s where s.plan_id = $5 and s.key = 'after run ' || r.id)
		order by r.id limit $6`, p.ProjectID, other, p.WatchedFrom, append([]string{}, verdicts...), p.ID, limit)
	return ids, err
}

// RunKeyed gives the run that was made with an idempotency key. It gives ErrNone where there is none.
func (r *Records) RunKeyed(ctx context.Context, project int64, key string) (id int64, err error) {
	return id, pg.Found(r.pool.DB.GetContext(ctx, &id, `select id from run where project_id = $1 and idempotency_key = $2`, project, key))
}

// OpenRuns gives the numbers of a plan's runs that have not ended, but for one that was made with a key:
// another service may have made it a moment ago.
func (r *Records) OpenRuns(ctx context.Context, plan int64, but string) (numbers []int64, err error) {
	err = r.pool.DB.SelectContext(ctx, &numbers, `
		select number from run where plan_id = $1 and finished_at is null and idempotency_key is distinct from $2 order by number`, plan, but)
	return numbers, err
}

// KeepFeed makes a project's calendar readable by a secret, of which the digest is kept; what was
// given out before is no longer.
func (r *Records) KeepFeed(ctx context.Context, project int64, digest []byte, by string) error {
	_, err := r.pool.DB.ExecContext(ctx, `
		insert into calendar_feed (project_id, digest, made_by) values ($1, $2, $3)
		on conflict (project_id) do update set digest = excluded.digest, made_by = excluded.made_by, made_at = now()`, project, digest, by)
	return err
}

// FeedOf gives the project whose calendar a secret opens. It gives ErrNone where there is none.
func (r *Records) FeedOf(ctx context.Context, digest []byte) (project int64, err error) {
	return project, pg.Found(r.pool.DB.GetContext(ctx, &project,
		`select project_id from calendar_feed where digest = $1`, digest))
}

// Took is how long a case lasted, and how it went last.
type Took struct {
	Revision int64  `db:"revision_id"`
	Name     string `db:"name"`
	TookMS   int64  `db:"took_ms"` // the median of its late results, by the device's clock
	Verdict  string `db:"verdict"`
}

// Took gives that of all cases of suites, by revisions of theirs: results of any revision count.
func (r *Records) Took(ctx context.Context, project int64, revisions []int64) ([]Took, error) {
	list := []Took{}
	err := r.pool.DB.SelectContext(ctx, &list, `
		with late as (
			select w.id as revision_id, v.cases->r.case_index->>'name' as name, r.took_ms, r.verdict,
				row_number() over (partition by w.id, v.cases->r.case_index->>'name' order by r.created_at desc, r.lease_id desc) as n
			from suite_revision w join suite_revision v on v.suite_id = w.suite_id join leg l on l.revision_id = v.id
				join result r on r.leg_id = l.id
			where w.id = any($2) and r.project_id = $1 and r.verdict in ('pass', 'fail')
				and r.created_at > now() - interval '60 days')
		select revision_id, name, coalesce((percentile_disc(0.5) within group (order by took_ms)), 0)::bigint as took_ms,
			(array_agg(verdict order by n))[1] as verdict
		from late where n <= 50 and name is not null group by revision_id, name`, project, revisions)
	return list, err
}

// Combined is a combination that a plan has run.
type Combined struct {
	Kind     string                                    `db:"kind"`
	Model    string                                    `db:"model"`
	Platform string                                    `db:"platform"`
	OS       string                                    `db:"os"`
	Levels   pg.JSON[[]struct{ Factor, Value string }] `db:"levels"`
}

// Combined gives what a plan has run since some time ago.
func (r *Records) Combined(ctx context.Context, plan int64, since time.Duration, limit int) ([]Combined, error) {
	list := []Combined{}
	err := r.pool.DB.SelectContext(ctx, &list, `
		select distinct l.kind, l.model, l.platform, l.os, l.levels from leg l join run r on r.id = l.run_id
		where r.plan_id = $1 and r.created_at > now() - $2 * interval '1 ms' and l.state = 'finished' limit $3`, plan,
		since.Milliseconds(), limit)
	return list, err
}

// SitesOf gives at which sites runs have run.
func (r *Records) SitesOf(ctx context.Context, runs []int64) (map[int64][]string, error) {
	var rows []struct {
		Run  int64  `db:"run_id"`
		Site string `db:"site"`
	}
	err := r.pool.DB.SelectContext(ctx, &rows, `
		select distinct a.run_id, d.facts->>'site' as site from attempt a join lease l on l.id = a.lease_id
			join device d on d.id = l.device_id where a.run_id = any($1) order by 1, 2`, append([]int64{}, runs...))
	out := map[int64][]string{}
	for _, row := range rows {
		out[row.Run] = append(out[row.Run], row.Site)
	}
	return out, err
}

// MovedStarts gives the keys of starts that are noted before they are due, by plan.
func (r *Records) MovedStarts(ctx context.Context, project int64) (map[int64][]string, error) {
	var rows []struct {
		Plan int64  `db:"plan_id"`
		Key  string `db:"key"`
	}
	err := r.pool.DB.SelectContext(ctx, &rows, `select plan_id, key from plan_start where project_id = $1 and state = 'due'`, project)
	out := map[int64][]string{}
	for _, row := range rows {
		out[row.Plan] = append(out[row.Plan], row.Key)
	}
	return out, err
}
