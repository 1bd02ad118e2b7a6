package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
	"yamato/internal/testbin"
)

// kills is how often a process is killed while sessions are opened, large packages are handed in and plans are started;
// `make kills` says so. By itself that takes minutes.
const kills = "YAMATO_TEST_KILLS"

// Whatever is killed, and whenever: each session ends, each package arrives whole, each start makes one run, and
// nothing is stuck in the end. Every tenth death is an ending as its users end it.
func TestNothingIsLostDoubleOrStuckUnderKills(t *testing.T) {
	most, _ := strconv.Atoi(os.Getenv(kills))
	if most == 0 {
		t.Skip("`make kills` runs this")
	}
	r := newRig(t, rigConfig{services: 2})
	dir := samples(t)
	r.until("push", "build", "push", filepath.Join(dir, "tideline-3.2.0.apk"))
	r.until("push", "suite", "push", filepath.Join(dir, "suites"))
	plan := filepath.Join(dir, "pair.yaml")
	require.NoError(t, os.WriteFile(plan, []byte("plan: Pair\napp: Tideline\nbuild: 3.2.0\nsuites: [Looking up a crossing]\nfactors: {language: [en-GB, de-DE]}\ndevices: [Kaede 7]\n"), 0o600))
	r.until("save the plan", "plan", "save", plan)
	r.awaitIdle()

	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var work sync.WaitGroup
	var mu sync.Mutex
	sessions, keys, digests := map[int64]bool{}, 0, 0
	loop := func(do func(n int)) {
		work.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				do(n)
			}
		})
	}
	loop(func(int) { // a person who opens, does something, and ends
		out, _, code := r.yamato("session", "open", "kaede-7-lite-1", "--build", "3.2.0", "--print", "--output", "json")
		var made struct{ Session contract.Session }
		if json.Unmarshal([]byte(out), &made) != nil || made.Session.Number == 0 {
			r.endAll() // the service was not there, or its answer was lost: what was opened then is in the list
			return
		}
		mu.Lock()
		sessions[made.Session.Number] = true
		mu.Unlock()
		if code == 0 {
			r.yamato("session", "do", fmt.Sprint(made.Session.Number), "mark \"here\"")
		}
		r.until("end the session", "session", "end", fmt.Sprint(made.Session.Number), "--yes")
	})
	loop(func(n int) { // large packages, gone on with where they broke off
		path := filepath.Join(dir, fmt.Sprintf("large-%d.apk", n))
		padded(t, filepath.Join(dir, "tideline-3.1.4.apk"), path, uint64(n))
		r.until("push a large package", "build", "push", path)
		require.NoError(t, os.Remove(path))
		mu.Lock()
		digests++
		mu.Unlock()
	})
	loop(func(n int) { // starts of a plan, each with a key of its own
		key := fmt.Sprintf("start-%d", n)
		said := ""
		for begun := time.Now(); ; {
			for _, s := range r.clients() {
				a, err := s.StartPlanWithResponse(context.Background(), "default", "Pair",
					&contract.StartPlanParams{IdempotencyKey: &key}, contract.PlanChanges{})
				if err == nil && a.JSON200 != nil {
					mu.Lock()
					keys++
					mu.Unlock()
					r.pause(ctx, 3*time.Second)
					return
				}
				if err == nil {
					said = string(a.Body)
				}
			}
			if time.Since(begun) > patience {
				t.Errorf("the plan could not be started with %s: %s", key, said)
				return
			}
		}
	})

	chance := rand.New(rand.NewPCG(40, 1))
	for n := range most {
		r.pause(t.Context(), time.Duration(300+chance.IntN(2500))*time.Millisecond)
		victim := []*process{r.services[0], r.services[1], r.host}[chance.IntN(3)]
		if n%10 == 9 {
			victim.renew(testbin.Program(t))
		} else {
			victim.kill(syscall.SIGKILL)
		}
	}
	stop()
	work.Wait()
	r.endAll()
	t.Logf("%d kills: %d sessions, %d large packages, %d starts", most, len(sessions), digests, keys)
	require.Greater(t, len(sessions), most/10)
	require.Greater(t, digests, most/10)

	require.Eventually(t, func() bool {
		return r.query(`select count(*) from run where finished_at is null`) == "0" &&
			r.query(`select count(*) from session where state <> 'closed'`) == "0"
	}, 3*patience, 200*time.Millisecond, "something is stuck")
	r.awaitIdle()
	require.Equal(t, fmt.Sprint(keys), r.query(`select count(*) from run where plan_id is not null`),
		"each start is one run")
	require.Equal(t, "0", r.query(`select count(*) from lease where ended_at is null`))
	t.Log("verdicts of the runs: ", r.query(`select coalesce(string_agg(verdict || ' ' || n, ', '), '') from (select coalesce(verdict, 'none') as verdict, count(*) as n from run group by 1) x`))
	require.Equal(t, "0", r.query(`select count(*) from run where verdict is null or verdict = 'none'`),
		"every run was decided")
	require.Equal(t, fmt.Sprint(digests+1), r.query(`select count(*) from package`))
	left, err := strconv.Atoi(r.query(`select count(*) from upload`))
	require.NoError(t, err)
	require.LessOrEqual(t, left, most, "what a killed service had begun goes after a day")
}

// endAll ends the sessions that are not closed.
func (r *rig) endAll() {
	var list contract.SessionList
	if out, _, code := r.yamato("session", "ls", "--output", "json"); code != 0 || json.Unmarshal([]byte(out),
		&list) != nil {
		return
	}
	for _, one := range list.Sessions {
		if one.State != "closed" {
			r.until("end a session", "session", "end", fmt.Sprint(one.Number), "--yes")
		}
	}
}

// until runs a command until it ends well.
func (r *rig) until(what string, args ...string) {
	var said string
	for begun := time.Now(); time.Since(begun) < patience; {
		out, errOut, code := r.yamato(args...)
		if code == 0 {
			return
		}
		said = out + errOut
	}
	r.t.Errorf("%s: %s", what, said)
}

// pause lets time go by: a person is not always at it.
func (r *rig) pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// padded writes a package anew with some MB that are of no use to it.
func padded(t *testing.T, from, to string, seed uint64) {
	data, err := os.ReadFile(from)
	require.NoError(t, err)
	in, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range in.File {
		require.NoError(t, z.Copy(f))
	}
	w, err := z.CreateHeader(&zip.FileHeader{Name: "assets/padding", Method: zip.Store})
	require.NoError(t, err)
	chance := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), 7})
	filler := make([]byte, 24<<20)
	_, _ = chance.Read(filler)
	_, err = w.Write(filler)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(to, out.Bytes(), 0o600))
}
