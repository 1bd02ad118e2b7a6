package service

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/care"
	"yamato/internal/service/runs"
	"yamato/internal/store"
)

func (h *fakeHost) fleet(f link.Fleet) {
	h.t.Helper()
	require.NoError(h.t, h.conn.Send(context.Background(), link.FromHost{Fleet: &f}))
}

func (h *fakeHost) done(d link.Done) {
	h.t.Helper()
	require.NoError(h.t, h.conn.Send(context.Background(), link.FromHost{Done: &d}))
}

func (h *fakeHost) asked(what string) link.Errand {
	h.t.Helper()
	var out link.Errand
	h.expect(func(m link.ToHost) bool {
		for _, e := range m.Do {
			if e.What == what {
				out = e
			}
		}
		return out.What == what
	})
	return out
}

// awaitState waits until a device is in a state.
func (w *world) awaitState(name, state string) contract.Device {
	w.t.Helper()
	var got contract.Device
	require.Eventually(w.t, func() bool {
		d, err := w.store.DeviceNamed(context.Background(), w.user.ProjectID, name)
		got = wire.Device(d)
		return err == nil && got.State == state
	}, 10*time.Second, 10*time.Millisecond, "%s is %s, not %s", name, got.State, state)
	return got
}

func refusal(t *testing.T, err error, says string) *base.Problem {
	t.Helper()
	var p *base.Problem
	require.ErrorAs(t, err, &p)
	require.Contains(t, p.Title, says)
	return p
}

func trouble(lease, seq int64, own bool, words string) []link.Event {
	return []link.Event{{Lease: lease, Seq: seq, Finished: &link.Finished{Trouble: words, Device: own}},
		{Lease: lease, Seq: seq + 1, Clean: &link.Clean{}}}
}

var notAllowed = fleet.Condition{Power: fleet.PowerUp,
	Checks: []fleet.Check{{ID: "connected", Title: "It is connected", OK: true},
		{ID: "debugging", Title: "Debugging is allowed", Why: "debugging was never allowed", Remedy: "allow it"}}}

func TestADevicesStateFollowsItsConditionAndRunsWaitForIt(t *testing.T) {
	w := newWorld(t, base.Config{})
	d := kaede("kaede-7-1")
	d.Condition = notAllowed
	h := w.link(w.service, d)
	got := w.awaitState("kaede-7-1", "unready")
	require.Equal(t, "debugging was never allowed", *got.Reason)
	require.Len(t, *got.Checks, 2)
	_, err := w.service.Runs.StartRun(context.Background(), w.user, runs.Order{Build: "1", Suites: []string{"Two"}}, "")
	p := refusal(t, err, "kaede-7-1 is not ready: debugging was never allowed")
	require.Equal(t, "allow it", p.Hint.String(), "the remedy stands with the refusal")

	d.Condition = fleet.Condition{Power: fleet.PowerBooting, Doing: "boot"}
	h.fleet(link.Fleet{Devices: []link.Device{d}})
	w.awaitState("kaede-7-1", "booting")
	run := w.start(runs.Order{})
	d.Condition = fleet.Condition{Power: fleet.PowerUp}
	h.fleet(link.Fleet{Devices: []link.Device{d}})
	lease := h.lease()
	require.Equal(t, run.Number, lease.Attempt.Run, "a device that comes up takes what waits")

	d.Condition = notAllowed // its owner takes the permission back while a lease has it
	h.fleet(link.Fleet{Devices: []link.Device{d}})
	h.say(began(lease.Number))
	h.acked(lease.Number, 1)
	w.awaitState("kaede-7-1", "leased")
	h.say(link.Event{Lease: lease.Number, Seq: 2, Finished: &link.Finished{Trouble: "gone", Device: true}},
		link.Event{Lease: lease.Number, Seq: 3, Clean: &link.Clean{Condition: &notAllowed}})
	w.awaitState("kaede-7-1", "unready")
	require.Equal(t, "running", w.detail(run.Number).Run.State, "the leg waits; nothing is marked fail")
	require.Equal(t, "kaede-7-1 to be made ready: debugging was never allowed; `yamato device check kaede-7-1` "+
		"says what to do", *w.detail(run.Number).Legs[0].WaitsFor)
	here, err := w.views.Now(context.Background(), w.user)
	require.NoError(t, err)
	require.Contains(t, here.Waiting[0].WaitsFor, "kaede-7-1 to be made ready")
	d.Condition = fleet.Condition{Power: fleet.PowerUp}
	h.fleet(link.Fleet{Devices: []link.Device{d}})
	require.Equal(t, run.Number, h.lease().Attempt.Run, "and goes on once it is mended")
}

