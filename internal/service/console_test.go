package service

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/api/views"
	"yamato/internal/api/watch"
	"yamato/internal/contract"
	"yamato/internal/core/script"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/runs"
	"yamato/internal/store"
)

// failed is a case that failed, with what a host says of it.
func failed(lease, seq int64, index int, actual string) link.Event {
	e := result(lease, seq, index, "fail")
	e.Case.Failure = &script.Failure{Cause: script.Contradicted, Line: 4, Step: "expect \"x\"",
		Expected: "\"x\" to be shown", Actual: actual}
	return e
}

// carryOut has the host carry the next lease out: its first case fails, its second passes.
func carryOut(h *fakeHost, actual string) link.Lease {
	l := h.lease()
	seq := int64(1)
	events := []link.Event{began(l.Number)}
	for _, c := range l.Attempt.Cases {
		seq++
		if c == 0 && actual != "" {
			events = append(events, failed(l.Number, seq, c, actual))
		} else {
			events = append(events, result(l.Number, seq, c, "pass"))
		}
	}
	h.say(append(events, finished(l.Number, seq+1)...)...)
	return l
}

func done(d contract.RunDetail) bool { return d.Run.FinishedAt != nil }

func TestARunCountsItsResultsAsTheyCome(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	one := 1
	r := w.start(runs.Order{Build: "3.1.4", Suites: []string{"Two"}, RepeatFailed: one})
	require.Equal(t, 2, r.Expected)
	carryOut(h, "it is not there")
	carryOut(h, "") // the failed case again
	d := w.awaitRun(r.Number, done)
	require.Equal(t, []int{3, 3, 1, 0}, []int{d.Run.Expected, d.Run.Results, d.Run.Fails, d.Run.Errors})
}

func TestCausesTellSinceWhichBuild(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	first := w.start(runs.Order{})
	carryOut(h, "")
	w.awaitRun(first.Number, done)

	// A further build of the same app, in which the case fails twice over.
	packages := w.push("3.2.0")
	require.Equal(t, "3.2.0", packages.VersionName)
	for range 2 {
		r := w.start(runs.Order{Build: "3.2.0", Suites: []string{"Two"}})
		carryOut(h, "it is not there")
		w.awaitRun(r.Number, done)
		causes, err := w.views.Causes(context.Background(), w.user, r.Number)
		require.NoError(t, err)
		require.Len(t, causes, 1)
		require.Equal(t, "it is not there", causes[0].Actual)
		require.Equal(t, "in the only combination it ran in", causes[0].Shared)
		require.Equal(t, "new in this build; it passed in 3.1.4 (58)", base.Deref(causes[0].Since))
	}
	detail, err := w.views.SuiteDetail(context.Background(), w.user, "two")
	require.NoError(t, err)
	require.Equal(t, twoCases, detail.Text)
	require.Equal(t, 2, *detail.Last[0].Line)
	var verdicts []string
	for _, r := range detail.Last[0].Runs {
		verdicts = append(verdicts, r.Verdict)
	}
	require.Equal(t, []string{"fail", "fail", "pass"}, verdicts, "newest first")

	now, err := w.views.Now(context.Background(), w.user)
	require.NoError(t, err)
	require.Len(t, now.Finished, 3)
	require.Equal(t, "line 4: expected \"x\" to be shown, but it is not there", now.Failures[0].Sentence)
}

