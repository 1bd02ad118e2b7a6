// Package appfile reads what a package says of itself, from its bytes: what it
// is for, its application id, its version, and what it needs of a device.
//
// A package is untrusted. It is read in place, never unpacked; every length in
// it is checked against what is really there; what one entry may take is
// bounded. What cannot be read is refused with a *Refusal that says why.
package appfile

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"yamato/internal/core/plain"
)

// Kind is what sort of package a file is.
type Kind string

// The kinds of package that can be read.
const (
	Android     Kind = "android_package" // .apk
	AndroidTest Kind = "android_test"    // .apk that instruments another
	IOSDevice   Kind = "ios_device"      // .ipa
	Simulator   Kind = "ios_simulator"   // a zip with one .app for the iOS simulator
	Web         Kind = "web_bundle"      // a zip with a W3C web app manifest
)

// KindName writes a kind of package for people.
func KindName(k Kind) string {
	if name := kindNames[k]; name != "" {
		return name
	}
	return string(k)
}

var kindNames = map[Kind]string{Android: "Android package", AndroidTest: "Android test package",
	IOSDevice: "iOS device package", Simulator: "iOS simulator app", Web: "web bundle"}

// Bounds on what is read of a package.
const (
	maxManifest  = 4 << 20  // bytes of a manifest or property list, unpacked
	maxProgram   = 4 << 20  // bytes of the program for stand-ins, unpacked
	maxIcon      = 1 << 20  // bytes of an icon, unpacked
	maxDirectory = 16 << 20 // bytes of a zip's central directory
)

// Package is what a package says of itself. Empty values are not stated.
type Package struct {
	Kind          Kind     `json:"kind"`
	Platform      string   `json:"platform"`       // android, ios or web
	ApplicationID string   `json:"application_id"` // package name, bundle identifier, or id of a web app
	Name          string   `json:"name,omitempty"` // as shown below the icon
	VersionName   string   `json:"version_name"`   // for people: 3.2.0
	VersionCode   string   `json:"version_code"`   // for machines: 61
	MinimumOS     string   `json:"minimum_os"`     // OS version, "13"
	MinimumAPI    int      `json:"minimum_api,omitempty"`
	TargetOS      string   `json:"target_os,omitempty"` // what it was built against
	TargetAPI     int      `json:"target_api,omitempty"`
	ABIs          []string `json:"abis,omitempty"`        // instruction sets of its native code; none: runs on all
	Launch        string   `json:"launch,omitempty"`      // activity, or page, that it starts with
	Instruments   string   `json:"instruments,omitempty"` // application id that a test package instruments
	Debuggable    bool     `json:"debuggable,omitempty"`
	Permissions   []string `json:"permissions"`
	Needs         []string `json:"needs,omitempty"` // traits without which it says it cannot run
	Forms         []string `json:"forms,omitempty"` // phone, tablet; none: all
	Languages     []string `json:"languages,omitempty"`
	Rotation      string   `json:"rotation,omitempty"` // of a web app, as its manifest has it
	Icon          string   `json:"icon,omitempty"`     // name of the entry with its icon
	Signing       *Signing `json:"signing,omitempty"`
	Profile       *Profile `json:"profile,omitempty"`
	Parts         []Part   `json:"parts,omitempty"`
	Splits        []Split  `json:"splits,omitempty"`  // the packages that it is split into, where it is
	Program       string   `json:"program,omitempty"` // name of the entry that stand-ins run, "" if none
	Lacks         []string `json:"lacks,omitempty"`   // what it should have, and what stands in for that
}

// Part is a share of a package's size.
type Part struct {
	Name string `json:"name"` // code, native code, resources, assets, other
	Size int64  `json:"size"` // bytes in the package, packed as there
}

// Refusal says why a file is not taken as a package.
type Refusal struct {
	Reason string // what is wrong, and where
	Hint   string // what to do instead
	Cause  error
}

func (r *Refusal) Error() string { return r.Reason }
func (r *Refusal) Unwrap() error { return r.Cause }

func refuse(hint, format string, args ...any) *Refusal {
	err := fmt.Errorf(format, args...)
	return &Refusal{Reason: err.Error(), Hint: hint, Cause: errors.Unwrap(err)}
}

const (
	hintKinds = "hand in an Android package (.apk), an iOS device package (.ipa), a zip with one iOS simulator " +
		".app, or a zipped web bundle"
	hintDamaged = "the file may be damaged or cut short: build it, or copy it, again"
)

// Read reads the package in r, which is size bytes long.
func Read(r io.ReaderAt, size int64) (*Package, error) {
	archive, directory, err := openZip(r, size)
	if err != nil {
		return nil, err
	}
	p, err := readKind(r, size, archive, directory)
	if err != nil {
		return nil, err
	}
	if p.Splits == nil {
		p.Parts = parts(archive)
	}
	return p, nil
}