func TestLegsWhoseDevicesNobodyMendsEndAsErrorsWithTheRemedy(t *testing.T) {
	w := newWorld(t, base.Config{MendWithin: time.Millisecond, Pace: 50 * time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"))
	run := w.start(runs.Order{})
	lease := h.lease()
	h.say(began(lease.Number), link.Event{Lease: lease.Number, Seq: 2, Finished: &link.Finished{Trouble: "gone",
		Device: true}}, link.Event{Lease: lease.Number, Seq: 3, Clean: &link.Clean{Condition: &notAllowed}})
	d := w.awaitRun(run.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
	require.Equal(t, "error", d.Run.Verdict)
	sheet, err := w.views.Sheet(context.Background(), w.user, run.Number, d.Legs[0].Id, 0)
	require.NoError(t, err)
	text, err := json.Marshal(sheet)
	require.NoError(t, err)
	require.Contains(t, string(text), "kaede-7-1 is unready: debugging was never allowed. `yamato device check "+
		"kaede-7-1` says what to do")
}

func TestADeviceIsSidelinedWithAReasonAndComesBackAtItsTime(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 50 * time.Millisecond})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"))
	d, err := w.service.Care.Sideline(ctx, w.user, "kaede-7-1", "its screen is cracked", nil)
	require.NoError(t, err)
	require.EqualValues(t, "sidelined", d.State)
	w.start(runs.Order{})
	lease := h.lease()
	require.Equal(t, "kaede-7-2", lease.Device, "what is sidelined runs nothing")
	soon := time.Now().Add(time.Second)
	_, err = w.service.Care.Sideline(ctx, w.user, "kaede-7-1", "its screen is being changed", &soon)
	require.NoError(t, err)
	w.awaitState("kaede-7-1", "idle")

	d, err = w.service.Care.Sideline(ctx, w.user, "kaede-7-2", "odd noises", nil)
	require.NoError(t, err)
	require.EqualValues(t, "leased", d.State, "what it runs is not cut short")
	h.say(append([]link.Event{began(lease.Number)}, finished(lease.Number, 2)...)...)
	got := w.awaitState("kaede-7-2", "sidelined")
	require.Equal(t, "odd noises", *got.Reason)
	d, err = w.service.Care.Restore(ctx, w.user, "kaede-7-2")
	require.NoError(t, err)
	require.EqualValues(t, "idle", d.State)
	_, err = w.service.Care.Restore(ctx, w.user, "kaede-7-2")
	refusal(t, err, "is not sidelined")
	_, err = w.service.Care.Sideline(ctx, w.user, "kaede-7-2", " ", nil)
	refusal(t, err, "for a reason")
}

func TestRepeatedDeviceTroubleSidelinesAndAProbeRestores(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 50 * time.Millisecond, Tolerance: fleet.Tolerance{Count: 2, Within: time.Hour},
		ProbeEvery: 50 * time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"))
	for range 3 { // trouble that is not the device's own does not count
		w.start(runs.Order{})
		l := h.lease()
		h.say(append([]link.Event{began(l.Number)}, trouble(l.Number, 2, false, "the package is odd")...)...)
		again := h.lease()
		h.say(append([]link.Event{began(again.Number)}, trouble(again.Number, 2, false, "the package is odd")...)...)
		w.awaitState("kaede-7-1", "idle")
	}
	w.start(runs.Order{})
	l := h.lease()
	h.say(append([]link.Event{began(l.Number)}, trouble(l.Number, 2, true, "its cable dropped")...)...)
	l = h.lease()
	h.say(append([]link.Event{began(l.Number)}, trouble(l.Number, 2, true, "its cable dropped")...)...)
	tried := h.asked(link.DoProbe) // one app alone has met it
	h.done(link.Done{ID: tried.ID, Trouble: "its cable is loose"})
	d := w.awaitState("kaede-7-1", "sidelined")
	require.Contains(t, d.Sideline.Reason, "did not work when it was tried out: its cable is loose")
	require.True(t, d.Sideline.Automatic)

	probe := h.asked(link.DoProbe)
	h.done(link.Done{ID: probe.ID, Trouble: "still loose"})
	second := h.asked(link.DoProbe)
	require.Greater(t, second.ID, probe.ID, "it is tried again")
	h.done(link.Done{ID: second.ID})
	w.awaitState("kaede-7-1", "idle")

	l = func() link.Lease { w.start(runs.Order{}); return h.lease() }()
	h.say(append([]link.Event{began(l.Number)}, trouble(l.Number, 2, true, "its cable dropped")...)...)
	var tryOut link.Errand
	var again link.Lease // its leg goes again at once, on the only device there is
	h.expect(func(m link.ToHost) bool {
		for _, e := range m.Do {
			tryOut = e
		}
		for _, l := range m.Leases {
			again = l
		}
		return tryOut.What == link.DoProbe && again.Number > 0
	})
	h.say(append([]link.Event{began(again.Number)}, trouble(again.Number, 2, true, "its cable dropped")...)...)
	h.done(link.Done{ID: tryOut.ID, Trouble: "its cable is loose"})
	w.awaitState("kaede-7-1", "sidelined")
	third := h.asked(link.DoProbe)
	_, err := w.service.Care.Sideline(context.Background(), w.user, "kaede-7-1", "keep off", nil)
	require.NoError(t, err)
	h.done(link.Done{ID: third.ID})
	require.Eventually(t, func() bool {
		e, err := w.service.Care.Errand(context.Background(), w.user, third.ID, 0)
		return err == nil && e.DoneAt != nil
	}, 5*time.Second, 10*time.Millisecond)
	require.Equal(t, "keep off", w.awaitState("kaede-7-1", "sidelined").Sideline.Reason,
		"a probe does not undo what a person has decided meanwhile")
}

func TestADeviceThatWasGivenUpIsSidelinedWithItsDiagnosis(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"))
	info, err := w.service.Put(ctx, strings.NewReader("the boot log"), "", 100)
	require.NoError(t, err)
	w.start(runs.Order{})
	l := h.lease()
	h.say(began(l.Number), link.Event{Lease: l.Number, Seq: 2, Finished: &link.Finished{Trouble: "black",
		Device: true}},
		link.Event{Lease: l.Number, Seq: 3, Clean: &link.Clean{Condition: &fleet.Condition{Power: fleet.PowerHalted},
			Broken: &fleet.Broken{Diagnosis: "its screen stays black", Remedy: "make it anew", Log: info.Digest}}})
	d := w.awaitState("kaede-7-1", "sidelined")
	require.Equal(t, "its screen stays black", *d.Sideline.Diagnosis)
	f, media, err := w.service.Care.Remains(ctx, w.user, "kaede-7-1", "log")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.Equal(t, "text/plain; charset=utf-8", media)
	_, err = w.service.CollectBlobs(ctx, 0)
	require.NoError(t, err)
	f, err = w.blobs.Open(ctx, info.Digest)
	require.NoError(t, err, "what is referred to is kept")
	require.NoError(t, f.Close())
	restored, err := w.service.Care.Restore(ctx, w.user, "kaede-7-1")
	require.NoError(t, err)
	require.EqualValues(t, "halted", restored.State)
}

var benchOffer = link.Offer{
	Models: []fleet.Model{{Model: "Kaede 7", Platform: "android", TakesMB: 2048}, {Model: "Aster 12", Platform: "ios",
		TakesMB: 1024}},
	Images: []fleet.Image{{Platform: "android", OS: "13", State: "present"}, {Platform: "android", OS: "14",
		State: "present"}, {Platform: "android", OS: "15", State: "absent", Licence: "images"}},
	Licences: []fleet.Licence{{Name: "images", Text: "be kind"}}, Capacity: fleet.Capacity{MemoryMB: 4096},
}

func TestVirtualDevicesAreMadeWithGoodDefaultsAndBootedWhereThereIsRoom(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 50 * time.Millisecond})
	ctx := context.Background()
	h := w.link(w.service, kaede("kaede-7-1"))
	h.fleet(link.Fleet{Offer: &benchOffer, Load: &link.Load{Running: []fleet.Running{{Name: "kaede-7-1",
		TakesMB: 3072}}}})
	require.Eventually(t, func() bool {
		sites, err := w.views.Sites(ctx, w.user)
		return err == nil && len(sites[0].Images) == 3 && len(sites[0].Running) == 1
	}, 5*time.Second, 10*time.Millisecond)
	do := func(e care.Wish) (contract.Errand, error) {
		made, err := w.service.Care.Do(ctx, w.user, e, "")
		return wire.Errand(made), err
	}

	e, err := do(care.Wish{What: "make", Model: "kaede 7"})
	require.NoError(t, err)
	require.Equal(t, "kaede-7-2", e.Device)
	require.Equal(t, "Android 14", *e.Image, "the newest that is there")
	made := h.asked(link.DoMake)
	two := kaede("kaede-7-2")
	two.Condition.Power = fleet.PowerHalted
	two.TakesMB = 2048
	h.fleet(link.Fleet{Devices: []link.Device{two}})
	h.done(link.Done{ID: made.ID})
	ended, err := w.service.Care.Errand(ctx, w.user, e.Id, 5*time.Second)
	require.NoError(t, err)
	require.NotNil(t, ended.DoneAt)
	w.awaitState("kaede-7-2", "halted")

	_, err = do(care.Wish{What: "boot", Device: "kaede-7-2"})
	p := refusal(t, err, "kaede-7-2 needs 2.0 GB and 1.0 GB is free (4.0 GB in all): kaede-7-1 takes 3.0 GB")
	require.Contains(t, p.Hint.String(), "yamato device halt kaede-7-1")
	for says, in := range map[string]care.Wish{
		"does not offer": {What: "make", Model: "Kaede 7", Site: "moon"},
		"no site offers": {What: "make", Model: "Kaede 9"},
		"is not at":      {What: "make", Model: "Kaede 7", Image: "Android 15"},
		"has no such OS": {What: "make", Model: "Kaede 7", Image: "Android 99"},
		"cannot be the":  {What: "make", Model: "Kaede 7", Device: "../etc"},
		"there is a dev": {What: "make", Model: "Kaede 7", Device: "kaede-7-1"},
		"which nobody h": {What: "fetch", Image: "Android 15"},
		"already":        {What: "fetch", Image: "Android 14"},
		"is up already":  {What: "boot", Device: "kaede-7-1"},
		"there is no de": {What: "halt", Device: "nobody"},
		"there is nothi": {What: "dance", Device: "kaede-7-1"},
	} {
		_, err := do(in)
		refusal(t, err, says)
	}
	require.NoError(t, w.service.Care.AcceptLicence(ctx, w.user, "images"))
	l, err := w.views.Licence(ctx, w.user, "images")
	require.NoError(t, err)
	require.Equal(t, w.user.Name, *l.AcceptedBy)
	_, err = do(care.Wish{What: "fetch", Image: "Android 15"})
	require.NoError(t, err)
	require.Equal(t, "Android 15", h.asked(link.DoFetch).Args.Image)
	changed := benchOffer
	changed.Licences = []fleet.Licence{{Name: "images", Text: "be kinder"}}
	h.fleet(link.Fleet{Offer: &changed})
	require.Eventually(t, func() bool {
		sites, err := w.views.Sites(ctx, w.user)
		return err == nil && sites[0].Licences[0].AcceptedBy == nil
	}, 5*time.Second, 10*time.Millisecond, "another text has to be accepted anew")

	h.fleet(link.Fleet{Load: &link.Load{Running: []fleet.Running{}}})
	_, err = w.service.Care.Sideline(ctx, w.user, "kaede-7-1", "busy", nil)
	require.NoError(t, err)
	require.Eventually(t, func() bool { // a run that waits for a halted device has it booted
		_, err = w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "1", Suites: []string{"Two"}}, "once")
		return err == nil
	}, 5*time.Second, 20*time.Millisecond)
	require.Equal(t, "kaede-7-2", h.asked(link.DoBoot).Device)
	h.fleet(link.Fleet{Gone: []string{"kaede-7-2"}})
	require.Eventually(t, func() bool {
		_, err := w.views.DeviceDetail(ctx, w.user, "kaede-7-2")
		return err != nil
	}, 5*time.Second, 10*time.Millisecond, "a device that never ran anything is forgotten")
}

