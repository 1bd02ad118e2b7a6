// Package sessions keeps people's sessions at devices, what stays of them, and the findings made of
// it. It decides nothing.
package sessions

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"cmp"
	"slices"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/core/states"
	"yamato/internal/store/pg"
)

// Records are these tables; Reading is what a transaction over them may do whatever it has locked.
type (
	Records struct{ pool *pg.Pool }
	Reading struct{ SQL *sqlx.Tx }
)

// New gives the records that a pool leads to.
func New(p *pg.Pool) *Records { return &Records{p} }

// Session is one.
type Session struct {
	ID         int64                     `db:"id"`
	ProjectID  int64                     `db:"project_id"`
	Number     int64                     `db:"number"`
	Name       string                    `db:"name"`
	Purpose    string                    `db:"purpose"`
	AskedBy    string                    `db:"asked_by"`
	State      states.Session            `db:"state"`
	Shared     bool                      `db:"shared"`
	DeviceID   *int64                    `db:"device_id"`
	Wanted     string                    `db:"wanted"` // name of that device
	Among      pg.Int64s                 `db:"among"`
	Lineup     string                    `db:"lineup"`
	Language   string                    `db:"language"`
	Cleaning   string                    `db:"cleaning"`
	BuildID    *int64                    `db:"build_id"`
	Build      string                    `db:"build"` // "Tideline 2.4"
	Package    string                    `db:"package"`
	App        string                    `db:"app"`
	Lines      pg.JSON[[]string]         `db:"lines"`
	Origin     *pg.JSON[Origin]          `db:"origin"`
	LeaseID    *int64                    `db:"lease_id"`
	OnDevice   *int64                    `db:"on_device"`
	Device     string                    `db:"device"` // name of the one that it has or had, "" where none
	Facts      *pg.JSON[fleet.Device]    `db:"facts"`
	Instance   *string                   `db:"instance"`
	Address    string                    `db:"address"` // of the instance, "" where none is alive
	Secret     string                    `db:"secret"`
	Moving     bool                      `db:"moving"`
	EndAsked   string                    `db:"end_asked"`
	Why        string                    `db:"why"`
	CreatedAt  time.Time                 `db:"created_at"`
	OpenedAt   *time.Time                `db:"opened_at"`
	ClosedAt   *time.Time                `db:"closed_at"`
	ContactAt  time.Time                 `db:"contact_at"`
	UsedAt     time.Time                 `db:"used_at"`
	IdleMS     int64                     `db:"idle_ms"`
	AwayMS     int64                     `db:"away_ms"`
	LogLines   int64                     `db:"log_lines"`
	LogErrors  int64                     `db:"log_errors"`
	Findings   int64                     `db:"findings"`
	LeaseEnded bool                      `db:"lease_ended"`
	Pack       *pg.JSON[appfile.Package] `db:"pack"`
}

// Origin is the case of a run that a session repeats.
type Origin struct {
	Run   int64  `json:"run"`
	Suite string `json:"suite"`
	Case  string `json:"case"`
	Line  int    `json:"line"` // the step that failed
	Step  string `json:"step"`
}

const columns = `
	select s.*, coalesce(want.name, '') as wanted, coalesce(d.name, '') as device, d.facts,
		coalesce(i.address, '') as address, coalesce(i.secret, '') as secret,
		coalesce(a.name || ' ' || b.version_name, '') as build, p.facts as pack,
		(select count(*) from finding f where f.session_id = s.id) as findings,
		coalesce((select l.ended_at is not null from lease l where l.id = s.lease_id), true) as lease_ended
	from (select id, project_id, number, name, purpose, asked_by, state, shared, device_id, among, lineup, language, cleaning,
		build_id, package, app, lines, origin, lease_id, on_device, instance, moving, end_asked, why, created_at, opened_at,
		closed_at, contact_at, used_at, idle_ms, away_ms, log_lines, log_errors from session) s
	left join device want on want.id = s.device_id
	left join device d on d.id = s.on_device
	left join build b on b.id = s.build_id
	left join app a on a.id = b.app_id
	left join package p on p.project_id = s.project_id and p.digest = s.package and s.package <> ''
	left join instance i on i.id = s.instance and i.seen_at > now() - interval '15 seconds' `

// Visible are the sessions that somebody may see: their own, and those that are shared.
const visible = ` s.project_id = $1 and (s.asked_by = $2 or s.shared) `

