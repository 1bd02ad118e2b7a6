package store

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/states"
	"yamato/internal/store/pg"
)

// Asked is a run as it is asked for: each field is a column of the table run, and what begins a run, or is begun again,
// goes by them all.
type Asked struct {
	ProjectID    int64  `db:"project_id"`
	BuildID      int64  `db:"build_id"`
	Purpose      string `db:"purpose"`
	Seed         int64  `db:"seed"`
	RepeatFailed int    `db:"repeat_failed"`
	AfterError   int    `db:"after_error"`
	Language     string `db:"language"`
	Leave        bool   `db:"leave_installed"`
	Lineup       string `db:"lineup"`
	Checklist    string `db:"checklist"` // that people go through by hand, "" for a run of machines
	RealTime     bool   `db:"real_time"`
	AskedBy      string `db:"asked_by"`
	Order        string `db:"case_order"`  // written or random
	Steps        bool   `db:"tells_steps"` // each step is told as it ends

	PlanID       *int64                    `db:"plan_id"`
	PlanRevision *int                      `db:"plan_revision"`
	Changed      pg.JSON[[]string]         `db:"changed"` // of the plan, for this run alone, in words
	Factors      pg.JSON[[]string]         `db:"factors"` // that it varies beside the devices
	Limits       pg.JSON[Limits]           `db:"limits"`
	Keep         pg.JSON[evidence.Keeping] `db:"keep"` // the run's rules and its plan's
}

// Run is one carrying-out.
type Run struct {
	Asked

	ID          int64      `db:"id"`
	Number      int64      `db:"number"`
	App         string     `db:"app"`
	AppID       int64      `db:"app_id"`
	BuildNumber int64      `db:"build_number"`
	VersionName string     `db:"version_name"`
	VersionCode string     `db:"version_code"`
	State       states.Run `db:"state"`
	Verdict     string     `db:"verdict"`
	Plan        string     `db:"plan"` // its name, "" for a run that no plan asked for
	LastEvent   int64      `db:"last_event"`
	OpenLegs    int        `db:"open_legs"`
	Legs        int        `db:"legs"`
	Expected    int        `db:"expected"` // results, with those of further attempts
	Results     int        `db:"results"`
	Fails       int        `db:"fails"` // results of that verdict
	Errors      int        `db:"errors"`
	PinnedBy    string     `db:"pinned_by"`
	CreatedAt   time.Time  `db:"created_at"`
	StartedAt   *time.Time `db:"started_at"`
	FinishedAt  *time.Time `db:"finished_at"`
}

// Limits are what ends a run early, and what bounds its legs and cases; 0 for what is usual.
type Limits struct {
	Failures int   `json:"failures,omitempty"` // it ends once so many crossings have failed for good
	StepMS   int64 `json:"step_ms,omitempty"`
	CaseMS   int64 `json:"case_ms,omitempty"`
	LegMS    int64 `json:"leg_ms,omitempty"`
	RunMS    int64 `json:"run_ms,omitempty"`
}

// NewLeg is a leg to be made.
type NewLeg struct {
	RevisionID  int64
	Digest      string
	Combination fleet.Combination
	Device      *int64
	Never       []int64 // devices that it does not run on, whatever else
	Cases       []int
}

// NewLeftOut is a combination that is not run.
type NewLeftOut struct {
	Combination fleet.Combination
	Reasons     []fleet.Reason
}

// NewRun is a run to be made.
type NewRun struct {
	Run            Asked
	IdempotencyKey string
	Digest         []byte // of what was asked, by which a call that is made again is known
	KnownOf        int64  // a run whose knowledge of the app this one shares, 0 for what is known now
	Legs           []NewLeg
	LeftOut        []NewLeftOut
}

