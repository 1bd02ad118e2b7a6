package store

import (
	"context"
	"errors"
	"time"

	"slices"
	"yamato/internal/core/fleet"
	"yamato/internal/core/states"
	"yamato/internal/store/pg"
)

// Device is a device and what it does now.
type Device struct {
	ID        int64                    `db:"id"`
	ProjectID int64                    `db:"project_id"`
	HostID    int64                    `db:"host_id"`
	Facts     pg.JSON[fleet.Device]    `db:"facts"`
	State     states.Device            `db:"state"`
	Reason    string                   `db:"reason"`
	Since     time.Time                `db:"since"`
	Worth     int                      `db:"worth"`
	LastLease int64                    `db:"last_lease"`
	Run       *int64                   `db:"run"`     // number of the run that has it now
	AtHand    string                   `db:"at_hand"` // who has it in hand, "" for nobody
	Used      int64                    `db:"used"`
	Condition pg.JSON[fleet.Condition] `db:"condition"`
	Sideline  *pg.JSON[Sideline]       `db:"sideline"`
}

// Sideline is why a device was taken out of use.
type Sideline struct {
	By        string        `json:"by"`
	Reason    string        `json:"reason"`
	At        time.Time     `json:"at"`
	Until     *time.Time    `json:"until,omitempty"`
	Automatic bool          `json:"automatic,omitempty"` // a probe may bring it back
	ProbeAt   *time.Time    `json:"probe_at,omitempty"`
	Probes    int           `json:"probes,omitempty"` // that have failed
	Broken    *fleet.Broken `json:"broken,omitempty"`
}

const deviceColumns = `
	select d.id, d.project_id, d.host_id, d.facts, d.state, d.reason, d.since, d.worth, d.last_lease, d.used,
		d.condition, d.sideline,
	       (select r.number from lease l join attempt a on a.lease_id = l.id join run r on r.id = a.run_id
	       	where l.device_id = d.id and l.ended_at is null) as run,
	       coalesce((select s.asked_by || ', session ' || s.number from session s join lease l on l.id = s.lease_id
	       	where l.device_id = d.id and l.ended_at is null), '') as at_hand
	from device d `

// Devices gives a project's devices by site and name.
func (s *Store) Devices(ctx context.Context, project int64) ([]Device, error) {
	list := []Device{}
	err := s.db.SelectContext(ctx, &list, deviceColumns+
		`where d.project_id = $1 and d.removed_at is null order by d.site, d.name`, project)
	return list, err
}

// Glimpse is a device as the fleet strip shows it.
type Glimpse struct {
	Name     string        `db:"name"`
	Site     string        `db:"site"`
	Kind     string        `db:"kind"`
	Platform string        `db:"platform"`
	Model    string        `db:"model"`
	OS       string        `db:"os"`
	Form     string        `db:"form"`
	State    states.Device `db:"state"`
	Reason   string        `db:"reason"`
	Since    time.Time     `db:"since"`
	Run      int64         `db:"run"`     // 0 where none has it
	AtHand   string        `db:"at_hand"` // who has it in hand, "" for nobody
	Owner    string        `db:"owner"`
	Labels   string        `db:"labels"` // a JSON array, or nothing
}

// Glimpses gives a project's devices by site and name.
func (s *Store) Glimpses(ctx context.Context, project int64) ([]Glimpse, error) {
	list := []Glimpse{}
	err := s.db.SelectContext(ctx, &list, `
		select d.name, d.site, d.kind, d.platform, d.model, d.os, coalesce(d.facts->>'form', '') as form, d.state,
			d.reason, d.since,
		       coalesce(d.facts->>'owner', '') as owner, coalesce(d.facts->>'labels', '') as labels,
		       case when d.state = 'leased' then coalesce((select r.number from lease l
		       	join attempt a on a.lease_id = l.id join run r on r.id = a.run_id where l.device_id = d.id
		       		and l.ended_at is null), 0) else 0 end as run,
		       case when d.state = 'leased' then coalesce((select s.asked_by || ', session ' || s.number from session s
		       	join lease l on l.id = s.lease_id where l.device_id = d.id and l.ended_at is null), '') else '' end as at_hand
		from device d where d.project_id = $1 and d.removed_at is null order by d.site, d.name`, project)
	return list, err
}

