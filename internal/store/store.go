// Package store keeps the records in PostgreSQL. All SQL stands here, as text
// that a person can run. It decides nothing: what a state may change to, what a
// leg runs next, who leads, is asked of it by internal/service.
package store

import (
	"context"
	"embed"
	"fmt"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"yamato/internal/store/pg"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the records.
type Store struct {
	*pg.Pool
	db *sqlx.DB // the pool's
}

// Open connects to the database at url.
func Open(ctx context.Context, url string) (*Store, error) {
	pool, err := pg.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	return &Store{pool, pool.DB}, nil
}

// Migrate brings the tables up to what this version needs. Several services may
// do so at once.
func (s *Store) Migrate(ctx context.Context) error {
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	const lock = 7420001
	if _, err := conn.ExecContext(ctx, `select pg_advisory_lock($1)`, lock); err != nil {
		return fmt.Errorf("waiting to migrate: %w", err)
	}
	defer func() { _, _ = conn.ExecContext(context.WithoutCancel(ctx), `select pg_advisory_unlock($1)`, lock) }()
	dir, err := subMigrations()
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, s.db.DB, dir)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("migrating the database: %w", err)
	}
	return nil
}

// Tx is a transaction.
type Tx struct{ tx *sqlx.Tx }

// InTx runs do in a transaction, which is committed if do gives nil.
//
// Rows are locked in one order, so that no two transactions wait for each other:
//
//  1. the leadership (shared), where the leader writes;
//  2. a host;
//  3. leases by number, each together with its device;
//  4. devices by id, where no lease is asked for;
//  5. legs and results;
//  6. runs by id, with the numbers of their events;
//  7. blobs.
//
// What has to know a run's state before it touches the run's legs does so in a
// transaction of its own: see windDown in internal/service/dispatch.
func (s *Store) InTx(ctx context.Context, do func(*Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	if err := do(&Tx{tx}); err != nil {
		return err
	}
	return tx.Commit()
}

func (t *Tx) exec(ctx context.Context, query string, args ...any) error {
	_, err := t.tx.ExecContext(ctx, query, args...)
	return err
}

// Caller is who a token belongs to.
type Caller struct {
	TokenID   int64  `db:"id"`
	ProjectID int64  `db:"project_id"`
	Project   string `db:"project"`
	Kind      string `db:"kind"` // user or host
	Name      string `db:"name"`
}

// CallerOf finds who a token belongs to.
func (s *Store) CallerOf(ctx context.Context, token string) (Caller, error) {
	var c Caller
	err := s.db.GetContext(ctx, &c, callerColumns+`where t.digest = $1`, pg.Digest(token))
	return c, pg.Found(err)
}

// AddProject makes a project, or gives the one of that name.
func (s *Store) AddProject(ctx context.Context, name string) (int64, error) {
	var id int64
	err := s.db.GetContext(ctx, &id, `
		insert into project (name) values ($1)
		on conflict (name) do update set name = excluded.name returning id`, name)
	return id, err
}

// AddToken keeps the digest of a token. One that is there already is left as it is.
func (s *Store) AddToken(ctx context.Context, project int64, kind, name, token string) error {
	_, err := s.db.ExecContext(ctx, `
		insert into access_token (project_id, kind, name, digest) values ($1, $2, $3, $4)
		on conflict (digest) do nothing`, project, kind, name, pg.Digest(token))
	return err
}
