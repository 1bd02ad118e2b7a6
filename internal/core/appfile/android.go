package appfile

import (
	"archive/zip"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// ProgramAndroid is the entry of an Android package that stand-ins run.
const ProgramAndroid = "assets/standin/app.js"

const manifestEntry = "AndroidManifest.xml"

// Resource ids of the attributes that are read (android.R.attr). Packers may
// leave the names out of the string pool, so the ids decide.
const (
	attrLabel         = 0x01010001
	attrIcon          = 0x01010002
	attrName          = 0x01010003
	attrDebuggable    = 0x0101000f
	attrTargetPackage = 0x01010021
	attrMinSDK        = 0x0101020c
	attrVersionCode   = 0x0101021b
	attrVersionName   = 0x0101021c
	attrTargetSDK     = 0x01010270
	attrRequired      = 0x0101028e
	attrCodeMajor     = 0x01010576
	attrSplitRequired = 0x01010591
)

// Types of an attribute's value (Res_value in the platform's ResourceTypes.h).
const (
	typeReference = 0x01
	typeString    = 0x03
	typeDynamic   = 0x07 // a reference into a shared library's table
	typeInt       = 0x10
	typeIntHex    = 0x11
)

// androidID is what the platform takes as an application id.
var androidID = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]*(\.[A-Za-z][A-Za-z0-9_]*)+$`)

// osOfAPI gives the OS version that came with an API level (source.android.com,
// "Codenames, tags, and build numbers").
var osOfAPI = map[int]string{
	19: "4.4", 20: "4.4", 21: "5.0", 22: "5.1", 23: "6", 24: "7.0", 25: "7.1", 26: "8.0", 27: "8.1",
	28: "9", 29: "10", 30: "11", 31: "12", 32: "12", 33: "13", 34: "14", 35: "15", 36: "16",
}

// OSOfAPI gives the Android version that came with an API level, "" for levels
// every device of today has.
func OSOfAPI(level int) string {
	if v, ok := osOfAPI[level]; ok {
		return v
	}
	if level < 19 {
		return ""
	}
	return strconv.Itoa(level - 20) // the pattern since API level 33
}

// hardware gives the trait that a required hardware feature of a manifest asks
// for. Features that every handset has are not told.
var hardware = map[string]string{
	"android.hardware.camera": "camera", "android.hardware.camera.any": "camera",
	"android.hardware.camera.front":         "camera",
	"android.hardware.sensor.accelerometer": "motion", "android.hardware.sensor.gyroscope": "motion",
	"android.hardware.location": "location", "android.hardware.location.gps": "location",
	"android.hardware.fingerprint": "biometrics", "android.hardware.biometrics.face": "biometrics",
	"android.hardware.nfc": "nfc", "android.hardware.telephony": "telephony",
}

// manifestReader gathers what a manifest says. Values that are references are
// looked up afterwards, in the resource table.
type manifestReader struct {
	p           *Package
	path        []string // names of the open elements
	major, code int64
	versionName uint32 // references, 0 where there are none
	label       uint32
	icon        uint32
	activity    string // the activity that is open
	main        bool   // its intent filter has the main action
	launcher    bool   // and the launcher category
	split       *Split // nil where it is to be the only one
}

func readAndroid(r io.ReaderAt, archive *zip.Reader, directory int64, manifest *zip.File) (*Package, error) {
	return readManifest(r, archive, directory, manifest, nil)
}

// readManifest reads a package; into is told which part of an app that is split it is, nil where there is to be no other.
func readManifest(r io.ReaderAt, archive *zip.Reader, directory int64, manifest *zip.File, into *Split) (*Package, error) {
	data, err := readEntry(manifest, maxManifest)
	if err != nil {
		return nil, err
	}
	if len(data) > 0 && data[0] == '<' {
		return nil, refuse("hand in the package that the packaging step wrote, not the project's folder",
			"AndroidManifest.xml is plain text; in a package it is binary XML")
	}
	if findEntry(archive, "resources.pb") != "" {
		return nil, refuse(hintSplit, "it is written in the format of app bundles, which no device installs")
	}
	m := manifestReader{p: &Package{Kind: Android, Platform: "android", Permissions: []string{},
		Program: findEntry(archive, ProgramAndroid)}, split: into}
	p := m.p
	if err := readBinaryXML(manifestEntry, data, m.visit); err != nil {
		return nil, err
	}
	if !androidID.MatchString(p.ApplicationID) {
		return nil, refuse("", "the manifest states %s as application id, which no device would take",
			show(p.ApplicationID))
	}
	if p.Instruments != "" {
		p.Kind = AndroidTest
	}
	p.VersionCode = strconv.FormatInt(m.major<<32|m.code, 10)
	if err := m.resolve(archive); err != nil {
		return nil, err
	}
	if p.VersionName == "" {
		p.VersionName = p.VersionCode
	}
	if strings.HasPrefix(p.Launch, ".") {
		p.Launch = p.ApplicationID + p.Launch
	} else if p.Launch != "" && !strings.Contains(p.Launch, ".") {
		p.Launch = p.ApplicationID + "." + p.Launch
	}
	for _, list := range []*[]string{&p.Permissions, &p.Needs} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	p.ABIs = abis(archive)
	if p.Signing, err = androidSigning(r, archive, directory); err != nil {
		return nil, err
	}
	return p, nil
}

// abis gives the instruction sets that the package brings native libraries for;
// none means that it runs on all.
func abis(archive *zip.Reader) []string {
	var out []string
	for _, f := range archive.File {
		parts := strings.Split(f.Name, "/")
		if len(parts) == 3 && parts[0] == "lib" && path.Ext(parts[2]) == ".so" && len(parts[1]) <= 40 &&
			!slices.Contains(out, parts[1]) && len(out) < 20 {
			out = append(out, parts[1])
		}
	}
	slices.Sort(out)
	return out
}

func (m *manifestReader) visit(e xmlEvent) error {
	if e.end {
		m.close()
		return nil
	}
	m.path = append(m.path, e.name)
	if len(m.path) == 1 {
		if e.name != "manifest" {
			return refuse(hintDamaged, "the manifest's outermost element is %s, not manifest", show(e.name))
		}
		return m.outermost(e)
	}
	switch strings.Join(m.path[1:], "/") {
	case "uses-sdk":
		return m.sdk(e)
	case "uses-permission", "uses-permission-sdk-23":
		return addName(&m.p.Permissions, "permission", e)
	case "uses-feature":
		if a, ok := e.attr(attrRequired); !ok || a.number != 0 {
			if a, ok := e.attr(attrName); ok && hardware[a.text] != "" && len(m.p.Needs) < 100 {
				m.p.Needs = append(m.p.Needs, hardware[a.text])
			}
		}
	case "instrumentation":
		if a, ok := e.attr(attrTargetPackage); ok {
			var err error
			m.p.Instruments, err = text("package that is instrumented", a.text, 255)
			return err
		}
	case "application":
		return m.ofApplication(e)
	case "application/activity", "application/activity-alias":
		m.activity = ""
		if a, ok := e.attr(attrName); ok {
			var err error
			m.activity, err = text("name of an activity", a.text, 255)
			return err
		}
	case "application/activity/intent-filter", "application/activity-alias/intent-filter":
		m.main, m.launcher = false, false
	case "application/activity/intent-filter/action", "application/activity-alias/intent-filter/action":
		a, _ := e.attr(attrName)
		m.main = m.main || a.text == "android.intent.action.MAIN"
	case "application/activity/intent-filter/category", "application/activity-alias/intent-filter/category":
		a, _ := e.attr(attrName)
		m.launcher = m.launcher || a.text == "android.intent.category.LAUNCHER"
	}
	return nil
}

// close is called at the end of an element; a filter that opens the app is complete then.
func (m *manifestReader) close() {
	if len(m.path) > 0 {
		if m.path[len(m.path)-1] == "intent-filter" && m.main && m.launcher && m.p.Launch == "" {
			m.p.Launch = m.activity
		}
		m.path = m.path[:len(m.path)-1]
	}
}

const hintSplit = "hand in all packages of the app in one zip (zip -0 app.zip *.apk), or make one for all devices (a " +
	"universal .apk)"

func (m *manifestReader) outermost(e xmlEvent) (err error) {
	for _, a := range e.attrs {
		switch {
		case a.resource == 0 && a.name == "package":
			m.p.ApplicationID, err = text("application id", a.text, 255)
		case a.resource == 0 && a.name == "split" && a.text != "" && m.split != nil:
			m.split.Name, err = text("name of a part", a.text, 255)
			m.split.qualified()
		case a.resource == 0 && a.name == "configForSplit" && m.split != nil:
			m.split.Of, err = text("name of a part", a.text, 255)
		case a.resource == 0 && a.name == "split" && a.text != "":
			return refuse(hintSplit, "it is one part (%s) of an app that is split in parts", show(a.text))
		case a.resource == attrVersionName && a.kind == typeReference:
			m.versionName = a.number
		case a.resource == attrVersionName:
			m.p.VersionName, err = text("version name", a.text, 100)
		case a.resource == attrVersionCode:
			m.code = int64(a.number)
		case a.resource == attrCodeMajor:
			m.major = int64(a.number)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (m *manifestReader) ofApplication(e xmlEvent) (err error) {
	if a, ok := e.attr(attrSplitRequired); ok && a.number != 0 && m.split == nil {
		return refuse(hintSplit, "it is the base of an app that is split in parts, and no device takes it "+
			"without the others")
	}
	if a, ok := e.attr(attrLabel); ok {
		if a.kind == typeReference {
			m.label = a.number
		} else if a.kind == typeString {
			m.p.Name, err = text("label", a.text, 255)
		}
	}
	if a, ok := e.attr(attrIcon); ok && a.kind == typeReference {
		m.icon = a.number
	}
	if a, ok := e.attr(attrDebuggable); ok {
		m.p.Debuggable = a.number != 0
	}
	return err
}

func addName(list *[]string, what string, e xmlEvent) error {
	a, ok := e.attr(attrName)
	if !ok {
		return nil
	}
	if len(*list) == 1000 {
		return refuse("", "the manifest asks for more than 1000 %ss", what)
	}
	name, err := text("name of a "+what, a.text, 255)
	*list = append(*list, name)
	return err
}

func (m *manifestReader) sdk(e xmlEvent) error {
	if a, ok := e.attr(attrMinSDK); ok {
		if a.kind == typeString {
			return refuse("", "the manifest asks for the unreleased OS %s", show(a.text))
		}
		if a.number > 0 && a.number <= 10000 {
			m.p.MinimumAPI = int(a.number)
			m.p.MinimumOS = OSOfAPI(m.p.MinimumAPI)
		}
	}
	if a, ok := e.attr(attrTargetSDK); ok && a.kind != typeString && a.number > 0 && a.number <= 10000 {
		m.p.TargetAPI = int(a.number)
		m.p.TargetOS = OSOfAPI(m.p.TargetAPI)
	}
	return nil
}

// resolve looks up, in the resource table, what the manifest refers to there,
// and takes the languages from it.
func (m *manifestReader) resolve(archive *zip.Reader) error {
	t, err := tableOf(archive)
	if err != nil || t == nil {
		return err
	}
	p := m.p
	if p.Languages, err = t.languages(); err != nil {
		return err
	}
	for _, f := range []struct {
		what  string
		id    uint32
		limit int
		into  *string
	}{{"label", m.label, 255, &p.Name}, {"version name", m.versionName, 100, &p.VersionName}} {
		if f.id == 0 {
			continue
		}
		value, err := t.text(f.id)
		if err != nil {
			return err
		}
		if *f.into, err = text(f.what, value, f.limit); err != nil {
			return err
		}
	}
	if m.icon != 0 {
		if p.Icon, err = t.picture(m.icon, archive); err == nil && p.Icon == "" {
			p.Icon, err = t.drawing(m.icon, archive)
		}
	}
	return err
}

// tableOf reads the compiled resource table of a package, nil where it has none.
func tableOf(archive *zip.Reader) (*table, error) {
	for _, f := range archive.File {
		if f.Name == tableEntry {
			data, err := readEntry(f, maxTable)
			if err != nil {
				return nil, err
			}
			return readTable(data)
		}
	}
	return nil, nil
}

func damagedIn(file string, at int, what string) error {
	return refuse(hintDamaged, "%s is damaged at byte %d: %s", file, at, fmt.Sprint(what))
}