// Sessions gives those that somebody may see, newest first, numbers below cursor (0 for all).
func (r *Records) Sessions(ctx context.Context, project int64, who string, going bool, q string, cursor int64,
	limit int) ([]Session, error) {
	list := []Session{}
	err := r.pool.DB.SelectContext(ctx, &list, columns+`where`+visible+`and (not $3 or s.closed_at is null)
		and ($4 = 0 or s.number < $4) and ($5 = '' or position(lower($5) in lower(s.name || ' ' || s.purpose || ' ' ||
			s.asked_by || ' ' || coalesce(d.name, '') || ' ' || coalesce(a.name || ' ' || b.version_name, ''))) > 0)
		order by s.number desc limit $6`, project, who, going, cursor, q, limit)
	return list, err
}

// SessionNumbered gives one that somebody may see.
func (r *Records) SessionNumbered(ctx context.Context, project int64, who string, number int64) (Session, error) {
	var s Session
	err := r.pool.DB.GetContext(ctx, &s, columns+`where`+visible+`and s.number = $3`, project, who, number)
	return s, pg.Found(err)
}

// SessionByID gives one, whoever asks.
func (r *Records) SessionByID(ctx context.Context, id int64) (Session, error) {
	var s Session
	err := r.pool.DB.GetContext(ctx, &s, columns+`where s.id = $1`, id)
	return s, pg.Found(err)
}

// SessionOfLease gives the session that has a live lease of a host's.
func (r *Records) SessionOfLease(ctx context.Context, project, lease int64) (Session, error) {
	var s Session
	err := r.pool.DB.GetContext(ctx, &s, columns+`where s.project_id = $1 and s.lease_id = $2 and s.closed_at is null`,
		project, lease)
	return s, pg.Found(err)
}

// Going gives the sessions that are not closed, for who looks after them.
func (r *Records) Going(ctx context.Context) ([]Session, error) {
	var list []Session
	err := r.pool.DB.SelectContext(ctx, &list, columns+`where s.closed_at is null order by s.id`)
	return list, err
}

// Ahead tells how many sessions of a project have been waiting for longer than one.
func (r *Records) Ahead(ctx context.Context, s Session) (int, error) {
	var n int
	err := r.pool.DB.GetContext(ctx, &n, `select count(*) from session where project_id = $1 and closed_at is null and lease_id is null
		and id < $2 and (device_id = $3 or $3 is null or device_id is null)`, s.ProjectID, s.ID, s.DeviceID)
	return n, err
}

// AddSession keeps a new one and has the scheduler look at it.
func (r *Records) AddSession(ctx context.Context, s Session, w pg.Wish) (made int64, err error) {
	err = r.pool.InTx(ctx, func(t *sqlx.Tx) error {
		made, err = w.Make(ctx, t, func() (int64, error) { return addSession(ctx, t, s) })
		return err
	})
	return made, err
}

func addSession(ctx context.Context, t *sqlx.Tx, s Session) (number int64, err error) {
	if err := t.GetContext(ctx, &number, `update project set next_session = next_session + 1 where id = $1
		returning next_session - 1`, s.ProjectID); err != nil {
		return 0, err
	}
	var id int64
	var origin *string
	if s.Origin != nil {
		o := pg.Encode(s.Origin.V)
		origin = &o
	}
	if err := t.GetContext(ctx, &id, `
		insert into session (project_id, number, name, purpose, asked_by, shared, device_id, among, lineup, language,
			cleaning, build_id, package, app, lines, origin, idle_ms, away_ms, reads)
		values ($1, $2, $3, $4, $5, $6, $7, $8::bigint[], $9, $10, $11, $12, $13, $14, $15::jsonb, $16::jsonb, $17, $18,
			case when $13 = '' then '{}'::text[] else array[$13] end) returning id`,
		s.ProjectID, number, s.Name, s.Purpose, s.AskedBy, s.Shared, s.DeviceID, pg.Array(s.Among), s.Lineup,
		s.Language,
		s.Cleaning, s.BuildID, s.Package, s.App, pg.Encode(append([]string{}, s.Lines.V...)), origin, s.IdleMS,
		s.AwayMS); err != nil {
		return 0, err
	}
	return number, pg.Exec(ctx, t, `insert into dirty (sort, id) values (3, $1)`, id)
}

// Naming gives the pattern that a project's sessions are named by.
func (r *Records) Naming(ctx context.Context, project int64) (string, error) {
	var pattern string
	err := r.pool.DB.GetContext(ctx, &pattern, `select session_name from project where id = $1`, project)
	return pattern, err
}

