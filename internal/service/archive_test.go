package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/evidence"
	"yamato/internal/core/script"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/runs"
	"yamato/internal/store"
)

// ran carries out a run whose first case fails, or crashes with a report, and keeps a picture and a log of both.
func (w *world) ran(h *fakeHost, report string, builds ...string) store.Run {
	w.t.Helper()
	r := w.start(runs.Order{Build: strings.Join(append([]string{}, builds...), ""), Suites: []string{"Two"}})
	l := h.lease()
	ref := func(kind evidence.Kind, name, content string) link.EvidenceRef {
		sum := sha256.Sum256([]byte(content))
		digest := hex.EncodeToString(sum[:])
		require.NoError(w.t, w.service.Link.PutBlob(context.Background(), digest, strings.NewReader(content)))
		return link.EvidenceRef{Sort: kind.Name, Name: name, MediaType: kind.MediaType, Digest: digest,
			Size:  int64(len(content)),
			Facts: []byte(`{"at_ms": 5}`)}
	}
	bad := failed(l.Number, 2, 0, "it crashed: no good")
	bad.Case.Evidence = []link.EvidenceRef{ref(evidence.Picture, "total", fmt.Sprint("picture of run ", r.Number)),
		ref(evidence.Log, "log", fmt.Sprint("log of run ", r.Number))}
	bad.Case.NotKept = []evidence.NotKept{{Sort: "video", Why: "its suite’s rule is `video never`"}}
	if report != "" {
		bad.Case.Failure.Cause, bad.Case.Failure.Report = script.Crashed, report
		bad.Case.Evidence = append(bad.Case.Evidence, ref(evidence.Crash, "crash", report))
	}
	good := result(l.Number, 3, 1, "pass")
	good.Case.Evidence = []link.EvidenceRef{ref(evidence.Log, "log", fmt.Sprint("a longer log of what passed in run ",
		r.Number))}
	h.say(append([]link.Event{began(l.Number), bad, good}, finished(l.Number, 4)...)...)
	w.awaitRun(r.Number, done)
	return r
}

func TestCrashesOfOneStackAreOneOverRunsAndBuilds(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	ctx := context.Background()
	w.ran(h, "TypeError: no good\n    at total (app.js:12:3)\n    at render (app.js:40:7)")
	w.push("3.2.0")
	w.ran(h, "TypeError: no good\n    at total (app.js:14:9)\n    at render (app.js:44:1)", "3.2.0")
	w.ran(h, "TypeError: no good\n    at refund (app.js:99:3)", "3.2.0")
	list, more, err := w.service.Archive.Crashes(ctx, w.user, "Tideline", 0, 0, 10)
	require.NoError(t, err)
	require.False(t, more)
	require.Len(t, list, 2)
	one := list[1]
	require.Equal(t, []any{2, 2, "3.1.4", "3.2.0"}, []any{one.Met, one.Runs, strings.Fields(one.FirstBuild)[0],
		strings.Fields(one.LastBuild)[0]})
	require.Equal(t, []string{"total (app.js)", "render (app.js)"}, one.Stack.V)
	_, met, err := w.service.Archive.Crash(ctx, w.user, one.ID)
	require.NoError(t, err)
	require.Equal(t, []int64{2, 1}, []int64{met[0].Run, met[1].Run}, "newest first")
	of, _, err := w.service.Archive.Crashes(ctx, w.user, "", 3, 0, 10)
	require.NoError(t, err)
	require.Len(t, of, 1, "of one run")
	_, _, err = w.service.Archive.Crash(ctx, w.user, 99)
	require.ErrorContains(t, err, "there is no crash 99")
}

