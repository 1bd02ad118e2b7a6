package host

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
	"yamato/internal/host/journal"
	"yamato/internal/link"
)

// phone is a patient on a cable.
type phone struct {
	patient
	unplugged bool
	noticed   chan struct{}
	apps      []string // that it was cleaned of
}

func (p *phone) Describe() fleet.Device {
	return fleet.Device{Name: "kaede-7-r1", Platform: "android", Kind: fleet.Real, OS: "14"}
}

func (p *phone) Health(context.Context) (fleet.Health, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	connected := !p.unplugged
	return fleet.Health{Connected: &connected}, nil
}

func (p *phone) Noticed() <-chan struct{} { return p.noticed }

func (p *phone) Clean(_ context.Context, _ driver.Cleaning, apps ...string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.unplugged {
		return errors.New("it does not answer")
	}
	p.apps = append(p.apps, apps...)
	return nil
}

func (p *phone) plug(in bool) {
	p.mu.Lock()
	p.unplugged = !in
	p.mu.Unlock()
	p.noticed <- struct{}{}
}

func (p *phone) cleanedOf() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.apps)
}

// attend runs a host with one device until the test ends or stop is called.
func attend(t *testing.T, b *bedside, d driver.Device, dir string) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- Run(ctx, Config{Name: "bench", Site: "bench", Dir: dir, Devices: []driver.Device{d}, Service: b})
	}()
	ended := false
	stop = func() {
		if cancel(); !ended {
			ended = true
			require.NoError(t, <-done)
		}
	}
	t.Cleanup(stop)
	return stop
}

// told waits for a device's condition that is as wanted.
func (b *bedside) told(wanted func(fleet.Condition) bool) fleet.Condition {
	b.t.Helper()
	late := time.After(10 * time.Second)
	for {
		select {
		case m := <-b.said:
			if m.Fleet == nil {
				continue
			}
			for _, d := range m.Fleet.Devices {
				if wanted(d.Condition) {
					return d.Condition
				}
			}
		case <-late:
			require.FailNow(b.t, "the host does not tell of it")
		}
	}
}

func failing(c fleet.Condition, id string) bool {
	return slices.ContainsFunc(c.Checks, func(k fleet.Check) bool { return k.ID == id && !k.OK })
}

func TestADeviceThatWasOutOfReachIsCleanedWhenItIsBackAlsoByAnotherProcess(t *testing.T) {
	dir := t.TempDir()
	b, p := newBedside(t), &phone{patient: patient{hang: make(chan struct{})}, noticed: make(chan struct{}, 8)}
	stop := attend(t, b, p, dir)
	b.hello()
	b.toHost <- link.ToHost{Leases: []link.Lease{{Number: 1, Device: "kaede-7-r1", Apps: []string{"example.tideline"},
		TTLMS: 60_000, Attempt: &link.Attempt{PackageBlob: b.digest("app"), SuiteBlob: b.digest("suite"),
			Cases: []int{0}}}}}
	b.event(func(e link.Event) bool { return e.CaseOpen != nil })
	p.plug(false)
	b.toHost <- link.ToHost{End: []link.End{{Lease: 1, Reason: "the run was cancelled"}}}
	clean := b.event(cleanOf(1)).Clean
	require.True(t, clean.Later, "nobody says that it is clean")
	require.True(t, failing(*clean.Condition, "clean"))
	require.Empty(t, p.cleanedOf())
	stop()

	// The host is started anew, and the phone is still not there.
	b2 := newBedside(t)
	attend(t, b2, p, dir)
	if c := b2.hello().Devices[0].Condition; !failing(c, "clean") {
		require.True(t, failing(c, "seen"), "nothing is to run on it before it was looked at")
		b2.told(func(c fleet.Condition) bool { return failing(c, "clean") && failing(c, "connected") })
	}
	p.plug(true)
	b2.told(func(c fleet.Condition) bool { return !failing(c, "clean") && !failing(c, "connected") })
	require.Equal(t, []string{"example.tideline"}, p.cleanedOf(), "of what the lease put on it, and of nothing else")
	require.NoError(t, rereadClean(dir))
}

// rereadClean tells whether anything is remembered as not clean.
func rereadClean(dir string) error {
	s, err := journal.OpenStains(dir, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	if apps, stained := s.Of("kaede-7-r1"); stained {
		return errors.New("it is still remembered as not clean of " + apps[0])
	}
	return nil
}

func TestWhatIsRememberedOfStainsIsRefusedWhereItCannotBeRead(t *testing.T) {
	dir := t.TempDir()
	s, err := journal.OpenStains(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	s.Add("kaede-7-r1", []string{"b", "a"})
	s.Add("kaede-7-r1", []string{"a"})
	again, err := journal.OpenStains(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	apps, stained := again.Of("kaede-7-r1")
	require.True(t, stained)
	require.Equal(t, []string{"a", "b"}, apps)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "unclean.json"), []byte("{"), 0o600))
	_, err = journal.OpenStains(dir, slog.New(slog.DiscardHandler))
	require.ErrorContains(t, err, "cannot be read", "a device that is not clean must not be taken for clean")
}
