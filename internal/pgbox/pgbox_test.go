package pgbox

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
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

// The test program can be a process that starts a cluster and waits to be killed.
func TestMain(m *testing.M) {
	dir := os.Getenv("YAMATO_TEST_PREDECESSOR")
	if dir == "" {
		os.Exit(m.Run())
	}
	b, err := Start(context.Background(), dir)
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	fmt.Println("pid", b.PID())
	select {}
}

func TestWhatAKilledPredecessorLeftRunningIsStoppedAndItsDataKept(t *testing.T) {
	dir := folder(t)
	predecessor := exec.Command(os.Args[0])
	predecessor.Env = append(os.Environ(), "YAMATO_TEST_PREDECESSOR="+dir)
	out, err := predecessor.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, predecessor.Start())
	var left int
	_, err = fmt.Fscanf(bufio.NewReader(out), "pid %d", &left)
	require.NoError(t, err)
	require.NoError(t, predecessor.Process.Kill())
	_ = predecessor.Wait()
	require.NoError(t, syscall.Kill(left, 0), "the server runs on")

	for range 2 {
		b, err := Start(context.Background(), dir)
		require.NoError(t, err)
		require.NotEqual(t, left, b.PID())
		write(t, b, `create table if not exists kept (x int)`)
		require.NoError(t, b.Stop())
		require.Error(t, syscall.Kill(b.PID(), 0), "nothing runs on")
	}
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
