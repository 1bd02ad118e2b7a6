package handset

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"yamato/internal/host/driver"
)

const desk = `site: desk
driver: handset
models:
  - {model: Kaede 7, platform: web, form: phone, width: 408, height: 896, memory_mb: 8192}
  - {model: Aster 12, platform: ios, form: phone, width: 388, height: 848, memory_mb: 6144}
devices:
  - `

func TestASiteFileSaysWhatIsWrongWithItsHandsets(t *testing.T) {
	for text, says := range map[string]string{
		`{name: k, model: Kaede 7, kind: emulator, handset: {densty: 2}}`:                     "did you mean `density`?",
		`{name: k, model: Kaede 7, kind: emulator, handset: {density: 9}}`:                    "a density is 0.5 to 5",
		`{name: k, model: Kaede 7, kind: emulator, handset: {reach: ["http://api.example"]}}`: "is no host that apps could reach",
		`{name: k, model: Kaede 7, kind: emulator, handset: {browser: /no/such/browser}}`:     "is not there",
		`{name: k, model: Kaede 7, kind: emulator, standin: {charge: 8}}`:                     "there is no `standin`",
		`{name: k, model: Kaede 7, kind: simulator}`:                                          "simulators of iOS",
		`{name: k, model: Aster 12, kind: real, os: "18"}`:                                    "handsets run web apps",
	} {
		site, err := driver.ReadSite([]byte(desk + text))
		if err == nil {
			v, e := NewDriver([]string{"none"})
			require.NoError(t, e)
			m, e := site.Find(site.Devices[0])
			require.NoError(t, e)
			_, err = v.Open(site, site.Devices[0], m)
		}
		require.ErrorContains(t, err, says, text)
	}
}

func TestAHandsetsOSIsItsBrowsersVersion(t *testing.T) {
	site, err := driver.ReadSite([]byte(desk + `{name: k, model: Kaede 7, kind: emulator, handset: {reach: [api.example, "127.0.0.1:8443"]}}`))
	require.NoError(t, err)
	v, err := NewDriver([]string{"none"})
	require.NoError(t, err)
	m, err := site.Find(site.Devices[0])
	require.NoError(t, err)
	d, err := v.Open(site, site.Devices[0], m)
	require.NoError(t, err)
	defer d.Close()
	require.Regexp(t, `^[0-9]{2,4}$`, d.Describe().OS)
	require.True(t, d.Describe().Virtual())
	require.Contains(t, d.Abilities(), "gestures")
	require.NotContains(t, d.Abilities(), "clipboard")
}

func TestABundleIsServedAsItIsAndNothingElse(t *testing.T) {
	app := bundled(t, fstest.MapFS{
		"site/manifest.webmanifest": {Data: []byte(`{"name": "Odd", "id": "example.odd", "start_url": "start.html?from=home"}`)},
		"site/start.html":           {Data: []byte("<p>start")},
		"site/sub/index.html":       {Data: []byte("<p>sub")},
		"site/app.mjs":              {Data: []byte("0123456789")},
		"site/a.wasm":               {Data: []byte("wasm")},
		"secret.txt":                {Data: []byte("above the top")},
	})
	b, err := openBundle(app.Path, app.Package.Launch)
	require.NoError(t, err)
	defer func() { require.NoError(t, b.close()) }()
	require.Equal(t, "/start.html?from=home", b.start)
	get := func(path string, header ...string) *http.Response {
		r := httptest.NewRequest(http.MethodGet, "http://x"+path, nil)
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		b.ServeHTTP(w, r)
		return w.Result()
	}
	for path, media := range map[string]string{"/start.html": "text/html; charset=utf-8", "/app.mjs": "text/javascript; charset=utf-8",
		"/a.wasm": "application/wasm", "/manifest.webmanifest": "application/manifest+json", "/sub/": "text/html; charset=utf-8"} {
		r := get(path)
		require.Equal(t, http.StatusOK, r.StatusCode, path)
		require.Equal(t, media, r.Header.Get("Content-Type"), path)
		require.Equal(t, "nosniff", r.Header.Get("X-Content-Type-Options"))
	}
	require.Equal(t, http.StatusMovedPermanently, get("/sub").StatusCode)
	part := get("/app.mjs", "Range", "bytes=2-4")
	require.Equal(t, http.StatusPartialContent, part.StatusCode)
	require.Equal(t, int64(3), part.ContentLength)
	require.Equal(t, http.StatusNotModified, get("/app.mjs", "If-None-Match", get("/app.mjs").Header.Get("ETag")).StatusCode)
	for _, path := range []string{"/secret.txt", "/../secret.txt", "/%2e%2e/secret.txt", "/..%2fsecret.txt", "/site/start.html",
		"/../../../../etc/passwd", "/nothing"} {
		require.Equal(t, http.StatusNotFound, get(path).StatusCode, path)
	}
	post := httptest.NewRecorder()
	b.ServeHTTP(post, httptest.NewRequest(http.MethodPost, "http://x/start.html", strings.NewReader("x")))
	require.Equal(t, http.StatusMethodNotAllowed, post.Code)

	none := filepath.Join(t.TempDir(), "none.zip")
	require.NoError(t, os.WriteFile(none, []byte("no zip at all"), 0o600))
	_, err = openBundle(none, "/")
	require.ErrorContains(t, err, "cannot be read")
}

func TestEachAppHasAnOriginOfItsOwn(t *testing.T) {
	seen := map[string]string{}
	for _, id := range []string{"example.tideline", "example-tideline", "EXAMPLE.TIDELINE", "漢字", "", strings.Repeat("a", 300), "a/../b"} {
		origin, host := originOf(id)
		require.Empty(t, seen[host], "%q and %q", id, seen[host])
		seen[host] = id + "."
		require.Equal(t, "http://"+host, origin)
		require.Regexp(t, `^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.localhost$`, host)
		require.Equal(t, host, originHost(origin+"/a?b#c"))
	}
}

func TestPagesAreToldOfMemoryInPowersOfTwo(t *testing.T) {
	for mb, gb := range map[int]float64{0: 8, 128: 0.25, 512: 0.5, 1024: 1, 2048: 2, 3072: 2, 4096: 4, 6144: 4, 8192: 8, 65536: 8} {
		require.Equal(t, gb, told(mb), "%d MB", mb)
	}
}
