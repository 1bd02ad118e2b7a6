package pgbox

import (
	"context"
	"database/sql"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "yamato-pgbox-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(dir)) })
	return dir + "/cluster"
}

func write(t *testing.T, b *Box, text string) {
	t.Helper()
	db, err := sql.Open("pgx", b.URL("postgres"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(text)
	require.NoError(t, err)
}

func TestWhatAKilledPredecessorLeftRunningIsStoppedAndItsDataKept(t *testing.T) {
	dir := folder(t)
	ctx := context.Background()
	first, err := Start(ctx, dir)
	require.NoError(t, err)
	write(t, first, `create table kept (x int)`)
	left := first.PID() // as if we had been killed: the server runs on, nobody stops it

	second, err := Start(ctx, dir)
	require.NoError(t, err)
	require.NotEqual(t, left, second.PID())
	write(t, second, `insert into kept values (1)`)
	require.NoError(t, second.Stop())
	// The first box notices that its server has gone and would start it again.
	require.NoError(t, first.Stop())
}

func TestAServerThatDiesIsStartedAgain(t *testing.T) {
	b, err := Start(context.Background(), folder(t))
	require.NoError(t, err)
	defer func() { require.NoError(t, b.Stop()) }()
	dead := b.PID()
	require.NoError(t, syscall.Kill(dead, syscall.SIGKILL))
	require.Eventually(t, func() bool {
		db, err := sql.Open("pgx", b.URL("postgres"))
		require.NoError(t, err)
		defer db.Close()
		return b.PID() != dead && db.Ping() == nil
	}, 30*time.Second, 50*time.Millisecond)
}

func TestNobodyGetsInWithoutThePassword(t *testing.T) {
	b, err := Start(context.Background(), folder(t))
	require.NoError(t, err)
	defer func() { require.NoError(t, b.Stop()) }()
	b.password = "guess"
	db, err := sql.Open("pgx", b.URL("postgres"))
	require.NoError(t, err)
	defer db.Close()
	require.ErrorContains(t, db.Ping(), "password authentication failed")
}