// Candidate is a device that a run could use.
type Candidate struct {
	ID        int64                    `db:"id"`
	Facts     pg.JSON[fleet.Device]    `db:"facts"`
	State     states.Device            `db:"state"`
	Reason    string                   `db:"reason"`
	Used      int64                    `db:"used"`
	Condition pg.JSON[fleet.Condition] `db:"condition"`
}

// Candidates gives the devices of a project as they are now: those of these models, or
// all where none is named.
func (s *Store) Candidates(ctx context.Context, project int64, models ...string) ([]Candidate, error) {
	var list []Candidate
	err := s.db.SelectContext(ctx, &list, `
		select id, facts, state, reason, used, condition from device
		where project_id = $1 and removed_at is null and ($2::text[] is null or model = any($2))
			order by id`, project, models)
	return list, err
}

// DeviceNamed gives one device.
func (s *Store) DeviceNamed(ctx context.Context, project int64, name string) (Device, error) {
	var d Device
	err := s.db.GetContext(ctx, &d, deviceColumns+`where d.project_id = $1 and d.name = $2 and d.removed_at is null`,
		project, name)
	return d, pg.Found(err)
}

// HostInfo is a host as people see it.
type HostInfo struct {
	Name    string    `db:"name"`
	Program string    `db:"version"`
	Linked  bool      `db:"linked"`
	SeenAt  time.Time `db:"seen_at"`
}

// HostOf gives the host of a device.
func (s *Store) HostOf(ctx context.Context, host int64) (HostInfo, error) {
	var h HostInfo
	err := s.db.GetContext(ctx, &h, `select name, version, instance is not null as linked, seen_at from host where id = $1`, host)
	return h, pg.Found(err)
}

// Stint is one lease of a device, with how its results went.
type Stint struct {
	Run         int64      `db:"run"`
	Purpose     string     `db:"purpose"`
	App         string     `db:"app"`
	VersionName string     `db:"version_name"`
	Suite       string     `db:"suite"`
	Leg         int64      `db:"leg_id"`
	Attempt     int        `db:"attempt"`
	Began       time.Time  `db:"granted_at"`
	Ended       *time.Time `db:"ended_at"`
	Trouble     string     `db:"trouble"`
	EndedBy     string     `db:"ended_by"`
	Passed      int        `db:"passed"`
	Failed      int        `db:"failed"`
	Errors      int        `db:"errors"`
	Skipped     int        `db:"skipped"`
}

// Stints gives what a device did last, newest first: each lease knows the one before.
func (s *Store) Stints(ctx context.Context, lastLease int64, limit int) ([]Stint, error) {
	list := []Stint{}
	err := s.db.SelectContext(ctx, &list, `
		with recursive past as (
			select l.*, 1 as n from lease l where l.id = $1
			union all
			select l.*, p.n + 1 from past p join lease l on l.id = p.before where p.n < $2)
		select r.number as run, r.purpose, a.name as app, b.version_name, s.name as suite, t.leg_id,
			t.number as attempt, p.granted_at, p.ended_at, p.trouble, p.ended_by,
		       (select count(*) from result x where x.lease_id = p.id and x.verdict = 'pass') as passed,
		       	(select count(*) from result x where x.lease_id = p.id and x.verdict = 'fail') as failed,
		       (select count(*) from result x where x.lease_id = p.id and x.verdict = 'error') as errors,
		       	(select count(*) from result x where x.lease_id = p.id and x.verdict = 'skip') as skipped
		from past p join attempt t on t.lease_id = p.id join run r on r.id = t.run_id
			join build b on b.id = r.build_id join app a on a.id = b.app_id
		     join leg g on g.id = t.leg_id join suite_revision v on v.id = g.revision_id
		     	join suite s on s.id = v.suite_id
		order by p.n`, lastLease, limit)
	return list, err
}

