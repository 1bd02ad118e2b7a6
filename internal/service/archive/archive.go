// Package archive is what becomes of evidence: how long it stays, which crashes were met where, how a
// named picture looks over all combinations, and what was covered by which builds.
package archive

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// Part is these use cases.
type Part struct{ *base.Base }

// New gives them.
func New(b *base.Base) *Part { return &Part{b} }

// Bounds of what is listed at once.
const (
	maxPage     = 200
	maxMeetings = 500
	maxPictures = 12_000
	maxNames    = 1000
	maxCovered  = 50_000
)

// Crashes gives a page of the crashes of a project, of an app, or of a run. more tells that there are further ones.
func (s *Part) Crashes(ctx context.Context, c base.Caller, app string, run int64, offset,
	limit int) (list []store.Crash, more bool, err error) {
	if limit <= 0 || limit > maxPage {
		limit = maxPage
	}
	list, err = s.Store.Crashes(ctx, c.ProjectID, app, run, 0, max(0, offset), limit+1)
	if more = len(list) > limit; more {
		list = list[:limit]
	}
	return list, more, err
}

// Crash gives one crash with where it was met, newest first.
func (s *Part) Crash(ctx context.Context, c base.Caller, id int64) (store.Crash, []store.Meeting, error) {
	list, err := s.Store.Crashes(ctx, c.ProjectID, "", 0, id, 0, 1)
	if err != nil {
		return store.Crash{}, nil, err
	}
	if len(list) == 0 || id <= 0 {
		return store.Crash{}, nil, base.NotFound(fmt.Sprintf("there is no crash %d", id),
			remedy.Say("%s lists them", remedy.CrashList))
	}
	met, err := s.Store.Meetings(ctx, c.ProjectID, id, maxMeetings)
	return list[0], met, err
}

// Kept is a project's rule of retention with how much evidence there is.
type Kept struct {
	store.EvidenceRetention
	Pieces int
	Size   int64
}

// EvidenceRetention gives a project's rule.
func (s *Part) EvidenceRetention(ctx context.Context, c base.Caller) (out Kept, err error) {
	out.EvidenceRetention, err = s.Store.EvidenceRetentionOf(ctx, c.ProjectID)
	if err != nil && !errors.Is(err, pg.ErrNone) {
		return out, err
	}
	out.Pieces, out.Size, err = s.Store.EvidenceSize(ctx, c.ProjectID)
	return out, err
}

// SetEvidenceRetention changes a project's rule, which is heeded within the hour.
func (s *Part) SetEvidenceRetention(ctx context.Context, c base.Caller, r store.EvidenceRetention) error {
	if r.PassedDays < 0 || r.PassedDays > 3650 || r.Days < 0 || r.Days > 3650 || r.Bytes < 0 {
		return base.Invalid("evidence stays for 0 to 3650 days, and for 0 bytes or more",
			"0 keeps it for as long as there is")
	}
	if r.Days > 0 && r.PassedDays > r.Days {
		return base.Invalid("what passed would stay for longer than everything does", "give it as many days, or fewer")
	}
	r.ProjectID, r.ChangedBy = c.ProjectID, c.Name
	return s.Store.SetEvidenceRetention(ctx, r)
}

// letGoBatch is how many pieces are let go in one statement.
const letGoBatch = 2000

// LetGo lets go what the rules of all projects do not keep, and gives how many pieces of how many bytes that were.
// Their rows stay, and say why; the blobs are collected like others.
func (s *Part) LetGo(ctx context.Context) (pieces int, size int64, err error) {
	rules, err := s.Store.EvidenceRetentions(ctx)
	if err != nil {
		return 0, 0, err
	}
	for _, r := range rules {
		for _, one := range []func() (int, int64, error){
			func() (int, int64, error) {
				why := fmt.Sprintf("retention keeps evidence of what passed for %d days", r.PassedDays)
				if r.PassedDays == 0 {
					return 0, 0, nil
				}
				return s.Store.LetGoAged(ctx, r.ProjectID, r.PassedDays, true, why, letGoBatch)
			},
			func() (int, int64, error) {
				if r.Days == 0 {
					return 0, 0, nil
				}
				return s.Store.LetGoAged(ctx, r.ProjectID, r.Days, false,
					fmt.Sprintf("retention keeps evidence for %d days", r.Days), letGoBatch)
			},
			func() (int, int64, error) {
				if r.Bytes == 0 {
					return 0, 0, nil
				}
				why := fmt.Sprintf("retention keeps %d MB of evidence, and lets the oldest of what passed go first",
					r.Bytes>>20)
				return s.Store.LetGoMost(ctx, r.ProjectID, r.Bytes, why, letGoBatch)
			},
		} {
			for {
				n, bytes, err := one()
				pieces, size = pieces+n, size+bytes
				if err != nil || ctx.Err() != nil {
					return pieces, size, errors.Join(err, ctx.Err())
				}
				if n < letGoBatch {
					break
				}
			}
		}
	}
	return pieces, size, nil
}

// PinRun has a run's evidence stay whatever retention says, or no more.
func (s *Part) PinRun(ctx context.Context, c base.Caller, number int64, pinned bool) (store.Run, error) {
	by := ""
	if pinned {
		by = c.Name
	}
	if err := s.Store.PinRun(ctx, c.ProjectID, number, by); err != nil {
		return store.Run{}, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
	}
	return s.Store.RunNumbered(ctx, c.ProjectID, number)
}

// Pictures gives the names of a run's pictures and, where one is asked for, that picture in every combination.
func (s *Part) Pictures(ctx context.Context, c base.Caller, number int64, name string) (names []store.PictureName,
	list []store.NamedPicture, err error) {
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return nil, nil, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
	}
	if names, err = s.Store.PictureNames(ctx, r.ID, maxNames); err != nil || name == "" {
		return names, nil, err
	}
	list, err = s.Store.NamedPictures(ctx, r.ID, name, maxPictures)
	return names, list, err
}

// Coverage gives what was covered by which builds from one moment to another.
func (s *Part) Coverage(ctx context.Context, c base.Caller, app string, from, to time.Time) ([]store.Covered, error) {
	if !from.Before(to) || to.Sub(from) > 3700*24*time.Hour {
		return nil, base.Invalid("a span of time begins before it ends, and is of ten years at most",
			"give both: from=2026-01-01&to=2026-02-01")
	}
	return s.Store.Coverage(ctx, c.ProjectID, app, from, to, maxCovered)
}
