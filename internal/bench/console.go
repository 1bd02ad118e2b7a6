package main

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/cdproto/tracing"
	"github.com/chromedp/chromedp"

	"yamato/internal/browser"
	"yamato/internal/client"
	"yamato/internal/contract"
)

const (
	consoleCases   = 50
	consoleDevices = 40
	logLines       = 200_000
)

// slowSuite has cases of 1.5 s on a device that does nothing, tied to the wall:
// five times a screen has to have been quiet for 300 ms. 40 devices at once then
// make 27 results and as many beginnings a second.
func slowSuite() string {
	var b strings.Builder
	b.WriteString("suite \"busy\"\n")
	for i := range consoleCases {
		fmt.Fprintf(&b, "case \"case %02d\"\n%send\n", i, strings.Repeat("  press tab\n  expect no #x\n", 5))
	}
	return b.String()
}

// console measures the console in a headless Chromium.
func (r *rig) console(ctx context.Context, page *strings.Builder) error {
	if err := r.serve(ctx, "console"); err != nil {
		return err
	}
	if err := r.attach(ctx, "console", nullSite(consoleDevices), consoleDevices); err != nil {
		return err
	}
	names, err := r.push(ctx, []string{slowSuite()})
	if err != nil {
		return err
	}
	b, err := browser.Open(ctx)
	if err != nil {
		return err
	}
	defer b.Close()
	tab, err := b.Tab()
	if err != nil {
		return err
	}
	defer tab.Close()
	tab.Patience(3 * time.Minute)
	first, err := r.firstLoad(ctx, tab)
	if err != nil {
		return err
	}
	live, err := r.live(ctx, tab, names)
	if err != nil {
		return err
	}
	scroll, err := r.scroll(ctx, tab)
	if err != nil {
		return err
	}
	fmt.Fprintf(page, `## C: the console, in headless Chromium

Measured in the browser, from its own traces (frames drawn by the compositor, tasks of
the page's main thread), on the two cores that service, host and database use too and
without a graphics processor.

| | |
|---|---|
| first load, scripts as they travel (gzip) | **%.0f kB** in %d files (aim: under 250) |
| run page, %d cases by %d combinations, live | **%.1f frames a second** over %.0f s (aim: at least 50) |
| changes shown meanwhile | %.0f a second |
| longest task of the page's main thread | **%.0f ms** (aim: none over 100); %d over 50 |
| from an event's commit to changed pixels | median %.0f ms, 95th percentile **%.0f ms** (aim: under 150), %d results |
| a log of %d lines, scrolled | **%.1f frames a second** over %.0f s (aim: 50); longest task %.0f ms |

From commit to pixels: from when the transaction that holds a result began, by the
database's clock, to the first frame drawn after the page had changed the crossing.
The log is scrolled from top to bottom by 3,000 lines a frame.

`, first.kb, first.files, consoleCases, consoleDevices, live.fps, live.seconds, live.changes, live.longest, live.long,
		live.median, live.p95, live.n,
		logLines, scroll.fps, scroll.seconds, scroll.longest)
	return nil
}

type load struct {
	kb    float64
	files int
}

func (r *rig) firstLoad(ctx context.Context, tab *browser.Tab) (load, error) {
	a, err := r.client.MakeSignInWithResponse(ctx)
	if err != nil || a.JSON200 == nil {
		return load{}, fmt.Errorf("making a sign-in link: %w", err)
	}
	if err := tab.Go(r.client.Base() + "/sign-in#" + a.JSON200.Code); err != nil {
		return load{}, err
	}
	if err := tab.See("devices"); err != nil {
		return load{}, err
	}
	var sizes []float64
	err = tab.Ask(`performance.getEntriesByType("resource").filter((e) => e.name.endsWith(".js")).map((e) => e.encodedBodySize)`, &sizes)
	var sum float64
	for _, s := range sizes {
		sum += s
	}
	return load{sum / 1000, len(sizes)}, err
}

type liveFigures struct {
	frames
	changes, median, p95 float64
	n                    int
}

// watchCrossings marks in the trace when the page changes a crossing, with the
// wall's time beside it.
const watchCrossings = `new MutationObserver((list) => {
  for (const m of list) if (m.target.dataset.verdict !== "running")
    performance.mark("crossing " + Date.now() + " " + (performance.timeOrigin + performance.now()) + " " + m.target.getAttribute("aria-label"));
}).observe(document.querySelector("[role=grid]"), { subtree: true, attributeFilter: ["data-verdict"] })`