// readKind tells what kind of package it is by what it holds, and reads it.
func readKind(r io.ReaderAt, size int64, archive *zip.Reader, directory int64) (*Package, error) {
	var manifest, web *zip.File
	bundles, payloads := map[string]*zip.File{}, map[string]*zip.File{}
	for _, f := range archive.File {
		dir, base := path.Split(f.Name)
		depth := strings.Count(dir, "/")
		switch {
		case f.Name == "AndroidManifest.xml":
			if manifest != nil {
				return nil, refuse(hintDamaged,
					"the package holds two manifests; which one a device would read is anybody's guess")
			}
			manifest = f
		case base == "Info.plist" && strings.HasSuffix(dir, ".app/") && depth <= 2 &&
			!strings.HasPrefix(dir, "__MACOSX/"):
			into := bundles // by itself, or in the folder that was zipped
			if depth == 2 && strings.HasPrefix(dir, "Payload/") {
				into = payloads
			}
			if into[dir] != nil {
				return nil, refuse(hintDamaged,
					"%s stands twice in the package; a device would read either", show(f.Name))
			}
			into[dir] = f
		case web == nil && depth <= 1 && isWebManifest(archive, dir, base):
			web = f
		}
	}
	apps := len(bundles) + len(payloads)
	switch {
	case manifest != nil && apps > 0:
		return nil, refuse(hintKinds, "the file holds both an Android manifest and an iOS app")
	case manifest != nil:
		return readAndroid(r, archive, directory, manifest)
	case apps > 1:
		return nil, refuse("zip one .app by itself", "the zip holds %d apps where one is needed", apps)
	}
	for dir, f := range bundles {
		return readIOS(archive, Simulator, dir, f)
	}
	for dir, f := range payloads {
		return readIOS(archive, IOSDevice, dir, f)
	}
	if web != nil {
		return readWeb(archive, web)
	}
	if s, err := setIn(r, size, archive); err != nil || s != nil {
		if err != nil {
			return nil, err
		}
		return s.whole(), nil
	}
	if page := startPage(archive); page != nil {
		return readPage(archive, page)
	}
	return nil, unknown(archive)
}

// unknown refuses a zip that is no package, with a word about what it seems to be.
func unknown(archive *zip.Reader) error {
	inner, android := 0, false
	for _, f := range archive.File {
		switch {
		case f.Name == "classes.dex" || f.Name == "resources.arsc":
			android = true
		case f.Name == "BundleConfig.pb":
			return refuse("make a package for all devices of it (a universal .apk) and hand that in",
				"the file is an Android app bundle, which no device installs")
		case strings.Contains(f.Name, ".xcarchive/") || strings.HasPrefix(f.Name, "Products/Applications/"):
			return refuse("export an .ipa from it and hand that in, or zip the .app of a build for the simulator",
				"the file is an archive of a build, which no device installs")
		case strings.Contains(f.Name, ".dSYM/"):
			return refuse(hintKinds, "the file holds symbols for debugging, and no app")
		case path.Ext(f.Name) == ".apk" || path.Ext(f.Name) == ".ipa":
			inner++
		}
	}
	if inner > 0 {
		return refuse("hand in the package itself; of an app that is split in several, all of them in one zip",
			"the zip holds %d packages instead of being one", inner)
	}
	if android {
		return refuse("build the package anew; without it the app installs nowhere",
			"the file looks like an Android package, but holds no AndroidManifest.xml")
	}
	return refuse(hintKinds, "the zip holds neither an AndroidManifest.xml, nor an .app with an Info.plist, nor a "+
		"web app manifest or an index.html")
}

// parts sums up what takes how much of a package.
func parts(archive *zip.Reader) []Part {
	sums := map[string]int64{}
	for _, f := range archive.File {
		sums[partOf(f.Name)] += int64(min(f.CompressedSize64, 1<<50))
	}
	var out []Part
	for _, name := range []string{"code", "native code", "resources", "assets", "other"} {
		if sums[name] > 0 {
			out = append(out, Part{name, sums[name]})
		}
	}
	return out
}

func partOf(name string) string {
	switch ext := path.Ext(name); {
	case ext == ".dex" || ext == ".js" || ext == ".wasm":
		return "code"
	case ext == ".so" || ext == ".dylib" || strings.Contains(name, ".framework/"):
		return "native code"
	case strings.HasPrefix(name, "assets/"):
		return "assets"
	case strings.HasPrefix(name, "res/") || ext == ".arsc" || ext == ".car" || ext == ".png" || ext == ".strings" ||
		ext == ".nib":
		return "resources"
	}
	return "other"
}

// ReadProgram gives the program for stand-ins that p names, from the same bytes.
func (p *Package) ReadProgram(r io.ReaderAt, size int64) ([]byte, error) {
	archive, _, err := openApp(r, size)
	if err != nil {
		return nil, err
	}
	return entryOf(archive, p.Program, maxProgram, "program for stand-ins")
}

