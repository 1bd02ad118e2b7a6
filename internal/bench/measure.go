package main

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yamato/demo"
)

// measure takes all figures and gives the page.
func measure(ctx context.Context, c config) (string, error) {
	r, err := newRig(ctx, c)
	if err != nil {
		return "", err
	}
	defer func() {
		r.close()
		_ = r.box.Stop()
		_ = os.RemoveAll(r.dir)
	}()
	var page strings.Builder
	page.WriteString(head())
	if c.only == "" || c.only == "P1" {
		if err := r.throughput(ctx, &page); err != nil {
			return page.String(), err
		}
	}
	if c.only == "" || c.only == "P2b" {
		if r.db, err = sql.Open("pgx", r.box.URL("postgres")); err != nil {
			return page.String(), err
		}
		if err := r.standIns(ctx, &page); err != nil {
			return page.String(), err
		}
		r.close()
	}
	if c.only == "" || c.only == "console" {
		if r.db, err = sql.Open("pgx", r.box.URL("postgres")); err != nil {
			return page.String(), err
		}
		if err := r.console(ctx, &page); err != nil {
			return page.String(), err
		}
		r.close()
	}
	if c.only == "" || c.only == "fleet" {
		if r.db, err = sql.Open("pgx", r.box.URL("postgres")); err != nil {
			return page.String(), err
		}
		if err := r.fleetFigures(ctx, &page); err != nil {
			return page.String(), err
		}
		r.close()
	}
	if c.only == "" || c.only == "byhand" {
		if err := r.byHand(ctx, &page); err != nil {
			return page.String(), err
		}
		r.close()
	}
	if c.only == "" || c.only == "script" {
		if err := scriptFigures(ctx, &page); err != nil {
			return page.String(), err
		}
	}
	if c.only == "" || c.only == "plans" {
		if err := r.planFigures(ctx, &page); err != nil {
			return page.String(), err
		}
	}
	if c.only == "" || c.only == "evidence" {
		if err := r.evidenceFigures(ctx, &page); err != nil {
			return page.String(), err
		}
	}
	if c.only == "" || c.only == "flow" {
		if err := r.flowFigures(ctx, &page); err != nil {
			return page.String(), err
		}
	}
	if c.only == "" || c.only == "handsets" {
		if err := r.handsetFigures(ctx, &page); err != nil {
			return page.String(), err
		}
	}
	if c.only == "" || c.only == "engines" {
		if err := r.onEngines(ctx, &page); err != nil {
			return page.String(), err
		}
	}
	if c.only == "" || c.only == "phones" {
		if err := r.phoneFigures(ctx, &page); err != nil {
			return page.String(), err
		}
	}
	return page.String(), nil
}

func head() string {
	cpu, _ := exec.Command("sh", "-c", `grep -m1 'model name' /proc/cpuinfo | cut -d: -f2`).Output()
	return fmt.Sprintf(`# Benchmarks

Made by %s on %s: %d cores (%s), Go %s. Everything
(PostgreSQL, service, host, load) runs on this one machine and shares its cores.
Figures of one run belong together; compare ratios, not numbers of different days.

`, "`make bench`", time.Now().UTC().Format("2006-01-02"), runtime.NumCPU(), strings.TrimSpace(string(cpu)),
		strings.TrimPrefix(runtime.Version(), "go"))
}

// commits measures single-row commits a second at 8 clients.
func (r *rig) commits(ctx context.Context, d time.Duration) (float64, error) {
	if _, err := r.db.ExecContext(ctx, `create table if not exists one_row (id bigint generated always as identity primary key, at timestamptz not null default now())`); err != nil {
		return 0, err
	}
	var n atomic.Int64
	var fail atomic.Value
	var all sync.WaitGroup
	end := time.Now().Add(d)
	for range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			for time.Now().Before(end) {
				if _, err := r.db.ExecContext(ctx, `insert into one_row default values`); err != nil {
					fail.Store(err)
					return
				}
				n.Add(1)
			}
		}()
	}
	all.Wait()
	if err, ok := fail.Load().(error); ok {
		return 0, err
	}
	return float64(n.Load()) / d.Seconds(), nil
}

const models = 40

