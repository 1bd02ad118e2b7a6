package host

import (
	"context"
	"errors"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

// discreet is somebody's own device: it shows the app under test and nothing else.
type discreet struct {
	driver.Device
	worker *worker // whose app under test that is, which may change
}

// eyes gives the device as it may be looked at.
func (w *worker) eyes() driver.Device {
	if w.device.Describe().Owner == "" {
		return w.device
	}
	return discreet{w.device, w}
}

// Unwrap gives the device. What its other abilities show of other apps, such as its log,
// is for who asks them to leave out.
func (d discreet) Unwrap() device.Device { return d.Device }

func (d discreet) Tree(ctx context.Context) (*screen.Tree, error) {
	t, err := d.Device.Tree(ctx)
	if err != nil || t.App == d.worker.app && d.worker.app != "" {
		return t, err
	}
	return &screen.Tree{Width: t.Width, Height: t.Height, Revision: t.Revision, Language: t.Language,
		Cutouts: t.Cutouts,
		Root:    &screen.Node{Role: "application", Name: "not the app under test, and so not shown"}}, nil
}

func (d discreet) Picture(ctx context.Context) (device.Picture, error) {
	t, err := d.Device.Tree(ctx)
	if err != nil {
		return nil, err
	}
	if t.App != d.worker.app || d.worker.app == "" {
		return nil, errors.New("something else than the app under test is in front of somebody's own device")
	}
	return d.Device.Picture(ctx)
}

// attentive is a device that answers wishes while a case runs on it: between
// steps, and while it waits. It sees that what is started comes to the front.
type attentive struct {
	driver.Device
	worker   *worker
	realTime bool
	changed  func() // called when it has waited, and the screen may be another
}

// Unwrap gives the device, whose abilities are all to be had.
func (a attentive) Unwrap() device.Device { return a.Device }

func (w *worker) attentive(realTime bool, changed func()) device.Device {
	return attentive{w.eyes(), w, realTime, changed}
}

// AwaitChange waits as the device does. In real time it looks up now and then.
func (a attentive) AwaitChange(ctx context.Context, revision uint64, until time.Duration) error {
	defer a.changed()
	for {
		a.worker.showAll(ctx)
		next := until
		if soon := a.Now() + glanceEvery; a.realTime && soon < until {
			next = soon
		}
		if g := a.worker.gathering; g != nil {
			g.Look(ctx)
			if due, ok := g.Due(); ok && due > a.Now() && due < next {
				next = due
			}
		}
		if err := a.Device.AwaitChange(ctx, revision, next); err != nil || next == until {
			return err
		}
		if tree, err := a.Tree(ctx); err != nil || tree.Revision > revision {
			return err
		}
	}
}

// Tree is the screen as it is. Where that has gone off by itself it is put on again
// first: a time-out is the device's matter, not the app's.
func (a attentive) Tree(ctx context.Context) (*screen.Tree, error) {
	tree, err := a.Device.Tree(ctx)
	waking, ok := device.As[device.Waking](a.worker.device)
	if err != nil || !ok || a.worker.app == "" || tree.App == a.worker.app {
		return tree, err
	}
	slept, err := waking.Wake(ctx)
	if err != nil || !slept {
		return tree, err
	}
	a.worker.host.log.Info("the screen had gone off and was put on again", "device", a.worker.name())
	return a.Device.Tree(ctx)
}

// Start starts the app, and sends away what the system puts in front of it. An app
// that is not in front after that is the device's trouble, not the app's.
func (a attentive) Start(ctx context.Context, app string, how device.Start) error {
	if err := a.Device.Start(ctx, app, how); err != nil {
		return err
	}
	if g := a.worker.gathering; g != nil && app != "" {
		g.Watch(ctx)
	}
	clearing, ok := device.As[device.Clearing](a.worker.device)
	if app == "" || !ok {
		return nil
	}
	for range 5 { // several may have gathered
		what, err := clearing.Clear(ctx)
		if err != nil {
			return err
		}
		if what == "" {
			break
		}
		a.worker.host.log.Info("something was in front of the app and was sent away", "device", a.worker.name(),
			"what", what)
	}
	tree, err := a.worker.device.Tree(ctx)
	if err != nil {
		return err
	}
	if tree.App != app {
		return &device.Trouble{Why: app + " was started and did not come to the front",
			Remedy: "see on the device what keeps it back, and run it again"}
	}
	return nil
}
