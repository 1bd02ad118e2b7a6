package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/link"
	"yamato/internal/store"
)

var deviceName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// keepFleet keeps what has changed at a host's site.
func (n *session) keepFleet(ctx context.Context, f link.Fleet) {
	err := n.service.store.InTx(ctx, func(t *store.Tx) error {
		names := []string{}
		for _, d := range f.Devices {
			names = append(names, d.Name)
		}
		ids, err := n.putDevices(ctx, t, f.Devices, names)
		if err != nil {
			return err
		}
		if len(f.Gone) > 0 {
			if err := t.RemoveDevices(ctx, n.host, f.Gone); err != nil {
				return err
			}
		}
		if f.Offer != nil {
			if err := t.SetOffer(ctx, n.host, *f.Offer); err != nil {
				return err
			}
		}
		if f.Load != nil {
			if err := t.SetLoad(ctx, n.host, *f.Load); err != nil {
				return err
			}
		}
		return t.MarkDirty(ctx, store.DirtyDevice, ids)
	})
	if err != nil {
		n.service.log.Warn("what has changed at a site could not be kept; its host says it again when it links anew", "error", err)
		if ctx.Err() == nil {
			n.close(err)
		}
		return
	}
	n.service.bell.ring()
}

// keepDone keeps how an errand ended. A device that was given up is sidelined; one
// that a probe finds well again is brought back.
func (n *session) keepDone(ctx context.Context, d link.Done) error {
	d.Trouble, d.Remedy = short(d.Trouble, 1000), short(d.Remedy, 1000)
	s := n.service
	err := s.store.InTx(ctx, func(t *store.Tx) error {
		e := store.Errand{Device: d.Device}
		if d.ID != 0 {
			var err error
			if e, err = t.KeepDone(ctx, n.host, d); err != nil {
				return err
			}
		}
		if e.Device == "" {
			return nil
		}
		device, err := t.DeviceOfHost(ctx, n.host, e.Device)
		if errors.Is(err, store.ErrNone) {
			return nil // it was removed
		}
		if err != nil {
			return err
		}
		switch {
		case e.What == link.DoProbe && device.Sideline == nil && d.Trouble != "": // tried out since an app met trouble on it
			side := store.Sideline{By: automatic, Automatic: true, At: time.Now().UTC(), Reason: short("it met trouble, and did not work when it was tried out: "+d.Trouble, 500), Broken: d.Broken}
			at := side.At.Add(s.config.ProbeEvery)
			side.ProbeAt = &at
			return t.SidelineDevice(ctx, device.ID, side)
		case e.What == link.DoProbe && (device.Sideline == nil || !device.Sideline.V.Automatic):
			return nil // it works, or a person has decided meanwhile
		case e.What == link.DoProbe && d.Trouble == "":
			return t.RestoreDevice(ctx, device.ID)
		case e.What == link.DoProbe:
			side := device.Sideline.V
			side.Probes++
			at := time.Now().UTC().Add(s.config.ProbeEvery << min(side.Probes, 6))
			side.ProbeAt = &at
			return t.SetSideline(ctx, device.ID, side)
		case d.Broken != nil && device.Sideline == nil:
			side := store.Sideline{By: automatic, Automatic: true, At: time.Now().UTC(), Reason: short(d.Broken.Diagnosis, 500), Broken: d.Broken}
			at := side.At.Add(s.config.ProbeEvery)
			side.ProbeAt = &at
			return t.SidelineDevice(ctx, device.ID, side)
		}
		return nil
	})
	if errors.Is(err, store.ErrNone) || store.Hopeless(err) { // it had ended before, or never will
		s.log.Warn("how an errand ended is not kept", "errand", d.ID, "error", err)
		err = nil
	}
	if err != nil {
		return err
	}
	if d.ID != 0 {
		n.send(link.ToHost{Heard: []int64{d.ID}})
	}
	s.bell.ring()
	return nil
}

// sendErrands passes on what the host is asked to do and has not been told on this link.
func (n *session) sendErrands(ctx context.Context) error {
	list, err := n.service.store.WantedErrands(ctx, n.host)
	if err != nil {
		return err
	}
	var m link.ToHost
	open := map[int64]bool{}
	for _, e := range list {
		if open[e.ID] = true; !n.asked[e.ID] {
			m.Do = append(m.Do, link.Errand{ID: e.ID, What: e.What, Device: e.Device, Args: e.Args.V})
		}
	}
	n.asked = open
	if len(m.Do) > 0 {
		n.send(m)
	}
	return nil
}

