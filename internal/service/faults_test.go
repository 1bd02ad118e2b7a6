package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/runs"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

func closed(lease, seq int64, index int, verdict string, f *script.Failure) link.Event {
	return link.Event{Lease: lease, Seq: seq, Case: &link.CaseClosed{Case: index, Verdict: verdict, Failure: f}}
}

func ended(lease, seq int64, trouble string) []link.Event {
	return []link.Event{{Lease: lease, Seq: seq, Finished: &link.Finished{Trouble: trouble}},
		{Lease: lease, Seq: seq + 1, Clean: &link.Clean{}}}
}

// each takes so many leases, however they come.
func (h *fakeHost) each(n int, do func(link.Lease)) {
	h.t.Helper()
	for n > 0 {
		for _, l := range h.expect(func(m link.ToHost) bool { return len(m.Leases) > 0 }).Leases {
			do(l)
			n--
		}
	}
}

func TestARunInWhichACombinationNeverRanIsAnError(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	other := kaede("kaede-9-1")
	other.Model = "Kaede 9"
	h := w.link(w.service, kaede("kaede-7-1"), other)
	run := w.start(runs.Order{})
	h.each(3, func(l link.Lease) { // one passes; the other has no room, twice
		if l.Device == "kaede-7-1" {
			h.say(began(l.Number), closed(l.Number, 2, 0, "pass", nil), closed(l.Number, 3, 1, "pass", nil))
			h.say(ended(l.Number, 4, "")...)
		} else {
			h.say(began(l.Number))
			h.say(ended(l.Number, 2, "there is no room for it")...)
		}
	})
	d := w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
	require.Equal(t, "error", d.Run.Verdict)
	require.Equal(t, []int{4, 2}, []int{d.Run.Results, d.Run.Errors}, "what was asked for is counted whole")
	for _, l := range d.Legs {
		for _, x := range l.Cases {
			if l.Combination.Model == "Kaede 9" {
				require.Equal(t, "error", x.Verdict)
				require.Equal(t, "there is no room for it", *x.Results[0].Sentence)
			} else {
				require.Equal(t, "pass", x.Verdict)
			}
		}
	}
	causes, err := w.views.Causes(ctx, w.user, run.Number)
	require.NoError(t, err)
	require.Len(t, causes, 1)
	require.Equal(t, "there is no room for it", causes[0].Actual)
	last, err := w.views.SuiteDetail(ctx, w.user, "Two")
	require.NoError(t, err)
	require.Equal(t, "error", last.Last[0].Runs[0].Verdict, "in the suite's history too")
}

func TestALegThatNeverHadADeviceIsAnErrorWithItsReason(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond, MendWithin: time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"))
	w.start(runs.Order{})
	l := h.lease()
	run := w.start(runs.Order{}) // it waits for the only device, which is then in need of a person
	sick := fleet.Condition{Checks: []fleet.Check{{ID: "charge", Title: "charged", Why: "its battery is at 3 %",
		Remedy: "charge it"}}}
	h.say(began(l.Number), closed(l.Number, 2, 0, "pass", nil), closed(l.Number, 3, 1, "pass", nil),
		link.Event{Lease: l.Number, Seq: 4, Finished: &link.Finished{}},
		link.Event{Lease: l.Number, Seq: 5, Clean: &link.Clean{Condition: &sick}})
	d := w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
	require.Equal(t, "error", d.Run.Verdict)
	require.Equal(t, []int{2, 2}, []int{d.Run.Results, d.Run.Errors})
	require.Contains(t, *d.Legs[0].Cases[1].Results[0].Sentence, "its battery is at 3 %")
	sheet, err := w.views.Sheet(context.Background(), w.user, run.Number, d.Legs[0].Id, 0)
	require.NoError(t, err)
	require.Equal(t, "error", sheet.Verdict)
	require.Contains(t, *sheet.Attempts[0].Attempt.Trouble, "its battery is at 3 %")
}