// FreeDevice is a device as the scheduler needs it.
type FreeDevice struct {
	ID        int64               `db:"id"`
	ProjectID int64               `db:"project_id"`
	Kind      string              `db:"kind"`
	Model     string              `db:"model"`
	Platform  string              `db:"platform"`
	OS        string              `db:"os"`
	State     states.Device       `db:"state"`
	Worth     int                 `db:"worth"`
	Owner     string              `db:"owner"`
	Use       *pg.JSON[fleet.Use] `db:"use"` // nil for everybody, always
	Since     time.Time           `db:"since"`
	Lease     int64               `db:"last_lease"`
	TookMS    int64               `db:"took_ms"` // of that lease, 0 while it lasts
}

const freeColumns = `
	select d.id, d.project_id, d.kind, d.model, d.platform, d.os, d.state, d.worth,
		coalesce(d.facts->>'owner', '') as owner, d.facts->'use' as use, d.since, d.last_lease,
	       coalesce(extract(epoch from l.ended_at - l.granted_at) * 1000, 0)::bigint as took_ms
	from device d left join lease l on l.id = d.last_lease `

// DevicesByID gives devices by their ids.
func (t *open) DevicesByID(ctx context.Context, ids []int64) ([]FreeDevice, error) {
	var list []FreeDevice
	err := t.tx.SelectContext(ctx, &list, freeColumns+`where d.id = any($1)`, ids)
	return list, err
}

// IdleDevices gives every device that has nothing to do.
func (t *open) IdleDevices(ctx context.Context) ([]FreeDevice, error) {
	var list []FreeDevice
	err := t.tx.SelectContext(ctx, &list, freeColumns+`where d.state = 'idle'`)
	return list, err
}

// Linking is a host that links.
type Linking struct {
	Project                       int64
	Name, Site, Version, Instance string
	Boot                          string // of the process
	Started                       int64  // when that was, in milliseconds since 1970
}

// ErrNewerHost tells that a host of that name which was started later has the link.
var ErrNewerHost = errors.New("a host of this name that was started later is linked")

// OpenLink takes a host in, which becomes what its older links are no longer. It gives
// the numbers of host and link, and whether another process of that name had the link.
// ErrNewerHost refuses a process that was started earlier than one that is linked.
func (t Hosts) OpenLink(ctx context.Context, l Linking) (host, link int64, replaced bool, err error) {
	var rows []struct {
		Boot    string `db:"boot"`
		Started int64  `db:"started"`
		Linked  bool   `db:"linked"`
	}
	if err := t.rows(ctx, atHosts, &rows, `
		select boot, started, exists (select 1 from instance i where i.id = host.instance
			and i.seen_at > now() - interval '15 seconds') as linked
		from host where project_id = $1 and name = $2 for no key update`, l.Project, l.Name); err != nil {
		return 0, 0, false, err
	}
	if len(rows) == 1 && rows[0].Linked && rows[0].Boot != l.Boot && rows[0].Boot != "" {
		if rows[0].Started > l.Started {
			return 0, 0, false, ErrNewerHost
		}
		replaced = true
	}
	var row struct {
		ID   int64 `db:"id"`
		Link int64 `db:"link"`
	}
	err = t.row(ctx, atHosts, &row, `
		insert into host (project_id, name, site, version, link, instance, boot, started, seen_at)
			values ($1, $2, $3, $4, 1, $5, $6, $7, now())
		on conflict (project_id, name) do update
		set site = excluded.site, version = excluded.version, link = host.link + 1, instance = excluded.instance,
		    boot = excluded.boot, started = excluded.started, seen_at = now()
		returning id, link`, l.Project, l.Name, l.Site, l.Version, l.Instance, l.Boot, l.Started)
	return row.ID, row.Link, replaced, err
}

// NewestLink gives the number of a host's newest link.
func (s *Store) NewestLink(ctx context.Context, host int64) (int64, error) {
	var n int64
	err := s.db.GetContext(ctx, &n, `select link from host where id = $1`, host)
	return n, pg.Found(err)
}

// CloseLink records that a host's link is gone, unless it has made another, and
// takes its idle devices offline.
func (t Hosts) CloseLink(ctx context.Context, host, link int64) error {
	if err := t.change(ctx, atHosts, `update host set instance = null where id = $1 and link = $2`, host, link); err != nil {
		return err
	}
	return t.Devices.offline(ctx, `d.host_id = $1 and h.instance is null`, host)
}