func TestWhatDidNotPassRunsAgain(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	r := w.start(runs.Order{})
	l := carryOut(h, "it is not there")
	d := w.awaitRun(r.Number, done)
	ctx := context.Background()
	zero := 0
	for _, c := range []struct {
		in    runs.Repeat
		cases []int
	}{
		{runs.Repeat{Which: "all"}, []int{0, 1}},
		{runs.Repeat{Which: "failed", SameSeed: true}, []int{0}},
		{runs.Repeat{Which: "one", Leg: d.Legs[0].Id, Case: base.Ptr(1)}, []int{1}},
	} {
		again, err := w.service.Runs.Again(ctx, w.user, r.Number, c.in, "")
		require.NoError(t, err)
		next := carryOut(h, "")
		require.Equal(t, c.cases, next.Attempt.Cases)
		require.Equal(t, c.in.SameSeed, next.Attempt.Seed == l.Attempt.Seed)
		w.awaitRun(again.Number, done)
	}
	// What bounds a run and varies it is of the next, too.
	_, err := w.sql(t).Exec(`update run set limits = '{"failures": 3, "case_ms": 90000}', factors = '["language"]', case_order = 'random' where number = $1`, r.Number)
	require.NoError(t, err)
	again, err := w.service.Runs.Again(ctx, w.user, r.Number, runs.Repeat{Which: "all", SameSeed: true}, "")
	require.NoError(t, err)
	require.Equal(t, store.Limits{Failures: 3, CaseMS: 90000}, again.Limits.V)
	require.Equal(t, []string{"language"}, again.Factors.V)
	require.Equal(t, "random", again.Order)
	carryOut(h, "")
	w.awaitRun(again.Number, done)
	for _, wrong := range []runs.Repeat{{Which: "some"}, {Which: "one"}, {Which: "one", Leg: 999,
		Case: &zero}} {
		_, err := w.service.Runs.Again(ctx, w.user, r.Number, wrong, "")
		require.Error(t, err)
	}
	_, err = w.service.Runs.Again(ctx, w.user, 2, runs.Repeat{Which: "failed"}, "")
	require.ErrorContains(t, err, "there is nothing of run 2 to run again", "it passed")
}

func TestAPreviewStartsNothingAndSaysWhy(t *testing.T) {
	w := newWorld(t, base.Config{})
	mini := kaede("aster-12-1")
	mini.Kind, mini.Platform, mini.Model, mini.OS = "simulator", "ios", "Aster 12", "18"
	w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"), mini)
	p, err := w.service.Runs.Preview(context.Background(), w.user, runs.Order{Build: "3.1.4", Suites: []string{"Two"}})
	require.NoError(t, err)
	require.Equal(t, 1, p.Legs)
	require.Equal(t, 2, p.Cases)
	require.Equal(t, 2, p.Combinations[0].Idle)
	require.Equal(t, "Aster 12", p.LeftOut[0].Combination.Model)
	require.NotEmpty(t, p.LeftOut[0].Reasons[0].Remedy)
	list, _, err := w.service.Runs.Runs(context.Background(), w.user, store.RunFilter{}, 0, 10)
	require.NoError(t, err)
	require.Empty(t, list)
}

func TestAScreenIsSeenThroughAnyServiceWhileTheDeviceWorks(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	w.start(runs.Order{})
	l := h.lease()
	h.say(began(l.Number)) // it is at work
	ctx := context.Background()
	put := func(body string) string {
		sum := sha256.Sum256([]byte(body))
		digest := hex.EncodeToString(sum[:])
		require.NoError(t, w.service.Link.PutBlob(ctx, digest, strings.NewReader(body)))
		return digest
	}
	answered := make(chan struct{})
	go func() {
		defer close(answered)
		see := h.expect(func(m link.ToHost) bool { return len(m.See) > 0 }).See[0]
		_ = h.conn.Send(ctx, link.FromHost{Seen: &link.Seen{ID: see.ID, Picture: put("a picture"),
			Tree: put(`{"root":{"role":"button","id":"pay","text":"Pay","bounds":{"x":0,"y":0,"w":9,"h":9},"visible":{"x":0,"y":0,"w":9,"h":9}},"width":9,"height":9}`)}})
	}()
	s, err := viewsOf(w.another(base.Config{})).SeeScreen(ctx, w.user, "kaede-7-1") // not the one that holds the link
	<-answered
	require.NoError(t, err)
	require.Equal(t, "a picture", string(s.Picture))
	require.Equal(t, []string{"tap #pay", "expect #pay", `expect #pay shows "Pay"`}, s.Elements[0].Lines)

	answered = make(chan struct{})
	go func() {
		defer close(answered)
		see := h.expect(func(m link.ToHost) bool { return len(m.See) > 0 }).See[0]
		_ = h.conn.Send(ctx, link.FromHost{Seen: &link.Seen{ID: see.ID, Trouble: "the device is switched off"}})
	}()
	_, err = w.views.SeeScreen(ctx, w.user, "kaede-7-1")
	<-answered
	require.ErrorContains(t, err, "switched off")
	_, err = w.views.SeeScreen(ctx, w.user, "nowhere")
	require.ErrorContains(t, err, "no device")

	// What it did is told by walking from lease to lease.
	d, err := w.views.DeviceDetail(ctx, w.user, "kaede-7-1")
	require.NoError(t, err)
	require.Len(t, d.History, 1)
	require.Nil(t, d.History[0].Ended)
	require.True(t, d.Host.Linked)
}

