package handset

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/host/keeper"
)

// paged is an app of one page.
func paged(t *testing.T, body string, more ...string) driver.App {
	t.Helper()
	files := fstest.MapFS{
		"manifest.webmanifest": {Data: []byte(`{"name": "Odd", "id": "example.odd", "start_url": "/", "version": "1.0.0+1"}`)},
		"index.html": {Data: []byte(`<!doctype html><html lang="en"><meta charset="utf-8">` +
			`<meta name="viewport" content="width=device-width"><title>Odd</title>` + body)},
	}
	for i := 0; i+1 < len(more); i += 2 {
		files[more[i]] = &fstest.MapFile{Data: []byte(more[i+1])}
	}
	return bundled(t, files)
}

const odd = "example.odd"

// verdictOf runs the lines of one case on an app.
func verdictOf(t *testing.T, d driver.Device, lines ...string) script.Result {
	t.Helper()
	s, findings := script.Read("suite \"odd\"\npatience 8s\ncase \"odd\"\n  start app fresh\n  " + strings.Join(lines,
		"\n  ") + "\nend\n")
	require.Empty(t, findings)
	ctx, stop := context.WithTimeout(context.Background(), 3*time.Minute)
	defer stop()
	return devicetest.Unhindered(t, func() script.Result {
		return script.RunCase(ctx, s, s.Cases[0], d, script.Options{App: odd}, &pictures{t: t})
	})
}

// TestHostilePagesCostTheirOwnHandsetAlone has pages do their worst on one handset, while
// another goes on.
func TestHostilePagesCostTheirOwnHandsetAlone(t *testing.T) {
	t.Parallel()
	healthy := kaede(t)
	opened(t, healthy, probe(t))
	var mu sync.Mutex // a device is for one at a time
	for name, c := range map[string]struct {
		body  string
		lines []string
		want  verdict.Verdict
		says  string // of the failure
	}{
		"an endless loop": {`<button id="go" onclick="for(;;);">Go</button>`, []string{`tap #go`, `expect #never`},
			verdict.Fail, "stopped answering"},
		"gigabytes of memory": {`<button id="go" onclick="const all=[]; for(;;) all.push(new Array(1e6).fill(Math.random()))">Go</button>`,
			[]string{`tap #go`, `expect #never`}, verdict.Fail, "crashed"},
		"gigabytes outside of scripts": {`<button id="go" onclick="const all=[]; (function more() { all.push(new Uint8Array(1e8).fill(1)); setTimeout(more, 5) })()">Go</button>`,
			[]string{`tap #go`, `expect #never within 60s`}, verdict.Fail, "crashed"},
		"a hundred thousand elements": {`<ul id="all"></ul><script>let n = 0; (function more() { let h = ''; for (const end = n + 5000; n < end; n++) h += '<li>item ' + n + '</li>';
  document.getElementById('all').insertAdjacentHTML('beforeend', h); if (n < 100000) setTimeout(more, 1) })()</script>`,
			[]string{`expect "item 3" within 60s`}, verdict.Pass, ""},
		"dialogs in a loop": {`<button id="go" onclick="for (let i = 0; i < 4; i++) alert('again ' + i); document.getElementById('p').textContent = 'over'">Go</button><p id="p"></p>`,
			[]string{`tap #go`, `tap button called "OK"`, `tap button called "OK"`, `tap button called "OK"`,
				`tap button called "OK"`, `expect "over"`}, verdict.Pass, ""},
		"a dialog that is refused": {`<button id="go" onclick="document.getElementById('p').textContent = confirm('Really?') ? 'yes' : 'no'">Go</button><p id="p"></p>`,
			[]string{`tap #go`, `expect "Really?"`, `tap button called "Cancel"`, `expect "no"`}, verdict.Pass, ""},
		"a dialog with an entry": {`<button id="go" onclick="document.getElementById('p').textContent = 'hello ' + prompt('Name?')">Go</button><p id="p"></p>`,
			[]string{`tap #go`, `set textbox to "Aya"`, `tap button called "OK"`, `expect "hello Aya"`}, verdict.Pass,
			""},
		"popups": {`<button id="go" onclick="for (let i = 0; i < 20; i++) window.open('/?' + i); this.textContent = 'opened'">Go</button>`,
			[]string{`tap #go`, `expect "Go"`, `press back`, `expect "opened"`}, verdict.Pass, ""},
		"downloads": {`<a id="go" href="data:application/octet-stream,abc" download="evil.bin">Get</a><p>still here</p>`,
			[]string{`tap #go`, `expect "still here"`}, verdict.Pass, ""},
		"nobody may leave": {`<p>stay</p><script>addEventListener('beforeunload', (e) => { e.preventDefault(); e.returnValue = 'x' }); addEventListener('click', () => {})</script>`,
			[]string{`tap "stay"`, `expect "stay"`, `start app fresh`, `expect "stay"`}, verdict.Pass, ""},
		"a service worker that never answers": {`<p id="p">first</p><button id="go" onclick="fetch('/x').then(() => {}, () => {}); this.textContent = 'asked'">Go</button><script>navigator.serviceWorker.oncontrollerchange = () => { document.getElementById('p').textContent = 'controlled' }; navigator.serviceWorker.register('sw.js')</script>`,
			[]string{`expect "controlled" within 30s`, `tap #go`, `expect "asked" within 4s`}, verdict.Fail,
			"still awaited"},
		"globals that lie": {`<button id="go" onclick="this.textContent='done'">Go</button><script>JSON.stringify = () => 'gone'; Element.prototype.getBoundingClientRect = () => { throw 1 }; window.getComputedStyle = null; Promise = null</script>`,
			[]string{`tap #go`, `expect "done"`}, verdict.Pass, ""},
		"markup without end": {strings.Repeat(`<div>`, 3000) + `<p>deep down</p>`, []string{`expect "deep down"`},
			verdict.Pass, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx, stop := context.WithTimeout(context.Background(), 4*time.Minute)
			defer stop()
			d := kaede(t)
			require.NoError(t, d.Ready(ctx, driver.Terms{}))
			require.NoError(t, d.Install(ctx, paged(t, c.body, "sw.js",
				`addEventListener('install', () => skipWaiting()); addEventListener('activate', (e) => e.waitUntil(clients.claim())); addEventListener('fetch', (e) => { if (new URL(e.request.url).pathname === '/x') e.respondWith(new Promise(() => {})) })`)))
			r := verdictOf(t, d, c.lines...)
			require.Equal(t, c.want, r.Verdict, "%+v %v", r.Failure, r.Err)
			if c.says != "" {
				require.Contains(t, r.Failure.Actual+r.Failure.Report, c.says, "%+v", r.Failure)
			}
			mu.Lock()
			defer mu.Unlock()
			before := revisionOf(t, ctx, healthy)
			require.NoError(t, healthy.Tap(ctx, at(t, ctx, healthy, "more").Visible.Centre()))
			tree, err := healthy.Tree(ctx)
			require.NoError(t, err)
			require.Greater(t, tree.Revision, before, "the other handset goes on")
			began := time.Now()
			require.NoError(t, d.Clean(ctx, driver.CleanApp, odd))
			require.Less(t, time.Since(began), 15*time.Second)
			require.NoError(t, d.Install(ctx, probe(t)), "and so does this one, once it is clean")
			require.NoError(t, d.Start(ctx, "example.probe", device.Fresh))
			require.Equal(t, "0", at(t, ctx, d, "count").Content())
		})
	}
}

