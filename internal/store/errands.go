package store

import (
	"context"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/core/states"
	"yamato/internal/link"
	"yamato/internal/store/pg"
)

// Errand is something that a host is asked to do outside of leases.
type Errand struct {
	ID      int64                    `db:"id"`
	HostID  int64                    `db:"host_id"`
	Device  string                   `db:"device"`
	What    string                   `db:"what"`
	Args    pg.JSON[link.ErrandArgs] `db:"args"`
	AskedBy string                   `db:"asked_by"`
	AskedAt time.Time                `db:"asked_at"`
	DoneAt  *time.Time               `db:"done_at"`
	Trouble string                   `db:"trouble"`
	Remedy  string                   `db:"remedy"`
}

const errandColumns = `select id, host_id, device, what, args, asked_by, asked_at, done_at, trouble, remedy from errand `

// AskErrand keeps an errand, and forgets those that were done a week ago.
func (s *Store) AskErrand(ctx context.Context, project int64, e Errand, w pg.Wish) (id int64, err error) {
	err = s.InTx(ctx, func(t *Tx) error {
		id, err = w.Make(ctx, t.tx, func() (int64, error) { return t.AskErrand(ctx, project, e) })
		return err
	})
	return id, err
}

// Granted gives the number of what the same call has made before. It gives ErrNone where it has made nothing.
func (s *Store) Granted(ctx context.Context, w pg.Wish) (made int64, err error) {
	return w.Granted(ctx, s.db)
}

// AskErrand is the same within a transaction.
func (t *open) AskErrand(ctx context.Context, project int64, e Errand) (id int64, err error) {
	if err := t.exec(ctx, `delete from errand where id in (select id from errand where project_id = $1
		and done_at < now() - interval '7 days' order by id for update skip locked)`, project); err != nil {
		return 0, err
	}
	err = t.tx.GetContext(ctx, &id, `
		insert into errand (project_id, host_id, device, what, args, asked_by) values ($1, $2, $3, $4, $5, $6)
			returning id`,
		project, e.HostID, e.Device, e.What, pg.Encode(e.Args.V), e.AskedBy)
	return id, err
}

// AskProbe has a device tried out, unless something is asked of it already.
func (t *open) AskProbe(ctx context.Context, project, host int64, device, by string) error {
	return t.exec(ctx, `
		insert into errand (project_id, host_id, device, what, asked_by) select $1, $2, $3, $4, $5
		where not exists (select 1 from errand where host_id = $2 and device = $3
			and done_at is null)`, project, host, device, link.DoProbe, by)
}

// ErrandNumbered gives one.
func (s *Store) ErrandNumbered(ctx context.Context, project, id int64) (Errand, error) {
	var e Errand
	err := s.db.GetContext(ctx, &e, errandColumns+`where project_id = $1 and id = $2`, project, id)
	return e, pg.Found(err)
}

// ErrandsOf gives what was last done to a device, newest first.
func (s *Store) ErrandsOf(ctx context.Context, project int64, device string, limit int) ([]Errand, error) {
	list := []Errand{}
	err := s.db.SelectContext(ctx, &list, errandColumns+
		`where project_id = $1 and device = $2 order by id desc limit $3`, project, device, limit)
	return list, err
}

// OpenErrand gives the id of an errand of that kind that a device has open, 0 for none.
func (s *Store) OpenErrand(ctx context.Context, host int64, device string) (int64, error) {
	var id int64
	err := s.db.GetContext(ctx, &id, `select coalesce(max(id), 0) from errand where host_id = $1 and device = $2 and done_at is null and asked_at > now() - interval '1 hour'`, host, device)
	return id, err
}

// WantedErrands gives what a host has not done yet.
func (s *Store) WantedErrands(ctx context.Context, host int64) ([]Errand, error) {
	var list []Errand
	err := s.db.SelectContext(ctx, &list, errandColumns+`
		where host_id = $1 and done_at is null and asked_at > now() - interval '1 hour' order by id limit 1000`, host)
	return list, err
}

// KeepDone keeps how an errand ended; only the host that was asked may. It gives
// the errand, or ErrNone where it had ended before.
func (t Hosts) KeepDone(ctx context.Context, host int64, d link.Done) (Errand, error) {
	var e Errand
	err := t.row(ctx, atHosts, &e, `
		update errand set done_at = now(), trouble = $3, remedy = $4 where id = $1 and host_id = $2 and done_at is null
		returning id, host_id, device, what, args, asked_by, asked_at, done_at, trouble,
			remedy`, d.ID, host, d.Trouble, d.Remedy)
	return e, pg.Found(err)
}

// DropErrands ends what was asked of a host that has forgotten it: it was started again.
func (t Hosts) DropErrands(ctx context.Context, host int64, inHand []int64, why string) error {
	return t.change(ctx, atHosts, `
		with left_behind as (select id from errand where host_id = $1 and done_at is null
			and asked_at < now() - interval '2 seconds' and not id = any($3) order by id for update)
		update errand e set done_at = now(), trouble = $2 from left_behind l where e.id = l.id and e.done_at is null`,
		host, why, append([]int64{}, inHand...)) // none, and not null: that differs from nothing
}