func TestADevicesHistoryGoesBackLeaseByLease(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	for range 3 {
		r := w.start(runs.Order{})
		carryOut(h, "it is not there")
		w.awaitRun(r.Number, done)
	}
	d, err := w.views.DeviceDetail(context.Background(), w.user, "kaede-7-1")
	require.NoError(t, err)
	var runs []int64
	for _, s := range d.History {
		runs = append(runs, s.Run)
		require.Equal(t, []int{1, 1}, []int{s.Passed, s.Failed})
	}
	require.Equal(t, []int64{3, 2, 1}, runs)
}

func TestASheetTellsAttemptByAttemptWithTheFilm(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	r := w.start(runs.Order{})
	l := h.lease()
	ctx := context.Background()
	film := packed(t, map[string]string{"000.png": "first", "001.png": "second",
		link.FilmList: `[{"file":"000.png","at_ms":5},{"file":"001.png","at_ms":900}]`})
	sum := sha256.Sum256(film)
	digest := hex.EncodeToString(sum[:])
	require.NoError(t, w.service.Link.PutBlob(ctx, digest, bytes.NewReader(film)))
	e := failed(l.Number, 2, 0, "it is not there")
	e.Case.Steps = []script.StepRecord{{Line: 4, Text: "expect \"x\"", TookMS: 8000, Verdict: "fail"}}
	e.Case.Evidence = []link.EvidenceRef{{Sort: "film", Name: "film", MediaType: "application/zip", Digest: digest,
		Size: int64(len(film))}}
	h.say(append([]link.Event{began(l.Number), e, result(l.Number, 3, 1, "pass")}, finished(l.Number, 4)...)...)
	d := w.awaitRun(r.Number, done)

	s, err := w.views.Sheet(ctx, w.user, r.Number, d.Legs[0].Id, 0)
	require.NoError(t, err)
	require.Equal(t, "fail", s.Verdict)
	require.Len(t, s.Attempts, 1)
	require.Equal(t, "expect \"x\"", (*s.Attempts[0].Result.Steps)[0].Text)
	require.Len(t, s.Attempts[0].Frames, 2)
	require.EqualValues(t, 900, s.Attempts[0].Frames[1].AtMs)
	png, err := w.views.Frame(ctx, w.user, r.Number, s.Attempts[0].Frames[1].Evidence, 1)
	require.NoError(t, err)
	require.Equal(t, "second", string(png))
	_, err = w.views.Frame(ctx, w.user, r.Number, s.Attempts[0].Frames[1].Evidence, 2)
	require.Error(t, err)
	_, err = w.views.Sheet(ctx, w.user, r.Number, d.Legs[0].Id, 7)
	require.ErrorContains(t, err, "has no case 7")
	brief, err := w.views.Detail(ctx, w.user, r.Number, views.InBrief)
	require.NoError(t, err)
	require.Nil(t, brief.Legs[0].Cases[0].Results[0].Steps)
	require.NotNil(t, brief.Legs[0].Cases[0].Results[0].Sentence)
}