// AddRun makes a run with its legs in one transaction and gives its number. The
// same idempotency key gives the same run.
func (s *Store) AddRun(ctx context.Context, n NewRun) (number int64, err error) {
	err = s.InTx(ctx, func(t *Tx) error {
		r := n.Run
		if n.IdempotencyKey != "" {
			var before struct {
				Number int64  `db:"number"`
				Digest []byte `db:"idempotency_digest"`
			}
			err := t.tx.GetContext(ctx, &before,
				`select number, idempotency_digest from run where project_id = $1 and idempotency_key = $2`,
				r.ProjectID, n.IdempotencyKey)
			if number = before.Number; pg.Found(err) != pg.ErrNone {
				if err == nil && before.Digest != nil && !bytes.Equal(before.Digest, n.Digest) {
					return pg.ErrOtherCall
				}
				return err
			}
		}
		r.Order = cmp.Or(r.Order, "written")
		r.Changed.V, r.Factors.V = append([]string{}, r.Changed.V...), append([]string{}, r.Factors.V...)
		state := "queued"
		if r.Checklist != "" {
			state = "running"
		}
		row, err := insertRun(ctx, t.tx, struct {
			Asked
			State  string  `db:"state"`
			Key    *string `db:"idempotency_key"`
			Digest []byte  `db:"idempotency_digest"`
			Open   int     `db:"open_legs"`
			Legs   int     `db:"legs"`
			Expect int     `db:"expected"`
		}{r, state, pg.Stated(n.IdempotencyKey), n.Digest, len(n.Legs), len(n.Legs), crossings(n.Legs)})
		if err != nil {
			return err
		}
		number = row.Number
		if err := t.addLegs(ctx, r, row.ID, n.Legs); err != nil {
			return err
		}
		if err := t.keepKnown(ctx, row.ID, n.KnownOf); err != nil {
			return err
		}
		for i, l := range n.LeftOut {
			if err := t.exec(ctx, `insert into left_out (project_id, run_id, position, combination, reasons) values ($1, $2, $3, $4, $5)`,
				r.ProjectID, row.ID, i, pg.Encode(l.Combination), pg.Encode(l.Reasons)); err != nil {
				return err
			}
		}
		return nil
	})
	return number, err
}

// insertRun makes a run of what its columns hold, with the project's next number.
func insertRun(ctx context.Context, tx *sqlx.Tx, run any) (row struct {
	ID     int64 `db:"id"`
	Number int64 `db:"number"`
}, err error) {
	columns := pg.Columns(run)
	query, args, err := sqlx.Named(`
		with n as (update project set next_run = next_run + 1 where id = :project_id returning next_run - 1 as number)
		insert into run (number, started_at, `+strings.Join(columns, ", ")+`)
		select number, case when :state = 'running' then now() end, :`+strings.Join(columns, ", :")+`
			from n returning id, number`, run)
	if err == nil {
		err = tx.GetContext(ctx, &row, tx.Rebind(query), args...)
	}
	return row, err
}

// keepKnown notes which locators of a run's suites have matched in its app by now, or
// what another run knew.
func (t *open) keepKnown(ctx context.Context, run, like int64) error {
	if like != 0 {
		return t.exec(ctx, `
			insert into run_known (run_id, project_id, locators) select $1, project_id, locators from run_known
				where run_id = $2`, run, like)
	}
	return t.exec(ctx, `
		with named as (
			select distinct jsonb_array_elements_text(v.locators) as locator from suite_revision v
			where v.id in (select revision_id from leg where run_id = $1))
		insert into run_known (run_id, project_id, locators)
		select r.id, r.project_id, coalesce(jsonb_agg(k.locator
			order by k.locator) filter (where k.locator is not null), '[]')
		from run r join build b on b.id = r.build_id left join known_locator k on k.project_id = r.project_id
			and k.app_id = b.app_id and k.locator in (select locator from named)
		where r.id = $1 group by r.id, r.project_id`, run)
}

// RunsKnown gives what runs knew of their apps when they began.
func (s *Store) RunsKnown(ctx context.Context, runs []int64) (map[int64][]string, error) {
	var rows []struct {
		Run      int64             `db:"run_id"`
		Locators pg.JSON[[]string] `db:"locators"`
	}
	if err := s.db.SelectContext(ctx, &rows, `select run_id, locators from run_known where run_id = any($1)`,
		runs); err != nil {
		return nil, err
	}
	out := map[int64][]string{}
	for _, r := range rows {
		out[r.Run] = r.Locators.V
	}
	return out, nil
}

