package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"yamato/internal/blob"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
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
func (n *session) keepDone(ctx context.Context, d link.Done) {
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
		case e.What == link.DoProbe && (device.Sideline == nil || !device.Sideline.V.Automatic):
			return nil // a person has decided meanwhile
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
	if err != nil && !errors.Is(err, store.ErrNone) {
		s.log.Warn("how an errand ended could not be kept", "error", err)
	}
	s.bell.ring()
}

// sendErrands passes on what the host is asked to do. It gives the last one passed on.
func (n *session) sendErrands(ctx context.Context, after int64) (int64, error) {
	list, err := n.service.store.WantedErrands(ctx, n.host, after)
	if err != nil || len(list) == 0 {
		return after, err
	}
	var m link.ToHost
	for _, e := range list {
		m.Do = append(m.Do, link.Errand{ID: e.ID, What: e.What, Device: e.Device, Args: e.Args.V})
	}
	n.send(ctx, m)
	return list[len(list)-1].ID, nil
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
	case link.DoBoot, link.DoHalt, link.DoEmpty, link.DoRemove, link.DoCheck, link.DoStandin:
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
	if r, ok := facts.Admits(c.Name, time.Now()); !ok && e.What != link.DoCheck && e.What != link.DoStandin {
		return Invalid(e.Device+": "+r.Why, r.Remedy)
	}
	switch {
	case d.State == "offline":
		return Invalid(e.Device+" is offline: "+d.Reason, "start the host of the site "+facts.Site)
	case e.What == link.DoCheck || e.What == link.DoStandin:
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

// siteFor finds the host that makes virtual devices or fetches images at a site, or
// the only one that does.
func (s *Service) siteFor(ctx context.Context, c Caller, site string, offers func(store.HostRow) bool, what string) (store.HostRow, error) {
	hosts, err := s.store.Hosts(ctx, c.ProjectID)
	if err != nil {
		return store.HostRow{}, err
	}
	fit := slices.DeleteFunc(slices.Clone(hosts), func(h store.HostRow) bool { return site != "" && h.Site != site || !offers(h) })
	switch {
	case len(fit) == 0 && site != "":
		return store.HostRow{}, NotFound(fmt.Sprintf("the site %s does not offer %s", site, what), "`yamato site ls` lists what the sites offer")
	case len(fit) == 0:
		return store.HostRow{}, NotFound("no site offers "+what, "`yamato site ls` lists what the sites offer")
	case len(fit) > 1:
		names := make([]string, len(fit))
		for i, h := range fit {
			names[i] = h.Site
		}
		return store.HostRow{}, Invalid("several sites offer "+what+": "+strings.Join(names, ", "), "say which with --site")
	case !fit[0].Linked:
		return store.HostRow{}, Invalid("the host of the site "+fit[0].Site+" is not connected", "start it: `yamato host --site FILE`")
	}
	return fit[0], nil
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

func licenceDigest(list []fleet.Licence, name string) string {
	for _, l := range list {
		if l.Name == name {
			sum := sha256.Sum256([]byte(l.Text))
			return hex.EncodeToString(sum[:])
		}
	}
	return ""
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

// Sideline takes a device out of use, at once or when what it runs is done.
func (s *Service) Sideline(ctx context.Context, c Caller, device string, in contract.NewSideline) (contract.Device, error) {
	d, err := s.store.DeviceNamed(ctx, c.ProjectID, device)
	if err != nil {
		return contract.Device{}, notThere(err, "`yamato device ls` lists the devices", "there is no device %q", device)
	}
	reason := strings.TrimSpace(in.Reason)
	switch {
	case reason == "" || len(reason) > 500:
		return contract.Device{}, Invalid("a device is sidelined for a reason of 1 to 500 characters", "say what is wrong with it: others will want to know")
	case in.Until != nil && in.Until.Before(time.Now()):
		return contract.Device{}, Invalid("the end lies in the past", "choose a later one, or none")
	}
	side := store.Sideline{By: c.Name, Reason: reason, At: time.Now().UTC(), Until: in.Until}
	if err := s.store.InTx(ctx, func(t *store.Tx) error { return t.SidelineDevice(ctx, d.ID, side) }); err != nil {
		return contract.Device{}, err
	}
	s.bell.ring()
	d, err = s.store.DeviceNamed(ctx, c.ProjectID, device)
	return deviceOut(d), err
}

// Remains opens what was kept of a device that was given up: its last picture, or
// its boot log.
func (s *Service) Remains(ctx context.Context, c Caller, device, what string) (blob.File, string, error) {
	d, err := s.store.DeviceNamed(ctx, c.ProjectID, device)
	if err != nil {
		return nil, "", notThere(err, "`yamato device ls` lists the devices", "there is no device %q", device)
	}
	digest, media := "", ""
	if d.Sideline != nil && d.Sideline.V.Broken != nil {
		switch what {
		case "picture":
			digest, media = d.Sideline.V.Broken.Picture, "image/png"
		case "log":
			digest, media = d.Sideline.V.Broken.Log, "text/plain; charset=utf-8"
		}
	}
	if digest == "" {
		return nil, "", NotFound(fmt.Sprintf("nothing of that sort was kept of %s", device), "")
	}
	f, err := s.blobs.Open(ctx, digest)
	return f, media, err
}

// Restore brings a device back into use.
func (s *Service) Restore(ctx context.Context, c Caller, device string) (contract.Device, error) {
	d, err := s.store.DeviceNamed(ctx, c.ProjectID, device)
	if err != nil {
		return contract.Device{}, notThere(err, "`yamato device ls` lists the devices", "there is no device %q", device)
	}
	if d.Sideline == nil {
		return contract.Device{}, Invalid(device+" is not sidelined", "")
	}
	if err := s.store.InTx(ctx, func(t *store.Tx) error { return t.RestoreDevice(ctx, d.ID) }); err != nil {
		return contract.Device{}, err
	}
	s.bell.ring()
	d, err = s.store.DeviceNamed(ctx, c.ProjectID, device)
	return deviceOut(d), err
}

// Sites gives what the sites offer and what is taken of them.
func (s *Service) Sites(ctx context.Context, c Caller) ([]contract.Site, error) {
	hosts, err := s.store.Hosts(ctx, c.ProjectID)
	if err != nil {
		return nil, err
	}
	accepted, err := s.store.LicencesAccepted(ctx, c.ProjectID)
	out := []contract.Site{}
	for _, h := range hosts {
		out = append(out, siteOut(h, accepted))
	}
	return out, err
}

func siteOut(h store.HostRow, accepted []store.Accepted) contract.Site {
	o, l := h.Offer.V, h.Load.V
	out := contract.Site{Site: h.Site, Host: h.Name, Linked: h.Linked, SeenAt: h.SeenAt, Models: []contract.Model{}, Images: []contract.OSImage{}, Licences: []contract.Licence{}, Running: []contract.Running{},
		Capacity: contract.Capacity{MemoryMb: o.Capacity.MemoryMB, Cpus: o.Capacity.CPUs}, Machine: contract.Machine{UsedMb: l.UsedMB, TotalMb: l.TotalMB, Cpu: float32(l.CPU), Cpus: l.CPUs}}
	for _, m := range o.Models {
		out.Models = append(out.Models, contract.Model{Model: m.Model, Platform: m.Platform, Form: m.Form, Width: m.Width, Height: m.Height, MemoryMb: m.MemoryMB, TakesMb: m.TakesMB, Released: m.Released})
	}
	for _, i := range o.Images {
		one := contract.OSImage{Name: i.Name(), Platform: i.Platform, Os: i.OS, SizeMb: i.SizeMB, State: i.State, FetchedMb: i.FetchedMB}
		if i.Licence != "" {
			one.Licence = &i.Licence
		}
		out.Images = append(out.Images, one)
	}
	for _, li := range o.Licences {
		one := contract.Licence{Name: li.Name, Text: li.Text}
		digest := licenceDigest(o.Licences, li.Name)
		for _, a := range accepted {
			if a.Name == li.Name && a.Digest == digest {
				one.AcceptedBy, one.AcceptedAt = &a.By, &a.At
			}
		}
		out.Licences = append(out.Licences, one)
	}
	for _, r := range l.Running {
		out.Running = append(out.Running, contract.Running{Name: r.Name, TakesMb: r.TakesMB, TakesCpus: r.TakesCPUs, Busy: r.Busy})
	}
	return out
}

// AcceptLicence keeps that the caller has accepted a licence, as it reads now.
func (s *Service) AcceptLicence(ctx context.Context, c Caller, name string) (contract.Licence, error) {
	hosts, err := s.store.Hosts(ctx, c.ProjectID)
	if err != nil {
		return contract.Licence{}, err
	}
	for _, h := range hosts {
		for _, l := range h.Offer.V.Licences {
			if !strings.EqualFold(l.Name, name) {
				continue
			}
			if err := s.store.AcceptLicence(ctx, c.ProjectID, l.Name, licenceDigest(h.Offer.V.Licences, l.Name), c.Name); err != nil {
				return contract.Licence{}, err
			}
			accepted, err := s.store.LicencesAccepted(ctx, c.ProjectID)
			site := siteOut(h, accepted)
			return site.Licences[slices.IndexFunc(site.Licences, func(o contract.Licence) bool { return o.Name == l.Name })], err
		}
	}
	return contract.Licence{}, NotFound(fmt.Sprintf("no site has a licence %q", name), "`yamato site ls` lists the images and their licences")
}

// tend looks after the fleet for as long as this instance leads: it brings back
// devices whose time out of use is over, has those probed that were taken out by
// themselves, boots halted ones that runs wait for, and gives up on legs whose
// devices nobody mends.
func (s *Service) tend(ctx context.Context) {
	ticks := 0
	for every(ctx, 2*s.config.Pace) {
		leads, err := s.store.LeadsNow(ctx, s.instance)
		if err != nil || !leads {
			continue
		}
		if ticks++; ticks%5 == 0 {
			if err := s.giveUpWaiting(ctx); err != nil && ctx.Err() == nil {
				s.log.Warn("legs that wait could not be looked at", "error", err)
			}
		}
		for what, do := range map[string]func(context.Context) error{"sidelined devices could not be looked after": s.tendSidelined, "halted devices could not be woken": s.wake} {
			if err := do(ctx); err != nil && ctx.Err() == nil {
				s.log.Warn(what, "error", err)
			}
		}
		if ticks%20 == 0 { // hours open and close
			if ids, err := s.store.RuledDevices(ctx); err == nil && s.store.MarkDevices(ctx, ids) == nil && len(ids) > 0 {
				s.bell.ring()
			}
		}
	}
}

func (s *Service) tendSidelined(ctx context.Context) error {
	list, err := s.store.Sidelined(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	for _, d := range list {
		side := d.Sideline.V
		switch {
		case side.Until != nil && now.After(*side.Until):
			err = s.store.InTx(ctx, func(t *store.Tx) error { return t.RestoreDevice(ctx, d.ID) })
		case side.ProbeAt != nil && d.Linked && now.After(*side.ProbeAt):
			next := now.UTC().Add(s.config.ProbeEvery) // unless its answer says otherwise
			side.ProbeAt = &next
			if err = s.store.InTx(ctx, func(t *store.Tx) error { return t.SetSideline(ctx, d.ID, side) }); err == nil {
				_, err = s.store.AskErrand(ctx, d.ProjectID, store.Errand{HostID: d.HostID, Device: d.Name, What: link.DoProbe, AskedBy: automatic})
			}
		default:
			continue
		}
		if err != nil {
			return err
		}
		s.bell.ring()
	}
	return nil
}

// wake has halted devices booted that legs wait for, as far as their hosts have room.
func (s *Service) wake(ctx context.Context) error {
	list, err := s.store.HaltedWanted(ctx)
	if err != nil {
		return err
	}
	asked, running := map[string]int{}, map[int64][]fleet.Running{}
	for _, d := range list {
		key := fmt.Sprint(d.ProjectID, d.Class)
		if d.Coming+asked[key] >= d.Legs {
			continue
		}
		if running[d.HostID] == nil {
			running[d.HostID] = slices.Clone(d.Load.V.Running)
		}
		if _, ok := fleet.Room(d.Offer.V.Capacity, running[d.HostID], d.Facts.V); !ok {
			continue
		}
		if open, err := s.store.OpenErrand(ctx, d.HostID, d.Name); err != nil || open != 0 {
			asked[key]++
			continue
		}
		if _, err := s.store.AskErrand(ctx, d.ProjectID, store.Errand{HostID: d.HostID, Device: d.Name, What: link.DoBoot, AskedBy: automatic}); err != nil {
			return err
		}
		asked[key]++
		running[d.HostID] = append(running[d.HostID], fleet.Running{Name: d.Name, TakesMB: d.Facts.V.TakesMB, TakesCPUs: d.Facts.V.TakesCPUs, Busy: true})
		s.bell.ring()
	}
	return nil
}

// giveUpWaiting ends legs whose devices have needed a person for too long: what is
// undecided of them is an error, with the remedy, never a failure of the app.
func (s *Service) giveUpWaiting(ctx context.Context) error {
	list, err := s.store.StrandedLegs(ctx, s.config.MendWithin, 200)
	if err != nil || len(list) == 0 {
		return err
	}
	for _, l := range list {
		trouble := fmt.Sprintf("%s is %s: %s. `yamato device check %s` says what to do; then run it again", l.Device, l.State, l.Reason, l.Device)
		err := s.store.InTx(ctx, func(t *store.Tx) error {
			closed, err := t.CloseStranded(ctx, l.Leg)
			if err != nil || !closed {
				return err
			}
			failure := &script.Failure{Cause: script.Trouble, Actual: trouble}
			n, err := t.AddErrors(ctx, l.Leg, failure, trouble)
			if err != nil {
				return err
			}
			e := store.RunEvents{Run: l.Run, Legs: 1, Tally: store.Tally{Results: n, Errors: n}, Events: []any{event{Kind: "leg", Leg: l.Leg, State: "finished", Trouble: trouble}}}
			return appendAndClose(ctx, t, map[int64]int64{l.Run: l.Project}, []store.RunEvents{e})
		})
		if err != nil {
			return err
		}
		s.bell.ring()
	}
	return nil
}
