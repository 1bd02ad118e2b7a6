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
)

// Candidate is a device that a run could use, as it is at a moment.
type Candidate struct {
	fleet.Standing
	ID        int64
	Condition fleet.Condition
}

// Leg is one combination that can run, the package that it takes, and the devices
// of its class that it never runs on.
type Leg struct {
	Combination fleet.Combination
	Package     int // position among the build's packages
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
// where there are none) in a language, one for each class of device, ordered
// by platform, model and OS. A class is left out where the packages run on none of
// its devices, or where none of those is in use; who asks, and when, matters.
func Combine(packages []appfile.Package, devices []Candidate, picks []fleet.Pick, language, who string, now time.Time) Matrix {
	var m Matrix
	used := map[fleet.Pick]bool{}
	classes := map[fleet.Combination][]Candidate{}
	sorted := slices.SortedFunc(slices.Values(devices), func(a, b Candidate) int {
		return cmp.Or(strings.Compare(key(a.Device), key(b.Device)), cmp.Compare(a.ID, b.ID))
	})
	var order []fleet.Combination
	for _, d := range sorted {
		if !wanted(d.Device, picks, used) {
			continue
		}
		c := fleet.Of(d.Device, language)
		if classes[c] == nil {
			order = append(order, c)
		}
		classes[c] = append(classes[c], d)
	}
	fits := fleet.NewFitter(packages, now)
	for _, c := range order {
		if leg, reasons := combine(fits, c, classes[c], who, now); reasons == nil {
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
func combine(fits *fleet.Fitter, c fleet.Combination, devices []Candidate, who string, now time.Time) (Leg, []fleet.Reason) {
	leg := Leg{Combination: c, Package: -1}
	usable := false
	var reasons []fleet.Reason
	for _, d := range devices {
		at, why := fits.Fit(&d.Device, d.Condition.Installed)
		if r, ok := (fleet.Device{Owner: d.Owner, Use: fleet.Use{People: d.Use.People}}).Admits(who, now); !ok { // its hours come round
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
		return fleet.Reason{Why: d.Name + " is not ready", Remedy: "`yamato device check " + d.Name + "` says what it lacks"}, true
	case "sidelined":
		return fleet.Reason{Why: d.Name + " is sidelined: " + d.Reason, Remedy: "`yamato device restore " + d.Name + "` once that is mended"}, true
	}
	return fleet.Reason{}, false
}

func wanted(d fleet.Device, picks []fleet.Pick, used map[fleet.Pick]bool) bool {
	any := len(picks) == 0
	for _, p := range picks {
		if p.Takes(d) {
			used[p], any = true, true
		}
	}
	return any
}

func key(d fleet.Device) string {
	return strings.Join([]string{d.Platform, d.Model, d.OS, d.Kind}, "\x00")
}