func crossings(legs []NewLeg) (n int) {
	for _, l := range legs {
		n += len(l.Cases)
	}
	return n
}

func (t *open) addLegs(ctx context.Context, r Asked, run int64, legs []NewLeg) error {
	state := "waiting"
	if r.Checklist != "" { // people do it, whenever they have a device
		state = "running"
	}
	type row struct {
		fleet.Class
		Revision int64        `json:"revision"`
		Digest   string       `json:"digest"`
		Device   *int64       `json:"device"`
		Levels   fleet.Levels `json:"levels"`
		Cases    []int        `json:"cases"`
		Never    []int64      `json:"never"`
	}
	rows := make([]row, 0, len(legs))
	for _, l := range legs {
		rows = append(rows, row{l.Combination.Class, l.RevisionID, l.Digest, l.Device,
			append(fleet.Levels{}, l.Combination.Levels...), append([]int{}, l.Cases...), append([]int64{}, l.Never...)})
	}
	return t.exec(ctx, `
		with new as (
			insert into leg (project_id, run_id, position, revision_id, digest, device_id, kind, model, platform, os,
				levels, cases, todo, never, state)
			select $1, $2, n - 1, revision, digest, device, kind, model, platform, os, levels, cases, cases, never, $4
			from rows from (jsonb_to_recordset($3) as (revision bigint, digest text, device bigint, kind text, model text,
				platform text, os text, levels jsonb, cases int[], never bigint[])) with ordinality
				as l(revision, digest, device, kind, model, platform, os, levels, cases, never, n)
			order by n returning id)
		insert into dirty (sort, id) select 2, id from new`, r.ProjectID, run, pg.Encode(rows), state)
}

// runColumns reads runs: all that they were asked for, and what has become of them.
var runColumns = `
	select r.` + strings.Join(pg.Columns(Asked{}), ", r.") + `,
		r.id, r.number, a.name as app, a.id as app_id, b.number as build_number, b.version_name, b.version_code, r.state,
		r.verdict, coalesce(p.name, '') as plan, r.last_event, r.open_legs, r.legs, r.expected, r.results, r.fails, r.errors,
		r.pinned_by, r.created_at, r.started_at, r.finished_at
	from run r join build b on b.id = r.build_id join app a on a.id = b.app_id left join plan p on p.id = r.plan_id `

// RunNumbered gives one run.
func (s *Store) RunNumbered(ctx context.Context, project, number int64) (Run, error) {
	var r Run
	err := s.db.GetContext(ctx, &r, runColumns+`where r.project_id = $1 and r.number = $2`, project, number)
	return r, pg.Found(err)
}

// RunFilter says which runs are wanted; what is empty does not matter.
type RunFilter struct {
	Q       string // a number, or part of an app's name, a version, a suite, or who asked
	State   string
	Verdict string
	Build   string // number or version
	AskedBy string
}

// Runs gives runs, newest first, before the given number (0 for the newest).
func (s *Store) Runs(ctx context.Context, project int64, f RunFilter, before int64, limit int) ([]Run, error) {
	list := []Run{}
	err := s.db.SelectContext(ctx, &list, runColumns+`
		where r.project_id = $1 and r.purpose = 'suite' and ($2::bigint = 0 or r.number < $2)
		  and ($4 = '' or r.state = $4) and ($5 = '' or r.verdict = $5)
		  	and ($6 = '' or b.number::text = $6 or b.version_name = $6) and ($9 = '' or r.asked_by = $9)
		  and ($7 = '' or r.number::text = $7 or a.name ilike $8 or b.version_name ilike $8
		  	or r.asked_by ilike $8 or exists (
			select 1 from leg l join suite_revision v on v.id = l.revision_id join suite s on s.id = v.suite_id
				where l.run_id = r.id and s.name ilike $8))
		order by r.number desc limit $3`, project, before, limit, f.State, f.Verdict, f.Build, f.Q, like(f.Q),
		f.AskedBy)
	return list, err
}