func TestRetentionLetsEvidenceGoByAgeVerdictAndSizeAndSaysSo(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	ctx := context.Background()
	first, pinned, third := w.ran(h, ""), w.ran(h, ""), w.ran(h, "")
	_, err := w.service.Archive.PinRun(ctx, w.user, pinned.Number, true)
	require.NoError(t, err)
	db := w.sql(t)
	_, err = db.Exec(`update evidence set kept_at = now() - interval '10 days'`)
	require.NoError(t, err)
	set := func(r store.EvidenceRetention) (n int) {
		require.NoError(t, w.service.Archive.SetEvidenceRetention(ctx, w.user, r))
		n, _, err := w.service.Archive.LetGo(ctx)
		require.NoError(t, err)
		return n
	}
	gone := func(run int64) (out []string) {
		list, err := w.views.Evidence(ctx, w.user, run)
		require.NoError(t, err)
		for _, e := range list {
			if e.Gone != nil {
				out = append(out, e.Sort+fmt.Sprint(e.CaseIndex)+": "+*e.Gone)
			}
		}
		return out
	}
	require.Zero(t, set(store.EvidenceRetention{PassedDays: 20}))
	require.Equal(t, 2, set(store.EvidenceRetention{PassedDays: 7}), "of what passed, but in the pinned run")
	require.Equal(t, []string{"log1: retention keeps evidence of what passed for 7 days"}, gone(first.Number))
	require.Empty(t, gone(pinned.Number))
	var size int64
	require.NoError(t, db.Get(&size, `select sum(size) from evidence where gone = ''`))
	require.Equal(t, 1, set(store.EvidenceRetention{Bytes: size - 1}), "the oldest, and no more than is needed")
	require.Equal(t, 3, set(store.EvidenceRetention{Days: 7}))
	require.Len(t, gone(third.Number), 3)
	list, err := w.views.Evidence(ctx, w.user, third.Number)
	require.NoError(t, err)
	_, _, err = w.views.OpenEvidence(ctx, w.user, third.Number, list[0].Id)
	require.ErrorContains(t, err, "its content is gone: retention keeps evidence for 7 days")
	_, err = db.Exec(`update blob set referred_at = now() - interval '2 days'`)
	require.NoError(t, err)
	n, err := w.service.CollectBlobs(ctx, 24*time.Hour)
	require.NoError(t, err)
	require.Equal(t, 6, n, "what is gone is collected, and what is pinned is not")
	kept, f, err := w.views.OpenEvidence(ctx, w.user, pinned.Number, mustFirst(t, w, pinned.Number))
	require.NoError(t, err)
	defer f.Close()
	require.Equal(t, kept.Size, f.Size())
	s, err := w.views.Sheet(ctx, w.user, third.Number, w.detail(third.Number).Legs[0].Id, 0)
	require.NoError(t, err)
	require.Equal(t, "its suite’s rule is `video never`", (*s.Attempts[0].Result.NotKept)[0].Why)
	require.Error(t, w.service.Archive.SetEvidenceRetention(ctx, w.user, store.EvidenceRetention{PassedDays: 9, Days: 3}))
}

func mustFirst(t *testing.T, w *world, run int64) int64 {
	t.Helper()
	list, err := w.views.Evidence(context.Background(), w.user, run)
	require.NoError(t, err)
	return list[0].Id
}

func TestANamedPictureIsFoundInEveryCombinationAndARunIsSummedUp(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	ctx := context.Background()
	r := w.ran(h, "TypeError: no good\n    at total (app.js:12:3)")
	names, none, err := w.service.Archive.Pictures(ctx, w.user, r.Number, "")
	require.NoError(t, err)
	require.Empty(t, none)
	require.Equal(t, []store.PictureName{{Name: "total", In: 1}}, names)
	_, list, err := w.service.Archive.Pictures(ctx, w.user, r.Number, "total")
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, []string{"Kaede 7", "fail"}, []string{list[0].Model, list[0].Verdict})
	s, err := w.views.Summary(ctx, w.user, r.Number)
	require.NoError(t, err)
	require.Equal(t, []int{1, 1}, []int{s.Devices[0].Pass, s.Devices[0].Fail})
	require.Equal(t, 1, s.Cases[0].Fail, "the worst first")
	require.Len(t, s.Crashes, 1)
	covered, err := w.service.Archive.Coverage(ctx, w.user, "", time.Now().Add(-time.Hour), time.Now().Add(time.Hour))
	require.NoError(t, err)
	require.Len(t, covered, 1)
	require.Equal(t, []any{"Kaede 7", 2, 1, 1, "en-GB"}, []any{covered[0].Model, covered[0].Cases,
		covered[0].Passed, covered[0].Failed, covered[0].Language})
	_, err = w.service.Archive.Coverage(ctx, w.user, "", time.Now(), time.Now().Add(-time.Hour))
	require.Error(t, err)
}
