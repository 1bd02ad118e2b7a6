package store

import (
	"context"
	"time"

	"yamato/internal/core/fleet"
)

// Device is a device and what it does now.
type Device struct {
	ID        int64              `db:"id"`
	ProjectID int64              `db:"project_id"`
	HostID    int64              `db:"host_id"`
	Facts     JSON[fleet.Device] `db:"facts"`
	State     string             `db:"state"`
	Reason    string             `db:"reason"`
	Since     time.Time          `db:"since"`
	Worth     int                `db:"worth"`
	LastLease int64              `db:"last_lease"`
	Run       *int64             `db:"run"` // number of the run that has it now
}

const deviceColumns = `
	select d.id, d.project_id, d.host_id, d.facts, d.state, d.reason, d.since, d.worth, d.last_lease,
	       (select r.number from lease l join run r on r.id = l.run_id where l.device_id = d.id and l.ended_at is null) as run
	from device d `

// Devices gives a project's devices by site and name.
func (s *Store) Devices(ctx context.Context, project int64) ([]Device, error) {
	list := []Device{}
	err := s.db.SelectContext(ctx, &list, deviceColumns+`where d.project_id = $1 order by d.site, d.name`, project)
	return list, err
}

// Glimpse is a device as the fleet strip shows it.
type Glimpse struct {
	Name     string    `db:"name"`
	Site     string    `db:"site"`
	Kind     string    `db:"kind"`
	Platform string    `db:"platform"`
	Model    string    `db:"model"`
	OS       string    `db:"os"`
	Form     string    `db:"form"`
	State    string    `db:"state"`
	Reason   string    `db:"reason"`
	Since    time.Time `db:"since"`
	Run      int64     `db:"run"` // 0 where none has it
}

// Glimpses gives a project's devices by site and name.
func (s *Store) Glimpses(ctx context.Context, project int64) ([]Glimpse, error) {
	list := []Glimpse{}
	err := s.db.SelectContext(ctx, &list, `
		select d.name, d.site, d.kind, d.platform, d.model, d.os, coalesce(d.facts->>'form', '') as form, d.state, d.reason, d.since,
		       case when d.state = 'leased' then coalesce((select r.number from lease l join run r on r.id = l.run_id where l.device_id = d.id and l.ended_at is null), 0) else 0 end as run
		from device d where d.project_id = $1 order by d.site, d.name`, project)
	return list, err
}

// DeviceClasses gives one device for each class of them (kind, model, platform,
// OS) of which not all are sidelined: what a run can be combined of.
func (s *Store) DeviceClasses(ctx context.Context, project int64) ([]fleet.Device, error) {
	var rows []JSON[fleet.Device]
	err := s.db.SelectContext(ctx, &rows, `
		select distinct on (kind, model, platform, os) facts from device
		where project_id = $1 and state <> 'sidelined' order by kind, model, platform, os, id`, project)
	out := make([]fleet.Device, len(rows))
	for i, r := range rows {
		out[i] = r.V
	}
	return out, err
}

