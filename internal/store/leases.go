package store

import (
	"context"
	"encoding/json"
	"time"

	"slices"
	"yamato/internal/core/appfile"
	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/states"
	"yamato/internal/store/access"
	"yamato/internal/store/pg"
	"yamato/internal/store/vault"
)

// WaitingLeg is a leg as the scheduler needs it.
type WaitingLeg struct {
	ID        int64     `db:"id"`
	ProjectID int64     `db:"project_id"`
	RunID     int64     `db:"run_id"`
	Position  int64     `db:"position"`
	Kind      string    `db:"kind"`
	Model     string    `db:"model"`
	Platform  string    `db:"platform"`
	OS        string    `db:"os"`
	DeviceID  int64     `db:"device_id"` // 0 for any
	Avoid     pg.Int64s `db:"avoid"`
	State     string    `db:"state"` // blocked: it waits for a test account
	AskedBy   string    `db:"asked_by"`
}

const waitingColumns = `select id, project_id, run_id, position, kind, model, platform, os,
	coalesce(device_id, 0) as device_id, avoid || never as avoid,
	case when state = 'waiting' and blocked <> '' then 'blocked' else state end as state,
	(select asked_by from run where run.id = leg.run_id) as asked_by from leg `

// LegsByID gives legs by their ids.
func (t *open) LegsByID(ctx context.Context, ids []int64) ([]WaitingLeg, error) {
	var list []WaitingLeg
	err := t.tx.SelectContext(ctx, &list, waitingColumns+`where id = any($1)`, ids)
	return list, err
}

// WaitingLegs gives every leg that waits.
func (t *open) WaitingLegs(ctx context.Context) ([]WaitingLeg, error) {
	var list []WaitingLeg
	err := t.tx.SelectContext(ctx, &list, waitingColumns+`
		where run_id in (select id from run where finished_at is null) and state = 'waiting' and blocked = '' order by id`)
	return list, err
}

// Lead takes the lead if nobody has held it for silence, or keeps it, and gives
// the epoch; 0 where another leads.
func (s *Store) Lead(ctx context.Context, instance string, silence time.Duration) (int64, error) {
	var epochs []int64
	err := s.db.SelectContext(ctx, &epochs, `
		update leadership
		set epoch = case when instance = $1 then epoch else epoch + 1 end, instance = $1, renewed_at = now()
		where instance = $1 or renewed_at < now() - $2 * interval '1 ms'
			returning epoch`, instance, silence.Milliseconds())
	if len(epochs) == 0 {
		return 0, err
	}
	return epochs[0], err
}

// Leads reports whether the epoch still holds, and keeps anybody from taking
// the lead until the transaction ends.
func (t Hosts) Leads(ctx context.Context, instance string, epoch int64) (bool, error) {
	var n []int
	err := t.rows(ctx, atHosts, &n, `select 1 from leadership where epoch = $1 and instance = $2 for share`, epoch,
		instance)
	return len(n) == 1, err
}

// LeadsNow reports whether an instance holds the lead.
func (s *Store) LeadsNow(ctx context.Context, instance string) (bool, error) {
	var ok bool
	err := s.db.GetContext(ctx, &ok, `select exists (select 1 from leadership where instance = $1)`, instance)
	return ok, err
}

// Stranded is a leg that waits for devices of which each needs a person.
type Stranded struct {
	Leg     int64  `db:"leg_id"`
	Project int64  `db:"project_id"`
	Run     int64  `db:"run_id"`
	Device  string `db:"device"`
	State   string `db:"state"`
	Reason  string `db:"reason"`
}