// SetNaming changes it.
func (r *Records) SetNaming(ctx context.Context, project int64, pattern string) error {
	_, err := r.pool.DB.ExecContext(ctx, `update project set session_name = $2 where id = $1`, project, pattern)
	return err
}

// ChangeSession changes what people call it and who may see it.
func (r *Records) ChangeSession(ctx context.Context, id int64, name, purpose string, shared bool) error {
	_, err := r.pool.DB.ExecContext(ctx, `update session set name = $2, purpose = $3, shared = $4 where id = $1`, id,
		name, purpose,
		shared)
	return err
}

// Touch notes that somebody is there, and whether the device was used.
func (r *Records) Touch(ctx context.Context, id int64, used bool) error {
	_, err := r.pool.DB.ExecContext(ctx, `
		update session set contact_at = now(), used_at = case when $2 then now() else used_at end,
			state = case when state = 'away' then 'open' else state end
		where id = $1 and closed_at is null`, id, used)
	return err
}

// Away notes that nobody has been there for so long. It reports whether that was new.
func (r *Records) Away(ctx context.Context, id int64, since time.Duration) (bool, error) {
	var ids []int64
	err := r.pool.DB.SelectContext(ctx, &ids, `update session set state = 'away' where id = $1 and state = 'open'
		and contact_at < now() - $2 * interval '1 ms' returning id`, id, since.Milliseconds())
	return len(ids) > 0, err
}

// SetInstance notes where a session's live traffic comes together.
func (r *Records) SetInstance(ctx context.Context, id, lease int64, instance string) error {
	_, err := r.pool.DB.ExecContext(ctx, `update session set instance = $3 where id = $1 and lease_id = $2`, id, lease,
		instance)
	return err
}

// SetSecret keeps what an instance is known by to the others.
func (r *Records) SetSecret(ctx context.Context, instance, secret string) error {
	_, err := r.pool.DB.ExecContext(ctx, `update instance set secret = $2 where id = $1`, instance, secret)
	return err
}

// LetRead lets the host of a session fetch a blob.
func (r *Records) LetRead(ctx context.Context, id int64, digest string) error {
	_, err := r.pool.DB.ExecContext(ctx, `update session set reads = array_append(reads, $2) where id = $1 and not $2 = any(reads)
		and cardinality(reads) < 1000`, id, digest)
	return err
}

// SetBuild notes what was installed last.
func (r *Records) SetBuild(ctx context.Context, id, build int64, digest string) error {
	_, err := r.pool.DB.ExecContext(ctx, `update session set build_id = $2, package = $3 where id = $1`, id, build,
		digest)
	return err
}

// AskEnd has a session end, for a reason; one that waits for a device is closed at once. Where it moves, it goes on
// on another device.
func (r *Records) AskEnd(ctx context.Context, id int64, why string) error {
	if _, err := r.pool.DB.ExecContext(ctx, `
		update session set end_asked = case when end_asked = '' then $2 else end_asked end,
			state = case when lease_id is null then 'closed' else state end,
			closed_at = case when lease_id is null then now() else closed_at end,
			why = case when lease_id is null then $2 else why end
		where id = $1 and closed_at is null`, id, why); err != nil {
		return err
	}
	return r.endLease(ctx, id)
}

// endLease passes on to the lease that its session is to end. It stands apart: leases are locked before sessions.
func (r *Records) endLease(ctx context.Context, id int64) error {
	_, err := r.pool.DB.ExecContext(ctx, `
		update lease set end_asked = s.end_asked from session s
		where s.id = $1 and lease.id = s.lease_id and s.end_asked <> '' and lease.ended_at is null and lease.end_asked = ''`, id)
	return err
}

// PassOnEnds does so for all sessions, in case somebody was killed in between.
func (r *Records) PassOnEnds(ctx context.Context) error {
	_, err := r.pool.DB.ExecContext(ctx, `
		update lease set end_asked = s.end_asked from session s
		where s.closed_at is null and s.end_asked <> '' and lease.id = s.lease_id and lease.ended_at is null
			and lease.end_asked = ''`)
	return err
}

// Move has a session go on on another device once it has given back the one that it has.
func (r *Records) Move(ctx context.Context, id int64, device *int64, among []int64, lineup, why string) error {
	if _, err := r.pool.DB.ExecContext(ctx, `
		update session set device_id = $2, among = $3::bigint[], lineup = $4, moving = lease_id is not null, lines = '[]',
			end_asked = case when lease_id is null then '' else $5 end
		where id = $1 and closed_at is null`, id, device, pg.Array(among), lineup, why); err != nil {
		return err
	}
	if _, err := r.pool.DB.ExecContext(ctx, `insert into dirty (sort, id) values (3, $1)`, id); err != nil {
		return err
	}
	return r.endLease(ctx, id)
}

