package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/cli"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/killpoint"
	"yamato/internal/pgbox/pgtest"
	"yamato/internal/testbin"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// patience is how long is waited for what has to come: on two processors with the race detector, Chromium and all
// other tests beside it, everything takes many times as long as by itself.
const patience = 2 * time.Minute

// rig is a service or two and a host, as processes that are started again when
// they die, on a database of their own.
type rig struct {
	t        *testing.T
	dir      string
	database string
	program  string // what processes are started from; "" for the program that is tested
	first    string // folder of the first service
	services []*process
	host     *process
	client   *client.Service
}

type rigConfig struct {
	services int
	site     string
	lease    string
	killAt   map[string]string // name of the process -> point
	database string
	apart    bool     // each service has a folder of its own
	program  string   // see rig
	serve    []string // what services are started with beside the usual
	env      []string // of the host, beside this process's
}

// smallSite has a device of each kind that matters, two of one of them.
const smallSite = `
site: bench
driver: standin
models:
  - {model: Kaede 7, platform: android, form: phone, width: 408, height: 896, cutout: hole, memory_mb: 8192}
  - {model: Kaede 7 Lite, platform: android, form: phone, width: 364, height: 792, cutout: none, memory_mb: 3072}
  - {model: Aster Petit, platform: ios, form: phone, width: 324, height: 580, cutout: none, memory_mb: 3072}
devices:
  - {name: kaede-7-1, model: Kaede 7, kind: emulator, os: "14"}
  - {name: kaede-7-2, model: Kaede 7, kind: emulator, os: "14"}
  - {name: kaede-7-lite-1, model: Kaede 7 Lite, kind: emulator, os: "13"}
  - {name: aster-petit-1, model: Aster Petit, kind: simulator, os: "17"}
`

func newRig(t *testing.T, c rigConfig) *rig {
	t.Helper()
	if c.services == 0 {
		c.services = 1
	}
	if c.site == "" {
		c.site = smallSite
	}
	if c.lease == "" {
		c.lease = "8s" // a machine that does much else may keep a process from running for seconds
	}
	r := &rig{t: t, dir: t.TempDir(), database: c.database, program: c.program}
	if r.database == "" {
		r.database = pgtest.Database(t)
	}
	var urls []string
	for i := range c.services {
		listen := freeAddress(t)
		urls = append(urls, "http://"+listen)
		name := fmt.Sprintf("service-%d", i)
		dir := filepath.Join(r.dir, "service")
		if c.apart {
			dir = filepath.Join(r.dir, name)
		}
		r.services = append(r.services, r.start(name, c.killAt[name],
			append([]string{"serve", "--database", r.database, "--dir", dir, "--listen",
				listen, "--lease", c.lease, "--silence", "1500ms", "--may-fetch", "127.0.0.1", "--key-file",
				filepath.Join(r.dir, "key")}, c.serve...)...))
	}
	site := filepath.Join(r.dir, "site.yaml")
	require.NoError(t, os.WriteFile(site, []byte(c.site), 0o600))
	r.first = filepath.Join(r.dir, "service")
	if c.apart {
		r.first = filepath.Join(r.dir, "service-0")
	}
	token := filepath.Join(r.first, "user-token")
	require.Eventually(t, func() bool {
		return exists(token) && exists(filepath.Join(r.first, "host-token"))
	}, patience, 10*time.Millisecond)
	text, err := os.ReadFile(token)
	require.NoError(t, err)
	r.client, err = client.Open(urls[0], strings.TrimSpace(string(text)), "default")
	require.NoError(t, err)
	r.awaitService()
	r.host = r.startIn(c.env, "host", c.killAt["host"], "host", "--site", site, "--service", strings.Join(urls, ","),
		"--token-file", filepath.Join(r.first, "host-token"), "--dir", filepath.Join(r.dir, "host"))
	return r
}

func exists(path string) bool { info, err := os.Stat(path); return err == nil && info.Size() > 0 }

// freeAddress gives an address on loopback that nobody listens on.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

func (r *rig) awaitService() {
	r.t.Helper()
	require.Eventually(r.t, func() bool {
		a, err := r.client.AboutWithResponse(context.Background())
		return err == nil && a.JSON200 != nil
	}, patience, 20*time.Millisecond, "the service does not answer")
}

// awaitIdle waits until every device is idle.
func (r *rig) awaitIdle() []contract.Device {
	r.t.Helper()
	var list []contract.Device
	require.Eventually(r.t, func() bool {
		d, err := r.client.ListDevicesWithResponse(context.Background(), "default", nil)
		if err != nil || d.JSON200 == nil || len(*d.JSON200) == 0 {
			return false
		}
		list = *d.JSON200
		for _, one := range list {
			if one.State != "idle" {
				return false
			}
		}
		return true
	}, patience, 20*time.Millisecond, "the devices do not get idle")
	return list
}

