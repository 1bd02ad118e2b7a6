package host

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/har"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/pictures"
	"yamato/internal/host/video"
	"yamato/internal/link"
)

// report is a case on its way to the service: what is kept of it, and what is not.
type report struct {
	*outbox
	finishedCase
	refs    []link.EvidenceRef
	notKept []evidence.NotKept
}

// report keeps what is to be kept of a case, and then tells of the case.
func (o *outbox) report(ctx context.Context, c finishedCase) error {
	r := &report{outbox: o, finishedCase: c}
	for _, one := range []struct {
		sort string
		keep func(context.Context) error
	}{{evidence.Picture.Rule, r.keepPictures}, {evidence.Film.Rule, r.keepFilm}, {evidence.Video.Rule, r.keepVideo},
		{evidence.Network.Rule, r.keepCalls},
		{evidence.Readings.Rule, r.keepReadings}, {evidence.Crash.Rule, r.keepCrash}, {evidence.Log.Rule, r.keepLog}} {
		if !r.wants(one.sort) {
			continue
		}
		if err := one.keep(ctx); err != nil {
			return err
		}
	}
	return o.worker.host.journal.Append(link.Event{Lease: o.lease, Case: &link.CaseClosed{Case: c.index,
		Verdict: string(c.result.Verdict), TookMS: c.result.TookMS,
		Failure: c.result.Failure, Steps: c.result.Steps, Matched: c.result.Matched, Seen: c.result.Seen,
		Evidence: r.refs, NotKept: r.notKept}})
}

// wants tells whether a sort is kept of this case, and notes why not where it is not.
func (r *report) wants(sort string) bool {
	keep, why := r.keeping.Keeps(sort, r.result.Verdict == verdict.Pass)
	if !keep {
		r.lack(sort, why)
	}
	return keep
}

func (r *report) lack(sort, why string) {
	r.notKept = append(r.notKept, evidence.NotKept{Sort: sort, Why: why})
}

// keep keeps a piece, with what is to be known of it.
func (r *report) keep(ctx context.Context, kind evidence.Kind, name string, content []byte, facts any) error {
	ref, err := r.upload(ctx, kind, name, content)
	return r.kept(ref, err, facts)
}

func (r *report) kept(ref link.EvidenceRef, err error, facts any) error {
	if err != nil {
		return err
	}
	if facts != nil {
		if ref.Facts, err = json.Marshal(facts); err != nil {
			return err
		}
	}
	r.refs = append(r.refs, ref)
	return nil
}

func (r *report) keepPictures(ctx context.Context) error {
	trees := r.wants(evidence.Tree.Rule)
	for _, s := range r.rec.shots {
		png, err := s.PNG()
		if err != nil {
			return fmt.Errorf("drawing the picture %q: %w", s.Name, err)
		}
		if err := r.keep(ctx, evidence.Picture, s.Name, png, atOf(s.At)); err != nil {
			return err
		}
		if s.Tree == nil || !trees {
			continue
		}
		tree, err := json.Marshal(r.hidden.Tree(s.Tree))
		if err != nil {
			return err
		}
		if err := r.keep(ctx, evidence.Tree, s.Name, tree, nil); err != nil {
			return err
		}
	}
	if before := r.rec.before(r.result.Failure); before != nil {
		png, err := r.worker.host.gallery.Draw(before.Picture)
		if err != nil {
			return fmt.Errorf("drawing the picture before the failure: %w", err)
		}
		if err := r.keep(ctx, evidence.Picture, BeforePicture, png, atOf(before.At)); err != nil {
			return err
		}
	}
	if r.rec.dropped > 0 {
		r.note("%d pictures of this case were not kept: they were too many or too large", r.rec.dropped)
	}
	return nil
}

// atOf says when a picture was taken, since the case began.
func atOf(at time.Duration) map[string]int64 { return map[string]int64{"at_ms": at.Milliseconds()} }

// note writes a line of ours into the case's log.
func (r *report) note(format string, args ...any) {
	r.log = append(r.log, device.LogLine{AtMS: r.result.TookMS, Level: "warn", Tag: "yamato",
		Text: fmt.Sprintf(format, args...)})
}