// Entry is something of a session that stays.
type Entry struct {
	Lease     int64             `db:"lease_id"`
	Seq       int64             `db:"seq"`
	Session   int64             `db:"session_id"`
	Project   int64             `db:"project_id"`
	AtMS      int64             `db:"at_ms"`
	Kind      string            `db:"kind"`
	Text      string            `db:"text"`
	Lines     pg.JSON[[]string] `db:"lines"`
	Detail    *json.RawMessage  `db:"detail"`
	Digest    string            `db:"digest"`
	MediaType string            `db:"media_type"`
	Size      int64             `db:"size"`
}

const entryColumns = `select lease_id, seq, session_id, project_id, at_ms, kind, text, lines, detail, digest, media_type, size
	from session_entry `

// maxEntries bounds what is told of one session at once.
const maxEntries = 10_000

// Entries gives what stays of a session, in order, but for pieces of its log.
func (r *Records) Entries(ctx context.Context, session int64) ([]Entry, error) {
	list := []Entry{}
	err := r.pool.DB.SelectContext(ctx, &list, entryColumns+
		`where session_id = $1 and kind <> 'log' order by lease_id, seq limit $2`,
		session, maxEntries)
	return list, err
}

// LogPieces gives the pieces of a session's log, in order.
func (r *Records) LogPieces(ctx context.Context, session int64) ([]Entry, error) {
	list := []Entry{}
	err := r.pool.DB.SelectContext(ctx, &list, entryColumns+
		`where session_id = $1 and kind = 'log' order by lease_id, seq`, session)
	return list, err
}

// EntryAt gives one entry.
func (r *Records) EntryAt(ctx context.Context, session, lease, seq int64) (Entry, error) {
	var e Entry
	err := r.pool.DB.GetContext(ctx, &e, entryColumns+`where session_id = $1 and lease_id = $2 and seq = $3`, session,
		lease, seq)
	return e, pg.Found(err)
}

// Waiting is a session that waits for a device, as the scheduler needs it.
type Waiting struct {
	ID        int64     `db:"id"`
	ProjectID int64     `db:"project_id"`
	DeviceID  int64     `db:"device_id"` // 0 for any
	Among     pg.Int64s `db:"among"`
	AskedBy   string    `db:"asked_by"`
	Waits     bool      `db:"waits"`
}

const waitingColumns = `select id, project_id, coalesce(device_id, 0) as device_id, among, asked_by,
	closed_at is null and lease_id is null and end_asked = '' as waits from session `

// WaitingSessions gives every session that waits.
func (t Reading) WaitingSessions(ctx context.Context) ([]Waiting, error) {
	var list []Waiting
	err := t.SQL.SelectContext(ctx, &list, waitingColumns+`where closed_at is null and lease_id is null and end_asked = ''
		order by id`)
	return list, err
}

// SessionsWaiting gives sessions by their ids, whether they wait or not.
func (t Reading) SessionsWaiting(ctx context.Context, ids []int64) ([]Waiting, error) {
	var list []Waiting
	err := t.SQL.SelectContext(ctx, &list, waitingColumns+`where id = any($1)`, ids)
	return list, err
}

// Place gives an idle device to a session that waits; it reports false where either is so no more.
func Place(ctx context.Context, tx *sqlx.Tx, session, device int64, ttl time.Duration) (bool, error) {
	var lease []int64
	if err := tx.SelectContext(ctx, &lease, `
		with d as (
			update device d set state = 'leased', since = now(), last_lease = nextval('lease_number'), used = d.used + 1
			from device old where d.id = $1 and old.id = d.id and d.state = 'idle'
			returning d.id, d.host_id, d.project_id, d.last_lease as number, old.last_lease as before)
		insert into lease (id, project_id, device_id, host_id, before, holder, expires_at)
		select number, project_id, id, host_id, before, 'session', now() + $2 * interval '1 ms' from d returning id`,
		device, ttl.Milliseconds()); err != nil || len(lease) == 0 {
		return false, err
	}
	var placed []int64
	if err := tx.SelectContext(ctx, &placed, `
		update session set lease_id = $2, on_device = $3, moving = false, instance = null, contact_at = now(), used_at = now()
		where id = $1 and closed_at is null and lease_id is null and end_asked = '' and coalesce(device_id, $3) = $3
			and (among = '{}' or $3 = any(among)) returning id`, session, lease[0],
		device); err != nil || len(placed) == 0 {
		return false, err
	}
	return true, pg.Exec(ctx, tx, `insert into session_lease (lease_id, session_id) values ($1, $2)`, lease[0],
		session)
}

