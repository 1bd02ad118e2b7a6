// Package demo holds the sample project: the sources of the sample app
// Tideline, the packer that makes real packages of them, its suites, and the
// sites of the scenario. It is data and a packer; nothing else knows Tideline.
package demo

import (
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"yamato/internal/host/standin/pack"
)

//go:embed tideline suites sites lineups plans
var files embed.FS

// ApplicationID is the sample app's, on every platform.
const ApplicationID = "example.tideline"

// What packages of the sample are made of, and by; they are apps for stand-ins.
type (
	// Version is one version of an app.
	Version = pack.Version
	// App is what a package is made of.
	App = pack.App
)

// The packers of each kind of package.
var (
	PackAndroid   = ours(pack.Android)
	PackSimulator = ours(pack.Simulator)
	PackDevice    = ours(pack.Device)
	PackWeb       = ours(pack.Web)
)

// ours has the Sorane Line sign what is packed.
func ours(packed func(App) ([]byte, error)) func(App) ([]byte, error) {
	return func(a App) ([]byte, error) {
		a.Maker, a.Key, a.Icon, a.Devices = "Sorane Line", "the Sorane Line's key for the sample app", icon, PhoneIDs
		return packed(a)
	}
}

// PhoneIDs are the ids of the iOS phones that the sample's profile lists.
var PhoneIDs = []string{"00008120-000A4C1E0B22C01E"}

// Versions are the builds of the sample app that are run in the demo, oldest first.
var Versions = []Version{{Name: "3.1.4", Code: 58}, {Name: "3.2.0", Code: 61}}

// Secrets and Accounts are what the sample suites want of their project; all of it is made up.
var (
	Secrets  = map[string]string{"harbour word": "evening-tide"}
	Accounts = []Account{{"traveller", "aya@sorane.example", "kujira-7711"}, {"traveller", "bo@sorane.example",
		"minami-2240"},
		{"traveller", "ines@sorane.example", "haruka-9035"}}
)

// Account is a test account of the sample project.
type Account struct{ Name, User, Password string }

// Newest is handed in as well, and not run: it needs Android 14.
var Newest = Version{Name: "3.2.1", Code: 64}

// Counter is the other sample app: for the tablets at the ticket counters, by a
// team that is at its beginning. Nothing of it runs as it should yet, each build for
// reasons of its own.
const Counter = "example.tideline.counter"

// CounterVersions are the builds of the other sample app, oldest first.
var CounterVersions = []Version{{Name: "0.9.0", Code: 11}, {Name: "0.9.1", Code: 12}, {Name: "0.9.2", Code: 13}}

