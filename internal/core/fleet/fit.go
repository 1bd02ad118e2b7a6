package fleet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
)

// Installed is an app that is on a device already, and stays there.
type Installed = device.Installed

// kindsFor gives the kinds of package that run on a device.
func kindsFor(d *Device) (kind appfile.Kind, needs string) {
	switch {
	case d.Platform == "android":
		return appfile.Android, "Android package (.apk)"
	case d.Platform == "ios" && d.Kind == Simulator:
		return appfile.Simulator, "simulator zip"
	case d.Platform == "ios":
		return appfile.IOSDevice, "iOS device package (.ipa)"
	case d.Platform == "web":
		return appfile.Web, "web bundle"
	}
	return "", ""
}

// Fitter tells which package of a build runs on which device at a moment. It words
// each reason once for all devices alike, so it is for one goroutine.
type Fitter struct {
	packages []appfile.Package
	now      time.Time
	said     map[alike]Reason
	listed   []map[string]bool // by package: the ids of its profile, in small letters
}

// alike is what devices have in common of which the same is to be said.
type alike struct {
	of   int // package; -1 for the build
	what string
	have string
	more string
}

// NewFitter prepares for a build's packages.
func NewFitter(packages []appfile.Package, now time.Time) *Fitter {
	f := &Fitter{packages, now, map[alike]Reason{}, make([]map[string]bool, len(packages))}
	for i := range packages {
		if p := packages[i].Profile; p != nil {
			f.listed[i] = make(map[string]bool, len(p.Devices))
			for _, id := range p.Devices {
				f.listed[i][strings.ToLower(id)] = id != "" // what is not known yet is not listed
			}
		}
	}
	return f
}

// say gives a reason, worded when it is first given.
func (f *Fitter) say(a alike, word func() Reason) Reason {
	r, ok := f.said[a]
	if !ok {
		r = word()
		f.said[a] = r
	}
	return r
}

// Fit gives the position of the package in packages that runs on d at a moment, or -1
// and every reason why none does: a Fitter for one device.
func Fit(packages []appfile.Package, d Device, installed []Installed, now time.Time) (int, []Reason) {
	return NewFitter(packages, now).Fit(&d, installed)
}

// Fit gives the position of the package that runs on d, or -1 and every reason why
// none does. It is the one place that decides this.
func (f *Fitter) Fit(d *Device, installed []Installed) (int, []Reason) {
	kind, needs := kindsFor(d)
	if kind == "" {
		return -1, []Reason{because(fmt.Sprintf("no kind of package runs on %s", PlatformName(d.Platform)),
			"choose another device")}
	}
	for i := range f.packages {
		if f.packages[i].Kind != kind {
			continue
		}
		if reasons := f.unfit(i, d, installed); len(reasons) > 0 {
			return -1, reasons
		}
		return i, nil
	}
	return -1, []Reason{f.say(alike{-1, d.Platform, d.Kind, d.Model}, func() Reason {
		return missing(f.packages, d, needs)
	})}
}

// missing says which package a build lacks for a device, with a word about what
// it has instead.
func missing(packages []appfile.Package, d *Device, needs string) Reason {
	has := func(k appfile.Kind) bool {
		return slices.ContainsFunc(packages, func(p appfile.Package) bool { return p.Kind == k })
	}
	switch {
	case d.Platform == "ios" && d.Kind == Simulator && has(appfile.IOSDevice):
		return because("an .ipa runs on real devices only", "add the simulator zip of the same version for "+d.Model)
	case d.Platform == "ios" && d.Kind == Real && has(appfile.Simulator):
		return because("a simulator app runs on simulators only",
			"add the .ipa of the same version, signed for "+d.Model)
	case d.Platform == "android" && has(appfile.AndroidTest):
		return because("a test package does not run by itself", "add the Android package of the app that it tests")
	}
	return because(fmt.Sprintf("the build holds no %s, which %s (%s) needs", needs, d.Model, d.Kind),
		"push the "+needs+" of the same version to the build")
}