// HostRow is a host with what its site offers.
type HostRow struct {
	ID     int64               `db:"id"`
	Name   string              `db:"name"`
	Site   string              `db:"site"`
	Linked bool                `db:"linked"`
	SeenAt time.Time           `db:"seen_at"`
	Offer  pg.JSON[link.Offer] `db:"offer"`
	Load   pg.JSON[link.Load]  `db:"load"`
}

// Hosts gives a project's hosts, by site.
func (s *Store) Hosts(ctx context.Context, project int64) ([]HostRow, error) {
	list := []HostRow{}
	err := s.db.SelectContext(ctx, &list, `
		select id, name, site, instance is not null as linked, seen_at, offer, load from host where project_id = $1
			order by site, name`, project)
	return list, err
}

// Tell keeps what a host tells of itself: what it offers, what is taken of it; nil for what it does not tell.
func (h Hosts) Tell(ctx context.Context, host int64, offer *link.Offer, load *link.Load) error {
	if offer == nil && load == nil {
		return nil
	}
	set := func(v any, told bool) *string {
		if !told {
			return nil
		}
		body := pg.Encode(v)
		return &body
	}
	return h.change(ctx, atHosts, `
		update host set offer = coalesce($2::jsonb, offer), load = coalesce($3::jsonb, load) where id = $1`, host,
		set(offer, offer != nil), set(load, load != nil))
}

// DeviceStands is how a device stands, and how it would if nobody had sidelined it.
type DeviceStands struct {
	State       states.Device `db:"state"`
	Reason      string        `db:"reason"`
	ReadyState  states.Device `db:"ready_state"`
	ReadyReason string        `db:"ready_reason"`
	Linked      bool          `db:"linked"`
}

// LockDevice locks a device's row and gives how it stands; ErrNone where there is none.
func (t Devices) LockDevice(ctx context.Context, id int64) (DeviceStands, error) {
	var out DeviceStands
	err := t.row(ctx, atDevices, &out, `
		select d.state, d.reason, d.ready_state, d.ready_reason, h.instance is not null as linked
		from device d join host h on h.id = d.host_id where d.id = $1 for no key update of d`, id)
	return out, pg.Found(err)
}

// ChangeSideline keeps who sidelined a device and why, or nil where it comes back, and the
// state and reason that follow. The row is locked (LockDevice).
func (t Devices) ChangeSideline(ctx context.Context, id int64, side *Sideline, state states.Device, reason string) error {
	var body any
	if side != nil {
		body = pg.Encode(*side)
	}
	if err := t.change(ctx, atDevices, `
		update device set sideline = $2, state = $3, reason = $4, since = case when state = $3 then since else now() end
		where id = $1`, id, body, state, reason); err != nil {
		return err
	}
	return t.MarkDirty(ctx, DirtyDevice, []int64{id})
}

// SidelinedDevice is a device that is out of use.
type SidelinedDevice struct {
	ID        int64             `db:"id"`
	ProjectID int64             `db:"project_id"`
	HostID    int64             `db:"host_id"`
	Name      string            `db:"name"`
	Linked    bool              `db:"linked"`
	Sideline  pg.JSON[Sideline] `db:"sideline"`
}

// Sidelined gives the devices of all projects that are out of use.
func (s *Store) Sidelined(ctx context.Context) ([]SidelinedDevice, error) {
	var list []SidelinedDevice
	err := s.db.SelectContext(ctx, &list, `
		select d.id, d.project_id, d.host_id, d.name, h.instance is not null as linked, d.sideline from device d
			join host h on h.id = d.host_id
		where d.sideline is not null`)
	return list, err
}

// SetSideline keeps another reason or another time, and gives ErrNone where the device is
// not out of use any more.
func (t Devices) SetSideline(ctx context.Context, id int64, in Sideline) error {
	var got int64
	return t.row(ctx, atDevices, &got, `update device set sideline = $2 where id = $1 and sideline is not null returning id`, id, pg.Encode(in))
}

// Halted is a virtual device that is off while legs wait that could use it.
type Halted struct {
	ID        int64                 `db:"id"`
	ProjectID int64                 `db:"project_id"`
	HostID    int64                 `db:"host_id"`
	Name      string                `db:"name"`
	Legs      int                   `db:"legs"`
	Coming    int                   `db:"coming"` // devices of the class that are at work or boot
	Facts     pg.JSON[fleet.Device] `db:"facts"`
	Load      pg.JSON[link.Load]    `db:"load"`
	Offer     pg.JSON[link.Offer]   `db:"offer"`
}

