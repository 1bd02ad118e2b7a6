package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/store/pg"
)

// like makes a pattern that finds what a person typed as it stands.
func like(q string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(q) + "%"
}

// Found is something that a search found.
type Found struct {
	Sort   string `db:"sort"`
	Title  string `db:"title"`
	Detail string `db:"detail"`
	Key    string `db:"key"` // what its page is found by
}

// Search finds runs, builds, suites, cases and devices by part of a name, at most
// each of each sort.
func (s *Store) Search(ctx context.Context, project int64, q string, each int) ([]Found, error) {
	list := []Found{}
	err := s.db.SelectContext(ctx, &list, `
		(select 'run' as sort, 'Run ' || r.number as title,
			a.name || ' ' || b.version_name || ' (' || b.version_code || '), ' || case
				when r.finished_at is null then r.state else r.verdict end as detail, r.number::text as key
		 from run r join build b on b.id = r.build_id join app a on a.id = b.app_id
		 where r.project_id = $1 and r.purpose = 'suite'
		 	and (r.number::text = $4 or 'run ' || r.number = lower($4) or a.name ilike $2 or b.version_name ilike $2)
		 		order by r.number desc limit $3)
		union all
		(select 'build', a.name || ' ' || b.version_name || ' (' || b.version_code || ')', 'build ' || b.number,
			b.number || '/' || a.name
		 from build b join app a on a.id = b.app_id
		 where b.project_id = $1 and (a.name ilike $2 or b.version_name ilike $2 or b.version_code = $4)
		 	order by b.id desc limit $3)
		union all
		(select 'suite', s.name, 'suite', s.name from suite s where s.project_id = $1 and s.name not like 'yamato:%'
			and s.name ilike $2 order by s.name limit $3)
		union all
		(select 'case', c.value->>'name', s.name, s.name || chr(31) || (c.value->>'name')
		 from suite s join suite_revision r on r.suite_id = s.id
		 	and r.number = (select max(number) from suite_revision where suite_id = s.id),
		      jsonb_array_elements(r.cases) c
		 where s.project_id = $1 and s.name not like 'yamato:%' and c.value->>'name' ilike $2 order by 2 limit $3)
		union all
		(select 'device', d.name, d.model || ', ' || d.site || ', ' || d.state, d.name
		 from device d where d.project_id = $1 and d.removed_at is null
		 	and (d.name ilike $2 or d.model ilike $2 or d.site ilike $2) order by d.name limit $3)`,
		project, like(q), each, q)
	return list, err
}

// LastFailure is what failed lately, once for each way it failed in a run.
type LastFailure struct {
	Run          int64     `db:"run"`
	App          string    `db:"app"`
	VersionName  string    `db:"version_name"`
	Suite        string    `db:"suite"`
	Case         string    `db:"case_name"`
	Leg          int64     `db:"leg"`
	Index        int       `db:"case_index"`
	Verdict      string    `db:"verdict"`
	Sentence     string    `db:"sentence"`
	Combinations int       `db:"combinations"`
	At           time.Time `db:"at"`
}

// LastFailures gives what failed in the newest runs, newest first.
func (s *Store) LastFailures(ctx context.Context, project int64, limit int) ([]LastFailure, error) {
	list := []LastFailure{}
	err := s.db.SelectContext(ctx, &list, `
		with late as (select id, number, build_id from run where project_id = $1 and purpose = 'suite'
			and fails + errors > 0 order by number desc limit 8),
		last as (select distinct on (r.leg_id, r.case_index) r.* from result r join late on late.id = r.run_id
			order by r.leg_id, r.case_index, r.lease_id desc)
		select late.number as run, a.name as app, b.version_name, s.name as suite,
			v.cases->l.case_index->>'name' as case_name,
		       min(l.leg_id) as leg, l.case_index, l.verdict, l.sentence, count(*) as combinations,
		       	max(l.created_at) as at
		from last l join late on late.id = l.run_id join build b on b.id = late.build_id join app a on a.id = b.app_id
		     join leg g on g.id = l.leg_id join suite_revision v on v.id = g.revision_id
		     	join suite s on s.id = v.suite_id
		where l.verdict in ('fail', 'error')
		group by late.number, a.name, b.version_name, s.name, v.cases, l.case_index, l.verdict, l.sentence
		order by late.number desc, max(l.created_at) desc limit $2`, project, limit)
	return list, err
}

// Waiting is how many legs of a run wait for one class of device.
type Waiting struct {
	Run      int64                 `db:"run"`
	Kind     string                `db:"kind"`
	Model    string                `db:"model"`
	Platform string                `db:"platform"`
	OS       string                `db:"os"`
	Levels   pg.JSON[fleet.Levels] `db:"levels"`
	AskedBy  string                `db:"asked_by"`
	Never    pg.Int64s             `db:"never"` // none of these devices
	Legs     int                   `db:"legs"`
}