// HoldLink brings back the devices of a linked host that were taken offline while
// its service could not be heard, as after trouble with the database. It gives
// how many there were.
func (s *Store) HoldLink(ctx context.Context, host, link int64) (int, error) {
	var n int
	err := s.db.GetContext(ctx, &n, `
		with gone as (
			select d.id from device d join host h on h.id = d.host_id
			where h.id = $1 and h.link = $2 and d.state = 'offline' and d.reason = '`+NotConnected+`'
			order by d.id for no key update of d),
		back as (
			update device d set state = case when d.sideline is null then d.ready_state else 'sidelined' end,
				since = now(),
			       reason = case when d.sideline is null then d.ready_reason else coalesce(d.sideline->>'reason', '') end
			from gone where d.id = gone.id and d.state = 'offline' returning d.id),
		told as (insert into dirty (sort, id) select 1, id from back)
		select count(*) from back`, host, link)
	return n, err
}

// NotConnected is why devices are offline whose host is not linked.
const NotConnected = "its host is not connected"

// TakeUnlinkedOffline takes the idle devices of hosts offline whose service has
// not been heard of for silence.
func (t Devices) TakeUnlinkedOffline(ctx context.Context, silence time.Duration) error {
	return t.offline(ctx, `not exists (select 1 from instance i where i.id = h.instance and i.seen_at > now() - $1 * interval '1 ms')`, silence.Milliseconds())
}

func (d Devices) offline(ctx context.Context, where string, arg any) error {
	return d.change(ctx, atDevices, `
		with free as (
			select d.id from device d join host h on h.id = d.host_id
			where d.state in ('idle', 'unready', 'halted', 'booting') and `+where+` order by d.id for no key update of d),
		gone as (
			update device d set state = 'offline', since = now(), reason = '`+NotConnected+`'
			from free where d.id = free.id and d.state in ('idle', 'unready', 'halted', 'booting') returning d.id)
		insert into dirty (sort, id) select 1, id from gone`, arg)
}

// Lock locks devices by id.
func (d Devices) Lock(ctx context.Context, ids []int64) error {
	note(&d.devices, ids)
	return d.change(ctx, atDevices, `select 1 from device where id = any($1) order by id for no key update`, ids)
}

// OfHost gives those of a host's devices that are named, all where names is nil. They are locked in the order of their
// ids, with those of other hosts that have a name of declared: who is told so waits for them in that order too.
func (d Devices) OfHost(ctx context.Context, project, host int64, names, declared []string) ([]Device, error) {
	var list []Device
	err := d.rows(ctx, atDevices, &list, `
		select id, project_id, host_id, facts, state, reason, since, worth, last_lease, used, condition, sideline
			from device where host_id = $1 and ($2::text[] is null or name = any($2)) or project_id = $3 and name = any($4)
			order by id for no key update`, host, names, project, append([]string{}, declared...))
	return slices.DeleteFunc(list, func(one Device) bool { return one.HostID != host }), err
}

// PutDevice keeps what a host declares of a device. It gives ErrNone where the
// name belongs to a device of another host.
func (t Devices) PutDevice(ctx context.Context, project, host int64, d fleet.Device, c fleet.Condition,
	state states.Device, reason string) (int64, error) {
	var id int64
	ready, why := c.State()
	err := t.row(ctx, atDevices, &id, `
		insert into device (project_id, host_id, name, site, kind, platform, model, os, facts, worth, state, reason,
			condition, ready_state, ready_reason)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
		on conflict (project_id, name) do update
		set site = excluded.site, kind = excluded.kind, platform = excluded.platform, model = excluded.model,
			os = excluded.os,
		    facts = excluded.facts, worth = excluded.worth, state = excluded.state, reason = excluded.reason,
		    condition = excluded.condition, ready_state = excluded.ready_state, ready_reason = excluded.ready_reason,
		    since = case when device.state = excluded.state then device.since else now() end, removed_at = null
		where device.host_id = excluded.host_id
		returning id`, project, host, d.Name, d.Site, d.Kind, d.Platform, d.Model, d.OS, pg.Encode(d),
		len(d.Abilities)+len(d.Traits), state, reason, pg.Encode(c), ready, why)
	return id, pg.Found(err)
}

