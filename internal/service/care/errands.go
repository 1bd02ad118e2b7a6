package care

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/core/remedy"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// Wish is what somebody wants a host to do. What is "" is chosen.
type Wish struct {
	What, Device, Site string
	Model, Image, Deed string
	Count              int
	Boot               bool
}

// Do asks a host to do something outside of leases. What cannot be done as things
// stand is refused at once, with the remedy.
func (s *Part) Do(ctx context.Context, c base.Caller, in Wish, key string) (store.Errand, error) {
	wish, err := base.Wished(c, "errand", key, in)
	if err != nil {
		return store.Errand{}, err
	}
	if made, err := s.Store.Granted(ctx, wish); err == nil {
		return s.Store.ErrandNumbered(ctx, c.ProjectID, made)
	} else if !errors.Is(err, pg.ErrNone) {
		return store.Errand{}, base.Granted(err)
	}
	e := store.Errand{What: in.What, Device: in.Device, AskedBy: c.Name}
	e.Args.V = link.ErrandArgs{Model: in.Model, Image: in.Image, Boot: in.Boot,
		Deed: in.Deed, Count: in.Count}
	switch in.What {
	case link.DoMake:
		err = s.readyToMake(ctx, c, in, &e)
	case link.DoFetch:
		err = s.readyToFetch(ctx, c, in, &e)
	case link.DoBoot, link.DoHalt, link.DoEmpty, link.DoRemove, link.DoCheck, link.DoDeed:
		err = s.readyToDo(ctx, c, &e)
	default:
		err = base.Invalid(fmt.Sprintf("there is nothing called %q that a host can be asked to do", in.What),
			"/calls lists what there is")
	}
	if err != nil {
		return store.Errand{}, err
	}
	id, err := s.Store.AskErrand(ctx, c.ProjectID, e, wish)
	if err != nil {
		return store.Errand{}, base.Granted(err)
	}
	s.Bell.Ring()
	return s.Store.ErrandNumbered(ctx, c.ProjectID, id)
}

// readyToDo checks that something can be done to a device as it stands.
func (s *Part) readyToDo(ctx context.Context, c base.Caller, e *store.Errand) error {
	d, err := s.Store.DeviceNamed(ctx, c.ProjectID, e.Device)
	if err != nil {
		return base.NotThere(err, remedy.Say("%s lists the devices", remedy.DeviceList), "there is no device %q", e.Device)
	}
	e.HostID = d.HostID
	facts := d.Facts.V
	if r, ok := facts.Admits(c.Name, time.Now()); !ok && e.What != link.DoCheck && e.What != link.DoDeed {
		return base.Invalid(e.Device+": "+r.Why, r.Remedy)
	}
	switch {
	case d.State == "offline":
		return base.Invalid(e.Device+" is offline: "+d.Reason, "start the host of the site "+facts.Site)
	case e.What == link.DoCheck || e.What == link.DoDeed:
		return nil
	case !facts.Virtual():
		return base.Invalid(fmt.Sprintf("%s is a real device; only virtual ones can be booted, halted, emptied and "+
			"removed from here", e.Device), remedy.Say("%s says whether it is ready", remedy.DeviceCheck(e.Device)))
	case d.State == "leased" || d.State == "resetting":
		return base.Invalid(fmt.Sprintf("%s is %s", e.Device, busyWith(d)),
			"wait until that is done, or cancel the run")
	}
	if open, err := s.Store.OpenErrand(ctx, d.HostID, e.Device); err != nil || open != 0 {
		return cmp.Or(err, error(base.Invalid(fmt.Sprintf("something is being done to %s already", e.Device),
			remedy.Say("wait until that is done: %s", remedy.DeviceFacts(e.Device)))))
	}
	if e.What == link.DoBoot {
		if d.State == "idle" || d.State == "unready" {
			return base.Invalid(e.Device+" is up already", remedy.Say("%s shows its screen", remedy.DeviceLook(e.Device)))
		}
		return s.room(ctx, c, d.HostID, facts)
	}
	return nil
}

func busyWith(d store.Device) string {
	if d.Run != nil {
		return fmt.Sprintf("busy with run %d", *d.Run)
	}
	return "busy"
}

// room refuses a boot that would not fit on its host.
func (s *Part) room(ctx context.Context, c base.Caller, host int64, d fleet.Device) error {
	h, err := s.hostNumbered(ctx, c, host)
	if err != nil {
		return err
	}
	if r, ok := fleet.Room(h.Offer.V.Capacity, h.Load.V.Running, d); !ok {
		return base.Refuse(base.NoRoomOnHost, r.Why, r.Remedy)
	}
	return nil
}

func (s *Part) hostNumbered(ctx context.Context, c base.Caller, id int64) (store.HostRow, error) {
	hosts, err := s.Store.Hosts(ctx, c.ProjectID)
	for _, h := range hosts {
		if h.ID == id {
			return h, err
		}
	}
	return store.HostRow{}, cmp.Or(err, error(base.NotFound("the device's host is not there", "")))
}