func at(t *testing.T, ctx context.Context, d *Device, id string) *screen.Node {
	t.Helper()
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	nodes := screen.Locator{ID: id}.Find(tree)
	require.Len(t, nodes, 1, "#%s", id)
	return nodes[0]
}

// TestPagesReachTheirOwnOriginAndWhatIsNamed counts who is asked.
func TestPagesReachTheirOwnOriginAndWhatIsNamed(t *testing.T) {
	t.Parallel()
	var secret, named atomic.Int64
	serve := func(n *atomic.Int64) *httptest.Server {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			n.Add(1)
			w.Header().Set("Access-Control-Allow-Origin", "*")
			fmt.Fprint(w, "here")
		}))
		t.Cleanup(s.Close)
		return s
	}
	private, public := serve(&secret), serve(&named)
	publicHost := strings.TrimPrefix(public.URL, "http://")
	_, port, err := net.SplitHostPort(strings.TrimPrefix(private.URL, "http://"))
	require.NoError(t, err)
	ways := []string{private.URL, "http://localhost:" + port, "http://[::1]:" + port, "http://0.0.0.0:" + port,
		"http://127.1:" + port, "http://x.localhost:" + port, "http://example.com/", "ws://127.0.0.1:" + port}
	body := `<meta name="viewport" content="width=device-width"><p id="p">…</p><img src="` + private.URL + `/i.png"><iframe src="` + private.URL + `/f"></iframe>
<script>(async () => {
  const out = [];
  for (const u of ` + fmt.Sprintf("%q", ways) + `.map((u) => u)) {
    try { if (u.startsWith('ws:')) await new Promise((y, n) => { const w = new WebSocket(u); w.onopen = y; w.onerror = n; });
      else out.push(await (await fetch(u)).text()); } catch (_) { out.push('no'); }
  }
  const good = await (await fetch('` + public.URL + `')).text();
  document.getElementById('p').textContent = out.filter((o) => o === 'here').length + ' ' + good;
})()</script>`
	body = strings.ReplaceAll(body, fmt.Sprintf("%q", ways), `["`+strings.Join(ways, `","`)+`"]`)
	d := kaede(t, publicHost)
	ctx := opened(t, d, paged(t, body))
	r := verdictOf(t, d, `expect "0 here" within 20s`)
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	require.Zero(t, secret.Load(), "nobody asked what is not named")
	require.Positive(t, named.Load())
	lines, err := d.Log(ctx)
	require.NoError(t, err)
	require.True(t, strings.Contains(fmt.Sprint(r.Log, lines), "may not reach 127.0.0.1:"+port),
		"what is refused is in the log")

	// A page that goes elsewhere by itself gets there no more than one that asks.
	require.NoError(t, d.Clean(ctx, driver.CleanApp, odd))
	require.NoError(t, d.Install(ctx, paged(t, `<script>location.href = '`+private.URL+`/away'</script>`)))
	err = d.Start(ctx, odd, device.Fresh)
	require.Zero(t, secret.Load())
	var trouble *device.Trouble
	require.False(t, errors.As(err, &trouble), "it is the app that goes astray: %v", err)
}