func TestADeviceOfSomebodysOwnIsKeptToItsRule(t *testing.T) {
	w := newWorld(t, base.Config{})
	d := kaede("bos-phone")
	d.Owner, d.Use = "Bo Lindqvist", fleet.Use{People: []string{"Ines Marlow"}}
	h := w.link(w.service, d, kaede("kaede-7-2"))
	w.start(runs.Order{})
	require.Equal(t, "kaede-7-2", h.lease().Device, "of one class, the leg runs where it may")
	fits, err := w.views.Fit(context.Background(), w.user, "", "1")
	require.NoError(t, err)
	require.Equal(t, "only Ines Marlow may use it", fits[0].Reasons[0].Why)

	shut := kaede("night-phone")
	shut.OS, shut.Use = "15", fleet.Use{Hours: "Mon 00:00-00:00"} // never open
	h.fleet(link.Fleet{Devices: []link.Device{shut}})
	w.awaitState("night-phone", "idle")
	run := w.start(runs.Order{On: []string{"Kaede 7 15"}})
	require.Equal(t, "queued", w.detail(run.Number).Run.State, "outside its hours a device is given nothing")

	ayas := shut
	ayas.Name, ayas.OS, ayas.Owner = "ayas-phone", "16", "Aya Torrent"
	h.fleet(link.Fleet{Devices: []link.Device{ayas}})
	w.awaitState("ayas-phone", "idle")
	w.start(runs.Order{On: []string{"Kaede 7 16"}})
	require.Equal(t, "ayas-phone", h.lease().Device, "but what its owner starts")
}

