package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/storage"
	"github.com/chromedp/chromedp"

	"yamato/internal/browser"
	"yamato/internal/core/script"
	"yamato/internal/host/handset"
	"yamato/internal/host/keeper"
)

// A flow of twenty steps: ten taps, each with what has to come of it, which comes at once, after a frame,
// after a timer or with an answer. It is driven as a script on handsets, and straight over the browser's
// protocol by a program that waits ideally: it is told by the page the moment that what it waits for is there.
const flowPage = `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Flow</title>
<style>button{display:block;margin:6px;padding:10px 20px}</style><div id="all"></div><p id="said">-</p><script>
const all = document.getElementById('all'), said = document.getElementById('said');
const ways = [(f) => f(), (f) => requestAnimationFrame(f), (f) => setTimeout(f, 30), (f) => Promise.resolve().then(f), (f) => fetch('flow.txt').then((r) => r.text()).then(f)];
for (let i = 0; i < 10; i++) {
  const b = document.createElement('button');
  b.id = 'b' + i; b.textContent = 'Step ' + i;
  b.onclick = () => ways[i % ways.length](() => { said.textContent = 'done ' + i; });
  all.append(b);
}
for (let i = 0; i < 150; i++) { const p = document.createElement('p'); p.textContent = 'Crossing ' + i; all.parentNode.append(p); }
</script>`

const flowSteps = 10

type flowTimes struct{ ours, unhurried, straight map[int]float64 }

// flowFigures measures flows, and writes of them.
func (r *rig) flowFigures(ctx context.Context, page *strings.Builder) error {
	b := &handset.Browser{Keeper: []string{r.program, keeper.Argument}, Dir: r.dir}
	flow, err := measureFlow(ctx, b, r.dir)
	if err != nil {
		return err
	}
	fmt.Fprintf(page, `## J: a flow of twenty steps in a browser

Ten taps, each with what has to come of it (at once, with the next frame, after 30 ms, with a promise, with an answer), on a
page of 170 elements, begun afresh. Medians, in milliseconds. Driven straight means: by a program over the browser's
protocol that the page itself tells the moment when what is waited for is there.

| at once | 1 | 4 | 8 |
|---|---|---|---|
| as a script on handsets | %.0f | %.0f | %.0f |
| the same, screens waited for as if nothing were known of the app | %.0f | %.0f | %.0f |
| driven straight | %.0f | %.0f | %.0f |
| as a script, to straight (aim: at most 1.2) | **%.2f** | **%.2f** | **%.2f** |

`, flow.ours[1], flow.ours[4], flow.ours[8], flow.unhurried[1], flow.unhurried[4], flow.unhurried[8],
		flow.straight[1], flow.straight[4], flow.straight[8], flow.ours[1]/flow.straight[1],
		flow.ours[4]/flow.straight[4],
		flow.ours[8]/flow.straight[8])
	return nil
}

// measureFlow gives milliseconds a flow, by how many run at once.
func measureFlow(ctx context.Context, b *handset.Browser, dir string) (f flowTimes, err error) {
	f = flowTimes{map[int]float64{}, map[int]float64{}, map[int]float64{}}
	app, err := bundleOf(dir, map[string]string{"index.html": flowPage, "flow.txt": "here",
		"manifest.webmanifest": `{"name": "Flow", "id": "example.flow", "start_url": "/", "version": "1.0.0+1"}`})
	if err != nil {
		return f, err
	}
	text := "suite \"Flow\"\ncase \"flow\"\n"
	for i := range flowSteps {
		text += fmt.Sprintf("tap #b%d\nexpect #said shows \"done %d\"\n", i, i)
	}
	suite, findings := script.Read(text + "end\n")
	if script.Faults(findings) > 0 {
		return f, fmt.Errorf("the flow: %+v", findings)
	}
	for _, n := range []int{1, 4, 8} {
		for _, unhurried := range []bool{false, true} {
			into := f.ours
			if unhurried {
				into = f.unhurried
			}
			if into[n], err = flowsOfOurs(ctx, b, app.Package.ApplicationID, n, unhurried, suite,
				func(d *handset.Device) error { return d.Install(ctx, app) }); err != nil {
				return f, err
			}
		}
		if f.straight[n], err = flowsStraight(ctx, n); err != nil {
			return f, err
		}
	}
	return f, nil
}

