package standin

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/near"
)

// Deeds lists what hands and fate can do to this stand-in.
func (d *Device) Deeds() (out []device.Deed) { return DeedsOf(d.config.Device) }

// DeedsOf lists what hands and fate can do to a stand-in that is such a device.
func DeedsOf(d fleet.Device) (out []device.Deed) {
	for _, name := range slices.Sorted(maps.Keys(deeds)) {
		if w := deeds[name].where; w == nil || w(d) {
			out = append(out, device.Deed{Name: name, Does: deeds[name].does})
		}
	}
	for _, name := range Troubles {
		if t := troubles[name]; t.where == nil || t.where(d) {
			out = append(out, device.Deed{Name: "trouble " + name, Does: t.does, Counted: true})
		}
	}
	return out
}

// Deed does to the device what hands and fate do to a real one: a deed of Deeds,
// "remove-app ID", or "trouble NAME" with how many times, -1 for always, 0 for never.
func (d *Device) Deed(_ context.Context, deed string, count int) error {
	if refusal := Refuses(d.config.Device, deed); refusal != nil {
		return refusal
	}
	word, rest, _ := strings.Cut(deed, " ")
	if word == "trouble" {
		d.troubles[rest] = max(count, -1)
		delete(d.chances, rest)
		return nil
	}
	deeds[word].do(d, rest)
	d.notice()
	return d.render()
}

// Refuses tells why a deed cannot be done to a stand-in that is such a device, nil where it
// can.
func Refuses(d fleet.Device, deed string) *device.Trouble {
	word, rest, _ := strings.Cut(deed, " ")
	if word == "trouble" {
		if why := hasTrouble(d, rest); why != "" {
			return &device.Trouble{Why: why, Remedy: "it can have " + strings.Join(troublesOf(d), ", ")}
		}
		return nil
	}
	do, ok := deeds[word]
	switch {
	case !ok:
		return &device.Trouble{Why: fmt.Sprintf("hands cannot %q", word),
			Remedy: "there are " + strings.Join(slices.Sorted(maps.Keys(deeds)), ", ")}
	case do.where != nil && !do.where(d):
		return &device.Trouble{Why: fmt.Sprintf("%q cannot be done to %s", word, kindOf(d))}
	case rest != "" && word != "remove-app":
		return &device.Trouble{Why: fmt.Sprintf("%q takes nothing after it", word)}
	}
	return nil
}

// hasTrouble tells why a device cannot have a trouble, "" where it can.
func hasTrouble(d fleet.Device, name string) string {
	t, ok := troubles[name]
	switch {
	case !ok:
		if meant := near.Word(name, Troubles); meant != "" {
			return fmt.Sprintf("stand-ins know no trouble %q; did you mean %q?", name, meant)
		}
		return fmt.Sprintf("stand-ins know no trouble %q", name)
	case t.where != nil && !t.where(d):
		return fmt.Sprintf("the trouble %q does not befall %s", name, kindOf(d))
	}
	return ""
}

func kindOf(d fleet.Device) string {
	if d.Virtual() {
		return map[string]string{fleet.Emulator: "an emulator", fleet.Simulator: "a simulator"}[d.Kind]
	}
	return "a real device of " + fleet.PlatformName(d.Platform)
}

func troublesOf(d fleet.Device) (out []string) {
	for _, name := range Troubles {
		if hasTrouble(d, name) == "" {
			out = append(out, name)
		}
	}
	return out
}

func onlyReal(d fleet.Device) bool    { return !d.Virtual() }
func onlyVirtual(d fleet.Device) bool { return d.Virtual() }
func realApple(d fleet.Device) bool   { return !d.Virtual() && d.Platform == "ios" }
func realAndroid(d fleet.Device) bool { return !d.Virtual() && d.Platform == "android" }

// troubles tells of each what it does, and which devices it befalls.
var troubles = map[string]struct {
	does  string
	where func(fleet.Device) bool
}{
	troubleHang:      {"a boot never ends", onlyVirtual},
	troubleBlack:     {"it boots, and its screen stays black", onlyVirtual},
	troubleDialog:    {"after a boot, a dialog that no driver can send away", onlyVirtual},
	troublePopup:     {"a dialog comes up over the app when it starts", nil},
	troubleBehind:    {"an app starts and does not come to the front", nil},
	troubleSleep:     {"its screen goes off while an app runs", nil},
	troubleSpace:     {"there is no room for an app", nil},
	troubleDirty:     {"it cannot be cleaned", nil},
	troubleCable:     {"its cable drops while an app runs", onlyReal},
	troubleLock:      {"somebody has set a code", onlyReal},
	troubleUntrusted: {"the developer of what is installed is not trusted", realApple},
}

// Troubles lists them for people.
var Troubles = slices.Sorted(maps.Keys(troubles))

// deed is something that hands can do.
type deed struct {
	does  string
	where func(fleet.Device) bool
	do    func(d *Device, rest string)
}

var deeds = map[string]deed{
	"allow-always": {"allow this computer to debug it, for good", realAndroid, func(d *Device, _ string) {
		d.state.Debugging = "always"
	}},
	"allow-once": {"allow this computer to debug it, once", realAndroid, func(d *Device, _ string) {
		d.state.Debugging = "once"
	}},
	"answer-dialog": {"answer what is in front of apps", nil, func(d *Device, _ string) {
		d.stubborn, d.dialogs = "", nil
	}},
	"charge": {"charge it", onlyReal, func(d *Device, _ string) {
		d.state.Charge, d.state.Discharging = 90, false
	}},
	"developer-mode": {"switch developer mode on", onlyReal, func(d *Device, _ string) { d.state.Developer = "" }},
	"free-space":     {"make room on it", nil, func(d *Device, _ string) { d.state.FreeMB, d.full = 8192, false }},
	"mend":           {"end all troubles", nil, func(d *Device, _ string) { clear(d.troubles); clear(d.chances) }},
	"set-clock":      {"set its clock right", onlyReal, func(d *Device, _ string) { d.state.ClockOff = 0 }},
	"trust-computer": {"have it trust this computer", realApple, func(d *Device, _ string) {
		d.state.Distrusts = false
	}},
	"trust-developer": {"have it trust the developer of the app on it", realApple, func(d *Device, _ string) {
		d.trusts = true
	}},
	"unlock": {"unlock it, and take its code off", onlyReal, func(d *Device, _ string) { d.state.Code = false }},
	"unplug": {"pull its cable", onlyReal, func(d *Device, _ string) { d.state.Unplugged = true }},
	// debugging that is on and was never asked for asks now
	"plug-in": {"put its cable in", onlyReal, func(d *Device, _ string) {
		if d.state.Unplugged = false; d.state.Debugging == "never" && d.state.Developer != "off" {
			d.state.Debugging = "asked"
		}
	}},
	"remove-app": {"take an app off that stays on it: remove-app ID", nil, func(d *Device, id string) {
		d.state.Installed = slices.DeleteFunc(slices.Clone(d.state.Installed), func(i fleet.Installed) bool {
			return i.ID == id || id == ""
		})
	}},
}
