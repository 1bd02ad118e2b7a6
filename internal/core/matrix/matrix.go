// Package matrix turns what a run is asked to cover into combinations, and
// keeps what it leaves out with the reason.
package matrix

import (
	"slices"
	"strings"

	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
)

// Leg is one combination that can run, and the package that it takes.
type Leg struct {
	Combination fleet.Combination
	Package     int // position among the build's packages
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
// by platform, model and OS.
func Combine(packages []appfile.Package, devices []fleet.Device, picks []fleet.Pick, language string) Matrix {
	var m Matrix
	used := map[fleet.Pick]bool{}
	seen := map[fleet.Combination]bool{}
	sorted := slices.SortedFunc(slices.Values(devices), func(a, b fleet.Device) int {
		return strings.Compare(key(a), key(b))
	})
	for _, d := range sorted {
		if !wanted(d, picks, used) {
			continue
		}
		c := fleet.Of(d, language)
		if seen[c] {
			continue
		}
		seen[c] = true
		if i, reasons := fleet.Fit(packages, d); i >= 0 {
			m.Legs = append(m.Legs, Leg{c, i})
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
