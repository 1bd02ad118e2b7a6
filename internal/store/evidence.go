package store

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/crash"
	"yamato/internal/core/fleet"
	"yamato/internal/store/pg"
)

// NewCrash is a crash that was met.
type NewCrash struct {
	ProjectID, AppID, Run, Lease, Leg int64
	Case                              int
	Stack                             crash.Stack
}

// AddCrashes keeps where crashes were met. Each stack of an app is one row, whoever meets it first.
func (t Known) AddCrashes(ctx context.Context, list []NewCrash) error {
	slices.SortStableFunc(list, func(a, b NewCrash) int { // several at once lock them in one order
		return cmp.Or(cmp.Compare(a.ProjectID, b.ProjectID), cmp.Compare(a.AppID, b.AppID),
			strings.Compare(a.Stack.Key, b.Stack.Key))
	})
	for _, c := range list {
		var id int64
		if err := t.row(ctx, atKnown, &id, `
			insert into crash (project_id, app_id, key, title, stack) values ($1, $2, $3, $4, $5)
			on conflict (project_id, app_id, key) do update set title = crash.title returning id`,
			c.ProjectID, c.AppID, c.Stack.Key, c.Stack.Title,
			pg.Encode(append([]string{}, c.Stack.Frames...))); err != nil {
			return err
		}
		if err := t.change(ctx, atKnown, `
			insert into crash_met (crash_id, project_id, run_id, build_id, lease_id, leg_id, case_index)
			select $1, $2, $3, r.build_id, $4, $5, $6 from run r where r.id = $3 on conflict do nothing`,
			id, c.ProjectID, c.Run, c.Lease, c.Leg, c.Case); err != nil {
			return err
		}
	}
	return nil
}

// Crash is a stack with where it was met.
type Crash struct {
	ID           int64             `db:"id"`
	App          string            `db:"app"`
	Title        string            `db:"title"`
	Stack        pg.JSON[[]string] `db:"stack"`
	Met          int               `db:"met"`
	Runs         int               `db:"runs"`
	Combinations int               `db:"combinations"`
	First        time.Time         `db:"first_at"`
	Last         time.Time         `db:"last_at"`
	FirstBuild   string            `db:"first_build"`
	LastBuild    string            `db:"last_build"`
	FirstNumber  int64             `db:"first_number"`
	LastNumber   int64             `db:"last_number"`
	LastRun      int64             `db:"last_run"`
}

// Crashes gives the crashes of a project, those met last first: of one app where one is named, of one
// run where one is, and one of them where its number is.
func (s *Store) Crashes(ctx context.Context, project int64, app string, run, id int64, offset, limit int) ([]Crash,
	error) {
	list := []Crash{}
	err := s.db.SelectContext(ctx, &list, `
		with met as (
			select m.crash_id, count(*) as met, count(distinct m.run_id) as runs,
				count(distinct (g.kind, g.model, g.platform, g.os, g.levels)) as combinations, min(m.at) as first_at, max(m.at) as last_at,
				min(b.number) as first_number, max(b.number) as last_number, max(r.number) as last_run
			from crash_met m join leg g on g.id = m.leg_id join build b on b.id = m.build_id join run r on r.id = m.run_id
			where m.project_id = $1 and ($4::bigint = 0 or m.crash_id = $4)
				and ($3::bigint = 0 or m.crash_id in (select o.crash_id from crash_met o join run w on w.id = o.run_id
					where w.project_id = $1 and w.number = $3))
			group by m.crash_id)
		select c.id, a.name as app, c.title, c.stack, met.met, met.runs, met.combinations, met.first_at, met.last_at, met.first_number, met.last_number,
			met.last_run, f.version_name || ' (' || f.version_code || ')' as first_build, n.version_name || ' (' || n.version_code || ')' as last_build
		from met join crash c on c.id = met.crash_id join app a on a.id = c.app_id
			join build f on f.app_id = c.app_id and f.number = met.first_number join build n on n.app_id = c.app_id and n.number = met.last_number
		where $2 = '' or lower(a.name) = lower($2) or exists (select 1 from app_identity i where i.app_id = a.id and i.application_id = $2)
		order by met.last_at desc, c.id desc offset $5 limit $6`, project, app, run, id, offset, limit)
	return list, err
}

