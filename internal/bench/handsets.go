package main

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/driver"
	"yamato/internal/host/handset"
	"yamato/internal/host/keeper"
)

// listPage is an app of a list, whose first entry changes when the button is tapped.
const listPage = `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>List</title><style>body{margin:0} #all{height:600px;overflow-y:auto}</style>
<button id="more" onclick="document.querySelector('li').textContent = 'entry ' + (++n)">More</button><ul id="all"></ul>
<script>let n = 0, h = ''; for (let i = 0; i < %d; i++) h += '<li>entry ' + i + '</li>';
document.getElementById('all').innerHTML = h;
addEventListener('touchmove', () => {});</script>`

// handsetFigures measures handsets in the browser of this machine.
func (r *rig) handsetFigures(ctx context.Context, page *strings.Builder) error {
	command := []string{r.program, keeper.Argument}
	b := &handset.Browser{Keeper: command, Dir: r.dir}
	var list [2]listFigures
	for i, n := range []int{200, 3000} {
		var err error
		if list[i], err = measureList(ctx, b, r.dir, n); err != nil {
			return err
		}
	}
	rates := map[int]float64{}
	memory := 0.0
	for _, n := range []int{1, 4, 8} {
		rate, mb, err := casesOn(ctx, b, r.dir, n)
		if err != nil {
			return err
		}
		rates[n] = rate
		memory = mb
	}
	fmt.Fprintf(page, `## H: handsets

Medians of 30, in milliseconds, in one Chromium on the two cores that all else uses too. Beside
them one round trip of the browser's protocol, in the same run.

| | 200 elements | 3000 elements |
|---|---|---|
| one round trip of the protocol | %.1f | %.1f |
| tree, the first of a document | %.0f (aim: under 10) | %.0f (aim: under 60) |
| tree, after one element has changed | **%.1f** | **%.1f** (aim: under 20) |
| tree, where nothing has changed | %.1f | %.1f |
| from a tap to the changed tree | **%.0f** (aim: under 50) | **%.0f** |
| picture, decoded | %.0f | %.0f |
| frames a second while the list scrolls | **%.0f** (aim: 25) | **%.0f** |

| handsets at once | 1 | 4 | 8 |
|---|---|---|---|
| cases of the sample's suites a second | %.2f | %.2f | %.2f |

Memory a handset, with 8 of them: **%.0f MB** (resident, of all of the browser's processes; what they
share is counted with each).

`, list[0].trip, list[1].trip, list[0].first, list[1].first, list[0].changed, list[1].changed, list[0].same,
		list[1].same, list[0].tap, list[1].tap, list[0].picture, list[1].picture, list[0].fps, list[1].fps, rates[1],
		rates[4], rates[8], memory)
	return nil
}

type listFigures struct{ trip, first, changed, same, tap, picture, fps float64 }

func bundleOf(dir string, files map[string]string) (driver.App, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, text := range files {
		w, err := z.Create(name)
		if err != nil {
			return driver.App{}, err
		}
		if _, err := w.Write([]byte(text)); err != nil {
			return driver.App{}, err
		}
	}
	if err := z.Close(); err != nil {
		return driver.App{}, err
	}
	return appOf(dir, "list.zip", out.Bytes())
}

func appOf(dir, name string, data []byte) (driver.App, error) {
	p, err := appfile.Read(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return driver.App{}, err
	}
	path := filepath.Join(dir, name)
	return driver.App{Package: *p, Path: path}, os.WriteFile(path, data, 0o600)
}

