package e2e

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/host/devicetest"
	"yamato/internal/pgbox"
	"yamato/internal/pgbox/pgtest"
)

// killPoints are where a process may be killed; see internal/killpoint.
var killPoints = []struct {
	process, point string
	most           int // how often a run passes the point at least
}{
	{"service-0", "committed", 8}, // between commit and acknowledgement
	{"service-0", "committing", 8},
	{"service-0", "blob-arriving", 20}, // in the middle of an upload
	{"service-0", "blob-staged", 12},
	{"service-0", "placed", 3},
	{"service-0", "delivering", 3},
	{"host", "lease-begun", 6},
	{"host", "uploading", 20},
	{"host", "case-judged", 12},
	{"host", "reported", 10},
	{"host", "acknowledged", 8},
	{"host", "cleaning", 5},
}

// startSampleRun hands in the broken version and starts a run of all suites.
func (r *rig) startSampleRun() contract.Run {
	r.t.Helper()
	ctx := context.Background()
	dir := samples(r.t)
	retry := func(what string, call func() (string, int)) {
		r.t.Helper()
		var last string
		require.Eventually(r.t, func() bool {
			text, code := call()
			last = text
			return code == 0
		}, patience, 50*time.Millisecond, "%s: %s", what, last)
	}
	retry("push builds", func() (string, int) {
		_, e, code := r.yamato("build", "push", filepath.Join(dir, "tideline-3.2.0.apk"),
			filepath.Join(dir, "tideline-3.2.0-simulator.zip"))
		return e, code
	})
	retry("push suites", func() (string, int) {
		_, e, code := r.yamato("suite", "push", filepath.Join(dir, "suites"))
		return e, code
	})
	r.awaitIdle()
	var run contract.Run
	key, seed, repeat := "once", int64(7), 3
	require.Eventually(r.t, func() bool { // the same key: a call whose answer was lost makes no second run
		a, err := r.client.StartRunWithResponse(ctx, "default", &contract.StartRunParams{IdempotencyKey: &key},
			contract.NewRun{
				Build: "3.2.0", Suites: []string{"Buying a ticket", "Looking up a crossing"}, Seed: &seed,
				RepeatFailed: &repeat})
		if err != nil || a.JSON200 == nil {
			return false
		}
		run = *a.JSON200
		return true
	}, patience, 50*time.Millisecond)
	return run
}

// finish follows a run to its end and checks what must hold whatever was killed.
func (r *rig) finish(run contract.Run) contract.RunDetail {
	r.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 2*patience)
	defer stop()
	next := int64(1)
	ends := 0
	err := r.client.Follow(ctx, run.Number, 0, time.Minute, func(error) {}, func(e client.Event) error {
		require.Equal(r.t, next, e.Number, "events have no gaps and no repetitions")
		next++
		if e.Kind == "run" {
			ends++
		}
		return nil
	})
	require.NoError(r.t, err)
	require.Equal(r.t, 1, ends)
	d, err := r.client.GetRunWithResponse(ctx, "default", run.Number, nil)
	require.NoError(r.t, err)
	require.NotNil(r.t, d.JSON200, "%s", d.Body)
	r.awaitIdle()
	require.Equal(r.t, "0", r.query(`select count(*) from lease where ended_at is null`))
	require.Equal(r.t, "0", r.query(`select count(*) from (select 1 from result r join lease l on l.id = r.lease_id
		where r.verdict in ('pass') group by r.leg_id, r.case_index having count(*) > 1) x`),
		"nothing that passed was run or counted twice")
	r.requireEvidenceWhole(ctx, run.Number)
	return *d.JSON200
}

// requireEvidenceWhole reads everything that is kept of a run, and compares it
// with its digest.
func (r *rig) requireEvidenceWhole(ctx context.Context, run int64) {
	r.t.Helper()
	list, err := r.client.ListEvidenceWithResponse(ctx, "default", run)
	require.NoError(r.t, err)
	require.NotNil(r.t, list.JSON200, "%s", list.Body)
	require.NotEmpty(r.t, *list.JSON200)
	for _, e := range *list.JSON200 {
		content, err := r.client.EvidenceContent(ctx, run, e.Id)
		require.NoError(r.t, err, "what an event refers to was uploaded before it")
		hash := sha256.New()
		n, err := io.Copy(hash, content)
		require.NoError(r.t, errors.Join(err, content.Close()))
		require.Equal(r.t, e.Size, n)
		require.Equal(r.t, e.Digest, hex.EncodeToString(hash.Sum(nil)))
	}
}

