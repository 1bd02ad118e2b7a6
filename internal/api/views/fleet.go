package views

import (
	"context"
	"strings"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
)

// historyStints is how many of its last leases a device's page shows.
const historyStints = 25

// DeviceDetail gives one device, its host, and what it did last.
func (s *Part) DeviceDetail(ctx context.Context, c base.Caller, name string) (contract.DeviceDetail, error) {
	out := contract.DeviceDetail{History: []contract.Stint{}, Errands: []contract.Errand{}}
	d, err := s.Store.DeviceNamed(ctx, c.ProjectID, name)
	if err != nil {
		return out, base.NotThere(err, remedy.Say("%s lists the devices", remedy.DeviceList), "there is no device %q", name)
	}
	out.Device = wire.Device(d)
	host, err := s.Store.HostOf(ctx, d.HostID)
	if err != nil {
		return out, err
	}
	out.Host = contract.HostInfo{Name: host.Name, Program: host.Program, Linked: host.Linked, SeenAt: host.SeenAt}
	stints, err := s.Store.Stints(ctx, d.LastLease, historyStints)
	for _, t := range stints {
		one := contract.Stint{Run: t.Run, Purpose: t.Purpose, App: t.App, VersionName: t.VersionName, Suite: t.Suite,
			Leg: t.Leg, Attempt: t.Attempt, Began: t.Began, Ended: t.Ended,
			Passed: t.Passed, Failed: t.Failed, Errors: t.Errors, Skipped: t.Skipped}
		if t.Trouble != "" {
			one.Trouble = base.Ptr(t.Trouble)
		}
		if t.EndedBy == "device" {
			out.Troubles++
		}
		out.History = append(out.History, one)
	}
	if err != nil {
		return out, err
	}
	errands, err := s.Store.ErrandsOf(ctx, c.ProjectID, name, 10)
	for _, e := range errands {
		out.Errands = append(out.Errands, wire.Errand(e))
	}
	return out, err
}

// Sites gives what the sites offer and what is taken of them.
func (s *Part) Sites(ctx context.Context, c base.Caller) ([]contract.Site, error) {
	hosts, err := s.Store.Hosts(ctx, c.ProjectID)
	if err != nil {
		return nil, err
	}
	accepted, err := s.Store.LicencesAccepted(ctx, c.ProjectID)
	out := []contract.Site{}
	for _, h := range hosts {
		out = append(out, wire.Site(h, accepted))
	}
	return out, err
}

// Licence gives a licence as it was accepted.
func (s *Part) Licence(ctx context.Context, c base.Caller, name string) (contract.Licence, error) {
	sites, err := s.Sites(ctx, c)
	for _, site := range sites {
		for _, l := range site.Licences {
			if strings.EqualFold(l.Name, name) {
				return l, err
			}
		}
	}
	return contract.Licence{}, err
}
