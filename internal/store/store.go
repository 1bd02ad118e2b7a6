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

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	var one int
	return s.db.GetContext(ctx, &one, "select 1")
}
