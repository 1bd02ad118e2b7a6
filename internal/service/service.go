// Package service puts the use cases together and owns their loops: builds, dispatch, runs,
// care and watch, over one base. They own transactions, state changes and events. What is
// decided is decided by internal/core; what is kept is kept by internal/store.
//
// A Service keeps nothing that the database does not: several may share one, and
// any may be killed at any time. One of them leads, which is to say schedules.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"yamato/internal/blob"
	"yamato/internal/contain"
	"yamato/internal/core/fleet"
	"yamato/internal/service/archive"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/care"
	"yamato/internal/service/checklists"
	"yamato/internal/service/dispatch"
	"yamato/internal/service/plans"
	"yamato/internal/service/runs"
	"yamato/internal/service/sessions"
	"yamato/internal/service/vault"
	"yamato/internal/store"
)

// Service is one instance: its parts, and the loops that make them work. Each part stands on the base and on those
// before it; no arrow runs back. What pages and commands show of them is put together in internal/api.
type Service struct {
	*base.Base
	Builds     *builds.Part
	Link       *dispatch.Part // with hosts
	Runs       *runs.Part
	Care       *care.Part // for devices
	Sessions   *sessions.Part
	Checklists *checklists.Part
	Vault      *vault.Part
	Plans      *plans.Part
	Archive    *archive.Part
	callers    *callers
}

// New gives an instance; Run makes it work.
func New(st *store.Store, blobs blob.Store, c base.Config) *Service {
	if c.TTL <= 0 {
		c.TTL = 30 * time.Second
	}
	if c.Silence <= 0 {
		c.Silence = 3 * time.Second
	}
	if c.Pace <= 0 {
		c.Pace = c.Silence / 6
	}
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	if c.Tolerance.Count == 0 {
		c.Tolerance = fleet.Tolerance{Count: 3, Within: time.Hour}
	}
	if c.ProbeEvery == 0 {
		c.ProbeEvery = 10 * time.Minute
	}
	if c.MendWithin == 0 {
		c.MendWithin = 15 * time.Minute
	}
	b := &base.Base{Store: st, Blobs: blobs, Bell: base.NewBell(), Config: c, Log: c.Log, Instance: uuid.NewString()}
	kept, tended := builds.New(b), care.New(b)
	ran := runs.New(b, kept)
	return &Service{
		Base: b, Builds: kept, Link: dispatch.New(b), Runs: ran, Care: tended, Sessions: sessions.New(b, kept, tended),
		Checklists: checklists.New(b, ran), Vault: vault.New(b), Plans: plans.New(b, ran), Archive: archive.New(b),
		callers: newCallers(),
	}
}

// Run works until ctx ends and the links of hosts have been given up: it listens for the bell,
// takes in what hosts report, and leads if nobody else does.
func (s *Service) Run(ctx context.Context) error {
	if err := s.Store.Beat(ctx, s.Instance, s.Config.Address); err != nil {
		return fmt.Errorf("registering this instance: %w", err)
	}
	g, ctx := errgroup.WithContext(ctx)
	for _, work := range append(s.Link.Loops(), s.Listen, s.PassOn, s.beat, s.collect, s.Care.Tend, s.Sessions.WatchSessions,
		s.Plans.KeepPlans) {
		g.Go(func() error {
			for contain.Do("a loop of the service", func() error { work(ctx); return nil }) != nil &&
				base.Every(ctx, time.Second) {
			}
			return nil
		})
	}
	err := g.Wait()
	s.Link.Wait()
	return err
}

// beat tells the others that this instance is alive, and tidies up behind the
// scheduler.
func (s *Service) beat(ctx context.Context) {
	for base.Every(ctx, s.Config.Silence/3) {
		if err := s.Store.Beat(ctx, s.Instance, s.Config.Address); err != nil && ctx.Err() == nil {
			s.Log.Warn("the database does not answer", "error", err)
		}
		if err := s.Link.Tidy(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("the scheduler's table could not be tidied", "error", err)
		}
	}
}

// collect takes away blobs that nothing refers to, a day after they came.
func (s *Service) collect(ctx context.Context) {
	if err := s.adopt(ctx); err != nil && ctx.Err() == nil {
		s.Log.Warn("the blob store could not be gone through", "error", err)
	}
	for base.Every(ctx, time.Hour) {
		if err := s.Blobs.Sweep(ctx, 24*time.Hour); err != nil && ctx.Err() == nil {
			s.Log.Warn("what arrived in part could not be taken away", "error", err)
		}
		if n, err := s.Builds.Retain(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("outdated builds could not be removed", "error", err)
		} else if n > 0 {
			s.Log.Info("outdated builds removed", "count", n)
		}
		if n, size, err := s.Archive.LetGo(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("evidence could not be let go", "error", err)
		} else if n > 0 {
			s.Log.Info("evidence was let go", "pieces", n, "bytes", size)
		}
		if n, err := s.CollectBlobs(ctx, 24*time.Hour); err != nil && ctx.Err() == nil {
			s.Log.Warn("unreferenced blobs could not be collected", "error", err)
		} else if n > 0 {
			s.Log.Info("unreferenced blobs collected", "count", n)
		}
	}
}

// CollectBlobs takes away blobs that no record refers to and that nobody has had a use
// for since grace ago.
func (s *Service) CollectBlobs(ctx context.Context, grace time.Duration) (int, error) {
	removed := 0
	for {
		n := 0
		err := s.Store.InTx(ctx, func(t *store.Tx) error {
			list, err := t.Blobs.TakeUnreferred(ctx, grace, 200)
			for _, d := range list { // whoever puts one of them again waits, and finds it gone
				err = errors.Join(err, s.Blobs.Remove(ctx, d))
			}
			n = len(list)
			return err
		})
		removed += n
		if err != nil || n == 0 {
			return removed, err
		}
	}
}

// adopt records the blobs that no record knows, as older versions left them.
func (s *Service) adopt(ctx context.Context) error {
	var digests []string
	var sizes []int64
	flush := func() error {
		err := s.Store.AdoptBlobs(ctx, digests, sizes)
		digests, sizes = digests[:0], sizes[:0]
		return err
	}
	err := s.Blobs.Each(ctx, func(b blob.Info) error {
		if digests, sizes = append(digests, b.Digest), append(sizes, b.Size); len(digests) == 500 {
			return flush()
		}
		return nil
	})
	return errors.Join(err, flush())
}