// StrandedLegs gives the legs that have waited since before a time while each
// device that could take them was unready or sidelined for as long.
func (s *Store) StrandedLegs(ctx context.Context, patience time.Duration, limit int) ([]Stranded, error) {
	var list []Stranded
	// What a person has to mend, what is out of reach, and what was being cleaned when its host went.
	needs := func(d string) string {
		return `(` + d + `.since < now() - $1 * interval '1 ms' and (` + d + `.state in ('unready', 'sidelined', 'offline') or ` + d + `.state = 'resetting'
			and not exists (select 1 from host h join instance i on i.id = h.instance and i.seen_at > now() - interval '15 seconds'
				where h.id = ` + d + `.host_id)))`
	}
	err := s.db.SelectContext(ctx, &list, `
		with bad as (
			select project_id, kind, model, platform, os, (array_agg(name order by since desc))[1] as name,
				(array_agg(state order by since desc))[1] as state,
				(array_agg(case when state = 'resetting' then '`+NotConnected+`' else reason end order by since desc))[1] as reason
			from device b where removed_at is null and `+needs("b")+` group by 1, 2, 3, 4, 5)
		select l.id as leg_id, l.project_id, l.run_id, bad.name as device, bad.state, bad.reason
		from bad join leg l on l.project_id = bad.project_id and l.kind = bad.kind and l.model = bad.model
			and l.platform = bad.platform and l.os = bad.os and l.state = 'waiting'
		     join run r on r.id = l.run_id and r.finished_at is null and r.created_at < now() - $1 * interval '1 ms'
		where not exists (
			select 1 from device d
			where d.project_id = l.project_id and d.kind = l.kind and d.model = l.model and d.platform = l.platform
				and d.os = l.os and d.removed_at is null
			  and not d.id = any(l.never) and (l.device_id is null or l.device_id = d.id)
			  and not `+needs("d")+`)
		order by l.id limit $2`, patience.Milliseconds(), limit)
	return list, err
}

// Forsaken gives the legs that have waited since before a time while there is no device any
// more that could take them, with the name and state of one that could have: it was
// removed, or it is among those that never fit on their host.
func (s *Store) Forsaken(ctx context.Context, patience time.Duration, never []int64, limit int) ([]Stranded, error) {
	var list []Stranded
	err := s.db.SelectContext(ctx, &list, `
		select l.id as leg_id, l.project_id, l.run_id, coalesce(gone.name, '') as device,
			coalesce(gone.state, '') as state, '' as reason
		from run r join leg l on l.run_id = r.id and l.state = 'waiting'
		     left join lateral (
			select d.name, case when d.removed_at is null then 'halted' else 'removed' end as state from device d
			where d.project_id = l.project_id and d.kind = l.kind and d.model = l.model and d.platform = l.platform
				and d.os = l.os
			  and (l.device_id is null or l.device_id = d.id) and not d.id = any(l.never)
			order by d.removed_at desc nulls first limit 1) gone on true
		where r.finished_at is null and r.created_at < now() - $1 * interval '1 ms'
		  and not exists (
			select 1 from device d
			where d.project_id = l.project_id and d.kind = l.kind and d.model = l.model and d.platform = l.platform
				and d.os = l.os
			  and (l.device_id is null or l.device_id = d.id) and not d.id = any(l.never)
			  and case when d.removed_at is null then not d.id = any($2) else d.removed_at > now() - $1 * interval '1 ms' end)
		order by l.id limit $3`, patience.Milliseconds(), append([]int64{}, never...), limit)
	return list, err
}

// FinishWaiting finishes a leg that still waits, and reports whether it did.
func (l Legs) FinishWaiting(ctx context.Context, leg int64) (bool, error) {
	var ids []int64
	if err := l.rows(ctx, atLegs, &ids, `update leg set state = 'finished' where id = $1 and state = 'waiting' returning id`,
		leg); err != nil {
		return false, err
	}
	note(&l.legs, ids)
	return len(ids) == 1, l.MarkDirty(ctx, DirtyLeg, ids)
}

// DecideRest gives every undecided case of a leg a verdict, under the last lease that the
// leg had, or under the leg's own number below zero where it never had one. It gives how
// many there were.
func (t Legs) DecideRest(ctx context.Context, leg int64, verdict string, failure any, sentence string) (int, error) {
	var n []int
	err := t.rows(ctx, atLegs, &n, `
		insert into result (project_id, lease_id, case_index, run_id, leg_id, verdict, took_ms, sentence, failure)
		select g.project_id, coalesce(l.id, -g.id), c, g.run_id, g.id, $4, 0, $3, $2::jsonb
		from leg g cross join lateral (select max(lease_id) as id from attempt where leg_id = g.id) l cross
			join unnest(g.todo) as c
		where g.id = $1
		on conflict (lease_id, case_index) do nothing returning 1`, leg, pg.Encode(failure), sentence, verdict)
	return len(n), err
}

// Beat tells that an instance is alive.
func (s *Store) Beat(ctx context.Context, instance, address string) error {
	_, err := s.db.ExecContext(ctx, `
		insert into instance (id, address) values ($1, $2)
		on conflict (id) do update set seen_at = now(), address = excluded.address`, instance, address)
	return err
}