// LateRuns gives the runs that are under way, those among ids, and the newest.
func (s *Store) LateRuns(ctx context.Context, project int64, ids []int64, newest int) ([]Run, error) {
	list := []Run{}
	err := s.db.SelectContext(ctx, &list, runColumns+`
		where r.project_id = $1 and r.purpose = 'suite' and (r.finished_at is null or r.id = any($2)
		   or r.number >= (select next_run - $3 from project where id = $1))
		order by (r.finished_at is null and r.started_at is null), r.number desc -- of hundreds that wait the newest may be left out
		   	limit 500`, project, ids, newest)
	return list, err
}

// UnderWay counts the runs of a project that are under way, and their legs that wait for a device.
func (s *Store) UnderWay(ctx context.Context, project int64) (runs, legs int, err error) {
	var n struct {
		Runs int `db:"runs"`
		Legs int `db:"legs"`
	}
	err = s.db.GetContext(ctx, &n, `
		select (select count(*) from run where project_id = $1 and purpose = 'suite' and finished_at is null) as runs,
		       (select count(*) from leg l join run r on r.id = l.run_id
		        where r.project_id = $1 and r.finished_at is null and l.state = 'waiting') as legs`, project)
	return n.Runs, n.Legs, err
}

// Marks tell whether builds or suites have changed: they are other numbers then.
type Marks struct {
	Builds int64 `db:"builds"`
	Suites int64 `db:"suites"`
}

// Marks gives a project's.
func (s *Store) Marks(ctx context.Context, project int64) (Marks, error) {
	var m Marks
	err := s.db.GetContext(ctx, &m, `
		select coalesce((select max(id) from build where project_id = $1), 0) + (select count(*) from build_package
			where project_id = $1) as builds,
		       coalesce((select max(id) from suite_revision where project_id = $1), 0) as suites`, project)
	return m, err
}

// Leg is one shard in one combination.
type Leg struct {
	ID          int64                 `db:"id"`
	RunID       int64                 `db:"run_id"`
	Position    int                   `db:"position"`
	RevisionID  int64                 `db:"revision_id"`
	Suite       string                `db:"suite"`
	SuiteDigest string                `db:"suite_digest"`
	CaseNames   pg.JSON[[]CaseName]   `db:"case_names"`
	Kind        string                `db:"kind"`
	Model       string                `db:"model"`
	Platform    string                `db:"platform"`
	OS          string                `db:"os"`
	Levels      pg.JSON[fleet.Levels] `db:"levels"`
	Cases       pg.Ints               `db:"cases"`
	State       states.Leg            `db:"state"`
	Attempts    int                   `db:"attempts"`
	Digest      string                `db:"digest"`    // of the package
	DeviceID    *int64                `db:"device_id"` // this one and no other
	Device      *string               `db:"device"`    // its name
	Never       pg.Int64s             `db:"never"`     // none of these, with those that it is not to go to again
}

// Combination is the leg's.
func (l Leg) Combination() fleet.Combination {
	return fleet.Combination{Class: fleet.Class{Kind: l.Kind, Model: l.Model, Platform: l.Platform, OS: l.OS},
		Levels: l.Levels.V}
}

// Legs gives the legs of a run in order.
func (s *Store) Legs(ctx context.Context, run int64) ([]Leg, error) {
	list := []Leg{}
	err := s.db.SelectContext(ctx, &list, `
		select l.id, l.run_id, l.position, l.revision_id, s.name as suite, v.digest as suite_digest,
			v.cases as case_names,
		       l.kind, l.model, l.platform, l.os, l.levels, l.cases, l.state, l.attempts, l.digest, l.device_id,
		       	d.name as device, l.never || l.avoid as never
		from leg l left join device d on d.id = l.device_id join suite_revision v on v.id = l.revision_id
			join suite s on s.id = v.suite_id
		where l.run_id = $1 order by l.position`, run)
	return list, err
}

