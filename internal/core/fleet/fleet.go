// Package fleet knows devices: what they are, what each can run, and why not.
// It computes over plain values and keeps nothing.
package fleet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/appfile"
)

// The kinds of device.
const (
	Emulator  = "emulator"
	Simulator = "simulator"
	Real      = "real"
)

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
}

// Combination names a class of device and what is varied on it.
type Combination struct {
	Kind     string `json:"kind"`
	Model    string `json:"model"`
	Platform string `json:"platform"`
	OS       string `json:"os"`
	Language string `json:"language"` // BCP 47
}

// Of gives the combination that d belongs to, in a language.
func Of(d Device, language string) Combination {
	return Combination{d.Kind, d.Model, d.Platform, d.OS, language}
}

// Matches reports whether d belongs to c.
func (c Combination) Matches(d Device) bool {
	return c.Kind == d.Kind && c.Model == d.Model && c.Platform == d.Platform && c.OS == d.OS
}

// Label is what people read: "Kaede 7, Android 14".
func (c Combination) Label() string {
	return fmt.Sprintf("%s, %s %s", c.Model, PlatformName(c.Platform), c.OS)
}

// PlatformName writes a platform as its makers do.
func PlatformName(platform string) string {
	switch platform {
	case "android":
		return "Android"
	case "ios":
		return "iOS"
	}
	return platform
}

// Reason says why something cannot be, and what would mend it.
type Reason struct {
	Why    string `json:"why"`
	Remedy string `json:"remedy"`
}

// Fit gives the position of the package in packages that fits d, or every
// reason why none does.
func Fit(packages []appfile.Package, d Device) (int, []Reason) {
	wanted, name, ok := packageFor(d)
	if !ok {
		return -1, []Reason{{fmt.Sprintf("no kind of package runs on a %s %s device yet", d.Kind, PlatformName(d.Platform)), "choose another device"}}
	}
	var reasons []Reason
	for i, p := range packages {
		if p.Kind != wanted {
			continue
		}
		if p.MinimumOS == "" || compareVersions(d.OS, p.MinimumOS) >= 0 {
			return i, nil
		}
		reasons = append(reasons, Reason{
			fmt.Sprintf("needs %s %s; %s has %s", PlatformName(d.Platform), p.MinimumOS, d.Model, d.OS),
			fmt.Sprintf("choose a device with %s %s or newer", PlatformName(d.Platform), p.MinimumOS),
		})
	}
	if len(reasons) == 0 {
		reasons = []Reason{{fmt.Sprintf("the build holds no %s, which %s (%s) needs", name, d.Model, d.Kind), "push the " + name + " of the same version to the build"}}
	}
	return -1, reasons
}

func packageFor(d Device) (appfile.Kind, string, bool) {
	switch {
	case d.Platform == "android":
		return appfile.Android, "Android package (.apk)", true
	case d.Platform == "ios" && d.Kind == Simulator:
		return appfile.Simulator, "iOS simulator app (zipped .app)", true
	}
	return "", "", false
}

// compareVersions orders dotted versions by their numbers: 9 < 10 < 10.1.
func compareVersions(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		if c := part(x, i) - part(y, i); c != 0 {
			return c
		}
	}
	return 0
}

func part(parts []string, i int) int {
	if i >= len(parts) {
		return 0
	}
	n, _ := strconv.Atoi(parts[i])
	return n
}

// Pick is one wish for devices, as a person writes it: a model, or a model with
// an OS version: "Kaede 7", "Kaede 7 Android 14", "Kaede 7 14".
type Pick string

// Takes reports whether d is meant by p.
func (p Pick) Takes(d Device) bool {
	want := strings.ToLower(strings.Join(strings.Fields(strings.ReplaceAll(string(p), ",", " ")), " "))
	model := strings.ToLower(d.Model)
	return slices.Contains([]string{
		model,
		model + " " + d.OS,
		model + " " + d.Platform + " " + d.OS,
	}, want)
}
