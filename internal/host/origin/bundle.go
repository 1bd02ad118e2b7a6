// Package origin is the network that a handset has: the origins of its apps, served from their
// bundles, and the hosts that they may reach.
package origin

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Bundle serves a web bundle from its zip, in place: nothing is unpacked to a disk.
type Bundle struct {
	file    *os.File
	entries map[string]*zip.File // by path below the bundle's top
	// the start page, as a path with its query, or as a whole address where the app stays there
	Start string
	Facts Manifest
	// Before is what documents find before their own: HTML that stands at the beginning of each, where it is opened as
	// a page or in a frame. It is for browsers that have no other way to run a script first.
	Before func() string
}

// Manifest is what a handset heeds of a W3C web app manifest.
type Manifest struct {
	StartURL    string `json:"start_url"`
	Display     string `json:"display"`
	Orientation string `json:"orientation"`
	ThemeColor  string `json:"theme_color"`
	Name        string `json:"name"`
	ShortName   string `json:"short_name"`
}

// maxEntry bounds a file that is served, unpacked, in bytes.
const maxEntry = 128 << 20

// OpenBundle opens the zip of a web bundle. launch is its start page, as the package says.
func OpenBundle(file, launch string) (*Bundle, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("the package cannot be read on the host: %w", err)
	}
	info, err := f.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the package cannot be read on the host: %w", err), f.Close())
	}
	b := &Bundle{file: f, entries: map[string]*zip.File{}}
	top, found := "", (*zip.File)(nil)
	for _, e := range z.File {
		dir, base := path.Split(e.Name)
		if strings.Count(dir, "/") > 1 || !(path.Ext(base) == ".webmanifest" || base == "manifest.json") {
			continue
		}
		if found == nil || len(dir) < len(top) || len(dir) == len(top) && path.Ext(base) == ".webmanifest" {
			top, found = dir, e
		}
	}
	if found == nil {
		top = folderOf(z.File)
	}
	for _, e := range z.File {
		if name, ok := strings.CutPrefix(e.Name, top); ok && !strings.HasSuffix(name, "/") {
			b.entries[path.Clean("/"+name)] = e // what stands above the top is below it: /../x is /x
		}
	}
	if found != nil {
		if text, err := read(found, 4<<20); err == nil {
			_ = json.Unmarshal(text, &b.Facts) // what it cannot be read for, it does not state
		}
	}
	if b.Start = b.Facts.StartURL; b.Start == "" {
		b.Start = launch
	}
	if strings.Contains(b.Start, "://") { // it stays at its address
		return b, nil
	}
	if b.Start = "/" + strings.TrimLeft(strings.TrimPrefix(b.Start, "."), "/"); b.Start == "/" &&
		b.entries["/index.html"] == nil {
		return nil, errors.Join(errors.New("the bundle has no index.html, and its manifest names no other start_url"),
			f.Close())
	}
	return b, nil
}

// folderOf is the one folder that everything lies in where there is no manifest, "" where there is none.
func folderOf(files []*zip.File) string {
	top := ""
	for _, e := range files {
		dir, _, nested := strings.Cut(e.Name, "/")
		if dir == "__MACOSX" {
			continue
		}
		if !nested || top != "" && top != dir+"/" {
			return ""
		}
		top = dir + "/"
	}
	return top
}

func read(e *zip.File, most int64) ([]byte, error) {
	r, err := e.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	text, err := io.ReadAll(io.LimitReader(r, most+1))
	if int64(len(text)) > most {
		err = fmt.Errorf("%s is larger than %d MB", e.Name, most>>20)
	}
	return text, err
}

// Close lets go of the file.
func (b *Bundle) Close() error { return b.file.Close() }

// types are media types that systems do not agree on.
var types = map[string]string{".webmanifest": "application/manifest+json", ".js": "text/javascript; charset=utf-8",
	".mjs": "text/javascript; charset=utf-8", ".css": "text/css; charset=utf-8", ".html": "text/html; charset=utf-8",
	".json": "application/json", ".svg": "image/svg+xml", ".wasm": "application/wasm", ".ico": "image/x-icon",
	".woff2": "font/woff2", ".woff": "font/woff", ".ttf": "font/ttf", ".map": "application/json",
	".txt": "text/plain; charset=utf-8", ".webp": "image/webp", ".avif": "image/avif", ".mp3": "audio/mpeg"}

// ServeHTTP gives a file of the bundle.
func (b *Bundle) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		http.Error(w, "a bundle is only read", http.StatusMethodNotAllowed)
		return
	}
	name := path.Clean("/" + r.URL.Path)
	e := b.entries[name]
	if e == nil {
		e = b.entries[path.Join(name, "index.html")]
		if e != nil && name != "/" && !strings.HasSuffix(r.URL.Path, "/") {
			http.Redirect(w, r, name+"/", http.StatusMovedPermanently)
			return
		}
	}
	if e == nil && name == "/favicon.ico" { // it is the browser that asks, and not the app
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if e == nil {
		http.NotFound(w, r)
		return
	}
	kind := types[strings.ToLower(path.Ext(e.Name))]
	if kind == "" {
		if kind = mime.TypeByExtension(path.Ext(e.Name)); kind == "" {
			kind = "application/octet-stream"
		}
	}
	text, err := read(e, maxEntry)
	if err != nil {
		http.Error(w, "this file of the bundle cannot be read: "+err.Error(), http.StatusInternalServerError)
		return
	}
	if b.Before != nil && strings.HasPrefix(kind, "text/html") && opened(r) {
		text = before(text, b.Before())
		w.Header().Set("Content-Type", kind)
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(text))
		return
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Cache-Control", "no-cache")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("ETag", fmt.Sprintf(`"%08x-%x"`, e.CRC32, e.UncompressedSize64))
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(text))
}

var notOfLabel = regexp.MustCompile(`[^a-z0-9]+`)

// hostLabel makes of an app's id what a host may be called (RFC 1123, 2.1): readable, and
// another for each id.
func hostLabel(app string) string {
	word := strings.Trim(notOfLabel.ReplaceAllString(strings.ToLower(app), "-"), "-")
	sum := sha256.Sum256([]byte(app))
	return strings.TrimLeft(strings.Trim(word[:min(len(word), 40)], "-")+"-"+hex.EncodeToString(sum[:4]), "-")
}

// opened tells whether a document is asked for to be shown (Fetch Metadata Request Headers, Sec-Fetch-Dest), and not by
// a script.
func opened(r *http.Request) bool {
	if to := r.Header.Get("Sec-Fetch-Dest"); to != "" {
		return to == "document" || to == "iframe" || to == "frame"
	}
	return strings.Contains(r.Header.Get("Accept"), "text/html")
}

// doctype is what an HTML document may begin with: without it first, pages are laid out otherwise (HTML 13.2.6.4.1).
var doctype = regexp.MustCompile(`(?is)^(\xef\xbb\xbf)?(\s|<!--.*?-->)*<!doctype[^>]*>`)

// before puts HTML before a document's own, behind its doctype.
func before(document []byte, html string) []byte {
	at := len(doctype.Find(document[:min(len(document), 4096)]))
	return slices.Concat(document[:at], []byte(html), document[at:])
}
