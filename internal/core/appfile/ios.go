package appfile

import (
	"archive/zip"
	"bytes"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"
)

// ProgramIOS is the entry below an iOS app's folder that stand-ins run.
const ProgramIOS = "standin/app.js"

// bundleID is what a CFBundleIdentifier may hold (Information Property List, CFBundleIdentifier).
var bundleID = regexp.MustCompile(`^[A-Za-z0-9.-]+$`)

// osVersion is what MinimumOSVersion holds.
var osVersion = regexp.MustCompile(`^[0-9]{1,3}(\.[0-9]{1,3}){0,2}$`)

type infoPlist struct {
	Identifier  string   `plist:"CFBundleIdentifier"`
	Name        string   `plist:"CFBundleName"`
	DisplayName string   `plist:"CFBundleDisplayName"`
	Short       string   `plist:"CFBundleShortVersionString"`
	Version     string   `plist:"CFBundleVersion"`
	MinimumOS   string   `plist:"MinimumOSVersion"`
	Platforms   []string `plist:"CFBundleSupportedPlatforms"`
	SDK         string   `plist:"DTPlatformName"`
	SDKVersion  string   `plist:"DTPlatformVersion"`
	Executable  string   `plist:"CFBundleExecutable"`
}

// forms are the values of UIDeviceFamily.
var forms = map[string]string{"1": "phone", "2": "tablet"}

// readIOS reads the .app in dir: of a device package, or zipped for the simulator.
func readIOS(archive *zip.Reader, kind Kind, dir string, info *zip.File) (p *Package, err error) {
	data, err := readEntry(info, maxManifest)
	if err != nil {
		return nil, err
	}
	keys, err := decodePlist(data)
	if err != nil {
		return nil, refuse(hintDamaged, "%s cannot be read: %w", show(info.Name), err)
	}
	p = &Package{Kind: kind, Platform: "ios", Permissions: keys.uses, Program: findEntry(archive, dir+ProgramIOS),
		Forms: keys.forms}
	for _, f := range []struct {
		what  string
		value string
		into  *string
	}{
		{"CFBundleIdentifier", keys.info.Identifier, &p.ApplicationID},
		{"CFBundleShortVersionString", keys.info.Short, &p.VersionName},
		{"CFBundleVersion", keys.info.Version, &p.VersionCode},
		{"CFBundleName", first(keys.info.DisplayName, keys.info.Name), &p.Name},
		{"MinimumOSVersion", keys.info.MinimumOS, &p.MinimumOS},
		{"DTPlatformVersion", keys.info.SDKVersion, &p.TargetOS},
	} {
		if *f.into, err = text(f.what, f.value, 255); err != nil {
			return nil, err
		}
	}
	switch {
	case !bundleID.MatchString(p.ApplicationID):
		return nil, refuse("", "Info.plist states %s as CFBundleIdentifier, which no device would take",
			show(p.ApplicationID))
	case p.VersionName == "" && p.VersionCode == "":
		return nil, refuse("", "Info.plist states no version (CFBundleShortVersionString, CFBundleVersion)")
	case p.MinimumOS != "" && !osVersion.MatchString(p.MinimumOS):
		return nil, refuse("", "Info.plist states %s as MinimumOSVersion, which is no version", show(p.MinimumOS))
	}
	p.VersionName, p.VersionCode = first(p.VersionName, p.VersionCode), first(p.VersionCode, p.VersionName)
	if err := p.builtFor(archive, dir, keys.info); err != nil {
		return nil, err
	}
	p.Languages, p.Icon = iosLanguages(archive, dir), iosIcon(archive, dir, keys.icons)
	if kind != IOSDevice {
		return p, nil
	}
	for _, f := range archive.File {
		if f.Name == dir+profileName {
			p.Profile, p.Signing, err = readProfile(f)
			return p, err
		}
	}
	return p, nil
}