func openHandset(ctx context.Context, b *handset.Browser, name string, app driver.App) (*handset.Device, error) {
	d := handset.New(handsetConfig(name, false), b)
	err := readyHandset(ctx, d)
	if err == nil {
		err = d.Install(ctx, app)
	}
	if err == nil {
		err = d.Start(ctx, app.Package.ApplicationID, device.Fresh)
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// handsetConfig is one with the screen of a Kaede 7.
func handsetConfig(name string, unhurried bool) handset.Config {
	return handset.Config{Unhurried: unhurried, Device: fleet.Device{Name: name, Site: "desk", Kind: fleet.Emulator,
		Platform: "web",
		Model:    "Kaede 7", Form: "phone", OS: "1", Width: 408, Height: 896, MemoryMB: 8192}}
}

func readyHandset(ctx context.Context, d *handset.Device) error {
	return d.Ready(ctx, driver.Terms{})
}

func measureList(ctx context.Context, b *handset.Browser, dir string, n int) (f listFigures, err error) {
	app, err := bundleOf(dir, map[string]string{"index.html": fmt.Sprintf(listPage, n),
		"manifest.webmanifest": `{"name": "List", "id": "example.list", "start_url": "/", "version": "1.0.0+1"}`})
	if err != nil {
		return f, err
	}
	d, err := openHandset(ctx, b, "kaede-7-h1", app)
	if err != nil {
		return f, err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	id := app.Package.ApplicationID
	if f.first, err = median(5, func() (time.Duration, error) {
		if err := d.Start(ctx, id, device.Fresh); err != nil {
			return 0, err
		}
		return d.FirstLook(ctx)
	}); err != nil {
		return f, err
	}
	timed := func(do func() error) func() (time.Duration, error) {
		return func() (time.Duration, error) {
			began := time.Now()
			err := do()
			return time.Since(began), err
		}
	}
	look := func() error { _, err := d.Tree(ctx); return err }
	tree, err := d.Tree(ctx)
	if err != nil {
		return f, err
	}
	button := screen.Locator{ID: "more"}.Find(tree)[0].Visible.Centre()
	tap := func() error { return d.Tap(ctx, button) }
	var errs [5]error
	f.trip, errs[0] = median(30, timed(func() error { return d.RoundTrip(ctx) }))
	f.same, errs[1] = median(30, timed(look))
	f.changed, errs[2] = median(30, func() (time.Duration, error) {
		if err := tap(); err != nil {
			return 0, err
		}
		return timed(look)()
	})
	f.tap, errs[3] = median(30, timed(func() error { return errors.Join(tap(), look()) }))
	f.picture, errs[4] = median(10, timed(func() error {
		p, err := d.Picture(ctx)
		if err == nil {
			_, err = p.Image()
		}
		return err
	}))
	if err := errors.Join(errs[:]...); err != nil {
		return f, err
	}
	f.fps, err = framesOf(ctx, d)
	return f, err
}

// framesOf counts the frames of two seconds in which fingers scroll the list.
func framesOf(ctx context.Context, d *handset.Device) (float64, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var scrolling sync.WaitGroup
	defer scrolling.Wait()
	const window = 2 * time.Second
	count, began := 0, time.Time{}
	enough := errors.New("enough")
	var failed error
	err := d.Frames(ctx, 408, 896, func(device.Frame) error {
		if began.IsZero() {
			began = time.Now()
			scrolling.Go(func() {
				failed = d.Perform(ctx, device.Drag(screen.Point{X: 200, Y: 560}, screen.Point{X: 200, Y: 80}, window))
			})
		}
		if count++; time.Since(began) > window {
			return enough
		}
		return nil
	})
	if !errors.Is(err, enough) {
		return 0, errors.Join(err, failed)
	}
	return float64(count) / time.Since(began).Seconds(), nil
}

// median gives the middle of n measurements, in milliseconds.
func median(n int, one func() (time.Duration, error)) (float64, error) {
	var all []float64
	for range n {
		took, err := one()
		if err != nil {
			return 0, err
		}
		all = append(all, float64(took.Microseconds())/1000)
	}
	slices.Sort(all)
	return all[len(all)/2], nil
}

// nothing records nothing.
type nothing struct{}

func (nothing) Step(script.StepRecord) {}
func (nothing) Picture(string, device.Picture, *screen.Tree, []screen.Rect, screen.Rect) {
}

// casesOn runs the sample's suites on n handsets at once: cases a second, and megabytes a
// handset.
func casesOn(ctx context.Context, b *handset.Browser, dir string, n int) (rate, mb float64, err error) {
	packages, err := demo.Packages(demo.Versions[0], time.Now())
	if err != nil {
		return 0, 0, err
	}
	app, err := appOf(dir, packages[3].File, packages[3].Data)
	if err != nil {
		return 0, 0, err
	}
	suites, err := demo.Suites()
	if err != nil {
		return 0, 0, err
	}
	var devices []*handset.Device
	defer func() {
		for _, d := range devices {
			err = errors.Join(err, d.Close())
		}
	}()
	for i := range n {
		d, err := openHandset(ctx, b, fmt.Sprintf("kaede-7-h%d", i+1), app)
		if err != nil {
			return 0, 0, err
		}
		devices = append(devices, d)
	}
	texts, err := appfile.ReadTexts(bytes.NewReader(packages[3].Data), int64(len(packages[3].Data)))
	if err != nil {
		return 0, 0, err
	}
	o := script.Options{App: app.Package.ApplicationID, Words: texts.Speaker().Say, Secrets: demo.Secrets,
		Accounts: map[string]map[string]string{demo.Accounts[0].Name: {"user": demo.Accounts[0].User,
			"password": demo.Accounts[0].Password}}}
	var mu sync.Mutex
	var all sync.WaitGroup
	cases, began := 0, time.Now()
	for _, d := range devices {
		all.Go(func() {
			for _, text := range suites {
				s, _ := script.ReadWith(text, script.FileMap(suites))
				for _, c := range s.Cases {
					r := script.RunCase(ctx, s, c, d, o, nothing{})
					mu.Lock()
					cases++
					if r.Verdict != "pass" {
						err = errors.Join(err, fmt.Errorf("%q ended in %s: %+v", c.Name, r.Verdict, r.Failure))
					}
					mu.Unlock()
				}
			}
		})
	}
	all.Wait()
	rate = float64(cases) / time.Since(began).Seconds()
	runtime.KeepAlive(devices)
	return rate, b.MemoryMB() / float64(n), err
}
