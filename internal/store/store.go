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

	"yamato/internal/store/access"
	"yamato/internal/store/pg"
	"yamato/internal/store/plans"
	"yamato/internal/store/sessions"
	"yamato/internal/store/vault"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the records.
type Store struct {
	*access.Records
	*Sessions
	*Vault
	*Plans
	db *sqlx.DB // the pool's
}

// Open connects to the database at url.
func Open(ctx context.Context, url string) (*Store, error) {
	pool, err := pg.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	return &Store{&access.Records{Pool: pool}, sessions.New(pool), vault.New(pool), plans.New(pool), pool.DB}, nil
}

// Migrate brings the tables up to what this version needs. Several services may
// do so at once.
// Records of a newer program, which this one does not know how to serve, are left as they are: NewerError.
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
	var known int64
	for _, m := range p.ListSources() {
		known = max(known, m.Version)
	}
	if there, err := p.GetDBVersion(ctx); err != nil {
		return fmt.Errorf("reading which program the records are of: %w", err)
	} else if there > known {
		return NewerError{There: there, Known: known}
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("migrating the database: %w", err)
	}
	return nil
}

// NewerError tells that the records are of a newer program than this one.
// versions of the records: that of the database, the last that is known here
type NewerError struct{ There, Known int64 }

func (e NewerError) Error() string {
	return fmt.Sprintf("the records in the database are of a newer program (version %d; this one knows them up to %d)",
		e.There, e.Known)
}

// Identity is what the records are known by. It goes along where they are restored.
func (s *Store) Identity(ctx context.Context) (string, error) {
	var id string
	err := s.db.GetContext(ctx, &id, `select id from identity`)
	return id, err
}

// Sessions are the records of people's sessions at devices.
type Sessions = sessions.Records

// Vault are the records of what suites want of their project.
type Vault = vault.Records

// Plans are the records of saved plans.
type Plans = plans.Records

// Lending is a transaction over the vault.
type Lending = vault.Tx

// Tx is a transaction.
type Tx struct {
	tx *sqlx.Tx
	sessions.Tx
	Lending
}

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	var one int
	return s.db.GetContext(ctx, &one, "select 1")
}

// InTx runs do in a transaction, which is committed if do gives nil.
//
// Rows are locked in one order, so that no two transactions wait for each other:
//
//  1. the leadership (shared), where the leader writes;
//  2. a host;
//  3. leases by number;
//  4. devices by id;
//  5. legs by id and their results, and crashes by their app and stack;
//  6. sessions by id;
//  7. runs by id, with the numbers of their events;
//  8. blobs.
//
// What locks many locks them by a statement of its own, in that order, before it changes any; rows that stay are locked
// against changes and not against being referred to (for no key update), so that who adds something of a run waits for
// nobody. TestEverythingAtOnceMeetsNoDeadlock does all at once.
//
// What has to know a run's state before it touches the run's legs does so in a
// transaction of its own: see windDown in internal/service/dispatch.
func (s *Store) InTx(ctx context.Context, do func(*Tx) error) error {
	return s.Records.InTx(ctx, func(tx *sqlx.Tx) error { return do(&Tx{tx, sessions.Tx{SQL: tx}, vault.Tx{SQL: tx}}) })
}

// Enrol keeps the own token of a host that has come with the shared one (access.Enrol).
func (t *Tx) Enrol(ctx context.Context, project int64, host, token string) error {
	return access.Enrol(ctx, t.tx, project, host, token)
}

// Linked notes that a host has come with a token of its own.
func (t *Tx) Linked(ctx context.Context, token int64) error { return access.Linked(ctx, t.tx, token) }

func (t *Tx) exec(ctx context.Context, query string, args ...any) error {
	return pg.Exec(ctx, t.tx, query, args...)
}