// Dirty is something to look at again.
type Dirty struct {
	Sort int   `db:"sort"`
	ID   int64 `db:"id"`
}

// TakeDirty gives what is to be looked at again, and forgets it on commit.
func (t *open) TakeDirty(ctx context.Context) ([]Dirty, error) {
	var list []Dirty
	err := t.tx.SelectContext(ctx, &list, `delete from dirty returning sort, id`)
	return list, err
}

// TidyDirty gives back the space of what was taken. The scheduler reads the table
// whole, many times a second, and cannot wait for the database to get round to it.
func (s *Store) TidyDirty(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `vacuum (truncate false) dirty`)
	return err
}

// Placement puts a leg on a device.
type Placement struct{ Leg, Device int64 }

// Place puts legs on devices, which this transaction has locked (Devices.Lock): leases begin, legs are placed, devices
// leased. It gives the runs of those that could be placed, one a placement; where that is not all of them the caller's
// picture of the world is wrong, and the transaction must not commit. The runs are begun last (Runs.Begin).
//
// It is several plain statements rather than one: joins of what statements give
// back have no index and no estimate, and would take the square of the placements.
func (l Legs) Place(ctx context.Context, list []Placement, ttl time.Duration) (runs []int64, err error) {
	legs, devices := make([]int64, len(list)), make([]int64, len(list))
	for i, p := range list {
		if !l.devices[p.Device] {
			return nil, OrderError{l.at.String(), atDevices.String()}
		}
		legs[i], devices[i] = p.Leg, p.Device
	}
	if err := l.hold(ctx, legs); err != nil {
		return nil, err
	}
	var numbers []int64
	if err := l.rows(ctx, atLegs, &numbers, `select nextval('lease_number') from generate_series(1, $1)`,
		len(legs)); err != nil {
		return nil, err
	}
	var leased []struct {
		ID      int64 `db:"id"`
		Host    int64 `db:"host_id"`
		Project int64 `db:"project_id"`
		Before  int64 `db:"before"`
	}
	if err := l.rows(ctx, atLegs, &leased, `
		update device d set state = 'leased', since = now(), last_lease = p.number, used = d.used + 1
		from unnest($1::bigint[], $2::bigint[]) as p(device, number) join device old on old.id = p.device
		where d.id = p.device and d.state = 'idle' returning d.id, d.host_id, d.project_id,
			old.last_lease as before`, devices, numbers); err != nil {
		return nil, err
	}
	var placed []struct {
		ID       int64   `db:"id"`
		Run      int64   `db:"run_id"`
		Todo     pg.Ints `db:"todo"`
		Attempts int     `db:"attempts"`
	}
	if err := l.rows(ctx, atLegs, &placed, `
		update leg set state = 'placed', attempts = attempts + 1 where id = any($1) and state = 'waiting'
		returning id, run_id, todo, attempts`, legs); err != nil {
		return nil, err
	}
	deviceAt, legAt := map[int64]int{}, map[int64]int{}
	for i, d := range leased {
		deviceAt[d.ID] = i
	}
	for i, g := range placed {
		legAt[g.ID] = i
	}
	type begun struct {
		Number  int64   `json:"number"`
		Project int64   `json:"project"`
		Device  int64   `json:"device"`
		Host    int64   `json:"host"`
		Before  int64   `json:"before"`
		Run     int64   `json:"run"`
		Leg     int64   `json:"leg"`
		Attempt int     `json:"attempt"`
		Todo    pg.Ints `json:"todo"`
	}
	var rows []begun
	for i, p := range list {
		d, isLeased := deviceAt[p.Device]
		g, isPlaced := legAt[p.Leg]
		if !isLeased || !isPlaced {
			continue
		}
		rows = append(rows, begun{
			Number: numbers[i], Project: leased[d].Project, Device: p.Device, Host: leased[d].Host, Before: leased[d].Before,
			Run: placed[g].Run, Leg: p.Leg, Attempt: placed[g].Attempts, Todo: append(pg.Ints{}, placed[g].Todo...),
		})
		runs = append(runs, placed[g].Run)
	}
	body := pg.Encode(append([]begun{}, rows...))
	if err := l.exec(ctx, `
		insert into lease (id, project_id, device_id, host_id, before, expires_at)
		select number, project, device, host, before, now() + $2 * interval '1 ms'
		from jsonb_to_recordset($1) as x(number bigint, project bigint, device bigint, host bigint, before bigint)`,
		body, ttl.Milliseconds()); err != nil {
		return nil, err
	}
	return runs, l.exec(ctx, `
		insert into attempt (lease_id, project_id, run_id, leg_id, number, todo)
		select number, project, run, leg, attempt, todo
		from jsonb_to_recordset($1) as x(number bigint, project bigint, run bigint, leg bigint, attempt int, todo int[])`, body)
}

