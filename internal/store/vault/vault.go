// Package vault keeps what suites want of their project: secrets and test accounts, sealed, and
// what screens of its apps had on them. It decides nothing, and opens no seal.
package vault

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"maps"
	"slices"
	"yamato/internal/store/pg"
)

// Records are these tables.
type Records struct{ pool *pg.Pool }

// New gives the records that a pool leads to.
func New(p *pg.Pool) *Records { return &Records{p} }

// Secret is a value by its name.
type Secret struct {
	Name   string    `db:"name"`
	Sealed []byte    `db:"sealed"`
	SetAt  time.Time `db:"set_at"`
	SetBy  string    `db:"set_by"`
}

// Secrets gives a project's secrets, by name; of names, only those, unless there are none.
func (r *Records) Secrets(ctx context.Context, project int64, names []string) ([]Secret, error) {
	list := []Secret{}
	err := r.pool.DB.SelectContext(ctx, &list, `
		select name, sealed, set_at, set_by from secret
		where project_id = $1 and (cardinality($2::text[]) = 0 or name = any($2)) order by name`, project, append([]string{}, names...))
	return list, err
}

// KeepSecret keeps a secret in place of what had its name. ErrNone tells that there are most already.
func (r *Records) KeepSecret(ctx context.Context, project int64, s Secret, most int) error {
	var kept []string
	err := r.pool.DB.SelectContext(ctx, &kept, `
		insert into secret (project_id, name, sealed, set_by)
		select $1, $2, $3, $4 where (select count(*) from secret where project_id = $1 and name <> $2) < $5
		on conflict (project_id, name) do update set sealed = excluded.sealed, set_by = excluded.set_by, set_at = now()
		returning name`, project, s.Name, s.Sealed, s.SetBy, most)
	if err == nil && len(kept) == 0 {
		return pg.ErrNone
	}
	return err
}

// RemoveSecret takes a secret away. ErrNone tells that there is none of that name.
func (r *Records) RemoveSecret(ctx context.Context, project int64, name string) error {
	var gone string
	return pg.Found(r.pool.DB.GetContext(ctx, &gone, `delete from secret where project_id = $1 and name = $2 returning name`, project, name))
}

// Account is a test account.
type Account struct {
	ID      int64             `db:"id"`
	Name    string            `db:"name"`
	User    string            `db:"user_name"`
	Fields  pg.JSON[[]string] `db:"fields"`
	Sealed  []byte            `db:"sealed"`
	AddedAt time.Time         `db:"added_at"`
	AddedBy string            `db:"added_by"`
	Holder  string            `db:"holder"` // the run that it is lent to, "" for none
}

const accountColumns = `
	select a.id, a.name, a.user_name, a.fields, a.sealed, a.added_at, a.added_by,
		coalesce((select 'run ' || r.number || ' on ' || d.name from lease l join attempt t on t.lease_id = l.id
			join run r on r.id = t.run_id join device d on d.id = l.device_id
			where l.id = a.lease_id and l.ended_at is null), '') as holder
	from account a `

// Accounts gives a project's accounts, by name and user.
func (r *Records) Accounts(ctx context.Context, project int64) ([]Account, error) {
	list := []Account{}
	err := r.pool.DB.SelectContext(ctx, &list, accountColumns+`
		where a.project_id = $1 and a.removed_at is null order by a.name, a.user_name, a.id`, project)
	return list, err
}

// AddAccount keeps an account, unless there are most of them already (ErrNone).
func (r *Records) AddAccount(ctx context.Context, project int64, a Account, most int) (int64, error) {
	var id int64
	err := pg.Found(r.pool.DB.GetContext(ctx, &id, `
		insert into account (project_id, name, user_name, fields, sealed, added_by)
		select $1, $2, $3, $4, $5, $6 where (select count(*) from account where project_id = $1 and removed_at is null) < $7
		returning id`, project, a.Name, a.User, pg.Encode(a.Fields.V), a.Sealed, a.AddedBy, most))
	return id, err
}

// RemoveAccount takes an account off the list; whoever has it keeps it until the lease ends.
func (r *Records) RemoveAccount(ctx context.Context, project, id int64) error {
	var gone int64
	return pg.Found(r.pool.DB.GetContext(ctx, &gone, `
		update account set removed_at = now() where project_id = $1 and id = $2 and removed_at is null returning id`, project, id))
}

// LentTo gives the accounts that a lease has.
func (r *Records) LentTo(ctx context.Context, lease int64) ([]Account, error) {
	list := []Account{}
	err := r.pool.DB.SelectContext(ctx, &list, accountColumns+`where a.lease_id = $1`, lease)
	return list, err
}

// Wanted is what the suite of a live lease wants.
type Wanted struct {
	Lease   int64          `db:"lease_id"`
	Leg     int64          `db:"leg_id"`
	Project int64          `db:"project_id"`
	Asks    pg.JSON[Asked] `db:"asks"`
}

// Asked are the names that a suite wants.
type Asked struct {
	Secrets  []string `json:"secrets,omitempty"`
	Accounts []string `json:"accounts,omitempty"`
	Builds   []string `json:"builds,omitempty"`
	Files    []string `json:"files,omitempty"`
}

const wantedColumns = `
	select a.lease_id, a.leg_id, a.project_id, s.asks from attempt a join leg g on g.id = a.leg_id
	join suite_revision s on s.id = g.revision_id join lease l on l.id = a.lease_id and l.ended_at is null `

// WantedBy gives what the suite of a live lease wants. ErrNone tells that there is no such lease.
func (r *Records) WantedBy(ctx context.Context, project, lease int64) (Wanted, error) {
	var w Wanted
	err := pg.Found(r.pool.DB.GetContext(ctx, &w, wantedColumns+`where a.project_id = $1 and a.lease_id = $2`, project,
		lease))
	return w, err
}