// readyToMake fills in what was left open of a new virtual device: the newest
// image that is there, and the first free name.
func (s *Part) readyToMake(ctx context.Context, c base.Caller, in Wish, e *store.Errand) error {
	model := in.Model
	byName := func(m fleet.Model) bool { return strings.EqualFold(m.Model, model) }
	h, err := s.siteFor(ctx, c, in.Site, func(h store.HostRow) bool {
		return len(h.Offer.V.Images) > 0 && slices.ContainsFunc(h.Offer.V.Models, byName)
	}, fmt.Sprintf("virtual devices of the model %q", model))
	if err != nil {
		return err
	}
	m := h.Offer.V.Models[slices.IndexFunc(h.Offer.V.Models, byName)]
	image, ok := fleet.NewestImage(h.Offer.V.Images, m.Platform)
	if in.Image != "" {
		i := slices.IndexFunc(h.Offer.V.Images, func(i fleet.Image) bool {
			return i.Names(in.Image) || i.Platform == m.Platform && i.OS == in.Image
		})
		if ok = i >= 0 && h.Offer.V.Images[i].Platform == m.Platform; ok {
			image = h.Offer.V.Images[i]
		}
	}
	switch {
	case !ok:
		return base.NotFound(fmt.Sprintf("%s has no such OS image for %s", h.Site, m.Model),
			remedy.Say("%s lists the images", remedy.SiteList))
	case image.State != fleet.ImagePresent:
		return base.Invalid(fmt.Sprintf("%s is not at %s yet", image.Name(), h.Site),
			remedy.Say("fetch it first: %s", remedy.ImageFetch(image.Name(), h.Site)))
	}
	devices, err := s.Store.Devices(ctx, c.ProjectID)
	if err != nil {
		return err
	}
	var taken []string
	for _, d := range devices {
		taken = append(taken, d.Facts.V.Name)
	}
	if e.Device == "" {
		e.Device = fleet.ProposeName(m.Model, taken)
	}
	if !fleet.IsName(e.Device) {
		return base.Invalid(fmt.Sprintf("%q cannot be the name of a device", e.Device),
			"names are small letters, digits and hyphens")
	}
	if slices.Contains(taken, e.Device) {
		return base.Invalid("there is a device named "+e.Device+" already",
			"choose another name, or none: one is proposed then")
	}
	e.HostID, e.Args.V.Model, e.Args.V.Image = h.ID, m.Model, image.Name()
	if e.Args.V.Boot {
		return s.room(ctx, c, h.ID, fleet.Device{Name: e.Device, TakesMB: m.TakesMB, TakesCPUs: m.TakesCPUs})
	}
	return nil
}

// readyToFetch checks that an image is to be had, and that its licence was accepted.
func (s *Part) readyToFetch(ctx context.Context, c base.Caller, in Wish, e *store.Errand) error {
	name := in.Image
	is := func(i fleet.Image) bool { return i.Names(name) }
	h, err := s.siteFor(ctx, c, in.Site, func(h store.HostRow) bool {
		return slices.ContainsFunc(h.Offer.V.Images, is)
	}, fmt.Sprintf("the OS image %q", name))
	if err != nil {
		return err
	}
	image := h.Offer.V.Images[slices.IndexFunc(h.Offer.V.Images, is)]
	if image.State == fleet.ImagePresent {
		return base.Invalid(image.Name()+" is at "+h.Site+" already", remedy.Say("make a device of it: %s", remedy.DeviceMake))
	}
	if image.Licence != "" {
		accepted, err := s.Store.LicencesAccepted(ctx, c.ProjectID)
		if err != nil {
			return err
		}
		digest := fleet.LicenceDigest(h.Offer.V.Licences, image.Licence)
		if !slices.ContainsFunc(accepted, func(a store.Accepted) bool {
			return a.Name == image.Licence && a.Digest == digest
		}) {
			return base.Refuse(base.Licence, fmt.Sprintf(
				"%s comes under the licence %q, which nobody has accepted here",
				image.Name(), image.Licence), remedy.Say("read it and accept it: %s",
				remedy.LicenceAccept(image.Licence)))
		}
	}
	e.HostID, e.Args.V.Image = h.ID, image.Name()
	return nil
}

// errandWait is the longest that a caller waits for an errand in one call.
const errandWait = 30 * time.Second

// Errand gives an errand, once it is done or after a time.
func (s *Part) Errand(ctx context.Context, c base.Caller, id int64, wait time.Duration) (store.Errand, error) {
	heard, leave := s.Bell.Subscribe()
	defer leave()
	ctx, stop := context.WithTimeout(ctx, min(max(wait, 0), errandWait)+time.Second)
	defer stop()
	end := time.NewTimer(min(max(wait, 0), errandWait))
	defer end.Stop()
	tick := time.NewTicker(time.Second) // in case the bell was not heard
	defer tick.Stop()
	for {
		e, err := s.Store.ErrandNumbered(ctx, c.ProjectID, id)
		if err != nil {
			return store.Errand{}, base.NotThere(err, "errands are kept for a week", "there is no errand %d", id)
		}
		if e.DoneAt != nil || wait <= 0 {
			return e, nil
		}
		select {
		case <-heard:
		case <-tick.C:
		case <-end.C:
			return e, nil
		case <-ctx.Done():
			return e, nil
		}
	}
}