func packed(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range files {
		f, err := z.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

// follow collects what a browser is told until it is enough.
func (w *world) follow(s *Service, wanted watch.Watch, enough func([]watch.Told) bool) []watch.Told {
	w.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 15*time.Second)
	defer stop()
	var all []watch.Told
	err := watch.New(s.Base).Follow(ctx, w.user, wanted, func(told []watch.Told) error {
		if all = append(all, told...); enough(all) {
			stop()
		}
		return nil
	})
	require.ErrorIs(w.t, err, context.Canceled, "it was told %v", all)
	return all
}

func TestABrowserIsToldHowThingsAreAndThenWhatChanges(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"))
	began := false
	states := map[string][]string{}
	w.follow(w.another(base.Config{}), watch.Watch{Fleet: true, Runs: true, Library: true, Events: map[int64]int64{}},
		func(all []watch.Told) bool {
			if !began {
				began = true
				require.True(t, all[0].Body.(watch.FleetNews).Whole)
				require.Len(t, all[0].Body.(watch.FleetNews).Devices, 2)
				w.start(runs.Order{})
				carryOut(h, "")
				return false
			}
			states = map[string][]string{}
			finished := false
			for _, told := range all[1:] {
				switch n := told.Body.(type) {
				case watch.FleetNews:
					require.False(t, n.Whole)
					for _, d := range n.Devices {
						states[d.Name] = append(states[d.Name], d.State)
					}
				case watch.RunsNews:
					for _, r := range n.Runs {
						finished = finished || r.FinishedAt != nil
					}
				}
			}
			for _, list := range states {
				if list[len(list)-1] == "idle" && finished {
					return true
				}
			}
			return false
		})
	require.Len(t, states, 1, "only the device that changed is told of")
}

func TestEventsOfARunAreFollowedFromAnyNumberWithoutAGap(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	r := w.start(runs.Order{})
	carryOut(h, "it is not there")
	last := w.awaitRun(r.Number, done).Run.LastEvent
	require.Greater(t, last, int64(3))
	for after := int64(0); after < last; after++ {
		var numbers []int64
		w.follow(w.service, watch.Watch{Events: map[int64]int64{r.Number: after}}, func(all []watch.Told) bool {
			numbers = numbers[:0]
			for _, told := range all {
				if n, ok := told.Body.(watch.EventNews); ok {
					for i := range n.Events {
						numbers = append(numbers, n.First+int64(i))
					}
				}
			}
			return len(numbers) > 0 && numbers[len(numbers)-1] == last
		})
		var want []int64
		for n := after + 1; n <= last; n++ {
			want = append(want, n)
		}
		require.Equal(t, want, numbers)
	}
}

func TestSearchFindsByPartOfANameAndTakesMarksAsTheyAre(t *testing.T) {
	w := newWorld(t, base.Config{})
	w.link(w.service, kaede("kaede-7-1"))
	w.start(runs.Order{})
	find := func(q string) map[string]string {
		list, err := w.views.Search(context.Background(), w.user, q)
		require.NoError(t, err)
		out := map[string]string{}
		for _, f := range list {
			out[f.Sort] = f.Path
		}
		return out
	}
	require.Equal(t, map[string]string{"run": "/runs/1", "build": "/builds/1?app=Tideline"}, find("tideLINE"))
	require.Equal(t, "/fleet/kaede-7-1", find("kaede")["device"])
	require.Equal(t, "/suites/Two?case=two", find("two")["case"])
	require.Empty(t, find("%"))
	require.Empty(t, find("_"))
	require.Empty(t, find(`\`))
	require.Empty(t, find(" "))
	body, err := json.Marshal(find("1"))
	require.NoError(t, err)
	require.Contains(t, string(body), "/runs/1")
}
