// Package store keeps the records in PostgreSQL. All SQL stands here, as text
// that a person can run. It decides nothing: what a state may change to, what a
// leg runs next, who leads, is asked of it by internal/service.
package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is a connection pool to the records.
type Store struct {
	db  *sqlx.DB
	url string
}

// ErrNone is given where a record that was asked for is not there.
var ErrNone = errors.New("there is no such record")

// Open connects to the database at url.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database's address cannot be read: %w", err)
	}
	// Tables grow by the million from nothing: a plan made early, and kept, would read
	// them whole for ever after.
	config.RuntimeParams["plan_cache_mode"] = "force_custom_plan"
	db := sqlx.NewDb(stdlib.OpenDB(*config), "pgx")
	db.SetMaxOpenConns(24)
	db.SetMaxIdleConns(24) // to connect costs more than most queries
	if err := db.PingContext(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("connecting to the database: %w", err), db.Close())
	}
	return &Store{db, url}, nil
}

// Close closes the pool.
func (s *Store) Close() error { return s.db.Close() }

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

// Conflict reports whether err tells that a record of that key is there already.
func Conflict(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

// Listen calls heard whenever any service rings the bell, and once when it has
// begun to listen. It ends with ctx, or with an error when the connection is lost.
func (s *Store) Listen(ctx context.Context, heard func()) error {
	conn, err := pgx.Connect(ctx, s.url)
	if err != nil {
		return fmt.Errorf("connecting to listen: %w", err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, `listen yamato`); err != nil {
		return err
	}
	for heard(); ; heard() {
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return err
		}
	}
}

// Ring rings the bell, which carries nothing: whoever hears it reads the tables.
func (s *Store) Ring(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `notify yamato`)
	return err
}

// one turns the database's "no rows" into ErrNone.
func one(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNone
	}
	return err
}

// Ints and Int64s are arrays in the database.
type (
	Ints   []int
	Int64s []int64
)

var types = pgtype.NewMap()

// Scan reads an array.
func (a *Ints) Scan(src any) error {
	var wide []int64
	if err := types.SQLScanner(&wide).Scan(src); err != nil {
		return err
	}
	*a = make(Ints, len(wide))
	for i, v := range wide {
		(*a)[i] = int(v)
	}
	return nil
}

// Scan reads an array.
func (a *Int64s) Scan(src any) error { return types.SQLScanner((*[]int64)(a)).Scan(src) }

// JSON is a value kept as JSON.
type JSON[T any] struct{ V T }

// Scan reads a value.
func (j *JSON[T]) Scan(src any) error {
	switch b := src.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(b, &j.V)
	case string:
		return json.Unmarshal([]byte(b), &j.V)
	}
	return fmt.Errorf("%T is no JSON", src)
}

// Hopeless reports whether an error lies in what was to be kept, so that trying again
// cannot mend it: values that cannot be, rules that they break, sizes past a limit
// (PostgreSQL, Appendix A, classes 22, 23, 42 and 54).
func Hopeless(err error) bool {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) || len(pg.Code) < 2 {
		return false
	}
	switch pg.Code[:2] {
	case "22", "23", "42", "54":
		return true
	}
	return false
}

// Unfit reports whether an error lies in a value of the caller's that the database cannot
// hold, such as a number past its type.
func Unfit(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && strings.HasPrefix(pg.Code, "22") || err != nil && strings.Contains(err.Error(),
		"failed to encode args")
}

func toJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // only plain values of our own types come here
	}
	return string(b)
}

// array writes whole numbers as PostgreSQL writes an array: arrays of arrays,
// whose rows differ in length, cannot be sent otherwise.
func array[T int | int64](list []T) string {
	b := []byte{'{'}
	for i, v := range list {
		if i > 0 {
			b = append(b, ',')
		}
		b = fmt.Appendf(b, "%d", v)
	}
	return string(append(b, '}'))
}

// Digest is what is kept of a token.
func Digest(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
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
	err := s.db.GetContext(ctx, &c, callerColumns+`where t.digest = $1`, Digest(token))
	return c, one(err)
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
		on conflict (digest) do nothing`, project, kind, name, Digest(token))
	return err
}
