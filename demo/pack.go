package demo

import (
	"archive/zip"
	"bytes"
	"strconv"
	"time"

	"howett.net/plist"

	"yamato/internal/core/appfile"
)

// App is what a package is made of.
type App struct {
	ID          string
	Name        string
	Version     Version
	MinimumAPI  int
	MinimumIOS  string
	Permissions []string
	Program     []byte // nil for a package that no stand-in can start
}

// packed is the time that all entries carry, so that packing is repeatable.
var packed = time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC)

// PackAndroid makes an Android package with a binary manifest.
func PackAndroid(a App) ([]byte, error) {
	entries := []entry{{"AndroidManifest.xml", manifest(a)}}
	if a.Program != nil {
		entries = append(entries, entry{appfile.ProgramAndroid, a.Program})
	}
	return zipped(entries)
}

// PackSimulator makes the zip of an iOS simulator app, with a binary Info.plist.
func PackSimulator(a App) ([]byte, error) {
	info, err := plist.Marshal(map[string]any{
		"CFBundleIdentifier": a.ID, "CFBundleName": a.Name, "CFBundleDisplayName": a.Name, "CFBundleExecutable": a.Name,
		"CFBundlePackageType": "APPL", "CFBundleShortVersionString": a.Version.Name, "CFBundleVersion": strconv.Itoa(a.Version.Code),
		"CFBundleSupportedPlatforms": []string{"iPhoneSimulator"}, "MinimumOSVersion": a.MinimumIOS, "UIDeviceFamily": []int{1, 2},
		"NSLocationWhenInUseUsageDescription": "Shows the quay nearest to you.",
	}, plist.BinaryFormat)
	if err != nil {
		return nil, err
	}
	dir := a.Name + ".app/"
	entries := []entry{{dir + "Info.plist", info}}
	if a.Program != nil {
		entries = append(entries, entry{dir + appfile.ProgramIOS, a.Program})
	}
	return zipped(entries)
}

type entry struct {
	name string
	data []byte
}

func zipped(entries []entry) ([]byte, error) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, e := range entries {
		f, err := w.CreateHeader(&zip.FileHeader{Name: e.name, Method: zip.Deflate, Modified: packed})
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
	x.start("manifest",
		plainAttr("package", a.ID), intAttr("versionCode", 0x0101021b, a.Version.Code), textAttr("versionName", 0x0101021c, a.Version.Name))
	x.start("uses-sdk", intAttr("minSdkVersion", 0x0101020c, a.MinimumAPI), intAttr("targetSdkVersion", 0x01010270, 35))
	x.end("uses-sdk")
	for _, p := range a.Permissions {
		x.start("uses-permission", textAttr("name", 0x01010003, p))
		x.end("uses-permission")
	}
	x.start("application", textAttr("label", 0x01010001, a.Name))
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
