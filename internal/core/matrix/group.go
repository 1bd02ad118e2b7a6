package matrix

import (
	"slices"

	"yamato/internal/core/fleet"
)

// Group are devices that a combination does not tell apart: those of a class, at one site where the
// sites are varied. One leg runs on any of them.
type Group struct {
	Leg
	Form, Site string
	Members    []Member
}

// Member is a device of a group.
type Member struct {
	ID        int64
	Abilities []string
}

// Groups makes the groups of what a matrix found to be able to run: one for each leg, or for each
// leg at each site.
func Groups(legs []Leg, devices []Candidate, bySite bool) []Group {
	var out []Group
	for _, leg := range legs {
		sites := map[string]int{}
		for _, d := range devices {
			if fleet.ClassOf(d.Device) != leg.Combination.Class || leg.Device != 0 && leg.Device != d.ID ||
				slices.Contains(leg.Never, d.ID) {
				continue
			}
			site := ""
			if bySite {
				site = d.Site
			}
			at, ok := sites[site]
			if !ok {
				at = len(out)
				sites[site] = at
				out = append(out, Group{Leg: leg, Form: d.Form, Site: site})
			}
			out[at].Members = append(out[at].Members, Member{d.ID, d.Abilities})
		}
	}
	if bySite { // a leg at a site is for the devices there alone
		for i, g := range out {
			never := slices.Clone(g.Never)
			for _, d := range devices {
				if fleet.ClassOf(d.Device) == g.Combination.Class && d.Site != g.Site && !slices.Contains(never, d.ID) {
					never = append(never, d.ID)
				}
			}
			out[i].Never = never
		}
	}
	return out
}

// has gives what a group is as a level of a factor that devices have.
func (g *Group) has(factor string) string {
	c := g.Combination.Class
	switch factor {
	case DeviceClass:
		return c.Label()
	case Platform:
		return c.Platform
	case Kind:
		return c.Kind
	case Model:
		return c.Model
	case OS:
		return c.OS
	case Form:
		return g.Form
	case fleet.Site:
		return g.Site
	}
	return ""
}

// able tells whether a device of the group has an ability.
func (g *Group) able(ability string) bool {
	return slices.ContainsFunc(g.Members, func(m Member) bool { return slices.Contains(m.Abilities, ability) })
}
