package host

import (
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/host/yard"
	"yamato/internal/link"
)

// shade is a picture of one colour.
type shade uint8

func (s shade) Image() (image.Image, error) {
	img := image.NewGray(image.Rect(0, 0, 70, 140))
	for i := range img.Pix {
		img.Pix[i] = uint8(s)
	}
	img.SetGray(3, 3, color.Gray{Y: 255}) // a dead pixel is no light
	return img, nil
}

func (s shade) Key() string { return fmt.Sprint(uint8(s)) }

// restive is a virtual device of somebody's own that comes up at the boot that it
// is told to.
type restive struct {
	patient
	facts  fleet.Device
	comeUp int // the boot at which it does; 0 for never
	hold   chan struct{}
	light  shade

	lock  sync.Mutex
	did   []string
	boots int
	up    bool
	front string
}

func (r *restive) note(what string) {
	r.lock.Lock()
	defer r.lock.Unlock()
	r.did = append(r.did, what)
}

func (r *restive) Describe() fleet.Device { return r.facts }
func (r *restive) Up() bool               { return r.up }
func (r *restive) BootLog() []device.LogLine {
	return []device.LogLine{{Text: "waiting for the data partition"}}
}
func (r *restive) Halt(context.Context) error {
	r.note("halt")
	r.up = false
	return nil
}
func (r *restive) Empty(context.Context) error { r.note("empty"); r.up = false; return nil }
func (r *restive) Boot(context.Context, time.Duration, bool) error {
	r.note("boot")
	if r.hold != nil {
		<-r.hold
	}
	if r.boots++; r.boots < r.comeUp || r.comeUp == 0 && r.light == 0 && r.boots%2 == 1 {
		return errors.New("it was not up in time")
	}
	r.up = true
	return nil
}
func (r *restive) Picture(context.Context) (device.Picture, error) { return r.light, nil }
func (r *restive) Tree(context.Context) (*screen.Tree, error) {
	return &screen.Tree{App: r.front, Root: &screen.Node{Role: "application", Name: "secret"}, Revision: 1}, nil
}

func (r *restive) history() []string {
	r.lock.Lock()
	defer r.lock.Unlock()
	return append([]string{}, r.did...)
}

// run runs a host with these devices until the test ends.
func run(t *testing.T, b *bedside, devices ...driver.Device) {
	t.Helper()
	runAt(t, b, nil, devices...)
}

// runAt is run at a site with a yard.
func runAt(t *testing.T, b *bedside, y *yard.Yard, devices ...driver.Device) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- Run(ctx, Config{Name: "bench", Site: "bench", Dir: t.TempDir(), Devices: devices, Service: b, Yard: y})
	}()
	t.Cleanup(func() { cancel(); require.NoError(t, <-done) })
}

// said waits for a message of the host's that is as wanted.
func (b *bedside) saying(wanted func(link.FromHost) bool) link.FromHost {
	b.t.Helper()
	late := time.After(10 * time.Second)
	for {
		select {
		case m := <-b.said:
			if wanted(m) {
				return m
			}
		case <-late:
			require.FailNow(b.t, "the host does not say it")
		}
	}
}

func power(name, want string) func(link.FromHost) bool {
	return func(m link.FromHost) bool {
		if m.Fleet == nil {
			return false
		}
		for _, d := range m.Fleet.Devices {
			if d.Name == name && d.Condition.Power == want {
				return true
			}
		}
		return false
	}
}

var emulator = fleet.Device{Name: "kaede-7-1", Kind: fleet.Emulator, Platform: "android", TakesMB: 2048}

func TestADeviceThatDoesNotComeUpIsGivenUpWithWhatWasTriedAndSeen(t *testing.T) {
	b := newBedside(t)
	d := &restive{facts: emulator}
	run(t, b, d)
	b.hello()
	m := b.saying(func(m link.FromHost) bool { return m.Done != nil })
	require.Equal(t, "kaede-7-1", m.Done.Device)
	require.Equal(t, "it does not come up: boot: it was not up in time; boot from power-off: its screen stays "+
		"black; boot emptied: it was not up in time. It was given up", m.Done.Broken.Diagnosis)
	require.NotEmpty(t, m.Done.Broken.Picture)
	require.NotEmpty(t, m.Done.Broken.Log)
	require.Equal(t, []string{"boot", "halt", "boot", "halt", "empty", "boot", "halt"}, d.history())
}