func TestWhatARunKnowsIsFixedWhenItStarts(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	first, second := w.start(runs.Order{}), w.start(runs.Order{})
	l := h.lease()
	require.Empty(t, l.Attempt.Known)
	done := closed(l.Number, 2, 0, "pass", nil)
	done.Case.Matched = []string{`"x"`}
	h.say(began(l.Number), done, closed(l.Number, 3, 1, "pass", nil))
	h.say(ended(l.Number, 4, "")...)
	l = h.lease()
	require.Equal(t, second.Number, l.Attempt.Run)
	require.Empty(t, l.Attempt.Known, "what matched meanwhile elsewhere is not known to a run that had begun")
	h.say(began(l.Number), closed(l.Number, 2, 0, "pass", nil), closed(l.Number, 3, 1, "pass", nil))
	h.say(ended(l.Number, 4, "")...)
	w.start(runs.Order{})
	require.Equal(t, []string{`"x"`}, h.lease().Attempt.Known)
	_ = first
}

func TestAnErrorOfTheScriptGoesToNoOtherDevice(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"))
	run := w.start(runs.Order{})
	l := h.lease()
	h.say(began(l.Number), closed(l.Number, 2, 0, "error", &script.Failure{Cause: script.NeverMatched,
		Expected: "#typo",
		Actual:   "nothing has ever matched #typo"}),
		closed(l.Number, 3, 1, "error", &script.Failure{Cause: script.Trouble, Actual: "the cable dropped"}))
	h.say(ended(l.Number, 4, "the cable dropped")...)
	l = h.lease()
	require.Equal(t, []int{1}, l.Attempt.Cases)
	h.say(began(l.Number), closed(l.Number, 2, 1, "pass", nil))
	h.say(ended(l.Number, 3, "")...)
	d := w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
	require.Equal(t, "error", d.Run.Verdict)
	require.Equal(t, "pass", d.Legs[0].Cases[1].Verdict)
	require.True(t, *d.Legs[0].Cases[1].Recovered, "a pass after an error is no plain one")
}

