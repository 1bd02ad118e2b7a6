package host

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
	"yamato/internal/core/script/bundle"
	"yamato/internal/host/driver"
	"yamato/internal/host/gather"
	"yamato/internal/killpoint"
	"yamato/internal/link"
)

// attempt is a leg's work under a lease.
type attempt struct {
	link.Attempt
	lease link.Lease
}

// run prepares the device and runs the cases. Its error is trouble that kept it from
// judging all of them.
func (l *attempt) run(ctx context.Context, w *worker) error {
	h := w.host
	w.app = l.Package.ApplicationID
	if limit := time.Duration(l.LegMS) * time.Millisecond; limit > 0 {
		limited, stop := context.WithTimeoutCause(ctx, limit,
			fmt.Errorf("the leg took more than the %s that its plan gives it", limit))
		defer stop()
		ctx = limited
	}
	circumstances := map[string]any{
		"host": h.config.Name, "site": h.config.Site, "program": h.config.Program, "device": w.device.Describe(),
		"attempt": l.Number,
		"package": l.PackageBlob, "suite": l.SuiteBlob, "levels": l.Combination.Levels, "seed": l.Seed,
		"real_time": l.RealTime,
	}
	body, err := json.Marshal(circumstances)
	if err != nil {
		return err
	}
	if err := h.journal.Append(link.Event{Lease: l.lease.Number, Began: &link.Began{Circumstances: body}}); err != nil {
		return err
	}
	whole, suite, err := w.suite(ctx, l.SuiteBlob)
	if err != nil {
		return err
	}
	path, err := h.cache.Fetch(ctx, l.PackageBlob)
	if err != nil {
		return err
	}
	if d, ok := device.As[device.Chancy](w.device); ok { // what befalls it from here on is this run's
		d.SetChance(l.chance(""))
	}
	if err := w.prepare(ctx, driver.Terms{RealTime: l.RealTime}); err != nil {
		return err
	}
	if err := w.device.Install(ctx, driver.App{Package: l.Package, Path: path}); err != nil {
		return fmt.Errorf("%s could not be installed: %w", l.Package.ApplicationID, err)
	}
	options, tidy, err := l.options(ctx, w, whole)
	if err != nil {
		return err
	}
	defer tidy()
	return l.cases(ctx, w, suite, options)
}

// prepare brings the device up, sees that it is ready, and has it awake and
// unlocked with nothing in front.
func (w *worker) prepare(ctx context.Context, s driver.Terms) error {
	if v, ok := device.As[device.Virtual](w.device); ok && !v.Up() {
		if err := w.bringUp(ctx, v, s.RealTime); err != nil {
			return err
		}
	}
	if r, bad := fleet.Unready(w.condition(ctx).Checks); bad {
		return &device.Trouble{Why: r.Why, Remedy: r.Remedy.String()}
	}
	if err := w.device.Ready(ctx, s); err != nil {
		return fmt.Errorf("the device could not be made ready: %w", err)
	}
	return nil
}

func (w *worker) suite(ctx context.Context, digest string) (bundle.Bundle, *script.Suite, error) {
	path, err := w.host.cache.Fetch(ctx, digest)
	if err != nil {
		return bundle.Bundle{}, nil, err
	}
	blob, err := os.ReadFile(path)
	if err != nil {
		return bundle.Bundle{}, nil, err
	}
	whole, err := bundle.Decode(blob)
	if err != nil {
		return whole, nil, err
	}
	suite, findings := script.ReadWith(whole.Text, whole.Beside())
	if n := script.Faults(findings); n > 0 {
		return whole, nil, fmt.Errorf("the suite has %d faults: %s", n, firstFault(findings))
	}
	return whole, suite, nil
}