// Do asks a host to do something outside of leases. What cannot be done as things
// stand is refused at once, with the remedy.
func (s *Service) Do(ctx context.Context, c Caller, in contract.NewErrand) (contract.Errand, error) {
	e := store.Errand{What: in.What, Device: deref(in.Device), AskedBy: c.Name}
	e.Args.V = link.ErrandArgs{Model: deref(in.Model), Image: deref(in.Image), Boot: deref(in.Boot), Deed: deref(in.Deed), Count: deref(in.Count)}
	var err error
	switch in.What {
	case link.DoMake:
		err = s.readyToMake(ctx, c, in, &e)
	case link.DoFetch:
		err = s.readyToFetch(ctx, c, in, &e)
	case link.DoBoot, link.DoHalt, link.DoEmpty, link.DoRemove, link.DoCheck, link.DoDeed:
		err = s.readyToDo(ctx, c, &e)
	default:
		err = Invalid(fmt.Sprintf("there is nothing called %q that a host can be asked to do", in.What), "api/openapi.yaml lists what there is")
	}
	if err != nil {
		return contract.Errand{}, err
	}
	id, err := s.store.AskErrand(ctx, c.ProjectID, e)
	if err != nil {
		return contract.Errand{}, err
	}
	s.bell.ring()
	e, err = s.store.ErrandNumbered(ctx, c.ProjectID, id)
	return errandOut(e), err
}

