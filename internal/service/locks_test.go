package service

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/care"
	"yamato/internal/service/runs"
	"yamato/internal/service/sessions"
	"yamato/internal/store"
)

// heedful keeps what is logged that tells of a deadlock (SQLSTATE 40P01), of locks out of their order, or of a state that
// cannot follow.
type heedful struct {
	mu   sync.Mutex
	told []string
}

func (h *heedful) Enabled(context.Context, slog.Level) bool { return true }
func (h *heedful) WithAttrs([]slog.Attr) slog.Handler       { return h }
func (h *heedful) WithGroup(string) slog.Handler            { return h }
func (h *heedful) Handle(_ context.Context, r slog.Record) error {
	text := r.Message
	r.Attrs(func(a slog.Attr) bool { text += " " + fmt.Sprint(a.Value.Any()); return true })
	h.note(text)
	return nil
}

func (h *heedful) note(text string) {
	for _, bad := range []string{"40P01", "deadlock", "the order of locks", "may not follow"} {
		if !strings.Contains(text, bad) {
			continue
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		h.told = append(h.told, text)
	}
}

// TestEverythingAtOnceMeetsNoDeadlock does at once what locks rows: placing, intake, renewals, hosts' words of their
// devices, starts, cancels, sidelining, ends of leases that ran out, errands and how they end, people's sessions, devices
// that are removed and come back, runs that stop early, accounts that legs wait for. YAMATO_LOCKS has it go on for a minute.
func TestEverythingAtOnceMeetsNoDeadlock(t *testing.T) {
	heard := &heedful{}
	w := newWorld(t, base.Config{Log: slog.New(heard), Pace: 20 * time.Millisecond})
	const each, enough = 12, 25
	begun := time.Now()
	long := 4 * time.Second
	if os.Getenv("YAMATO_LOCKS") != "" {
		long = time.Minute
	}
	ctx, stop := context.WithTimeout(context.Background(), long+2*time.Minute)
	defer stop()
	var started atomic.Int32 // runs; it goes on until there have been enough, however slow the machine is
	var all sync.WaitGroup
	busy := func(seed uint64, do func(r *rand.Rand)) {
		all.Go(func() {
			r := rand.New(rand.NewPCG(seed, 11))
			for ctx.Err() == nil {
				do(r)
			}
		})
	}
	problem := func(err error) {
		if err != nil {
			heard.note(err.Error())
		}
	}
	var list []link.Device
	for i := range each {
		list = append(list, kaede(fmt.Sprintf("kaede-7-%d", i)))
	}
	h := w.link(w.service, list...)
	var mu sync.Mutex
	held := map[int64]bool{}
	// A host that carries out what it is given, at once, in any order, and at times not at all.
	all.Go(func() {
		r := rand.New(rand.NewPCG(1, 11))
		for ctx.Err() == nil {
			var m link.ToHost
			if h.conn.Receive(ctx, &m) != nil {
				return
			}
			var events []link.Event
			r.Shuffle(len(m.Leases), func(i, j int) { m.Leases[i], m.Leases[j] = m.Leases[j], m.Leases[i] })
			for _, l := range m.Leases {
				mu.Lock()
				held[l.Number] = true
				mu.Unlock()
				if r.IntN(10) == 0 { // it runs out
					continue
				}
				seq := int64(1)
				events = append(events, began(l.Number))
				if l.Session != nil {
					events = append(events, finished(l.Number, seq+1)...)
					continue
				}
				for _, c := range l.Attempt.Cases {
					seq++
					events = append(events, result(l.Number, seq, c, []string{"pass", "fail"}[r.IntN(2)]))
				}
				events = append(events, finished(l.Number, seq+1)...)
			}
			for _, e := range m.Do {
				if h.conn.Send(ctx, link.FromHost{Done: &link.Done{ID: e.ID, Device: e.Device,
					Trouble: []string{"", "it does not answer"}[r.IntN(2)]}}) != nil {
					return
				}
			}
			if len(events) > 0 && h.conn.Send(ctx, link.FromHost{Events: events}) != nil {
				return
			}
		}
	})
	busy(2, func(r *rand.Rand) { // it renews, and tells of its devices, in any order
		var leases []int64
		mu.Lock()
		for n := range held {
			leases = append(leases, n)
		}
		clear(held)
		mu.Unlock()
		some := append([]link.Device{}, list...)
		r.Shuffle(len(some), func(i, j int) { some[i], some[j] = some[j], some[i] })
		_ = h.conn.Send(ctx, link.FromHost{Renew: leases, Fleet: &link.Fleet{Devices: some[:1+r.IntN(each)],
			Load: &link.Load{}, Offer: &benchOffer}})
		if r.IntN(4) == 0 {
			_ = h.conn.Send(ctx, link.FromHost{Fleet: &link.Fleet{Gone: []string{list[r.IntN(each)].Name, list[r.IntN(each)].Name}}})
		}
	})
	busy(3, func(r *rand.Rand) { // a person has a device, and gives it back
		one, err := w.service.Sessions.OpenSession(ctx, w.user, sessions.Wish{Device: list[r.IntN(each)].Name}, "")
		if err == nil && r.IntN(2) == 0 {
			_, err = w.service.Sessions.EndSession(ctx, w.user, one.Number)
		}
		problem(err)
	})
	busy(4, func(r *rand.Rand) {
		_, err := w.service.Care.Do(ctx, w.user, care.Wish{What: link.DoCheck, Device: list[r.IntN(each)].Name}, "")
		problem(err)
	})
	busy(5, func(r *rand.Rand) { // as the leader does where accounts are missing
		problem(w.store.InTx(ctx, func(t *store.Tx) error {
			legs, err := t.WaitingLegs(ctx)
			short := map[int64]string{}
			for _, l := range legs {
				short[l.ID] = "somebody"
			}
			if err != nil {
				return err
			}
			return t.Legs.Block(ctx, short)
		}))
		problem(w.store.InTx(ctx, func(t *store.Tx) error {
			legs, err := t.Legs.Unblock(ctx, nil)
			if err != nil {
				return err
			}
			return t.MarkDirty(ctx, store.DirtyLeg, legs)
		}))
	})
	for i := range uint64(3) {
		busy(10+i, func(r *rand.Rand) {
			run, err := w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "3.1.4",
				Suites: []string{"Two"}, RepeatFailed: r.IntN(2)}, "")
			problem(err)
			if err == nil && started.Add(1) > enough && time.Since(begun) > long {
				stop()
			}
			if err == nil && r.IntN(2) == 0 {
				_, err = w.service.Runs.CancelRun(ctx, w.user, run.Number)
				problem(err)
			}
		})
	}
	busy(20, func(r *rand.Rand) {
		name := list[r.IntN(each)].Name
		_, err := w.service.Care.Sideline(ctx, w.user, name, "for a moment", nil)
		problem(err)
		_, err = w.service.Care.Restore(ctx, w.user, name)
		problem(err)
	})
	db := w.sql(t)
	busy(30, func(*rand.Rand) {
		_, err := db.ExecContext(ctx, `update lease set expires_at = now() - interval '1 s' where id in (
			select id from lease where ended_at is null and random() < 0.05 order by id for no key update skip locked)`)
		problem(err)
	})
	busy(31, func(*rand.Rand) { // some are to stop at their first failure
		_, err := db.ExecContext(ctx, `update run set limits = '{"failures": 1}' where id in (
			select id from run where finished_at is null and random() < 0.2 order by id for no key update)`)
		problem(err)
		problem(w.service.Runs.EndEarly(ctx))
	})
	all.Wait()
	require.Empty(t, heard.told, "after %s", time.Since(begun))
	var n int
	require.NoError(t, db.Get(&n, `select deadlocks from pg_stat_database where datname = current_database()`))
	require.Zero(t, n)
	require.NoError(t, db.Get(&n, `select count(*) from run`))
	t.Logf("%d runs", n)
	require.GreaterOrEqual(t, n, enough)
}
