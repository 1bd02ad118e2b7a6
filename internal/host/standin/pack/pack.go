// Package pack makes packages of apps for stand-ins: an Android package with a binary
// manifest, resources and a signature, a zip for the iOS simulator, an .ipa with a
// provisioning profile, a web bundle. Packing the same app gives the same bytes.
package pack

import (
	"archive/zip"
	"bytes"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"howett.net/plist"

	"yamato/internal/core/appfile"
)

// Version is one version of an app.
type Version struct {
	Name string // 3.2.0
	Code int    // 61
}

// App is what a package is made of.
type App struct {
	ID          string
	Name        string
	Version     Version
	MinimumAPI  int
	MinimumIOS  string
	Permissions []string
	Requires    []string                     // features of hardware, as Android names them
	Tests       string                       // the app that it tests; "" where it is an app itself
	Families    []int                        // of devices, as Apple numbers them: 1 phones, 2 tablets; none for both
	Unsigned    bool                         // without signature, and without provisioning profile
	Program     []byte                       // nil for a package that no stand-in can start
	Texts       map[string]map[string]string // by key and language, "" for all; nil for no resource table
	Profile     time.Time                    // when its provisioning profile expires
	Devices     []string                     // hardware ids that its profile lists
	Maker       string                       // who signs it
	// names the key that signs it: the same name is the same key, and no secret
	Key   string
	Icon  func(side int) ([]byte, error) // a PNG; nil for the app's initial
	Extra map[string][]byte              // entries beside
	// Split is the part of an Android app that is split in several that this is: config.arm64_v8a, tickets,
	// tickets.config.de; "" for the base, and for an app that is one package.
	Split string
}

// Set makes one file of the Android packages that an app is split into, by their names there.
func Set(packages map[string][]byte) ([]byte, error) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, name := range slices.Sorted(maps.Keys(packages)) {
		f, err := w.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: packed})
		if err != nil {
			return nil, err
		}
		if _, err := f.Write(packages[name]); err != nil {
			return nil, err
		}
	}
	err := w.Close()
	return out.Bytes(), err
}

// packed is the time that all entries carry, so that packing is repeatable.
var packed = time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC)

// Android makes an Android package with a binary manifest; with texts, it has
// a resource table and an icon, and is signed.
func Android(a App) ([]byte, error) {
	entries := []entry{{"AndroidManifest.xml", manifest(a)}}
	if a.Program != nil {
		entries = append(entries, entry{appfile.ProgramAndroid, a.Program})
	}
	entries = append(entries, extra(a)...)
	if a.Texts == nil || a.Unsigned {
		return zipped(entries)
	}
	picture, err := a.icon(192)
	if err != nil {
		return nil, err
	}
	const iconEntry = "res/mipmap-xhdpi/icon.png"
	entries = append(entries, entry{"resources.arsc", resourceTable(a.ID, iconEntry, a.Texts)},
		entry{iconEntry, picture})
	data, err := zipped(entries)
	if err != nil {
		return nil, err
	}
	return signAndroid(a, data)
}

func extra(a App) []entry {
	var out []entry
	for _, name := range slices.Sorted(maps.Keys(a.Extra)) {
		out = append(out, entry{name, a.Extra[name]})
	}
	return out
}

// Simulator makes the zip of an iOS simulator app, with a binary Info.plist.
func Simulator(a App) ([]byte, error) {
	return ios(a, a.Name+".app/", "iPhoneSimulator", nil)
}

// Device makes an iOS device package, with a provisioning profile.
func Device(a App) ([]byte, error) {
	dir := "Payload/" + a.Name + ".app/"
	if a.Unsigned {
		return ios(a, dir, "iPhoneOS", nil)
	}
	p, err := profile(a)
	if err != nil {
		return nil, err
	}
	return ios(a, dir, "iPhoneOS", []entry{{dir + "embedded.mobileprovision", p}})
}