// readyToDo checks that something can be done to a device as it stands.
func (s *Service) readyToDo(ctx context.Context, c Caller, e *store.Errand) error {
	d, err := s.store.DeviceNamed(ctx, c.ProjectID, e.Device)
	if err != nil {
		return notThere(err, "`yamato device ls` lists the devices", "there is no device %q", e.Device)
	}
	e.HostID = d.HostID
	facts := d.Facts.V
	if r, ok := facts.Admits(c.Name, time.Now()); !ok && e.What != link.DoCheck && e.What != link.DoDeed {
		return Invalid(e.Device+": "+r.Why, r.Remedy)
	}
	switch {
	case d.State == "offline":
		return Invalid(e.Device+" is offline: "+d.Reason, "start the host of the site "+facts.Site)
	case e.What == link.DoCheck || e.What == link.DoDeed:
		return nil
	case !facts.Virtual():
		return Invalid(fmt.Sprintf("%s is a real device; only virtual ones can be booted, halted, emptied and removed from here", e.Device), "`yamato device check "+e.Device+"` says whether it is ready")
	case d.State == "leased" || d.State == "resetting":
		return Invalid(fmt.Sprintf("%s is %s", e.Device, busyWith(d)), "wait until that is done, or cancel the run")
	}
	if open, err := s.store.OpenErrand(ctx, d.HostID, e.Device); err != nil || open != 0 {
		return cmp.Or(err, error(Invalid(fmt.Sprintf("something is being done to %s already", e.Device), "wait until that is done: `yamato device show "+e.Device+"`")))
	}
	if e.What == link.DoBoot {
		if d.State == "idle" || d.State == "unready" {
			return Invalid(e.Device+" is up already", "`yamato device look "+e.Device+"` shows its screen")
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
func (s *Service) room(ctx context.Context, c Caller, host int64, d fleet.Device) error {
	h, err := s.hostNumbered(ctx, c, host)
	if err != nil {
		return err
	}
	if r, ok := fleet.Room(h.Offer.V.Capacity, h.Load.V.Running, d); !ok {
		return problem(http.StatusConflict, "no-room", r.Why, r.Remedy)
	}
	return nil
}

func (s *Service) hostNumbered(ctx context.Context, c Caller, id int64) (store.HostRow, error) {
	hosts, err := s.store.Hosts(ctx, c.ProjectID)
	for _, h := range hosts {
		if h.ID == id {
			return h, err
		}
	}
	return store.HostRow{}, cmp.Or(err, error(NotFound("the device's host is not there", "")))
}

// readyToMake fills in what was left open of a new virtual device: the newest
// image that is there, and the first free name.
func (s *Service) readyToMake(ctx context.Context, c Caller, in contract.NewErrand, e *store.Errand) error {
	model := deref(in.Model)
	byName := func(m fleet.Model) bool { return strings.EqualFold(m.Model, model) }
	h, err := s.siteFor(ctx, c, deref(in.Site), func(h store.HostRow) bool {
		return len(h.Offer.V.Images) > 0 && slices.ContainsFunc(h.Offer.V.Models, byName)
	}, fmt.Sprintf("virtual devices of the model %q", model))
	if err != nil {
		return err
	}
	m := h.Offer.V.Models[slices.IndexFunc(h.Offer.V.Models, byName)]
	image, ok := fleet.NewestImage(h.Offer.V.Images, m.Platform)
	if deref(in.Image) != "" {
		i := slices.IndexFunc(h.Offer.V.Images, func(i fleet.Image) bool { return i.Names(*in.Image) || i.Platform == m.Platform && i.OS == *in.Image })
		if ok = i >= 0 && h.Offer.V.Images[i].Platform == m.Platform; ok {
			image = h.Offer.V.Images[i]
		}
	}
	switch {
	case !ok:
		return NotFound(fmt.Sprintf("%s has no such OS image for %s", h.Site, m.Model), "`yamato site ls` lists the images")
	case image.State != fleet.ImagePresent:
		return Invalid(fmt.Sprintf("%s is not at %s yet", image.Name(), h.Site), fmt.Sprintf("fetch it first: `yamato site fetch %q --site %s`", image.Name(), h.Site))
	}
	devices, err := s.store.Devices(ctx, c.ProjectID)
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
	if !deviceName.MatchString(e.Device) {
		return Invalid(fmt.Sprintf("%q cannot be the name of a device", e.Device), "names are small letters, digits and hyphens")
	}
	if slices.Contains(taken, e.Device) {
		return Invalid("there is a device named "+e.Device+" already", "choose another name, or none: one is proposed then")
	}
	e.HostID, e.Args.V.Model, e.Args.V.Image = h.ID, m.Model, image.Name()
	if e.Args.V.Boot {
		return s.room(ctx, c, h.ID, fleet.Device{Name: e.Device, TakesMB: m.TakesMB, TakesCPUs: m.TakesCPUs})
	}
	return nil
}

// readyToFetch checks that an image is to be had, and that its licence was accepted.
func (s *Service) readyToFetch(ctx context.Context, c Caller, in contract.NewErrand, e *store.Errand) error {
	name := deref(in.Image)
	is := func(i fleet.Image) bool { return i.Names(name) }
	h, err := s.siteFor(ctx, c, deref(in.Site), func(h store.HostRow) bool { return slices.ContainsFunc(h.Offer.V.Images, is) }, fmt.Sprintf("the OS image %q", name))
	if err != nil {
		return err
	}
	image := h.Offer.V.Images[slices.IndexFunc(h.Offer.V.Images, is)]
	if image.State == fleet.ImagePresent {
		return Invalid(image.Name()+" is at "+h.Site+" already", "make a device of it: `yamato device make MODEL`")
	}
	if image.Licence != "" {
		accepted, err := s.store.LicencesAccepted(ctx, c.ProjectID)
		if err != nil {
			return err
		}
		digest := licenceDigest(h.Offer.V.Licences, image.Licence)
		if !slices.ContainsFunc(accepted, func(a store.Accepted) bool { return a.Name == image.Licence && a.Digest == digest }) {
			return problem(http.StatusForbidden, "licence", fmt.Sprintf("%s comes under the licence %q, which nobody has accepted here", image.Name(), image.Licence), fmt.Sprintf("read it and accept it: `yamato site licence %q --accept`", image.Licence))
		}
	}
	e.HostID, e.Args.V.Image = h.ID, image.Name()
	return nil
}

// errandWait is the longest that a caller waits for an errand in one call.
const errandWait = 30 * time.Second

// Errand gives an errand, once it is done or after a time.
func (s *Service) Errand(ctx context.Context, c Caller, id int64, wait time.Duration) (contract.Errand, error) {
	heard, leave := s.bell.subscribe()
	defer leave()
	ctx, stop := context.WithTimeout(ctx, min(max(wait, 0), errandWait)+time.Second)
	defer stop()
	end := time.NewTimer(min(max(wait, 0), errandWait))
	defer end.Stop()
	tick := time.NewTicker(time.Second) // in case the bell was not heard
	defer tick.Stop()
	for {
		e, err := s.store.ErrandNumbered(ctx, c.ProjectID, id)
		if err != nil {
			return contract.Errand{}, notThere(err, "errands are kept for a week", "there is no errand %d", id)
		}
		if e.DoneAt != nil || wait <= 0 {
			return errandOut(e), nil
		}
		select {
		case <-heard:
		case <-tick.C:
		case <-end.C:
			return errandOut(e), nil
		case <-ctx.Done():
			return errandOut(e), nil
		}
	}
}

func errandOut(e store.Errand) contract.Errand {
	out := contract.Errand{Id: e.ID, What: e.What, Device: e.Device, AskedBy: e.AskedBy, AskedAt: e.AskedAt, DoneAt: e.DoneAt}
	if e.Args.V.Image != "" {
		out.Image = &e.Args.V.Image
	}
	if e.Trouble != "" {
		out.Trouble, out.Remedy = &e.Trouble, &e.Remedy
	}
	return out
}
