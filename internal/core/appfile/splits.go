package appfile

import (
	"archive/zip"
	"fmt"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
)

// An Android app may come in several packages: a base, features, and for each of these what only some devices want, by
// instruction set, density or language ("Build and test your app bundle" of the OS's documentation). A zip that holds them
// as they are is handed in as one package, and each device is given those that it wants.

// Split is one of the packages that an app is split into.
type Split struct {
	Entry    string `json:"entry"`          // its name in the zip
	Name     string `json:"name,omitempty"` // as its manifest has it: config.arm64_v8a; "" for the base
	Of       string `json:"of,omitempty"`   // the feature that it is a part of, "" for the base
	ABI      string `json:"abi,omitempty"`  // only for devices with this instruction set
	Density  int    `json:"density,omitempty"`
	Language string `json:"language,omitempty"`
	Size     int64  `json:"size"` // bytes
}

const (
	maxSplits = 300

	hintSet = "zip the packages of one set as they are, without compressing them (zip -0 app.zip *.apk), or hand in one " +
		"package for all devices (a universal .apk)"
)

// abiOf are instruction sets as the names of splits have them.
var abiOf = map[string]string{"armeabi": "armeabi", "armeabi_v7a": "armeabi-v7a", "arm64_v8a": "arm64-v8a", "x86": "x86",
	"x86_64": "x86_64", "riscv64": "riscv64"}

// densities are those that packages are made for, in dots an inch.
var densities = map[string]int{"ldpi": 120, "mdpi": 160, "tvdpi": 213, "hdpi": 240, "xhdpi": 320, "xxhdpi": 480, "xxxhdpi": 640}

var languageSplit = regexp.MustCompile(`^[a-z]{2,3}(_r?[A-Z]{2})?$`)

// qualified takes in what the name of a split says of the devices that it is for.
func (s *Split) qualified() {
	_, what, ok := strings.Cut(s.Name, "config.")
	switch {
	case !ok:
	case abiOf[what] != "":
		s.ABI = abiOf[what]
	case densities[what] != 0:
		s.Density = densities[what]
	case languageSplit.MatchString(what):
		s.Language = strings.ReplaceAll(strings.ReplaceAll(what, "_r", "-"), "_", "-")
	}
}

// packagesIn lists the Android packages in a zip, but for those that are for devices of other times or other ways to install.
func packagesIn(archive *zip.Reader) (out []*zip.File) {
	for _, f := range archive.File {
		if path.Ext(f.Name) == ".apk" && strings.Count(f.Name, "/") <= 2 && !strings.HasPrefix(f.Name, "__MACOSX/") &&
			!strings.HasPrefix(f.Name, "standalones/") && !strings.HasPrefix(f.Name, "instant/") {
			out = append(out, f)
		}
	}
	return out
}

// inside gives an entry that lies in a zip as it is.
func inside(r io.ReaderAt, size int64, f *zip.File) (*io.SectionReader, error) {
	if f.Method != zip.Store || f.Flags&1 != 0 {
		return nil, refuse(hintSet, "%s is compressed in the zip, or encrypted", show(f.Name))
	}
	at, err := f.DataOffset()
	if err != nil || f.CompressedSize64 != f.UncompressedSize64 || at < 0 || at > size || f.UncompressedSize64 > uint64(size-at) {
		return nil, refuse(hintDamaged, "%s lies outside the zip", show(f.Name))
	}
	return io.NewSectionReader(r, at, int64(f.UncompressedSize64)), nil
}

// part is a package of a set as it was read.
type part struct {
	p       *Package
	split   Split
	archive *zip.Reader
}

// readPart reads one package of a set.
func readPart(r io.ReaderAt, size int64) (*part, error) {
	archive, directory, err := openZip(r, size)
	if err != nil {
		return nil, err
	}
	var manifest *zip.File
	for _, f := range archive.File {
		if f.Name == manifestEntry {
			if manifest != nil {
				return nil, refuse(hintDamaged, "it holds two manifests")
			}
			manifest = f
		}
	}
	if manifest == nil {
		return nil, refuse(hintDamaged, "it holds no AndroidManifest.xml")
	}
	out := &part{archive: archive}
	out.p, err = readManifest(r, archive, directory, manifest, &out.split)
	return out, err
}

// ReadSplit reads one package of an app that is split in several.
func ReadSplit(r io.ReaderAt, size int64) (*Package, Split, error) {
	one, err := readPart(r, size)
	if err != nil {
		return nil, Split{}, err
	}
	one.split.Size = size
	return one.p, one.split, nil
}

// set is an app in several packages, its base first.
type set []*part

// setIn reads the packages in a zip as a set, nil where they are none.
func setIn(r io.ReaderAt, size int64, archive *zip.Reader) (set, error) {
	files := packagesIn(archive)
	if len(files) < 2 {
		return nil, nil
	}
	if len(files) > maxSplits {
		return nil, refuse("", "the zip holds %d packages; an app may be split in %d at most", len(files), maxSplits)
	}
	var out set
	left := size // entries that lie over each other would be read many times
	for _, f := range files {
		in, err := inside(r, size, f)
		if err != nil {
			return nil, err
		}
		if left -= in.Size(); left < 0 {
			return nil, refuse(hintDamaged, "the packages in the zip lie over each other")
		}
		one, err := readPart(in, in.Size())
		if err != nil {
			return nil, refuse(hintSet, "%s in the zip: %w", show(f.Name), err)
		}
		one.split.Entry, one.split.Size = f.Name, in.Size()
		out = append(out, one)
	}
	slices.SortStableFunc(out, func(a, b *part) int { return strings.Compare(a.split.Name, b.split.Name) })
	return out, out.check()
}