// Meeting is one place where a crash was met.
type Meeting struct {
	Run     int64                 `db:"run"`
	Leg     int64                 `db:"leg_id"`
	Case    int                   `db:"case_index"`
	Attempt int                   `db:"attempt"`
	Name    string                `db:"name"`
	Suite   string                `db:"suite"`
	Build   string                `db:"build"`
	Device  string                `db:"device"`
	Model   string                `db:"model"`
	OS      string                `db:"os"`
	At      time.Time             `db:"at"`
	Levels  pg.JSON[fleet.Levels] `db:"levels"`
}

// Meetings gives where a crash was met, newest first.
func (s *Store) Meetings(ctx context.Context, project, id int64, limit int) ([]Meeting, error) {
	list := []Meeting{}
	err := s.db.SelectContext(ctx, &list, `
		select r.number as run, m.leg_id, m.case_index, coalesce(t.number, 0) as attempt, coalesce(v.cases->m.case_index->>'name', '') as name,
			s.name as suite, b.version_name || ' (' || b.version_code || ')' as build, coalesce(d.name, '') as device, g.model, g.os, m.at, g.levels
		from crash_met m join run r on r.id = m.run_id join leg g on g.id = m.leg_id join suite_revision v on v.id = g.revision_id
			join suite s on s.id = v.suite_id join build b on b.id = m.build_id left join attempt t on t.lease_id = m.lease_id left join lease l on l.id = m.lease_id
			left join device d on d.id = l.device_id
		where m.project_id = $1 and m.crash_id = $2 order by m.at desc, m.lease_id desc limit $3`, project, id, limit)
	return list, err
}

// EvidenceRetention is how long, and how much, evidence stays; 0 for as long as there is.
type EvidenceRetention struct {
	ProjectID  int64     `db:"project_id"`
	PassedDays int       `db:"passed_days"`
	Days       int       `db:"days"`
	Bytes      int64     `db:"bytes"`
	ChangedBy  string    `db:"changed_by"`
	ChangedAt  time.Time `db:"changed_at"`
}

// EvidenceRetentionOf gives a project's rule, or ErrNone.
func (s *Store) EvidenceRetentionOf(ctx context.Context, project int64) (EvidenceRetention, error) {
	var r EvidenceRetention
	err := s.db.GetContext(ctx, &r, `select * from evidence_retention where project_id = $1`, project)
	return r, pg.Found(err)
}

// EvidenceRetentions gives the rules of all projects.
func (s *Store) EvidenceRetentions(ctx context.Context) ([]EvidenceRetention, error) {
	list := []EvidenceRetention{}
	err := s.db.SelectContext(ctx, &list, `select * from evidence_retention where passed_days > 0 or days > 0 or bytes > 0 order by project_id`)
	return list, err
}

// SetEvidenceRetention keeps a project's rule.
func (s *Store) SetEvidenceRetention(ctx context.Context, r EvidenceRetention) error {
	_, err := s.db.ExecContext(ctx, `
		insert into evidence_retention (project_id, passed_days, days, bytes, changed_by) values ($1, $2, $3, $4, $5)
		on conflict (project_id) do update set passed_days = excluded.passed_days, days = excluded.days, bytes = excluded.bytes,
			changed_by = excluded.changed_by, changed_at = now()`, r.ProjectID, r.PassedDays, r.Days, r.Bytes, r.ChangedBy)
	return err
}

