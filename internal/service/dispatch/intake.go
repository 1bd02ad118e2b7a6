package dispatch

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"yamato/internal/blob"
	"yamato/internal/core/crash"
	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
	"yamato/internal/core/script"
	"yamato/internal/core/states"
	"yamato/internal/core/verdict"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/sessions"
	"yamato/internal/store/vault"
)

// answers are what the hosts are to be told of each lease.
type answers struct {
	acks    map[int64]int64
	refused map[int64]string
	broken  map[int64]bool // events are missing between what we have and what came
}

func (s *Part) commit(ctx context.Context, batch []*inbound) (answers, error) {
	var out answers
	changed := false
	err := s.Store.InTx(ctx, func(t *store.Tx) error {
		out = answers{map[int64]int64{}, map[int64]string{}, map[int64]bool{}}
		var ids []int64
		seen := map[int64]bool{}
		for _, in := range batch {
			for _, e := range in.events {
				if !seen[e.Lease] {
					seen[e.Lease], ids = true, append(ids, e.Lease)
				}
			}
		}
		held, err := t.Leases.Hold(ctx, ids)
		if err != nil {
			return err
		}
		w := s.newWork(held)
		if w.there, err = t.BlobSizes(ctx, refsOf(batch)); err != nil {
			return err
		}
		for _, in := range batch {
			for _, e := range in.events {
				w.take(in.session.host, e, &out)
			}
		}
		changed = w.changed()
		return w.write(ctx, t)
	})
	if err == nil && changed {
		s.Bell.Ring()
	}
	return out, err
}

// answer tells each link what became of its events.
func (s *Part) answer(batch []*inbound, a answers) {
	for _, in := range batch {
		var m link.ToHost
		done := map[int64]bool{}
		broken := false
		for _, e := range in.events {
			broken = broken || a.broken[e.Lease]
			if done[e.Lease] {
				continue
			}
			done[e.Lease] = true
			if why, ok := a.refused[e.Lease]; ok {
				m.Refused = append(m.Refused, link.Refusal{Lease: e.Lease, Reason: why})
			} else if seq, ok := a.acks[e.Lease]; ok {
				m.Acks = append(m.Acks, link.Ack{Lease: e.Lease, Seq: seq})
			}
		}
		in.session.send(m)
		if broken {
			in.session.close(fmt.Errorf("events are missing; link again and send all that was not acknowledged"))
		}
	}
}

// work is what a batch of words about leases amounts to. It is decided first,
// over plain values, and written afterwards.
type work struct {
	leases  map[int64]*tally
	order   []*tally
	results []store.NewResult
	kept    []store.NewEvidence
	crashes []store.NewCrash
	located struct {
		project, app []int64
		locator      []string
	}
	seen       []vault.Element
	there      map[string]int64 // sizes of the blobs that the batch refers to, of those that were handed in
	entries    []sessions.Entry
	tolerance  fleet.Tolerance
	probeEvery time.Duration
}

// tally is one lease with what has happened to it.
type tally struct {
	store.Held
	change  store.LeaseChange
	touched bool
	closing bool // ends in this batch
	judged  map[int]bool
	device  states.Device // the device's new state, "" for no change
	why     string
	broken  *fleet.Broken    // the device was given up
	now     *fleet.Condition // how the device is since
	trouble bool             // the device's own
	side    *store.Sideline
	events  []any
	counts  store.Tally
	session sessions.Change
}

func (s *Part) newWork(held []store.Held) *work {
	w := &work{leases: map[int64]*tally{}, tolerance: s.Config.Tolerance, probeEvery: s.Config.ProbeEvery}
	for _, h := range held {
		t := &tally{Held: h, judged: map[int]bool{}, change: store.LeaseChange{Lease: h.Lease, LastSeq: h.LastSeq}}
		w.leases[h.Lease] = t
		w.order = append(w.order, t)
	}
	return w
}

func (w *work) changed() bool {
	for _, t := range w.order {
		if t.touched {
			return true
		}
	}
	return false
}

