// Package pgtest gives each test a database of its own, made from a template
// that has been migrated once. All tests of a `make test` share one cluster;
// a plain `go test` of one package starts one for itself.
package pgtest

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/pgbox"
	"yamato/internal/store"
)

// Variable names the environment variable with the address of the cluster's
// database "postgres".
const Variable = "YAMATO_TEST_POSTGRES"

var (
	once    sync.Once
	address string
	failure error
	box     *pgbox.Box
	count   atomic.Int64
)

// Main runs a package's tests and stops the cluster that they may have started.
// Call it from TestMain.
func Main(m *testing.M) {
	code := m.Run()
	if box != nil {
		_ = box.Stop()
	}
	os.Exit(code)
}

// Database makes a database for a test and gives its address. It is dropped
// when the test ends.
func Database(t testing.TB) string { return made(t, templateName) }

// Empty makes a database that nothing has been migrated in, and gives its address.
func Empty(t testing.TB) string { return made(t, "template1") }

func made(t testing.TB, template string) string {
	t.Helper()
	once.Do(func() { address, failure = cluster(context.Background()) })
	require.NoError(t, failure)
	ctx := context.Background()
	db, err := sql.Open("pgx", address)
	require.NoError(t, err)
	defer db.Close()
	name := fmt.Sprintf("t_%d_%d_%d", os.Getpid(), count.Add(1), time.Now().UnixNano()%1e6)
	_, err = db.ExecContext(ctx, `create database `+name+` template `+template)
	require.NoError(t, err)
	t.Cleanup(func() {
		db, err := sql.Open("pgx", address)
		if err != nil {
			return
		}
		defer db.Close()
		_, _ = db.ExecContext(ctx, `drop database if exists `+name+` with (force)`)
	})
	return Rename(address, name)
}

// Store opens a store on a database of its own.
func Store(t testing.TB) *store.Store {
	t.Helper()
	st, err := store.Open(context.Background(), Database(t))
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	return st
}

// Rename gives the address of another database of the same cluster.
func Rename(address, database string) string {
	return strings.Replace(address, "/postgres?", "/"+database+"?", 1)
}

const templateName = "yamato_template"

func cluster(ctx context.Context) (string, error) {
	if a := os.Getenv(Variable); a != "" {
		return a, nil
	}
	dir, err := os.MkdirTemp("", "yamato-test-postgres-")
	if err != nil {
		return "", err
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return "", err
	}
	if box, err = pgbox.Start(ctx, dir+"/cluster"); err != nil {
		return "", err
	}
	return box.URL("postgres"), MakeTemplate(ctx, box.URL("postgres"))
}

// MakeTemplate makes the template in a cluster.
func MakeTemplate(ctx context.Context, address string) error {
	db, err := sql.Open("pgx", address)
	if err != nil {
		return err
	}
	defer db.Close()
	if err := quicken(ctx, db); err != nil {
		return err
	}
	if _, err := db.ExecContext(ctx, `create database `+templateName); err != nil {
		return err
	}
	st, err := store.Open(ctx, Rename(address, templateName))
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		return err
	}
	template, err := sql.Open("pgx", Rename(address, templateName))
	if err != nil {
		return err
	}
	defer template.Close()
	return hold(ctx, template)
}

// quicken has a cluster of tests wait for no disk and hash no passwords over and over: it is gone when they end, and is
// spoken to over loopback by them alone. What is tried of losing power has clusters of its own.
func quicken(ctx context.Context, db *sql.DB) error {
	for _, set := range []string{"fsync = off", "full_page_writes = off", "synchronous_commit = off",
		"max_wal_size = '4GB'", "checkpoint_timeout = '30min'"} {
		if _, err := db.ExecContext(ctx, "alter system set "+set); err != nil {
			return err
		}
	}
	var file string
	if err := db.QueryRowContext(ctx, "show hba_file").Scan(&file); err != nil {
		return err
	}
	rules, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	rules = bytes.ReplaceAll(rules, []byte("scram-sha-256"), []byte("password"))
	if err := os.WriteFile(file, rules, 0o600); err != nil { // its owner stays the database's user
		return err
	}
	_, err = db.ExecContext(ctx, "select pg_reload_conf()")
	return err
}