// free is what retention may take: evidence of runs that have ended, that nobody has pinned, and that
// no finding refers to.
const free = `e.project_id = $1 and e.gone = '' and exists (select 1 from run r where r.id = e.run_id and r.finished_at is not null
	and r.pinned_by = '' and not exists (select 1 from finding f where f.run_id = r.id))`

// LetGoAged lets evidence go that is older than so many days, of what passed or of all; at most limit
// pieces. It gives how many, and of how many bytes.
func (s *Store) LetGoAged(ctx context.Context, project int64, days int, passed bool, why string, limit int) (n int,
	bytes int64, err error) {
	return s.letGo(ctx, `
		with old as (
			select e.id from evidence e left join result x on x.lease_id = e.lease_id and x.case_index = e.case_index
			where `+free+` and e.kept_at < now() - $2 * interval '1 day' and (not $3 or x.verdict = 'pass')
			order by e.kept_at, e.id limit $5)
		update evidence e set gone = $4 from old where e.id = old.id returning e.size`, project, days, passed, why, limit)
}

// LetGoMost lets the oldest evidence go until no more than so many bytes are kept: first of what
// passed; at most limit pieces.
func (s *Store) LetGoMost(ctx context.Context, project int64, most int64, why string, limit int) (n int, bytes int64,
	err error) {
	return s.letGo(ctx, `
		with sized as (select coalesce(sum(size), 0) as whole from evidence where project_id = $1 and gone = ''),
		ordered as (
			select e.id, sum(e.size) over (order by (coalesce(x.verdict, '') = 'pass') desc, e.kept_at, e.id) - e.size as before
			from evidence e left join result x on x.lease_id = e.lease_id and x.case_index = e.case_index where `+free+`),
		over as (select o.id from ordered o, sized where o.before < sized.whole - $2 order by o.before limit $4)
		update evidence e set gone = $3 from over where e.id = over.id returning e.size`, project, most, why, limit)
}

func (s *Store) letGo(ctx context.Context, query string, args ...any) (n int, bytes int64, err error) {
	var sizes []int64
	err = s.db.SelectContext(ctx, &sizes, query, args...)
	for _, z := range sizes {
		bytes += z
	}
	return len(sizes), bytes, err
}

// EvidenceSize gives how many pieces of evidence a project has, and of how many bytes.
func (s *Store) EvidenceSize(ctx context.Context, project int64) (n int, bytes int64, err error) {
	var row struct {
		N     int   `db:"n"`
		Bytes int64 `db:"bytes"`
	}
	err = s.db.GetContext(ctx, &row, `select count(*) as n, coalesce(sum(size), 0)::bigint as bytes from evidence where project_id = $1 and gone = ''`, project)
	return row.N, row.Bytes, err
}

// PinRun has a run's evidence stay, or no more where by is empty. It gives ErrNone where there is no such run.
func (s *Store) PinRun(ctx context.Context, project, number int64, by string) error {
	var id int64
	return pg.Found(s.db.GetContext(ctx, &id, `update run set pinned_by = $3 where project_id = $1 and number = $2 returning id`, project, number, by))
}

// NamedPicture is a picture that a script named, in one combination.
type NamedPicture struct {
	ID      int64                 `db:"id"`
	Name    string                `db:"name"`
	Leg     int64                 `db:"leg_id"`
	Case    int                   `db:"case_index"`
	Attempt int                   `db:"attempt"`
	Device  string                `db:"device"`
	Kind    string                `db:"kind"`
	Model   string                `db:"model"`
	Plat    string                `db:"platform"`
	OS      string                `db:"os"`
	Levels  pg.JSON[fleet.Levels] `db:"levels"`
	Verdict string                `db:"verdict"`
	Of      string                `db:"of_case"`
	Gone    string                `db:"gone"`
}

