package host

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
	"yamato/internal/host/yard"
	"yamato/internal/link"
)

// shelf is a driver whose devices are put there and taken away while it looks.
type shelf struct {
	changes chan driver.Change
	refuse  error
}

func (s *shelf) Check(*driver.Site) error { return nil }
func (s *shelf) Open(*driver.Site, driver.SiteDevice, fleet.Model) (driver.Device, error) {
	return nil, errors.New("its devices are found, and not listed")
}

func (s *shelf) Find(ctx context.Context, _ *driver.Site, told func(driver.Change)) error {
	if s.refuse != nil {
		return s.refuse
	}
	for {
		select {
		case c := <-s.changes:
			told(c)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// lent is a phone under the name that it was opened by.
type lent struct {
	patient
	name   string
	mu     sync.Mutex
	closed bool
}

func (l *lent) Describe() fleet.Device {
	return fleet.Device{Name: l.name, Platform: "android", Kind: fleet.Real, Model: "Kaede 7"}
}

func (l *lent) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	return nil
}

func (l *lent) wasClosed() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.closed
}

func (s *shelf) put(l *lent, id string) {
	s.changes <- driver.Change{ID: id, Like: "Kaede 7", Open: func(name string) (driver.Device, error) {
		l.name = name
		return l, nil
	}}
}

// tend runs a host whose devices are found, in a folder, until stop is called.
func tend(t *testing.T, b *bedside, s *shelf, dir string, site *driver.Site) (stop func()) {
	t.Helper()
	y, err := yard.Open(dir, site, s)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- Run(ctx, Config{Name: "cable", Site: "cable", Dir: dir, Service: b, Yard: y})
	}()
	stop = sync.OnceFunc(func() { cancel(); require.NoError(t, <-done) })
	t.Cleanup(stop)
	return stop
}

func named(name string) func(link.FromHost) bool {
	return func(m link.FromHost) bool {
		return m.Fleet != nil && slices.ContainsFunc(m.Fleet.Devices, func(d link.Device) bool { return d.Name == name })
	}
}

func TestDevicesComeAndGoByThemselvesAndKeepTheirNames(t *testing.T) {
	dir := t.TempDir()
	site := &driver.Site{Name: "cable", Devices: []driver.SiteDevice{{Name: "inas-own", HardwareID: "serial-3"}}}
	b, s := newBedside(t), &shelf{changes: make(chan driver.Change)}
	stop := tend(t, b, s, dir, site)
	require.Empty(t, b.hello().Devices)
	first, second, third := &lent{}, &lent{}, &lent{}
	s.put(first, "serial-1")
	b.saying(named("kaede-7-cable-1"))
	s.put(second, "serial-2")
	b.saying(named("kaede-7-cable-2"))
	s.put(third, "serial-3")
	b.saying(named("inas-own"))

	again := &lent{} // the same, over another cable
	s.put(again, "serial-1")
	require.Eventually(t, again.wasClosed, 10*time.Second, time.Millisecond, "one of both is enough")
	require.False(t, first.wasClosed())

	s.changes <- driver.Change{ID: "serial-1", Like: "Kaede 7"}
	b.saying(func(m link.FromHost) bool { return m.Fleet != nil && slices.Contains(m.Fleet.Gone, "kaede-7-cable-1") })
	require.Eventually(t, first.wasClosed, 10*time.Second, time.Millisecond)
	stop()

	b2 := newBedside(t)
	tend(t, b2, s, dir, site)
	require.Empty(t, b2.hello().Devices)
	s.put(&lent{}, "serial-2")
	b2.saying(named("kaede-7-cable-2"))
	s.put(&lent{}, "serial-4")
	b2.saying(named("kaede-7-cable-3"))
	s.put(&lent{}, "serial-1")
	b2.saying(named("kaede-7-cable-1"))
}

func TestALeaseOfADeviceThatMayComeAgainEndsAtOnceAndIsCleanedWhenItComes(t *testing.T) {
	dir := t.TempDir()
	site := &driver.Site{Name: "cable"}
	b, s := newBedside(t), &shelf{changes: make(chan driver.Change)}
	stop := tend(t, b, s, dir, site)
	b.hello()
	s.put(&lent{patient: patient{hang: make(chan struct{})}}, "serial-1")
	b.saying(named("kaede-7-cable-1"))
	b.toHost <- link.ToHost{Leases: []link.Lease{{Number: 1, Device: "kaede-7-cable-1", Apps: []string{"example.tideline"},
		TTLMS: 60_000, Attempt: &link.Attempt{PackageBlob: b.digest("app"), SuiteBlob: b.digest("suite"), Cases: []int{0}}}}}
	b.event(func(e link.Event) bool { return e.CaseOpen != nil })
	stop() // in the middle of it

	b2 := newBedside(t)
	tend(t, b2, s, dir, site)
	b2.hello()
	require.Contains(t, b2.event(finishedOf(1)).Finished.Trouble, "restarted")
	back := &lent{}
	s.put(back, "serial-1")
	require.Empty(t, b2.event(cleanOf(1)).Clean.Trouble)
	require.Equal(t, 1, back.cleaned)
}

func TestAHostWhoseDevicesCannotBeFoundSaysWhy(t *testing.T) {
	dir := t.TempDir()
	y, err := yard.Open(dir, &driver.Site{Name: "cable"}, &shelf{refuse: errors.New("no bridge can be started here")})
	require.NoError(t, err)
	err = Run(context.Background(), Config{Name: "cable", Site: "cable", Dir: dir, Service: newBedside(t), Yard: y})
	require.ErrorContains(t, err, "no bridge")

	blocked := &shelf{changes: make(chan driver.Change)}
	y, err = yard.Open(filepath.Join(dir, "other"), &driver.Site{Name: "cable"}, blocked)
	require.NoError(t, err)
	failed := errors.New("it cannot be opened")
	go func() {
		blocked.changes <- driver.Change{ID: "x", Like: "Kaede 7", Open: func(string) (driver.Device, error) { return nil, failed }}
	}()
	require.ErrorIs(t, Run(context.Background(), Config{Name: "cable", Site: "cable", Dir: filepath.Join(dir, "other"),
		Service: newBedside(t), Yard: y}), failed)
}
