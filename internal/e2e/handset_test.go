package e2e

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/host/handset"
)

const handsetSite = `
site: desk
driver: handset
models:
  - {model: Kaede 7, platform: web, form: phone, width: 408, height: 896, cutout: hole, memory_mb: 8192}
devices:
  - {name: kaede-7-h1, model: Kaede 7, kind: emulator}
`

// browserOf finds the browser that a host holds, by its keeper; 0 where it has none now.
func browserOf(t *testing.T, host int) int {
	t.Helper()
	parents, browsers := map[int]int{}, []int{}
	all, err := filepath.Glob("/proc/[0-9]*")
	require.NoError(t, err)
	for _, dir := range all {
		pid, err := strconv.Atoi(filepath.Base(dir))
		require.NoError(t, err)
		stat, err := os.ReadFile(dir + "/stat")
		if err != nil {
			continue // it has ended
		}
		fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
		parents[pid], _ = strconv.Atoi(fields[1])
		command, _ := os.ReadFile(dir + "/cmdline")
		if text := string(command); strings.Contains(text, "--remote-debugging-pipe") &&
			!strings.Contains(text, "--type=") {
			browsers = append(browsers, pid)
		}
	}
	for _, pid := range browsers {
		for at := pid; at > 1; at = parents[at] {
			if at == host {
				return pid
			}
		}
	}
	return 0
}

// TestARunSurvivesTheDeathOfItsBrowserAtTenSeededPoints kills the browser that a handset lives in
// while cases run: nothing is lost, and nothing is told as failed that was not the app's.
func TestARunSurvivesTheDeathOfItsBrowserAtTenSeededPoints(t *testing.T) {
	t.Parallel() // it mostly waits
	require.NoError(t, handset.Available(), "make browser installs Chromium")
	r := newRig(t, rigConfig{site: handsetSite})
	dir := samples(t)
	r.must(0, "build", "push", filepath.Join(dir, "tideline-3.1.4-web.zip"))
	r.must(0, "suite", "push", filepath.Join(dir, "suites"))
	r.awaitIdle()
	killed, whole := 0, r.t
	defer func() { r.t = whole }()
	for seed := range uint64(10) {
		chance := rand.New(rand.NewPCG(seed, 2))
		at, number := int64(1+chance.IntN(7)), int64(seed)
		t.Run(fmt.Sprintf("at event %d", at), func(t *testing.T) {
			r.t = t
			started, err := r.client.StartRunWithResponse(context.Background(), "default", nil,
				contract.NewRun{Build: "3.1.4",
					Suites: []string{"Looking up a crossing"}, Seed: &number})
			require.NoError(t, err)
			require.NotNil(t, started.JSON200, "%s", started.Body)
			ctx, stop := context.WithTimeout(context.Background(), patience)
			defer stop()
			r.host.mu.Lock()
			host := r.host.cmd.Process.Pid
			r.host.mu.Unlock()
			require.NoError(t, r.client.Follow(ctx, started.JSON200.Number, 0, time.Minute, func(error) {},
				func(e client.Event) error {
					if e.Number == at {
						if pid := browserOf(t, host); pid > 0 && syscall.Kill(pid, syscall.SIGKILL) == nil {
							killed++
						}
					}
					return nil
				}))
			d := r.finish(*started.JSON200)
			require.Equal(t, []string{"finished", "pass"}, []string{d.Run.State, d.Run.Verdict}, "%+v", d.Legs)
			require.Len(t, d.Legs[0].Cases, 2)
			for _, x := range d.Legs[0].Cases {
				require.Equal(t, "pass", x.Verdict, x.Name)
				for _, one := range x.Results {
					require.NotEqual(t, "fail", one.Verdict, "%s: what the browser died of is not the app's", x.Name)
				}
			}
		})
	}
	require.GreaterOrEqual(t, killed, 8, "it was alive, and killed, while a run was under way")
}

// TestAWebAppIsHandedInByItsAddressAndRun goes from an address to a verdict by commands, and sees
// that another release of it is another build.
func TestAWebAppIsHandedInByItsAddressAndRun(t *testing.T) {
	t.Parallel() // it mostly waits
	require.NoError(t, handset.Available(), "make browser installs Chromium")
	var release atomic.Int64
	release.Store(1)
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/site.webmanifest" {
			_, _ = io.WriteString(w, `{"name": "Quay board", "start_url": "/board", "display": "standalone"}`)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = fmt.Fprintf(w, `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width">
<link rel="manifest" href="/site.webmanifest"><title>Quay board</title><h1>Board %d</h1><button onclick="this.textContent='Sailed'">Sail</button>`,
			release.Load())
	}))
	t.Cleanup(app.Close)
	host := strings.TrimPrefix(app.URL, "http://")
	r := newRig(t, rigConfig{site: strings.Replace(handsetSite, "kind: emulator}",
		`kind: emulator, handset: {reach: ["`+host+`"]}}`, 1)})
	r.awaitIdle()
	out, _ := r.must(0, "build", "push", app.URL+"/")
	require.Contains(t, out, "Quay board")
	out, _ = r.must(0, "build", "show", "1")
	require.Contains(t, out, app.URL+"/board")
	suite := filepath.Join(t.TempDir(), "board.yamato")
	require.NoError(t, os.WriteFile(suite, []byte(`suite "The board"
case "a ferry sails"
  tap button called "Sail"
  expect button called "Sailed"
end
case "it is the first release"
  expect heading called "Board 1"
end
`), 0o600))
	out, _ = r.must(0, "try", suite, "--build", "1")
	require.Contains(t, out, "pass")
	release.Store(2)
	r.must(0, "build", "push", app.URL+"/")
	out, _ = r.must(1, "try", suite, "--build", "2")
	require.Contains(t, out, "it is the first release")
	require.NotContains(t, out, "a ferry sails  fail")
}
