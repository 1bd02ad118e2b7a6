package appfile

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/plain"
)

// The names that a web app's manifest goes by in the top folder of its bundle.
// isWebManifest tells whether an entry is a bundle's web app manifest, by its name: at
// the top, or in the one folder that was zipped. Other things are called manifest.json
// too; beside those there is no page.
func isWebManifest(archive *zip.Reader, dir, base string) bool {
	return path.Ext(base) == ".webmanifest" || base == "manifest.json" &&
		(dir == "" || findEntry(archive, dir+"index.html") != "")
}

// webManifest is what is read of a W3C web app manifest. Members that the
// standard does not know are allowed by it; "version" is one, written as in
// Semantic Versioning: 3.2.0+61.
type webManifest struct {
	ID          string `json:"id"`
	Name        string `json:"name"`
	ShortName   string `json:"short_name"`
	StartURL    string `json:"start_url"`
	Orientation string `json:"orientation"`
	Lang        string `json:"lang"`
	Version     string `json:"version"`
	Lacks       string `json:"lacks"` // what was wanting where it was made of a page at an address
	Icons       []struct {
		Src   string `json:"src"`
		Sizes string `json:"sizes"`
		Type  string `json:"type"`
	} `json:"icons"`
}

var webVersion = regexp.MustCompile(`^([0-9A-Za-z][0-9A-Za-z.-]{0,60})(?:\+([0-9A-Za-z.-]{1,60}))?$`)

var notOfID = regexp.MustCompile(`[^a-z0-9]+`)

// contentVersion makes a version of what a bundle holds, for manifests that state none,
// as the standard's do not: other content is another version.
func contentVersion(archive *zip.Reader) string {
	lines := make([]string, 0, len(archive.File))
	for _, f := range archive.File {
		lines = append(lines, fmt.Sprintf("%q %d %08x", f.Name, f.UncompressedSize64, f.CRC32))
	}
	slices.Sort(lines)
	sum := sha256.Sum256([]byte(strings.Join(lines, "\n")))
	return "content-" + hex.EncodeToString(sum[:4])
}

// AtAddress tells whether p is a web app that stays at its own address, from which it is opened:
// its manifest alone, with the whole address for a start_url.
func (p *Package) AtAddress() bool {
	u, err := url.Parse(p.Launch)
	return p.Kind == Web && err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" && u.User == nil
}

// holdsPage tells whether an archive holds any page at all.
func holdsPage(archive *zip.Reader) bool {
	return slices.ContainsFunc(archive.File, func(f *zip.File) bool {
		return slices.Contains([]string{".html", ".htm", ".xhtml"}, strings.ToLower(path.Ext(f.Name)))
	})
}

const hintWeb = "see docs/builds.md for what a web bundle holds"