func ios(a App, dir, platform string, entries []entry) ([]byte, error) {
	families := a.Families
	if families == nil {
		families = []int{1, 2}
	}
	info, err := plist.Marshal(map[string]any{
		"CFBundleIdentifier": a.ID, "CFBundleName": a.Name, "CFBundleDisplayName": a.Name,
		"CFBundlePackageType": "APPL", "CFBundleShortVersionString": a.Version.Name,
		"CFBundleVersion":            strconv.Itoa(a.Version.Code),
		"CFBundleSupportedPlatforms": []string{platform}, "DTPlatformVersion": "18.2", "MinimumOSVersion": a.MinimumIOS,
		"UIDeviceFamily":                      families,
		"CFBundleIcons":                       map[string]any{"CFBundlePrimaryIcon": map[string]any{"CFBundleIconFiles": []string{"Icon60"}}},
		"NSLocationWhenInUseUsageDescription": "Shows what is near to you.",
	}, plist.BinaryFormat)
	if err != nil {
		return nil, err
	}
	picture, err := a.icon(120)
	if err != nil {
		return nil, err
	}
	entries = append(entries, entry{dir + "Info.plist", info}, entry{dir + "Icon60@2x.png", picture})
	for _, language := range append([]string{""}, languages(a)...) {
		table := a.in(language)
		if len(table) == 0 {
			continue
		}
		data, err := plist.Marshal(table, plist.BinaryFormat)
		if err != nil {
			return nil, err
		}
		folder := "Base"
		if language != "" {
			folder = language
		}
		entries = append(entries, entry{dir + folder + ".lproj/Localizable.strings", data})
	}
	if a.Program != nil {
		entries = append(entries, entry{dir + appfile.ProgramIOS, a.Program})
	}
	return zipped(append(entries, extra(a)...))
}

// languages are those that the app has texts in, beside those for all others.
func languages(a App) []string {
	var out []string
	for _, by := range a.Texts {
		for language := range by {
			if language != "" && !slices.Contains(out, language) {
				out = append(out, language)
			}
		}
	}
	slices.Sort(out)
	return out
}

// in gives the texts in one language by key, "" for those for all others.
func (a App) in(language string) map[string]string {
	out := map[string]string{}
	for key, by := range a.Texts {
		if text, ok := by[language]; ok {
			out[key] = text
		}
	}
	return out
}

type entry struct {
	name string
	data []byte
}

func zipped(entries []entry) ([]byte, error) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, e := range entries {
		method := zip.Deflate
		if e.name == "resources.arsc" { // since Android 11 it must not be packed
			method = zip.Store
		}
		f, err := w.CreateHeader(&zip.FileHeader{Name: e.name, Method: method, Modified: packed})
		if err != nil {
			return nil, err
		}
		if _, err := f.Write(e.data); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func manifest(a App) []byte {
	const ns = "http://schemas.android.com/apk/res/android"
	x := newXMLWriter(ns)
	outermost := []attribute{plainAttr("package", a.ID), intAttr("versionCode", 0x0101021b, a.Version.Code),
		textAttr("versionName", 0x0101021c, a.Version.Name)}
	if a.Split != "" {
		outermost = append(outermost, plainAttr("split", a.Split))
		if of, _, ok := strings.Cut(a.Split, ".config."); ok {
			outermost = append(outermost, plainAttr("configForSplit", of))
		}
	}
	x.start("manifest", outermost...)
	x.start("uses-sdk", intAttr("minSdkVersion", 0x0101020c, a.MinimumAPI), intAttr("targetSdkVersion", 0x01010270, 35))
	x.end("uses-sdk")
	for _, p := range a.Permissions {
		x.start("uses-permission", textAttr("name", 0x01010003, p))
		x.end("uses-permission")
	}
	for _, f := range a.Requires {
		x.start("uses-feature", textAttr("name", 0x01010003, f), boolAttr("required", 0x0101028e, true))
		x.end("uses-feature")
	}
	if a.Tests != "" {
		x.start("instrumentation", textAttr("name", 0x01010003, a.ID+".Tests"), textAttr("targetPackage", 0x01010021,
			a.Tests))
		x.end("instrumentation")
	}
	label := []attribute{textAttr("label", 0x01010001, a.Name)}
	if a.Split != "" {
		label = nil
	} else if a.Texts != nil && !a.Unsigned {
		label = []attribute{referenceAttr("label", 0x01010001, resourceLabel), referenceAttr("icon", 0x01010002,
			resourceIcon)}
	}
	x.start("application", label...)
	x.start("activity", textAttr("name", 0x01010003, a.ID+".Main"), boolAttr("exported", 0x01010010, true))
	x.start("intent-filter")
	x.start("action", textAttr("name", 0x01010003, "android.intent.action.MAIN"))
	x.end("action")
	x.start("category", textAttr("name", 0x01010003, "android.intent.category.LAUNCHER"))
	x.end("category")
	for _, open := range []string{"intent-filter", "activity", "application", "manifest"} {
		x.end(open)
	}
	return x.bytes()
}