// Assignment is a live lease with all that a host needs to carry it out.
type Assignment struct {
	Lease       int64                     `db:"id"`
	Device      string                    `db:"device"`
	RunID       int64                     `db:"run_id"`
	Run         int64                     `db:"run"`
	AppID       int64                     `db:"app_id"`
	RevisionID  int64                     `db:"revision_id"`
	Attempt     int                       `db:"attempt"`
	Kind        string                    `db:"kind"`
	Model       string                    `db:"model"`
	Platform    string                    `db:"platform"`
	OS          string                    `db:"os"`
	Levels      pg.JSON[fleet.Levels]     `db:"levels"`
	Limits      pg.JSON[Limits]           `db:"limits"`
	Keep        pg.JSON[evidence.Keeping] `db:"keep"`
	PackageBlob string                    `db:"package_blob"`
	ProjectID   int64                     `db:"project_id"`
	Cases       pg.Ints                   `db:"todo"`
	Seed        int64                     `db:"seed"`
	RealTime    bool                      `db:"real_time"`
	Steps       bool                      `db:"tells_steps"`
	Leave       bool                      `db:"leave_installed"`
	LastSeq     int64                     `db:"last_seq"`
	TTLMS       int64                     `db:"ttl_ms"`
}

// LiveLease is a lease of a host's that has not ended.
type LiveLease struct {
	Lease    int64  `db:"id"`
	Began    bool   `db:"began"` // its host has said something of it
	EndAsked string `db:"end_asked"`
}

// LiveLeases gives the live leases of a host, all of them or those that it has said
// nothing of yet, and those that are to end early. It asks for no numbers above some
// other: numbers do not commit in order. It gives none to a link that is not the host's
// newest.
func (s *Store) LiveLeases(ctx context.Context, host, link int64, all bool) ([]LiveLease, error) {
	var list []LiveLease
	err := s.db.SelectContext(ctx, &list, `
		select l.id, l.began_at is not null as began, l.end_asked from lease l join host h on h.id = l.host_id
			and h.link = $2
		where l.host_id = $1 and l.ended_at is null and ($3 or l.began_at is null or l.end_asked <> '')
		order by l.id`, host, link, all)
	return list, err
}

// Assignments gives leases with all that their host needs to carry them out.
func (s *Store) Assignments(ctx context.Context, leases []int64) ([]Assignment, error) {
	var list []Assignment
	err := s.db.SelectContext(ctx, &list, `
		select l.id, d.name as device, a.run_id, r.number as run, b.app_id, g.revision_id, a.number as attempt,
			g.kind, g.model, g.platform, g.os, g.levels,
		       l.project_id, g.digest as package_blob, a.todo, r.seed, r.real_time, r.tells_steps, r.leave_installed, r.limits, r.keep, l.last_seq,
		       greatest(0, extract(epoch from l.expires_at - now()) * 1000)::bigint as ttl_ms
		from lease l
		join attempt a on a.lease_id = l.id
		join device d on d.id = l.device_id
		join leg g on g.id = a.leg_id
		join run r on r.id = a.run_id
		join build b on b.id = r.build_id
		where l.id = any($1) and l.ended_at is null
		order by l.id`, leases)
	return list, err
}

// Goods are what an assignment hands to its host beside itself. They never change.
type Goods struct {
	Package  pg.JSON[appfile.Package] `db:"facts"`
	Suite    string                   `db:"suite_blob"` // digest of the suite's text
	Locators pg.JSON[[]string]        `db:"locators"`   // all that the suite names
	Asks     pg.JSON[vault.Asked]     `db:"asks"`       // what the suite wants
}

// GoodsOf gives the goods of a package and a revision of a suite.
func (s *Store) GoodsOf(ctx context.Context, project, revision int64, packageBlob string) (Goods, error) {
	var g Goods
	err := s.db.GetContext(ctx, &g, `
		select p.facts, v.digest as suite_blob, v.locators, v.asks from package p, suite_revision v
		where p.project_id = $1 and p.digest = $2 and v.id = $3`, project, packageBlob, revision)
	return g, pg.Found(err)
}