// take judges one event of a host's: refused, known already, or news.
func (w *work) take(host int64, e link.Event, out *answers) {
	t := w.leases[e.Lease]
	switch {
	case t == nil || t.HostID != host:
		out.refused[e.Lease] = "there is no such lease"
		return
	case e.Seq <= t.change.LastSeq:
		out.acks[e.Lease] = t.change.LastSeq
		return
	case (t.Ended || t.change.Ended) && e.Clean == nil:
		out.refused[e.Lease] = "the lease has ended"
		return
	case (t.Ended || t.change.Ended) && e.Clean != nil: // events between may have been refused
	case e.Seq != t.change.LastSeq+1:
		out.broken[e.Lease] = true
		return
	}
	if why := w.unkept(e); why != "" {
		out.refused[e.Lease] = why
		return
	}
	if why := w.news(t, e); why != "" {
		out.refused[e.Lease] = why
		return
	}
	t.touched, t.change.LastSeq = true, e.Seq
	out.acks[e.Lease] = e.Seq
	delete(out.refused, e.Lease)
}

// eachRef visits what an event refers to.
func eachRef(e link.Event, visit func(link.EvidenceRef)) {
	for _, r := range e.Evidence {
		visit(r)
	}
	if e.Case != nil {
		for _, r := range e.Case.Evidence {
			visit(r)
		}
	}
	if e.Entry != nil && e.Entry.Blob != nil {
		visit(*e.Entry.Blob)
	}
}

// refsOf gives the digests that a batch refers to, of those that are any.
func refsOf(batch []*inbound) (digests []string) {
	seen := map[string]bool{}
	for _, in := range batch {
		for _, e := range in.events {
			eachRef(e, func(r link.EvidenceRef) {
				if !seen[r.Digest] && blob.IsDigest(r.Digest) {
					seen[r.Digest], digests = true, append(digests, r.Digest)
				}
			})
		}
	}
	return digests
}

// Bounds of how a piece of evidence is called, in bytes.
const maxRefName = 400

// unkept tells what is wrong with what an event refers to: it is refused where it is said, so that nothing refers to
// what nobody has.
func (w *work) unkept(e link.Event) (why string) {
	eachRef(e, func(r link.EvidenceRef) {
		size, there := w.there[r.Digest]
		switch {
		case why != "":
		case !blob.IsDigest(r.Digest):
			why = fmt.Sprintf("evidence with %q for a digest", plain.Clip(r.Digest, 80))
		case len(r.Name) > maxRefName || len(r.MediaType) > maxRefName || len(r.Sort) > maxRefName ||
			!plain.Is(r.Name+r.MediaType+r.Sort):
			why = "evidence with a name that cannot be"
		case !there:
			why = "evidence " + r.Digest[:12] + " was never handed in"
		case size != r.Size:
			why = fmt.Sprintf("evidence %s has %d bytes, and not %d", r.Digest[:12], size, r.Size)
		}
	})
	return why
}

func (w *work) news(t *tally, e link.Event) (refusal string) {
	switch {
	case e.Began != nil:
		t.change.Began, t.change.Circumstances = true, e.Began.Circumstances
		t.tell(Event{Kind: "attempt"})
	case t.LegID == 0 && (e.Case != nil || e.CaseOpen != nil || e.Step != nil):
		return "it is a session's lease, and has no cases"
	case e.CaseOpen != nil:
		t.tell(Event{Kind: "case", Case: &e.CaseOpen.Case})
	case e.Step != nil:
		t.tell(Event{Kind: "step", Case: &e.Step.Case, Step: &e.Step.Step})
	case e.Case != nil:
		return w.judge(t, e.Case)
	case e.Entry != nil:
		return w.note(t, e)
	case e.Finished != nil:
		by := "host"
		if e.Finished.Device {
			by, t.trouble = "device", true
		}
		w.end(t.Lease, by, e.Finished.Trouble)
	case e.Clean != nil:
		if !t.Ended && !t.closing {
			w.end(t.Lease, "host", "its host gave the device up")
		}
		w.cleaned(t, e.Clean)
		w.tellClean(t, e)
	}
	if t.LegID != 0 {
		w.keep(t, -1, e.Evidence)
	}
	return ""
}

func (t *tally) tell(e Event) {
	if t.RunID == 0 {
		return
	}
	e.Leg, e.Attempt, e.Device = t.LegID, t.Attempt, t.Device
	t.events = append(t.events, e)
}