func TestALineupChoosesForARunAndSaysWhyOthersArePassedOver(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	old := kaede("kaede-7-2")
	old.OS = "13"
	h := w.link(w.service, kaede("kaede-7-1"), old)
	_, err := w.service.Builds.SaveLineup(ctx, w.user, "lineup: newest\nfirst: newest_os\ntake: 1\n")
	require.NoError(t, err)
	_, err = w.service.Builds.SaveLineup(ctx, w.user, "lineup: none\npick:\n  - owner: nobody\n")
	require.NoError(t, err)
	_, err = w.service.Builds.SaveLineup(ctx, w.user, "lineup: wrong\nfirst: prettiest\n")
	refusal(t, err, "newest_os")
	c, err := w.service.Builds.TryLineup(ctx, w.user, builds.Trial{Name: "newest"})
	require.NoError(t, err)
	require.Equal(t, "kaede-7-1", c.Taken[0].Name)
	require.Equal(t, "1 are enough, and others go first", c.Passed[0].Why)
	run := w.start(runs.Order{Lineup: "newest"})
	require.Len(t, w.detail(run.Number).Legs, 1)
	require.Equal(t, "14", h.lease().Attempt.Combination.OS)
	_, err = w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "1", Suites: []string{"Two"},
		Lineup: "none"}, "")
	refusal(t, err, `the lineup "none" takes no device now`)
	_, err = w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "1", Suites: []string{"Two"},
		Lineup: "gone"}, "")
	refusal(t, err, `there is no lineup "gone"`)
	require.NoError(t, w.service.Builds.RemoveLineup(ctx, w.user, "none", false))
	require.Error(t, w.service.Builds.RemoveLineup(ctx, w.user, "none", false))
}