func readWeb(archive *zip.Reader, manifest *zip.File) (*Package, error) {
	data, err := readEntry(manifest, maxManifest)
	if err != nil {
		return nil, err
	}
	var m webManifest
	if err := json.Unmarshal(data, &m); err != nil {
		return nil, refuse(hintDamaged, "%s is no web app manifest: %w", show(manifest.Name), err)
	}
	p := &Package{Kind: Web, Platform: "web", Permissions: []string{}, Program: findEntry(archive, ProgramIOS)}
	for _, f := range []struct {
		what, value string
		into        *string
	}{{"name", first(m.Name, m.ShortName), &p.Name}, {"id", strings.Trim(m.ID, "/"), &p.ApplicationID},
		{"start_url", first(m.StartURL, "/"), &p.Launch},
		{"orientation", m.Orientation, &p.Rotation}, {"version", m.Version, &p.VersionName}} {
		if *f.into, err = text(f.what, f.value, 255); err != nil {
			return nil, err
		}
	}
	if p.Name == "" {
		return nil, refuse(hintWeb, "%s states neither name nor short_name", show(manifest.Name))
	}
	if p.ApplicationID == "" { // W3C's default, the start page, is the same for most apps
		p.ApplicationID = strings.Trim(notOfID.ReplaceAllString(strings.ToLower(p.Name), "-"), "-")
	}
	if p.ApplicationID == "" {
		return nil, refuse(hintWeb, "%s states no id, and none can be made of the name %s", show(manifest.Name),
			show(p.Name))
	}
	if p.VersionName == "" {
		p.VersionName = contentVersion(archive)
	}
	if strings.Contains(p.Launch, "://") && (!p.AtAddress() || holdsPage(archive)) {
		return nil, refuse(hintWeb, "start_url is %s; a bundle starts at a page of its own", show(p.Launch))
	}
	v := webVersion.FindStringSubmatch(p.VersionName)
	if v == nil {
		return nil, refuse(hintWeb, "%s states %s as version; it is written as in 3.2.0+61", show(manifest.Name),
			show(p.VersionName))
	}
	p.VersionName, p.VersionCode = v[1], first(v[2], v[1])
	if m.Lang != "" && len(m.Lang) < 36 && isWord(strings.ReplaceAll(m.Lang, "-", "")) {
		p.Languages = []string{m.Lang}
	}
	if m.Lacks != "" && p.AtAddress() {
		p.Lacks = []string{plain.Clip(plain.Text(m.Lacks, 500), 500)}
	}
	largest, dir := 0, path.Dir(manifest.Name)
	for _, i := range m.Icons[:min(len(m.Icons), 100)] {
		entry := findEntry(archive, strings.TrimPrefix(path.Join("/", dir, path.Clean("/"+i.Src)), "/"))
		width, _, _ := strings.Cut(i.Sizes, "x")
		n, _ := strconv.Atoi(width)
		if entry != "" && slices.Contains([]string{".png", ".webp", ".jpg"}, path.Ext(entry)) && n >= largest &&
			n <= 1024 {
			p.Icon, largest = entry, n
		}
	}
	return p, nil
}

// startPage finds the page that a web app without a manifest starts with: index.html at the top, or in the one
// folder that was zipped. nil where there is none.
func startPage(archive *zip.Reader) *zip.File {
	var found *zip.File
	tops := map[string]bool{}
	for _, f := range archive.File {
		top, rest, nested := strings.Cut(f.Name, "/")
		if top == "__MACOSX" {
			continue
		}
		tops[top] = true
		switch {
		case f.Name == "index.html":
			return f
		case nested && rest == "index.html":
			found = f
		}
	}
	if len(tops) != 1 {
		return nil
	}
	return found
}

var pageTitle = regexp.MustCompile(`(?is)<title[^>]*>(.{0,1000}?)</title>`)

// maxPage bounds the page that is looked into for its title, in bytes.
const maxPage = 4 << 20

// readPage reads a web app that has no manifest: a folder of pages, as tools build them.
func readPage(archive *zip.Reader, start *zip.File) (*Package, error) {
	page, err := readEntry(start, maxPage)
	if err != nil {
		return nil, err
	}
	name := strings.Trim(path.Dir(start.Name), "./")
	if m := pageTitle.FindSubmatch(page); m != nil {
		name = first(strings.Join(strings.Fields(html.UnescapeString(strings.ToValidUTF8(string(m[1]), ""))), " "),
			name)
	}
	if name == "" {
		name = "Web app"
	}
	p := &Package{Kind: Web, Platform: "web", Permissions: []string{}, Launch: "/",
		VersionName: contentVersion(archive),
		Lacks: []string{"it has no web app manifest: it is called as its page's title, its id is made of that, its version " +
			"of what it holds, and it has no icon; put a manifest.webmanifest beside its index.html"}}
	if p.Name, err = text("title", plain.Clip(name, 200), 255); err != nil {
		return nil, err
	}
	p.ApplicationID = first(strings.Trim(notOfID.ReplaceAllString(strings.ToLower(p.Name), "-"), "-"), "web-app")
	p.VersionCode = p.VersionName
	return p, nil
}