// throughput takes P1 and P2: a driver that does nothing.
func (r *rig) throughput(ctx context.Context, page *strings.Builder) error {
	before, err := r.commits(ctx, 10*time.Second)
	if err != nil {
		return err
	}
	if err := r.serve(ctx, "p1"); err != nil {
		return err
	}
	if err := r.attach(ctx, "p1", nullSite(r.devices), r.devices); err != nil {
		return err
	}
	var suites []string
	for i := range 100 {
		suites = append(suites, fmt.Sprintf("suite \"nothing %d\"\ncase \"nothing\"\n  press tab\nend\n", i))
	}
	names, err := r.push(ctx, suites)
	if err != nil {
		return err
	}
	rate, err := r.closedLoop(ctx, names)
	if err != nil {
		return err
	}
	if err := r.drain(ctx); err != nil {
		return err
	}
	median, p99, n, offered, err := r.openLoop(ctx, names, rate/2)
	if err != nil {
		return err
	}
	if err := r.drain(ctx); err != nil {
		return err
	}
	after, err := r.commits(ctx, 10*time.Second)
	if err != nil {
		return err
	}
	r.close()
	base := (before + after) / 2
	fmt.Fprintf(page, `## P1: legs a second, closed loop

A driver that does nothing, %d devices of %d models, runs of %d legs started so
that work always waits, durable PostgreSQL (fsync and synchronous commit on),
%.0f s. Beside it, in the same run, single-row commits a second of the same
cluster at 8 clients (10 s before and 10 s after; the mean).

| | a second |
|---|---|
| legs finished | %.0f |
| single-row commits, 8 clients | %.0f (%.0f before, %.0f after) |
| ratio | **%.2f** (aim: 0.5) |

A leg is placed, leased, begun, judged, finished and its device cleaned and freed:
five reports of its host, committed before they are acknowledged.

## P2: from device free to next case started, open loop

At half of that rate (%.0f legs a second offered, in runs of %d legs): from when a
device was free and the leg that it got next was there, whichever came later, to
when that leg's attempt had begun on it; both by the commits that say so.

| | ms |
|---|---|
| median | %.1f |
| 99th percentile | **%.1f** (aim: under 100) |
| samples | %d |

`, r.devices, models, models*100, r.window.Seconds(), rate, base, before, after, rate/base, offered, models, median,
		p99, n)
	return nil
}

func nullSite(devices int) string {
	var b strings.Builder
	b.WriteString("site: bench\ndriver: \"null\"\nmodels:\n")
	for m := range models {
		fmt.Fprintf(&b, "  - {model: Kaede %d, platform: android, form: phone, width: 408, height: 896, "+
			"memory_mb: 8192}\n",
			100+m)
	}
	b.WriteString("devices:\n")
	for d := range devices {
		fmt.Fprintf(&b, "  - {name: kaede-%d, model: Kaede %d, kind: emulator, os: \"14\"}\n", d, 100+d%models)
	}
	return b.String()
}

// closedLoop keeps work waiting and counts the legs that are finished.
func (r *rig) closedLoop(ctx context.Context, names []string) (float64, error) {
	feed := func() error {
		open, err := r.count(ctx, `select coalesce(sum(open_legs), 0) from run where finished_at is null`)
		for ; err == nil && open < 3*models*100; open += models * 100 {
			_, err = r.start(ctx, names)
		}
		return err
	}
	finished := func() (int, error) { return r.count(ctx, `select count(*) from leg where state = 'finished'`) }
	feeding := func(d time.Duration) error {
		tick := time.NewTicker(200 * time.Millisecond)
		defer tick.Stop()
		for end := time.Now().Add(d); time.Now().Before(end); <-tick.C {
			if err := feed(); err != nil {
				return err
			}
		}
		return nil
	}
	if err := feeding(5 * time.Second); err != nil { // warm
		return 0, err
	}
	first, err := finished()
	if err != nil {
		return 0, err
	}
	began := time.Now()
	if err := feeding(r.window); err != nil {
		return 0, err
	}
	took := time.Since(began)
	last, err := finished()
	return float64(last-first) / took.Seconds(), err
}

// drain waits until nothing is left to do.
func (r *rig) drain(ctx context.Context) error {
	return until(ctx, 2*time.Minute, func() error {
		n, err := r.count(ctx, `select count(*) from run where finished_at is null`)
		if err == nil && n > 0 {
			err = fmt.Errorf("%d runs are not finished", n)
		}
		return err
	})
}

