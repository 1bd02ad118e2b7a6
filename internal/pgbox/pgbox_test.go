package pgbox

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/filelock"
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

func TestAFirstStartThatWasInterruptedLeavesNothingInTheWay(t *testing.T) {
	for name, leave := range map[string]func(dir string){
		"a cluster aside": func(dir string) {
			require.NoError(t, os.MkdirAll(dir+"/data.new", 0o700))
			require.NoError(t, os.WriteFile(dir+"/data.new/PG_VERSION", []byte("15\n"), 0o600))
		},
		"half a cluster of an earlier version": func(dir string) {
			require.NoError(t, os.MkdirAll(dir+"/data/global", 0o700))
			require.NoError(t, os.WriteFile(dir+"/data/PG_VERSION", []byte("15\n"), 0o600))
			require.NoError(t, os.WriteFile(dir+"/password", []byte("secret\n"), 0o600))
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := folder(t)
			leave(dir)
			b, err := Start(context.Background(), dir)
			require.NoError(t, err)
			require.NoError(t, b.Stop())
		})
	}
	dir := folder(t)
	require.NoError(t, os.MkdirAll(dir+"/data.new/base/1", 0o700))
	var orphan sync.WaitGroup
	var over atomic.Bool
	orphan.Go(func() { // what a killed start began goes on being written
		for i := 0; !over.Load(); i++ {
			_ = os.MkdirAll(dir+"/data.new/base/1", 0o700)
			_ = os.WriteFile(fmt.Sprintf("%s/data.new/base/1/%d", dir, i%500), nil, 0o600)
		}
	})
	b, err := Start(context.Background(), dir)
	over.Store(true)
	orphan.Wait()
	require.NoError(t, err)
	require.NoError(t, b.Stop())

	dir = folder(t)
	ctx, stop := context.WithCancel(context.Background())
	time.AfterFunc(150*time.Millisecond, stop) // a Ctrl-C in the middle of it
	_, err = Start(ctx, dir)
	require.Error(t, err)
	b, err = Start(context.Background(), dir)
	require.NoError(t, err)
	require.NoError(t, b.Stop())
}

func TestALostPasswordIsSaidAndTheClusterKept(t *testing.T) {
	dir := folder(t)
	b, err := Start(context.Background(), dir)
	require.NoError(t, err)
	write(t, b, `create table kept (x int)`)
	require.NoError(t, b.Stop())
	password, err := os.ReadFile(dir + "/password")
	require.NoError(t, err)
	require.NoError(t, os.Remove(dir+"/password"))
	_, err = Start(context.Background(), dir)
	require.ErrorContains(t, err, "put that file back")
	require.NoError(t, os.WriteFile(dir+"/password", password, 0o600))
	b, err = Start(context.Background(), dir)
	require.NoError(t, err)
	write(t, b, `insert into kept values (1)`)
	require.NoError(t, b.Stop())
}

func TestTwoStartsOnOneFolderDoNotMeet(t *testing.T) {
	dir := folder(t)
	b, err := Start(context.Background(), dir)
	require.NoError(t, err)
	_, err = Start(context.Background(), dir)
	var taken *filelock.Taken
	require.ErrorAs(t, err, &taken)
	require.Contains(t, taken.Who, fmt.Sprint("process ", os.Getpid()))
	write(t, b, `create table still_there (x int)`)
	require.NoError(t, b.Stop())
}

func TestAClusterThatCannotRunSaysSoAtOnce(t *testing.T) {
	dir := folder(t)
	b, err := Start(context.Background(), dir)
	require.NoError(t, err)
	require.NoError(t, b.Stop())
	f, err := os.OpenFile(dir+"/data/postgresql.conf", os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("no_such_setting = 1\n")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	_, err = Start(ctx, dir)
	require.ErrorContains(t, err, "no_such_setting")
	require.NoError(t, ctx.Err(), "it does not wait for an answer that cannot come")
}

func TestAFolderMayHaveALongPath(t *testing.T) {
	dir := filepath.Dir(folder(t)) + strings.Repeat("/a folder whose name is long", 10)
	require.NoError(t, os.MkdirAll(dir, 0o711))
	b, err := Start(context.Background(), dir+"/cluster")
	require.NoError(t, err)
	write(t, b, "create table t ()")
	require.NoError(t, b.Stop())
}
