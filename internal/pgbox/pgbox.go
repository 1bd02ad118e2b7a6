// Package pgbox makes, starts and stops a private PostgreSQL cluster in a
// directory: on loopback, on a free port, with a password, and durable. Debian's
// own default cluster is neither needed nor touched.
//
// A cluster is made aside and named when it is whole, so that a start that was
// interrupted leaves nothing that the next one stumbles over. The folder is locked for as
// long as it is used. A server that a killed predecessor left running is stopped first.
// Box owns the server's process; it starts the server again should that die.
package pgbox

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"

	"yamato/internal/filelock"
)

// Box is a running cluster.
type Box struct {
	dir      string
	bin      string
	port     int
	password string
	cred     *syscall.Credential // who the server runs as; nil for who we are

	lock *filelock.Lock
	stop chan struct{}
	done chan struct{}

	mu      sync.Mutex
	process *os.Process
}

// ErrNotInstalled is given where there is no PostgreSQL server on the machine.
var ErrNotInstalled = errors.New("no PostgreSQL server is installed: run  apt-get install -y postgresql")

// Start makes the cluster in dir if there is none, starts it, and waits until it
// answers. dir must be reachable for an unprivileged user if we are root. A folder that
// another process uses is refused with a *filelock.Taken; a cluster that cannot run, at
// once and with what its server said.
func Start(ctx context.Context, dir string) (*Box, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	b := &Box{dir: dir, bin: bin, stop: make(chan struct{}), done: make(chan struct{})}
	if b.cred, err = credential(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if b.lock, err = filelock.Take(filepath.Join(dir, "lock")); err != nil {
		return nil, err
	}
	if err := b.start(ctx); err != nil {
		return nil, errors.Join(err, b.lock.Release())
	}
	return b, nil
}

func (b *Box) start(ctx context.Context) error {
	if err := b.prepare(ctx); err != nil {
		return err
	}
	if err := b.stopPredecessor(ctx); err != nil {
		return err
	}
	var err error
	if b.port, err = freePort(); err != nil {
		return err
	}
	exited, err := b.launch()
	if err != nil {
		return err
	}
	if err := b.await(ctx, exited); err != nil {
		return err
	}
	go b.keep(exited) // ends with Stop
	return nil
}

// URL is how to connect to one of the cluster's databases.
func (b *Box) URL(database string) string {
	return fmt.Sprintf("postgres://yamato:%s@127.0.0.1:%d/%s?sslmode=disable", b.password, b.port, database)
}

// PID is the server's process id, for tests that kill it.
func (b *Box) PID() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.process == nil {
		return 0
	}
	return b.process.Pid
}

// Stop ends the server and waits until it is gone.
func (b *Box) Stop() error {
	select {
	case <-b.stop:
	default:
		close(b.stop)
	}
	<-b.done
	return b.lock.Release()
}

// keep waits for the server to end: as told, or by itself, in which case it is
// started again.
func (b *Box) keep(exited chan error) {
	defer close(b.done)
	for {
		select {
		case <-b.stop:
			b.end(exited)
			return
		case <-exited:
		}
		for {
			var err error
			if exited, err = b.launch(); err == nil {
				break
			}
			select {
			case <-b.stop:
				return
			case <-time.After(time.Second):
			}
		}
	}
}

// end has the server shut down fast, and waits for it.
func (b *Box) end(exited chan error) {
	_ = b.process.Signal(syscall.SIGINT)
	select {
	case <-exited:
	case <-time.After(20 * time.Second):
		_ = b.process.Signal(syscall.SIGQUIT)
		<-exited
	}
}

func (b *Box) launch() (chan error, error) {
	log, err := os.OpenFile(filepath.Join(b.dir, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(b.bin, "postgres"), "-D", b.data(), "-p", strconv.Itoa(b.port), "-h", "127.0.0.1",
		// no socket in the file system: nobody needs one, and its path may be 107 bytes long at most (unix(7))
		"-k", "")
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: b.cred, Setpgid: true}
	cmd.Dir = b.dir
	if err := b.clearDeadLock(); err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	b.mu.Lock()
	b.process = cmd.Process
	b.mu.Unlock()
	exited := make(chan error, 1)
	go func() { exited <- cmd.Wait() }() // ends with the server, which keep ends
	return exited, nil
}