// LeftOut gives what a run does not run.
func (s *Store) LeftOut(ctx context.Context, run int64) ([]NewLeftOut, error) {
	var rows []struct {
		Combination pg.JSON[fleet.Combination] `db:"combination"`
		Reasons     pg.JSON[[]fleet.Reason]    `db:"reasons"`
	}
	err := s.db.SelectContext(ctx, &rows, `select combination, reasons from left_out where run_id = $1 order by position`, run)
	out := []NewLeftOut{}
	for _, r := range rows {
		out = append(out, NewLeftOut{r.Combination.V, r.Reasons.V})
	}
	return out, err
}

// Result is one case in one attempt.
type Result struct {
	LegID    int64                       `db:"leg_id"`
	LeaseID  int64                       `db:"lease_id"`
	Attempt  int                         `db:"attempt"`
	Device   string                      `db:"device"`
	Case     int                         `db:"case_index"`
	Verdict  string                      `db:"verdict"`
	TookMS   int64                       `db:"took_ms"`
	Sentence string                      `db:"sentence"`
	At       time.Time                   `db:"created_at"`
	Failure  json.RawMessage             `db:"failure"`
	Steps    json.RawMessage             `db:"steps"`
	NotKept  pg.JSON[[]evidence.NotKept] `db:"not_kept"`
}

const resultColumns = `
	select r.leg_id, r.lease_id, coalesce(a.number, 0) as attempt, coalesce(d.name, '') as device, r.case_index,
		r.verdict, r.took_ms, r.sentence, r.created_at, coalesce(r.failure, 'null') as failure,
			coalesce(r.steps, '[]') as steps, r.not_kept
	from result r left join lease l on l.id = r.lease_id left join attempt a on a.lease_id = l.id left
		join device d on d.id = l.device_id `

// CrossingResults gives the results of one case in one leg, oldest attempt first.
func (s *Store) CrossingResults(ctx context.Context, leg int64, index int) ([]Result, error) {
	list := []Result{}
	err := s.db.SelectContext(ctx, &list, resultColumns+`where r.leg_id = $1 and r.case_index = $2 order by r.lease_id`,
		leg, index)
	return list, err
}

// Failures gives all results of a run without steps, and with the failures of those
// that did not pass.
func (s *Store) Failures(ctx context.Context, run int64) ([]Result, error) {
	list := []Result{}
	err := s.db.SelectContext(ctx, &list, `
		select r.leg_id, r.lease_id, coalesce(a.number, 0) as attempt, coalesce(d.name, '') as device, r.case_index,
			r.verdict, r.took_ms, r.sentence,
				coalesce(case when r.verdict <> 'pass' then r.failure end, 'null') as failure
		from result r left join lease l on l.id = r.lease_id left join attempt a on a.lease_id = l.id left
			join device d on d.id = l.device_id
		where r.run_id = $1 order by r.lease_id, r.case_index`, run)
	return list, err
}

// BriefResults gives all results of a run without steps and failures.
func (s *Store) BriefResults(ctx context.Context, run int64) ([]Result, error) {
	list := []Result{}
	err := s.db.SelectContext(ctx, &list, `
		select r.leg_id, r.lease_id, coalesce(a.number, 0) as attempt, coalesce(d.name, '') as device, r.case_index,
			r.verdict, r.took_ms, r.sentence
		from result r left join lease l on l.id = r.lease_id left join attempt a on a.lease_id = l.id left
			join device d on d.id = l.device_id
		where r.run_id = $1 order by r.lease_id, r.case_index`, run)
	return list, err
}

// Results gives all results of a run, oldest attempt first.
func (s *Store) Results(ctx context.Context, run int64) ([]Result, error) {
	list := []Result{}
	err := s.db.SelectContext(ctx, &list, resultColumns+`where r.run_id = $1 order by r.lease_id, r.case_index`, run)
	return list, err
}

// Attempt is one go at a leg.
type Attempt struct {
	Lease   int64      `db:"id"`
	LegID   int64      `db:"leg_id"`
	Attempt int        `db:"attempt"`
	Device  string     `db:"device"`
	Granted time.Time  `db:"granted_at"`
	Ended   *time.Time `db:"ended_at"`
	EndedBy string     `db:"ended_by"`
	Trouble string     `db:"trouble"`
	// Circumstances are given by LegAttempts only.
	Circumstances json.RawMessage `db:"circumstances"`
}