// rounds is how many flows each device runs; the middle one counts.
const rounds = 4

func flowsOfOurs(ctx context.Context, b *handset.Browser, id string, n int, unhurried bool, suite *script.Suite,
	install func(*handset.Device) error) (float64, error) {
	one := func(i int) (func() error, func() error, error) {
		d := handset.New(handsetConfig(fmt.Sprintf("kaede-7-h%d", i), unhurried), b)
		err := readyHandset(ctx, d)
		if err == nil {
			err = install(d)
		}
		return func() error {
			r := script.RunCase(ctx, suite, suite.Cases[0], d, script.Options{App: id}, nothing{})
			if r.Verdict != "pass" {
				return fmt.Errorf("the flow ended in %s: %+v", r.Verdict, r.Failure)
			}
			return nil
		}, d.Close, err
	}
	return atOnce(n, one)
}

func flowsStraight(ctx context.Context, n int) (float64, error) {
	serve := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, ".txt") {
			_, _ = w.Write([]byte("here"))
			return
		}
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(flowPage))
	}))
	defer serve.Close()
	b, err := browser.Open(ctx)
	if err != nil {
		return 0, err
	}
	defer b.Close()
	one := func(int) (func() error, func() error, error) {
		tab, err := b.Tab()
		if err != nil {
			return nil, nil, err
		}
		err = tab.Do(emulation.SetDeviceMetricsOverride(408, 896, 2, true), emulation.SetTouchEmulationEnabled(true))
		return func() error { return straight(tab, serve.URL) }, func() error { tab.Close(); return nil }, err
	}
	return atOnce(n, one)
}

// straight drives the flow over the protocol.
func straight(tab *browser.Tab, url string) error {
	if err := tab.Do(storage.ClearDataForOrigin(url, "all")); err != nil {
		return err
	}
	if err := tab.Go(url); err != nil {
		return err
	}
	if err := tab.Await("document.readyState === 'complete' && !!document.getElementById('b9')"); err != nil {
		return err
	}
	for i := range flowSteps {
		var at []float64
		where := fmt.Sprintf("(() => { const r = document.getElementById('b%d').getBoundingClientRect(); return [r.left + r.width / 2, r.top + r.height / 2] })()", i)
		if err := tab.Do(chromedp.Evaluate(where, &at)); err != nil {
			return err
		}
		var came bool
		await := fmt.Sprintf("new Promise((done) => { const look = () => { if (said.textContent === 'done %d') { done(true); return true } }; if (!look()) { const o = new MutationObserver(() => { if (look()) o.disconnect() }); o.observe(said, {childList: true, characterData: true, subtree: true}) } })", i)
		if err := tab.Do(input.DispatchTouchEvent(input.TouchStart, []*input.TouchPoint{{X: at[0], Y: at[1]}}),
			input.DispatchTouchEvent(input.TouchEnd, []*input.TouchPoint{}), chromedp.Evaluate(await, &came,
				chromedp.EvalAsValue, browser.Promised)); err != nil {
			return err
		}
		if !came {
			return errors.New("what the tap does did not come")
		}
	}
	return nil
}

// atOnce runs flows on n devices at once, and gives the middle of what one takes, in milliseconds.
func atOnce(n int, one func(int) (run, end func() error, err error)) (float64, error) {
	var runs []func() error
	var err error
	for i := range n {
		run, end, failed := one(i)
		if end != nil {
			defer func() { _ = end() }()
		}
		if failed != nil {
			return 0, failed
		}
		runs = append(runs, run)
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	var took []float64
	for _, run := range runs {
		all.Go(func() {
			for i := range rounds {
				began := time.Now()
				failed := run()
				mu.Lock()
				err = errors.Join(err, failed)
				if i > 0 { // the first warms up
					took = append(took, float64(time.Since(began).Microseconds())/1000)
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	slices.Sort(took)
	fmt.Fprintf(os.Stderr, "flows on %d at once: %.0f ms\n", n, took)
	if err != nil || len(took) == 0 {
		return 0, err
	}
	return took[len(took)/2], nil
}