func (b *Box) data() string { return filepath.Join(b.dir, "data") }

// prepare makes the directory and the cluster, once.
func (b *Box) prepare(ctx context.Context) error {
	if err := os.MkdirAll(b.dir, 0o700); err != nil {
		return err
	}
	if b.cred != nil {
		if err := os.Chown(b.dir, int(b.cred.Uid), int(b.cred.Gid)); err != nil {
			return err
		}
	}
	secret := filepath.Join(b.dir, "password")
	text, err := os.ReadFile(secret)
	switch {
	case b.whole() && err == nil && strings.TrimSpace(string(text)) != "":
		b.password = strings.TrimSpace(string(text))
		return nil
	case b.whole():
		return fmt.Errorf("the PostgreSQL cluster in %s is there, and its password in %s is not; put that file back, "+
			"or move the folder %s away to begin anew", b.data(), secret, b.dir)
	case err != nil && !errors.Is(err, os.ErrNotExist):
		return err
	}
	return b.make(ctx, secret)
}

// whole reports whether there is a cluster that was made to its end: it is named only
// then. One of an earlier version counts if it was given our settings, which came last,
// or has ever been started.
func (b *Box) whole() bool {
	if _, err := os.Stat(filepath.Join(b.data(), "postmaster.opts")); err == nil {
		return true
	}
	text, err := os.ReadFile(filepath.Join(b.data(), "postgresql.conf"))
	return err == nil && bytes.Contains(text, []byte(settingsMark))
}

// make makes a cluster aside, and names it when it is whole.
func (b *Box) make(ctx context.Context, secret string) error {
	if err := os.RemoveAll(b.data()); err != nil { // what an interrupted start left
		return err
	}
	b.sweepUnmade()
	raw := make([]byte, 24)
	_, _ = rand.Read(raw) // never fails (crypto/rand)
	b.password = hex.EncodeToString(raw)
	// of its own: what a start was making when it was killed goes on being made for a moment
	aside := b.data() + unmade + "-" + strconv.FormatInt(time.Now().UnixNano(), 36)
	if err := os.WriteFile(secret, []byte(b.password+"\n"), 0o600); err != nil {
		return err
	}
	if b.cred != nil {
		if err := os.Chown(secret, int(b.cred.Uid), int(b.cred.Gid)); err != nil {
			return err
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(b.bin, "initdb"), "-D", aside, "-U", "yamato", "-A", "scram-sha-256",
		"--pwfile", secret, "-E", "UTF8", "--locale", "C.UTF-8", "--no-instructions")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: b.cred, Setpgid: true} // a Ctrl-C is ours to pass on
	cmd.Dir = b.dir
	if out, err := cmd.CombinedOutput(); err != nil {
		return errors.Join(ctx.Err(), fmt.Errorf("making a PostgreSQL cluster in %s: %w\n%s", aside, err,
			bytes.TrimSpace(out)))
	}
	if err := appendSettings(filepath.Join(aside, "postgresql.conf")); err != nil {
		return err
	}
	if err := os.Rename(aside, b.data()); err != nil {
		return err
	}
	b.sweepUnmade()
	return nil
}

// sweepUnmade removes clusters that were not made to the end. One that somebody still writes goes the next time.
func (b *Box) sweepUnmade() {
	list, _ := os.ReadDir(filepath.Dir(b.data()))
	for _, e := range list {
		if strings.HasPrefix(e.Name(), filepath.Base(b.data())+unmade) {
			_ = os.RemoveAll(filepath.Join(filepath.Dir(b.data()), e.Name()))
		}
	}
}

// unmade follows the folder's name while a cluster is being made.
const unmade = ".new"

// settingsMark begins what we add to a cluster's settings.
const settingsMark = "# Yamato: "

func appendSettings(path string) error {
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString("\n" + settingsMark +
		"nothing here gives up durability.\nmax_connections = 200\nshared_buffers = 256MB\nmax_wal_size = " +
		"2GB\nlog_min_messages = warning\nmax_locks_per_transaction = 128\nautovacuum_naptime = 10s\n")
	return errors.Join(err, f.Close())
}