// KnownLocators gives those of the locators that have matched in an app, or in any of a
// project's where app is 0.
func (s *Store) KnownLocators(ctx context.Context, project, app int64, locators []string) ([]string, error) {
	list := []string{}
	err := s.db.SelectContext(ctx, &list, `
		select distinct locator from known_locator where project_id = $1 and ($2::bigint = 0 or app_id = $2)
			and locator = any($3) order by 1`, project, app, locators)
	return list, err
}

// Renew makes leases of a host last for ttl from now, and gives those that are
// still live.
func (s *Store) Renew(ctx context.Context, host int64, leases []int64, ttl time.Duration) ([]int64, error) {
	live := []int64{}
	err := s.db.SelectContext(ctx, &live, `
		with live as (select id from lease where id = any($2) and host_id = $1 and ended_at is null order by id for no key update)
		update lease set expires_at = now() + $3 * interval '1 ms' from live where lease.id = live.id returning lease.id`, host, leases, ttl.Milliseconds())
	return live, err
}

// Held is a lease with its leg, as its host's words are judged by. Its row is
// locked.
type Held struct {
	Lease      int64         `db:"id"`
	ProjectID  int64         `db:"project_id"`
	HostID     int64         `db:"host_id"`
	DeviceID   int64         `db:"device_id"`
	RunID      int64         `db:"run_id"`
	LegID      int64         `db:"leg_id"`
	Attempt    int           `db:"attempt"`
	Ended      bool          `db:"ended"`
	Began      bool          `db:"began"`
	EndAsked   string        `db:"end_asked"`
	LastSeq    int64         `db:"last_seq"`
	LegState   states.Leg    `db:"leg_state"`
	Cases      pg.Ints       `db:"cases"`
	Todo       pg.Ints       `db:"todo"`
	Avoid      pg.Int64s     `db:"avoid"`
	UsedError  int           `db:"used_error"`
	UsedFail   int           `db:"used_fail"`
	Device     string        `db:"device"`
	LastLease  int64         `db:"last_lease"`
	DevState   states.Device `db:"dev_state"`
	AfterError int           `db:"after_error"`
	Repeat     int           `db:"repeat_failed"`
	AppID      int64         `db:"app_id"`
	Pinned     bool          `db:"pinned"`
	SessionID  int64         `db:"session_id"` // 0 where an attempt has it

	Ready       states.Device `db:"ready_state"` // the device's state once no lease has it
	ReadyReason string        `db:"ready_reason"`
	Sidelined   bool          `db:"sidelined"`
	Removed     bool          `db:"removed"` // the device is there no more
	SideReason  string        `db:"side_reason"`
}

const heldColumns = `
	select l.id, l.project_id, l.host_id, l.device_id, coalesce(a.run_id, 0) as run_id, coalesce(a.leg_id, 0) as leg_id,
		coalesce(a.number, 0) as attempt, l.ended_at is not null as ended, l.began_at is not null as began,
		l.end_asked, l.last_seq, coalesce(g.state, '') as leg_state, coalesce(g.cases, '{}') as cases,
		coalesce(a.todo, '{}') as todo, coalesce(g.avoid, '{}') as avoid, coalesce(g.used_error, 0) as used_error,
		coalesce(g.used_fail, 0) as used_fail, g.device_id is not null as pinned,
		d.name as device, d.last_lease, d.state as dev_state, d.ready_state, d.ready_reason,
		d.sideline is not null as sidelined, d.removed_at is not null as removed,
		coalesce(d.sideline->>'reason', '') as side_reason, coalesce(r.after_error, 0) as after_error,
		coalesce(r.repeat_failed, 0) as repeat_failed, coalesce(b.app_id, 0) as app_id, coalesce(sl.session_id, 0) as session_id
	from lease l
	join device d on d.id = l.device_id
	left join attempt a on a.lease_id = l.id
	left join leg g on g.id = a.leg_id
	left join run r on r.id = a.run_id
	left join build b on b.id = r.build_id
	left join session_lease sl on sl.lease_id = l.id `

// Hold locks leases by number, in order, and their devices.
func (l Leases) Hold(ctx context.Context, leases []int64) ([]Held, error) {
	return l.held(ctx, `select id from lease where id = any($1) order by id for no key update`, leases)
}