func TestOneWordThatCannotBeKeptStopsNobodyElse(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"))
	bad, good := w.start(runs.Order{}), w.start(runs.Order{})
	var a, b link.Lease
	h.each(2, func(l link.Lease) {
		if l.Attempt.Run == bad.Number {
			a = l
		} else {
			b = l
		}
	})
	// In one message: an error that holds U+0000, which is cleaned; a second result of one
	// case, which no record can hold; and what another run has to say.
	h.say(began(a.Number), began(b.Number), closed(a.Number, 2, 0, "fail", &script.Failure{Cause: script.Crashed,
		Actual: "bad\x00thing"}), closed(b.Number, 2, 0, "pass", nil))
	h.acked(b.Number, 2)
	h.say(closed(a.Number, 3, 0, "pass", nil), closed(b.Number, 3, 1, "pass", nil))
	require.Contains(t, h.refused(a.Number), "cannot be kept")
	h.say(ended(b.Number, 4, "")...)
	d := w.awaitRun(good.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
	require.Equal(t, "pass", d.Run.Verdict)
	d = w.detail(bad.Number)
	require.Equal(t, "bad\uFFFDthing", (*d.Legs[0].Cases[0].Results[0].Failure)["actual"])
	require.Contains(t, *d.Legs[0].Attempts[0].Trouble, "cannot be kept")
}

func TestLeasesOfAnyNumberAndSizeAreDelivered(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	const leases = 6 // of some MB each: together more than one message holds, several times
	var steps strings.Builder
	const locators = 2000
	for i := range locators { // each lease names them all once it knows them
		fmt.Fprintf(&steps, "expect \"%s %d\"\n", strings.Repeat("<", 400), i)
	}
	_, err := w.service.Builds.PushSuite(ctx, w.user, builds.NewSuite{FileName: "large.yamato",
		Text: "suite \"Large\"\ncase \"c\"\n" + steps.String() + "end\n"})
	require.NoError(t, err)
	suite, err := w.store.SuiteNamed(ctx, w.user.ProjectID, "Large")
	require.NoError(t, err)
	app, err := w.store.Build(ctx, w.user.ProjectID, 1)
	require.NoError(t, err)
	require.NoError(t, w.store.InTx(ctx, func(tx *store.Tx) error {
		var projects, apps []int64
		for range suite.Locators.V {
			projects, apps = append(projects, w.user.ProjectID), append(apps, app.AppID)
		}
		return tx.Known.AddLocators(ctx, projects, apps, suite.Locators.V)
	}))
	var devices []link.Device
	for i := range leases {
		devices = append(devices, kaede(fmt.Sprintf("kaede-7-%d", i)))
	}
	h := w.link(w.service, devices...)
	for range leases {
		w.start(runs.Order{Build: "3.1.4", Suites: []string{"Large"}})
	}
	got := map[int64]bool{}
	for len(got) < leases {
		m := h.expect(func(m link.ToHost) bool { return len(m.Leases) > 0 })
		body, err := json.Marshal(m)
		require.NoError(t, err)
		require.Less(t, len(body), link.MaxMessage)
		for _, l := range m.Leases {
			require.Len(t, l.Attempt.Known, locators)
			got[l.Number] = true
		}
	}
}

// Whatever commits first, everything that is asked for is done.
func TestErrandsAndLooksThatCommitOutOfOrderAreAllPassedOn(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"))
	hosts, err := w.store.Hosts(ctx, w.user.ProjectID)
	require.NoError(t, err)
	early, late := make(chan struct{}), make(chan struct{})
	var done sync.WaitGroup
	done.Go(func() { // takes its number first, and commits last
		_ = w.store.InTx(ctx, func(tx *store.Tx) error {
			_, err := tx.AskErrand(ctx, w.user.ProjectID, store.Errand{HostID: hosts[0].ID, Device: "kaede-7-1",
				What: link.DoCheck, AskedBy: "first"})
			close(early)
			<-late
			return err
		})
	})
	<-early
	second, err := w.store.AskErrand(ctx, w.user.ProjectID, store.Errand{HostID: hosts[0].ID, Device: "kaede-7-1",
		What: link.DoCheck, AskedBy: "second"}, pg.Wish{})
	require.NoError(t, err)
	w.service.Bell.Ring()
	m := h.expect(func(m link.ToHost) bool { return len(m.Do) > 0 })
	require.Equal(t, second, m.Do[0].ID)
	close(late)
	done.Wait()
	w.service.Bell.Ring()
	m = h.expect(func(m link.ToHost) bool { return len(m.Do) > 0 })
	require.Less(t, m.Do[0].ID, second)
	require.NoError(t, h.conn.Send(ctx, link.FromHost{Done: &link.Done{ID: second}}))
	m = h.expect(func(m link.ToHost) bool { return len(m.Heard) > 0 })
	require.Equal(t, []int64{second}, m.Heard, "an answer is forgotten only once it has been kept")
}

func TestARunThatIsCancelledWhileALegGoesBackToWaitEnds(t *testing.T) {
	for i := range 12 {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			w := newWorld(t, base.Config{Pace: 50 * time.Millisecond})
			h := w.link(w.service, kaede("kaede-7-1"))
			run := w.start(runs.Order{})
			l := h.lease()
			h.say(began(l.Number))
			h.acked(l.Number, 1)
			var both sync.WaitGroup
			both.Go(func() { // its leg goes back to wait: nothing was decided
				time.AfterFunc(time.Duration(i)*300*time.Microsecond, func() {
					h.say(ended(l.Number, 2, "the cable dropped")...)
				})
			})
			both.Go(func() {
				_, err := w.service.Runs.CancelRun(context.Background(), w.user, run.Number)
				require.NoError(t, err)
			})
			both.Wait()
			var host sync.WaitGroup
			host.Go(func() { // its leg may have been given out once more, a moment before
				for {
					var m link.ToHost
					if h.conn.Receive(context.Background(), &m) != nil {
						return
					}
					for _, e := range m.End {
						if e.Lease != l.Number {
							h.say(ended(e.Lease, 1, e.Reason)...)
						}
					}
				}
			})
			defer func() { h.hangUp(); host.Wait() }()
			d := w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
			require.Equal(t, "cancelled", d.Run.State)
			require.Zero(t, d.Run.OpenLegs)
			require.Equal(t, "cancelled", d.Legs[0].State)
			w.awaitState("kaede-7-1", "idle")
		})
	}
}

