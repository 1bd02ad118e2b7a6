package host

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"reflect"
	"slices"
	"time"
	"yamato/internal/killpoint"

	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/link"
)

// worker drives one device, one lease after the other, and carries out errands
// between them.
type worker struct {
	host    *Host
	device  Device
	leases  chan *holding
	wishes  chan wish
	errands chan link.Errand
	end     context.CancelFunc // ends it alone
	app     string             // id of the app under test
	stained bool               // the last lease could not be undone yet

	// How the device is, as last seen. The host's lock guards it.
	condition fleet.Condition
	busy      bool
	up        bool // it takes memory of the host
}

// work brings the device up, carries out leases and errands until ctx ends, and
// lets go of the device.
func (w *worker) work(ctx context.Context) {
	defer func() { _ = w.device.Close() }()
	w.begin(ctx)
	var noticed <-chan struct{}
	if n, ok := w.device.(Noticing); ok {
		noticed = n.Noticed()
	}
	for {
		select {
		case held := <-w.leases:
			w.setBusy(true)
			w.carryOut(ctx, held)
			w.setBusy(false)
		case one := <-w.wishes:
			w.show(ctx, one, true)
		case e := <-w.errands:
			w.setBusy(true)
			w.errand(ctx, e)
			w.setBusy(false)
		case <-noticed:
			w.refresh(ctx)
		case <-ctx.Done():
			return
		}
	}
}

// carryOut runs the attempt of a lease, ends it, and cleans the device. The word
// that the device is clean is the last about the lease.
func (w *worker) carryOut(ctx context.Context, held *holding) {
	h := w.host
	lease := held.lease.Number
	w.app = held.lease.Package.ApplicationID
	defer context.AfterFunc(ctx, func() { held.end(errLetGo) })()
	err := w.attempt(held.ctx, held.lease)
	if ctx.Err() != nil {
		return // the host stops; its next start ends the lease
	}
	finished := &link.Finished{}
	var own *Trouble
	if err != nil {
		finished.Trouble, finished.Device = err.Error(), errors.As(err, &own)
		if cause := context.Cause(held.ctx); cause != nil {
			finished.Trouble, finished.Device = cause.Error(), false
		}
		h.log.Info("an attempt met trouble", "lease", lease, "device", held.lease.Device, "trouble", finished.Trouble)
	}
	killpoint.Pass("cleaning")
	clean := w.clean(ctx, held.lease)
	if clean.Condition != nil && finished.Trouble != "" {
		if r, bad := fleet.Unready(clean.Condition.Checks); bad { // whatever went wrong before, this is why
			finished.Device, finished.Trouble = true, (&Trouble{r.Why, r.Remedy}).Error()
		}
	}
	var broken *bootFailure
	if errors.As(err, &broken) {
		clean.Broken = w.remains(ctx, broken)
	}
	w.app = ""
	if ctx.Err() != nil {
		return
	}
	if err := h.journal.append(link.Event{Lease: lease, Finished: finished}, link.Event{Lease: lease, Clean: clean}); err != nil {
		h.log.Error("the end of an attempt could not be kept", "lease", lease, "error", err)
	}
	h.release(lease)
}

// errLetGo ends an attempt whose device is driven no more.
var errLetGo = errors.New("its device was removed, or its host stops")

// clean undoes what a lease did, and tells how the device is since, where that has
// changed. A device that is out of reach is cleaned as soon as it is back.
func (w *worker) clean(ctx context.Context, l link.Lease) *link.Clean {
	level := CleanApp
	if l.Leave {
		level = CleanNothing
	}
	err := w.device.Clean(ctx, w.atMost(level))
	before := w.seenAs()
	now := w.look(ctx)
	out := &link.Clean{}
	if _, bad := fleet.Unready(now.Checks); err != nil && bad {
		w.stained = true
	} else if err != nil {
		out.Trouble = err.Error()
	}
	if !reflect.DeepEqual(before, now) {
		w.note(now)
		out.Condition = &now
	}
	return out
}

// atMost bounds cleaning: a person's own device never gets more than the app.
func (w *worker) atMost(level Cleaning) Cleaning {
	if level == CleanDevice && w.device.Describe().Owner != "" {
		return CleanApp
	}
	return level
}

// attempt prepares the device and runs the cases. Its error is trouble that kept
// it from judging all of them.
func (w *worker) attempt(ctx context.Context, l link.Lease) error {
	h := w.host
	circumstances := map[string]any{
		"host": h.config.Name, "site": h.config.Site, "program": h.config.Program, "device": w.device.Describe(), "attempt": l.Attempt,
		"package": l.PackageBlob, "suite": l.SuiteBlob, "language": l.Combination.Language, "seed": l.Seed, "real_time": l.RealTime,
	}
	body, err := json.Marshal(circumstances)
	if err != nil {
		return err
	}
	if err := h.journal.append(link.Event{Lease: l.Number, Began: &link.Began{Circumstances: body}}); err != nil {
		return err
	}
	suite, err := w.suite(ctx, l.SuiteBlob)
	if err != nil {
		return err
	}
	path, err := h.cache.fetch(ctx, l.PackageBlob)
	if err != nil {
		return err
	}
	if err := w.prepare(ctx, l); err != nil {
		return err
	}
	if err := w.device.Install(ctx, App{Package: l.Package, Path: path}); err != nil {
		return fmt.Errorf("%s could not be installed: %w", l.Package.ApplicationID, err)
	}
	return w.cases(ctx, l, suite)
}

