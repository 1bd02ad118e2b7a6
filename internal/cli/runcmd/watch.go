package runcmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/report"
)

// patience is how long a follower tries to take up a lost connection again.
const patience = 2 * time.Minute

// How often somebody who waits without a terminal is told how far a run is, and for how
// long nothing has to happen before it is asked what is waited for.
const (
	toldEvery  = 10 * time.Second
	quietAfter = 3 * time.Second
)

// Watch is how a run is waited for.
type Watch struct {
	events  bool          // tell every event, on standard output
	Cancels bool          // whoever breaks off cancels the run
	timeout time.Duration // give up waiting after it, 0 for never; the run goes on
	after   int64         // begin after the event of this number
}

var errTimeout = errors.New("the time to wait is over")

// Await waits until a run ends. It says first which run that is and where it is to be
// seen, then how far it has got and what it waits for.
func (a *App) Await(ctx context.Context, s *client.Service, r contract.Run, w Watch) error {
	if w.events || a.Output == "json" || !a.Animated() {
		fmt.Fprintf(a.Err, "Run %d: %s %s, %s, seed %d: %s/runs/%d\n", r.Number, r.App, r.VersionName,
			ui.Plural(r.Legs, "leg"), r.Seed, s.Base(), r.Number)
	}
	waiting := ctx
	if w.timeout > 0 {
		var stop context.CancelFunc
		waiting, stop = context.WithTimeoutCause(ctx, w.timeout, errTimeout)
		defer stop()
	}
	err := a.followTo(waiting, s, r, w)
	switch {
	case err == nil:
		return nil
	case errors.Is(context.Cause(waiting), errTimeout) && ctx.Err() == nil:
		if d, err := a.Detail(ctx, s, r.Number); err == nil {
			for _, line := range waits(d) {
				fmt.Fprintln(a.Err, "·  "+line.text())
			}
		}
		fmt.Fprintf(a.Err, "yamato: run %d was not done within %s, and goes on\n        follow it: yamato run follow "+
			"%d; end it: yamato run cancel %d\n", r.Number, w.timeout, r.Number, r.Number)
		return ui.Exit{Code: ui.ExitNothing}
	case ctx.Err() != nil && w.Cancels:
		return a.breakOff(ctx, s, r.Number)
	case ctx.Err() != nil:
		fmt.Fprintf(a.Err, "yamato: run %d goes on; end it: yamato run cancel %d\n", r.Number, r.Number)
	}
	return err
}

// breakOff cancels the run that somebody who started it no longer waits for.
func (a *App) breakOff(ctx context.Context, s *client.Service, number int64) error {
	late, stop := context.WithTimeout(context.WithoutCancel(ctx), 15*time.Second)
	defer stop()
	if _, err := client.As[contract.Run](s.CancelRun(late, s.Project, number)); err != nil {
		fmt.Fprintf(a.Err, "yamato: run %d could not be cancelled (%v) and goes on: yamato run cancel %d\n", number,
			err,
			number)
		return ui.Exit{Code: ui.ExitNothing}
	}
	fmt.Fprintf(a.Err, "yamato: run %d is cancelled, as you broke off; what was decided is kept: yamato run show %d\n",
		number, number)
	return ui.Exit{Code: ui.ExitNothing}
}