// check tells why packages are no set of one app that a device would take.
func (s set) check() error {
	base := s[0]
	if base.split.Name != "" {
		return refuse(hintSet, "none of the %d packages in the zip is the base of an app", len(s))
	}
	names := map[string]string{}
	for i, one := range s {
		as := one.split.Name
		switch {
		case one.p.ApplicationID != base.p.ApplicationID:
			return refuse("hand in one app at a time; what tests it is a package of its own",
				"the zip holds packages of two apps: %s and %s", show(base.p.ApplicationID), show(one.p.ApplicationID))
		case i > 0 && as == "":
			return refuse("make the set for devices of one kind, and hand that in",
				"%s and %s are both the base of the app; which one a device is to have is anybody's guess",
				show(base.split.Entry), show(one.split.Entry))
		case names[as] != "":
			return refuse("make the set for devices of one kind, and hand that in", "%s and %s are the same part of the app",
				show(names[as]), show(one.split.Entry))
		case one.p.VersionCode != base.p.VersionCode:
			return refuse("hand in packages of one build", "%s is of version %s, and the base of %s", show(one.split.Entry),
				one.p.VersionCode, base.p.VersionCode)
		case (one.p.Signing == nil) != (base.p.Signing == nil) ||
			one.p.Signing != nil && one.p.Signing.Fingerprint != base.p.Signing.Fingerprint:
			return refuse("sign all packages of the app by the same key", "%s is signed by another key than the base, or one of both is not",
				show(one.split.Entry))
		}
		names[as] = one.split.Entry
	}
	return nil
}

// whole is the app as people see it.
func (s set) whole() *Package {
	p, sums := *s[0].p, map[string]int64{}
	for _, one := range s {
		p.Splits = append(p.Splits, one.split)
		p.ABIs = append(p.ABIs, one.p.ABIs...)
		p.Languages = append(p.Languages, one.p.Languages...)
		if one.split.Language != "" {
			p.Languages = append(p.Languages, one.split.Language)
		}
		p.Permissions, p.Needs = append(p.Permissions, one.p.Permissions...), append(p.Needs, one.p.Needs...)
		for _, of := range parts(one.archive) {
			sums[of.Name] += of.Size
		}
	}
	for _, list := range []*[]string{&p.ABIs, &p.Languages, &p.Permissions, &p.Needs} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		p.Parts = append(p.Parts, Part{name, sums[name]})
	}
	return &p
}

// texts are those of all packages of it: each language's may lie in one of its own.
func (s set) texts() (Texts, error) {
	out := Texts{}
	for _, one := range s {
		t, err := tableOf(one.archive)
		if err != nil {
			return nil, err
		}
		if t == nil {
			continue
		}
		more, err := t.texts()
		if err != nil {
			return nil, err
		}
		for key, by := range more {
			if out[key] == nil {
				out[key] = map[string]string{}
			}
			maps.Copy(out[key], by)
		}
	}
	return out, nil
}

// openApp opens what holds an app's program and icon: the package, or the base of its set.
func openApp(r io.ReaderAt, size int64) (*zip.Reader, set, error) {
	archive, _, err := openZip(r, size)
	if err != nil || findEntry(archive, manifestEntry) != "" || len(packagesIn(archive)) < 2 {
		return archive, nil, err
	}
	s, err := setIn(r, size, archive)
	if err != nil || s == nil {
		return archive, nil, err
	}
	return s[0].archive, s, nil
}

// Choose gives the packages that a device is to have, by its instruction sets, the best first, and the dots an inch of its
// screen: the base, all features and languages; of those for instruction sets the best that it has, and of those for
// densities the next at or above its own, feature by feature. One of whose name nothing is known every device gets.
func (p *Package) Choose(abis []string, density int) (out []Split, err error) {
	best, next := map[string]string{}, map[string]int{}
	native := map[string]bool{}
	for _, s := range p.Splits {
		if s.ABI != "" {
			native[s.Of] = true
			at, had := slices.Index(abis, s.ABI), slices.Index(abis, best[s.Of])
			if at >= 0 && (had < 0 || at < had) {
				best[s.Of] = s.ABI
			}
		}
		if had := next[s.Of]; s.Density != 0 && (had == 0 || nearer(s.Density, had, density)) {
			next[s.Of] = s.Density
		}
	}
	for of := range native {
		if best[of] == "" {
			return nil, fmt.Errorf("none of its packages is for the instruction sets of this device (%s)", strings.Join(abis, ", "))
		}
	}
	for _, s := range p.Splits {
		if (s.ABI == "" || s.ABI == best[s.Of]) && (s.Density == 0 || s.Density == next[s.Of]) {
			out = append(out, s)
		}
	}
	return out, nil
}

// nearer tells whether pictures for a density look better on a screen than those for another: what is made smaller is
// sharper than what is made larger.
func nearer(a, b, screen int) bool {
	if (a >= screen) != (b >= screen) {
		return a >= screen
	}
	if a >= screen {
		return a < b
	}
	return a > b
}

// OpenSplit gives one of an app's packages from the zip that holds them.
func OpenSplit(r io.ReaderAt, size int64, s Split) (*io.SectionReader, error) {
	archive, _, err := openZip(r, size)
	if err != nil {
		return nil, err
	}
	for _, f := range archive.File {
		if f.Name == s.Entry {
			return inside(r, size, f)
		}
	}
	return nil, refuse(hintDamaged, "the zip holds no %s any more", show(s.Entry))
}