// prepare brings the device up, sees that it is ready, and has it awake and
// unlocked with nothing in front.
func (w *worker) prepare(ctx context.Context, l link.Lease) error {
	if v, ok := w.device.(Virtual); ok && !v.Up() {
		if err := w.bringUp(ctx, v, l.RealTime); err != nil {
			return err
		}
	}
	if r, bad := fleet.Unready(w.look(ctx).Checks); bad {
		return &Trouble{r.Why, r.Remedy}
	}
	if err := w.device.Ready(ctx, Surroundings{Language: l.Combination.Language, RealTime: l.RealTime}); err != nil {
		return fmt.Errorf("the device could not be made ready: %w", err)
	}
	return nil
}

func (w *worker) suite(ctx context.Context, digest string) (*script.Suite, error) {
	path, err := w.host.cache.fetch(ctx, digest)
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	suite, findings := script.Read(string(text))
	if n := script.Faults(findings); n > 0 {
		return nil, fmt.Errorf("the suite has %d faults: %s", n, findings[0].Message)
	}
	return suite, nil
}

// cases runs the cases one after the other. What each leaves behind is drawn,
// uploaded and reported on a path of its own, in order, while the next one runs.
func (w *worker) cases(ctx context.Context, l link.Lease, suite *script.Suite) error {
	known, reported := map[string]bool{}, map[string]bool{}
	for _, k := range l.Known { // and nothing else: what a run knows does not change while it goes on
		known[k], reported[k] = true, true
	}
	out := w.startOutbox(ctx, l.Number)
	err := func() error {
		for _, i := range l.Cases {
			if i < 0 || i >= len(suite.Cases) {
				return fmt.Errorf("the suite has no case %d", i)
			}
			if err := w.host.journal.append(link.Event{Lease: l.Number, CaseOpen: &link.CaseOpen{Case: i}}); err != nil {
				return err
			}
			c := &suite.Cases[i]
			if d, ok := w.device.(Chancy); ok {
				d.SetChance(chance(l, c.Name))
			}
			began := w.device.Now()
			rec := &recorder{camera: camera{ctx: ctx, device: w.eyes(), began: began}, glance: func() { w.showAll(ctx) }}
			limited, stop := context.WithTimeoutCause(ctx, caseWall, errCaseWall)
			result := script.RunCase(limited, suite, c, w.attentive(l.RealTime, rec.look), script.Options{Known: func(loc string) bool { return known[loc] }}, rec)
			stop()
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			result.Matched = slices.DeleteFunc(result.Matched, func(m string) bool {
				was := reported[m]
				reported[m] = true
				return was
			})
			killpoint.Pass("case-judged")
			out.send(ctx, finishedCase{i, result, rec, since(began, w.readLog(ctx))})
			var own *Trouble
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
func chance(l link.Lease, name string) uint64 {
	c := l.Combination
	sum := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s\x00%s\x00%s\x00%s\x00%s\x00%s\x00%d", l.Seed, name, c.Kind, c.Model, c.Platform, c.OS, c.Language, l.Attempt))
	return binary.BigEndian.Uint64(sum[:])
}

func (w *worker) readLog(ctx context.Context) []LogLine {
	d, ok := w.device.(Logger)
	if !ok {
		return nil
	}
	lines, err := d.Log(ctx)
	if err != nil {
		return []LogLine{{Level: "warn", Tag: "yamato", Text: "the device's log could not be read: " + err.Error()}}
	}
	if w.device.Describe().Owner != "" { // nothing outside the app under test is recorded on somebody's own
		lines = slices.DeleteFunc(lines, func(l LogLine) bool { return l.App != w.app })
	}
	return lines
}

// since counts the times of a log from when its case began, as those of its steps.
func since(began time.Duration, lines []LogLine) []LogLine {
	for i := range lines {
		lines[i].AtMS -= began.Milliseconds()
	}
	return lines
}

// recorder keeps what a case leaves behind until it is drawn.
type recorder struct {
	camera
	shots   []shot
	dropped int    // pictures that were one too many, or too large
	glance  func() // called between steps
}

// maxHeld bounds what the pictures of one case take until they are drawn, in bytes, and
// maxWaiting what those of all cases that wait to be drawn take at a host.
const (
	maxHeld    = 24 << 20
	maxWaiting = 128 << 20
)

type shot struct {
	name    string
	picture script.Picture
	tree    *screen.Tree
	marks   []screen.Rect
	crop    screen.Rect
}

// maxShots bounds the pictures of one case.
const maxShots = 200

// Step is called after each step.
func (r *recorder) Step(script.StepRecord) {
	r.look()
	r.glance()
}

func (r *recorder) Picture(name string, p script.Picture, tree *screen.Tree, marks []screen.Rect, crop screen.Rect) {
	size := sizeOf(tree)
	if name == script.FailurePicture || len(r.shots) < maxShots && r.held+size <= maxHeld {
		r.shots, r.held = append(r.shots, shot{name, p, tree, marks, crop}), r.held+size
	} else {
		r.dropped++
	}
}

// finishedCase is a case that has been judged and not yet reported.
type finishedCase struct {
	index  int
	result script.Result
	rec    *recorder
	log    []LogLine
}

// outbox draws, uploads and reports finished cases, in order. It belongs to one
// attempt, which waits for it.
type outbox struct {
	worker *worker
	lease  int64
	in     chan finishedCase
	done   chan error
}

// weight is what a case takes until it has been reported, in bytes.
func (c finishedCase) weight() int64 { return min(int64(c.rec.held)+1<<16, maxWaiting) }

func (w *worker) startOutbox(ctx context.Context, lease int64) *outbox {
	o := &outbox{worker: w, lease: lease, in: make(chan finishedCase, 4), done: make(chan error, 1)}
	go func() { // ends when finish closes the channel
		var first error
		for c := range o.in {
			if first == nil {
				first = o.report(ctx, c)
			}
			w.host.waiting.Release(c.weight())
		}
		o.done <- first
	}()
	return o
}

func (o *outbox) send(ctx context.Context, c finishedCase) {
	if o.worker.host.waiting.Acquire(ctx, c.weight()) != nil {
		return
	}
	select {
	case o.in <- c:
	case <-ctx.Done():
		o.worker.host.waiting.Release(c.weight())
	}
}

func (o *outbox) finish() error {
	close(o.in)
	return <-o.done
}

func (o *outbox) report(ctx context.Context, c finishedCase) error {
	var refs []link.EvidenceRef
	keep := func(sort, name, media string, content []byte) error {
		ref, err := o.upload(ctx, sort, name, media, content)
		refs = append(refs, ref)
		return err
	}
	for _, s := range c.rec.shots {
		png, err := s.picture.PNG(s.marks, s.crop)
		if err != nil {
			return fmt.Errorf("drawing the picture %q: %w", s.name, err)
		}
		if err := keep("picture", s.name, "image/png", png); err != nil {
			return err
		}
		if s.tree != nil {
			tree, err := json.Marshal(s.tree)
			if err != nil {
				return err
			}
			if err := keep("tree", s.name, "application/json", tree); err != nil {
				return err
			}
		}
	}
	if len(c.rec.frames) > 0 {
		content, err := film(c.rec.frames, &o.worker.host.gallery)
		if err != nil {
			return err
		}
		if err := keep("film", "film", "application/zip", content); err != nil {
			return err
		}
	}
	if c.rec.dropped > 0 {
		c.log = append(c.log, LogLine{AtMS: c.result.TookMS, Level: "warn", Tag: "yamato", Text: fmt.Sprintf("%d pictures of this case were not kept: they were too many or too large", c.rec.dropped)})
	}
	if len(c.log) > 0 {
		if err := keep("log", "log", "text/plain; charset=utf-8", logText(c.log)); err != nil {
			return err
		}
	}
	return o.worker.host.journal.append(link.Event{Lease: o.lease, Case: &link.CaseClosed{Case: c.index, Verdict: string(c.result.Verdict), TookMS: c.result.TookMS,
		Failure: c.result.Failure, Steps: c.result.Steps, Matched: c.result.Matched, Evidence: refs}})
}

func logText(lines []LogLine) []byte {
	var b bytes.Buffer
	for _, l := range lines {
		fmt.Fprintf(&b, "%9.3f %-5s %s: %s\n", float64(l.AtMS)/1000, l.Level, l.Tag, l.Text)
	}
	return b.Bytes()
}

// upload keeps content at the service before anything refers to it. It goes on
// trying for as long as the lease is ours.
func (o *outbox) upload(ctx context.Context, sort, name, media string, content []byte) (link.EvidenceRef, error) {
	sum := sha256.Sum256(content)
	ref := link.EvidenceRef{Sort: sort, Name: name, MediaType: media, Digest: hex.EncodeToString(sum[:]), Size: int64(len(content))}
	pause := 50 * time.Millisecond
	for {
		killpoint.Pass("uploading")
		err := o.worker.host.config.Service.Upload(ctx, ref.Digest, content)
		if err == nil {
			return ref, nil
		}
		t := time.NewTimer(pause)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return ref, fmt.Errorf("keeping the %s %q: %w", sort, name, errors.Join(context.Cause(ctx), err))
		}
		pause = min(2*pause, time.Second)
	}
}
