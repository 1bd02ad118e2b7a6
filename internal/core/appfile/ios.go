package appfile

import (
	"archive/zip"
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"

	"howett.net/plist"
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
}

func readSimulator(archive *zip.Reader, dir string, info *zip.File) (p *Package, err error) {
	data, err := readEntry(info, maxManifest)
	if err != nil {
		return nil, err
	}
	keys, err := decodePlist(data)
	if err != nil {
		return nil, refuse(hintDamaged, "%s cannot be read: %w", show(info.Name), err)
	}
	if len(keys.info.Platforms) > 0 && !slices.Contains(keys.info.Platforms, "iPhoneSimulator") || keys.info.SDK == "iphoneos" {
		return nil, refuse("build it for the simulator and zip the .app", "%s is built for %s, not for the simulator", show(strings.TrimSuffix(dir, "/")), strings.Join(append(keys.info.Platforms, keys.info.SDK), " "))
	}
	p = &Package{Kind: Simulator, Platform: "ios", Permissions: keys.uses, Program: findProgram(archive, dir+ProgramIOS)}
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
	} {
		if *f.into, err = text(f.what, f.value, 255); err != nil {
			return nil, err
		}
	}
	switch {
	case !bundleID.MatchString(p.ApplicationID):
		return nil, refuse("", "Info.plist states %s as CFBundleIdentifier, which no device would take", show(p.ApplicationID))
	case p.VersionName == "" && p.VersionCode == "":
		return nil, refuse("", "Info.plist states no version (CFBundleShortVersionString, CFBundleVersion)")
	case p.MinimumOS != "" && !osVersion.MatchString(p.MinimumOS):
		return nil, refuse("", "Info.plist states %s as MinimumOSVersion, which is no version", show(p.MinimumOS))
	}
	p.VersionName, p.VersionCode = first(p.VersionName, p.VersionCode), first(p.VersionCode, p.VersionName)
	return p, nil
}

type plistKeys struct {
	info infoPlist
	uses []string // NS…UsageDescription keys: what the app says it wants to use
}

// decodePlist reads an XML or binary property list. The decoder's panics on
// malformed input count as refusals too.
func decodePlist(data []byte) (keys plistKeys, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("malformed property list: %v", r)
		}
	}()
	if !bytes.HasPrefix(data, []byte("bplist0")) && !bytes.Contains(data[:min(len(data), 1024)], []byte("<plist")) {
		return keys, fmt.Errorf("it is neither an XML nor a binary property list")
	}
	if depth := bytes.Count(data, []byte("<array")) + bytes.Count(data, []byte("<dict")); depth > 100_000 {
		return keys, fmt.Errorf("it holds %d collections", depth)
	}
	if _, err = plist.Unmarshal(data, &keys.info); err != nil {
		return keys, err
	}
	all := map[string]any{}
	if _, err = plist.Unmarshal(data, &all); err != nil {
		return keys, err
	}
	keys.uses = []string{}
	for k := range all {
		if strings.HasPrefix(k, "NS") && strings.HasSuffix(k, "UsageDescription") && len(k) < 120 {
			keys.uses = append(keys.uses, k)
		}
	}
	slices.Sort(keys.uses)
	return keys, nil
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