// Expired locks leases that have run out, at most limit of them, and their devices.
func (l Leases) Expired(ctx context.Context, limit int) ([]Held, error) {
	return l.held(ctx, `select id from lease where ended_at is null and expires_at < now() order by id limit $1
		for no key update skip locked`, limit)
}

// held locks leases by a statement that locks and gives their numbers, then their devices, and gives what is known of
// both: what is read is read under the locks.
func (l Leases) held(ctx context.Context, which string, arg any) ([]Held, error) {
	var ids, devices []int64
	if err := l.rows(ctx, atLeases, &ids, which, arg); err != nil || len(ids) == 0 {
		return nil, err
	}
	note(&l.leases, ids)
	if err := l.rows(ctx, atDevices, &devices, `
		select id from device where id in (select device_id from lease where id = any($1)) order by id for no key update`,
		ids); err != nil {
		return nil, err
	}
	note(&l.devices, devices)
	var list []Held
	err := l.tx.SelectContext(ctx, &list, heldColumns+`where l.id = any($1) order by l.id`, ids)
	return list, err
}

// LeaseChange is what has happened to a lease.
type LeaseChange struct {
	Lease         int64           `json:"id"`
	LastSeq       int64           `json:"seq"`
	Began         bool            `json:"began"`
	Ended         bool            `json:"ended"`
	EndedBy       string          `json:"by"`
	Trouble       string          `json:"trouble"`
	Circumstances json.RawMessage `json:"circumstances,omitempty"` // none where they are as before
}

// ChangeLeases carries changes out, of leases that this transaction has locked.
func (o *open) ChangeLeases(ctx context.Context, list []LeaseChange) error {
	if len(list) == 0 {
		return nil
	}
	for _, c := range list {
		if !o.leases[c.Lease] {
			return OrderError{o.at.String(), atLeases.String()}
		}
	}
	return o.exec(ctx, `
		update lease l set last_seq = c.seq, began_at = case
			when c.began then coalesce(l.began_at, now()) else l.began_at end,
		       ended_at = case when c.ended then coalesce(l.ended_at, now()) else l.ended_at end,
		       ended_by = case when c.ended and l.ended_at is null then c.by else l.ended_by end,
		       trouble = case when c.trouble <> '' then c.trouble else l.trouble end,
		       circumstances = coalesce(c.circumstances, l.circumstances)
		from jsonb_to_recordset($1) as c(id bigint, seq bigint, began boolean, ended boolean, by text, trouble text,
			circumstances jsonb)
		where l.id = c.id`, pg.Encode(list))
}

// LegChange is what has been decided of a leg.
type LegChange struct {
	Leg       int64      `json:"id"`
	From      states.Leg `json:"from_state"`
	To        states.Leg `json:"to_state"`
	Todo      pg.Ints    `json:"todo"`
	Avoid     pg.Int64s  `json:"avoid"`
	UsedError int        `json:"used_error"`
	UsedFail  int        `json:"used_fail"`
	Refund    bool       `json:"refund"` // the attempt never began: it does not count
}

// Change carries changes out where each leg is still as it was, and gives how many were.
func (l Legs) Change(ctx context.Context, list []LegChange) (int, error) {
	if len(list) == 0 {
		return 0, nil
	}
	ids, rows := make([]int64, len(list)), slices.Clone(list)
	for i, c := range rows {
		if err := states.Legs.Check(c.From, c.To); err != nil {
			return 0, err
		}
		ids[i] = c.Leg
		rows[i].Todo, rows[i].Avoid = append(pg.Ints{}, c.Todo...), append(pg.Int64s{}, c.Avoid...)
	}
	if err := l.hold(ctx, ids); err != nil {
		return 0, err
	}
	var changed int
	err := l.row(ctx, atLegs, &changed, `
		with new as (
			update leg l set state = c.to_state, todo = c.todo, avoid = c.avoid, used_error = c.used_error,
				used_fail = c.used_fail, attempts = l.attempts - c.refund::int
			from jsonb_to_recordset($1) as c(id bigint, from_state text, to_state text, todo int[], avoid bigint[],
				used_error int, used_fail int, refund boolean)
			where l.id = c.id and l.state = c.from_state returning 1)
		select count(*) from new`, pg.Encode(rows))
	return changed, err
}

// hold locks legs by id.
func (l Legs) hold(ctx context.Context, ids []int64) error {
	note(&l.legs, ids)
	return l.change(ctx, atLegs, `select 1 from leg where id = any($1) order by id for no key update`, ids)
}