func (w *work) judge(t *tally, c *link.CaseClosed) (refusal string) {
	v := verdict.Verdict(c.Verdict)
	if !slices.Contains(t.Todo, c.Case) || t.judged[c.Case] || !v.Known() || v == verdict.None {
		return fmt.Sprintf("a result that cannot be: case %d, verdict %q", c.Case, c.Verdict)
	}
	t.judged[c.Case] = true
	r := store.NewResult{ProjectID: t.ProjectID, Lease: t.Lease, RunID: t.RunID, LegID: t.LegID, Case: c.Case,
		Verdict: c.Verdict, TookMS: c.TookMS, Steps: c.Steps,
		NotKept: c.NotKept[:min(len(c.NotKept), 2*len(evidence.Sorts))]}
	if c.Failure != nil {
		r.Failure, r.Sentence = c.Failure, c.Failure.Sentence()
	}
	w.results = append(w.results, r)
	w.keep(t, c.Case, c.Evidence)
	w.crash(t, c)
	for _, m := range c.Matched {
		if len(m) <= 500 {
			w.located.project, w.located.app, w.located.locator = append(w.located.project, t.ProjectID),
				append(w.located.app, t.AppID), append(w.located.locator, m)
		}
	}
	for _, e := range c.Seen {
		if len(e.ID) <= 200 && len(e.Text) <= 400 && len(e.Screen) <= 400 && len(e.Role) <= 50 && len(e.Unsure) <= 400 {
			w.seen = append(w.seen, vault.Element{Project: t.ProjectID, App: t.AppID, ID: e.ID, Text: e.Text,
				Role: e.Role, Screen: e.Screen, Unsure: e.Unsure})
		}
	}
	t.counts.Results++
	switch v {
	case verdict.Fail:
		t.counts.Fails++
	case verdict.Error:
		t.counts.Errors++
	}
	t.tell(Event{Kind: "result", Case: &c.Case, Verdict: c.Verdict, Sentence: r.Sentence, TookMS: c.TookMS})
	return ""
}

func (w *work) keep(t *tally, index int, refs []link.EvidenceRef) {
	for _, r := range refs {
		w.kept = append(w.kept, store.NewEvidence{ProjectID: t.ProjectID, RunID: t.RunID, Lease: t.Lease, Case: index,
			Sort: r.Sort, Name: r.Name, MediaType: r.MediaType, Digest: r.Digest, Size: r.Size, Facts: facts(r)})
	}
}

// crash notes which crash a case met, where its report is kept.
func (w *work) crash(t *tally, c *link.CaseClosed) {
	if c.Failure == nil || !slices.ContainsFunc(c.Evidence,
		func(r link.EvidenceRef) bool { return r.Sort == evidence.Crash.Name }) {
		return
	}
	w.crashes = append(w.crashes, store.NewCrash{ProjectID: t.ProjectID, AppID: t.AppID, Run: t.RunID, Lease: t.Lease,
		Leg:  t.LegID,
		Case: c.Case, Stack: crash.Read(c.Failure.Actual, c.Failure.Report)})
}

// facts gives what is said of a piece of evidence, nothing where that is too much.
func facts(r link.EvidenceRef) json.RawMessage {
	if len(r.Facts) > link.MaxFacts {
		return nil
	}
	return r.Facts
}

// end ends a lease: its device goes to resetting, never straight to idle.
func (w *work) end(lease int64, by, trouble string) {
	t := w.leases[lease]
	t.touched, t.closing = true, true
	t.change.Ended, t.change.EndedBy, t.change.Trouble = true, by, trouble
	if states.Devices.May(t.DevState, states.DeviceResetting) && t.LastLease == t.Lease {
		t.device, t.why = states.DeviceResetting, ""
	}
}

// cleaned frees the device, if this is the last lease that it had: to the state
// that its condition gives.
func (w *work) cleaned(t *tally, c *link.Clean) {
	state := t.DevState
	if t.device != "" {
		state = t.device
	}
	if t.LastLease != t.Lease || state != states.DeviceResetting {
		return
	}
	t.device, t.why = t.Ready, t.ReadyReason
	if c.Condition != nil {
		t.now = c.Condition
		t.device, t.why = c.Condition.State()
	}
	if c.Later { // it is not clean, and its host says when it is
		t.device, t.why = unclean(c, t)
	}
	switch {
	case c.Broken != nil:
		t.broken = c.Broken
		t.sideline(store.Sideline{By: base.Automatic, Reason: base.Short(c.Broken.Diagnosis, 500), Automatic: true,
			Broken: c.Broken})
	case c.Trouble != "":
		t.sideline(store.Sideline{By: base.Automatic, Reason: base.Short("it could not be cleaned: "+c.Trouble, 500),
			Automatic: true})
	case t.Sidelined:
		t.device, t.why = states.DeviceSidelined, t.SideReason
	}
	if t.Removed {
		t.device, t.why, t.side = states.DeviceOffline, "it was removed", nil
	}
}

