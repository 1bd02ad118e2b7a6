package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"log/slog"
	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/api/views"
	"yamato/internal/blob"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/link"
	"yamato/internal/pgbox/pgtest"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/care"
	"yamato/internal/service/runs"
	"yamato/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// world is a service on a database of its own, with a build and a suite.
type world struct {
	t       *testing.T
	service *Service
	views   *views.Part // what pages would show of it
	store   *store.Store
	blobs   *blob.Dir
	user    base.Caller
	host    base.Caller
	dir     string
	url     string // of the database
}

const twoCases = `suite "Two"
case "one"
  start app
  expect "x"
end
case "two"
  start app
  expect "y"
end
`

func newWorld(t *testing.T, c base.Config) *world {
	if c.Log == nil && os.Getenv("YAMATO_TEST_LOG") != "" {
		c.Log = slog.Default()
	}
	t.Helper()
	ctx := context.Background()
	w := &world{t: t, url: pgtest.Database(t), dir: t.TempDir()}
	var err error
	w.store, err = store.Open(ctx, w.url)
	require.NoError(t, err)
	t.Cleanup(func() { _ = w.store.Close() })
	w.blobs, err = blob.OpenDir(w.dir)
	require.NoError(t, err)
	project, err := w.store.AddProject(ctx, "default")
	require.NoError(t, err)
	for kind, into := range map[string]*base.Caller{"user": &w.user, "host": &w.host} {
		token := strings.Repeat(kind, 8)
		require.NoError(t, w.store.AddToken(ctx, project, kind, "Aya Torrent", token))
		*into, err = w.store.CallerOf(ctx, token)
		require.NoError(t, err)
	}
	w.service = w.another(c)
	w.views = viewsOf(w.service)
	w.push("3.1.4")
	_, err = w.service.Builds.PushSuite(ctx, w.user, builds.NewSuite{FileName: "two.yamato", Text: twoCases})
	require.NoError(t, err)
	return w
}

// push hands in the Android package of a version of the sample app.
func (w *world) push(version string) store.Build {
	w.t.Helper()
	ctx := context.Background()
	for _, v := range demo.Versions {
		if v.Name != version {
			continue
		}
		packages := demotest.Packages(w.t, v)
		p, err := w.service.Builds.AddPackage(ctx, w.user, packages[0].File, strings.NewReader(string(packages[0].Data)))
		require.NoError(w.t, err)
		b, err := w.service.Builds.MakeBuild(ctx, w.user, []string{p.Digest})
		require.NoError(w.t, err)
		return b.Build
	}
	require.Fail(w.t, "there is no such version", version)
	return store.Build{}
}

// viewsOf gives what pages would show of a service.
func viewsOf(s *Service) *views.Part { return views.New(s.Base, s.Builds, s.Care) }

// another starts a further service on the same records.
func (w *world) another(c base.Config) *Service {
	s := New(w.store, w.blobs, c)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); _ = s.Run(ctx) }()
	w.t.Cleanup(func() { stop(); <-done })
	return s
}

// pipe joins a host's end of a link with a service's, in memory.
type pipe struct {
	in, out chan []byte
	closed  chan struct{}
	once    *sync.Once
}

func newPipe() (a, b pipe) {
	x, y, closed, once := make(chan []byte, 100), make(chan []byte, 100), make(chan struct{}), &sync.Once{}
	return pipe{x, y, closed, once}, pipe{y, x, closed, once}
}

