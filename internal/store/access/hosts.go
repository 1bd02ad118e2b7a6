package access

import (
	"context"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"yamato/internal/store/pg"
)

// ErrOwnToken tells that a host that has a token of its own came with the shared one.
var ErrOwnToken = errors.New("the host has a token of its own")

// SpeaksFor is the condition, of a row h of the table host, that a caller speaks for it: $host is the name that its
// token is bound to, empty where that is the shared one, which speaks for hosts that have none of their own yet.
func SpeaksFor(param string) string {
	return `(h.name = ` + param + ` or ` + param + ` = '' and not exists (select 1 from access_token own
		where own.project_id = h.project_id and own.host_name = h.name and (own.used_at is not null or own.withdrawn_at is not null)))`
}

// HostToken is a host's token, as people see it.
type HostToken struct {
	ID        int64      `db:"id"`
	Host      string     `db:"host"` // '' for the shared one
	MadeBy    string     `db:"made_by"`
	Made      time.Time  `db:"created_at"`
	Used      *time.Time `db:"used_at"`
	Withdrawn *time.Time `db:"withdrawn_at"`
}

// maxHostTokens bounds a list, newest first.
const maxHostTokens = 1000

// HostTokens lists the tokens of a project's hosts.
func (r *Records) HostTokens(ctx context.Context, project int64) ([]HostToken, error) {
	var list []HostToken
	err := r.DB.SelectContext(ctx, &list, `
		select id, coalesce(host_name, '') as host, made_by, created_at, used_at, withdrawn_at from access_token
		where project_id = $1 and kind = 'host' order by coalesce(host_name, ''), id desc limit $2`, project, maxHostTokens)
	return list, err
}

// AddHostToken keeps the digest of a token that speaks for one host.
func (r *Records) AddHostToken(ctx context.Context, project int64, host, by, token string) (int64, error) {
	var id int64
	err := r.DB.GetContext(ctx, &id, `
		insert into access_token (project_id, kind, name, host_name, made_by, digest) values ($1, 'host', $2, $2, $3, $4) returning id`,
		project, host, by, pg.Digest(token))
	return id, err
}

// WithdrawHostToken takes a token back, and cuts the link of the host that came with it. It gives whose it was.
func (r *Records) WithdrawHostToken(ctx context.Context, project, id int64) (t HostToken, err error) {
	err = r.InTx(ctx, func(tx *sqlx.Tx) error {
		if err := pg.Exec(ctx, tx, `
			update host set link = link + 1 where project_id = $1
			and name = (select host_name from access_token where project_id = $1 and id = $2 and kind = 'host')`, project, id); err != nil {
			return err // before the token, as where a host links
		}
		return pg.Found(tx.GetContext(ctx, &t, `
			update access_token set withdrawn_at = coalesce(withdrawn_at, now()) where project_id = $1 and id = $2 and kind = 'host'
			returning id, coalesce(host_name, '') as host, made_by, created_at, used_at, withdrawn_at`, project, id))
	})
	return t, err
}

// Enrol keeps a token for a host that has linked with the shared one, in the transaction in which it does. Where it
// has one already, and has used it, or it was withdrawn, it gives ErrOwnToken.
func Enrol(ctx context.Context, t *sqlx.Tx, project int64, host, token string) error {
	var own bool
	if err := t.GetContext(ctx, &own, `select exists (select 1 from access_token where project_id = $1 and host_name = $2
		and (used_at is not null or withdrawn_at is not null))`, project, host); err != nil {
		return err
	}
	if own {
		return ErrOwnToken
	}
	if err := pg.Exec(ctx, t, `delete from access_token where project_id = $1 and host_name = $2 and made_by = ''`,
		project, host); err != nil {
		return err
	}
	return pg.Exec(ctx, t, `insert into access_token (project_id, kind, name, host_name, digest) values ($1, 'host', $2, $2, $3)`,
		project, host, pg.Digest(token))
}

// HostTokenKept notes that a host has kept the token that it was given.
func (r *Records) HostTokenKept(ctx context.Context, token string) error {
	_, err := r.DB.ExecContext(ctx, `update access_token set used_at = coalesce(used_at, now()) where digest = $1`,
		pg.Digest(token))
	return err
}

// Linked notes that a host has come with a token of its own.
func Linked(ctx context.Context, t *sqlx.Tx, token int64) error {
	return pg.Exec(ctx, t, `update access_token set used_at = coalesce(used_at, now()) where id = $1 and host_name is not null`, token)
}
