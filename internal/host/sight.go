package host

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/link"
)

// wish is a person's wish to see a device's screen; told takes the answer.
type wish struct {
	see  link.See
	told func(link.Seen)
}

// showTime is how long showing a screen may keep a device from its work.
const showTime = 5 * time.Second

// glanceEvery is how often a device that waits in real time looks up for wishes.
const glanceEvery = 200 * time.Millisecond

// show answers a wish. It runs on the device's own goroutine.
func (w *worker) show(ctx context.Context, one wish, rest Rest) {
	ctx, stop := context.WithTimeout(ctx, showTime)
	defer stop()
	seen, err := w.sight(ctx, rest)
	seen.ID = one.see.ID
	if err != nil {
		seen.Trouble = err.Error()
	}
	one.told(seen)
}

// Rest tells whether the device has nothing to do.
type Rest bool

func (w *worker) sight(ctx context.Context, rest Rest) (link.Seen, error) {
	if owner := w.device.Describe().Owner; owner != "" && bool(rest) {
		return link.Seen{}, fmt.Errorf("it is %s's own: its screen is shown only while a run has it, and then only the app under test", owner)
	}
	eyes := w.eyes()
	tree, err := eyes.Tree(ctx)
	if v, ok := w.device.(Virtual); ok && !v.Up() {
		return link.Seen{}, errors.New("it is halted; boot it first")
	} else if !ok && err != nil && bool(rest) { // it may sleep, and nobody minds if it is woken
		if err = w.device.Ready(ctx, Surroundings{}); err == nil {
			tree, err = eyes.Tree(ctx)
		}
	}
	if err != nil {
		return link.Seen{}, err
	}
	p, err := eyes.Picture(ctx)
	if err != nil {
		return link.Seen{}, err
	}
	png, err := p.PNG(nil, screen.Rect{})
	if err != nil {
		return link.Seen{}, fmt.Errorf("drawing its picture: %w", err)
	}
	body, err := json.Marshal(tree)
	if err != nil {
		return link.Seen{}, err
	}
	seen := link.Seen{}
	for content, to := range map[*[]byte]*string{&png: &seen.Picture, &body: &seen.Tree} {
		sum := sha256.Sum256(*content)
		*to = hex.EncodeToString(sum[:])
		if err := w.host.config.Service.Upload(ctx, *to, *content); err != nil {
			return link.Seen{}, fmt.Errorf("handing its picture over: %w", err)
		}
	}
	return seen, nil
}

// showAll answers the wishes that wait.
func (w *worker) showAll(ctx context.Context) {
	for {
		select {
		case one := <-w.wishes:
			w.show(ctx, one, false)
		default:
			return
		}
	}
}

// attentive is a device that answers wishes while a case runs on it: between
// steps, and while it waits. It sees that what is started comes to the front.
type attentive struct {
	Device
	worker   *worker
	realTime bool
	changed  func() // called when it has waited, and the screen may be another
}

// attentivePresser is one with keys of its own.
type attentivePresser struct {
	attentive
	script.Presser
}

func (w *worker) attentive(realTime bool, changed func()) script.Device {
	a := attentive{w.eyes(), w, realTime, changed}
	if p, ok := w.device.(script.Presser); ok {
		return attentivePresser{a, p}
	}
	return a
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
	waking, ok := a.worker.device.(Waking)
	if err != nil || !ok || a.worker.app == "" || tree.App == a.worker.app {
		return tree, err
	}
	slept, err := waking.Wake(ctx)
	if err != nil || !slept {
		return tree, err
	}
	a.worker.host.log.Info("the screen had gone off and was put on again", "device", a.worker.device.Describe().Name)
	return a.Device.Tree(ctx)
}

// Start starts the app, and sends away what the system puts in front of it. An app
// that is not in front after that is the device's trouble, not the app's.
func (a attentive) Start(ctx context.Context, how script.Start) error {
	if err := a.Device.Start(ctx, how); err != nil {
		return err
	}
	app := a.worker.app
	clearing, ok := a.worker.device.(Clearing)
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
		a.worker.host.log.Info("something was in front of the app and was sent away", "device", a.worker.device.Describe().Name, "what", what)
	}
	tree, err := a.worker.device.Tree(ctx)
	if err != nil {
		return err
	}
	if tree.App != app {
		return &Trouble{app + " was started and did not come to the front", "see on the device what keeps it back, and run it again"}
	}
	return nil
}

// see passes wishes on to the devices.
func (h *Host) see(ctx context.Context, conn link.Conn, list []link.See) {
	for _, s := range list {
		told := func(seen link.Seen) { _ = conn.Send(ctx, link.FromHost{Seen: &seen}) } // a broken link is noticed elsewhere, and the person asks again
		w := h.worker(s.Device)
		if w == nil {
			told(link.Seen{ID: s.ID, Trouble: "this host has no device " + s.Device})
			continue
		}
		select {
		case w.wishes <- wish{s, told}:
		default:
			told(link.Seen{ID: s.ID, Trouble: "several people look at it already"})
		}
	}
}