func TestABuildIsFoundByItsLabelsAndKeptByItsPin(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	second := w.push("3.2.0")
	label := func(ref string, labels map[string]string) store.Build {
		b, err := w.service.Builds.ChangeBuild(ctx, w.user, "", ref, builds.Words{Labels: labels})
		require.NoError(t, err)
		return b
	}
	label("1", map[string]string{"branch": "main", "reviewed": "yes"})
	label("2", map[string]string{"branch": "main"})
	b, err := w.service.Builds.BuildNamed(ctx, w.user, "", "branch=main")
	require.NoError(t, err)
	require.Equal(t, second.Number, b.Number, "the newest that has them")
	b, err = w.service.Builds.BuildNamed(ctx, w.user, "", "branch=main,reviewed=yes")
	require.NoError(t, err)
	require.Equal(t, int64(1), b.Number)
	require.Empty(t, label("1", map[string]string{"reviewed": ""}).Labels["reviewed"])
	list, _, err := w.service.Builds.Builds(ctx, w.user, "", "", []string{"branch=main"}, 0, 10)
	require.NoError(t, err)
	require.Len(t, list, 2)
	_, err = w.service.Builds.ChangeBuild(ctx, w.user, "", "1", builds.Words{Labels: map[string]string{"Bad Key": "x"}})
	refusal(t, err, "cannot be a label")

	changes, err := w.views.Changes(ctx, w.user, "", "2", "")
	require.NoError(t, err)
	require.Equal(t, int64(1), changes.Against.Number)
	require.Equal(t, "size of code", changes.Changes[0].What)

	h := w.link(w.service, kaede("kaede-7-1"))
	ran := w.start(runs.Order{Build: "1", Suites: []string{"Two"}})
	l := h.lease()
	h.say(append([]link.Event{began(l.Number), result(l.Number, 2, 0, "pass"), result(l.Number, 3, 1, "fail")},
		finished(l.Number, 4)...)...)
	w.awaitRun(ran.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })

	require.NoError(t, w.service.Builds.SetRetention(ctx, w.user, 1, 0))
	r, err := w.views.Retention(ctx, w.user)
	require.NoError(t, err)
	require.Equal(t, int64(1), r.WouldRemove[0].Number)
	pin := true
	_, err = w.service.Builds.ChangeBuild(ctx, w.user, "", "1", builds.Words{Pinned: &pin})
	require.NoError(t, err)
	n, err := w.service.Builds.Retain(ctx)
	require.NoError(t, err)
	require.Zero(t, n, "a pinned build stays whatever the rule")
	pin = false
	_, err = w.service.Builds.ChangeBuild(ctx, w.user, "", "1", builds.Words{Pinned: &pin})
	require.NoError(t, err)
	_, err = w.service.Plans.SavePlan(ctx, w.user, "plan: On the first\nbuild: \"1\"\napp: Tideline\nfactors: {language: [en-GB]}\n")
	require.NoError(t, err)
	n, err = w.service.Builds.Retain(ctx)
	require.NoError(t, err)
	require.Zero(t, n, "so does one that a plan names")
	require.NoError(t, w.service.Plans.RemovePlan(ctx, w.user, "On the first", false))
	n, err = w.service.Builds.Retain(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	b, err = w.service.Builds.BuildNamed(ctx, w.user, "", "1")
	require.NoError(t, err)
	_, err = w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "1", Suites: []string{"Two"}}, "")
	require.Error(t, err, "what is gone cannot run")
	_, err = w.service.Runs.Again(ctx, w.user, ran.Number, runs.Repeat{Which: "all"}, "")
	require.Contains(t, refusal(t, err, "retention has removed the packages of Tideline 3.1.4").Hint.String(), "push them again")
	require.Empty(t, b.Packages)
	require.NotNil(t, b.RemovedAt)
	b = w.push("3.1.4")
	require.Equal(t, int64(1), b.Number, "pushed again, it is there again")
	_, err = w.service.Runs.Again(ctx, w.user, ran.Number, runs.Repeat{Which: "all"}, "")
	require.NoError(t, err, "and what ran runs again")
	require.Nil(t, b.RemovedAt)
}

