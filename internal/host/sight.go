package host

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/host/driver"
	"yamato/internal/host/pictures"
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
		return link.Seen{}, fmt.Errorf("it is %s's own: its screen is shown only while a run has it, and then only "+
			"the app under test", owner)
	}
	eyes := w.eyes()
	tree, err := eyes.Tree(ctx)
	if v, ok := device.As[device.Virtual](w.device); ok && !v.Up() {
		return link.Seen{}, errors.New("it is halted; boot it first")
	} else if !ok && err != nil && bool(rest) { // it may sleep, and nobody minds if it is woken
		if err = w.device.Ready(ctx, driver.Terms{}); err == nil {
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
	png, err := pictures.Drawn(p)
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
		if err := w.host.config.Service.Upload(ctx, *to, bytes.NewReader(*content), int64(len(*content))); err != nil {
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

// see passes wishes on to the devices.
func (h *Host) see(ctx context.Context, conn link.Conn, list []link.See) {
	for _, s := range list {
		told := func(seen link.Seen) {
			_ = conn.Send(ctx, link.FromHost{Seen: &seen})
		} // a broken link is noticed elsewhere, and the person asks again
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