// openZip opens the zip and tells where its central directory starts. It checks the size of the
// central directory before archive/zip reads it, since that keeps an entry in memory for every
// record it meets.
func openZip(r io.ReaderAt, size int64) (*zip.Reader, int64, error) {
	if size < 22 {
		return nil, 0, refuse(hintKinds, "the file is %d bytes long: too short to be a package", size)
	}
	var magic [4]byte
	if _, err := r.ReadAt(magic[:], 0); err != nil {
		return nil, 0, refuse(hintDamaged, "the file cannot be read: %w", err)
	}
	if magic[0] != 'P' || magic[1] != 'K' {
		return nil, 0, refuse(hintKinds, "the file is not a zip archive, as every kind of package is")
	}
	end, start, err := directory(r, size)
	if err != nil {
		return nil, 0, err
	}
	if end-start > maxDirectory {
		return nil, 0, refuse(hintKinds, "the zip's list of entries takes %d MB; at most %d MB are read",
			(end-start)>>20, maxDirectory>>20)
	}
	archive, err := zip.NewReader(r, size)
	if err != nil {
		return nil, 0, refuse(hintDamaged, "the zip's list of entries cannot be read: %w", err)
	}
	return archive, start, nil
}

// directory finds where the central directory starts and where the record that
// ends it stands (APPNOTE 6.3.10, 4.3.12 to 4.3.16).
func directory(r io.ReaderAt, size int64) (end, start int64, err error) {
	tail := make([]byte, min(size, 22+65535))
	if _, err := r.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return 0, 0, refuse(hintDamaged, "the end of the file cannot be read: %w", err)
	}
	at := len(tail) - 22
	for ; at >= 0; at-- {
		if le32(tail[at:]) == 0x06054b50 {
			break
		}
	}
	if at < 0 {
		return 0, 0, refuse(hintDamaged, "the zip has no end record: the file is cut short")
	}
	end = size - int64(len(tail)) + int64(at)
	start = int64(le32(tail[at+16:]))
	if start == 0xffffffff {
		var locator [20]byte
		if end < 20 {
			return 0, 0, refuse(hintDamaged, "the zip's end record points outside the file")
		}
		if _, err := r.ReadAt(locator[:], end-20); err != nil || le32(locator[:]) != 0x07064b50 {
			return 0, 0, refuse(hintDamaged, "the zip's end record points to a zip64 record that is not there")
		}
		var record [56]byte
		at := int64(le64(locator[8:]))
		if at < 0 || at > size-56 {
			return 0, 0, refuse(hintDamaged, "the zip64 record lies outside the file")
		}
		if _, err := r.ReadAt(record[:], at); err != nil || le32(record[:]) != 0x06064b50 {
			return 0, 0, refuse(hintDamaged, "the zip64 record is damaged")
		}
		start = int64(le64(record[48:]))
	}
	if start < 0 || start > end {
		return 0, 0, refuse(hintDamaged, "the zip's list of entries lies outside the file")
	}
	return end, start, nil
}

// readEntry unpacks one entry, if it is no longer than limit.
func readEntry(f *zip.File, limit int64) ([]byte, error) {
	if f.Flags&1 != 0 {
		return nil, refuse("build it without a password", "%s is encrypted", show(f.Name))
	}
	rc, err := f.Open()
	if err != nil {
		return nil, refuse(hintDamaged, "%s cannot be opened: %w", show(f.Name), err)
	}
	defer rc.Close()
	data, err := io.ReadAll(io.LimitReader(rc, limit+1))
	if err != nil {
		return nil, refuse(hintDamaged, "%s cannot be unpacked: %w", show(f.Name), err)
	}
	if int64(len(data)) > limit {
		return nil, refuse("", "%s is larger than the %d MB that are read of it", show(f.Name), limit>>20)
	}
	return data, nil
}

func findEntry(archive *zip.Reader, name string) string {
	if name == "" {
		return ""
	}
	for _, f := range archive.File {
		if f.Name == name {
			return name
		}
	}
	return ""
}

// show quotes a name from a package for a message, cut to a sane length.
func show(name string) string {
	return fmt.Sprintf("%q", plain.Clip(name, 120))
}

// text checks a value that a package states: printable, no longer than limit.
func text(what, value string, limit int) (string, error) {
	if len(value) > limit {
		return "", refuse("", "the %s is %d characters long; at most %d are taken", what, len(value), limit)
	}
	for _, r := range value {
		if r < ' ' || r == 0x7f || r == 0xfffd {
			return "", refuse(hintDamaged, "the %s holds characters that cannot be shown", what)
		}
	}
	return value, nil
}

func le16(b []byte) uint16 { return uint16(b[0]) | uint16(b[1])<<8 }
func le32(b []byte) uint32 { return uint32(le16(b)) | uint32(le16(b[2:]))<<16 }
func le64(b []byte) uint64 { return uint64(le32(b)) | uint64(le32(b[4:]))<<32 }
