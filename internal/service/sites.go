package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/store"
)

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

func licenceDigest(list []fleet.Licence, name string) string {
	for _, l := range list {
		if l.Name == name {
			sum := sha256.Sum256([]byte(l.Text))
			return hex.EncodeToString(sum[:])
		}
	}
	return ""
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