func TestACancelledRunThatWasLeftInBetweenIsWoundDown(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"))
	w.start(runs.Order{})
	h.lease()
	run := w.start(runs.Order{}) // it waits
	r, err := w.store.RunNumbered(ctx, w.user.ProjectID, run.Number)
	require.NoError(t, err)
	require.NoError(t, w.store.InTx(ctx, func(tx *store.Tx) error {
		fresh, err := tx.Runs.Cancel(ctx, r.ID)
		require.True(t, fresh)
		return err
	})) // and then its service died
	d := w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
	require.Equal(t, []string{"cancelled", "none"}, []string{d.Run.State, d.Run.Verdict})
}

func TestADeviceThatIsRemovedUnderALeaseIsGoneOnceThatHasEnded(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"))
	run := w.start(runs.Order{})
	l := h.lease()
	require.NoError(t, h.conn.Send(ctx, link.FromHost{Fleet: &link.Fleet{Gone: []string{"kaede-7-1"}}}))
	h.say(ended(l.Number, 1, "its device was removed")...)
	h.acked(l.Number, 2)
	rows, err := w.store.Devices(ctx, w.user.ProjectID)
	require.NoError(t, err)
	require.Empty(t, rows)
	d := w.detail(run.Number)
	require.NotNil(t, d.Legs[0].Attempts[0].Ended)
	_, err = w.service.Runs.CancelRun(ctx, w.user, run.Number)
	require.NoError(t, err)
	w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
}

// A host that reads nothing keeps no other host from being told.
func TestOneStalledHostDelaysNoOther(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	mine, theirs := newPipe()
	mine.in = nil // it never reads
	stalled := theirs
	stalled.out = make(chan []byte) // and its connection holds nothing
	done := make(chan struct{})
	go func() { defer close(done); _ = w.service.Link.ServeHost(ctx, w.host, stalled) }()
	t.Cleanup(func() { mine.once.Do(func() { close(mine.closed) }); <-done })
	require.NoError(t, mine.Send(ctx, link.FromHost{Hello: &link.Hello{Version: link.Version, Host: "stalled",
		Site: "bench"}}))
	for range 200 {
		require.NoError(t, mine.Send(ctx, link.FromHost{Events: []link.Event{{Lease: 99, Seq: 1,
			Finished: &link.Finished{}}}}))
		if len(theirs.in) > 90 {
			break
		}
	}
	h := w.link(w.service, kaede("kaede-7-1"))
	w.start(runs.Order{})
	l := h.lease()
	from := time.Now()
	h.say(began(l.Number))
	h.acked(l.Number, 1)
	require.Less(t, time.Since(from), 20*time.Second)
}

func TestADeviceIsTakenOutOnlyForWhatSeveralAppsMeetOrAProbeShows(t *testing.T) {
	w := newWorld(t, base.Config{Tolerance: fleet.Tolerance{Count: 2, Within: time.Hour}})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"))
	w.start(runs.Order{})
	for range 2 {
		l := h.lease()
		h.say(began(l.Number), link.Event{Lease: l.Number, Seq: 2, Finished: &link.Finished{Trouble: "it did not start",
			Device: true}}, link.Event{Lease: l.Number, Seq: 3, Clean: &link.Clean{}})
	}
	probe := h.expect(func(m link.ToHost) bool { return len(m.Do) > 0 }).Do[0]
	require.Equal(t, link.DoProbe, probe.What)
	w.awaitState("kaede-7-1", "idle")
	require.NoError(t, h.conn.Send(ctx, link.FromHost{Done: &link.Done{ID: probe.ID,
		Trouble: "its screen stays black"}}))
	d := w.awaitState("kaede-7-1", "sidelined")
	require.Contains(t, d.Sideline.Reason, "its screen stays black")
}

