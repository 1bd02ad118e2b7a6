package main

import (
	"archive/zip"
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"yamato/demo"
	"yamato/internal/browser"
	"yamato/internal/client"
	"yamato/internal/contract"
)

const (
	handSessions = 8
	handWindow   = 4 * time.Second
	handTaps     = 30
)

// moving is an app for stand-ins: a list that scrolls by itself once it is told to, and a button that changes.
const moving = `
let taps = 0, at = 0, on = 0;
const every = (ms) => { if (on) os.cancel(on); on = on && ms === 30 ? 0 : os.every(ms, () => { at++; }); };
os.show(() => ui.column({ground: "#f7f4ec"},
  ui.button({id: "go", text: "Taps " + taps, h: 90, ground: taps % 2 ? "#16324a" : "#b02c16", ink: "#ffffff", onTap: () => { taps++; }}),
  ui.button({id: "move", text: on ? "Stand" : "Move", h: 60, onTap: () => every(30)}),
  ui.button({id: "calm", text: "Move calmly", h: 60, onTap: () => every(60)}),
  ...Array.from({length: 16}, (_, i) => ui.row({pad: 8, h: 40, ground: (i + at) % 2 ? "#ffffff" : "#e6dfd0"},
    ui.text({text: "Crossing " + (i + at)}), ui.text({text: "07:" + String((i + at) % 60).padStart(2, "0")})))));`

// movingPage is the same for handsets.
const movingPage = `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width, initial-scale=1">
<link rel="manifest" href="manifest.webmanifest"><title>Moving</title><style>body{margin:0;font:16px sans-serif}button{display:block;width:100%;height:90px;border:0;color:#fff;background:#b02c16}
#move{height:60px;background:#16324a}#list{height:700px;overflow:hidden}p{margin:0;padding:10px}</style>
<button id="go">Taps 0</button><button id="move">Move</button><div id="list"></div><script>
let taps = 0, on = false, at = 0;
list.innerHTML = Array.from({length: 400}, (_, i) => "<p>Crossing " + i + "</p>").join("");
go.onclick = () => { taps++; go.textContent = "Taps " + taps; go.style.background = taps % 2 ? "#16324a" : "#b02c16"; };
move.onclick = () => { on = !on; tick(); };
function tick() { if (!on) return; at = (at + 4) % 8000; list.scrollTop = at; requestAnimationFrame(tick); }
</script>`

// byHand measures sessions in a real browser.
func (r *rig) byHand(ctx context.Context, page *strings.Builder) error {
	var site strings.Builder
	site.WriteString("site: bench\ndriver: standin\nmodels:\n  - {model: Kaede 7, platform: android, form: phone, width: 408, height: 896, memory_mb: 8192}\ndevices:\n")
	for i := range handSessions {
		fmt.Fprintf(&site, "  - {name: kaede-7-%d, model: Kaede 7, kind: emulator, os: \"14\"}\n", i+1)
	}
	apk, err := demo.PackAndroid(demo.App{ID: "example.moving", Name: "Moving", Version: demo.Version{Name: "1.0",
		Code: 1}, MinimumAPI: 30,
		Program: []byte(moving), Texts: map[string]map[string]string{"app_name": {"": "Moving"}}})
	if err != nil {
		return err
	}
	standIn, err := r.handFigures(ctx, "byhand", site.String(), "moving.apk", apk, handSessions)
	if err != nil {
		return err
	}
	var web bytes.Buffer
	z := zip.NewWriter(&web)
	for name, text := range map[string]string{"index.html": movingPage,
		"manifest.webmanifest": `{"name": "Moving", "id": "example.moving", "start_url": "/", "version": "1.0.0+1"}`} {
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write([]byte(text))
		}
		if err != nil {
			return err
		}
	}
	if err := z.Close(); err != nil {
		return err
	}
	handset, err := r.handFigures(ctx, "byhandset", `site: desk
driver: handset
models:
  - {model: Kaede 7, platform: web, form: phone, width: 408, height: 896, memory_mb: 8192}
devices:
  - {name: kaede-7-1, model: Kaede 7, kind: emulator}
`, "moving.zip", web.Bytes(), 1)
	if err != nil {
		return err
	}
	fmt.Fprintf(page, `## S: by hand

A session at 408 x 896 in the console, in headless Chromium on loopback, on the cores that all else uses too: what was drawn on
its page, and when. %d taps each.

| | stand-in | handset |
|---|---|---|
| frames a second while the app moves | **%.0f** (aim: 25) | **%.0f** (aim: 25) |
| from a tap to changed pixels, median, ms | **%.0f** | **%.0f** |
| the same, 95th percentile, ms | **%.0f** (aim: under 120) | **%.0f** (aim: under 120) |
| of a core, service and host, that a still screen takes more than none | **%.1f %%** (aim: under 1) | **%.1f %%** (its browser counted in) |
| memory a session, service and host, MB | **%.1f** | |

%d sessions at once, whose apps change 16 times a second, in two pages with four each: **%.0f to %.0f** frames a second each (aim: 12).

`, handTaps, standIn.fps, handset.fps, standIn.median, handset.median, standIn.late, handset.late, standIn.still*100, handset.still*100,
		standIn.memory, handSessions, slices.Min(standIn.together), slices.Max(standIn.together))
	return nil
}

