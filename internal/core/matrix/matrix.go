// Package matrix turns what a run is asked to cover into combinations, and
// keeps what it leaves out with the reason.
package matrix

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/core/remedy"
)

// Candidate is a device that a run could use, as it is at a moment.
type Candidate struct {
	fleet.Standing
	ID        int64
	Condition fleet.Condition
}

// Leg is one combination that can run, the package that it takes, the one device that it
// runs on where one was named, and the devices of its class that it never runs on.
type Leg struct {
	Combination fleet.Combination
	Device      int64 // 0 for any of the class
	Package     int   // position among the build's packages
	Never       []int64
}

// LeftOut is a combination that is not run, with every reason.
type LeftOut struct {
	Combination fleet.Combination `json:"combination"`
	Reasons     []fleet.Reason    `json:"reasons"`
}

// Matrix is what a run covers.
type Matrix struct {
	Legs    []Leg
	LeftOut []LeftOut
	Unknown []fleet.Pick // wishes that no device answers to
}

// Combine makes the combinations of devices that answer to picks (all devices
// where there are none) with levels, one for each class of device, and one for each
// device that a pick names, which runs there and nowhere else; ordered by platform,
// model and OS. A class is left out where the packages run on none of its devices, or
// where none of those is in use; who asks, and when, matters.
func Combine(packages []appfile.Package, devices []Candidate, picks []fleet.Pick, levels fleet.Levels, who string,
	now time.Time) Matrix {
	var m Matrix
	used := map[fleet.Pick]bool{}
	type group struct {
		class  fleet.Class
		device int64
	}
	groups := map[group][]Candidate{}
	sorted := slices.SortedFunc(slices.Values(devices), func(a, b Candidate) int {
		return cmp.Or(strings.Compare(key(a.Device), key(b.Device)), cmp.Compare(a.ID, b.ID))
	})
	var order []group
	for _, d := range sorted {
		whole, named := wanted(d.Device, picks, used)
		for of, yes := range map[group]bool{{class: fleet.ClassOf(d.Device)}: whole, {fleet.ClassOf(d.Device),
			d.ID}: named} {
			if !yes {
				continue
			}
			if groups[of] == nil {
				order = append(order, of)
			}
			groups[of] = append(groups[of], d)
		}
	}
	slices.SortStableFunc(order, func(a, b group) int { // a class before its devices
		return cmp.Or(strings.Compare(classKey(a.class), classKey(b.class)), cmp.Compare(a.device, b.device))
	})
	fits := fleet.NewFitter(packages, now)
	for _, of := range order {
		c := fleet.Combination{Class: of.class, Levels: levels}
		if leg, reasons := combine(fits, c, groups[of], who, now); reasons == nil {
			leg.Device = of.device
			m.Legs = append(m.Legs, leg)
		} else {
			m.LeftOut = append(m.LeftOut, LeftOut{c, reasons})
		}
	}
	for _, p := range picks {
		if !used[p] {
			m.Unknown = append(m.Unknown, p)
		}
	}
	return m
}

// combine makes the leg of a class, or gives every reason why none of its devices serves.
func combine(fits *fleet.Fitter, c fleet.Combination, devices []Candidate, who string,
	now time.Time) (Leg, []fleet.Reason) {
	leg := Leg{Combination: c, Package: -1}
	usable := false
	var reasons []fleet.Reason
	for _, d := range devices {
		at, why := fits.Fit(&d.Device, d.Condition.Installed)
		// its hours come round
		if r, ok := (fleet.Device{Owner: d.Owner, Use: fleet.Use{People: d.Use.People}}).Admits(who, now); !ok {
			at, why = -1, append(why, r)
		}
		if at < 0 {
			leg.Never = append(leg.Never, d.ID)
		} else {
			leg.Package = at
			if r, ok := outOfUse(d); ok {
				reasons = append(reasons, r)
			} else {
				usable = true
			}
		}
		for _, r := range why {
			if len(devices) > 1 {
				r.Why = d.Name + ": " + r.Why
			}
			reasons = append(reasons, r)
		}
	}
	if usable {
		return leg, nil
	}
	return leg, reasons
}

// outOfUse tells why a device cannot be waited for: somebody has to do something first.
func outOfUse(d Candidate) (fleet.Reason, bool) {
	switch d.State {
	case "unready":
		if r, bad := fleet.Unready(d.Condition.Checks); bad {
			return fleet.Reason{Why: d.Name + " is not ready: " + r.Why, Remedy: r.Remedy}, true
		}
		return fleet.Reason{Why: d.Name + " is not ready",
			Remedy: remedy.Say("%s says what it lacks", remedy.DeviceCheck(d.Name))}, true
	case "sidelined":
		return fleet.Reason{Why: d.Name + " is sidelined: " + d.Reason,
			Remedy: remedy.Say("%s once that is mended", remedy.DeviceRestore(d.Name))}, true
	}
	return fleet.Reason{}, false
}

// wanted tells whether picks take a device as one of its class, and whether they name it.
func wanted(d fleet.Device, picks []fleet.Pick, used map[fleet.Pick]bool) (whole, named bool) {
	whole = len(picks) == 0
	for _, p := range picks {
		if !p.Takes(d) {
			continue
		}
		used[p] = true
		if p.Names(d) {
			named = true
		} else {
			whole = true
		}
	}
	return whole, named
}

func key(d fleet.Device) string { return classKey(fleet.ClassOf(d)) }

func classKey(c fleet.Class) string {
	return strings.Join([]string{c.Platform, c.Model, c.OS, c.Kind}, "\x00")
}