// named links a host by hand: which process it is, and when that was started.
func (w *world) named(boot string, started int64) (*fakeHost, <-chan error, link.ToHost) {
	w.t.Helper()
	mine, theirs := newPipe()
	ended := make(chan error, 1)
	go func() { ended <- w.service.Link.ServeHost(context.Background(), w.host, theirs) }()
	h := &fakeHost{w.t, mine}
	w.t.Cleanup(h.hangUp)
	require.NoError(w.t, mine.Send(context.Background(), link.FromHost{Hello: &link.Hello{Version: link.Version,
		Host: "bench", Site: "bench", Boot: boot, Started: started}}))
	var first link.ToHost
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	_ = mine.Receive(ctx, &first)
	return h, ended, first
}

func TestOfTwoHostsOfOneNameTheLaterHasTheLinkAndBothAreTold(t *testing.T) {
	w := newWorld(t, base.Config{})
	_, earlierEnded, welcome := w.named("earlier", 1000)
	require.False(t, welcome.Welcome.Replaced)
	later, laterEnded, welcome := w.named("later", 2000)
	require.True(t, welcome.Welcome.Replaced, "it is told whose place it has")
	require.ErrorContains(t, <-earlierEnded, "another host of this name")
	mine, theirs := newPipe()
	require.NoError(t, mine.Send(context.Background(), link.FromHost{Hello: &link.Hello{Version: link.Version,
		Host: "bench", Site: "bench", Boot: "earlier", Started: 1000}}))
	require.ErrorContains(t, w.service.Link.ServeHost(context.Background(), w.host, theirs), "started later, is linked")
	later.hangUp()
	<-laterEnded
	_, _, welcome = w.named("earlier", 1000)
	require.NotNil(t, welcome.Welcome, "once that has ended the first is seen again")
}

func TestAFullDiskIsSaidAtOnceAndWhatCannotBeIsTheCallers(t *testing.T) {
	require.Equal(t, base.DiskFull, base.AsProblem(fmt.Errorf("receiving a blob: %w", &os.PathError{Op: "write",
		Err: syscall.ENOSPC})).Kind)
	require.Equal(t, base.Wrong, base.AsProblem(errors.New(
		"failed to encode args[1]: 2147483648 is greater than maximum value for int4")).Kind)
	require.Equal(t, base.Internal, base.AsProblem(errors.New("anything else")).Kind)
}

// What a host says that it has handed in is looked up where it says so.
func TestEvidenceThatWasNeverHandedInIsRefusedWhereItIsSaid(t *testing.T) {
	content := []byte("a picture")
	sum := sha256.Sum256(content)
	whole := link.EvidenceRef{Sort: "picture", Name: "failure", MediaType: "image/png",
		Digest: hex.EncodeToString(sum[:]), Size: int64(len(content))}
	for says, change := range map[string]func(*link.EvidenceRef){
		"":                     func(*link.EvidenceRef) {},
		"was never handed in":  func(r *link.EvidenceRef) { r.Digest = strings.Repeat("a", 64) },
		"for a digest":         func(r *link.EvidenceRef) { r.Digest = "../../../etc" },
		"has 9 bytes, and not": func(r *link.EvidenceRef) { r.Size = -1 },
		"a name that cannot":   func(r *link.EvidenceRef) { r.Name = strings.Repeat("x", 500) },
	} {
		w := newWorld(t, base.Config{})
		h := w.link(w.service, kaede("kaede-7-1"))
		_, err := w.service.Put(context.Background(), bytes.NewReader(content), whole.Digest, 100)
		require.NoError(t, err)
		w.start(runs.Order{})
		l := h.lease().Number
		ref := whole
		change(&ref)
		h.say(began(l), link.Event{Lease: l, Seq: 2, Case: &link.CaseClosed{Case: 0, Verdict: "pass",
			Evidence: []link.EvidenceRef{ref}}})
		if says == "" {
			h.acked(l, 2)
			continue
		}
		require.Contains(t, h.refused(l), says)
	}
}