func (r *report) keepFilm(ctx context.Context) error {
	if len(r.rec.frames) == 0 {
		return nil
	}
	return r.file(ctx, evidence.Film, nil, func(w io.Writer) error {
		return pictures.Film(w, r.rec.frames,
			&r.worker.host.gallery)
	})
}

// file keeps what write writes, by way of a file.
func (r *report) file(ctx context.Context, kind evidence.Kind, facts any, write func(io.Writer) error) error {
	f, err := os.CreateTemp(r.worker.host.scratch, "piece-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if err := errors.Join(write(f), f.Close()); err != nil {
		return err
	}
	ref, err := r.uploadFile(ctx, kind, kind.Name, f.Name())
	return r.kept(ref, err, facts)
}

// keepVideo makes the video: of the frames of a screen that moved by the wall's clock, or of the
// pictures at each change where the device's clock leaps.
func (r *report) keepVideo(ctx context.Context) error {
	reel := r.rec.gathered.Reel
	if reel == nil {
		if len(r.rec.frames) == 0 {
			r.lack(evidence.Video.Rule, video.ErrNoFrames.Error())
			return nil
		}
		if err := video.Possible(); err != nil {
			r.lack(evidence.Video.Rule, err.Error())
			return nil
		}
		reel = video.NewReel(r.worker.host.scratch, r.worker.host.disk)
		defer reel.Discard()
		for _, f := range r.rec.frames {
			png, err := r.worker.host.gallery.Draw(f.Picture)
			if err != nil {
				return fmt.Errorf("drawing a picture of the video: %w", err)
			}
			if err := reel.Add(f.At, "image/png", png); err != nil {
				return err
			}
		}
	}
	took := r.rec.took
	path, err := reel.Video(ctx, took)
	if err != nil { // a case is judged and reported with or without it
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		r.lack(evidence.Video.Rule, err.Error())
		return nil
	}
	if why := reel.Short(); why != "" {
		r.note("the video of this case is not whole: %s", why)
	}
	ref, err := r.uploadFile(ctx, evidence.Video, evidence.Video.Name, path)
	return r.kept(ref, err, map[string]int64{"from_ms": 0, "to_ms": took.Milliseconds(), "frames": int64(reel.Len())})
}

func (r *report) keepCalls(ctx context.Context) error {
	if _, ok := device.As[device.Calling](r.worker.device); !ok {
		r.lack(evidence.Network.Rule, "this device does not record calls")
		return nil
	}
	bodies := r.wants(evidence.Bodies.Rule)
	rec := har.Record{Calls: r.rec.gathered.Calls, Dropped: r.rec.gathered.Dropped, Began: r.wall,
		Device:  r.worker.name(),
		Version: r.worker.host.config.Program, Bodies: bodies, Hide: r.hidden.Text}
	if !bodies {
		_, rec.Why = r.keeping.Keeps(evidence.Bodies.Rule, r.result.Verdict == verdict.Pass)
	}
	if len(rec.Calls) == 0 && rec.Dropped == 0 {
		r.lack(evidence.Network.Rule, "the app made no calls")
		return nil
	}
	return r.file(ctx, evidence.Network, rec.Sum(), rec.Write)
}

func (r *report) keepReadings(ctx context.Context) error {
	packed, facts, err := r.rec.gathered.Readings()
	if err != nil {
		return err
	}
	if packed == nil {
		r.lack(evidence.Readings.Rule, "this device told no figures")
		return nil
	}
	return r.keep(ctx, evidence.Readings, evidence.Readings.Name, packed, facts)
}

func (r *report) keepCrash(ctx context.Context) error {
	f := r.result.Failure
	if f == nil || f.Cause != script.Crashed {
		return nil
	}
	text := f.Actual + "\n"
	if f.Report != "" {
		text += "\n" + f.Report + "\n"
	}
	return r.keep(ctx, evidence.Crash, evidence.Crash.Name, r.hidden.Bytes([]byte(text)),
		map[string]int64{"at_ms": f.AtMS})
}

func (r *report) keepLog(ctx context.Context) error {
	if len(r.log) == 0 {
		return nil
	}
	bad := 0
	for _, l := range r.log {
		if l.Level == "error" {
			bad++
		}
	}
	return r.keep(ctx, evidence.Log, evidence.Log.Name, r.hidden.Bytes(logText(r.log)),
		map[string]int{"lines": len(r.log), "errors": bad})
}
