package host

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/gather"
	"yamato/internal/host/pictures"
	"yamato/internal/killpoint"
	"yamato/internal/link"
	"yamato/internal/retry"
)

// recorder keeps what a case leaves behind until it is drawn.
type recorder struct {
	camera
	shots    []pictures.Shot
	told     int
	dropped  int                           // pictures that were one too many, or too large
	glance   func()                        // called between steps
	tell     func(script.StepRecord) error // each step as it ends, nil where nobody wants to know
	gathered *gather.Gathering
	shooting bool // pictures are kept, or may be
}

// maxHeld bounds what the pictures of one case take until they are drawn, in bytes, and
// maxWaiting what those of all cases that wait to be drawn take at a host.
const (
	maxHeld    = 24 << 20
	maxWaiting = 128 << 20
)

// maxShots bounds the pictures of one case.
const maxShots = 200

// Step is called after each step.
func (r *recorder) Step(step script.StepRecord) {
	r.look()
	r.gathered.Look(r.ctx)
	r.glance()
	if r.tell != nil && r.told < maxTold {
		r.told++
		_ = r.tell(step) // a journal that cannot be written is told of by what is written to it next
	}
}

// maxTold bounds the steps of a case that are told as they end.
const maxTold = 2000

func (r *recorder) Picture(name string, p device.Picture, tree *screen.Tree, marks []screen.Rect, crop screen.Rect) {
	if !r.shooting {
		return
	}
	size := sizeOf(tree)
	if name == script.FailurePicture || len(r.shots) < maxShots && r.held+size <= maxHeld {
		r.shots, r.held = append(r.shots, pictures.Shot{At: r.device.Now() - r.began, Name: name,
			Picture: p, Tree: tree, Marks: marks, Crop: crop}), r.held+size
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
	wall   time.Time // when it began, by the host's clock
}

// outbox draws, uploads and reports finished cases, in order. It belongs to one
// attempt, which waits for it.
type outbox struct {
	worker  *worker
	lease   int64
	hidden  *script.Mask
	keeping evidence.Keeping
	in      chan finishedCase
	done    chan error
}

// weight is what a case takes until it has been reported, in bytes.
func (c finishedCase) weight() int64 {
	return min(int64(c.rec.held)+c.rec.gathered.Weight()+1<<16, maxWaiting)
}

func (w *worker) startOutbox(ctx context.Context, lease int64, hidden *script.Mask, k evidence.Keeping) *outbox {
	o := &outbox{worker: w, lease: lease, hidden: hidden, keeping: k, in: make(chan finishedCase, 4),
		done: make(chan error, 1)}
	go func() { // ends when finish closes the channel
		var first error
		for c := range o.in {
			if first == nil {
				first = contain.Do("keeping a case", func() error { return o.report(ctx, c) })
			}
			c.rec.gathered.Discard()
			w.host.waiting.Release(c.weight())
		}
		o.done <- first
	}()
	return o
}

func (o *outbox) send(ctx context.Context, c finishedCase) {
	if o.worker.host.waiting.Acquire(ctx, c.weight()) != nil {
		c.rec.gathered.Discard()
		return
	}
	select {
	case o.in <- c:
	case <-ctx.Done():
		o.worker.host.waiting.Release(c.weight())
		c.rec.gathered.Discard()
	}
}

func (o *outbox) finish() error {
	close(o.in)
	return <-o.done
}

// BeforePicture names the picture of the screen before the step that failed.
const BeforePicture = "before the failure"

// before gives the last picture of the film from before the step that failed, nil where there is
// none.
func (r *recorder) before(f *script.Failure) *pictures.Frame {
	if f == nil {
		return nil
	}
	var last *pictures.Frame
	for i := range r.frames {
		if r.frames[i].At.Milliseconds() <= f.AtMS {
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
	return o.uploadFrom(ctx, kind, name, bytes.NewReader(content), int64(len(content)))
}

// uploadFile is upload of what is in a file, which is never held whole.
func (o *outbox) uploadFile(ctx context.Context, kind evidence.Kind, name, path string) (link.EvidenceRef, error) {
	f, err := os.Open(path)
	if err != nil {
		return link.EvidenceRef{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return link.EvidenceRef{}, err
	}
	return o.uploadFrom(ctx, kind, name, f, info.Size())
}

func (o *outbox) uploadFrom(ctx context.Context, kind evidence.Kind, name string, content io.ReaderAt,
	size int64) (link.EvidenceRef, error) {
	hash := sha256.New()
	if _, err := io.Copy(hash, io.NewSectionReader(content, 0, size)); err != nil {
		return link.EvidenceRef{}, err
	}
	ref := link.EvidenceRef{Sort: kind.Name, Name: name, MediaType: kind.MediaType,
		Digest: hex.EncodeToString(hash.Sum(nil)),
		Size:   size}
	pause := retry.From(50*time.Millisecond, time.Second)
	for {
		killpoint.Pass("uploading")
		err := o.worker.host.config.Service.Upload(ctx, ref.Digest, content, size)
		if err == nil {
			return ref, nil
		}
		if pause.Wait(ctx) != nil {
			return ref, fmt.Errorf("keeping the %s %q: %w", kind.Name, name, errors.Join(context.Cause(ctx), err))
		}
	}
}