func (r *rig) live(ctx context.Context, tab *browser.Tab, names []string) (liveFigures, error) {
	var out liveFigures
	seed, realTime := int64(7), true
	a, err := r.client.StartRunWithResponse(ctx, "default", &contract.StartRunParams{}, contract.NewRun{Build: "3.1.4",
		Suites: names, Seed: &seed, RealTime: &realTime})
	if err != nil || a.JSON200 == nil {
		return out, fmt.Errorf("starting a run: %w", err)
	}
	run := a.JSON200.Number
	if err := tab.Go(fmt.Sprintf("%s/runs/%d", r.client.Base(), run)); err != nil {
		return out, err
	}
	if err := tab.Await(`document.querySelectorAll("[role=gridcell][data-verdict=pass]").length > 60`); err != nil {
		return out, err
	}
	if err := tab.Run(watchCrossings); err != nil {
		return out, err
	}
	before, err := r.lastEvent(ctx, run)
	if err != nil {
		return out, err
	}
	t, err := trace(ctx, tab, 20*time.Second)
	if err != nil {
		return out, err
	}
	after, err := r.lastEvent(ctx, run)
	if err != nil {
		return out, err
	}
	out.frames = t.frames()
	out.changes = float64(after-before) / out.seconds
	waits, err := r.waits(ctx, run, t)
	if err != nil {
		return out, err
	}
	slices.Sort(waits)
	if out.n = len(waits); out.n > 0 {
		out.median, out.p95 = waits[out.n/2], waits[out.n*95/100]
	}
	return out, r.drain(ctx)
}

func (r *rig) lastEvent(ctx context.Context, run int64) (int, error) {
	return r.count(ctx, `select last_event from run where number = $1`, run)
}

// waits gives, for each crossing whose change is in the trace, the ms between its
// commit and the frame that showed it.
func (r *rig) waits(ctx context.Context, run int64, t recording) ([]float64, error) {
	d, err := client.As[contract.RunDetail](r.client.GetRun(ctx, "default", run, nil))
	if err != nil {
		return nil, err
	}
	type crossing struct {
		leg   int64
		index int
	}
	named := map[string]crossing{}
	for _, l := range d.Legs {
		for _, x := range l.Cases {
			named[fmt.Sprintf("%s, %s, Android %s", x.Name, l.Combination.Model, l.Combination.Os)] = crossing{l.Id,
				x.Index}
		}
	}
	committed := map[crossing]float64{} // ms since 1970
	rows, err := r.db.QueryContext(ctx, `
		select extract(epoch from e.at) * 1000, (v->>'leg')::bigint, (v->>'case_index')::int
		from run r join run_event e on e.run_id = r.id, jsonb_array_elements(e.events) v where r.number = $1 and v->>'kind' = 'result'`, run)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var at float64
		var c crossing
		if err := rows.Scan(&at, &c.leg, &c.index); err != nil {
			return nil, err
		}
		committed[c] = at
	}
	drawn := t.times("DrawFrame")
	var waits []float64
	for _, e := range t {
		rest, ok := strings.CutPrefix(e.Name, "crossing ")
		if !ok {
			continue
		}
		words := strings.SplitN(rest, " ", 3)
		wall, err := strconv.ParseFloat(words[1], 64)
		label, _, found := strings.Cut(words[2], ":")
		at, known := committed[named[label]]
		i, _ := slices.BinarySearch(drawn, e.TS)
		if err != nil || !found || !known || i == len(drawn) {
			continue
		}
		waits = append(waits, wall+(drawn[i]-e.TS)/1000-at)
	}
	return waits, rows.Err()
}

// scroll measures an attempt whose log has very many lines.
func (r *rig) scroll(ctx context.Context, tab *browser.Tab) (frames, error) {
	var b strings.Builder
	for i := range logLines {
		fmt.Fprintf(&b, "%9.3f %-5s %s: line %d of many, with as many words as such lines have\n", float64(i)/1000,
			[]string{"debug", "info", "warn"}[i%3], "timetable", i)
	}
	run, leg, index, err := r.keepLog(ctx, b.String())
	if err != nil {
		return frames{}, err
	}
	if err := tab.Go(fmt.Sprintf("%s/runs/%d?leg=%d&case=%d", r.client.Base(), run, leg, index)); err != nil {
		return frames{}, err
	}
	if err := tab.Await(fmt.Sprintf(`Number(document.querySelector("[aria-label=Moments]").dataset.log) === %d`,
		logLines)); err != nil {
		return frames{}, err
	}
	if err := tab.Run(`(() => { const box = document.querySelector("[aria-label=Moments]"); box.scrollTop = 0; const on = () => { box.scrollTop = (box.scrollTop + 66000) % box.scrollHeight; requestAnimationFrame(on); }; requestAnimationFrame(on); })()`); err != nil {
		return frames{}, err
	}
	t, err := trace(ctx, tab, 8*time.Second)
	return t.frames(), err
}

