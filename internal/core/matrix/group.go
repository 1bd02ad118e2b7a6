package matrix

import (
	"slices"

	"yamato/internal/core/fleet"
)

// Group are devices that a combination does not tell apart: those of a class, at one site where the
// sites are varied. One leg runs on any of them.
type Group struct {
	Leg
	Device  fleet.Device // what all of them are, of what factors tell; a site only where sites are told apart
	Members []Member
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
				out = append(out, Group{Leg: leg, Device: fleet.Device{Form: d.Form,
					Site: site}.As(leg.Combination.Class)})
			}
			out[at].Members = append(out[at].Members, Member{d.ID, d.Abilities})
		}
	}
	if bySite { // a leg at a site is for the devices there alone
		for i, g := range out {
			never := slices.Clone(g.Never)
			for _, d := range devices {
				if fleet.ClassOf(d.Device) == g.Combination.Class && d.Site != g.Device.Site &&
					!slices.Contains(never, d.ID) {
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
	if f := fleet.FactorNamed(factor); f.Of != nil {
		return f.Of(g.Device)
	}
	return ""
}

// able tells whether a device of the group has an ability.
func (g *Group) able(ability string) bool {
	return slices.ContainsFunc(g.Members, func(m Member) bool { return slices.Contains(m.Abilities, ability) })
}
