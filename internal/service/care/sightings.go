package care

import (
	"context"
	"fmt"
	"time"

	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// sightWait is how long a host may take to show a screen.
const sightWait = 20 * time.Second

// MaxSight bounds a picture, or a tree, that a person looks at, in bytes.
const MaxSight = 32 << 20

// Sight has a host show what is on a device's screen at this moment. The wish travels
// as a row, so that any service may be asked: the one that holds the host's link
// passes it on.
func (s *Part) Sight(ctx context.Context, c base.Caller, device string) (store.Sighting, error) {
	d, err := s.Store.DeviceNamed(ctx, c.ProjectID, device)
	if err != nil {
		return store.Sighting{}, base.NotThere(err, remedy.Say("%s lists the devices", remedy.DeviceList), "there is no device %q",
			device)
	}
	if d.State == "offline" {
		return store.Sighting{}, base.Invalid(device+" is offline: "+d.Reason,
			"start the host of the site "+d.Facts.V.Site)
	}
	heard, leave := s.Bell.Subscribe()
	defer leave()
	id, err := s.Store.AskSighting(ctx, d, c.Name)
	if err != nil {
		return store.Sighting{}, err
	}
	s.Bell.Ring()
	ctx, stop := context.WithTimeout(ctx, sightWait)
	defer stop()
	tick := time.NewTicker(time.Second) // in case the bell was not heard
	defer tick.Stop()
	for {
		seen, err := s.Store.SightingNumbered(ctx, id)
		switch {
		case ctx.Err() != nil:
			return store.Sighting{}, base.Refuse(base.NoAnswer,
				fmt.Sprintf("the host of %s did not show its screen within %s", device, sightWait),
				"see on the device's page whether its host is linked, and try again")
		case err != nil:
			return store.Sighting{}, err
		case seen.Trouble != "":
			return store.Sighting{}, base.Refuse(base.NoSight, device+" cannot be looked at now: "+seen.Trouble,
				"try again in a moment")
		case seen.DoneAt != nil:
			return seen, nil
		}
		select {
		case <-heard:
		case <-tick.C:
		case <-ctx.Done():
		}
	}
}