// RemoveDevices forgets devices of a host that were removed on purpose. Of those that
// something ran on the row stays, out of sight. One that a lease has keeps its state until
// that has ended. The rows are locked by a statement of their own: what was placed on one
// of them while the lock was waited for is seen only by a statement that begins after it.
func (t Devices) RemoveDevices(ctx context.Context, host int64, names []string) error {
	var ids []int64
	if err := t.rows(ctx, atDevices, &ids, `
		select id from device where host_id = $1 and name = any($2) order by id for update`, host, names); err != nil {
		return err
	}
	return t.change(ctx, atDevices, `
		with old as (select d.id, d.used > 0 or d.last_lease > 0
		     	or exists (select 1 from leg g where g.device_id = d.id) as used from device d where d.id = any($1)),
		     seen as (delete from sighting s using old where s.device_id = old.id),
		     kept as (update device d set state = case
		     	when d.state in ('leased', 'resetting') then d.state else 'offline' end, since = now(),
		                     reason = 'it was removed', removed_at = now(), sideline = null
		              from old where d.id = old.id and old.used)
		delete from device d using old where d.id = old.id and not old.used`, ids)
}

// DropDevices takes offline the devices of a host that it no longer declares.
func (t Devices) DropDevices(ctx context.Context, host int64, keep []int64) error {
	return t.change(ctx, atDevices, `
		with gone as (select id from device where host_id = $1 and not id = any($2)
			and state in ('idle', 'unready', 'halted', 'booting') order by id for no key update)
		update device d set state = 'offline', since = now(), reason = 'its host no longer lists it'
		from gone where d.id = gone.id and d.state in ('idle', 'unready', 'halted', 'booting')`, host,
		append([]int64{}, keep...)) // none, and not null: that differs from nothing
}

// DeviceChange is a change of a device's state that has been decided.
type DeviceChange struct {
	ID        int64
	To        states.Device
	Reason    string
	Condition *fleet.Condition // nil where nothing new is known
	Sideline  *Sideline        // nil where nothing changes
}

// ChangeDevices carries changes out. The rows must be locked by the caller.
func (t Devices) ChangeDevices(ctx context.Context, changes []DeviceChange) error {
	if len(changes) == 0 {
		return nil
	}
	ids, to, reason := make([]int64, len(changes)), make([]states.Device, len(changes)), make([]string, len(changes))
	for i, c := range changes {
		ids[i], to[i], reason[i] = c.ID, c.To, c.Reason
	}
	if err := t.change(ctx, atDevices, `
		update device d set state = c.state, reason = c.reason, since = now()
		from unnest($1::bigint[], $2::text[], $3::text[]) as c(id, state, reason)
			where d.id = c.id`, ids, to, reason); err != nil {
		return err
	}
	for _, c := range changes { // seldom: most leases leave a device as it was
		if c.Condition != nil {
			ready, why := c.Condition.State()
			if err := t.change(ctx, atDevices, `update device set condition = $2, ready_state = $3, ready_reason = $4 where id = $1 and condition is distinct from $2::jsonb`, c.ID, pg.Encode(*c.Condition), ready, why); err != nil {
				return err
			}
		}
		if c.Sideline != nil {
			if err := t.change(ctx, atDevices, `update device set sideline = $2 where id = $1`, c.ID,
				pg.Encode(*c.Sideline)); err != nil {
				return err
			}
		}
	}
	return nil
}

// The sorts of what the scheduler has to look at again.
const (
	DirtyDevice  = 1
	DirtyLeg     = 2
	DirtySession = 3
)

// MarkDirty tells the scheduler to look at these again.
func (t *open) MarkDirty(ctx context.Context, sort int, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	return t.exec(ctx, `insert into dirty (sort, id) select $1, unnest($2::bigint[])`, sort, ids)
}

// DeviceOfHost gives a host's device by name, locked.
func (t Devices) DeviceOfHost(ctx context.Context, host int64, name string) (Device, error) {
	var d Device
	err := t.row(ctx, atDevices, &d, `
		select id, project_id, host_id, facts, state, reason, since, worth, last_lease, used, condition, sideline
			from device where host_id = $1 and name = $2 for no key update`, host, name)
	return d, pg.Found(err)
}