// unclean gives the state of a device that its host has not been able to clean yet: none
// that anything runs in, whatever its checks say.
func unclean(c *link.Clean, t *tally) (state states.Device, why string) {
	if c.Condition != nil {
		if state, why := c.Condition.State(); state != states.DeviceIdle {
			return state, why
		}
	}
	return states.DeviceUnready, "it has not been cleaned of its last lease yet"
}

func (t *tally) sideline(s store.Sideline) {
	if !t.Sidelined {
		s.At = time.Now().UTC()
		t.side, t.SideReason = &s, s.Reason
	}
	t.device, t.why = states.DeviceSidelined, t.SideReason
}

// tolerate sidelines the devices whose trouble is more than is put up with, where several
// apps have met it; where only one has, the device is tried out first.
func (w *work) tolerate(ctx context.Context, t *store.Tx) error {
	for _, one := range w.order {
		if !one.trouble || !one.closing || one.side != nil || one.Sidelined || one.LegID == 0 {
			continue
		}
		now := time.Now()
		earlier, err := t.Troubles(ctx, one.LastLease, 50)
		if err != nil {
			return err
		}
		switch w.tolerance.Judge(append([]fleet.Trouble{{At: now, App: one.AppID}}, earlier...), now) {
		case fleet.Tolerate:
			continue
		case fleet.TryOut:
			if err := t.AskProbe(ctx, one.ProjectID, one.HostID, one.Device, base.Automatic); err != nil {
				return err
			}
			continue
		}
		s := store.Sideline{By: base.Automatic, At: now.UTC(), Automatic: true,
			Reason: fmt.Sprintf("%d device troubles within %s, the last: %s", w.tolerance.Count, w.tolerance.Within,
				base.Short(one.change.Trouble, 300))}
		one.side = &s
		if one.device != "" && one.device != states.DeviceResetting {
			one.device, one.why = states.DeviceSidelined, s.Reason
		}
	}
	return nil
}