// DeviceNamed gives one device.
func (s *Store) DeviceNamed(ctx context.Context, project int64, name string) (Device, error) {
	var d Device
	err := s.db.GetContext(ctx, &d, deviceColumns+`where d.project_id = $1 and d.name = $2`, project, name)
	return d, one(err)
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
	return h, one(err)
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
		select r.number as run, r.purpose, a.name as app, b.version_name, s.name as suite, p.leg_id, p.attempt, p.granted_at, p.ended_at, p.trouble,
		       (select count(*) from result x where x.lease_id = p.id and x.verdict = 'pass') as passed, (select count(*) from result x where x.lease_id = p.id and x.verdict = 'fail') as failed,
		       (select count(*) from result x where x.lease_id = p.id and x.verdict = 'error') as errors, (select count(*) from result x where x.lease_id = p.id and x.verdict = 'skip') as skipped
		from past p join run r on r.id = p.run_id join build b on b.id = r.build_id join app a on a.id = b.app_id
		     join leg g on g.id = p.leg_id join suite_revision v on v.id = g.revision_id join suite s on s.id = v.suite_id
		order by p.n`, lastLease, limit)
	return list, err
}

// FreeDevice is a device as the scheduler needs it.
type FreeDevice struct {
	ID        int64  `db:"id"`
	ProjectID int64  `db:"project_id"`
	Kind      string `db:"kind"`
	Model     string `db:"model"`
	Platform  string `db:"platform"`
	OS        string `db:"os"`
	State     string `db:"state"`
	Worth     int    `db:"worth"`
}

const freeColumns = `select id, project_id, kind, model, platform, os, state, worth from device `

// DevicesByID gives devices by their ids.
func (t *Tx) DevicesByID(ctx context.Context, ids []int64) ([]FreeDevice, error) {
	var list []FreeDevice
	err := t.tx.SelectContext(ctx, &list, freeColumns+`where id = any($1)`, ids)
	return list, err
}

// IdleDevices gives every device that has nothing to do.
func (t *Tx) IdleDevices(ctx context.Context) ([]FreeDevice, error) {
	var list []FreeDevice
	err := t.tx.SelectContext(ctx, &list, freeColumns+`where state = 'idle'`)
	return list, err
}

// OpenLink records that a host has linked to a service, and gives the host's id
// and the number of the link. Words of an older link count no more.
func (t *Tx) OpenLink(ctx context.Context, project int64, name, site, version, instance string) (host, link int64, err error) {
	var row struct {
		ID   int64 `db:"id"`
		Link int64 `db:"link"`
	}
	err = t.tx.GetContext(ctx, &row, `
		insert into host (project_id, name, site, version, link, instance, seen_at) values ($1, $2, $3, $4, 1, $5, now())
		on conflict (project_id, name) do update
		set site = excluded.site, version = excluded.version, link = host.link + 1, instance = excluded.instance, seen_at = now()
		returning id, link`, project, name, site, version, instance)
	return row.ID, row.Link, err
}

// CloseLink records that a host's link is gone, unless it has made another, and
// takes its idle devices offline.
func (t *Tx) CloseLink(ctx context.Context, host, link int64) error {
	if err := t.exec(ctx, `update host set instance = null where id = $1 and link = $2`, host, link); err != nil {
		return err
	}
	return t.offline(ctx, `d.host_id = $1 and h.instance is null`, host)
}

// HoldLink brings back the devices of a linked host that were taken offline while
// its service could not be heard, as after trouble with the database. It gives
// how many there were.
func (s *Store) HoldLink(ctx context.Context, host, link int64) (int, error) {
	var n int
	err := s.db.GetContext(ctx, &n, `
		with back as (
			update device d set state = 'idle', since = now(), reason = ''
			from host h where h.id = $1 and h.link = $2 and d.host_id = h.id and d.state = 'offline' and d.reason = '`+notConnected+`' returning d.id),
		told as (insert into dirty (sort, id) select 1, id from back)
		select count(*) from back`, host, link)
	return n, err
}

const notConnected = "its host is not connected"

// TakeUnlinkedOffline takes the idle devices of hosts offline whose service has
// not been heard of for silence.
func (t *Tx) TakeUnlinkedOffline(ctx context.Context, silence time.Duration) error {
	return t.offline(ctx, `not exists (select 1 from instance i where i.id = h.instance and i.seen_at > now() - $1 * interval '1 ms')`, silence.Milliseconds())
}

func (t *Tx) offline(ctx context.Context, where string, arg any) error {
	return t.exec(ctx, `
		with gone as (
			update device d set state = 'offline', since = now(), reason = '`+notConnected+`'
			from host h where h.id = d.host_id and d.state = 'idle' and `+where+` returning d.id)
		insert into dirty (sort, id) select 1, id from gone`, arg)
}

// HostDevices gives the devices of a host, locked in the order of their ids.
func (t *Tx) HostDevices(ctx context.Context, host int64) ([]Device, error) {
	var list []Device
	err := t.tx.SelectContext(ctx, &list, `
		select id, project_id, host_id, facts, state, reason, since, worth, last_lease from device where host_id = $1 order by id for update`, host)
	return list, err
}

// PutDevice keeps what a host declares of a device. It gives ErrNone where the
// name belongs to a device of another host.
func (t *Tx) PutDevice(ctx context.Context, project, host int64, d fleet.Device, state string) (int64, error) {
	var id int64
	err := t.tx.GetContext(ctx, &id, `
		insert into device (project_id, host_id, name, site, kind, platform, model, os, facts, worth, state)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
		on conflict (project_id, name) do update
		set site = excluded.site, kind = excluded.kind, platform = excluded.platform, model = excluded.model, os = excluded.os,
		    facts = excluded.facts, worth = excluded.worth, state = excluded.state, reason = '',
		    since = case when device.state = excluded.state then device.since else now() end
		where device.host_id = excluded.host_id
		returning id`, project, host, d.Name, d.Site, d.Kind, d.Platform, d.Model, d.OS, toJSON(d), len(d.Abilities)+len(d.Traits), state)
	return id, one(err)
}

// DropDevices takes offline the devices of a host that it no longer declares.
func (t *Tx) DropDevices(ctx context.Context, host int64, keep []int64) error {
	return t.exec(ctx, `
		update device set state = 'offline', since = now(), reason = 'its host no longer lists it'
		where host_id = $1 and not id = any($2) and state in ('idle', 'unready')`, host, keep)
}

// DeviceChange is a change of a device's state that has been decided.
type DeviceChange struct {
	ID     int64
	To     string
	Reason string
}

// ChangeDevices carries changes out. The rows must be locked by the caller.
func (t *Tx) ChangeDevices(ctx context.Context, changes []DeviceChange) error {
	if len(changes) == 0 {
		return nil
	}
	ids, to, reason := make([]int64, len(changes)), make([]string, len(changes)), make([]string, len(changes))
	for i, c := range changes {
		ids[i], to[i], reason[i] = c.ID, c.To, c.Reason
	}
	return t.exec(ctx, `
		update device d set state = c.state, reason = c.reason, since = now()
		from unnest($1::bigint[], $2::text[], $3::text[]) as c(id, state, reason) where d.id = c.id`, ids, to, reason)
}

// The sorts of what the scheduler has to look at again.
const (
	DirtyDevice = 1
	DirtyLeg    = 2
)

// MarkDirty tells the scheduler to look at these again.
func (t *Tx) MarkDirty(ctx context.Context, sort int, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	return t.exec(ctx, `insert into dirty (sort, id) select $1, unnest($2::bigint[])`, sort, ids)
}
