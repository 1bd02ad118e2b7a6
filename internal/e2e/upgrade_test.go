package e2e

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/pgbox/pgtest"
	"yamato/internal/testbin"
)

// before is the program of the version before, which `make upgrade` builds: a checkout without history has none.
const before = "YAMATO_TEST_BEFORE"

// Services and a host of two versions stand side by side while one is replaced after the other, in either order, under
// runs and calls without a break: nothing is refused, and nothing decided otherwise.
func TestTheVersionBeforeAndThisOneServeSideBySide(t *testing.T) {
	old := os.Getenv(before)
	if old == "" {
		t.Skip("`make upgrade` tries this beside the version before")
	}
	for _, order := range []struct {
		name  string
		steps [][]string // which processes are renewed, one step after the other
	}{
		{"services first", [][]string{{"service-0"}, {"host"}, {"service-1"}}},
		{"the host first", [][]string{{"host"}, {"service-1"}, {"service-0"}}},
	} {
		t.Run(order.name, func(t *testing.T) {
			r := newRig(t, rigConfig{services: 2, program: old, database: pgtest.Empty(t)})
			first := r.startSampleRun()
			requireSampleOutcome(t, r.finish(first))

			ctx, stop := context.WithCancel(t.Context())
			var load sync.WaitGroup
			defer load.Wait()
			defer stop()
			quiet := &atomic.Bool{} // the version before breaks calls off when it ends
			called, refused := r.callWithoutBreak(ctx, &load, quiet)
			for _, step := range order.steps {
				run := r.startRun(ctx, strings.Join(step, " "))
				quiet.Store(true)
				for _, name := range step {
					r.named(name).renew(testbin.Program(t))
				}
				r.awaitDeaths(step)
				quiet.Store(false)
				requireSampleOutcome(t, r.finish(run)) // one that was under way
				run = r.startRun(ctx, "after "+strings.Join(step, " "))
				requireSampleOutcome(t, r.finish(run)) // and one of both versions
			}
			stop()
			load.Wait()
			require.Empty(t, refused())
			require.Greater(t, called.Load(), int64(200))
			for _, p := range append(r.services, r.host) {
				log, err := os.ReadFile(filepath.Join(r.dir, p.name+".log"))
				require.NoError(t, err)
				require.NotContains(t, string(log), "SQLSTATE 42", "%s asked for what is not there", p.name)
				require.LessOrEqual(t, p.died(), 1, "%s ended of itself", p.name)
			}
		})
	}
}

func (r *rig) awaitDeaths(names []string) {
	r.t.Helper()
	require.Eventually(r.t, func() bool {
		return !slices.ContainsFunc(names, func(name string) bool { return r.named(name).died() == 0 })
	}, patience, 10*time.Millisecond)
}

// Who ends a service breaks no call off, and what goes on is told to end at once.
func TestAServiceThatIsStoppedFinishesItsCalls(t *testing.T) {
	r := newRig(t, rigConfig{})
	r.awaitIdle()
	ctx, stop := context.WithCancel(t.Context())
	var load sync.WaitGroup
	defer load.Wait()
	defer stop()
	called, refused := r.callWithoutBreak(ctx, &load, &atomic.Bool{})
	streamed := make(chan error, 1)
	for n := range 6 {
		begun := called.Load()
		require.Eventually(t, func() bool { return called.Load() > begun+20 }, patience, time.Millisecond)
		if n == 0 { // somebody's console is open all the while
			body := r.stream(ctx)
			go func() { // ends with the stream
				_, err := io.Copy(io.Discard, body)
				streamed <- errors.Join(err, body.Close())
			}()
		}
		asked := time.Now()
		r.services[0].renew(testbin.Program(t))
		require.Eventually(t, func() bool { return r.services[0].died() == n+1 }, patience, time.Millisecond)
		require.Less(t, time.Since(asked), 4*time.Second, "nothing that goes on keeps it")
		r.awaitService()
	}
	stop()
	load.Wait()
	require.NoError(t, <-streamed, "the stream is ended, and not broken off")
	require.Empty(t, refused())
}

