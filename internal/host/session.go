package host

import (
	"context"
	"encoding/json"
	"errors"
	"net"

	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/screen"
	"yamato/internal/host/byhand"
	"yamato/internal/host/driver"
	"yamato/internal/host/pictures"
	"yamato/internal/link"
)

// session is a person's work under a lease.
type session struct {
	link.Session
	lease   link.Lease
	changed []string // what it has changed on the device
}

// run hands the device over until the session is ended. That is no trouble.
func (l *session) run(ctx context.Context, w *worker) error {
	h := w.host
	w.app = l.App
	body, err := json.Marshal(map[string]any{"host": h.config.Name, "site": h.config.Site, "program": h.config.Program,
		"device": w.device.Describe(), "language": l.Language, "real_time": true})
	if err != nil {
		return err
	}
	if err := h.journal.Append(link.Event{Lease: l.lease.Number, Began: &link.Began{Circumstances: body}}); err != nil {
		return err
	}
	uploads := &outbox{worker: w, lease: l.lease.Number}
	l.changed, err = byhand.Run(ctx, byhand.Config{
		Session: l.Session, Device: w.eyes(), Careful: w.attentive(true, func() {}), Said: h.log, Folder: h.scratch,
		Private: w.device.Describe().Owner != "",
		Prepare: func(ctx context.Context) error {
			err := w.prepare(ctx, driver.Terms{RealTime: true})
			if err == nil && l.Language != "" {
				err = feel.Named(feel.Language).Begin(ctx, w.device, l.App, l.Language)
			}
			return err
		},
		Fetch:  h.cache.Fetch,
		Upload: uploads.upload, UploadFile: uploads.uploadFile, Room: h.disk,
		Keep: func(e link.Entry) error { return h.journal.Append(link.Event{Lease: l.lease.Number, Entry: &e}) },
		Dial: func(ctx context.Context) (link.Live, func(), error) {
			return h.config.Service.DialLive(ctx, l.lease.Number)
		},
		DialPort: func(ctx context.Context, id string) (net.Conn, error) {
			return h.config.Service.DialPort(ctx, l.lease.Number, id)
		},
		Log:    func(ctx context.Context) []device.LogLine { return w.readLog(ctx) },
		Glance: w.showAll,
		Words: func(ctx context.Context, blob, key, language string) (string, bool) {
			return h.texts.of(ctx, h, blob).Say(key, language)
		},
		InHand: func(app string) { w.app = app },
		Draw:   pictures.Drawn,
		DrawPart: func(p device.Picture, t *screen.Tree, crop screen.Rect) ([]byte, error) {
			return pictures.Shot{Picture: p, Tree: t, Crop: crop}.PNG()
		},
	})
	var end ended
	if errors.As(context.Cause(ctx), &end) {
		return nil
	}
	return err
}

// ended is why the service ends a lease before its time.
type ended string

func (e ended) Error() string { return string(e) }

// undone tells what cleaning has taken back, item by item.
func (l *session) undone() []string {
	switch driver.Cleaning(l.Cleaning) {
	case driver.CleanNothing:
		return []string{"nothing, as was asked: what was installed stays"}
	case driver.CleanDevice:
		return append(l.changed, "everything else: the device is as it was first made")
	}
	return append(l.changed, "accounts, files and settings of these apps, and what was asked of the system for them")
}