// NamedPictures gives a run's pictures of a name, of the last attempt in each combination that has one.
func (s *Store) NamedPictures(ctx context.Context, run int64, name string, limit int) ([]NamedPicture, error) {
	list := []NamedPicture{}
	err := s.db.SelectContext(ctx, &list, `
		select distinct on (a.leg_id, e.case_index) e.id, e.name, a.leg_id, e.case_index, a.number as attempt, d.name as device, g.kind, g.model,
			g.platform, g.os, g.levels, coalesce(x.verdict, '') as verdict, e.gone, coalesce(v.cases->e.case_index->>'name', '') as of_case
		from evidence e join attempt a on a.lease_id = e.lease_id join leg g on g.id = a.leg_id join suite_revision v on v.id = g.revision_id
			join lease l on l.id = e.lease_id join device d on d.id = l.device_id left join result x on x.lease_id = e.lease_id and x.case_index = e.case_index
		where e.run_id = $1 and e.sort = 'picture' and e.name = $2
		order by a.leg_id, e.case_index, a.number desc, e.id desc limit $3`, run, name, limit)
	return list, err
}

// PictureName is a name that pictures of a run have, and how many combinations have one.
type PictureName struct {
	Name string `db:"name"`
	In   int    `db:"in_legs"`
}

// PictureNames gives the names of a run's pictures.
func (s *Store) PictureNames(ctx context.Context, run int64, limit int) ([]PictureName, error) {
	list := []PictureName{}
	err := s.db.SelectContext(ctx, &list, `
		select e.name, count(distinct a.leg_id) as in_legs from evidence e join attempt a on a.lease_id = e.lease_id
		where e.run_id = $1 and e.sort = 'picture' group by e.name order by e.name limit $2`, run, limit)
	return list, err
}

// Covered is what a build was tested on in one combination of device, OS and language.
type Covered struct {
	App      string    `db:"app"`
	Build    int64     `db:"number"`
	Version  string    `db:"version"`
	Kind     string    `db:"kind"`
	Model    string    `db:"model"`
	Platform string    `db:"platform"`
	OS       string    `db:"os"`
	Language string    `db:"language"`
	Runs     int       `db:"runs"`
	Cases    int       `db:"cases"`
	Passed   int       `db:"passed"`
	Failed   int       `db:"failed"`
	Errors   int       `db:"errors"`
	LastRun  int64     `db:"last_run"`
	LastAt   time.Time `db:"last_at"`
}

// Coverage gives what was covered by which builds in a span of time: cases with a result, by their last
// one in each leg.
func (s *Store) Coverage(ctx context.Context, project int64, app string, from, to time.Time, limit int) ([]Covered,
	error) {
	list := []Covered{}
	err := s.db.SelectContext(ctx, &list, `
		with last as (
			select distinct on (x.leg_id, x.case_index) x.leg_id, x.case_index, x.verdict, x.run_id, x.created_at
			from result x join run r on r.id = x.run_id
			where x.project_id = $1 and x.created_at >= $3 and x.created_at < $4 and r.purpose = 'suite'
			order by x.leg_id, x.case_index, x.lease_id desc)
		select a.name as app, b.number, b.version_name || ' (' || b.version_code || ')' as version, g.kind, g.model, g.platform, g.os,
			coalesce((select lv->>'value' from jsonb_array_elements(g.levels) lv where lv->>'factor' = 'language'), '') as language,
			count(distinct l.run_id) as runs, count(*) as cases, count(*) filter (where l.verdict = 'pass') as passed,
			count(*) filter (where l.verdict = 'fail') as failed, count(*) filter (where l.verdict = 'error') as errors,
			max(r.number) as last_run, max(l.created_at) as last_at
		from last l join leg g on g.id = l.leg_id join run r on r.id = l.run_id join build b on b.id = r.build_id join app a on a.id = b.app_id
		where $2 = '' or lower(a.name) = lower($2) or exists (select 1 from app_identity i where i.app_id = a.id and i.application_id = $2)
		group by 1, 2, 3, 4, 5, 6, 7, 8 order by 1, 2 desc, 6, 5, 7, 8 limit $5`, project, app, from, to, limit)
	return list, err
}