// HaltedWanted gives the halted devices that legs could use which have waited for a moment:
// those that are placed at once need none of them. Devices that are idle do not serve
// these legs, or they would have been placed.
func (s *Store) HaltedWanted(ctx context.Context) ([]Halted, error) {
	var list []Halted
	var any bool
	if err := s.db.GetContext(ctx, &any, `select exists (select 1 from device where state = 'halted')`); err != nil ||
		!any {
		return nil, err // what waits may be much, and need not be counted
	}
	err := s.db.SelectContext(ctx, &list, `
		with wanted as (
			select project_id, kind, model, platform, os, device_id, avoid || never as avoid, count(*) as legs from leg
			where run_id in (select id from run where finished_at is null and created_at < now() - interval '300 ms')
				and state = 'waiting' group by 1, 2, 3, 4, 5, 6, 7)
		select d.id, d.project_id, d.host_id, d.name, d.facts, h.load, h.offer, sum(w.legs) as legs,
		       (select count(*) from device o where o.project_id = d.project_id and o.kind = d.kind
		       	and o.model = d.model and o.platform = d.platform and o.os = d.os
		          and o.state in ('leased', 'resetting', 'booting')) as coming
		from wanted w join device d on d.project_id = w.project_id and d.kind = w.kind and d.model = w.model
			and d.platform = w.platform and d.os = w.os
		     and (w.device_id is null or w.device_id = d.id) and not d.id = any(w.avoid)
		     join host h on h.id = d.host_id and h.instance is not null
		where d.state = 'halted' group by d.id, h.id order by d.used, d.name limit 200`)
	return list, err
}

// IdleVirtual gives the names of the virtual devices of hosts that have been idle for a
// moment, and that nothing is being done to.
func (s *Store) IdleVirtual(ctx context.Context, hosts []int64) (map[int64][]string, error) {
	var rows []struct {
		Host int64  `db:"host_id"`
		Name string `db:"name"`
	}
	err := s.db.SelectContext(ctx, &rows, `
		select host_id, name from device d
		where host_id = any($1) and state = 'idle' and kind in ('emulator', 'simulator')
			and since < now() - interval '1 s' and removed_at is null
		  and not exists (select 1 from errand e where e.host_id = d.host_id and e.device = d.name
		  	and e.done_at is null)
		order by since, name`, hosts)
	out := map[int64][]string{}
	for _, r := range rows {
		out[r.Host] = append(out[r.Host], r.Name)
	}
	return out, err
}

// RuledDevices gives the devices that may be used at certain hours only.
func (s *Store) RuledDevices(ctx context.Context) ([]int64, error) {
	var ids []int64
	err := s.db.SelectContext(ctx, &ids, `select id from device where state = 'idle' and facts->'use'->>'hours' is not null`)
	return ids, err
}

// MarkDevices tells the scheduler to look at devices again.
func (s *Store) MarkDevices(ctx context.Context, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	_, err := s.db.ExecContext(ctx, `insert into dirty (sort, id) select 1, unnest($1::bigint[])`, ids)
	return err
}

// Accepted is a licence that somebody has accepted.
type Accepted struct {
	Name   string    `db:"name"`
	Digest string    `db:"digest"`
	By     string    `db:"accepted_by"`
	At     time.Time `db:"accepted_at"`
}

// LicencesAccepted gives what was accepted in a project.
func (s *Store) LicencesAccepted(ctx context.Context, project int64) ([]Accepted, error) {
	list := []Accepted{}
	err := s.db.SelectContext(ctx, &list, `select name, digest, accepted_by, accepted_at from licence_accepted where project_id = $1`, project)
	return list, err
}

// AcceptLicence keeps that somebody has accepted a text; who did so first stands.
func (s *Store) AcceptLicence(ctx context.Context, project int64, name, digest, by string) error {
	_, err := s.db.ExecContext(ctx, `insert into licence_accepted (project_id, name, digest, accepted_by) values ($1, $2, $3, $4) on conflict do nothing`, project, name, digest, by)
	return err
}

// Lineup is a saved rule that chooses devices.
type Lineup struct {
	Name    string    `db:"name"`
	Text    string    `db:"text"`
	SavedBy string    `db:"saved_by"`
	SavedAt time.Time `db:"saved_at"`
}

// Lineups gives a project's lineups by name.
func (s *Store) Lineups(ctx context.Context, project int64) ([]Lineup, error) {
	list := []Lineup{}
	err := s.db.SelectContext(ctx, &list, `select name, text, saved_by, saved_at from lineup where project_id = $1 order by name`, project)
	return list, err
}

// LineupNamed gives one lineup.
func (s *Store) LineupNamed(ctx context.Context, project int64, name string) (Lineup, error) {
	var l Lineup
	err := s.db.GetContext(ctx, &l, `select name, text, saved_by, saved_at from lineup where project_id = $1 and name = $2`, project, name)
	return l, pg.Found(err)
}

// SaveLineup keeps a lineup under its name.
func (s *Store) SaveLineup(ctx context.Context, project int64, l Lineup) error {
	_, err := s.db.ExecContext(ctx, `
		insert into lineup (project_id, name, text, saved_by) values ($1, $2, $3, $4)
		on conflict (project_id, name) do update set text = excluded.text, saved_by = excluded.saved_by,
			saved_at = now()`, project, l.Name, l.Text, l.SavedBy)
	return err
}

// RemoveLineup forgets a lineup. It gives ErrNone where there is none.
func (s *Store) RemoveLineup(ctx context.Context, project int64, name string) error {
	var got int64
	return pg.Found(s.db.GetContext(ctx, &got, `delete from lineup where project_id = $1 and name = $2 returning id`,
		project,
		name))
}