// Attempts gives all attempts of a run, oldest first.
func (s *Store) Attempts(ctx context.Context, run int64) ([]Attempt, error) {
	list := []Attempt{}
	err := s.db.SelectContext(ctx, &list, `
		select l.id, a.leg_id, a.number as attempt, d.name as device, l.granted_at, l.ended_at, l.ended_by, l.trouble
		from leg g join attempt a on a.leg_id = g.id join lease l on l.id = a.lease_id
			join device d on d.id = l.device_id where g.run_id = $1 order by l.id`, run)
	return list, err
}

// LegAttempts gives the attempts at one leg with their circumstances, oldest first.
func (s *Store) LegAttempts(ctx context.Context, leg int64) ([]Attempt, error) {
	list := []Attempt{}
	err := s.db.SelectContext(ctx, &list, `
		select l.id, a.leg_id, a.number as attempt, d.name as device, l.granted_at, l.ended_at, l.ended_by, l.trouble,
			coalesce(l.circumstances, 'null') as circumstances
		from attempt a join lease l on l.id = a.lease_id join device d on d.id = l.device_id where a.leg_id = $1
			order by l.id`, leg)
	return list, err
}

// Evidence is something kept of an attempt.
type Evidence struct {
	ID        int64                    `db:"id"`
	LeaseID   int64                    `db:"lease_id"`
	LegID     int64                    `db:"leg_id"`
	Attempt   int                      `db:"attempt"`
	Device    string                   `db:"device"`
	Case      int                      `db:"case_index"`
	Sort      string                   `db:"sort"`
	Name      string                   `db:"name"`
	MediaType string                   `db:"media_type"`
	Digest    string                   `db:"digest"`
	Size      int64                    `db:"size"`
	Facts     pg.JSON[json.RawMessage] `db:"facts"`
	Gone      string                   `db:"gone"` // why its content is gone, "" where it is there
}

// EvidenceOf gives all evidence of a run.
func (s *Store) EvidenceOf(ctx context.Context, run int64) ([]Evidence, error) {
	list := []Evidence{}
	err := s.db.SelectContext(ctx, &list, evidenceColumns+`where e.run_id = $1 order by e.lease_id, e.case_index, e.id`,
		run)
	return list, err
}

// CrossingEvidence gives the evidence of one case in one leg.
func (s *Store) CrossingEvidence(ctx context.Context, run, leg int64, index int) ([]Evidence, error) {
	list := []Evidence{}
	err := s.db.SelectContext(ctx, &list, evidenceColumns+`
		where e.run_id = $1 and a.leg_id = $2 and e.case_index in ($3, -1) order by e.lease_id, e.case_index,
			e.id`, run, leg, index)
	return list, err
}

const evidenceColumns = `
	select e.id, e.lease_id, a.leg_id, a.number as attempt, d.name as device, e.case_index, e.sort, e.name,
		e.media_type, e.digest, e.size, coalesce(e.facts, 'null') as facts, e.gone
	from evidence e join lease l on l.id = e.lease_id join attempt a on a.lease_id = l.id
		join device d on d.id = l.device_id `

// EvidenceNumbered gives one piece of evidence of the run with that number.
func (s *Store) EvidenceNumbered(ctx context.Context, project, run, id int64) (Evidence, error) {
	var e Evidence
	err := s.db.GetContext(ctx, &e, evidenceColumns+`
		join run r on r.id = e.run_id where r.project_id = $1 and r.number = $2 and e.id = $3`, project, run, id)
	return e, pg.Found(err)
}

// EventBatch is a row of a run's events: First to Last.
type EventBatch struct {
	First  int64                      `db:"first"`
	Last   int64                      `db:"last"`
	At     time.Time                  `db:"at"`
	Events pg.JSON[[]json.RawMessage] `db:"events"`
}

// EventsAfter gives the batches that hold events after a number.
func (s *Store) EventsAfter(ctx context.Context, run, after int64, limit int) ([]EventBatch, error) {
	list := []EventBatch{}
	err := s.db.SelectContext(ctx, &list, `
		select first, last, at, events from run_event where run_id = $1 and last > $2 order by last
			limit $3`, run, after, limit)
	return list, err
}