func (p pipe) Send(ctx context.Context, m any) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	select {
	case p.out <- body:
		return nil
	case <-p.closed:
		return errors.New("closed")
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (p pipe) Receive(ctx context.Context, into any) error {
	select {
	case body := <-p.in:
		return link.Decode(body, into)
	case <-p.closed:
		return errors.New("closed")
	case <-ctx.Done():
		return ctx.Err()
	}
}

// fakeHost speaks the link by hand, so that a test can say what no host would.
type fakeHost struct {
	t    *testing.T
	conn pipe
}

func (w *world) link(s *Service, devices ...link.Device) *fakeHost {
	w.t.Helper()
	mine, theirs := newPipe()
	done := make(chan struct{})
	go func() { defer close(done); _ = s.Link.ServeHost(context.Background(), w.host, theirs) }()
	h := &fakeHost{w.t, mine}
	w.t.Cleanup(func() { h.hangUp(); <-done })
	require.NoError(w.t, mine.Send(context.Background(), link.FromHost{Hello: &link.Hello{Version: link.Version,
		Host: "bench", Site: "bench", Devices: devices}}))
	h.expect(func(m link.ToHost) bool { return m.Welcome != nil })
	return h
}

func (h *fakeHost) hangUp() { h.conn.once.Do(func() { close(h.conn.closed) }) }

// expect receives until a message is as wanted, and gives it.
func (h *fakeHost) expect(wanted func(link.ToHost) bool) link.ToHost {
	h.t.Helper()
	// with the race detector, on a machine that does much else
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	for {
		var m link.ToHost
		require.NoError(h.t, h.conn.Receive(ctx, &m))
		if wanted(m) {
			return m
		}
	}
}

func (h *fakeHost) lease() link.Lease {
	h.t.Helper()
	return h.expect(func(m link.ToHost) bool { return len(m.Leases) > 0 }).Leases[0]
}

func (h *fakeHost) say(events ...link.Event) {
	h.t.Helper()
	require.NoError(h.t, h.conn.Send(context.Background(), link.FromHost{Events: events}))
}

func (h *fakeHost) acked(lease, seq int64) {
	h.t.Helper()
	h.expect(func(m link.ToHost) bool {
		for _, a := range m.Acks {
			if a.Lease == lease && a.Seq == seq {
				return true
			}
		}
		return false
	})
}

func (h *fakeHost) refused(lease int64) string {
	h.t.Helper()
	m := h.expect(func(m link.ToHost) bool { return len(m.Refused) > 0 && m.Refused[0].Lease == lease })
	return m.Refused[0].Reason
}

func kaede(name string) link.Device {
	return link.Device{Device: fleet.Device{Name: name, Site: "bench", Kind: "emulator", Platform: "android",
		Model: "Kaede 7", OS: "14", Traits: []string{}, Abilities: []string{}}}
}

func (w *world) start(in runs.Order) store.Run {
	w.t.Helper()
	if in.Build == "" {
		in.Build, in.Suites = "3.1.4", []string{"Two"}
	}
	r, err := w.service.Runs.StartRun(context.Background(), w.user, in, "")
	require.NoError(w.t, err)
	return r
}

func (w *world) detail(n int64) contract.RunDetail {
	w.t.Helper()
	d, err := w.views.Detail(context.Background(), w.user, n, views.Whole)
	require.NoError(w.t, err)
	return d
}

// runOut makes a lease one that its host has not renewed in time.
func (w *world) runOut(lease int64) {
	w.t.Helper()
	ctx := context.Background()
	hosts, err := w.store.Hosts(ctx, w.user.ProjectID)
	require.NoError(w.t, err)
	live, err := w.store.Renew(ctx, hosts[0].ID, []int64{lease}, -time.Second)
	require.NoError(w.t, err)
	require.Equal(w.t, []int64{lease}, live)
}

func (w *world) awaitRun(n int64, ok func(contract.RunDetail) bool) contract.RunDetail {
	w.t.Helper()
	require.Eventually(w.t, func() bool { return ok(w.detail(n)) }, 15*time.Second, 10*time.Millisecond)
	return w.detail(n)
}

func result(lease, seq int64, index int, verdict string) link.Event {
	return link.Event{Lease: lease, Seq: seq, Case: &link.CaseClosed{Case: index, Verdict: verdict}}
}

func began(lease int64) link.Event {
	return link.Event{Lease: lease, Seq: 1, Began: &link.Began{Circumstances: json.RawMessage(`{}`)}}
}

func finished(lease, seq int64) []link.Event {
	return []link.Event{{Lease: lease, Seq: seq, Finished: &link.Finished{}}, {Lease: lease, Seq: seq + 1,
		Clean: &link.Clean{}}}
}

func TestAResendIsHarmless(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	r := w.start(runs.Order{})
	n := h.lease().Number
	h.say(began(n), result(n, 2, 0, "pass"))
	h.acked(n, 2)
	h.say(began(n), result(n, 2, 0, "fail"), result(n, 3, 1, "pass"))
	h.acked(n, 3)
	h.say(finished(n, 4)...)
	h.acked(n, 5)
	d := w.awaitRun(r.Number, func(d contract.RunDetail) bool { return d.Run.State == "finished" })
	require.Equal(t, "pass", d.Run.Verdict, "the first word stands")
	require.Len(t, d.Legs[0].Cases[0].Results, 1)
}

func TestALateWordIsRefusedAndTheDeviceIsCleanedBeforeItsNextLease(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 50 * time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"))
	r := w.start(runs.Order{})
	n := h.lease().Number
	h.say(began(n), result(n, 2, 0, "pass"))
	h.acked(n, 2)
	w.runOut(n)
	w.awaitRun(r.Number, func(d contract.RunDetail) bool { return d.Legs[0].State == "waiting" })
	devices, err := w.service.Care.Devices(context.Background(), w.user, care.DeviceFilter{})
	require.NoError(t, err)
	require.EqualValues(t, "resetting", devices[0].State, "never straight to idle")

	h.say(result(n, 3, 1, "fail"))
	require.Equal(t, "the lease has ended", h.refused(n))
	h.say(link.Event{Lease: n, Seq: 3, Clean: &link.Clean{}})
	next := h.lease()
	require.Greater(t, next.Number, n)
	require.Equal(t, []int{1}, next.Attempt.Cases, "what was decided stands; only the rest runs again")
	require.Equal(t, 2, next.Attempt.Number)
}

func TestNobodySpeaksForAnothersLease(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	w.start(runs.Order{})
	n := h.lease().Number
	h.say(began(n + 1000))
	require.Equal(t, "there is no such lease", h.refused(n+1000))
	h.say(began(n), link.Event{Lease: n, Seq: 2, Case: &link.CaseClosed{Case: 7, Verdict: "pass"}})
	require.Contains(t, h.refused(n), "a result that cannot be")
}

func TestTroubleIsTriedOnceMoreElsewhere(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"))
	r := w.start(runs.Order{})
	first := h.lease()
	n := first.Number
	h.say(began(n), result(n, 2, 0, "pass"), link.Event{Lease: n, Seq: 3,
		Finished: &link.Finished{Trouble: "the cable dropped"}}, link.Event{Lease: n, Seq: 4, Clean: &link.Clean{}})
	second := h.lease()
	require.NotEqual(t, first.Device, second.Device)
	n = second.Number
	h.say(began(n), link.Event{Lease: n, Seq: 2, Finished: &link.Finished{Trouble: "the cable dropped"}},
		link.Event{Lease: n, Seq: 3, Clean: &link.Clean{}})
	d := w.awaitRun(r.Number, func(d contract.RunDetail) bool { return d.Run.State == "finished" })
	require.Len(t, d.Legs[0].Attempts, 2, "once, not for ever")
	require.Equal(t, "error", d.Legs[0].Cases[1].Verdict)
	require.Equal(t, "pass", d.Legs[0].Cases[0].Verdict)
}

func TestWhatPassesWhenRepeatedIsFlaky(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	repeat := 2
	r := w.start(runs.Order{Build: "3.1.4", Suites: []string{"Two"}, RepeatFailed: repeat})
	n := h.lease().Number
	h.say(append([]link.Event{began(n), result(n, 2, 0, "fail"), result(n, 3, 1, "pass")}, finished(n, 4)...)...)
	again := h.lease()
	require.Equal(t, []int{0}, again.Attempt.Cases)
	n = again.Number
	h.say(append([]link.Event{began(n), result(n, 2, 0, "pass")}, finished(n, 3)...)...)
	d := w.awaitRun(r.Number, func(d contract.RunDetail) bool { return d.Run.State == "finished" })
	require.True(t, d.Legs[0].Cases[0].Flaky)
	require.Equal(t, "pass", d.Run.Verdict)
}

func TestALeaseReachesAHostThatIsLinkedToAnotherService(t *testing.T) {
	w := newWorld(t, base.Config{})
	other := w.another(base.Config{})
	h := w.link(other, kaede("kaede-7-1"))
	r := w.start(runs.Order{})
	n := h.lease().Number
	h.say(append([]link.Event{began(n), result(n, 2, 0, "pass"), result(n, 3, 1, "pass")}, finished(n, 4)...)...)
	w.awaitRun(r.Number, func(d contract.RunDetail) bool { return d.Run.State == "finished" })
}

func TestTheSameIdempotencyKeyMakesOneRun(t *testing.T) {
	w := newWorld(t, base.Config{})
	w.link(w.service, kaede("kaede-7-1"))
	numbers := make([]int64, 8)
	var all sync.WaitGroup
	for i := range numbers {
		all.Add(1)
		go func() {
			defer all.Done()
			r, err := w.service.Runs.StartRun(context.Background(), w.user, runs.Order{Build: "3.1.4",
				Suites: []string{"Two"}}, "the same")
			if err == nil {
				numbers[i] = r.Number
			}
		}()
	}
	all.Wait()
	for _, n := range numbers {
		require.Equal(t, int64(1), n)
	}
}

func TestPackagesOfOneVersionGatherInOneBuild(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	packages := demotest.Packages(t, demo.Versions[0])
	p, err := w.service.Builds.AddPackage(ctx, w.user, "../../etc/"+packages[1].File,
		strings.NewReader(string(packages[1].Data)))
	require.NoError(t, err)
	require.Equal(t, packages[1].File, p.FileName, "a name is a name, not a path")
	b, err := w.service.Builds.MakeBuild(ctx, w.user, []string{p.Digest})
	require.NoError(t, err)
	require.Equal(t, int64(1), b.Number, "the build of that version lacked this kind")
	require.Len(t, b.Packages, 2)
	b, err = w.service.Builds.MakeBuild(ctx, w.user, []string{p.Digest})
	require.NoError(t, err)
	require.Equal(t, int64(1), b.Number, "pushing it again changes nothing")

	rebuilt, err := demo.PackAndroid(demo.App{ID: demo.ApplicationID, Name: "Tideline", Version: demo.Versions[0],
		MinimumAPI: 31})
	require.NoError(t, err)
	p, err = w.service.Builds.AddPackage(ctx, w.user, "again.apk", strings.NewReader(string(rebuilt)))
	require.NoError(t, err)
	b, err = w.service.Builds.MakeBuild(ctx, w.user, []string{p.Digest})
	require.NoError(t, err)
	require.Equal(t, int64(2), b.Number, "another package of the same version and kind is another build")
}

func TestWhatIsRefusedIsNotKept(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	_, err := w.service.Builds.AddPackage(ctx, w.user, "x.apk", strings.NewReader("no package at all, but long enough"))
	require.Equal(t, base.PackageRefused, base.AsProblem(err).Kind)
	n, err := w.service.CollectBlobs(ctx, -time.Minute) // as if a day had passed
	require.NoError(t, err)
	require.Equal(t, 1, n, "its bytes are collected; what records refer to stays")
	n, err = w.service.CollectBlobs(ctx, -time.Minute)
	require.NoError(t, err)
	require.Zero(t, n)
}

func TestABlobThatArrivesDamagedIsRefused(t *testing.T) {
	w := newWorld(t, base.Config{})
	ctx := context.Background()
	sum := sha256.Sum256([]byte("whole"))
	digest := hex.EncodeToString(sum[:])
	err := w.service.Link.PutBlob(ctx, digest, strings.NewReader("whol"))
	require.Equal(t, base.Damaged, base.AsProblem(err).Kind)
	_, err = w.blobs.Open(ctx, digest)
	require.ErrorIs(t, err, blob.ErrNone)
	require.NoError(t, w.service.Link.PutBlob(ctx, digest, strings.NewReader("whole")))
	_, err = w.service.Link.OpenBlob(ctx, w.host, digest)
	require.Equal(t, base.Missing, base.AsProblem(err).Kind, "knowing a digest opens nothing")
	staged, err := os.ReadDir(filepath.Join(w.dir, "staging"))
	require.NoError(t, err)
	require.Empty(t, staged)
}

func TestAHostThatSpeaksAnotherVersionIsToldSo(t *testing.T) {
	w := newWorld(t, base.Config{})
	mine, theirs := newPipe()
	require.NoError(t, mine.Send(context.Background(), link.FromHost{Hello: &link.Hello{Version: 99, Host: "bench"}}))
	err := w.service.Link.ServeHost(context.Background(), w.host, theirs)
	require.Contains(t, err.Error(), "version 99 of the link")
}

func TestAnUnlinkedHostsDevicesAreOfflineAndComeBackWithIt(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	state := func() string {
		d, err := w.service.Care.Devices(context.Background(), w.user, care.DeviceFilter{})
		require.NoError(t, err)
		return string(d[0].State)
	}
	require.Equal(t, "idle", state())
	h.hangUp()
	require.Eventually(t, func() bool { return state() == "offline" }, 10*time.Second, 10*time.Millisecond)
	w.link(w.service, kaede("kaede-7-1"))
	require.Equal(t, "idle", state())
}

func TestAWaitingLegSaysWhatItWaitsFor(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	first := w.start(runs.Order{})
	n := h.lease().Number
	second := w.start(runs.Order{})
	require.Equal(t, "kaede-7-1, which is in use", *w.detail(second.Number).Legs[0].WaitsFor)
	h.say(append([]link.Event{began(n), result(n, 2, 0, "pass"), result(n, 3, 1, "pass")}, finished(n, 4)...)...)
	w.awaitRun(first.Number, func(d contract.RunDetail) bool { return d.Run.State == "finished" })
	n = h.lease().Number
	h.hangUp()
	third := w.start(runs.Order{})
	require.Contains(t, *w.detail(third.Number).Legs[0].WaitsFor, "kaede-7-1", "%d", n)
}

func TestRunsAreListedInPagesNewestFirst(t *testing.T) {
	w := newWorld(t, base.Config{})
	w.link(w.service, kaede("kaede-7-1"))
	for range 5 {
		w.start(runs.Order{})
	}
	var seen []int64
	for cursor := int64(0); ; {
		page, next, err := w.service.Runs.Runs(context.Background(), w.user, store.RunFilter{}, cursor, 2)
		require.NoError(t, err)
		for _, r := range page {
			seen = append(seen, r.Number)
		}
		if next == nil {
			break
		}
		cursor = *next
	}
	require.Equal(t, []int64{5, 4, 3, 2, 1}, seen)
}

func TestCasesAreChosenByNameAndByTag(t *testing.T) {
	w := newWorld(t, base.Config{})
	w.link(w.service, kaede("kaede-7-1"))
	ctx := context.Background()
	_, err := w.service.Builds.PushSuite(ctx, w.user, builds.NewSuite{FileName: "tags.yamato",
		Text: "suite \"Tags\"\ntags all\ncase \"a\" tags quick\nexpect #x\nend\ncase \"b\" tags slow\nexpect #x\nend\n"})
	require.NoError(t, err)
	cases := func(in runs.Order) []string {
		in.Build, in.Suites = "3.1.4", []string{"Tags"}
		r, err := w.service.Runs.StartRun(ctx, w.user, in, "")
		require.NoError(t, err)
		var names []string
		for _, x := range w.detail(r.Number).Legs[0].Cases {
			names = append(names, x.Name)
		}
		return names
	}
	require.Equal(t, []string{"a", "b"}, cases(runs.Order{Tags: []string{"all"}}))
	require.Equal(t, []string{"b"}, cases(runs.Order{Tags: []string{"slow"}}))
	require.Equal(t, []string{"a"}, cases(runs.Order{Cases: []string{"a"}}))
	_, err = w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "3.1.4", Suites: []string{"Tags"},
		Cases: []string{"c"}}, "")
	require.ErrorContains(t, err, `no case of these suites is called "c"`)
	_, err = w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "3.1.4", Suites: []string{"Tags"},
		Tags: []string{"none"}}, "")
	require.ErrorContains(t, err, "no case of these suites has these tags")
}

