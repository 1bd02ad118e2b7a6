package host

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/link"
)

// bedside is a service's end of a link, by hand, and the blobs it has.
type bedside struct {
	t       *testing.T
	toHost  chan link.ToHost
	said    chan link.FromHost
	heard   []link.Event // of the last message, not looked at yet
	mu      sync.Mutex
	blobs   map[string]string
	uploads int
	dials   int
	refuse  error
}

func newBedside(t *testing.T) *bedside {
	return &bedside{t: t, toHost: make(chan link.ToHost, 20), said: make(chan link.FromHost, 200),
		blobs: map[string]string{"suite": "suite \"s\"\ncase \"one\"\n  press tab\nend\ncase \"two\"\n  press " +
			"tab\nend\n",
			"app": "bytes"}}
}

type bedsideConn struct {
	b      *bedside
	closed chan struct{}
}

func (b *bedside) Dial(context.Context) (link.Conn, func(), error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.dials++
	c := bedsideConn{b, make(chan struct{})}
	return c, sync.OnceFunc(func() { close(c.closed) }), nil
}

func (c bedsideConn) Send(ctx context.Context, m any) error {
	select {
	case c.b.said <- m.(link.FromHost):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (c bedsideConn) Receive(ctx context.Context, into any) error {
	select {
	case m := <-c.b.toHost:
		*into.(*link.ToHost) = m
		return nil
	case <-c.closed:
		return errors.New("hung up")
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (b *bedside) DialLive(context.Context, int64) (link.Live, func(), error) {
	return link.Live{}, nil, errors.New("there is no such socket here")
}

func (b *bedside) DialPort(context.Context, int64, string) (net.Conn, error) {
	return nil, errors.New("there is no such port here")
}

func (b *bedside) Lent(context.Context, int64) (link.Lent, error) { return link.Lent{}, nil }

func (b *bedside) Upload(context.Context, string, io.ReaderAt, int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.uploads++
	return nil
}

func (b *bedside) Adopt(string) error { return nil }

func (b *bedside) Download(_ context.Context, digest, path string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.refuse != nil {
		return b.refuse
	}
	for name, content := range b.blobs {
		if b.digest(name) == digest {
			return os.WriteFile(path, []byte(content), 0o600)
		}
	}
	return errors.New("there is no such blob")
}

// event waits for an event that is as wanted, and gives it.
func (b *bedside) event(wanted func(link.Event) bool) link.Event {
	b.t.Helper()
	late := time.After(10 * time.Second)
	for {
		for len(b.heard) > 0 {
			e := b.heard[0]
			b.heard = b.heard[1:]
			if wanted(e) {
				return e
			}
		}
		select {
		case m := <-b.said:
			b.heard = m.Events
		case <-late:
			require.FailNow(b.t, "the host does not say it")
		}
	}
}

func (b *bedside) hello() *link.Hello {
	b.t.Helper()
	select {
	case m := <-b.said:
		require.NotNil(b.t, m.Hello)
		b.toHost <- link.ToHost{Welcome: &link.Welcome{Version: link.Version, TTLMS: 60_000}}
		return m.Hello
	case <-time.After(10 * time.Second):
		require.FailNow(b.t, "no hello")
		return nil
	}
}

// digest is that of what is kept under a name.
func (b *bedside) digest(name string) string {
	sum := sha256.Sum256([]byte(b.blobs[name]))
	return hex.EncodeToString(sum[:])
}

func (b *bedside) lease(number int64, ttl time.Duration) {
	b.toHost <- link.ToHost{Leases: []link.Lease{{Number: number, Device: "kaede-7-1",
		Attempt: &link.Attempt{PackageBlob: b.digest("app"), SuiteBlob: b.digest("suite"), Cases: []int{0, 1}},
		TTLMS:   ttl.Milliseconds()}}}
}

// patient is a device that does as it is told, and can be made to hang or fail.
type patient struct {
	now     time.Duration
	mu      sync.Mutex
	install error
	hang    chan struct{} // Start waits for it
	cleaned int
}

var still = &screen.Tree{Root: &screen.Node{Role: "application"}, Revision: 1}

func (p *patient) Tree(context.Context) (*screen.Tree, error) { return still, nil }
func (p *patient) AwaitChange(_ context.Context, _ uint64, until time.Duration) error {
	p.now = max(p.now, until)
	return nil
}
func (p *patient) Now() time.Duration                              { return p.now }
func (p *patient) Picture(context.Context) (device.Picture, error) { return nil, errors.New("none") }
func (p *patient) Tap(context.Context, screen.Point) error         { return nil }
func (p *patient) Keys(context.Context, string) error              { return nil }
func (p *patient) Abilities() []string                             { return nil }
func (p *patient) Describe() fleet.Device {
	return fleet.Device{Name: "kaede-7-1", Platform: "android"}
}
func (p *patient) Ready(context.Context, driver.Terms) error { return nil }
func (p *patient) Install(context.Context, driver.App) error { return p.install }
func (p *patient) Stop(context.Context, string) error        { return nil }
func (p *patient) Close() error                              { return nil }

func (p *patient) Start(ctx context.Context, _ string, _ device.Start) error {
	if p.hang == nil {
		return nil
	}
	select {
	case <-p.hang:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

func (p *patient) Clean(context.Context, driver.Cleaning, ...string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cleaned++
	return nil
}

// runHost runs a host until the test ends, or stop is called.
func runHost(t *testing.T, b *bedside, p *patient, dir string) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- Run(ctx, Config{Name: "bench", Site: "bench", Dir: dir, Devices: []driver.Device{p}, Service: b})
	}()
	stop = sync.OnceFunc(func() { cancel(); require.NoError(t, <-done) })
	t.Cleanup(stop)
	return stop
}

func finishedOf(n int64) func(link.Event) bool {
	return func(e link.Event) bool { return e.Lease == n && e.Finished != nil }
}

func cleanOf(n int64) func(link.Event) bool {
	return func(e link.Event) bool { return e.Lease == n && e.Clean != nil }
}

func TestALeaseIsCarriedOutAndItsDeviceCleanedLast(t *testing.T) {
	b, p := newBedside(t), &patient{}
	runHost(t, b, p, t.TempDir())
	hello := b.hello()
	require.Equal(t, "kaede-7-1", hello.Devices[0].Name)
	require.Zero(t, hello.Devices[0].Lease)
	b.lease(1, time.Minute)
	seq := int64(0)
	var kinds []string
	last := b.event(func(e link.Event) bool {
		seq++
		require.Equal(t, seq, e.Seq, "numbered without gaps")
		switch {
		case e.Began != nil:
			kinds = append(kinds, "began")
		case e.CaseOpen != nil:
			kinds = append(kinds, "open")
		case e.Case != nil:
			kinds = append(kinds, "case "+e.Case.Verdict)
		case e.Finished != nil:
			kinds = append(kinds, "finished"+e.Finished.Trouble)
		}
		return e.Clean != nil
	})
	require.Empty(t, last.Clean.Trouble)
	require.Equal(t, 1, p.cleaned)
	require.Equal(t, "began", kinds[0])
	require.Equal(t, "finished", kinds[len(kinds)-1])
	require.ElementsMatch(t, []string{"began", "open", "open", "case pass", "case pass", "finished"}, kinds)
}

func TestTheSameLeaseTwiceIsCarriedOutOnce(t *testing.T) {
	b, p := newBedside(t), &patient{}
	runHost(t, b, p, t.TempDir())
	b.hello()
	b.lease(1, time.Minute)
	b.lease(1, time.Minute)
	b.event(cleanOf(1))
	b.lease(2, time.Minute)
	b.event(cleanOf(2))
	require.Equal(t, 2, p.cleaned)
}

func TestAHostStopsDrivingBeforeItsLeaseRunsOut(t *testing.T) {
	b, p := newBedside(t), &patient{hang: make(chan struct{})}
	runHost(t, b, p, t.TempDir())
	b.hello()
	began := time.Now()
	b.lease(1, 4*time.Second) // and nobody renews it
	e := b.event(finishedOf(1))
	require.Less(t, time.Since(began), 4*time.Second, "by its own clock")
	require.Equal(t, errRanOut.Error(), e.Finished.Trouble)
	b.event(cleanOf(1))
}

func TestALeaseThatIsToEndEndsWithTheReason(t *testing.T) {
	b, p := newBedside(t), &patient{hang: make(chan struct{})}
	runHost(t, b, p, t.TempDir())
	b.hello()
	b.lease(1, time.Minute)
	b.event(func(e link.Event) bool { return e.CaseOpen != nil })
	b.toHost <- link.ToHost{End: []link.End{{Lease: 1, Reason: "the run was cancelled"}}}
	require.Equal(t, "the run was cancelled", b.event(finishedOf(1)).Finished.Trouble)
	b.event(cleanOf(1))
}

func TestARefusedLeaseIsLeftAndItsDeviceCleaned(t *testing.T) {
	b, p := newBedside(t), &patient{hang: make(chan struct{})}
	runHost(t, b, p, t.TempDir())
	b.hello()
	b.lease(1, time.Minute)
	b.event(func(e link.Event) bool { return e.CaseOpen != nil })
	b.toHost <- link.ToHost{Refused: []link.Refusal{{Lease: 1, Reason: "the lease has ended"}}}
	b.event(cleanOf(1))
}

func TestTroubleWithTheDeviceOrItsPackageIsToldAsSuch(t *testing.T) {
	b, p := newBedside(t), &patient{install: errors.New("no space left on the device")}
	runHost(t, b, p, t.TempDir())
	b.hello()
	b.lease(1, time.Minute)
	require.Contains(t, b.event(finishedOf(1)).Finished.Trouble, "no space left on the device")

	b.mu.Lock()
	b.refuse = errors.New("the service answers 500")
	b.blobs["other"] = ""
	b.mu.Unlock()
	b.toHost <- link.ToHost{Leases: []link.Lease{{Number: 2, Device: "kaede-7-1",
		Attempt: &link.Attempt{PackageBlob: b.digest("app"), SuiteBlob: b.digest("other")}, TTLMS: 60_000}}}
	require.Contains(t, b.event(finishedOf(2)).Finished.Trouble, "the service answers 500")

	b.toHost <- link.ToHost{Leases: []link.Lease{{Number: 3, Device: "nowhere", TTLMS: 60_000}}}
	require.Contains(t, b.event(finishedOf(3)).Finished.Trouble, "no device nowhere")
}

func TestAHostThatWasKilledEndsItsLeasesWhenItStartsAgain(t *testing.T) {
	dir := t.TempDir()
	b, p := newBedside(t), &patient{hang: make(chan struct{})}
	stop := runHost(t, b, p, dir)
	b.hello()
	b.lease(1, time.Minute)
	b.event(func(e link.Event) bool { return e.CaseOpen != nil })
	stop() // the lease stays open in the journal, as after a kill

	again := newBedside(t)
	runHost(t, again, &patient{}, dir)
	require.Equal(t, int64(1), again.hello().Devices[0].Lease, "it says that the device is not free yet")
	require.Equal(t, errRestart.Error(), again.event(finishedOf(1)).Finished.Trouble)
	again.event(cleanOf(1))
}

func TestALeaseWhoseJournalWasLostIsEndedNotRunAgain(t *testing.T) {
	b := newBedside(t)
	runHost(t, b, &patient{}, t.TempDir())
	b.hello()
	b.toHost <- link.ToHost{Leases: []link.Lease{{Number: 5, Device: "kaede-7-1", LastSeq: 9, TTLMS: 60_000}}}
	e := b.event(finishedOf(5))
	require.Equal(t, int64(10), e.Seq, "numbers go on where the service has them")
	require.Equal(t, errRestart.Error(), e.Finished.Trouble)
}

func TestChanceIsAFunctionOfSeedCaseCombinationAndAttempt(t *testing.T) {
	l := attempt{Attempt: link.Attempt{Seed: 7, Number: 1,
		Combination: fleet.Combination{Class: fleet.Class{Kind: "emulator", Model: "Kaede 7", Platform: "android",
			OS: "14"}, Levels: fleet.Levels{{Factor: feel.Language, Value: "en-GB"}}}}}
	first := l.chance("a")
	other := l
	other.lease.Number, other.lease.Device = 99, "kaede-7-2"
	require.Equal(t, first, other.chance("a"), "not of the device, nor of when it ran")
	for _, change := range []func(*attempt){
		func(l *attempt) { l.Seed = 8 }, func(l *attempt) { l.Number = 2 },
		func(l *attempt) {
			l.Combination.Model = "Kaede 8"
		}, func(l *attempt) { l.Combination.Levels = fleet.Levels{{Factor: feel.Language, Value: "de-DE"}} },
	} {
		different := l
		change(&different)
		require.NotEqual(t, first, different.chance("a"))
	}
	require.NotEqual(t, first, l.chance("b"))
}

func TestADeviceThatIsRemovedEndsItsLeasesBegunOrNot(t *testing.T) {
	b, p := newBedside(t), &patient{hang: make(chan struct{})}
	running := make(chan *Host, 1)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- Run(ctx, Config{Name: "bench", Site: "bench", Dir: t.TempDir(), Devices: []driver.Device{p}, Service: b,
			told: func(h *Host) {
				running <- h
			}})
	}()
	defer func() { cancel(); require.NoError(t, <-done) }()
	b.hello()
	b.lease(1, time.Minute)
	b.event(func(e link.Event) bool { return e.Lease == 1 && e.CaseOpen != nil }) // it hangs in its case
	b.lease(2, time.Minute)                                                       // and this one waits its turn
	h := <-running
	h.mu.Lock()
	w := h.workers["kaede-7-1"]
	delete(h.workers, "kaede-7-1")
	h.mu.Unlock()
	w.end()
	ended := map[int64]bool{}
	for len(ended) < 2 {
		e := b.event(func(e link.Event) bool { return e.Clean != nil })
		ended[e.Lease] = true
	}
	asked, _ := h.askFor(time.Now())
	require.Empty(t, asked, "nothing is renewed any more")
}