// followTo follows a run to its end.
func (a *App) followTo(ctx context.Context, s *client.Service, r contract.Run, w Watch) error {
	d, err := a.Detail(ctx, s, r.Number)
	if err != nil {
		return err
	}
	t := newTelling(a, s, d, w)
	happened := make(chan client.Event)
	done := make(chan error, 1)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	go func() { // ends with ctx, or the run
		done <- s.Follow(ctx, r.Number, w.after, patience, a.lost, func(e client.Event) error {
			select {
			case happened <- e:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	tick := time.NewTicker(quietAfter)
	defer tick.Stop()
	defer t.clear()
	for {
		select {
		case e := <-happened:
			if err := t.event(e); err != nil {
				stop()
				<-done
				return err
			}
		case <-tick.C:
			t.quiet(ctx)
		case err := <-done:
			return err
		}
	}
}

// telling tells people, or programs, how a run gets on.
type telling struct {
	app                   *App
	service               *client.Service
	watch                 Watch
	run                   contract.Run
	legs                  map[int64]contract.Leg
	judged, asked, unlike int
	last, told            time.Time // when something happened, and when that was told
	changed               bool      // since it was told
	waits                 map[string]bool
}

func newTelling(a *App, s *client.Service, d contract.RunDetail, w Watch) *telling {
	t := &telling{app: a, service: s, watch: w, run: d.Run, legs: map[int64]contract.Leg{}, asked: d.Run.Expected,
		last: time.Now(), told: time.Now(), waits: map[string]bool{}}
	for _, l := range d.Legs {
		t.legs[l.Id] = l
	}
	return t
}

func (t *telling) event(e client.Event) error {
	t.last = time.Now()
	switch e.Kind {
	case "result":
		t.judged++
		if v := ui.Deref(e.Verdict); v == "fail" || v == "error" {
			t.unlike++
		}
		t.changed = true
	case "again":
		t.asked++
	}
	a := t.app
	switch {
	case t.watch.events && a.Output == "json":
		return a.WriteLine(map[string]any{"number": e.Number, "event": e.RunEvent})
	case t.watch.events:
		if line := eventLine(e, t.legs, a.Ink()); line != "" {
			t.clear()
			fmt.Fprintln(a.Out, line)
		}
	}
	if a.Animated() && a.Output != "json" && !t.watch.events {
		fmt.Fprintf(a.Err, "\r\x1b[K%s", ui.Short(t.progress(), a.Width()-1))
	} else if !t.watch.events && time.Since(t.told) >= toldEvery {
		t.plainly()
	}
	return nil
}

func (t *telling) progress() string {
	return fmt.Sprintf("Run %d: %d of %d judged, %d of them not as expected", t.run.Number, t.judged,
		max(t.asked, t.judged), t.unlike)
}

// plainly tells how far the run is on a line of its own.
func (t *telling) plainly() {
	t.told, t.changed = time.Now(), false
	fmt.Fprintln(t.app.Err, t.progress())
}

// quiet is called now and then. Where nothing happens it asks what is waited for, and
// since when.
func (t *telling) quiet(ctx context.Context) {
	if t.changed && !t.watch.events && !t.app.Animated() && time.Since(t.told) >= toldEvery {
		t.plainly()
	}
	if time.Since(t.last) < quietAfter {
		return
	}
	d, err := t.app.Detail(ctx, t.service, t.run.Number)
	if err != nil {
		return // whoever follows is told of the loss
	}
	now := map[string]bool{}
	for _, line := range waits(d) {
		now[line.what] = true
		if t.waits[line.what] {
			continue
		}
		t.clear()
		to := t.app.Err
		if t.watch.events && t.app.Output != "json" {
			to = t.app.Out
		}
		fmt.Fprintln(to, t.app.Ink().Faint("·  "+line.text()))
	}
	t.waits = now
}

// clear takes the line of progress away, where it is drawn.
func (t *telling) clear() {
	if t.app.Animated() {
		fmt.Fprint(t.app.Err, "\r\x1b[K")
	}
}

// wait is what legs wait for.
type wait struct {
	what  string
	legs  int
	since time.Time
}

func (w wait) text() string {
	legs := ""
	if w.legs > 1 {
		legs = fmt.Sprintf(" (%d legs)", w.legs)
	}
	return fmt.Sprintf("%s%s, since %s", w.what, legs, span(time.Since(w.since)))
}

// waits lists what the legs of a run wait for, those of one combination once.
func waits(d contract.RunDetail) (out []wait) {
	at := map[string]int{}
	for _, l := range d.Legs {
		if l.WaitsFor == nil {
			continue
		}
		since := d.Run.CreatedAt
		for _, t := range l.Attempts {
			if t.Ended != nil && t.Ended.After(since) {
				since = *t.Ended
			}
		}
		what := fmt.Sprintf("%s waits for %s", report.Where(l), *l.WaitsFor)
		i, ok := at[what]
		if !ok {
			i = len(out)
			at[what] = i
			out = append(out, wait{what: what, since: since})
		}
		out[i].legs++
		if since.Before(out[i].since) {
			out[i].since = since
		}
	}
	return out
}

// span writes how long something has lasted.
func span(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", max(0, int(d.Seconds())))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

func (a *App) lost(err error) {
	fmt.Fprintf(a.Err, "yamato: the connection was lost (%v); taking it up again\n", err)
}

// writable refuses a file that the results could not be written to, before anything runs.
func writable(path string) error {
	if path == "" {
		return nil
	}
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return ui.WrongCall{Title: path + " is a folder; the JUnit XML goes into a file",
			Hint: "--junit " + filepath.Join(path,
				"results.xml")}
	}
	_, before := os.Stat(path)
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return ui.WrongCall{Title: "the JUnit file cannot be written: " + err.Error(),
			Hint: "nothing was started; name another file with --junit"}
	}
	err = f.Close()
	if before != nil {
		err = errors.Join(err, os.Remove(path))
	}
	return err
}
