package origin

import (
	"archive/zip"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
)

func zipped(t *testing.T, dir fs.FS) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "app.zip")
	f, err := os.Create(file)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	require.NoError(t, z.AddFS(dir))
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
	return file
}

func TestABundleIsServedAsItIsAndNothingElse(t *testing.T) {
	file := zipped(t, fstest.MapFS{
		"site/manifest.webmanifest": {Data: []byte(`{"name": "Odd", "id": "example.odd", "start_url": "start.html?from=home"}`)},
		"site/start.html":           {Data: []byte("<p>start")},
		"site/sub/index.html":       {Data: []byte("<p>sub")},
		"site/app.mjs":              {Data: []byte("0123456789")},
		"site/a.wasm":               {Data: []byte("wasm")},
		"secret.txt":                {Data: []byte("above the top")},
	})
	b, err := OpenBundle(file, "/")
	require.NoError(t, err)
	defer func() { require.NoError(t, b.Close()) }()
	require.Equal(t, "/start.html?from=home", b.Start)
	get := func(path string, header ...string) *http.Response {
		r := httptest.NewRequest(http.MethodGet, "http://x"+path, nil)
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		b.ServeHTTP(w, r)
		return w.Result()
	}
	for path, media := range map[string]string{"/start.html": "text/html; charset=utf-8",
		"/app.mjs": "text/javascript; charset=utf-8",
		"/a.wasm":  "application/wasm", "/manifest.webmanifest": "application/manifest+json",
		"/sub/": "text/html; charset=utf-8"} {
		r := get(path)
		require.Equal(t, http.StatusOK, r.StatusCode, path)
		require.Equal(t, media, r.Header.Get("Content-Type"), path)
		require.Equal(t, "nosniff", r.Header.Get("X-Content-Type-Options"))
	}
	require.Equal(t, http.StatusMovedPermanently, get("/sub").StatusCode)
	part := get("/app.mjs", "Range", "bytes=2-4")
	require.Equal(t, http.StatusPartialContent, part.StatusCode)
	require.Equal(t, int64(3), part.ContentLength)
	require.Equal(t, http.StatusNotModified, get("/app.mjs", "If-None-Match",
		get("/app.mjs").Header.Get("ETag")).StatusCode)
	for _, path := range []string{"/secret.txt", "/../secret.txt", "/%2e%2e/secret.txt", "/..%2fsecret.txt",
		"/site/start.html",
		"/../../../../etc/passwd", "/nothing"} {
		require.Equal(t, http.StatusNotFound, get(path).StatusCode, path)
	}
	post := httptest.NewRecorder()
	b.ServeHTTP(post, httptest.NewRequest(http.MethodPost, "http://x/start.html", strings.NewReader("x")))
	require.Equal(t, http.StatusMethodNotAllowed, post.Code)

	none := filepath.Join(t.TempDir(), "none.zip")
	require.NoError(t, os.WriteFile(none, []byte("no zip at all"), 0o600))
	_, err = OpenBundle(none, "/")
	require.ErrorContains(t, err, "cannot be read")
}

func TestEachAppHasAnOriginOfItsOwn(t *testing.T) {
	seen := map[string]string{}
	for _, id := range []string{"example.tideline", "example-tideline", "EXAMPLE.TIDELINE", "漢字", "",
		strings.Repeat("a", 300), "a/../b"} {
		origin, host := Of(id)
		require.Empty(t, seen[host], "%q and %q", id, seen[host])
		seen[host] = id + "."
		require.Equal(t, "http://"+host, origin)
		require.Regexp(t, `^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.localhost$`, host)
		u, err := url.Parse(origin + "/a?b#c")
		require.NoError(t, err)
		require.Equal(t, host, u.Host)
	}
}
