package builds

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"yamato/internal/service/base"
)

// A web app may be handed in by its address: it stays there, and handsets open it there. What is
// kept is its manifest (W3C Web Application Manifest), with the whole address for a start_url, its
// icon, and a digest of its start page, so that another release of it is another build.

// Bounds on what is read at an address.
const (
	pageTime    = 30 * time.Second
	maxPage     = 8 << 20
	maxManifest = 4 << 20
	maxAppIcon  = 1 << 20
)

// members are those of a manifest that are kept, beside icons.
var members = []string{"id", "name", "short_name", "start_url", "orientation", "display", "lang", "version",
	"theme_color",
	"background_color"}

// isPage tells whether an answer is a web page, and no package.
func isPage(answer *http.Response) bool {
	kind, _, _ := mime.ParseMediaType(answer.Header.Get("Content-Type"))
	return kind == "text/html" || kind == "application/xhtml+xml"
}

// atAddress makes a package of the web app whose start page was answered.
func atAddress(ctx context.Context, from *http.Client, answer *http.Response) (name string, data []byte, err error) {
	end := time.AfterFunc(pageTime, func() { _ = answer.Body.Close() })
	page, err := bounded(answer.Body, maxPage, "the page")
	if !end.Stop() {
		return "", nil, fmt.Errorf("the page did not end within %s", pageTime)
	}
	if err != nil {
		return "", nil, err
	}
	at := answer.Request.URL // after redirects
	link, title := heads(page)
	m := map[string]any{}
	where := at
	if link == "" {
		m["lacks"] = "its page names no web app manifest: it is called as the page's title, its id is made of its address, and it has no icon"
	} else {
		if where, err = at.Parse(link); err != nil {
			return "", nil, fmt.Errorf("the page names a manifest at %q, which is no address", base.Short(link, 200))
		}
		text, err := get(ctx, from, where, maxManifest, "the manifest")
		if err != nil {
			return "", nil, err
		}
		if err := json.Unmarshal(text, &m); err != nil {
			return "", nil, fmt.Errorf("what %s names as its manifest is none: %w", at.Host, err)
		}
		maps.DeleteFunc(m, func(member string, value any) bool { // what nobody here reads is not kept
			_, text := value.(string)
			return member != "icons" && !(text && slices.Contains(members, member))
		})
	}
	start := *at
	if s, ok := m["start_url"].(string); ok && s != "" { // one of another origin does not count (1.9)
		if u, err := where.Parse(s); err == nil && u.Scheme == at.Scheme && u.Host == at.Host {
			start = *u
		}
	}
	start.Fragment, start.User = "", nil
	m["start_url"] = start.String()
	if id, ok := m["id"].(string); !ok || strings.Trim(id, "/") == "" {
		m["id"] = start.Host
		if link == "" { // another path of the same host is another app
			m["id"] = start.Host + strings.TrimSuffix(path.Dir(path.Clean("/"+start.Path)+"/"), "/")
			if path.Ext(start.Path) != "" {
				m["id"] = start.Host + strings.TrimSuffix(path.Dir(start.Path), "/")
			}
		}
	} else if u, err := url.Parse(id); err == nil && u.Host != "" {
		m["id"] = u.Host + u.Path
	}
	if n, _ := m["name"].(string); n == "" && m["short_name"] == nil {
		if m["name"] = title; title == "" {
			m["name"] = start.Host
		}
	}
	files := map[string][]byte{"start.sha256": []byte(digest(page))}
	icons := m["icons"]
	delete(m, "icons")
	if icon, sizes := bestIcon(ctx, from, where, icons); icon != nil {
		files["icon.png"] = icon
		m["icons"] = []any{map[string]any{"src": "icon.png", "sizes": sizes, "type": "image/png"}}
	}
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return "", nil, err
	}
	files["manifest.webmanifest"] = text
	data, err = archived(files)
	return strings.ReplaceAll(start.Host, ":", "-") + "-web.zip", data, err
}

// get reads what is at an address, up to so many bytes.
func get(ctx context.Context, from *http.Client, at *url.URL, most int64, what string) ([]byte, error) {
	if at.Scheme != "https" && at.Scheme != "http" {
		return nil, fmt.Errorf("%s is at %q, which is no address of the web", what, base.Short(at.String(), 200))
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, err
	}
	answer, err := from.Do(r)
	if err != nil {
		return nil, fmt.Errorf("%s could not be fetched: %w", what, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s could not be fetched: %s answers %s", what, at.Host, answer.Status)
	}
	return bounded(answer.Body, most, what)
}

func bounded(r io.Reader, most int64, what string) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(data)) > most {
		err = fmt.Errorf("%s is larger than %d MB", what, most>>20)
	}
	return data, err
}

// heads finds in a page the manifest that it names and its title.
func heads(page []byte) (manifest, title string) {
	z := html.NewTokenizer(bytes.NewReader(page))
	for inTitle := false; ; {
		kind := z.Next()
		if kind == html.ErrorToken {
			return manifest, title
		}
		t := z.Token()
		switch {
		case kind == html.TextToken && inTitle && title == "":
			title = base.Short(strings.Join(strings.Fields(t.Data), " "), 200)
		case kind != html.StartTagToken && kind != html.SelfClosingTagToken:
			inTitle = false
		case t.DataAtom == atom.Title:
			inTitle = true
		case t.DataAtom == atom.Link && manifest == "":
			attrs := map[string]string{}
			for _, a := range t.Attr {
				attrs[a.Key] = a.Val
			}
			if slices.Contains(strings.Fields(strings.ToLower(attrs["rel"])), "manifest") {
				manifest = attrs["href"]
			}
		}
	}
}

// bestIcon fetches the largest of a manifest's icons that is a PNG of at most 1024 pixels. An app
// without one has none: that is no reason to refuse it.
func bestIcon(ctx context.Context, from *http.Client, where *url.URL, icons any) (data []byte, sizes string) {
	list, _ := icons.([]any)
	best, src := 0, ""
	for _, one := range list[:min(len(list), 100)] {
		icon, _ := one.(map[string]any)
		named, _ := icon["src"].(string)
		size, _ := icon["sizes"].(string)
		width, _, _ := strings.Cut(size, "x")
		n, _ := strconv.Atoi(width)
		if n > best && n <= 1024 && named != "" {
			best, src, sizes = n, named, fmt.Sprintf("%dx%d", n, n)
		}
	}
	if src == "" {
		return nil, ""
	}
	at, err := where.Parse(src)
	if err != nil {
		return nil, ""
	}
	data, err = get(ctx, from, at, maxAppIcon, "the icon")
	if err != nil || !bytes.HasPrefix(data, []byte("\x89PNG\r\n\x1a\n")) {
		return nil, ""
	}
	return data, sizes
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// archived is a zip of files that has the same bytes for the same files.
func archived(files map[string][]byte) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range []string{"manifest.webmanifest", "icon.png", "start.sha256"} {
		if files[name] == nil {
			continue
		}
		w, err := z.Create(name)
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(files[name]); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return b.Bytes(), err
}
