package store

import (
	"context"
	"fmt"
	"slices"

	"github.com/jmoiron/sqlx"

	"time"
	"yamato/internal/store/access"
	"yamato/internal/store/pg"
	"yamato/internal/store/sessions"
	"yamato/internal/store/vault"
)

// stage is how far a transaction has come. Rows are locked in one order, so that no two transactions wait for each other.
// The order is a chain of types: what locks rows of a kind is a method of that kind's stage, and a stage leads to those
// that come after it and to none before. A function that is given Legs cannot lock a device: it does not compile. What
// types cannot see, a stage that is kept and used again after a later one, is an OrderError wherever it is tried (lock),
// and not once in a thousand times a deadlock.
//
//	Builds    a project's apps and builds
//	Hosts     the leadership (shared), hosts, their tokens, what they are asked to do
//	Leases    by number
//	Devices   by id
//	Known     what is known of apps: crashes, locators, elements, by their keys
//	Legs      by id, and the accounts that they are lent
//	Sittings  sessions by id
//	Runs      by id, with the numbers of their events
//	Blobs     by digest
//
// What locks many locks them sorted, by a statement of its own, before it changes any. Rows that stay are locked against
// changes and not against being referred to (for no key update), so that who adds something of a run waits for nobody.
// What a transaction holds it may change at any stage: ChangeLeases, Runs.CancelWaiting ask for that.
//
// What has to know a run's state before it touches the run's legs does so in a transaction of its own: see WindDown in
// internal/service/dispatch. TestEverythingAtOnceMeetsNoDeadlock does all at once.
type stage int

const (
	atStart stage = iota
	atBuilds
	atHosts
	atLeases
	atDevices
	atKnown
	atLegs
	atSessions
	atRuns
	atBlobs
)

func (s stage) String() string {
	return [...]string{"start", "builds", "hosts", "leases", "devices", "what is known of apps", "legs", "sessions", "runs",
		"blobs"}[s]
}

// OrderError tells that a transaction wanted to lock rows of a kind after it had locked some that come later.
type OrderError struct{ At, Wanted string }

func (e OrderError) Error() string {
	return fmt.Sprintf("the order of locks: %s were wanted after %s", e.Wanted, e.At)
}

// open is what a transaction may do at every stage: read, and add what nobody waits for.
type open struct {
	sessions.Reading
	tx *sqlx.Tx
	at stage

	leases, devices, legs map[int64]bool // rows that this transaction has locked
}

// lock moves the transaction on to a stage.
func (o *open) lock(s stage) error {
	if s < o.at {
		return OrderError{o.at.String(), s.String()}
	}
	o.at = s
	return nil
}

// row locks what a statement locks at a stage, and gives the one row that it gives: ErrNone for none.
func (o *open) row(ctx context.Context, s stage, into any, query string, args ...any) error {
	if err := o.lock(s); err != nil {
		return err
	}
	return pg.Found(o.tx.GetContext(ctx, into, query, args...))
}

// rows is the same for many.
func (o *open) rows(ctx context.Context, s stage, into any, query string, args ...any) error {
	if err := o.lock(s); err != nil {
		return err
	}
	return o.tx.SelectContext(ctx, into, query, args...)
}

// change is the same for a statement that gives none.
func (o *open) change(ctx context.Context, s stage, query string, args ...any) error {
	if err := o.lock(s); err != nil {
		return err
	}
	return o.exec(ctx, query, args...)
}

func (o *open) exec(ctx context.Context, query string, args ...any) error {
	return pg.Exec(ctx, o.tx, query, args...)
}

// note keeps which rows a transaction has locked.
func note(held *map[int64]bool, ids []int64) {
	if *held == nil {
		*held = map[int64]bool{}
	}
	for _, id := range ids {
		(*held)[id] = true
	}
}

// all gives them, in order.
func all(held map[int64]bool) []int64 {
	ids := make([]int64, 0, len(held))
	for id := range held {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// The stages. Each holds the one after it, and with that all that follow: `t.Legs` leads there from wherever t stands
// before legs, and from nowhere else.
type (
	// Tx is a transaction that has locked nothing.
	Tx       struct{ Builds }
	Builds   struct{ Hosts }
	Hosts    struct{ Leases }
	Leases   struct{ Devices }
	Devices  struct{ Known }
	Known    struct{ Legs }
	Legs     struct{ Sittings }
	Sittings struct{ Runs } // of sessions
	Runs     struct{ Blobs }
	Blobs    struct{ *open }
)

// InTx runs do in a transaction, which is committed if do gives nil.
func (s *Store) InTx(ctx context.Context, do func(*Tx) error) error {
	return s.Records.InTx(ctx, func(tx *sqlx.Tx) error { return do(begin(tx)) })
}

func begin(tx *sqlx.Tx) *Tx {
	t := &Tx{}
	t.open = &open{Reading: sessions.Reading{SQL: tx}, tx: tx}
	return t
}

// Enrol keeps the own token of a host that has come with the shared one (access.Enrol).
func (h Hosts) Enrol(ctx context.Context, project int64, host, token string) error {
	if err := h.lock(atHosts); err != nil {
		return err
	}
	return access.Enrol(ctx, h.tx, project, host, token)
}

// Linked notes that a host has come with a token of its own.
func (h Hosts) Linked(ctx context.Context, token int64) error {
	if err := h.lock(atHosts); err != nil {
		return err
	}
	return access.Linked(ctx, h.tx, token)
}

// AddSeen keeps what screens had on them (vault.AddSeen).
func (k Known) AddSeen(ctx context.Context, list []vault.Element) error {
	if err := k.lock(atKnown); err != nil {
		return err
	}
	return vault.AddSeen(ctx, k.tx, list)
}

// Lend lends legs that were just placed the accounts that their suites want (vault.Lend).
func (l Legs) Lend(ctx context.Context, legs []int64) (blocked map[int64]string, err error) {
	if err := l.lock(atLegs); err != nil {
		return nil, err
	}
	return vault.Lend(ctx, l.tx, legs)
}

// Block notes which account legs wait for (vault.Block).
func (l Legs) Block(ctx context.Context, blocked map[int64]string) error {
	if err := l.lock(atLegs); err != nil {
		return err
	}
	return vault.Block(ctx, l.tx, blocked)
}

// Unblock has legs tried again that wait for accounts (vault.Unblock).
func (l Legs) Unblock(ctx context.Context, projects []int64) ([]int64, error) {
	if err := l.lock(atLegs); err != nil {
		return nil, err
	}
	return vault.Unblock(ctx, l.tx, projects)
}

// Place gives devices, which this transaction has locked, to a session that waits (sessions.Place).
func (s Sittings) Place(ctx context.Context, session, device int64, ttl time.Duration) (bool, error) {
	if !s.devices[device] {
		return false, OrderError{s.at.String(), atDevices.String()}
	}
	if err := s.lock(atSessions); err != nil {
		return false, err
	}
	return sessions.Place(ctx, s.tx, session, device, ttl)
}

// Change carries changes of sessions out (sessions.ChangeAll).
func (s Sittings) Change(ctx context.Context, list []sessions.Change) error {
	if err := s.lock(atSessions); err != nil {
		return err
	}
	return sessions.ChangeAll(ctx, s.tx, list)
}