// EventsOf gives the batches of the run with that number, after an event's number.
func (s *Store) EventsOf(ctx context.Context, project, number, after int64, limit int) ([]EventBatch, error) {
	list := []EventBatch{}
	err := s.db.SelectContext(ctx, &list, `
		select e.first, e.last, e.at, e.events from run r join run_event e on e.run_id = r.id
		where r.project_id = $1 and r.number = $2 and e.last > $3 order by e.last
			limit $4`, project, number, after, limit)
	return list, err
}

// RunEvents are events of a run, to be numbered.
type RunEvents struct {
	Run    int64
	Legs   int // how many of the run's legs they finish
	Events []any
	Tally
}

// Tally is what happened to the counts of a run.
type Tally struct {
	Expected int `json:"expected"` // further results
	Results  int `json:"results"`
	Fails    int `json:"fails"`
	Errors   int `json:"errors"`
}

// Counted is a run after events were added to it.
type Counted struct {
	Run      int64      `db:"id"`
	State    states.Run `db:"state"`
	OpenLegs int        `db:"open_legs"`
}

// Append numbers events and keeps them, run by run in the order of their
// ids, under the lock of each run's row, so that numbers have no gaps.
func (r Runs) Append(ctx context.Context, project map[int64]int64, list []RunEvents) ([]Counted, error) {
	if len(list) == 0 {
		return nil, nil
	}
	type sums struct {
		Run   int64 `json:"id"`
		Count int   `json:"n"`
		Legs  int   `json:"legs"`
		Tally
	}
	runs, rows, at := make([]int64, len(list)), make([]sums, len(list)), map[int64]RunEvents{}
	for i, e := range list {
		runs[i], rows[i], at[e.Run] = e.Run, sums{e.Run, len(e.Events), e.Legs, e.Tally}, e
	}
	if err := r.hold(ctx, runs); err != nil {
		return nil, err
	}
	var now []struct {
		Counted
		Last int64 `db:"last_event"`
	}
	if err := r.rows(ctx, atRuns, &now, `
		update run r set last_event = r.last_event + e.n, open_legs = r.open_legs - e.legs,
			expected = r.expected + e.expected,
		       results = r.results + e.results, fails = r.fails + e.fails, errors = r.errors + e.errors
		from jsonb_to_recordset($1) as e(id bigint, n int, legs int, expected int, results int, fails int, errors int)
		where r.id = e.id returning r.id, r.state, r.open_legs, r.last_event`, pg.Encode(rows)); err != nil {
		return nil, err
	}
	type batch struct {
		Project int64 `json:"project_id"`
		Run     int64 `json:"run_id"`
		First   int64 `json:"first"`
		Last    int64 `json:"last"`
		Events  []any `json:"events"`
	}
	batches, counted := []batch{}, []Counted(nil)
	for _, c := range now {
		counted = append(counted, c.Counted)
		if e := at[c.Run]; len(e.Events) > 0 {
			batches = append(batches, batch{project[c.Run], c.Run, c.Last - int64(len(e.Events)) + 1, c.Last, e.Events})
		}
	}
	return counted, r.exec(ctx, `
		insert into run_event (project_id, run_id, first, last, events)
		select project_id, run_id, first, last, events
		from jsonb_to_recordset($1) as e(project_id bigint, run_id bigint, first bigint, last bigint, events jsonb)`,
		pg.Encode(batches))
}

// hold locks runs by id.
func (r Runs) hold(ctx context.Context, runs []int64) error {
	return r.change(ctx, atRuns, `select 1 from run where id = any($1) order by id for no key update`, runs)
}

// Begin has runs that wait for their first leg running.
func (r Runs) Begin(ctx context.Context, runs []int64) error {
	if err := r.hold(ctx, runs); err != nil {
		return err
	}
	return r.exec(ctx, `update run set state = 'running', started_at = now() where id = any($1) and state = 'queued'`, runs)
}

