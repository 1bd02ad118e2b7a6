// Package service holds the use cases: handing in builds and suites, starting
// and following runs, leasing devices to attempts, taking in what hosts report.
// It owns transactions, state changes and events. What is decided is decided by
// internal/core; what is kept is kept by internal/store.
//
// A Service keeps nothing that the database does not: several may share one, and
// any may be killed at any time. One of them leads, which is to say schedules.
package service

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"yamato/internal/blob"
	"yamato/internal/core/fleet"
	"yamato/internal/store"
)

// Config is how a service behaves. The zero value is sensible.
type Config struct {
	Address string        // where others reach this instance
	TTL     time.Duration // of a lease that is not renewed; 30 s
	Silence time.Duration // after which a leader or an instance counts as gone; 3 s
	Pace    time.Duration // at which the leader looks the records over for what has become due; a sixth of Silence
	Log     *slog.Logger

	Tolerance  fleet.Tolerance // of device trouble, before a device is sidelined; 3 within an hour
	ProbeEvery time.Duration   // after which a device that was sidelined by itself is tried again; 10 min
	MendWithin time.Duration   // how long legs wait for devices that a person has to mend; 15 min
	MayFetch   []string        // hosts that packages may be fetched from though their address is private
}

// Service is one instance.
type Service struct {
	store    *store.Store
	blobs    blob.Store
	config   Config
	log      *slog.Logger
	instance string
	bell     *bell
	inbox    chan *inbound
	sessions sync.WaitGroup // hosts' links that are being served
	callers  *callers
	views    *views
	taken    atomic.Int64 // from the table of what is dirty, since it was tidied
}

// New gives an instance; Run makes it work.
func New(st *store.Store, blobs blob.Store, c Config) *Service {
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
	return &Service{store: st, blobs: blobs, config: c, log: c.Log, instance: uuid.NewString(), bell: newBell(), inbox: make(chan *inbound, 256), callers: newCallers(), views: &views{of: map[int64]*view{}}}
}

// Run works until ctx ends and the links of hosts have been given up: it listens for the bell, takes in what hosts report,
// and leads if nobody else does.
func (s *Service) Run(ctx context.Context) error {
	if err := s.store.Beat(ctx, s.instance, s.config.Address); err != nil {
		return fmt.Errorf("registering this instance: %w", err)
	}
	g, ctx := errgroup.WithContext(ctx)
	for _, work := range []func(context.Context){s.listen, s.ringNotify, s.beat, s.lead, s.takeIn, s.collect, s.tend} {
		g.Go(func() error { work(ctx); return nil })
	}
	err := g.Wait()
	s.sessions.Wait() // each records the end of its link
	return err
}

// beat tells the others that this instance is alive, and tidies up behind the
// scheduler.
func (s *Service) beat(ctx context.Context) {
	for every(ctx, s.config.Silence/3) {
		if err := s.store.Beat(ctx, s.instance, s.config.Address); err != nil && ctx.Err() == nil {
			s.log.Warn("the database does not answer", "error", err)
		}
		if s.taken.Load() > tidyAfter {
			s.taken.Store(0)
			if err := s.store.TidyDirty(ctx); err != nil && ctx.Err() == nil {
				s.log.Warn("the scheduler's table could not be tidied", "error", err)
			}
		}
	}
}

// collect takes away blobs that nothing refers to, a day after they came.
func (s *Service) collect(ctx context.Context) {
	if err := s.adopt(ctx); err != nil && ctx.Err() == nil {
		s.log.Warn("the blob store could not be gone through", "error", err)
	}
	for every(ctx, time.Hour) {
		if err := s.blobs.Sweep(ctx, 24*time.Hour); err != nil && ctx.Err() == nil {
			s.log.Warn("what arrived in part could not be taken away", "error", err)
		}
		if n, err := s.Retain(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("outdated builds could not be removed", "error", err)
		} else if n > 0 {
			s.log.Info("outdated builds removed", "count", n)
		}
		if n, err := s.CollectBlobs(ctx, 24*time.Hour); err != nil && ctx.Err() == nil {
			s.log.Warn("unreferenced blobs could not be collected", "error", err)
		} else if n > 0 {
			s.log.Info("unreferenced blobs collected", "count", n)
		}
	}
}

// CollectBlobs takes away blobs that no record refers to and that nobody has had a use
// for since grace ago.
func (s *Service) CollectBlobs(ctx context.Context, grace time.Duration) (int, error) {
	removed := 0
	for {
		n := 0
		err := s.store.InTx(ctx, func(t *store.Tx) error {
			list, err := t.TakeUnreferred(ctx, grace, 200)
			for _, d := range list { // whoever puts one of them again waits, and finds it gone
				err = errors.Join(err, s.blobs.Remove(ctx, d))
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
		err := s.store.AdoptBlobs(ctx, digests, sizes)
		digests, sizes = digests[:0], sizes[:0]
		return err
	}
	err := s.blobs.Each(ctx, func(b blob.Info) error {
		if digests, sizes = append(digests, b.Digest), append(sizes, b.Size); len(digests) == 500 {
			return flush()
		}
		return nil
	})
	return errors.Join(err, flush())
}

// put keeps a blob, and records that there is a use for it.
func (s *Service) put(ctx context.Context, r io.Reader, digest string, limit int64) (blob.Info, error) {
	return s.blobs.Put(ctx, r, digest, limit, func(b blob.Info) error { return s.store.NoteBlob(ctx, b.Digest, b.Size) })
}

// every waits for d and reports true, or false when ctx has ended.
func every(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// Caller is who calls.
type Caller = store.Caller

// Authenticate finds who a token belongs to.
func (s *Service) Authenticate(ctx context.Context, token string) (Caller, error) {
	if len(token) < 20 || len(token) > 200 {
		return Caller{}, unauthorised
	}
	if c, ok := s.callers.get(token, time.Now()); ok {
		return c, nil
	}
	c, err := s.store.CallerOf(ctx, token)
	if errors.Is(err, store.ErrNone) {
		return Caller{}, unauthorised
	}
	if err == nil {
		s.callers.put(token, c, time.Now())
	}
	return c, err
}

// callers remembers who tokens belong to, for a few seconds: a host makes
// thousands of calls, and a token that is taken back must soon be refused.
type callers struct {
	mu    sync.Mutex
	known map[[sha256.Size]byte]knownCaller
}

type knownCaller struct {
	caller Caller
	until  time.Time
}

const callerAge = 5 * time.Second

func newCallers() *callers { return &callers{known: map[[sha256.Size]byte]knownCaller{}} }

func (c *callers) get(token string, now time.Time) (Caller, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	k, ok := c.known[sha256.Sum256([]byte(token))]
	return k.caller, ok && now.Before(k.until)
}

func (c *callers) forget(token string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.known, sha256.Sum256([]byte(token)))
}

func (c *callers) put(token string, caller Caller, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.known) > 10_000 {
		clear(c.known)
	}
	c.known[sha256.Sum256([]byte(token))] = knownCaller{caller, now.Add(callerAge)}
}
