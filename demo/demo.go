// Package demo holds the sample project: the sources of the sample app
// Tideline, the packer that makes real packages of them, its suites, and the
// sites of the scenario. It is data and a packer; nothing else knows Tideline.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"strings"
	"time"
)

//go:embed tideline suites sites lineups
var files embed.FS

// ApplicationID is the sample app's, on every platform.
const ApplicationID = "example.tideline"

// Version is one version of the sample app.
type Version struct {
	Name string // 3.2.0
	Code int    // 61
}

// Versions are the builds of the sample app that are run in the demo, oldest first.
var Versions = []Version{{"3.1.4", 58}, {"3.2.0", 61}}

// Newest is handed in as well, and not run: it needs Android 14.
var Newest = Version{"3.2.1", 64}

// Counter is the other sample app: for the tablets at the ticket counters, by a
// team that is at its beginning. Nothing of it runs as it should yet, each build for
// reasons of its own.
const Counter = "example.tideline.counter"

// CounterVersions are the builds of the other sample app, oldest first.
var CounterVersions = []Version{{"0.9.0", 11}, {"0.9.1", 12}, {"0.9.2", 13}}

// CounterPackages packs what its team has handed in as a version of the other
// sample app.
func CounterPackages(v Version) ([]Package, error) {
	app := App{ID: Counter, Name: "Tideline Counter", Version: v, MinimumAPI: 34, MinimumIOS: "17.0", Families: []int{2},
		Permissions: []string{"android.permission.INTERNET", "android.permission.NFC"}, Texts: map[string]map[string]string{"app_name": {"": "Tideline Counter"}}}
	type part struct {
		file string
		pack func(App) ([]byte, error)
	}
	var parts []part
	switch v {
	case CounterVersions[0]: // nobody has thought of signing, nor of emulators
		app.Unsigned, app.Requires = true, []string{"android.hardware.nfc"}
		app.Extra = map[string][]byte{"lib/armeabi-v7a/libreader.so": []byte("\x7fELF, the card reader's")}
		parts = []part{{".apk", PackAndroid}, {".ipa", PackDevice}}
	case CounterVersions[1]: // the wrong file was taken: the tests, without their app
		app.Tests = Counter
		parts = []part{{"-test.apk", PackAndroid}, {"-simulator.zip", PackSimulator}}
	case CounterVersions[2]:
		parts = []part{{"-web.zip", PackWeb}}
	default:
		return nil, fmt.Errorf("there is no version %s of the other sample app", v.Name)
	}
	var out []Package
	for _, p := range parts {
		data, err := p.pack(app)
		if err != nil {
			return nil, fmt.Errorf("packing counter-%s%s: %w", v.Name, p.file, err)
		}
		out = append(out, Package{"counter-" + v.Name + p.file, data})
	}
	return out, nil
}

// Package is one package of the sample app, ready to be handed in.
type Package struct {
	File string // tideline-3.2.0.apk
	Data []byte
}

// Packages packs every package of a version. The same version always gives the
// same bytes.
func Packages(v Version) ([]Package, error) {
	source, err := Program(v)
	if err != nil {
		return nil, err
	}
	app := App{
		ID: ApplicationID, Name: "Tideline", Version: v, MinimumAPI: 30, MinimumIOS: "16.0", Program: source,
		Permissions: []string{"android.permission.INTERNET", "android.permission.POST_NOTIFICATIONS"},
		Texts: map[string]map[string]string{
			"app_name":  {"": "Tideline", "de-DE": "Tideline", "pt-PT": "Tideline"},
			"timetable": {"": "Timetable", "de-DE": "Fahrplan", "pt-PT": "Horário"},
			"tickets":   {"": "Tickets", "de-DE": "Fahrkarten", "pt-PT": "Bilhetes"},
		},
		Profile: time.Date(2027, 6, 1, 0, 0, 0, 0, time.UTC),
	}
	switch v {
	case Versions[0]: // its profile has run out since
		app.Profile = time.Date(2026, 9, 30, 0, 0, 0, 0, time.UTC)
	case Newest:
		app.MinimumAPI, app.Permissions = 34, append(app.Permissions, "android.permission.ACCESS_COARSE_LOCATION")
	}
	var out []Package
	for _, one := range []struct {
		file string
		pack func(App) ([]byte, error)
	}{{".apk", PackAndroid}, {"-simulator.zip", PackSimulator}, {".ipa", PackDevice}, {"-web.zip", PackWeb}} {
		data, err := one.pack(app)
		if err != nil {
			return nil, fmt.Errorf("packing tideline-%s%s: %w", v.Name, one.file, err)
		}
		out = append(out, Package{"tideline-" + v.Name + one.file, data})
	}
	return out, nil
}

// Program is the app's program: what all versions share, between the parts that
// are the version's own.
func Program(v Version) ([]byte, error) {
	var b strings.Builder
	fares, departures := v.Name, v.Name
	if v == Newest { // the fare is mended; the slow list is not
		fares, departures = Versions[0].Name, Versions[1].Name
	}
	for _, name := range []string{"words.js", fares + "/fares.js", departures + "/departures.js", "app.js"} {
		part, err := files.ReadFile("tideline/" + name)
		if err != nil {
			return nil, fmt.Errorf("there is no version %s of the sample app: %w", v.Name, err)
		}
		b.Write(part)
		b.WriteByte('\n')
	}
	return []byte(b.String()), nil
}

// Suites are the sample suites, by file name.
func Suites() (map[string]string, error) { return texts("suites") }

// Lineups are the sample lineups, by file name.
func Lineups() (map[string]string, error) { return texts("lineups") }

// Sites are the names of the scenario's sites.
var Sites = []string{"bench", "rack", "shelf"}

// Site is the description of one of the scenario's sites.
func Site(name string) ([]byte, error) { return files.ReadFile("sites/" + name + ".yaml") }

func texts(dir string) (map[string]string, error) {
	out := map[string]string{}
	entries, err := fs.ReadDir(files, dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		text, err := files.ReadFile(dir + "/" + e.Name())
		if err != nil {
			return nil, err
		}
		out[e.Name()] = string(text)
	}
	return out, nil
}
