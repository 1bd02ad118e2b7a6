package pg

import (
	"bytes"
	"context"
	"errors"

	"github.com/jmoiron/sqlx"
)

// ErrOtherCall tells that a key was given before, to a call that asked for something else.
var ErrOtherCall = errors.New("this idempotency key belongs to another call")

// Wish is a call that makes something, known by a key: made again, it gives what it made. The zero Wish has none.
type Wish struct {
	Project int64
	Key     string
	Kind    string // of what it makes
	Digest  []byte // of what was asked, and by whom
}

// Granted gives the number of what the same call has made. It gives ErrNone where it has made nothing.
func (w Wish) Granted(ctx context.Context, from sqlx.QueryerContext) (made int64, err error) {
	if w.Key == "" {
		return 0, ErrNone
	}
	var before struct {
		Kind   string
		Digest []byte
		Made   *int64
	}
	if err := sqlx.GetContext(ctx, from, &before, `select kind, digest, made from wish where project_id = $1 and key = $2`,
		w.Project, w.Key); err != nil {
		return 0, Found(err)
	}
	switch {
	case before.Kind != w.Kind || !bytes.Equal(before.Digest, w.Digest):
		return 0, ErrOtherCall
	case before.Made == nil:
		return 0, ErrNone
	}
	return *before.Made, nil
}

// keptFor is for how long a key is known: longer than anybody tries a call again.
const keptFor = "7 days"

// Make makes what is wished for, once: make gives its number. It is the first thing that a transaction does, as it may
// wait for the same call that is under way. Where that has made it already it gives that.
func (w Wish) Make(ctx context.Context, t *sqlx.Tx, make func() (int64, error)) (int64, error) {
	if w.Key == "" {
		return make()
	}
	if err := Exec(ctx, t, `delete from wish where (project_id, key) in (select project_id, key from wish
		where project_id = $1 and at < now() - interval '`+keptFor+`' order by key limit 100 for update skip locked)`,
		w.Project); err != nil {
		return 0, err
	}
	taken, err := t.ExecContext(ctx, `insert into wish (project_id, key, kind, digest) values ($1, $2, $3, $4)
		on conflict do nothing`, w.Project, w.Key, w.Kind, w.Digest)
	if err != nil {
		return 0, err
	}
	if n, err := taken.RowsAffected(); err != nil || n == 0 {
		if err != nil {
			return 0, err
		}
		return w.Granted(ctx, t)
	}
	made, err := make()
	if err != nil {
		return 0, err
	}
	return made, Exec(ctx, t, `update wish set made = $3 where project_id = $1 and key = $2`, w.Project, w.Key, made)
}
