package host

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/killpoint"
	"yamato/internal/link"
	"yamato/internal/retry"
)

// recorder keeps what a case leaves behind until it is drawn.
type recorder struct {
	camera
	shots   []shot
	told    int
	dropped int                           // pictures that were one too many, or too large
	glance  func()                        // called between steps
	tell    func(script.StepRecord) error // each step as it ends, nil where nobody wants to know
}

// maxHeld bounds what the pictures of one case take until they are drawn, in bytes, and
// maxWaiting what those of all cases that wait to be drawn take at a host.
const (
	maxHeld    = 24 << 20
	maxWaiting = 128 << 20
)

type shot struct {
	name    string
	picture device.Picture
	tree    *screen.Tree
	marks   []screen.Rect
	crop    screen.Rect
}

// maxShots bounds the pictures of one case.
const maxShots = 200

// Step is called after each step.
func (r *recorder) Step(step script.StepRecord) {
	r.look()
	r.glance()
	if r.tell != nil && r.told < maxTold {
		r.told++
		_ = r.tell(step) // a journal that cannot be written is told of by what is written to it next
	}
}

// maxTold bounds the steps of a case that are told as they end.
const maxTold = 2000

func (r *recorder) Picture(name string, p device.Picture, tree *screen.Tree, marks []screen.Rect, crop screen.Rect) {
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
	log    []device.LogLine
}

// outbox draws, uploads and reports finished cases, in order. It belongs to one
// attempt, which waits for it.
type outbox struct {
	worker *worker
	lease  int64
	hidden *script.Mask
	in     chan finishedCase
	done   chan error
}

// weight is what a case takes until it has been reported, in bytes.
func (c finishedCase) weight() int64 { return min(int64(c.rec.held)+1<<16, maxWaiting) }

func (w *worker) startOutbox(ctx context.Context, lease int64, hidden *script.Mask) *outbox {
	o := &outbox{worker: w, lease: lease, hidden: hidden, in: make(chan finishedCase, 4), done: make(chan error, 1)}
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
	keep := func(kind evidence.Kind, name string, content []byte) error {
		ref, err := o.upload(ctx, kind, name, content)
		refs = append(refs, ref)
		return err
	}
	for _, s := range c.rec.shots {
		png, err := s.png()
		if err != nil {
			return fmt.Errorf("drawing the picture %q: %w", s.name, err)
		}
		if err := keep(evidence.Picture, s.name, png); err != nil {
			return err
		}
		if s.tree != nil {
			tree, err := json.Marshal(o.hidden.Tree(s.tree))
			if err != nil {
				return err
			}
			if err := keep(evidence.Tree, s.name, tree); err != nil {
				return err
			}
		}
	}
	if before := c.rec.before(c.result.Failure); before != nil {
		png, err := o.worker.host.gallery.draw(before.picture)
		if err != nil {
			return fmt.Errorf("drawing the picture before the failure: %w", err)
		}
		if err := keep(evidence.Picture, BeforePicture, png); err != nil {
			return err
		}
	}
	if len(c.rec.frames) > 0 {
		content, err := film(c.rec.frames, &o.worker.host.gallery)
		if err != nil {
			return err
		}
		if err := keep(evidence.Film, evidence.Film.Name, content); err != nil {
			return err
		}
	}
	if c.rec.dropped > 0 {
		c.log = append(c.log, device.LogLine{AtMS: c.result.TookMS, Level: "warn", Tag: "yamato",
			Text: fmt.Sprintf("%d pictures of this case were not kept: they were too many or too large",
				c.rec.dropped)})
	}
	if len(c.log) > 0 {
		if err := keep(evidence.Log, evidence.Log.Name, o.hidden.Bytes(logText(c.log))); err != nil {
			return err
		}
	}
	return o.worker.host.journal.Append(link.Event{Lease: o.lease, Case: &link.CaseClosed{Case: c.index,
		Verdict: string(c.result.Verdict), TookMS: c.result.TookMS,
		Failure: c.result.Failure, Steps: c.result.Steps, Matched: c.result.Matched, Seen: c.result.Seen,
		Evidence: refs}})
}

// BeforePicture names the picture of the screen before the step that failed.
const BeforePicture = "before the failure"

// before gives the last picture of the film from before the step that failed, nil where there is
// none.
func (r *recorder) before(f *script.Failure) *frame {
	if f == nil {
		return nil
	}
	var last *frame
	for i := range r.frames {
		if r.frames[i].at.Milliseconds() <= f.AtMS {
			last = &r.frames[i]
		}
	}
	return last
}

func logText(lines []device.LogLine) []byte {
	var b bytes.Buffer
	for _, l := range lines {
		fmt.Fprintf(&b, "%9.3f %-5s %s: %s\n", float64(l.AtMS)/1000, l.Level, l.Tag, l.Text)
	}
	return b.Bytes()
}

// upload keeps content at the service before anything refers to it. It goes on
// trying for as long as the lease is ours.
func (o *outbox) upload(ctx context.Context, kind evidence.Kind, name string,
	content []byte) (link.EvidenceRef, error) {
	sum := sha256.Sum256(content)
	ref := link.EvidenceRef{Sort: kind.Name, Name: name, MediaType: kind.MediaType, Digest: hex.EncodeToString(sum[:]),
		Size: int64(len(content))}
	pause := retry.From(50*time.Millisecond, time.Second)
	for {
		killpoint.Pass("uploading")
		err := o.worker.host.config.Service.Upload(ctx, ref.Digest, content)
		if err == nil {
			return ref, nil
		}
		if pause.Wait(ctx) != nil {
			return ref, fmt.Errorf("keeping the %s %q: %w", kind.Name, name, errors.Join(context.Cause(ctx), err))
		}
	}
}