// requireSampleOutcome checks verdicts that do not depend on chance, and that no
// crossing is left undecided.
func requireSampleOutcome(t *testing.T, d contract.RunDetail) {
	t.Helper()
	require.Equal(t, "finished", d.Run.State)
	require.Equal(t, "fail", d.Run.Verdict, told(d.Legs))
	require.Len(t, d.Legs, 6)
	for _, leg := range d.Legs {
		require.Equal(t, "finished", leg.State)
		for _, x := range leg.Cases {
			switch x.Name {
			case "three passengers pay three single fares":
				require.Equal(t, "fail", x.Verdict, "%s on %s: %s", x.Name, leg.Combination.Model,
					told(x.Results, leg.Attempts))
			case "the timetable lists departures": // by chance of the attempt, which a kill may change
				require.Contains(t, []string{"pass", "fail"}, x.Verdict)
			default:
				require.Equal(t, "pass", x.Verdict, "%s on %s: %s", x.Name, leg.Combination.Model,
					told(x.Results, leg.Attempts))
			}
		}
	}
}

// told is what a failing check says of results: all of it, pointers followed.
func told(what ...any) string {
	text, err := json.Marshal(what)
	if err != nil {
		return err.Error()
	}
	return string(text)
}

// TestARunSurvivesTheDeathOfAnyProcess kills once at each point; at more of them where devicetest.Enough says so.
func TestARunSurvivesTheDeathOfAnyProcess(t *testing.T) {
	for seed := range uint64(devicetest.Enough(len(killPoints))) {
		chance := rand.New(rand.NewPCG(seed, 1))
		p := killPoints[int(seed)%len(killPoints)]
		at := fmt.Sprintf("%s:%d", p.point, 1+chance.IntN(p.most))
		t.Run(fmt.Sprintf("%s at %s", p.process, strings.ReplaceAll(at, ":", " ")), func(t *testing.T) {
			t.Parallel() // it mostly waits
			r := newRig(t, rigConfig{killAt: map[string]string{p.process: at}})
			d := r.finish(r.startSampleRun())
			requireSampleOutcome(t, d)
			deaths := r.services[0].died() + r.host.died()
			require.Equal(t, 1, deaths, "the process was to be killed at %s", at)
		})
	}
}

func TestARunSurvivesTheDeathOfTheDatabase(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, chmodForDatabase(dir))
	box, err := pgbox.Start(context.Background(), filepath.Join(dir, "pg"))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, box.Stop()) })
	require.NoError(t, pgtest.MakeTemplate(context.Background(), box.URL("postgres")))
	for seed := range uint64(2) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := newRig(t, rigConfig{database: makeDatabase(t, box, fmt.Sprintf("kill%d", seed))})
			run := r.startSampleRun()
			after := rand.New(rand.NewPCG(seed, 2)).Int64N(30)
			ctx, stop := context.WithCancel(context.Background())
			_ = r.client.Follow(ctx, run.Number, 0, time.Minute, func(error) {}, func(e client.Event) error {
				if e.Number > after {
					stop()
				}
				return ctx.Err()
			})
			stop()
			require.NoError(t, syscall.Kill(box.PID(), syscall.SIGKILL))
			requireSampleOutcome(t, r.finish(run))
		})
	}
}

func TestARunSurvivesTheDeathOfTheServiceThatLeadsAndOfTheOneThatHoldsTheLink(t *testing.T) {
	for name, victim := range map[string]string{
		"the leader": `select i.address from leadership l join instance i on i.id = l.instance`,
		"the link":   `select i.address from host h join instance i on i.id = h.instance`,
	} {
		t.Run(name, func(t *testing.T) {
			r := newRig(t, rigConfig{services: 2})
			run := r.startSampleRun()
			address := r.query(victim)
			r.serviceAt(address).kill(syscall.SIGKILL)
			requireSampleOutcome(t, r.finish(run))
		})
	}
}

func (r *rig) serviceAt(address string) *process {
	for _, p := range r.services {
		for _, a := range p.args {
			if "http://"+a == address {
				return p
			}
		}
	}
	r.t.Fatalf("no service at %s", address)
	return nil
}

func TestAnotherServiceLeadsWithinFiveSecondsOfTheLeadersDeath(t *testing.T) {
	r := newRig(t, rigConfig{services: 2})
	r.awaitIdle()
	before := r.query(`select epoch from leadership`)
	leader := r.query(`select i.address from leadership l join instance i on i.id = l.instance`)
	p := r.serviceAt(leader)
	p.kill(syscall.SIGSTOP) // silent, and not started again
	t.Cleanup(func() { p.kill(syscall.SIGCONT) })
	require.Eventually(t, func() bool {
		return r.query(`select epoch from leadership`) != before &&
			r.query(`select i.address from leadership l join instance i on i.id = l.instance`) != leader
	}, 5*time.Second, 20*time.Millisecond)
}