// stream opens the events of the fleet.
func (r *rig) stream(ctx context.Context) io.ReadCloser {
	r.t.Helper()
	token, err := os.ReadFile(r.first + "/user-token")
	require.NoError(r.t, err)
	call, err := http.NewRequestWithContext(ctx, http.MethodGet,
		r.serviceURL()+"/api/v1/projects/default/stream?watch=fleet", nil)
	require.NoError(r.t, err)
	call.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	answer, err := http.DefaultClient.Do(call)
	require.NoError(r.t, err)
	require.Equal(r.t, http.StatusOK, answer.StatusCode)
	return answer.Body
}

func (r *rig) named(name string) *process {
	for _, p := range append(r.services, r.host) {
		if p.name == name {
			return p
		}
	}
	r.t.Fatalf("there is no %s", name)
	return nil
}

// startRun starts a run at whichever service answers.
func (r *rig) startRun(ctx context.Context, key string) (run contract.Run) {
	r.t.Helper()
	seed, repeat := int64(7), 3
	require.Eventually(r.t, func() bool {
		for _, s := range r.clients() {
			a, err := s.StartRunWithResponse(ctx, "default", &contract.StartRunParams{IdempotencyKey: &key},
				contract.NewRun{Build: "3.2.0",
					Suites: []string{"Buying a ticket", "Looking up a crossing"}, Seed: &seed, RepeatFailed: &repeat})
			if err == nil && a.JSON200 != nil {
				run = *a.JSON200
				return true
			}
		}
		return false
	}, patience, 50*time.Millisecond)
	return run
}

func (r *rig) clients() (out []*client.Service) {
	token, err := os.ReadFile(r.first + "/user-token")
	require.NoError(r.t, err)
	for _, p := range r.services {
		for i, a := range p.args {
			if a == "--listen" {
				c, err := client.Open("http://"+p.args[i+1], strings.TrimSpace(string(token)), "default")
				require.NoError(r.t, err)
				out = append(out, c)
			}
		}
	}
	return out
}

// callWithoutBreak makes calls of many kinds at all services. A service that is being replaced may not be there; what
// answers has to answer well.
func (r *rig) callWithoutBreak(ctx context.Context, group *sync.WaitGroup, quiet *atomic.Bool) (called *atomic.Int64,
	refused func() []string) {
	called = &atomic.Int64{}
	var mu sync.Mutex
	bad := map[string]int{}
	for _, s := range r.clients() {
		group.Go(func() {
			for ctx.Err() == nil {
				for what, call := range map[string]func() (*http.Response, []byte, error){
					"now": func() (*http.Response, []byte, error) {
						a, err := s.NowWithResponse(ctx, "default")
						if err != nil {
							return nil, nil, err
						}
						return a.HTTPResponse, a.Body, nil
					},
					"runs": func() (*http.Response, []byte, error) {
						a, err := s.ListRunsWithResponse(ctx, "default", nil)
						if err != nil {
							return nil, nil, err
						}
						return a.HTTPResponse, a.Body, nil
					},
					"devices": func() (*http.Response, []byte, error) {
						a, err := s.ListDevicesWithResponse(ctx, "default", nil)
						if err != nil {
							return nil, nil, err
						}
						return a.HTTPResponse, a.Body, nil
					},
				} {
					answer, body, err := call()
					if err != nil || quiet.Load() {
						continue // it is not there at the moment
					}
					if called.Add(1); answer.StatusCode != http.StatusOK {
						mu.Lock()
						bad[fmt.Sprintf("%s: %d %s", what, answer.StatusCode, body)]++
						mu.Unlock()
					}
				}
			}
		})
	}
	return called, func() (out []string) {
		mu.Lock()
		defer mu.Unlock()
		for what, n := range bad {
			out = append(out, fmt.Sprintf("%d times %s", n, what))
		}
		return out
	}
}