// AskedLeg is a leg with the cases that it was asked for.
type AskedLeg struct {
	ID       int64      `db:"id"`
	Revision int64      `db:"revision_id"`
	State    states.Leg `db:"state"`
	Cases    pg.Ints    `db:"cases"`
}

// AskedOf gives every leg of a run, and the verdicts of all its results, oldest first.
func (t *open) AskedOf(ctx context.Context, run int64) (legs []AskedLeg, results []LegResult, err error) {
	if err := t.tx.SelectContext(ctx, &legs, `select id, revision_id, state, cases from leg where run_id = $1`,
		run); err != nil {
		return nil, nil, err
	}
	err = t.tx.SelectContext(ctx, &results, `
		select leg_id, case_index, verdict, coalesce(failure->>'cause', '') as cause from result where run_id = $1
			order by lease_id`, run)
	return legs, results, err
}

// LegResult is the verdict of a case in an attempt at a leg.
type LegResult struct {
	LegID   int64  `db:"leg_id"`
	Case    int    `db:"case_index"`
	Verdict string `db:"verdict"`
	Cause   string `db:"cause"`
}

// Finish closes a run: it is finished, or stays cancelled where it is that.
func (r Runs) Finish(ctx context.Context, run int64, verdict string) (state states.Run, err error) {
	err = r.row(ctx, atRuns, &state, `
		update run set state = case when state = 'cancelled' then state else 'finished' end, verdict = $2, finished_at = now()
		where id = $1 returning state`, run, verdict)
	return state, err
}

// Cancel cancels a run, and reports whether it did: one that is at its end stays as it is.
func (r Runs) Cancel(ctx context.Context, run int64) (bool, error) {
	var state states.Run
	if err := r.row(ctx, atRuns, &state, `select state from run where id = $1 for no key update`, run); err != nil ||
		!states.Runs.May(state, states.RunCancelled) {
		return false, err
	}
	return true, r.exec(ctx, `update run set state = 'cancelled' where id = $1`, run)
}

// HoldOpen locks the legs of a run that wait, or that people go through, in order.
func (l Legs) HoldOpen(ctx context.Context, run int64) error {
	var ids []int64
	err := l.rows(ctx, atLegs, &ids, `select id from leg where run_id = $1 and state in ('waiting', 'running') order by id
		for no key update`, run)
	note(&l.legs, ids)
	return err
}

// CancelWaiting cancels those of the legs that this transaction has locked which wait and are of cancelled runs, and
// gives how many there were of each run.
func (r Runs) CancelWaiting(ctx context.Context, runs []int64) (map[int64]int, error) {
	if len(runs) == 0 || len(r.legs) == 0 {
		return nil, nil
	}
	var gone []struct {
		ID  int64 `db:"id"`
		Run int64 `db:"run_id"`
	}
	if err := r.tx.SelectContext(ctx, &gone, `
		update leg set state = 'cancelled' where id = any($2) and run_id = any($1) and (state = 'waiting' or state = 'running'
			and exists (select 1 from run where id = run_id and checklist <> '')) returning id, run_id`, runs,
		all(r.legs)); err != nil {
		return nil, err
	}
	count, ids := map[int64]int{}, make([]int64, len(gone))
	for i, g := range gone {
		ids[i] = g.ID
		count[g.Run]++
	}
	return count, r.MarkDirty(ctx, DirtyLeg, ids)
}

// AskEnd asks for the end of all live leases of a run.
func (t Leases) AskEnd(ctx context.Context, run int64, reason string) error {
	return t.change(ctx, atLeases, `
		update lease set end_asked = $2 where id in (
			select lease.id from lease join attempt on attempt.lease_id = lease.id
			where attempt.run_id = $1 and lease.ended_at is null and lease.end_asked = '' order by lease.id
				for no key update of lease)`, run, reason)
}

// CancelledOpen gives the cancelled runs that have not come to their end.
func (s *Store) CancelledOpen(ctx context.Context) ([]Run, error) {
	var list []Run
	err := s.db.SelectContext(ctx, &list, runColumns+
		`where r.finished_at is null and r.state = 'cancelled' order by r.id`)
	return list, err
}
