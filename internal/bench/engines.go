package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
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
	"yamato/internal/host/remote"
)

// engineFigures is what is measured of a handset with one engine.
type engineFigures struct {
	boot, fresh, same, tap, picture, step float64 // ms; step is the mean of the suite's
	cases, steps                          int
	suite                                 float64 // s
}

// onEngines measures handsets with each engine on the same app and suite, in one run.
func (r *rig) onEngines(ctx context.Context, page *strings.Builder) error {
	command := []string{r.program, keeper.Argument}
	facts := func(name, os string) fleet.Device {
		return fleet.Device{Name: name, Site: "desk", Kind: fleet.Emulator, Platform: "web", Model: "Kaede 7", Form: "phone",
			OS: os, Width: 408, Height: 896, MemoryMB: 8192, Traits: []string{}}
	}
	packages, err := demo.Packages(demo.Versions[0], time.Now())
	if err != nil {
		return err
	}
	app, err := appOf(r.dir, packages[3].File, packages[3].Data)
	if err != nil {
		return err
	}
	texts, err := appfile.ReadTexts(bytes.NewReader(packages[3].Data), int64(len(packages[3].Data)))
	if err != nil {
		return err
	}
	suites, err := demo.Suites()
	if err != nil {
		return err
	}
	var of [3]engineFigures
	for i, d := range []driver.Device{
		handset.New(handset.Config{Device: facts("kaede-7-h1", "")}, &handset.Browser{Keeper: command, Dir: r.dir}),
		remote.NewGecko(remote.Config{Device: facts("kaede-7-g1", "Gecko")}, command, ""),
		remote.NewWebKit(remote.Config{Device: facts("kaede-7-w1", "WebKit")}, command, ""),
	} {
		s, _ := script.ReadWith(suites["tickets.yamato"], script.FileMap(suites))
		o := script.Options{App: app.Package.ApplicationID, Words: texts.Speaker().Say, Secrets: demo.Secrets}
		err := errors.Join(of[i].measure(ctx, d, app, s, o), d.Close())
		if err != nil {
			return err
		}
	}
	row := func(what string, get func(engineFigures) float64) {
		fmt.Fprintf(page, "| %s | %.0f | %.0f (%.1f times) | %.0f (%.1f times) |\n", what, get(of[0]), get(of[1]), get(of[1])/get(of[0]), get(of[2]),
			get(of[2])/get(of[0]))
	}
	fmt.Fprintf(page, `## E: engines

A handset each with Blink, Gecko and WebKit, one after the other, on the sample's web build and its suite *Buying a
ticket* (%d cases, %d steps), in this run. Times in milliseconds, medians of 10 but for the first and the last; in
brackets how many times Blink's.

| | Blink | Gecko | WebKit |
|---|---|---|---|
`, of[0].cases, of[0].steps)
	row("from switched off to ready", func(f engineFigures) float64 { return f.boot })
	row("a fresh start of the app", func(f engineFigures) float64 { return f.fresh })
	row("a look at a screen that has not changed", func(f engineFigures) float64 { return f.same })
	row("from a tap to the changed screen", func(f engineFigures) float64 { return f.tap })
	row("a picture, decoded", func(f engineFigures) float64 { return f.picture })
	row("a step of the suite, mean", func(f engineFigures) float64 { return f.step })
	page.WriteString("\n")
	return nil
}

func (f *engineFigures) measure(ctx context.Context, d driver.Device, app driver.App, s *script.Suite, o script.Options) error {
	ms := func(what func() error) (float64, error) {
		began := time.Now()
		err := what()
		return float64(time.Since(began).Microseconds()) / 1000, err
	}
	var err error
	if f.boot, err = ms(func() error { return d.Ready(ctx, driver.Terms{}) }); err != nil {
		return err
	}
	if err := d.Install(ctx, app); err != nil {
		return err
	}
	id := app.Package.ApplicationID
	many := func(what func() error) (float64, error) {
		return median(10, func() (time.Duration, error) {
			began := time.Now()
			err := what()
			return time.Since(began), err
		})
	}
	if f.fresh, err = many(func() error { return d.Start(ctx, id, device.Fresh) }); err != nil {
		return err
	}
	if f.same, err = many(func() error { _, err := d.Tree(ctx); return err }); err != nil {
		return err
	}
	if f.picture, err = many(func() error {
		p, err := d.Picture(ctx)
		if err == nil {
			_, err = p.Image()
		}
		return err
	}); err != nil {
		return err
	}
	tabs := []string{"tickets", "wallet"}
	n := 0
	if f.tap, err = many(func() error {
		before, err := d.Tree(ctx)
		if err != nil {
			return err
		}
		found := screen.Locator{Role: "tab", Called: screen.Match{Text: map[string]string{"tickets": "Tickets", "wallet": "Wallet"}[tabs[n%2]]}}.Find(before)
		n++
		if len(found) != 1 {
			return fmt.Errorf("there is no tab %s", tabs[n%2])
		}
		if err := d.Tap(ctx, found[0].Visible.Centre()); err != nil {
			return err
		}
		for {
			after, err := d.Tree(ctx)
			if err != nil || after.Revision > before.Revision {
				return err
			}
			if err := d.AwaitChange(ctx, after.Revision, d.Now()+time.Second); err != nil {
				return err
			}
		}
	}); err != nil {
		return err
	}
	began := time.Now()
	for _, c := range s.Cases {
		r := script.RunCase(ctx, s, c, d, o, nothing{})
		if r.Verdict != "pass" {
			return fmt.Errorf("%q ended in %s: %+v %w", c.Name, r.Verdict, r.Failure, r.Err)
		}
		f.cases++
		f.steps += len(r.Steps)
	}
	f.suite = time.Since(began).Seconds()
	f.step = f.suite * 1000 / float64(f.steps)
	return nil
}