// write carries out what was decided, in the order of locks.
func (w *work) write(ctx context.Context, t *store.Tx) error {
	if err := w.tolerate(ctx, t); err != nil {
		return err
	}
	var leases []store.LeaseChange
	var devices []store.DeviceChange
	var free []int64
	var closing []*tally
	for _, one := range w.order {
		if one.touched {
			leases = append(leases, one.change)
		}
		if one.side != nil {
			w.probe(one.side)
		}
		if one.device != "" {
			devices = append(devices, store.DeviceChange{ID: one.DeviceID, To: one.device, Reason: one.why,
				Condition: one.now,
				Sideline:  one.side})
			if one.device == states.DeviceIdle {
				free = append(free, one.DeviceID)
			}
		}
		if one.closing && one.LegID != 0 {
			closing = append(closing, one)
		}
	}
	for _, step := range []func() error{
		func() error { return t.ChangeLeases(ctx, leases) },
		func() error { return t.Devices.ChangeDevices(ctx, devices) },
		func() error { return t.MarkDirty(ctx, store.DirtyDevice, free) },
		func() error { return t.AddResults(ctx, w.results) },
		func() error { return t.AddEvidence(ctx, w.kept) },
		func() error { return t.Known.AddCrashes(ctx, w.crashes) },
		func() error { return t.AddEntries(ctx, w.entries) },
		func() error { return t.Known.AddLocators(ctx, w.located.project, w.located.app, w.located.locator) },
		func() error { return t.Known.AddSeen(ctx, w.seen) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	finished, err := w.decideLegs(ctx, t.Legs, closing)
	if err != nil {
		return err
	}
	if err := w.unblock(ctx, t.Legs); err != nil {
		return err
	}
	if err := t.Sittings.Change(ctx, w.sessions()); err != nil {
		return err
	}
	return w.tellRuns(ctx, t.Runs, finished)
}

// unblock has the legs that wait for accounts tried again where leases end: what they had is
// free.
func (w *work) unblock(ctx context.Context, t store.Legs) error {
	var projects []int64
	for _, one := range w.order {
		if one.change.Ended && !slices.Contains(projects, one.ProjectID) {
			projects = append(projects, one.ProjectID)
		}
	}
	if len(projects) == 0 {
		return nil
	}
	legs, err := t.Unblock(ctx, projects)
	if err != nil {
		return err
	}
	return t.MarkDirty(ctx, store.DirtyLeg, legs)
}

// probe sets when a device that was sidelined by itself is tried again.
func (w *work) probe(s *store.Sideline) {
	if s.Automatic && w.probeEvery > 0 {
		at := s.At.Add(w.probeEvery)
		s.ProbeAt = &at
	}
}

// decideLegs decides what becomes of the legs whose attempts end, and of those
// whose attempts have begun. It gives how many legs of each run are finished.
func (w *work) decideLegs(ctx context.Context, t store.Legs, closing []*tally) (map[int64]int, error) {
	so, err := crossings(ctx, t, closing)
	if err != nil {
		return nil, err
	}
	finished := map[int64]int{}
	var changes []store.LegChange
	var undecided []store.NewResult
	var again []int64
	for _, one := range w.order {
		var c store.LegChange
		switch {
		case one.LegID == 0: // a session has it
			continue
		case one.closing:
			if c, err = one.next(ctx, t, so[one.LegID]); err != nil {
				return nil, err
			}
		case one.change.Began && one.LegState == states.LegPlaced:
			c = store.LegChange{Leg: one.LegID, From: states.LegPlaced, To: states.LegRunning, Todo: one.Todo, Avoid: one.Avoid,
				UsedError: one.UsedError, UsedFail: one.UsedFail}
		default:
			continue
		}
		if !states.Legs.May(c.From, c.To) {
			continue // cancelled meanwhile
		}
		changes = append(changes, c)
		switch c.To {
		case states.LegWaiting:
			again = append(again, c.Leg)
			for _, i := range c.Todo {
				if _, had := so[one.LegID][i]; had { // the others have not had their first result yet
					one.counts.Expected++
				}
			}
			one.tell(Event{Kind: "again", Trouble: whyAgain(one.change.Trouble, c.Todo, so[one.LegID])})
		case states.LegFinished, states.LegCancelled:
			if c.To == states.LegFinished {
				undecided = append(undecided, one.leave(so[one.LegID])...)
			}
			finished[one.RunID]++
			one.tell(Event{Kind: "leg", State: string(c.To), Trouble: one.change.Trouble})
		}
	}
	n, err := t.Change(ctx, changes)
	if err != nil {
		return nil, err
	}
	if n != len(changes) {
		return nil, fmt.Errorf("%d legs were changed by another hand", len(changes)-n)
	}
	if err := t.AddResults(ctx, undecided); err != nil {
		return nil, err
	}
	return finished, t.MarkDirty(ctx, store.DirtyLeg, again)
}

// whyAgain says why cases of a leg go again.
func whyAgain(trouble string, cases []int, so map[int]verdict.Crossing) string {
	if trouble != "" {
		return trouble
	}
	errors, fails := 0, 0
	for _, i := range cases {
		if so[i].Verdict == verdict.Fail {
			fails++
		} else {
			errors++
		}
	}
	switch {
	case errors == 0:
		return "failed cases are repeated"
	case fails == 0:
		return "what met an error is tried once more"
	}
	return "what met an error is tried once more, and failed cases are repeated"
}

// leave gives every case of a leg that finishes without a result an error: it was asked
// for, and nobody will decide it any more.
func (t *tally) leave(so map[int]verdict.Crossing) []store.NewResult {
	why := t.change.Trouble
	if why == "" {
		why = "no attempt judged it"
	}
	var out []store.NewResult
	for _, i := range t.Cases {
		if _, has := so[i]; has {
			continue
		}
		failure := script.Failure{Cause: script.Trouble, Expected: "the case to be run", Actual: why}
		out = append(out, store.NewResult{ProjectID: t.ProjectID, Lease: t.Lease, RunID: t.RunID, LegID: t.LegID,
			Case:    i,
			Verdict: string(verdict.Error), Sentence: why, Failure: failure, Steps: []script.StepRecord{}})
		t.counts.Results++
		t.counts.Errors++
		t.tell(Event{Kind: "result", Case: base.Ptr(i), Verdict: string(verdict.Error), Sentence: why})
	}
	return out
}

// crossings folds all results of the legs that are closing.
func crossings(ctx context.Context, t store.Legs, closing []*tally) (map[int64]map[int]verdict.Crossing, error) {
	if len(closing) == 0 {
		return nil, nil
	}
	ids := make([]int64, len(closing))
	for i, c := range closing {
		ids[i] = c.LegID
	}
	rows, err := t.LegResults(ctx, ids)
	if err != nil {
		return nil, err
	}
	so := map[int64]map[int]verdict.Crossing{}
	for leg, cases := range byCase(rows) {
		so[leg] = map[int]verdict.Crossing{}
		for c, list := range cases {
			so[leg][c] = verdict.OfCrossing(list)
		}
	}
	for _, r := range rows { // oldest first: the last one counts
		if x := so[r.LegID][r.Case]; x.Verdict == verdict.Error {
			x.Final = script.Cause(r.Cause).Same()
			so[r.LegID][r.Case] = x
		}
	}
	return so, nil
}

// byCase gives the verdicts of each case of each leg, oldest first.
func byCase(rows []store.LegResult) map[int64]map[int][]verdict.Verdict {
	out := map[int64]map[int][]verdict.Verdict{}
	for _, r := range rows {
		if out[r.LegID] == nil {
			out[r.LegID] = map[int][]verdict.Verdict{}
		}
		out[r.LegID][r.Case] = append(out[r.LegID][r.Case], verdict.Verdict(r.Verdict))
	}
	return out
}

// next decides what becomes of a leg whose attempt ends.
func (t *tally) next(ctx context.Context, tx store.Legs, so map[int]verdict.Crossing) (store.LegChange, error) {
	c := store.LegChange{Leg: t.LegID, From: t.LegState, To: states.LegFinished, Todo: t.Todo, Avoid: t.Avoid,
		UsedError: t.UsedError, UsedFail: t.UsedFail}
	if t.EndAsked != "" {
		c.To = states.LegCancelled
		return c, nil
	}
	if !t.Began && !t.change.Began && t.change.EndedBy == "expiry" { // it never reached its host: nothing was tried
		c.To, c.Refund = states.LegWaiting, true
		return c, nil
	}
	next := verdict.After(t.Cases, so, verdict.Retry{AfterError: t.AfterError, AfterFail: t.Repeat},
		verdict.Used{AfterError: t.UsedError, AfterFail: t.UsedFail})
	if len(next.Cases) == 0 {
		return c, nil
	}
	c.To, c.Todo, c.UsedError, c.UsedFail = states.LegWaiting, next.Cases, next.Used.AfterError, next.Used.AfterFail
	if next.Elsewhere && !t.Pinned {
		avoid := append(append([]int64{}, t.Avoid...), t.DeviceID)
		other, err := tx.OtherDevices(ctx, t.LegID, avoid)
		if err != nil {
			return c, err
		}
		if other { // else there is no elsewhere, and the same device is better than none
			c.Avoid = avoid
		}
	}
	return c, nil
}

// tellRuns numbers the events and closes runs whose last leg is finished.
func (w *work) tellRuns(ctx context.Context, t store.Runs, finished map[int64]int) error {
	projects := map[int64]int64{}
	at := map[int64]int{}
	var list []store.RunEvents
	for _, one := range w.order {
		if len(one.events) == 0 {
			continue
		}
		projects[one.RunID] = one.ProjectID
		i, ok := at[one.RunID]
		if !ok {
			i = len(list)
			at[one.RunID] = i
			list = append(list, store.RunEvents{Run: one.RunID, Legs: finished[one.RunID]})
		}
		list[i].Events = append(list[i].Events, one.events...)
		list[i].Expected += one.counts.Expected
		list[i].Results += one.counts.Results
		list[i].Fails += one.counts.Fails
		list[i].Errors += one.counts.Errors
	}
	return AppendAndClose(ctx, t, projects, list)
}