type handFigures struct {
	fps, median, late, still, memory float64
	together                         []float64
}

// drawn has a page note when frames are drawn on its canvases, by canvas.
const drawn = `window.drawn = new Map(); { const draw = CanvasRenderingContext2D.prototype.drawImage;
CanvasRenderingContext2D.prototype.drawImage = function (...a) { const l = window.drawn.get(this.canvas) ?? []; l.push(performance.now()); window.drawn.set(this.canvas, l); return draw.apply(this, a); }; }`

func (r *rig) handFigures(ctx context.Context, database, site, file string, pack []byte, sessions int) (f handFigures,
	err error) {
	if r.db, err = sql.Open("pgx", r.box.URL("postgres")); err != nil {
		return f, err
	}
	if err := r.serve(ctx, database); err != nil {
		return f, err
	}
	defer r.close()
	if err := r.attach(ctx, database, site, sessions); err != nil {
		return f, err
	}
	a, err := r.client.AddPackageWithBodyWithResponse(ctx, "default", &contract.AddPackageParams{FileName: file},
		"application/octet-stream",
		bytes.NewReader(pack))
	if err != nil || a.JSON200 == nil {
		return f, fmt.Errorf("pushing a package: %w", err)
	}
	if _, err := client.As[contract.Build](r.client.MakeBuild(ctx, "default",
		contract.NewBuild{Packages: []string{a.JSON200.Digest}})); err != nil {
		return f, err
	}
	b, err := browser.Open(ctx)
	if err != nil {
		return f, err
	}
	defer b.Close()
	idle, err := r.handTab(ctx, b, "/fleet", 0)
	if err != nil {
		return f, err
	}
	without := r.busyFor(handWindow) // what service and host take with a page open and nobody at a device
	idle.Close()
	before := residentKB(r.host.Process.Pid) + residentKB(r.service.Process.Pid)
	if err := r.openHand(ctx, "kaede-7-1"); err != nil {
		return f, err
	}
	tab, err := r.handTab(ctx, b, "/by-hand/1", 1)
	if err != nil {
		return f, err
	}
	if err := r.line(ctx, 1, "tap #go"); err != nil {
		return f, err
	}
	f.still = max(0, r.busyFor(handWindow)-without)
	if f.median, f.late, err = taps(tab); err != nil {
		return f, err
	}
	if err := r.line(ctx, 1, "tap #move"); err != nil {
		return f, err
	}
	rates, err := framesIn(tab, handWindow)
	if err != nil {
		return f, err
	}
	f.fps = rates[0]
	tab.Close()
	if sessions == 1 {
		return f, nil
	}
	for i := 1; i <= sessions; i++ {
		if i > 1 {
			err = r.openHand(ctx, fmt.Sprintf("kaede-7-%d", i))
		}
		if err != nil {
			return f, err
		}
		if err := r.line(ctx, int64(i), "tap #calm"); err != nil {
			return f, err
		}
	}
	left, err := r.handTab(ctx, b, "/by-hand/side?of=1,2,3,4", 4)
	if err != nil {
		return f, err
	}
	right, err := r.handTab(ctx, b, "/by-hand/side?of=5,6,7,8", 4)
	if err != nil {
		return f, err
	}
	done := make(chan error, 1)
	var others []float64
	go func() {
		var err error
		others, err = framesIn(right, handWindow)
		done <- err
	}()
	f.together, err = framesIn(left, handWindow)
	if err := <-done; err != nil {
		return f, err
	}
	f.together = append(f.together, others...)
	f.memory = float64(residentKB(r.host.Process.Pid)+residentKB(r.service.Process.Pid)-before) / 1024 / float64(sessions)
	return f, err
}