// CounterPackages packs what its team has handed in as a version of the other
// sample app.
func CounterPackages(v Version) ([]Package, error) {
	app := App{ID: Counter, Name: "Tideline Counter", Version: v, MinimumAPI: 34, MinimumIOS: "17.0",
		Families:    []int{2},
		Permissions: []string{"android.permission.INTERNET", "android.permission.NFC"},
		Texts:       map[string]map[string]string{"app_name": {"": "Tideline Counter"}}}
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

// Packages packs every package of a version. Provisioning profiles expire, so that the day
// matters: within a month the same version gives the same bytes.
func Packages(v Version, day time.Time) ([]Package, error) {
	source, err := Program(v)
	if err != nil {
		return nil, err
	}
	said, err := saidTexts()
	if err != nil {
		return nil, err
	}
	app := App{
		ID: ApplicationID, Name: "Tideline", Version: v, MinimumAPI: 30, MinimumIOS: "16.0", Program: source,
		Permissions: []string{"android.permission.INTERNET", "android.permission.POST_NOTIFICATIONS",
			"android.permission.ACCESS_COARSE_LOCATION"},
		Texts:   said,
		Profile: month(day, 13),
	}
	switch v {
	case Versions[0]: // its profile has run out since
		app.Profile = month(day, -1)
	case Newest:
		app.MinimumAPI, app.Permissions = 34, append(app.Permissions, "android.permission.ACCESS_FINE_LOCATION")
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

// saidTexts are the app's texts by key and language; the English ones are for all others, too.
func saidTexts() (map[string]map[string]string, error) {
	data, err := files.ReadFile("tideline/words.json")
	if err != nil {
		return nil, err
	}
	var words map[string]map[string]string
	if err := json.Unmarshal(data, &words); err != nil {
		return nil, fmt.Errorf("reading the words of the sample app: %w", err)
	}
	out := map[string]map[string]string{"app_name": {"": "Tideline"}}
	for language, by := range words {
		for key, text := range by {
			if out[key] == nil {
				out[key] = map[string]string{}
			}
			if language == "en-GB" {
				language = ""
			}
			out[key][language] = text
		}
	}
	return out, nil
}

// month is the first day of a month so many after a day's.
func month(day time.Time, after int) time.Time {
	return time.Date(day.UTC().Year(), day.UTC().Month()+time.Month(after), 1, 0, 0, 0, 0, time.UTC)
}

// Program is the app's program: what all versions share, between the parts that
// are the version's own.
func Program(v Version) ([]byte, error) {
	var b strings.Builder
	words, err := files.ReadFile("tideline/words.json")
	if err != nil {
		return nil, err
	}
	b.WriteString("const words = " + strings.TrimSpace(string(words)) + ";\n")
	mended, left := v.Name, v.Name
	if v == Newest { // the fare, the crash and the overlap are mended; the slow list and the lost wallet are not
		mended, left = Versions[0].Name, Versions[1].Name
	}
	for _, name := range []string{"words.js", mended + "/fares.js", left + "/departures.js", mended + "/map.js",
		left + "/wallet.js", mended + "/lines.js", "app.js"} {
		part, err := files.ReadFile("tideline/" + name)
		if err != nil {
			return nil, fmt.Errorf("there is no version %s of the sample app: %w", v.Name, err)
		}
		b.Write(part)
		b.WriteByte('\n')
	}
	return []byte(b.String()), nil
}

// Suites are the sample suites and the files that they use, by their paths from the folder on.
func Suites() (map[string]string, error) { return texts("suites") }

// Lineups are the sample lineups, by file name.
func Lineups() (map[string]string, error) { return texts("lineups") }

// Plans are the sample plans, by file name; a matrix beside them needs no service.
func Plans() (map[string]string, error) { return texts("plans") }

// Where the sample runs go: devices whose clocks leap, in the runs of every case, and those that keep the wall's, in a run
// of the cases that tell something on them.
var (
	NativePlatforms = []string{"android", "ios"}
	WebPlatforms    = []string{"web"}
	HandsetTags     = []string{"fares", "location"}
)

// Pairs is the plan that finds what shows in a few combinations only.
const Pairs = "Tideline in every pair"

// Sites are the names of the scenario's sites.
var Sites = []string{"bench", "rack", "shelf", Desk, Cable}

// Desk is the site that needs a browser on the machine, and Cable the one that needs Android's debug bridge.
const (
	Desk  = "desk"
	Cable = "cable"
)

// Bench is the lineup of all that is simulated, and CableTags are those of the cases that are run on a cable.
const Bench = "the test bench"

var CableTags = []string{"fares"}

// Phone is one of the phones that ship, as it is plugged in at the site Cable.
type Phone struct{ Serial, Model, OS string }

// Phones are those on a cable.
var Phones = []Phone{{"KAEDE7C1", "Kaede 7", "15"}, {"KAEDEMINIC1", "Kaede Mini", "15"}}

// Emulator is how the OS's image tools would describe the emulator at the site Cable: the name of its folder, and what
// its config.ini says.
func Emulator() (name, config string) {
	return "Kaede_7_API_35", `avd.ini.displayname=Kaede 7
hw.lcd.width=816
hw.lcd.height=1792
hw.lcd.density=320
hw.ramSize=4096
hw.cpu.ncore=1
abi.type=x86_64
image.sysdir.1=system-images/android-35/default/x86_64/
`
}

// Here is what a site of the scenario wants to know of the machine that it is on.
type Here struct {
	Program string   // this one's path
	Phones  []string // where the phones on a cable are
	Lacks   []string // engines of browsers that are not installed
}

// Site is the description of one of the scenario's sites.
func Site(name string, here Here) ([]byte, error) {
	text, err := files.ReadFile("sites/" + name + ".yaml")
	if err != nil {
		return nil, err
	}
	if name == Desk {
		lines := slices.DeleteFunc(strings.SplitAfter(string(text), "\n"), func(line string) bool {
			return slices.ContainsFunc(here.Lacks, func(engine string) bool { return strings.Contains(line, "engine: "+engine+"}") })
		})
		return []byte(strings.Join(lines, "")), nil
	}
	if name != Cable {
		return text, nil
	}
	quoted := func(words ...string) string { // JSON is YAML
		list, _ := json.Marshal(words)
		return strings.Trim(string(list), "[]")
	}
	return []byte(strings.NewReplacer("PROGRAM", quoted(here.Program), "PHONES", quoted(here.Phones...)).Replace(string(text))), nil
}

func texts(dir string) (map[string]string, error) {
	out := map[string]string{}
	err := fs.WalkDir(files, dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := files.ReadFile(path)
		out[strings.TrimPrefix(path, dir+"/")] = string(text)
		return err
	})
	return out, err
}