func TestASuiteThatChangesIsANewRevisionAndOldRunsKeepTheirs(t *testing.T) {
	w := newWorld(t, base.Config{})
	w.link(w.service, kaede("kaede-7-1"))
	ctx := context.Background()
	r := w.start(runs.Order{})
	same, err := w.service.Builds.PushSuite(ctx, w.user, builds.NewSuite{FileName: "two.yamato", Text: twoCases})
	require.NoError(t, err)
	require.False(t, same.Fresh)
	changed, err := w.service.Builds.PushSuite(ctx, w.user, builds.NewSuite{FileName: "two.yamato",
		Text: strings.Replace(twoCases, "\"two\"", "\"deux\"", 1)})
	require.NoError(t, err)
	require.Equal(t, int64(2), changed.Number)
	require.Equal(t, "two", w.detail(r.Number).Legs[0].Cases[1].Name)
}

func TestACancelledLegThatRunsEndsWhenItsHostSaysSo(t *testing.T) {
	w := newWorld(t, base.Config{})
	h := w.link(w.service, kaede("kaede-7-1"))
	r := w.start(runs.Order{})
	n := h.lease().Number
	h.say(began(n), result(n, 2, 0, "pass"))
	h.acked(n, 2)
	_, err := w.service.Runs.CancelRun(context.Background(), w.user, r.Number)
	require.NoError(t, err)
	m := h.expect(func(m link.ToHost) bool { return len(m.End) > 0 })
	require.Equal(t, link.End{Lease: n, Reason: "the run was cancelled by Aya Torrent"}, m.End[0])
	require.Nil(t, w.detail(r.Number).Run.FinishedAt, "its device is still held")
	h.say(link.Event{Lease: n, Seq: 3, Finished: &link.Finished{Trouble: m.End[0].Reason}}, link.Event{Lease: n, Seq: 4,
		Clean: &link.Clean{}})
	d := w.awaitRun(r.Number, func(d contract.RunDetail) bool { return d.Run.FinishedAt != nil })
	require.Equal(t, "cancelled", d.Run.State)
	require.Equal(t, "pass", d.Run.Verdict, "what was decided is kept")
	require.Equal(t, []string{"pass", "none"}, []string{d.Legs[0].Cases[0].Verdict, d.Legs[0].Cases[1].Verdict})
}

func TestTheBellWakesAllThatListenAndRingsForOthersAtMostFiftyTimesASecond(t *testing.T) {
	w := newWorld(t, base.Config{})
	rings := make(chan struct{}, 1000)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- w.store.Listen(ctx, func() { rings <- struct{}{} }) }()
	<-rings
	heard, leave := w.service.Bell.Subscribe()
	defer leave()
	from := time.Now()
	for time.Since(from) < 300*time.Millisecond {
		w.service.Bell.Ring()
	}
	<-heard
	stop()
	<-done
	require.LessOrEqual(t, len(rings), int(time.Since(from)/base.RingEvery)+2)
	require.NotEmpty(t, rings)
}
