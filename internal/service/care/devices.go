package care

import (
	"context"
	"strings"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/service/base"
	"yamato/internal/service/wire"
	"yamato/internal/store"
)

// DeviceFilter says which devices are wanted; what is empty does not matter.
type DeviceFilter struct {
	Q, Site, State, Platform, Kind string // Q is part of a name, model, site, label or OS version
}

func (f DeviceFilter) takes(d store.Device) bool {
	is := func(want, have string) bool { return want == "" || want == have }
	facts := d.Facts.V
	q := strings.ToLower(f.Q)
	found := q == ""
	for _, text := range append([]string{facts.Name, facts.Site, facts.Model, facts.OS,
		fleet.PlatformName(facts.Platform) + " " + facts.OS, facts.Owner}, facts.Labels...) {
		found = found || strings.Contains(strings.ToLower(text), q)
	}
	return found && is(f.Site, facts.Site) && is(f.State, d.State) && is(f.Platform, facts.Platform) &&
		is(f.Kind, facts.Kind)
}

// Devices gives the fleet, or part of it.
func (s *Part) Devices(ctx context.Context, c base.Caller, f DeviceFilter) ([]contract.Device, error) {
	list, err := s.Store.Devices(ctx, c.ProjectID)
	out := []contract.Device{}
	for _, d := range list {
		if f.takes(d) {
			out = append(out, wire.Device(d))
		}
	}
	return out, err
}

// historyStints is how many of its last leases a device's page shows.
const historyStints = 25

// DeviceDetail gives one device, its host, and what it did last.
func (s *Part) DeviceDetail(ctx context.Context, c base.Caller, name string) (contract.DeviceDetail, error) {
	out := contract.DeviceDetail{History: []contract.Stint{}, Errands: []contract.Errand{}}
	d, err := s.Store.DeviceNamed(ctx, c.ProjectID, name)
	if err != nil {
		return out, base.NotThere(err, "`yamato device ls` lists the devices", "there is no device %q", name)
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