// stopPredecessor ends a server that still runs on this directory.
func (b *Box) stopPredecessor(ctx context.Context) error {
	pid := b.lockedBy()
	if pid == 0 || !b.serves(pid) {
		return nil
	}
	if err := syscall.Kill(pid, syscall.SIGINT); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fmt.Errorf("stopping the PostgreSQL server %d that was left running: %w", pid, err)
	}
	return poll(ctx, 30*time.Second, func() error {
		if b.serves(pid) {
			return fmt.Errorf("the PostgreSQL server %d that was left running does not stop", pid)
		}
		return nil
	})
}

// clearDeadLock takes away the lock of a server that was killed, where its
// process number is another's by now.
func (b *Box) clearDeadLock() error {
	if pid := b.lockedBy(); pid != 0 && !b.serves(pid) {
		return os.Remove(filepath.Join(b.data(), "postmaster.pid"))
	}
	return nil
}

func (b *Box) lockedBy() int {
	text, err := os.ReadFile(filepath.Join(b.data(), "postmaster.pid"))
	if err != nil {
		return 0
	}
	pid, _ := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	return pid
}

// serves tells whether a process is a server of this very cluster.
func (b *Box) serves(pid int) bool {
	words, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && bytes.Contains(words, []byte("postgres")) && bytes.Contains(words, []byte(b.data()))
}

// await waits until the server answers, or has ended.
func (b *Box) await(ctx context.Context, exited chan error) error {
	db, err := sql.Open("pgx", b.URL("postgres"))
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	ended := make(chan error, 1)
	watched := make(chan struct{})
	go func() { // ends with ctx
		defer close(watched)
		select {
		case err := <-exited:
			ended <- err
			cancel(fmt.Errorf("PostgreSQL ended as soon as it was started: %s", b.lastWords()))
		case <-ctx.Done():
		}
	}()
	err = poll(ctx, 60*time.Second, func() error {
		if err := db.PingContext(ctx); err != nil {
			return fmt.Errorf("PostgreSQL does not answer (see %s): %w", filepath.Join(b.dir, "server.log"), err)
		}
		return nil
	})
	cause := context.Cause(ctx)
	cancel(nil)
	<-watched
	if err == nil {
		return nil
	}
	if len(ended) > 0 {
		return cause
	}
	b.end(exited)
	return err
}

// lastWords are the last lines that the server wrote.
func (b *Box) lastWords() string {
	f, err := os.Open(filepath.Join(b.dir, "server.log"))
	if err != nil {
		return "it left no log"
	}
	defer f.Close()
	const much = 2000
	if info, err := f.Stat(); err == nil && info.Size() > much {
		_, _ = f.Seek(-much, io.SeekEnd)
	}
	text, _ := io.ReadAll(io.LimitReader(f, much))
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-4):], "\n  ")
}

// poll calls check until it is content, for as long as limit.
func poll(ctx context.Context, limit time.Duration, check func() error) error {
	tick := time.NewTicker(25 * time.Millisecond)
	defer tick.Stop()
	late := time.After(limit)
	for {
		err := check()
		if err == nil {
			return nil
		}
		select {
		case <-tick.C:
		case <-late:
			return err
		case <-ctx.Done():
			return errors.Join(ctx.Err(), err)
		}
	}
}

// binaries finds the newest server that Debian's packages put here.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	if len(found) > 0 {
		return filepath.Dir(found[len(found)-1]), nil
	}
	if p, err := exec.LookPath("postgres"); err == nil {
		if real, err := filepath.EvalSymlinks(p); err == nil {
			return filepath.Dir(real), nil
		}
	}
	return "", ErrNotInstalled
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// credential picks whom the server runs as: PostgreSQL refuses to be root.
func credential() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		if u, err := user.Lookup(name); err == nil {
			uid, _ := strconv.ParseUint(u.Uid, 10, 32)
			gid, _ := strconv.ParseUint(u.Gid, 10, 32)
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, errors.New("PostgreSQL does not run as root, and there is no user postgres or nobody to run it as")
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