func TestSettingsAreReadyToCopy(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	w.link(w.service, kaede("kaede-7-1"))
	s, err := w.views.Settings(ctx, w.user, "", "1", "kaede-7-1", "", nil)
	require.NoError(t, err)
	require.Equal(t, "yamato run start --build 1 --app Tideline --on kaede-7-1 --suite Two", s.Command)
	var in contract.NewRun
	require.NoError(t, json.Unmarshal([]byte(s.Request), &in))
	_, err = w.service.Runs.StartRun(ctx, w.user, wire.Order(&in), "")
	require.NoError(t, err, "the request starts what it says")
	require.Contains(t, s.Document, "suites:\n- Two\n")
}

func TestAHandoverIsThereForATime(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	out, err := w.service.Builds.HandOver(ctx, w.user, "", "1", "http://127.0.0.1:7499", 5)
	require.NoError(t, err)
	require.False(t, out.Reachable)
	require.Regexp(t, `--listen [^ ]+:7499, this machine's address`, *out.Hint)
	code := out.Address[strings.LastIndex(out.Address, "/")+1:]
	b, until, err := w.service.Builds.Handed(ctx, code)
	require.NoError(t, err)
	require.Equal(t, int64(1), b.Number)
	require.WithinDuration(t, time.Now().Add(5*time.Minute), until, 20*time.Second)
	_, _, err = w.service.Builds.Handed(ctx, "another")
	require.True(t, errors.As(err, new(*base.Problem)))
	out, err = w.service.Builds.HandOver(ctx, w.user, "", "1", "https://yamato.example", 5)
	require.NoError(t, err)
	require.True(t, out.Reachable)
	require.Nil(t, out.Hint)
}

