// Package pg is the connection to PostgreSQL and what its values are in Go.
package pg

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"reflect"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
)

// ErrNone is given where a record that was asked for is not there.
var ErrNone = errors.New("there is no such record")

// Conflict reports whether err tells that a record of that key is there already.
func Conflict(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

// Found turns the database's "no rows" into ErrNone.
func Found(err error) error {
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

// Value writes a value.
func (j JSON[T]) Value() (driver.Value, error) { return Encode(j.V), nil }

// Columns gives the columns that the fields of a struct are, in order, those of embedded structs in their place.
func Columns(v any) []string { return columnsOf(reflect.TypeOf(v)) }

func columnsOf(t reflect.Type) (out []string) {
	for i := range t.NumField() {
		f := t.Field(i)
		if column := f.Tag.Get("db"); column != "" {
			out = append(out, column)
		} else if f.Anonymous {
			out = append(out, columnsOf(f.Type)...)
		}
	}
	return out
}

// Stated gives a text, and nothing where it is empty.
func Stated(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// Hopeless reports whether an error lies in what was to be kept, so that trying again
// cannot mend it: values that cannot be, rules that they break, sizes past a limit
// (PostgreSQL, Appendix A, classes 22, 23 and 54). What the database does not know, such as a column (class 42), is the
// program's fault or that of another beside it, and none of a value's.
func Hopeless(err error) bool {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) || len(pg.Code) < 2 {
		return false
	}
	switch pg.Code[:2] {
	case "22", "23", "54":
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

// Encode writes a value of our own as JSON.
func Encode(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // only plain values of our own types come here
	}
	return string(b)
}

// Array writes whole numbers as PostgreSQL writes an array: arrays of arrays,
// whose rows differ in length, cannot be sent otherwise.
func Array[T int | int64](list []T) string {
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

// Pool is a pool of connections to the records.
type Pool struct {
	DB  *sqlx.DB
	url string
}

// Open connects to the database at url.
func Open(ctx context.Context, url string) (*Pool, error) {
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
	return &Pool{db, url}, nil
}

// Away reports whether an error is that of a database that does not answer, or not yet: one that trying again may mend.
// A wrong address, name or password is none (PostgreSQL, Appendix A: class 28, 3D000).
func Away(err error) bool {
	var answer *pgconn.PgError
	if errors.As(err, &answer) {
		return strings.HasPrefix(answer.Code, "57P") || strings.HasPrefix(answer.Code, "53") ||
			strings.HasPrefix(answer.Code, "08")
	}
	var dialled *net.OpError
	var name *net.DNSError
	if errors.As(err, &name) {
		return !name.IsNotFound
	}
	return errors.As(err, &dialled) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNREFUSED) ||
		errors.Is(err, fs.ErrNotExist)
}

// Close closes the pool.
func (p *Pool) Close() error { return p.DB.Close() }

// Listen calls heard whenever any service rings the bell, and once when it has
// begun to listen. It ends with ctx, or with an error when the connection is lost.
func (p *Pool) Listen(ctx context.Context, heard func()) error {
	conn, err := pgx.Connect(ctx, p.url)
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
func (p *Pool) Ring(ctx context.Context) error {
	_, err := p.DB.ExecContext(ctx, `notify yamato`)
	return err
}

// InTx runs do in a transaction, which is committed if do gives nil.
func (p *Pool) InTx(ctx context.Context, do func(*sqlx.Tx) error) error {
	tx, err := p.DB.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Exec runs a statement of which nothing but its success is wanted.
func Exec(ctx context.Context, t *sqlx.Tx, query string, args ...any) error {
	_, err := t.ExecContext(ctx, query, args...)
	return err
}
