package dispatch

import (
	"context"

	"yamato/internal/core/script"
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
		held, err := t.LockWaiting(ctx, r.ID)
		if err != nil {
			return err
		}
		return AppendAndClose(ctx, t, map[int64]int64{r.ID: r.ProjectID}, []store.RunEvents{{Run: r.ID}}, held)
	}); err != nil {
		return err
	}
	return records.InTx(ctx, func(t *store.Tx) error {
		return t.AskEnd(ctx, r.ID, why)
	}) // a leg that was being placed has its lease by now
}

// AppendAndClose appends events and closes the runs that have no open leg left. It locks
// the runs' rows: a run that was cancelled a moment ago takes those of held along that wait, which are legs that
// this transaction has locked and may have just sent back to wait. Others are left to who cancelled it (WindDown):
// legs are locked before runs.
func AppendAndClose(ctx context.Context, t *store.Tx, projects map[int64]int64, list []store.RunEvents,
	held []int64) error {
	counted, err := t.AppendEvents(ctx, projects, list)
	if err != nil {
		return err
	}
	var cancelled []int64
	for _, r := range counted {
		if r.State == "cancelled" {
			cancelled = append(cancelled, r.Run)
		}
	}
	gone, err := t.CancelWaiting(ctx, cancelled, held)
	if err != nil {
		return err
	}
	for _, r := range counted {
		if n := gone[r.Run]; n > 0 {
			if _, err := t.AppendEvents(ctx, projects, []store.RunEvents{{Run: r.Run, Legs: n}}); err != nil {
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
		state := r.State
		if state != "cancelled" {
			state = "finished"
		}
		if err := t.FinishRun(ctx, r.Run, state, string(v)); err != nil {
			return err
		}
		closing := []store.RunEvents{{Run: r.Run, Events: []any{Event{Kind: "run", State: state, Verdict: string(v)}}}}
		if _, err := t.AppendEvents(ctx, projects, closing); err != nil {
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
func foldRun(ctx context.Context, t *store.Tx, run int64) (verdict.Verdict, error) {
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