// NewResult is a result to be kept.
type NewResult struct {
	ProjectID int64              `json:"project_id"`
	Lease     int64              `json:"lease_id"`
	RunID     int64              `json:"run_id"`
	LegID     int64              `json:"leg_id"`
	Case      int                `json:"case_index"`
	Verdict   string             `json:"verdict"`
	TookMS    int64              `json:"took_ms"`
	Sentence  string             `json:"sentence"`
	Failure   any                `json:"failure,omitempty"` // nil for none
	Steps     any                `json:"steps"`
	NotKept   []evidence.NotKept `json:"not_kept"`
}

// AddResults keeps results.
func (o *open) AddResults(ctx context.Context, list []NewResult) error {
	if len(list) == 0 {
		return nil
	}
	rows := slices.Clone(list)
	for i := range rows {
		rows[i].NotKept = append([]evidence.NotKept{}, rows[i].NotKept...)
	}
	return o.exec(ctx, `
		insert into result (project_id, lease_id, run_id, leg_id, case_index, took_ms, verdict, sentence, failure, steps,
			not_kept)
		select project_id, lease_id, run_id, leg_id, case_index, took_ms, verdict, sentence, failure,
			coalesce(steps, 'null'), not_kept
		from json_to_recordset($1) as x(project_id bigint, lease_id bigint, run_id bigint, leg_id bigint, case_index int,
			took_ms bigint, verdict text, sentence text, failure jsonb, steps json, not_kept jsonb)`, pg.Encode(rows))
}

// NewEvidence is evidence to be kept.
type NewEvidence struct {
	ProjectID int64           `json:"project_id"`
	RunID     int64           `json:"run_id"`
	Lease     int64           `json:"lease_id"`
	Case      int             `json:"case_index"`
	Sort      string          `json:"sort"`
	Name      string          `json:"name"`
	MediaType string          `json:"media_type"`
	Digest    string          `json:"digest"`
	Size      int64           `json:"size"`
	Facts     json.RawMessage `json:"facts,omitempty"`
}

// AddEvidence keeps references to evidence.
func (o *open) AddEvidence(ctx context.Context, list []NewEvidence) error {
	if len(list) == 0 {
		return nil
	}
	return o.exec(ctx, `
		insert into evidence (project_id, run_id, lease_id, case_index, size, sort, name, media_type, digest, facts)
		select project_id, run_id, lease_id, case_index, size, sort, name, media_type, digest, facts
		from json_to_recordset($1) as x(project_id bigint, run_id bigint, lease_id bigint, case_index int, size bigint,
			sort text, name text, media_type text, digest text, facts jsonb)`, pg.Encode(list))
}

// AddLocators remembers locators that have matched in an app.
func (t Known) AddLocators(ctx context.Context, project, app []int64, locator []string) error {
	if len(locator) == 0 {
		return nil
	}
	return t.change(ctx, atKnown, `
		insert into known_locator (project_id, app_id, locator)
		select distinct * from unnest($1::bigint[], $2::bigint[], $3::text[]) order by 1, 2, 3
		on conflict do nothing`, project, app, locator)
}

// LegResults gives the verdicts of all results of legs, oldest first.
func (t *open) LegResults(ctx context.Context, legs []int64) ([]LegResult, error) {
	var list []LegResult
	err := t.tx.SelectContext(ctx, &list, `
		select leg_id, case_index, verdict, coalesce(failure->>'cause', '') as cause from result
			where leg_id = any($1) order by lease_id`, legs)
	return list, err
}

// OtherDevices tells for each lease's leg whether a device that is not to be
// avoided could take it.
func (t *open) OtherDevices(ctx context.Context, leg int64, avoid []int64) (bool, error) {
	var found bool
	err := t.tx.GetContext(ctx, &found, `
		select exists (
			select 1 from leg l join device d on d.project_id = l.project_id and d.kind = l.kind and d.model = l.model
				and d.platform = l.platform and d.os = l.os
			where l.id = $1 and not d.id = any($2) and not d.id = any(l.never)
				and d.state in ('idle', 'leased', 'resetting', 'booting', 'halted'))`, leg, append([]int64{}, avoid...))
	return found, err
}

