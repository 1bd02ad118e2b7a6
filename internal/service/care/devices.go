package care

import (
	"context"
	"slices"
	"strings"

	"yamato/internal/core/fleet"
	"yamato/internal/service/base"
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
		fleet.SystemName(facts.Platform, facts.OS), facts.Owner}, facts.Labels...) {
		found = found || strings.Contains(strings.ToLower(text), q)
	}
	return found && is(f.Site, facts.Site) && is(f.State, string(d.State)) && is(f.Platform, facts.Platform) &&
		is(f.Kind, facts.Kind)
}

// Devices gives the fleet, or part of it.
func (s *Part) Devices(ctx context.Context, c base.Caller, f DeviceFilter) ([]store.Device, error) {
	list, err := s.Store.Devices(ctx, c.ProjectID)
	return slices.DeleteFunc(list, func(d store.Device) bool { return !f.takes(d) }), err
}