// Change is what has happened to a session.
type Change struct {
	Session int64
	Lease   int64
	Opened  bool
	Ended   bool   // its lease has
	Why     string // it is closed then, unless it moves
	Lines   int64  // of log that were kept
	Errors  int64
}

// ChangeAll carries changes out, in the order of the sessions' ids.
func ChangeAll(ctx context.Context, tx *sqlx.Tx, list []Change) error {
	list = slices.SortedStableFunc(slices.Values(list), func(a, b Change) int { return cmp.Compare(a.Session, b.Session) })
	for _, c := range list {
		if err := pg.Exec(ctx, tx, `
			update session set
				state = case when $3 and moving then 'opening' when $3 then 'closed'
					when $2 and state = 'opening' then 'open' else state end,
				opened_at = case when $2 then coalesce(opened_at, now()) else opened_at end,
				closed_at = case when $3 and not moving then now() else closed_at end,
				why = case when $3 and not moving then case when $7 <> '' then $7 else end_asked end else why end,
				end_asked = case when $3 and moving then '' else end_asked end,
				lease_id = case when $3 then null else lease_id end,
				instance = case when $3 then null else instance end,
				log_lines = log_lines + $5, log_errors = log_errors + $6
			where id = $1 and lease_id = $4`, c.Session, c.Opened, c.Ended, c.Lease, c.Lines, c.Errors, c.Why); err != nil {
			return err
		}
		if c.Ended {
			if err := pg.Exec(ctx, tx, `insert into dirty (sort, id) select 3, id from session where id = $1 and closed_at is null`,
				c.Session); err != nil {
				return err
			}
		}
	}
	return nil
}

// AddEntries keeps entries. Those whose time is below 0 happened now.
func (t Reading) AddEntries(ctx context.Context, list []Entry) error {
	for _, e := range list {
		var detail *string
		if e.Detail != nil {
			d := string(*e.Detail)
			detail = &d
		}
		if err := pg.Exec(ctx, t.SQL, `
			insert into session_entry (lease_id, seq, session_id, project_id, at_ms, kind, text, lines, detail, digest, media_type,
				size)
			values ($1, $2, $3, $4, case when $5::bigint < 0 then (select (extract(epoch from now() - created_at) * 1000)::bigint
				from session where id = $3) else $5 end, $6, $7, $8::jsonb, $9::jsonb, $10, $11, $12) on conflict do nothing`,
			e.Lease, e.Seq, e.Session, e.Project, e.AtMS, e.Kind, e.Text, pg.Encode(append([]string{}, e.Lines.V...)),
			detail,
			e.Digest, e.MediaType, e.Size); err != nil {
			return err
		}
	}
	return nil
}

// Assignment is a live lease of a session, with what its host needs.
type Assignment struct {
	Lease    int64                     `db:"lease"`
	Device   string                    `db:"device"`
	LastSeq  int64                     `db:"last_seq"`
	TTLMS    int64                     `db:"ttl_ms"`
	SinceMS  int64                     `db:"since_ms"` // since the session was asked for
	Number   int64                     `db:"number"`
	Name     string                    `db:"name"`
	AskedBy  string                    `db:"asked_by"`
	Language string                    `db:"language"`
	Cleaning string                    `db:"cleaning"`
	Package  string                    `db:"package"`
	App      string                    `db:"app"`
	Lines    pg.JSON[[]string]         `db:"lines"`
	Pack     *pg.JSON[appfile.Package] `db:"pack"`
}

// SessionAssignments gives those of leases that sessions have.
func (r *Records) SessionAssignments(ctx context.Context, leases []int64) ([]Assignment, error) {
	var list []Assignment
	err := r.pool.DB.SelectContext(ctx, &list, `
		select l.id as lease, d.name as device, l.last_seq, s.number, s.name, s.asked_by, s.language, s.cleaning, s.package, s.app,
			s.lines, p.facts as pack, greatest(0, extract(epoch from l.expires_at - now()) * 1000)::bigint as ttl_ms,
			(extract(epoch from now() - s.created_at) * 1000)::bigint as since_ms
		from lease l join session s on s.lease_id = l.id join device d on d.id = l.device_id
			left join package p on p.project_id = s.project_id and p.digest = s.package and s.package <> ''
		where l.id = any($1) and l.ended_at is null order by l.id`, leases)
	return list, err
}