// unfit gives every reason why a package of the right kind does not run on d.
func (f *Fitter) unfit(i int, d *Device, installed []Installed) (out []Reason) {
	p := &f.packages[i]
	add := func(what, have string, word func() Reason) {
		if out == nil {
			out = make([]Reason, 0, 4)
		}
		out = append(out, f.say(alike{i, what, have, ""}, word))
	}
	if p.MinimumOS != "" && compareVersions(d.OS, p.MinimumOS) < 0 {
		add("os", d.OS, func() Reason {
			os := PlatformName(d.Platform)
			return because("needs "+os+" "+p.MinimumOS+"; this one has "+d.OS,
				"choose a device with "+os+" "+p.MinimumOS+" or newer")
		})
	}
	if len(p.ABIs) > 0 && d.ABI != "" && !runs(p.ABIs, d.ABI) {
		add("abi", d.ABI, func() Reason {
			return because("its native code is for "+strings.Join(p.ABIs, ", ")+"; this one is "+d.ABI,
				"build it for "+d.ABI+" too, or choose a device of another kind")
		})
	}
	if len(p.Forms) > 0 && d.Form != "" && !slices.Contains(p.Forms, d.Form) {
		// tablets run phones' apps, enlarged
		if !(d.Platform == "ios" && d.Form == "tablet" && slices.Contains(p.Forms, "phone")) {
			add("form", d.Form, func() Reason {
				return because("is made for a "+strings.Join(p.Forms, " or ")+"; this one is a "+d.Form,
					"choose a "+p.Forms[0]+", or add the form to the app's device family")
			})
		}
	}
	for _, t := range p.Needs {
		if !slices.Contains(d.Traits, t) && !slices.Contains(d.Abilities, t) {
			add("trait", t, func() Reason {
				return because("requires "+t+"; this one has none",
					"choose a device with "+t+", or let the manifest say that it is not required")
			})
		}
	}
	if p.Kind == appfile.Android && p.Signing == nil && p.Parts != nil { // without parts: read before signatures were
		out = append(out, because("is not signed, so no device would install it", "sign the package and push it again"))
	}
	if p.Kind == appfile.IOSDevice {
		out = f.profiled(out, i, d)
	}
	for _, one := range installed {
		if one.ID == p.ApplicationID {
			out = f.clash(out, i, d, one)
		}
	}
	return out
}

// runs tells whether a device of an ABI runs code for one of those: 64-bit
// devices run the 32-bit code of their family.
func runs(abis []string, abi string) bool {
	also := map[string][]string{"arm64-v8a": {"armeabi-v7a", "armeabi"}, "x86_64": {"x86"}}
	return slices.Contains(abis, abi) || slices.ContainsFunc(also[abi], func(a string) bool {
		return slices.Contains(abis, a)
	})
}

const day = "2 January 2006"

// profiled adds why a device package's provisioning profile does not let it run on d.
func (f *Fitter) profiled(out []Reason, i int, d *Device) []Reason {
	profile := f.packages[i].Profile
	if profile == nil {
		return append(out, because("it holds no provisioning profile",
			"sign the .ipa with a profile that lists this phone"))
	}
	if !profile.Expires.IsZero() && f.now.After(profile.Expires) {
		out = append(out, f.say(alike{i, "expired", "", ""}, func() Reason {
			return because("the profile expired on "+profile.Expires.Format(day),
				"renew the profile "+strconv.Quote(profile.Name)+" and sign again")
		}))
	}
	switch {
	case profile.AllDevices || f.listed[i][strings.ToLower(d.HardwareID)]:
	case len(profile.Devices) == 0:
		out = append(out, because("the profile lists no devices: it is one for a store",
			"sign with a profile for development, or ad hoc, that lists this "+d.Form))
	default:
		id := d.HardwareID
		if id == "" {
			id = "(not known yet)"
		}
		not := f.say(alike{i, "unlisted", d.Form, ""}, func() Reason {
			return because("the profile does not list this "+d.Form,
				" to the profile "+strconv.Quote(profile.Name)+" and sign again")
		})
		out = append(out, because(not.Why, "add its id "+id+not.Remedy.String()))
	}
	return out
}

// clash adds what keeps a package from replacing the app of its id that is installed.
func (f *Fitter) clash(out []Reason, i int, d *Device, have Installed) []Reason {
	p := &f.packages[i]
	ask := func() string {
		if d.Owner != "" {
			return "ask " + d.Owner + " to "
		}
		return ""
	}
	if have.Signer != "" && p.Signing != nil && p.Signing.Fingerprint != have.Signer {
		out = append(out, f.say(alike{i, "signer", d.Owner, have.Signer}, func() Reason {
			return because("another app of that id, signed differently, is installed",
				ask()+"remove "+have.ID+", or sign with certificate "+have.Signer[:min(8,
					len(have.Signer))]+"…")
		}))
	}
	there, err := strconv.ParseInt(have.VersionCode, 10, 64)
	ours, err2 := strconv.ParseInt(p.VersionCode, 10, 64)
	if d.Platform == "android" && err == nil && err2 == nil && there > ours {
		out = append(out, f.say(alike{i, "version", d.Owner, have.VersionCode}, func() Reason {
			return because(fmt.Sprintf("a newer version (%d) is installed", there),
				ask()+"remove "+have.ID+", or push a higher version code")
		}))
	}
	return out
}