// MayRead reports whether a host may read a blob: a live lease of its refers to it.
func (s *Store) MayRead(ctx context.Context, project int64, host, digest string) (bool, error) {
	var ok bool
	ofHost := `join device d on d.id = l.device_id join host h on h.id = d.host_id and ` + access.SpeaksFor("$3")
	err := s.db.GetContext(ctx, &ok, `
		select exists (
			select 1 from lease l join attempt a on a.lease_id = l.id join leg g on g.id = a.leg_id
				join suite_revision v on v.id = g.revision_id `+ofHost+`
			where l.project_id = $1 and l.ended_at is null and (g.digest = $2 or v.digest = $2))
		or exists ( -- a build that its suite installs over the first
			select 1 from lease l join attempt a on a.lease_id = l.id join leg g on g.id = a.leg_id
				join suite_revision v on v.id = g.revision_id join run r on r.id = a.run_id
				join build first on first.id = r.build_id join build b on b.app_id = first.app_id
				join build_package p on p.build_id = b.id `+ofHost+`
			where l.project_id = $1 and l.ended_at is null and p.digest = $2 and v.asks->'builds' is not null
				and jsonb_exists_any(v.asks->'builds', array[b.version_name, b.number::text, '#' || b.number]))
		or exists (select 1 from session s join lease l on l.id = s.lease_id `+ofHost+`
			where s.project_id = $1 and s.closed_at is null and l.ended_at is null and (s.package = $2 or $2 = any(s.reads)))`,
		project, digest, host)
	return ok, err
}

// Speaks tells whether a lease is live, and on a device of the host that a caller speaks for.
func (s *Store) Speaks(ctx context.Context, project int64, host string, lease int64) (bool, error) {
	var ok bool
	err := s.db.GetContext(ctx, &ok, `
		select exists (select 1 from lease l join device d on d.id = l.device_id join host h on h.id = d.host_id
			where l.project_id = $1 and l.id = $2 and l.ended_at is null and `+access.SpeaksFor("$3")+`)`, project, lease, host)
	return ok, err
}

// Troubles gives the troubles of a device's own that its leases, of late, ended with,
// newest first: each lease knows the one before.
func (t *open) Troubles(ctx context.Context, lastLease int64, limit int) ([]fleet.Trouble, error) {
	var rows []struct {
		At  time.Time `db:"ended_at"`
		App int64     `db:"app_id"`
	}
	err := t.tx.SelectContext(ctx, &rows, `
		with recursive past as (
			select l.id, l.ended_at, l.ended_by, l.before, 1 as n from lease l where l.id = $1
			union all
			select l.id, l.ended_at, l.ended_by, l.before, p.n + 1 from past p join lease l on l.id = p.before
				where p.n < $2)
		select p.ended_at, b.app_id from past p join attempt a on a.lease_id = p.id join run r on r.id = a.run_id
			join build b on b.id = r.build_id
		where p.ended_by = 'device' and p.ended_at is not null order by p.n`, lastLease, limit)
	out := make([]fleet.Trouble, len(rows))
	for i, r := range rows {
		out[i] = fleet.Trouble{At: r.At, App: r.App}
	}
	return out, err
}

// Limited is a run that ends early, or at some time, with how many of its crossings have failed for good.
type Limited struct {
	Run       int64           `db:"id"`
	ProjectID int64           `db:"project_id"`
	Limits    pg.JSON[Limits] `db:"limits"`
	Failed    int             `db:"failed"`
	RanMS     int64           `db:"ran_ms"` // since it was asked for
}

// LimitedRuns gives the runs under way that have limits.
func (s *Store) LimitedRuns(ctx context.Context) ([]Limited, error) {
	var list []Limited
	err := s.db.SelectContext(ctx, &list, `
		select r.id, r.project_id, r.limits, (extract(epoch from now() - r.created_at) * 1000)::bigint as ran_ms,
			(select count(distinct (x.leg_id, x.case_index)) from result x join leg g on g.id = x.leg_id
				where x.run_id = r.id and x.verdict = 'fail' and not (g.state <> 'finished' and x.case_index = any(g.todo))) as failed
		from run r where r.finished_at is null and r.state <> 'cancelled' and r.limits <> '{}' and r.checklist = '' order by r.id`)
	return list, err
}

// WaitingLegs gives the legs of a run that wait.
func (s *Store) WaitingLegs(ctx context.Context, run int64, limit int) (ids []int64, err error) {
	err = s.db.SelectContext(ctx, &ids, `select id from leg where run_id = $1 and state = 'waiting' order by id limit $2`, run, limit)
	return ids, err
}