// openLoop offers runs at a rate for half the window and gives the quantiles of
// the wait between a device's being freed and its next attempt, in ms.
func (r *rig) openLoop(ctx context.Context, names []string,
	rate float64) (median, p99 float64, n int, offered float64, err error) {
	var mark time.Time
	if err = r.db.QueryRowContext(ctx, `select now()`).Scan(&mark); err != nil {
		return
	}
	legs := 0
	began := time.Now()
	every := time.Duration(models / rate * float64(time.Second))
	tick := time.NewTicker(every)
	defer tick.Stop()
	for time.Since(began) < r.window/2 {
		if _, err = r.start(ctx, names[legs/models%len(names):][:1]); err != nil {
			return
		}
		legs += models
		<-tick.C
	}
	offered = float64(legs) / time.Since(began).Seconds()
	if err = r.drain(ctx); err != nil {
		return
	}
	err = r.db.QueryRowContext(ctx, `
		with l as (
			select l.device_id, l.began_at, r.created_at, lag(l.ended_at) over (partition by l.device_id order by l.id) as freed
			from lease l join attempt a on a.lease_id = l.id join run r on r.id = a.run_id where l.granted_at > $1),
		w as (select extract(epoch from began_at - greatest(created_at, freed)) * 1000 as ms from l where freed is not null and began_at is not null)
		select coalesce(percentile_cont(0.5) within group (order by ms), 0), coalesce(percentile_cont(0.99) within group (order by ms), 0), count(*) from w`, mark).Scan(&median, &p99, &n)
	return
}

const standIns = 200

// standIns takes P2b: the sample app on 200 stand-ins at full virtual speed.
func (r *rig) standIns(ctx context.Context, page *strings.Builder) error {
	if err := r.serve(ctx, "p2b"); err != nil {
		return err
	}
	if err := r.attach(ctx, "p2b", standInSite(), standIns); err != nil {
		return err
	}
	samples, err := demo.Suites()
	if err != nil {
		return err
	}
	var suites []string
	for i := range 10 {
		for _, text := range samples {
			suites = append(suites, strings.Replace(text, "suite \"", fmt.Sprintf("suite \"%d ", i), 1))
		}
	}
	names, err := r.push(ctx, suites)
	if err != nil {
		return err
	}
	var peakChildren, peakHost int64
	var children int
	watch := func() {
		pids := childrenOf(r.host.Process.Pid)
		var sum int64
		for _, pid := range pids {
			sum += residentKB(pid)
		}
		if sum > peakChildren {
			peakChildren, children = sum, len(pids)
		}
		peakHost = max(peakHost, residentKB(r.host.Process.Pid))
	}
	began := time.Now()
	run, err := r.start(ctx, names)
	if err != nil {
		return err
	}
	err = until(ctx, 10*time.Minute, func() error {
		watch()
		n, err := r.count(ctx, `select count(*) from run where number = $1 and finished_at is not null`, run.Number)
		if err == nil && n == 0 {
			err = fmt.Errorf("the run is not finished")
		}
		return err
	})
	if err != nil {
		return err
	}
	took := time.Since(began)
	cases, err := r.count(ctx, `select count(*) from result`)
	if err != nil {
		return err
	}
	passed, err := r.count(ctx, `select count(*) from result where verdict = 'pass'`)
	if err != nil {
		return err
	}
	var device float64 // seconds
	if err := r.db.QueryRowContext(ctx, `select sum(took_ms) / 1000.0 from result`).Scan(&device); err != nil {
		return err
	}
	fmt.Fprintf(page, `## P2b: %d stand-ins at full virtual speed

The sample app 3.1.4 and its suites, %d legs on %d stand-ins of this one machine,
each with a child process of its own; every picture drawn, uploaded and kept.

| | |
|---|---|
| cases a second | **%.0f** (%d cases, %d passed, in %.1f s) |
| device time | %.0f s: %.0f times faster than the wall |
| memory a device | **%.1f MB** for its child (resident, %d children at the peak), and %.2f MB of the host's |

`, standIns, run.Legs, standIns, float64(cases)/took.Seconds(), cases, passed, took.Seconds(), device,
		device/took.Seconds(),
		float64(peakChildren)/1024/float64(max(1, children)), children, float64(peakHost)/1024/standIns)
	return nil
}

func standInSite() string {
	var b strings.Builder
	b.WriteString("site: bench\ndriver: standin\nmodels:\n")
	for m := range 20 {
		fmt.Fprintf(&b, "  - {model: Kaede %d, platform: android, form: phone, width: 408, height: 896, cutout: hole, "+
			"memory_mb: 8192}\n", 100+m)
	}
	b.WriteString("devices:\n")
	for d := range standIns {
		fmt.Fprintf(&b, "  - {name: kaede-%d, model: Kaede %d, kind: emulator, os: \"14\"}\n", d, 100+d%20)
	}
	return b.String()
}