// keepLog gives some case a log of that text, as its host would have.
func (r *rig) keepLog(ctx context.Context, text string) (run, leg int64, index int, err error) {
	digest, err := r.upload(ctx, text)
	if err != nil {
		return
	}
	err = r.db.QueryRowContext(ctx, `
		with one as (select r.project_id, r.run_id, r.lease_id, r.leg_id, r.case_index from result r limit 1),
		kept as (insert into evidence (project_id, run_id, lease_id, case_index, sort, name, media_type, digest, size)
			select project_id, run_id, lease_id, case_index, 'log', 'log', 'text/plain; charset=utf-8', $1, $2 from one returning id)
		select run.number, one.leg_id, one.case_index from kept, one join run on run.id = one.run_id`, digest,
		len(text)).Scan(&run, &leg, &index)
	return
}

// event is one of a trace, in the form of Chromium's trace events.
type event struct {
	Name string  `json:"name"`
	Cat  string  `json:"cat"`
	TS   float64 `json:"ts"`  // µs
	Dur  float64 `json:"dur"` // µs
	PID  int     `json:"pid"`
	TID  int     `json:"tid"`
	Args struct {
		Name string `json:"name"` // of a thread
		Data struct {
			URL string `json:"url"`
		} `json:"data"`
	} `json:"args"`
}

type recording []event

// frames are how smoothly a page went.
type frames struct {
	fps, seconds, longest float64 // frames a second, s, ms
	long                  int     // tasks over 50 ms
}

// trace records what the browser does for a time.
func trace(ctx context.Context, tab *browser.Tab, d time.Duration) (recording, error) {
	var all recording
	complete := make(chan struct{})
	listen, stop := context.WithCancel(tab.Context())
	defer stop()
	chromedp.ListenTarget(listen, func(e any) {
		switch e := e.(type) {
		case *tracing.EventDataCollected:
			for _, raw := range e.Value {
				var one event
				if json.Unmarshal(raw, &one) == nil {
					all = append(all, one)
				}
			}
		case *tracing.EventTracingComplete:
			close(complete)
		}
	})
	if err := tab.Do(tracing.Start().WithTransferMode(tracing.TransferModeReportEvents).WithTraceConfig(
		&tracing.TraceConfig{
			IncludedCategories: []string{"devtools.timeline", "disabled-by-default-devtools.timeline.frame",
				"devtools.timeline.frame", "toplevel", "blink.user_timing", "__metadata"}})); err != nil {
		return nil, err
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if err := tab.Do(tracing.End()); err != nil {
		return nil, err
	}
	select {
	case <-complete:
	case <-time.After(time.Minute):
		return nil, fmt.Errorf("the browser does not hand its trace over")
	}
	return all, nil
}

// times are when events of a name happened, in order.
func (t recording) times(name string) []float64 {
	var out []float64
	for _, e := range t {
		if e.Name == name {
			out = append(out, e.TS)
		}
	}
	slices.Sort(out)
	return out
}

// frames counts the frames drawn, and finds the long tasks of the main thread of
// the page: of the process that drew most frames.
func (t recording) frames() frames {
	drawn := t.times("DrawFrame")
	if len(drawn) < 2 {
		return frames{}
	}
	pids := map[int]int{}
	for _, e := range t {
		if e.Name == "DrawFrame" {
			pids[e.PID]++
		}
	}
	page, most := 0, 0
	for pid, n := range pids {
		if n > most {
			page, most = pid, n
		}
	}
	main := 0
	for _, e := range t {
		if e.Name == "thread_name" && e.PID == page && e.Args.Name == "CrRendererMain" {
			main = e.TID
		}
	}
	var f frames
	f.seconds = (drawn[len(drawn)-1] - drawn[0]) / 1e6
	f.fps = float64(len(drawn)-1) / f.seconds
	for _, e := range t {
		if (e.Name == "RunTask" || e.Name == "ThreadControllerImpl::RunTask") && e.PID == page && e.TID == main {
			f.longest = max(f.longest, e.Dur/1000)
			if e.Dur > 50_000 {
				f.long++
			}
		}
	}
	return f
}
