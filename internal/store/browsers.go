package store

import (
	"context"
	"time"

	"yamato/internal/store/pg"
)

// AddSignIn keeps the digest of a code that signs one browser in as the owner of
// a token, and takes away what has long run out.
func (s *Store) AddSignIn(ctx context.Context, token int64, code string,
	lasts time.Duration) (expires time.Time, err error) {
	err = s.InTx(ctx, func(t *Tx) error {
		if err := t.exec(ctx, `delete from sign_in where expires_at < now() - interval '1 day'`); err != nil {
			return err
		}
		if err := t.exec(ctx, `delete from browser where expires_at < now()`); err != nil {
			return err
		}
		return t.tx.GetContext(ctx, &expires, `
			insert into sign_in (digest, token_id, expires_at) values ($1, $2, now() + $3 * interval '1 ms')
				returning expires_at`, pg.Digest(code), token, lasts.Milliseconds())
	})
	return expires, err
}

// UseSignIn uses a code up and keeps the digest of the browser's cookie. It gives
// ErrNone where the code is unknown, has been used, or has run out.
func (s *Store) UseSignIn(ctx context.Context, code, cookie string, lasts time.Duration) (Caller, error) {
	var c Caller
	err := s.InTx(ctx, func(t *Tx) error {
		var token int64
		if err := t.tx.GetContext(ctx, &token, `
			update sign_in set used_at = now() where digest = $1 and used_at is null and expires_at > now()
				returning token_id`, pg.Digest(code)); err != nil {
			return pg.Found(err)
		}
		if err := t.exec(ctx, `
			insert into browser (digest, token_id, expires_at)
				values ($1, $2, now() + $3 * interval '1 ms')`, pg.Digest(cookie), token,
			lasts.Milliseconds()); err != nil {
			return err
		}
		return t.tx.GetContext(ctx, &c, callerColumns+`where t.id = $1`, token)
	})
	return c, err
}

const callerColumns = `
	select t.id, t.project_id, p.name as project, t.kind, t.name
	from access_token t join project p on p.id = t.project_id `

// BrowserCaller finds who a browser's cookie stands for.
func (s *Store) BrowserCaller(ctx context.Context, cookie string) (Caller, error) {
	var c Caller
	err := s.db.GetContext(ctx, &c, callerColumns+
		`join browser b on b.token_id = t.id where b.digest = $1 and b.expires_at > now()`, pg.Digest(cookie))
	return c, pg.Found(err)
}

// DropBrowser signs a browser out.
func (s *Store) DropBrowser(ctx context.Context, cookie string) error {
	_, err := s.db.ExecContext(ctx, `delete from browser where digest = $1`, pg.Digest(cookie))
	return err
}
