package fleet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/appfile"
)

// Installed is an app that is on a device already, and stays there.
type Installed struct {
	ID          string `json:"id" yaml:"id"`
	VersionCode string `json:"version_code" yaml:"version_code"`
	Signer      string `json:"signer" yaml:"signer"` // fingerprint of its certificate, "" where it is not known
}

// kindsFor gives the kinds of package that run on a device.
func kindsFor(d Device) (kind appfile.Kind, needs string) {
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

// Fit gives the position of the package in packages that runs on d at a moment,
// or -1 and every reason why none does. It is the one place that decides this.
func Fit(packages []appfile.Package, d Device, installed []Installed, now time.Time) (int, []Reason) {
	kind, needs := kindsFor(d)
	if kind == "" {
		return -1, []Reason{{fmt.Sprintf("no kind of package runs on %s", PlatformName(d.Platform)), "choose another device"}}
	}
	for i := range packages {
		if packages[i].Kind != kind {
			continue
		}
		if reasons := unfit(&packages[i], d, installed, now); len(reasons) > 0 {
			return -1, reasons
		}
		return i, nil
	}
	return -1, []Reason{missing(packages, d, needs)}
}

// missing says which package a build lacks for a device, with a word about what
// it has instead.
func missing(packages []appfile.Package, d Device, needs string) Reason {
	has := func(k appfile.Kind) bool {
		return slices.ContainsFunc(packages, func(p appfile.Package) bool { return p.Kind == k })
	}
	switch {
	case d.Platform == "ios" && d.Kind == Simulator && has(appfile.IOSDevice):
		return Reason{"an .ipa runs on real devices only", "add the simulator zip of the same version for " + d.Model}
	case d.Platform == "ios" && d.Kind == Real && has(appfile.Simulator):
		return Reason{"a simulator app runs on simulators only", "add the .ipa of the same version, signed for " + d.Model}
	case d.Platform == "android" && has(appfile.AndroidTest):
		return Reason{"a test package does not run by itself", "add the Android package of the app that it tests"}
	}
	return Reason{fmt.Sprintf("the build holds no %s, which %s (%s) needs", needs, d.Model, d.Kind), "push the " + needs + " of the same version to the build"}
}

// unfit gives every reason why a package of the right kind does not run on d.
func unfit(p *appfile.Package, d Device, installed []Installed, now time.Time) (out []Reason) {
	if p.MinimumOS != "" && compareVersions(d.OS, p.MinimumOS) < 0 {
		os := PlatformName(d.Platform)
		out = append(out, Reason{"needs " + os + " " + p.MinimumOS + "; this one has " + d.OS, "choose a device with " + os + " " + p.MinimumOS + " or newer"})
	}
	if len(p.ABIs) > 0 && d.ABI != "" && !runs(p.ABIs, d.ABI) {
		out = append(out, Reason{"its native code is for " + strings.Join(p.ABIs, ", ") + "; this one is " + d.ABI, "build it for " + d.ABI + " too, or choose a device of another kind"})
	}
	if len(p.Forms) > 0 && d.Form != "" && !slices.Contains(p.Forms, d.Form) {
		if !(d.Platform == "ios" && d.Form == "tablet" && slices.Contains(p.Forms, "phone")) { // tablets run phones' apps, enlarged
			out = append(out, Reason{"is made for a " + strings.Join(p.Forms, " or ") + "; this one is a " + d.Form, "choose a " + p.Forms[0] + ", or add the form to the app's device family"})
		}
	}
	for _, t := range p.Needs {
		if !slices.Contains(d.Traits, t) && !slices.Contains(d.Abilities, t) {
			out = append(out, Reason{"requires " + t + "; this one has none", "choose a device with " + t + ", or let the manifest say that it is not required"})
		}
	}
	if p.Kind == appfile.Android && p.Signing == nil && p.Parts != nil { // without parts: read before signatures were
		out = append(out, Reason{"is not signed, so no device would install it", "sign the package and push it again"})
	}
	if p.Kind == appfile.IOSDevice {
		out = append(out, listed(p.Profile, d, now)...)
	}
	for _, i := range installed {
		if i.ID == p.ApplicationID {
			out = append(out, clash(p, d, i)...)
		}
	}
	return out
}

// runs tells whether a device of an ABI runs code for one of those: 64-bit
// devices run the 32-bit code of their family.
func runs(abis []string, abi string) bool {
	also := map[string][]string{"arm64-v8a": {"armeabi-v7a", "armeabi"}, "x86_64": {"x86"}}
	return slices.Contains(abis, abi) || slices.ContainsFunc(also[abi], func(a string) bool { return slices.Contains(abis, a) })
}

const day = "2 January 2006"

func listed(profile *appfile.Profile, d Device, now time.Time) (out []Reason) {
	if profile == nil {
		return []Reason{{"it holds no provisioning profile", "sign the .ipa with a profile that lists this phone"}}
	}
	if !profile.Expires.IsZero() && now.After(profile.Expires) {
		out = append(out, Reason{"the profile expired on " + profile.Expires.Format(day), "renew the profile " + strconv.Quote(profile.Name) + " and sign again"})
	}
	lists := slices.ContainsFunc(profile.Devices, func(id string) bool { return strings.EqualFold(id, d.HardwareID) })
	switch {
	case profile.AllDevices || lists:
	case len(profile.Devices) == 0:
		out = append(out, Reason{"the profile lists no devices: it is one for a store", "sign with a profile for development, or ad hoc, that lists this " + d.Form})
	default:
		id := d.HardwareID
		if id == "" {
			id = "(not known yet)"
		}
		out = append(out, Reason{"the profile does not list this " + d.Form, "add its id " + id + " to the profile " + strconv.Quote(profile.Name) + " and sign again"})
	}
	return out
}

// clash tells what keeps p from replacing the app of its id that is installed.
func clash(p *appfile.Package, d Device, i Installed) (out []Reason) {
	ask := ""
	if d.Owner != "" {
		ask = "ask " + d.Owner + " to "
	}
	if i.Signer != "" && p.Signing != nil && p.Signing.Fingerprint != i.Signer {
		out = append(out, Reason{"another app of that id, signed differently, is installed", ask + "remove " + i.ID + " from it, or sign with the certificate " + i.Signer[:min(12, len(i.Signer))] + "…"})
	}
	have, err := strconv.ParseInt(i.VersionCode, 10, 64)
	want, err2 := strconv.ParseInt(p.VersionCode, 10, 64)
	if d.Platform == "android" && err == nil && err2 == nil && have > want {
		out = append(out, Reason{fmt.Sprintf("a newer version (%d) is installed", have), ask + "remove " + i.ID + " from it, or push a higher version code"})
	}
	return out
}