// yamato runs a command against the rig and gives its output and exit code.
func (r *rig) yamato(args ...string) (stdout, stderr string, code int) {
	r.t.Helper()
	return r.yamatoWith(strings.NewReader(""), args...)
}

// yamatoWith runs a command with standard input.
func (r *rig) yamatoWith(in io.Reader, args ...string) (stdout, stderr string, code int) {
	r.t.Helper()
	var out, errOut bytes.Buffer
	args = append(args, "--service", r.serviceURL(), "--token-file", filepath.Join(r.first, "user-token"),
		"--project", "default")
	code = cli.Run(context.Background(), args, in, &out, &errOut)
	return out.String(), errOut.String(), code
}

func (r *rig) serviceURL() string {
	for i, a := range r.services[0].args {
		if a == "--listen" {
			return "http://" + r.services[0].args[i+1]
		}
	}
	return ""
}

// samples writes the sample packages and suites to a folder and gives it.
func samples(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, v := range demo.Versions {
		packages := demotest.Packages(t, v)
		for _, p := range packages {
			require.NoError(t, os.WriteFile(filepath.Join(dir, p.File), p.Data, 0o600))
		}
	}
	suites, err := demo.Suites()
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "suites", "steps"), 0o700))
	for name, text := range suites {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "suites", name), []byte(text), 0o600))
	}
	return dir
}

// process is a child that is started again when it dies.
type process struct {
	name string
	args []string
	env  []string
	log  io.Writer

	mu      sync.Mutex
	cmd     *exec.Cmd
	program string // what is started the next time
	deaths  int
	gate    sync.Mutex // held while it may not be started again
}

func (r *rig) start(name, killAt string, args ...string) *process {
	r.t.Helper()
	return r.startIn(nil, name, killAt, args...)
}

func (r *rig) startIn(env []string, name, killAt string, args ...string) *process {
	r.t.Helper()
	log, err := os.OpenFile(filepath.Join(r.dir, name+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(r.t, err)
	p := &process{name: name, args: args, log: log, env: append(append(os.Environ(), env...), "YAMATO_CONNECTION="+filepath.Join(r.dir,
		name+"-connection.json"))}
	first := p.env
	if killAt != "" {
		first = append(first, killpoint.Variable+"="+killAt)
	}
	if p.program = r.program; p.program == "" {
		p.program = testbin.Program(r.t)
	}
	stop, done := make(chan struct{}), make(chan struct{})
	go func() { // ends when the test does
		defer close(done)
		for env := first; ; env = p.env {
			p.gate.Lock()
			p.mu.Lock()
			cmd := exec.Command(p.program, args...)
			cmd.Env, cmd.Stdout, cmd.Stderr = env, log, log
			cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
			err := cmd.Start()
			p.cmd = cmd
			p.mu.Unlock()
			p.gate.Unlock()
			if err != nil {
				fmt.Fprintln(log, "cannot start:", err)
				return
			}
			_ = cmd.Wait()
			p.mu.Lock()
			p.deaths++
			p.mu.Unlock()
			select {
			case <-stop:
				return
			default:
			}
		}
	}()
	r.t.Cleanup(func() {
		close(stop)
		p.kill(syscall.SIGKILL)
		<-done
		if r.t.Failed() {
			text, _ := os.ReadFile(filepath.Join(r.dir, name+".log"))
			if len(text) > 6000 {
				text = text[len(text)-6000:]
			}
			r.t.Logf("log of %s:\n%s", name, text)
		}
		_ = log.Close()
	})
	return p
}

// halt kills it until go on is called.
func (p *process) halt() (goOn func()) {
	p.gate.Lock()
	p.kill(syscall.SIGKILL)
	return p.gate.Unlock
}

func (p *process) kill(s syscall.Signal) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cmd != nil && p.cmd.Process != nil {
		_ = p.cmd.Process.Signal(s)
	}
}

// renew ends it as its users do, and starts another program in its place.
func (p *process) renew(program string) {
	p.mu.Lock()
	p.program = program
	p.mu.Unlock()
	p.kill(syscall.SIGTERM)
}

func (p *process) died() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.deaths
}

// query reads one value from the rig's database.
func (r *rig) query(text string, args ...any) (out string) {
	r.t.Helper()
	db, err := sql.Open("pgx", r.database)
	require.NoError(r.t, err)
	defer db.Close()
	require.NoError(r.t, db.QueryRow(text, args...).Scan(&out))
	return out
}
