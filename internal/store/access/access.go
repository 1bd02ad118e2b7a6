// Package access keeps who may call: projects, tokens, browsers that are signed in.
package access

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"yamato/internal/store/pg"
)

// Records are these tables.
type Records struct{ *pg.Pool }

// Caller is who a token belongs to.
type Caller struct {
	TokenID   int64  `db:"id"`
	ProjectID int64  `db:"project_id"`
	Project   string `db:"project"`
	Kind      string `db:"kind"` // user or host
	Name      string `db:"name"`
	Host      string `db:"host_name"` // the host that a host's token speaks for; '' where it is the shared one
}

// Uploader is by what name a caller's uploads are known. No person's name has a line break.
func (c Caller) Uploader() string {
	if c.Kind == "host" {
		return "host\n" + c.Host
	}
	return c.Name
}

const callerColumns = `
	select t.id, t.project_id, p.name as project, t.kind, t.name, coalesce(t.host_name, '') as host_name
	from access_token t join project p on p.id = t.project_id `

// CallerOf finds who a token belongs to.
func (r *Records) CallerOf(ctx context.Context, token string) (Caller, error) {
	var c Caller
	err := r.DB.GetContext(ctx, &c, callerColumns+`where t.digest = $1 and t.withdrawn_at is null`, pg.Digest(token))
	return c, pg.Found(err)
}

// AddProject makes a project, or gives the one of that name.
func (r *Records) AddProject(ctx context.Context, name string) (int64, error) {
	var id int64
	err := r.DB.GetContext(ctx, &id, `
		insert into project (name) values ($1)
		on conflict (name) do update set name = excluded.name returning id`, name)
	return id, err
}

// AddToken keeps the digest of a token. One that is there already is left as it is.
func (r *Records) AddToken(ctx context.Context, project int64, kind, name, token string) error {
	_, err := r.DB.ExecContext(ctx, `
		insert into access_token (project_id, kind, name, digest) values ($1, $2, $3, $4)
		on conflict (digest) do nothing`, project, kind, name, pg.Digest(token))
	return err
}

// AddSignIn keeps the digest of a code that signs one browser in as the owner of
// a token, and takes away what has long run out.
func (r *Records) AddSignIn(ctx context.Context, token int64, code string,
	lasts time.Duration) (expires time.Time, err error) {
	err = r.InTx(ctx, func(t *sqlx.Tx) error {
		if err := pg.Exec(ctx, t, `delete from sign_in where expires_at < now() - interval '1 day'`); err != nil {
			return err
		}
		if err := pg.Exec(ctx, t, `delete from browser where expires_at < now()`); err != nil {
			return err
		}
		return t.GetContext(ctx, &expires, `
			insert into sign_in (digest, token_id, expires_at) values ($1, $2, now() + $3 * interval '1 ms')
				returning expires_at`, pg.Digest(code), token, lasts.Milliseconds())
	})
	return expires, err
}

// UseSignIn uses a code up and keeps the digest of the browser's cookie. It gives
// ErrNone where the code is unknown, has been used, or has run out.
func (r *Records) UseSignIn(ctx context.Context, code, cookie string, lasts time.Duration) (Caller, error) {
	var c Caller
	err := r.InTx(ctx, func(t *sqlx.Tx) error {
		var token int64
		if err := t.GetContext(ctx, &token, `
			update sign_in set used_at = now() where digest = $1 and used_at is null and expires_at > now()
				returning token_id`, pg.Digest(code)); err != nil {
			return pg.Found(err)
		}
		if err := pg.Exec(ctx, t, `
			insert into browser (digest, token_id, expires_at)
				values ($1, $2, now() + $3 * interval '1 ms')`, pg.Digest(cookie), token,
			lasts.Milliseconds()); err != nil {
			return err
		}
		return t.GetContext(ctx, &c, callerColumns+`where t.id = $1`, token)
	})
	return c, err
}

// BrowserCaller finds who a browser's cookie stands for.
func (r *Records) BrowserCaller(ctx context.Context, cookie string) (Caller, error) {
	var c Caller
	err := r.DB.GetContext(ctx, &c, callerColumns+
		`join browser b on b.token_id = t.id where b.digest = $1 and b.expires_at > now()`, pg.Digest(cookie))
	return c, pg.Found(err)
}

// DropBrowser signs a browser out.
func (r *Records) DropBrowser(ctx context.Context, cookie string) error {
	_, err := r.DB.ExecContext(ctx, `delete from browser where digest = $1`, pg.Digest(cookie))
	return err
}