func TestARunWhoseHostGoesForGoodEndsWithTheReason(t *testing.T) {
	w := newWorld(t, base.Config{TTL: 300 * time.Millisecond, MendWithin: 400 * time.Millisecond,
		Pace: 20 * time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"))
	run := w.start(runs.Order{})
	lease := h.lease()
	h.say(began(lease.Number))
	h.acked(lease.Number, 1)
	waiting := w.start(runs.Order{}) // behind it, for the same device
	h.hangUp()
	for _, number := range []int64{run.Number, waiting.Number} {
		d := w.awaitRun(number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
		require.Equal(t, "error", d.Run.Verdict)
		require.Contains(t, *d.Legs[0].Cases[0].Results[len(d.Legs[0].Cases[0].Results)-1].Sentence,
			"its host is not connected")
	}
}

// A host that is started anew and has found none of its devices yet has none of them: what it does not list is not free.
func TestAHostThatListsNoDevicesHasNone(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond})
	ctx := context.Background()
	w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"))
	w.awaitState("kaede-7-2", "idle")
	hosts, err := w.store.Hosts(ctx, w.user.ProjectID)
	require.NoError(t, err)
	require.Len(t, hosts, 1)
	require.NoError(t, w.store.InTx(ctx, func(tx *store.Tx) error { return tx.Devices.DropDevices(ctx, hosts[0].ID, nil) }))
	for _, name := range []string{"kaede-7-1", "kaede-7-2"} {
		require.Contains(t, *w.awaitState(name, "offline").Reason, "no longer lists it")
	}
}