func (r *rig) openHand(ctx context.Context, device string) error {
	build := "#1"
	s, err := client.As[contract.Session](r.client.OpenSession(ctx, "default", nil, contract.NewSession{Device: &device,
		Build: &build}))
	if err != nil {
		return err
	}
	wait := 60_000
	s, err = client.As[contract.Session](r.client.GetSession(ctx, "default", s.Number,
		&contract.GetSessionParams{WaitMs: &wait}))
	if err == nil && s.State != "open" {
		err = fmt.Errorf("the session is %s", s.State)
	}
	return err
}

func (r *rig) line(ctx context.Context, session int64, text string) error {
	a, err := client.As[contract.SessionAnswer](r.client.OrderSession(ctx, "default", session,
		contract.SessionOrder{Do: "line", Text: &text}))
	if err == nil && a.Trouble != nil {
		err = fmt.Errorf("%s: %s", text, *a.Trouble)
	}
	return err
}

// handTab opens a page of so many screens, signed in, and waits until all are drawn.
func (r *rig) handTab(ctx context.Context, b *browser.Browser, path string, screens int) (*browser.Tab, error) {
	in, err := client.As[contract.SignIn](r.client.MakeSignIn(ctx))
	if err != nil {
		return nil, err
	}
	tab, err := b.Tab()
	if err != nil {
		return nil, err
	}
	tab.Patience(time.Minute)
	for _, step := range []func() error{
		func() error { return tab.Go(r.client.Base() + "/sign-in#" + in.Code) },
		func() error { return tab.Await(`location.pathname === "/"`) },
		func() error { return tab.Go(r.client.Base() + path) },
		func() error { return tab.Run(drawn) },
		func() error {
			return tab.Await(fmt.Sprintf(`[...document.querySelectorAll("canvas")].filter((c) => c.width > 100).length === %d`, screens))
		},
	} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	return tab, nil
}

// framesIn counts the frames a second that a page draws on each of its canvases.
func framesIn(tab *browser.Tab, window time.Duration) (rates []float64, err error) {
	err = tab.Ask(fmt.Sprintf(`new Promise((done) => { window.drawn.clear(); setTimeout(() => done([...document.querySelectorAll("canvas")].map((c) => (window.drawn.get(c)?.length ?? 0) / %g)), %d); })`,
		window.Seconds(), window.Milliseconds()), &rates)
	return rates, err
}

// taps gives the median and the 95th percentile, in ms, of the time from a touch on the page to the frame that shows
// what it did.
func taps(tab *browser.Tab) (median, late float64, err error) {
	var list []float64
	err = tab.Ask(fmt.Sprintf(`(async () => {
		const c = document.querySelector("canvas"), out = [], pause = (ms) => new Promise((r) => setTimeout(r, ms));
		c.setPointerCapture = () => {};
		for (let i = 0; i < %d; i++) {
			await pause(400);
			const r = c.getBoundingClientRect(), at = {bubbles: true, pointerId: 1, pointerType: "mouse", button: 0, clientX: r.x + r.width / 2, clientY: r.y + r.height * 0.08};
			window.drawn.clear();
			const began = performance.now();
			c.dispatchEvent(new PointerEvent("pointerdown", at));
			c.dispatchEvent(new PointerEvent("pointerup", at));
			while (!window.drawn.get(c)?.length && performance.now() - began < 2000) await pause(2);
			out.push((window.drawn.get(c)?.[0] ?? performance.now()) - began);
		}
		return out.sort((a, b) => a - b);
	})()`, handTaps), &list)
	if err != nil || len(list) == 0 {
		return 0, 0, err
	}
	return list[len(list)/2], list[len(list)*95/100], nil
}

// busyFor tells which part of a core service and host, with what they have started, use in a time.
func (r *rig) busyFor(window time.Duration) float64 {
	all := func() (sum time.Duration) {
		for _, cmd := range []*exec.Cmd{r.service, r.host} {
			sum += cpuOf(cmd.Process.Pid)
		}
		return sum
	}
	began, from := all(), time.Now()
	wait := syscall.NsecToTimespec(window.Nanoseconds())
	_ = syscall.Nanosleep(&wait, nil)
	return float64(all()-began) / float64(time.Since(from))
}

// cpuOf gives the processor time of a process and of what it has started.
func cpuOf(pid int) time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	if len(fields) < 13 {
		return 0
	}
	var user, system int64
	_, _ = fmt.Sscan(fields[11], &user)
	_, _ = fmt.Sscan(fields[12], &system)
	sum := time.Duration(user+system) * 10 * time.Millisecond // of 1/100 s each (proc(5))
	for _, child := range childrenOf(pid) {
		sum += cpuOf(child)
	}
	return sum
}