func TestADeviceThatComesUpAtTheSecondTryServes(t *testing.T) {
	b := newBedside(t)
	d := &restive{facts: emulator, comeUp: 2, light: 200, hold: make(chan struct{})}
	run(t, b, d)
	b.hello()
	close(d.hold) // it comes up when it has been told of
	b.saying(power("kaede-7-1", fleet.PowerUp))
	require.Equal(t, []string{"boot", "halt", "boot"}, d.history())

	errand := link.Errand{ID: 7, What: link.DoHalt, Device: "kaede-7-1"}
	b.toHost <- link.ToHost{Do: []link.Errand{errand}}
	b.saying(power("kaede-7-1", fleet.PowerHalted))
	m := b.saying(func(m link.FromHost) bool { return m.Done != nil && m.Done.ID == 7 })
	require.Empty(t, m.Done.Trouble)
	b.toHost <- link.ToHost{Do: []link.Errand{errand, {ID: 8, What: link.DoEmpty, Device: "kaede-7-1"},
		{ID: 9, What: link.DoCheck, Device: "nobody"}, {ID: 10, What: link.DoMake},
		{ID: 11, What: "dance", Device: "kaede-7-1"}}}
	troubles := map[int64]string{}
	for len(troubles) < 4 {
		m := b.saying(func(m link.FromHost) bool { return m.Done != nil })
		troubles[m.Done.ID] = m.Done.Trouble
	}
	require.Equal(t, map[int64]string{8: "", 9: "this host has no device nobody",
		10: "this host makes no virtual devices", 11: "this host does not know how to dance"}, troubles,
		"what was done is not done twice")
	require.Equal(t, []string{"boot", "halt", "boot", "halt", "empty"}, d.history())
}

func TestOfTwoBootsAtOnceOnlyWhatFitsIsDone(t *testing.T) {
	b := newBedside(t)
	other := emulator
	other.Name = "kaede-7-2"
	slow, next := &restive{facts: emulator, comeUp: 1, light: 200, hold: make(chan struct{})},
		&restive{facts: other, comeUp: 1, light: 200}
	off := []driver.SiteDevice{{Name: "kaede-7-1", Halted: true}, {Name: "kaede-7-2", Halted: true}}
	here, err := yard.Open(t.TempDir(), &driver.Site{Name: "bench", Capacity: fleet.Capacity{MemoryMB: 3000}, Devices: off}, nil)
	require.NoError(t, err)
	runAt(t, b, here, slow, next)
	b.hello()
	b.toHost <- link.ToHost{Do: []link.Errand{{ID: 1, What: link.DoBoot, Device: "kaede-7-1"}}}
	require.Eventually(t, func() bool {
		return len(slow.history()) == 1
	}, 10*time.Second, time.Millisecond, "it boots, and is not up yet")
	b.toHost <- link.ToHost{Do: []link.Errand{{ID: 2, What: link.DoBoot, Device: "kaede-7-2"}}}
	refused := b.saying(func(m link.FromHost) bool { return m.Done != nil && m.Done.ID == 2 }).Done
	require.Contains(t, refused.Trouble, "kaede-7-2 needs 2.0 GB and 0.9 GB is free")
	require.Empty(t, next.history())
	close(slow.hold)
	require.Empty(t, b.saying(func(m link.FromHost) bool { return m.Done != nil && m.Done.ID == 1 }).Done.Trouble)
	b.toHost <- link.ToHost{Do: []link.Errand{{ID: 3, What: link.DoHalt, Device: "kaede-7-1"},
		{ID: 4, What: link.DoBoot,
			Device: "kaede-7-1"}}}
	b.saying(func(m link.FromHost) bool { return m.Done != nil && m.Done.ID == 4 && m.Done.Trouble == "" })
}

func TestNothingButTheAppUnderTestIsRecordedOnSomebodysOwn(t *testing.T) {
	ctx := context.Background()
	own := emulator
	own.Kind, own.Owner = fleet.Real, "Bo Lindqvist"
	d := &restive{facts: own, light: 90, up: true, front: "example.mail"}
	w := &worker{device: d, app: "example.tideline"}
	require.Equal(t, driver.CleanApp, w.atMost(driver.CleanDevice), "cleaning never goes beyond the app")
	tree, err := w.eyes().Tree(ctx)
	require.NoError(t, err)
	require.NotContains(t, tree.Root.Name, "secret")
	_, err = w.eyes().Picture(ctx)
	require.ErrorContains(t, err, "something else than the app under test")
	_, err = w.sight(ctx, true)
	require.ErrorContains(t, err, "it is Bo Lindqvist's own")
	d.front = "example.tideline"
	tree, err = w.eyes().Tree(ctx)
	require.NoError(t, err)
	require.Equal(t, "secret", tree.Root.Name, "the app under test is what is looked at")
	_, err = w.eyes().Picture(ctx)
	require.NoError(t, err)
	w.device = &restive{facts: emulator, light: 90, up: true}
	require.Equal(t, driver.CleanDevice, w.atMost(driver.CleanDevice))
}

func TestBlackIsBlackWithADeadPixelAndDarkIsNot(t *testing.T) {
	for light, want := range map[shade]bool{0: true, 10: true, 40: false, 255: false} {
		black, err := isBlack(light)
		require.NoError(t, err)
		require.Equal(t, want, black, "%d", light)
	}
}
