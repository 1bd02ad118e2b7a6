// Package fleet knows devices: what they are, what each can run, and why not.
// It computes over plain values and keeps nothing.
package fleet

import (
	"regexp"
	"slices"
	"strings"

	"yamato/internal/core/remedy"
)

// The kinds of device.
const (
	Emulator  = "emulator"
	Simulator = "simulator"
	Real      = "real"
)

// Traits are what devices physically have.
var Traits = []string{"biometrics", "camera", "location", "motion", "nfc", "push", "telephony"}

// Device is what a host declares of a device.
type Device struct {
	Name      string   `json:"name"`
	Site      string   `json:"site"`
	Kind      string   `json:"kind"`     // emulator, simulator or real
	Platform  string   `json:"platform"` // android or ios
	Model     string   `json:"model"`
	Form      string   `json:"form"` // phone or tablet
	OS        string   `json:"os"`   // version, "14"
	Width     int      `json:"width"`
	Height    int      `json:"height"` // in density-independent pixels
	MemoryMB  int      `json:"memory_mb"`
	Traits    []string `json:"traits"`
	Abilities []string `json:"abilities"`

	ABI        string   `json:"abi,omitempty"`         // instruction set: arm64-v8a, x86_64; "" where it is not known
	HardwareID string   `json:"hardware_id,omitempty"` // what a provisioning profile lists
	Released   int      `json:"released,omitempty"`    // year in which the model came out
	Labels     []string `json:"labels,omitempty"`
	Owner      string   `json:"owner,omitempty"`      // whose it is; "" for the team's
	Use        Use      `json:"use,omitzero"`         // who may use it, and when
	TakesMB    int      `json:"takes_mb,omitempty"`   // memory that it takes of its host while it is up
	TakesCPUs  int      `json:"takes_cpus,omitempty"` // and processors
}

// Virtual tells whether the device can be made, emptied and halted.
func (d Device) Virtual() bool { return d.Kind == Emulator || d.Kind == Simulator }

// PlatformName writes a platform as its makers do.
func PlatformName(platform string) string {
	switch platform {
	case "android":
		return "Android"
	case "ios":
		return "iOS"
	case "web":
		return "web"
	}
	return platform
}

// Reason says why something cannot be, and what would mend it.
type Reason struct {
	Why    string        `json:"why"`
	Remedy remedy.Remedy `json:"remedy"`
}

func because(why, words string) Reason { return Reason{why, remedy.Plain(words)} }

// compareVersions orders dotted versions by their numbers: 9 < 10 < 10.1.
func compareVersions(a, b string) int {
	a, b = versionOf(a), versionOf(b)
	for a != "" || b != "" {
		var x, y int
		x, a = leading(a)
		y, b = leading(b)
		if x != y {
			return x - y
		}
	}
	return 0
}

// versionKey is the first numbers of a version, as many as devices' versions have.
type versionKey [4]int

func keyOfVersion(v string) (k versionKey) {
	v = versionOf(v)
	for i := range k {
		k[i], v = leading(v)
	}
	return k
}

func (k versionKey) compare(o versionKey) int { return slices.Compare(k[:], o[:]) }

// leading gives the first number of a dotted version and what follows its dot. A
// part that is no number counts as 0.
func leading(v string) (n int, rest string) {
	part, rest, _ := strings.Cut(v, ".")
	for i := range len(part) {
		c := part[i]
		if c < '0' || c > '9' || n > 1<<40 {
			return 0, rest
		}
		n = n*10 + int(c-'0')
	}
	return n, rest
}

// Pick is one wish for devices, as a person writes it: a model, or a model with
// an OS version, a kind or both: "Kaede 7", "Kaede 7 Android 14", "Kaede 7 14",
// "Kaede 7 Android 14 real", "Kaede 7 real"; all of a platform, an OS version or a kind: "android", "Android 14", "web
// emulator", "real"; or one device by its name, "kaede-7-1".
type Pick string

// Names reports whether p names d and no other.
func (p Pick) Names(d Device) bool { return strings.EqualFold(strings.TrimSpace(string(p)), d.Name) }

// Takes reports whether d is meant by p.
func (p Pick) Takes(d Device) bool {
	want := strings.ToLower(strings.Join(strings.Fields(strings.ReplaceAll(string(p), ",", " ")), " "))
	model := strings.ToLower(d.Model)
	return slices.Contains([]string{
		strings.ToLower(d.Name),
		model,
		model + " " + d.OS,
		model + " " + d.Platform + " " + d.OS,
		model + " " + d.Platform + " " + d.OS + " " + d.Kind,
		model + " " + d.Kind,
		d.Platform,
		d.Platform + " " + d.OS,
		d.Platform + " " + d.Kind,
		d.Platform + " " + d.OS + " " + d.Kind,
		d.Kind,
	}, want)
}

// IsName tells whether a device or a site may be called so.
func IsName(name string) bool { return deviceName.MatchString(name) }

var deviceName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
