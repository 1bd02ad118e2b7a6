package dispatch

import (
	"context"

	"yamato/internal/core/script"
	"yamato/internal/core/states"
	"yamato/internal/core/verdict"
	"yamato/internal/store"
)

// WindDown takes a cancelled run to its end: what waits is cancelled, and what runs is
// asked to end. It comes after the transaction that cancels the run, so that whoever
// sends a leg back to wait either sees that the run is cancelled, or is seen here. The
// leader does it again for runs that were left in between.
//
// It is two transactions: whoever takes word of a lease in locks that first and its run
// last.
func WindDown(ctx context.Context, records *store.Store, r store.Run, why string) error {
	if err := records.InTx(ctx, func(t *store.Tx) error {
		if err := t.Legs.HoldOpen(ctx, r.ID); err != nil {
			return err
		}
		return AppendAndClose(ctx, t.Runs, map[int64]int64{r.ID: r.ProjectID}, []store.RunEvents{{Run: r.ID}})
	}); err != nil {
		return err
	}
	return records.InTx(ctx, func(t *store.Tx) error {
		return t.Leases.AskEnd(ctx, r.ID, why)
	}) // a leg that was being placed has its lease by now
}

// Undecided is a leg that waits and that nothing will take any more: each case of it that has no verdict gets this one.
type Undecided struct {
	Leg, Run, Project int64
	Verdict           verdict.Verdict
	Cause             script.Cause
	Why               string
}

// CloseWaiting finishes a leg that waits, unless something has taken it meanwhile.
func CloseWaiting(ctx context.Context, t *store.Tx, u Undecided) error {
	closed, err := t.Legs.FinishWaiting(ctx, u.Leg)
	if err != nil || !closed {
		return err
	}
	failure := &script.Failure{Cause: u.Cause, Expected: "the case to be run", Actual: u.Why}
	n, err := t.Legs.DecideRest(ctx, u.Leg, string(u.Verdict), failure, u.Why)
	if err != nil {
		return err
	}
	tally := store.Tally{Results: n}
	if u.Verdict == verdict.Error {
		tally.Errors = n
	}
	return AppendAndClose(ctx, t.Runs, map[int64]int64{u.Run: u.Project}, []store.RunEvents{{
		Run: u.Run, Legs: 1, Tally: tally,
		Events: []any{Event{Kind: "leg", Leg: u.Leg, State: string(states.LegFinished), Trouble: u.Why}},
	}})
}

// AppendAndClose appends events and closes the runs that have no open leg left. It locks the runs' rows. A run that was
// cancelled a moment ago takes those legs along that wait and that this transaction has locked: it may have sent them back
// to wait just now. Other legs are left to who cancelled the run (WindDown), for legs are locked before runs.
func AppendAndClose(ctx context.Context, t store.Runs, projects map[int64]int64, list []store.RunEvents) error {
	counted, err := t.Append(ctx, projects, list)
	if err != nil {
		return err
	}
	var cancelled []int64
	for _, r := range counted {
		if r.State == states.RunCancelled {
			cancelled = append(cancelled, r.Run)
		}
	}
	gone, err := t.CancelWaiting(ctx, cancelled)
	if err != nil {
		return err
	}
	for _, r := range counted {
		if n := gone[r.Run]; n > 0 {
			if _, err := t.Append(ctx, projects, []store.RunEvents{{Run: r.Run, Legs: n}}); err != nil {
				return err
			}
			r.OpenLegs -= n
		}
		if r.OpenLegs > 0 {
			continue
		}
		v, err := foldRun(ctx, t, r.Run)
		if err != nil {
			return err
		}
		state, err := t.Finish(ctx, r.Run, string(v))
		if err != nil {
			return err
		}
		closing := []store.RunEvents{{
			Run: r.Run, Events: []any{Event{Kind: "run", State: string(state), Verdict: string(v)}},
		}}
		if _, err := t.Append(ctx, projects, closing); err != nil {
			return err
		}
	}
	return nil
}

// Event is what followers of a run are told. Its fields are those of RunEvent in
// api/openapi.yaml.
type Event struct {
	Kind     string `json:"kind"`
	Leg      int64  `json:"leg,omitempty"`
	Attempt  int    `json:"attempt,omitempty"`
	Device   string `json:"device,omitempty"`
	Case     *int   `json:"case_index,omitempty"`
	Verdict  string `json:"verdict,omitempty"`
	Sentence string `json:"sentence,omitempty"`
	TookMS   int64  `json:"took_ms,omitempty"`
	State    string `json:"state,omitempty"`
	Trouble  string `json:"trouble,omitempty"`

	Step *script.StepRecord `json:"step,omitempty"`
}

// foldRun folds all that a run was asked for into its verdict.
func foldRun(ctx context.Context, t store.Runs, run int64) (verdict.Verdict, error) {
	asked, rows, err := t.AskedOf(ctx, run)
	if err != nil {
		return verdict.None, err
	}
	results := byCase(rows)
	legs := make([]verdict.Outcome, len(asked))
	for i, l := range asked {
		legs[i] = verdict.Outcome{Suite: l.Revision, State: l.State, Cases: l.Cases, Results: results[l.ID]}
	}
	return verdict.OfRun(legs), nil
}