// Queue gives what waits, by run and class, oldest run first.
func (s *Store) Queue(ctx context.Context, project int64, limit int) ([]Waiting, error) {
	list := []Waiting{}
	err := s.db.SelectContext(ctx, &list, `
		select r.number as run, l.kind, l.model, l.platform, l.os, l.levels, r.asked_by, l.never || l.avoid as never,
			count(*) as legs
		from run r join leg l on l.run_id = r.id
		where r.project_id = $1 and r.finished_at is null and l.state = 'waiting'
		group by 1, 8, l.kind, l.model, l.platform, l.os, l.levels, 7 order by r.number, l.model, l.os
			limit $2`, project, limit)
	return list, err
}

// CaseInRun is how one case went in one run: the verdicts of its crossings.
type CaseInRun struct {
	Run         int64     `db:"run"`
	BuildID     int64     `db:"build_id"`
	Build       int64     `db:"build"`
	VersionName string    `db:"version_name"`
	VersionCode string    `db:"version_code"`
	Case        string    `db:"case_name"`
	Verdict     string    `db:"verdict"`
	Leg         int64     `db:"leg_id"`
	At          time.Time `db:"at"`

	Kind, Model, Platform, OS string
	Levels                    pg.JSON[fleet.Levels]
}

// CaseHistory gives every result of a suite's cases in the newest runs before a
// number (0 for all), of one app or of any (0), newest run first, oldest attempt first.
func (s *Store) CaseHistory(ctx context.Context, project, app int64, suite string, before int64,
	runs int) ([]CaseInRun, error) {
	list := []CaseInRun{}
	err := s.db.SelectContext(ctx, &list, `
		with late as (
			select r.id, r.number, r.build_id, r.created_at from run r join build b on b.id = r.build_id
			where r.project_id = $1 and r.purpose = 'suite' and ($2::bigint = 0 or b.app_id = $2)
				and ($4::bigint = 0 or r.number < $4)
			  and exists (select 1 from leg l join suite_revision v on v.id = l.revision_id
			  	join suite s on s.id = v.suite_id where l.run_id = r.id and s.name = $3)
			order by r.number desc limit $5)
		select late.number as run, late.build_id, b.number as build, b.version_name, b.version_code,
			v.cases->r.case_index->>'name' as case_name, r.verdict, r.leg_id, late.created_at as at,
			g.kind, g.model, g.platform, g.os, g.levels
		from late join build b on b.id = late.build_id join result r on r.run_id = late.id
		     join leg g on g.id = r.leg_id join suite_revision v on v.id = g.revision_id
		     	join suite s on s.id = v.suite_id and s.name = $3
		order by late.number desc, r.lease_id`, project, app, suite, before, runs)
	return list, err
}

// StepsOfCase is how a case went once, step by step.
type StepsOfCase struct {
	Run         int64           `db:"run"`
	Build       int64           `db:"build"`
	BuildID     int64           `db:"build_id"`
	VersionName string          `db:"version_name"`
	VersionCode string          `db:"version_code"`
	Steps       json.RawMessage `db:"steps"`
}

// StepHistory gives how a case went in the newest runs before a number, step by step, newest first.
func (s *Store) StepHistory(ctx context.Context, project, app int64, suite, name string, before int64,
	limit int) ([]StepsOfCase, error) {
	list := []StepsOfCase{}
	err := s.db.SelectContext(ctx, &list, `
		with late as (
			select r.id, r.number, r.build_id from run r join build b on b.id = r.build_id
			where r.project_id = $1 and r.purpose = 'suite' and b.app_id = $2 and r.number < $5
				and exists (select 1 from leg l join suite_revision v on v.id = l.revision_id
					join suite s on s.id = v.suite_id where l.run_id = r.id and s.name = $3)
			order by r.number desc limit 20)
		select late.number as run, b.id as build_id, b.number as build, b.version_name, b.version_code, x.steps
		from late join build b on b.id = late.build_id
			cross join lateral (
				select r.steps from result r join leg g on g.id = r.leg_id join suite_revision v on v.id = g.revision_id
					join suite s on s.id = v.suite_id and s.name = $3
				where r.run_id = late.id and r.steps is not null and v.cases->r.case_index->>'name' = $4
				order by (r.verdict = 'pass') desc, r.lease_id desc limit 2) x
		order by late.number desc limit $6`, project, app, suite, name, before, limit)
	return list, err
}

// LegSteps gives the results of a leg with their steps.
func (s *Store) LegSteps(ctx context.Context, leg int64) ([]Result, error) {
	list := []Result{}
	err := s.db.SelectContext(ctx, &list, resultColumns+
		`where r.leg_id = $1 and r.verdict = 'pass' order by r.case_index, r.lease_id`, leg)
	return list, err
}
