package care

import (
	"context"
	"fmt"
	"strings"
	"time"

	"yamato/internal/blob"
	"yamato/internal/core/evidence"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Sideline takes a device out of use, at once or when what it runs is done.
func (s *Part) Sideline(ctx context.Context, c base.Caller, device string,
	reason string, until *time.Time) (store.Device, error) {
	d, err := s.Store.DeviceNamed(ctx, c.ProjectID, device)
	if err != nil {
		return store.Device{}, base.NotThere(err, remedy.Say("%s lists the devices", remedy.DeviceList), "there is no device %q",
			device)
	}
	reason = strings.TrimSpace(reason)
	switch {
	case reason == "" || len(reason) > 500:
		return store.Device{}, base.Invalid("a device is sidelined for a reason of 1 to 500 characters",
			"say what is wrong with it: others will want to know")
	case until != nil && until.Before(time.Now()):
		return store.Device{}, base.Invalid("the end lies in the past", "choose a later one, or none")
	}
	side := store.Sideline{By: c.Name, Reason: reason, At: time.Now().UTC(), Until: until}
	if err := s.Store.InTx(ctx, func(t *store.Tx) error {
		return base.SidelineDevice(ctx, t.Devices, d.ID, side)
	}); err != nil {
		return store.Device{}, err
	}
	s.Bell.Ring()
	return s.Store.DeviceNamed(ctx, c.ProjectID, device)
}

// Remains opens what was kept of a device that was given up: its last picture, or
// its boot log.
func (s *Part) Remains(ctx context.Context, c base.Caller, device, what string) (blob.File, string, error) {
	d, err := s.Store.DeviceNamed(ctx, c.ProjectID, device)
	if err != nil {
		return nil, "", base.NotThere(err, remedy.Say("%s lists the devices", remedy.DeviceList), "there is no device %q", device)
	}
	digest, media := "", ""
	if d.Sideline != nil && d.Sideline.V.Broken != nil {
		switch what {
		case "picture":
			digest, media = d.Sideline.V.Broken.Picture, evidence.Picture.MediaType
		case "log":
			digest, media = d.Sideline.V.Broken.Log, evidence.Log.MediaType
		}
	}
	if digest == "" {
		return nil, "", base.NotFound(fmt.Sprintf("nothing of that sort was kept of %s", device), "")
	}
	f, err := s.Blobs.Open(ctx, digest)
	return f, media, err
}

// Restore brings a device back into use.
func (s *Part) Restore(ctx context.Context, c base.Caller, device string) (store.Device, error) {
	d, err := s.Store.DeviceNamed(ctx, c.ProjectID, device)
	if err != nil {
		return store.Device{}, base.NotThere(err, remedy.Say("%s lists the devices", remedy.DeviceList), "there is no device %q",
			device)
	}
	if d.Sideline == nil {
		return store.Device{}, base.Invalid(device+" is not sidelined", "")
	}
	if err := s.Store.InTx(ctx, func(t *store.Tx) error { return base.RestoreDevice(ctx, t.Devices, d.ID) }); err != nil {
		return store.Device{}, err
	}
	s.Bell.Ring()
	return s.Store.DeviceNamed(ctx, c.ProjectID, device)
}