// cases runs the cases one after the other. What each leaves behind is drawn,
// uploaded and reported on a path of its own, in order, while the next one runs.
func (l *attempt) cases(ctx context.Context, w *worker, suite *script.Suite, options script.Options) error {
	known, reported := map[string]bool{}, map[string]bool{}
	for _, k := range l.Known { // and nothing else: what a run knows does not change while it goes on
		known[k], reported[k] = true, true
	}
	options.Known = func(loc string) bool { return known[loc] }
	hidden := script.NewMask(options.Secrets, options.Accounts)
	play := script.NewPlay(suite, w.attentive(l.RealTime, func() { w.look() }), options)
	keeping := l.Keep
	keeping.Suite = suite.Keep
	out := w.startOutbox(ctx, l.lease.Number, hidden, keeping)
	err := func() error {
		for n, i := range l.Cases {
			if i < 0 || i >= len(suite.Cases) {
				return fmt.Errorf("the suite has no case %d", i)
			}
			if err := w.host.journal.Append(link.Event{Lease: l.lease.Number,
				CaseOpen: &link.CaseOpen{Case: i}}); err != nil {
				return err
			}
			c := suite.Cases[i]
			if d, ok := device.As[device.Chancy](w.device); ok {
				d.SetChance(l.chance(c.Name))
			}
			began, wall := w.device.Now(), time.Now()
			rec := &recorder{camera: camera{ctx: ctx, device: w.eyes(), began: began,
				off: !keeping.May(evidence.Film.Rule) &&
					!keeping.May(evidence.Video.Rule)}, shooting: keeping.May(evidence.Picture.Rule),
				glance: func() { w.showAll(ctx) }, gathered: gather.Begin(ctx, w.eyes(),
					w.device.Describe().Owner != "", keeping, began, w.host.scratch, w.host.disk)}
			w.gathering = rec.gathered
			if l.Steps {
				rec.tell = func(step script.StepRecord) error {
					return w.host.journal.Append(link.Event{Lease: l.lease.Number, Step: &link.StepEnded{Case: i,
						Step: step}})
				}
			}
			w.look = rec.look
			limited, stop := context.WithTimeoutCause(ctx, caseWall, errCaseWall)
			result := play.Case(limited, c, n == len(l.Cases)-1, rec)
			stop()
			w.gathering = nil
			rec.gathered.End(ctx)
			rec.took = w.device.Now() - began
			if ctx.Err() != nil {
				rec.gathered.Discard()
				return context.Cause(ctx)
			}
			result.Matched = slices.DeleteFunc(result.Matched, func(m string) bool {
				was := reported[m]
				reported[m] = true
				return was
			})
			killpoint.Pass("case-judged")
			out.send(ctx, finishedCase{i, result, rec, since(began, append(w.ownLines(result.Log), w.readLog(ctx)...)),
				wall})
			var own *device.Trouble
			switch {
			case errors.As(result.Err, &own):
				return own // the device, not the app: the rest goes elsewhere
			case result.Err != nil:
				return result.Err
			}
		}
		return nil
	}()
	return errors.Join(err, out.finish())
}

// caseWall is how long a case may take by the wall's clock, whatever the device's own says.
const caseWall = 10 * time.Minute

var errCaseWall = fmt.Errorf("the case took more than %s on this host", caseWall)

// chance is what an app's chance is a function of: the run's seed, the case, the
// combination and the attempt, and nothing else.
func (l *attempt) chance(name string) uint64 {
	c := l.Combination
	sum := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s\x00%s\x00%s\x00%s\x00%s\x00%s%d", l.Seed, name, c.Kind, c.Model,
		c.Platform, c.OS, c.Levels.Key(), l.Number))
	return binary.BigEndian.Uint64(sum[:])
}

func (w *worker) readLog(ctx context.Context) []device.LogLine {
	d, ok := device.As[device.Logger](w.device)
	if !ok {
		return nil
	}
	lines, err := d.Log(ctx)
	if err != nil {
		return []device.LogLine{{Level: "warn", Tag: "yamato",
			Text: "the device's log could not be read: " + err.Error()}}
	}
	return w.ownLines(lines)
}

// ownLines leaves out, on somebody's own device, what is not of the app under test.
func (w *worker) ownLines(lines []device.LogLine) []device.LogLine {
	if w.device.Describe().Owner == "" {
		return lines
	}
	return slices.DeleteFunc(lines, func(l device.LogLine) bool { return l.App != w.app })
}

// since counts the times of a log from when its case began, as those of its steps.
func since(began time.Duration, lines []device.LogLine) []device.LogLine {
	for i := range lines {
		lines[i].AtMS -= began.Milliseconds()
	}
	return lines
}

// firstFault says what keeps a suite from running, and how it is mended.
func firstFault(findings []script.Finding) string {
	for _, f := range findings {
		switch {
		case f.Advice:
		case f.Hint != "":
			return fmt.Sprintf("line %d: %s; %s", f.Pos.Line, f.Message, f.Hint)
		default:
			return fmt.Sprintf("line %d: %s", f.Pos.Line, f.Message)
		}
	}
	return ""
}