// builtFor checks that an app is built for where its kind of package runs: by
// what Info.plist says, and by the executable itself where it is there.
func (p *Package) builtFor(archive *zip.Reader, dir string, info infoPlist) error {
	app := show(strings.TrimSuffix(path.Base(dir), "/"))
	says := strings.TrimSpace(strings.Join(append(slices.Clone(info.Platforms), info.SDK), " "))
	simulator := p.Kind == Simulator
	switch {
	case simulator && (len(info.Platforms) > 0 && !slices.Contains(info.Platforms, "iPhoneSimulator") ||
		info.SDK == "iphoneos"):
		return refuse("build it for the simulator and zip the .app", "%s is built for %s, not for the simulator", app,
			says)
	case !simulator && (slices.Contains(info.Platforms, "iPhoneSimulator") || info.SDK == "iphonesimulator"):
		return refuse("archive it for devices and sign it, or zip the .app by itself for the simulator",
			"%s is built for %s, not for real devices", app, says)
	}
	for _, f := range archive.File {
		if info.Executable == "" || f.Name != dir+info.Executable {
			continue
		}
		e, err := readExecutable(f)
		if err != nil {
			return refuse(hintDamaged, "%s cannot be read: %w", show(f.Name), err)
		}
		p.ABIs = e.abis
		switch {
		case simulator && e.platform == platformIOS:
			return refuse("build it for the simulator and zip the .app",
				"the program of %s is built for real devices, not for the simulator", app)
		case !simulator && e.platform == platformSim:
			return refuse("archive it for devices and sign it",
				"the program of %s is built for the simulator, not for real devices", app)
		}
	}
	return nil
}

func iosLanguages(archive *zip.Reader, dir string) []string {
	seen := map[string]bool{}
	for _, f := range archive.File {
		rest, ok := strings.CutPrefix(f.Name, dir)
		folder, _, below := strings.Cut(rest, "/")
		language, is := strings.CutSuffix(folder, ".lproj")
		if ok && below && is && language != "Base" && len(language) < 36 &&
			isWord(strings.NewReplacer("-", "", "_", "").Replace(language)) && len(seen) < 200 {
			seen[strings.ReplaceAll(language, "_", "-")] = true
		}
	}
	return sorted(seen)
}

// iosIcon gives the entry of the largest icon that Info.plist names.
func iosIcon(archive *zip.Reader, dir string, names []string) string {
	best := ""
	var largest uint64
	for _, f := range archive.File {
		rest, ok := strings.CutPrefix(f.Name, dir)
		if !ok || path.Ext(rest) != ".png" || strings.Contains(rest, "/") {
			continue
		}
		for _, n := range names {
			if strings.HasPrefix(rest, strings.TrimSuffix(n, ".png")) && f.UncompressedSize64 > largest {
				best, largest = f.Name, f.UncompressedSize64
			}
		}
	}
	return best
}

type plistKeys struct {
	info  infoPlist
	uses  []string // NS…UsageDescription keys: what the app says it wants to use
	forms []string
	icons []string // base names of the icon's files
}

// plausibleList tells whether data may be a property list of sane size.
func plausibleList(data []byte) error {
	if !bytes.HasPrefix(data, []byte("bplist0")) && !bytes.Contains(data[:min(len(data), 1024)], []byte("<plist")) {
		return fmt.Errorf("it is neither an XML nor a binary property list")
	}
	if depth := bytes.Count(data, []byte("<array")) + bytes.Count(data, []byte("<dict")); depth > 100_000 {
		return fmt.Errorf("it holds %d collections", depth)
	}
	return nil
}

// decodePlist reads what is of interest in an Info.plist.
func decodePlist(data []byte) (keys plistKeys, err error) {
	if err := decodeList(data, &keys.info); err != nil {
		return keys, err
	}
	all := map[string]any{}
	if err := decodeList(data, &all); err != nil {
		return keys, err
	}
	keys.uses = []string{}
	for k := range all {
		if strings.HasPrefix(k, "NS") && strings.HasSuffix(k, "UsageDescription") && len(k) < 120 {
			keys.uses = append(keys.uses, k)
		}
	}
	slices.Sort(keys.uses)
	if families, ok := all["UIDeviceFamily"].([]any); ok {
		for _, f := range families[:min(len(families), 20)] {
			if form := forms[fmt.Sprint(f)]; form != "" && !slices.Contains(keys.forms, form) {
				keys.forms = append(keys.forms, form)
			}
		}
	}
	for _, list := range iconLists(all) {
		for _, f := range list[:min(len(list), 20)] {
			if name, ok := f.(string); ok && name != "" && len(name) < 100 {
				keys.icons = append(keys.icons, name)
			}
		}
	}
	return keys, nil
}

// iconLists gives the lists of icon files that an Info.plist may hold: for phones, for
// tablets, and as they were written before there were either.
func iconLists(all map[string]any) (lists [][]any) {
	for _, key := range []string{"CFBundleIcons", "CFBundleIcons~ipad"} {
		icons, _ := all[key].(map[string]any)
		primary, _ := icons["CFBundlePrimaryIcon"].(map[string]any)
		files, _ := primary["CFBundleIconFiles"].([]any)
		lists = append(lists, files)
	}
	files, _ := all["CFBundleIconFiles"].([]any)
	return append(lists, files, []any{all["CFBundleIconFile"]})
}

func first(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

func decodeUTF16(units []uint16) string { return string(utf16.Decode(units)) }