// TestNothingIsLeftOfAHostThatWasKilled kills a process that holds a browser as a host does.
func TestNothingIsLeftOfAHostThatWasKilled(t *testing.T) {
	self, err := os.Executable()
	require.NoError(t, err)
	dir := t.TempDir()
	host := exec.Command(self, holdArgument, dir)
	out, err := host.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, host.Start())
	said, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "up\n", said)
	require.NotEmpty(t, processesOf(t, dir))
	require.NoError(t, host.Process.Kill())
	require.Error(t, host.Wait())
	require.Eventually(t, func() bool {
		left, err := filepath.Glob(filepath.Join(dir, "*"))
		return err == nil && len(left) == 0 && len(processesOf(t, dir)) == 0
	}, 20*time.Second, 20*time.Millisecond, "its profile and every process of the browser are gone")
}

func TestNothingIsLeftOfABrowserThatIsEnded(t *testing.T) {
	self, err := os.Executable()
	require.NoError(t, err)
	dir := t.TempDir()
	b := &Browser{Keeper: []string{self, keeper.Argument}, Dir: dir}
	r, err := b.up(context.Background())
	require.NoError(t, err)
	profiles, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.Len(t, profiles, 1)
	keeper := r.keeper.Process.Pid
	r.end()
	require.ErrorIs(t, syscall.Kill(keeper, 0), syscall.ESRCH)
	profiles, err = filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.Empty(t, profiles, "its profile is gone")
	require.Empty(t, processesOf(t, dir), "and so is every process of the browser")
}

// processesOf finds the processes that were started with a word.
func processesOf(t *testing.T, word string) []string {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	var out []string
	for _, p := range all {
		if text, err := os.ReadFile(p); err == nil && strings.Contains(string(text), word) &&
			!strings.Contains(string(text), "go-build") {
			out = append(out, strings.ReplaceAll(string(text), "\x00", " "))
		}
	}
	return out
}

// TestABrowserThatDiesIsTheDevicesTroubleAndComesBack kills the browser at moments of a case.
func TestABrowserThatDiesIsTheDevicesTroubleAndComesBack(t *testing.T) {
	t.Parallel()
	self, err := os.Executable()
	require.NoError(t, err)
	d := kaedeIn(t, &Browser{Keeper: []string{self, keeper.Argument}})
	ctx := opened(t, d, probe(t))
	for i := range 10 { // a case takes about a second and a half here
		keeper := d.running.keeper.Process.Pid
		kill := time.AfterFunc(time.Duration(i*170)*time.Millisecond,
			func() { _ = syscall.Kill(-keeper, syscall.SIGKILL) })
		s, findings := script.Read("suite \"s\"\npatience 3s\ncase \"c\"\n  start app fresh\n  tap #more\n  expect #count shows \"1\"\n  set #field to \"x\"\n  expect #echo shows \"x\"\nend\n")
		require.Empty(t, findings)
		r := script.RunCase(ctx, s, s.Cases[0], d, script.Options{App: "example.probe"}, &pictures{t: t})
		if kill.Stop() { // it had passed before
			require.Equal(t, verdict.Pass, r.Verdict)
			continue
		}
		require.NotEqual(t, verdict.Fail, r.Verdict, "it is not the app's fault: %+v", r.Failure)
		if r.Verdict != verdict.Pass {
			var trouble *device.Trouble
			require.ErrorAs(t, r.Err, &trouble, "%+v", r.Failure)
		}
		<-d.running.Gone
		require.NoError(t, d.Clean(ctx, driver.CleanApp, "example.probe"))
		require.NoError(t, d.Ready(ctx, driver.Terms{}))
		require.NoError(t, d.Install(ctx, probe(t)))
	}
}

func revisionOf(t *testing.T, ctx context.Context, d *Device) uint64 {
	t.Helper()
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	return tree.Revision
}