// Lend lends the legs that have just been placed the accounts that their suites want, each to one
// lease at a time. It gives the legs that could not be lent one, and which that is.
func Lend(ctx context.Context, tx *sqlx.Tx, legs []int64) (blocked map[int64]string, err error) {
	var list []Wanted
	if err := tx.SelectContext(ctx, &list, wantedColumns+`
		where a.leg_id = any($1) and s.asks ? 'accounts' order by a.lease_id`, append([]int64{}, legs...)); err != nil {
		return nil, err
	}
	blocked = map[int64]string{}
	for _, w := range list {
		for _, name := range w.Asks.V.Accounts {
			var ids []int64
			if err := tx.SelectContext(ctx, &ids, `
				update account set lease_id = $1, lent_at = now() where id = (
					select a.id from account a left join lease l on l.id = a.lease_id
					where a.project_id = $2 and a.name = $3 and a.removed_at is null
						and (a.lease_id is null or l.ended_at is not null)
					order by a.lent_at nulls first, a.id limit 1 for update of a skip locked)
				returning id`, w.Lease, w.Project, name); err != nil {
				return nil, err
			}
			if len(ids) > 0 {
				continue
			}
			var there bool
			if err := tx.GetContext(ctx, &there, `
				select exists (select 1 from account where project_id = $1 and name = $2 and removed_at is null)`, w.Project, name); err != nil {
				return nil, err
			}
			if there { // else nobody ever gives it back: the step that needs it says that there is none
				blocked[w.Leg] = name
				break
			}
		}
	}
	return blocked, nil
}

// Block notes which account legs wait for.
func Block(ctx context.Context, tx *sqlx.Tx, blocked map[int64]string) error {
	for _, leg := range slices.Sorted(maps.Keys(blocked)) { // in the order in which legs are locked
		name := blocked[leg]
		if err := pg.Exec(ctx, tx, `update leg set blocked = $2 where id = $1 and state = 'waiting'`, leg,
			name); err != nil {
			return err
		}
	}
	return nil
}

// Unblock has legs tried again that wait for accounts, and gives them: the first of those that wait,
// as many as there are accounts free by now, whichever way that has come about, and all that wait
// for one that there is not any more. Of projects, or of all where that is nil.
func Unblock(ctx context.Context, tx *sqlx.Tx, projects []int64) ([]int64, error) {
	var legs []int64
	err := tx.SelectContext(ctx, &legs, `
		with waits as (
			select id, project_id, blocked, row_number() over (partition by project_id, blocked order by id) as place
			from leg where blocked <> '' and ($1::bigint[] is null or project_id = any($1))),
		kept as (
			select a.project_id, a.name, count(*) filter (where a.lease_id is null or l.ended_at is not null) as free
			from account a left join lease l on l.id = a.lease_id
			where a.removed_at is null and a.project_id in (select project_id from waits) group by a.project_id, a.name)
		update leg set blocked = '' where id in (
			select id from leg where blocked <> '' and id in (
				select w.id from waits w left join kept k on k.project_id = w.project_id and k.name = w.blocked
				where k.free is null or w.place <= k.free)
			order by id for update skip locked)
		returning id`, projects)
	return legs, err
}

// Element is something that a screen of an app had on it.
type Element struct {
	Project int64  `db:"project_id"`
	App     int64  `db:"app_id"`
	ID      string `db:"id"`
	Text    string `db:"text"`
	Role    string `db:"role"`
	Screen  string `db:"screen"`
	Unsure  string `db:"unsure"` // why a person may see it otherwise, "" once it has been seen without a doubt
}

// maxSeen bounds what is kept of an app's screens.
const maxSeen = 20_000

// AddSeen keeps what is not known yet, or was not known without a doubt. Rows are written in one order.
func AddSeen(ctx context.Context, tx *sqlx.Tx, list []Element) error {
	if len(list) == 0 {
		return nil
	}
	var project, app []int64
	var id, text, role, screen, unsure []string
	for _, e := range list {
		project, app = append(project, e.Project), append(app, e.App)
		id, text, role, screen = append(id, e.ID), append(text, e.Text), append(role, e.Role), append(screen, e.Screen)
		unsure = append(unsure, e.Unsure)
	}
	return pg.Exec(ctx, tx, `
		insert into seen_element (project_id, app_id, id, text, role, screen, unsure)
		select distinct on (a, i, t, r) p, a, i, t, r, s, u
		from unnest($1::bigint[], $2::bigint[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[])
			as x(p, a, i, t, r, s, u)
		where not exists (select 1 from seen_element e where e.app_id = x.a and e.id = x.i and e.text = x.t and e.role = x.r
				and (e.unsure = '' or x.u <> ''))
			and ((select count(*) from seen_element e where e.app_id = x.a) < $8 or exists (select 1 from seen_element e
				where e.app_id = x.a and e.id = x.i and e.text = x.t and e.role = x.r))
		order by a, i, t, r, u
		on conflict (app_id, id, text, role) do update set unsure = '' where excluded.unsure = ''`,
		project, app, id, text, role, screen, unsure, maxSeen)
}

// Seen gives what an app's screens had on them.
func (r *Records) Seen(ctx context.Context, project, app int64) ([]Element, error) {
	list := []Element{}
	err := r.pool.DB.SelectContext(ctx, &list, `
		select project_id, app_id, id, text, role, screen, unsure from seen_element where project_id = $1 and app_id = $2
		order by id, text, role`, project, app)
	return list, err
}
