package service

import (
	"context"
	"encoding/pem"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/core/appfile"
	"yamato/internal/outside"
	"yamato/internal/service/base"
)

func untold(int64, int64) {}

func TestAFetchGoesOnWhereItStopped(t *testing.T) {
	packages := demotest.Packages(t, demo.Versions[1])
	data := packages[0].Data
	var asked []string
	serve := func(tag string) http.HandlerFunc {
		return func(a http.ResponseWriter, r *http.Request) {
			asked = append(asked, r.Header.Get("Range"))
			from := 0
			if _, err := fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-", &from); err == nil &&
				r.Header.Get("If-Range") == tag {
				a.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, len(data)-1, len(data)))
			}
			a.Header().Set("ETag", tag)
			a.Header().Set("Content-Length", fmt.Sprint(len(data)-from))
			if from > 0 {
				a.WriteHeader(http.StatusPartialContent)
			}
			if len(asked) < 3 { // the first two connections are lost after a part of it
				_, _ = a.Write(data[from : from+len(data)/3])
				panic(http.ErrAbortHandler)
			}
			_, _ = a.Write(data[from:])
		}
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/strong.apk", serve(`"v1"`))
	mux.HandleFunc("/weak.apk", serve(`W/"v1"`))
	server := httptest.NewServer(mux)
	defer server.Close()
	w := newWorld(t, base.Config{MayFetch: []string{"127.0.0.1"}})
	var last, all int64
	got, err := w.service.Builds.FetchPackage(context.Background(), w.user, server.URL+"/strong.apk", func(n, of int64) {
		require.GreaterOrEqual(t, n, last)
		last, all = n, of
	})
	require.NoError(t, err)
	require.Equal(t, int64(len(data)), got.Size)
	require.Equal(t, []int64{int64(len(data)), int64(len(data))}, []int64{last, all})
	require.Equal(t, []string{"", fmt.Sprintf("bytes=%d-", len(data)/3), fmt.Sprintf("bytes=%d-", len(data)/3*2)},
		asked)

	asked = nil
	_, err = w.service.Builds.FetchPackage(context.Background(), w.user, server.URL+"/weak.apk", untold)
	p := refusal(t, err, "was lost after 0 MB")
	require.Equal(t, "try again, or push the file itself", p.Hint.String())
	require.Len(t, asked, 1, "of what may have changed, no two halves are joined")
}

func TestPackagesAreFetchedFromPublicAddressesAlone(t *testing.T) {
	packages := demotest.Packages(t, demo.Versions[1])
	mux := http.NewServeMux()
	mux.HandleFunc("/tideline.apk", func(a http.ResponseWriter, _ *http.Request) { _, _ = a.Write(packages[0].Data) })
	mux.HandleFunc("/named", func(a http.ResponseWriter, _ *http.Request) {
		a.Header().Set("Content-Disposition", `attachment; filename="../../odd name.apk"`)
		_, _ = a.Write(packages[0].Data)
	})
	mux.HandleFunc("/inside", func(a http.ResponseWriter, r *http.Request) {
		http.Redirect(a, r, "http://localhost:1/secret", http.StatusFound)
	})
	mux.HandleFunc("/round", func(a http.ResponseWriter, r *http.Request) {
		http.Redirect(a, r, "/round", http.StatusFound)
	})
	mux.HandleFunc("/missing", http.NotFound)
	mux.HandleFunc("/words", func(a http.ResponseWriter, _ *http.Request) {
		_, _ = a.Write([]byte(strings.Repeat("hello ", 30)))
	})
	server := httptest.NewServer(mux)
	defer server.Close()
	ctx := context.Background()

	closed := newWorld(t, base.Config{})
	_, err := closed.service.Builds.FetchPackage(ctx, closed.user, server.URL+"/tideline.apk", untold)
	p := refusal(t, err, "leads to a private or loopback address")
	require.Contains(t, p.Hint.String(), "--may-fetch 127.0.0.1")

	w := newWorld(t, base.Config{MayFetch: []string{"127.0.0.1"}})
	got, err := w.service.Builds.FetchPackage(ctx, w.user, server.URL+"/tideline.apk", untold)
	require.NoError(t, err)
	require.Equal(t, "tideline.apk", got.FileName)
	got, err = w.service.Builds.FetchPackage(ctx, w.user, server.URL+"/named", untold)
	require.NoError(t, err)
	require.Equal(t, "odd name.apk", got.FileName, "nothing of the path is taken")
	for path, says := range map[string]string{"/inside": "leads to a private",
		"/round": "redirected more than five times", "/missing": "answers 404", "/words": "not a zip archive"} {
		_, err := w.service.Builds.FetchPackage(ctx, w.user, server.URL+path, untold)
		require.Error(t, err, path)
		require.Contains(t, base.AsProblem(err).Title, says, path)
	}
	for _, address := range []string{"ftp://example/x", "file:///etc/passwd", "tideline.apk", "http://"} {
		_, err := w.service.Builds.FetchPackage(ctx, w.user, address, untold)
		refusal(t, err, "no address that can be fetched")
	}
}

// site is a web app at an address, as its makers serve it.
func site(t *testing.T, page, manifest string) string {
	t.Helper()
	mux := http.NewServeMux()
	mux.HandleFunc("/app/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, page)
	})
	mux.HandleFunc("/app/site.webmanifest", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, manifest)
	})
	mux.HandleFunc("/app/icon.png", func(w http.ResponseWriter, _ *http.Request) {
		_ = png.Encode(w, image.NewNRGBA(image.Rect(0, 0, 8, 8)))
	})
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	return server.URL
}

const sitePage = `<!doctype html><title>Quay  board</title><link rel="icon" href="x"><link href="site.webmanifest" rel="manifest">`

func TestAWebAppIsHandedInByItsAddress(t *testing.T) {
	w := newWorld(t, base.Config{MayFetch: []string{"127.0.0.1"}})
	told := func(int64, int64) {}
	at := site(t, sitePage, `{"name": "Quay", "start_url": "./start?from=home#x", "orientation": "portrait",
		"icons": [{"src": "none.svg", "sizes": "any"}, {"src": "icon.png", "sizes": "8x8"}]}`)
	p, err := w.service.Builds.FetchPackage(context.Background(), w.user, at+"/app/", told)
	require.NoError(t, err)
	facts := p.Facts.V
	require.Equal(t, []any{appfile.Web, "Quay", at + "/app/start?from=home", "portrait", "icon.png"},
		[]any{facts.Kind, facts.Name, facts.Launch, facts.Rotation, facts.Icon})
	require.True(t, facts.AtAddress())
	require.Equal(t, strings.ReplaceAll(strings.TrimPrefix(at, "http://"), ":", "-"),
		strings.ReplaceAll(facts.ApplicationID, ":", "-"))
	again, err := w.service.Builds.FetchPackage(context.Background(), w.user, at+"/app/", told)
	require.NoError(t, err)
	require.Equal(t, p.Digest, again.Digest, "the same release is the same package")

	bare := site(t, `<!doctype html><title>Bare &amp; plain</title><p>x`, "")
	p, err = w.service.Builds.FetchPackage(context.Background(), w.user, bare+"/app/", told)
	require.NoError(t, err)
	require.Equal(t, "Bare & plain", p.Facts.V.Name, "one without a manifest goes by its title")
	require.Equal(t, bare+"/app/", p.Facts.V.Launch)

	for says, c := range map[string][2]string{
		"its manifest is none":  {sitePage, "<!doctype html>"},
		"answers 404":           {strings.ReplaceAll(sitePage, "site.webmanifest", "/nowhere"), ""},
		"no address of the web": {strings.ReplaceAll(sitePage, "site.webmanifest", "file:///etc/passwd"), ""},
		"larger than 8 MB":      {sitePage + strings.Repeat("x", 9<<20), "{}"},
		"larger than 4 MB":      {sitePage, `{"name": "` + strings.Repeat("x", 5<<20) + `"}`},
	} {
		_, err := w.service.Builds.FetchPackage(context.Background(), w.user, site(t, c[0], c[1])+"/app/", told)
		require.ErrorContains(t, err, says)
	}
	_, err = w.service.Builds.FetchPackage(context.Background(), w.user, bare+"/app/tideline.apk", told)
	require.ErrorContains(t, err, "a web page, where a package was to be", "a page to sign in at is no app")
	// A start page elsewhere is not the app's, and a manifest may not lead where no page may.
	elsewhere := site(t, sitePage, `{"name": "Elsewhere", "start_url": "https://other.example/", "id": "https://other.example/quay"}`)
	p, err = w.service.Builds.FetchPackage(context.Background(), w.user, elsewhere+"/app/", told)
	require.NoError(t, err)
	require.Equal(t, elsewhere+"/app/", p.Facts.V.Launch)
	inner := site(t, strings.ReplaceAll(sitePage, "site.webmanifest", "http://127.0.0.2:1/m"), "")
	_, err = w.service.Builds.FetchPackage(context.Background(), w.user, inner+"/app/", told)
	require.ErrorContains(t, err, "private or loopback")
}

func TestAnAddressIsTrustedByAnAuthorityOfOnesOwn(t *testing.T) {
	packages := demotest.Packages(t, demo.Versions[1])
	server := httptest.NewTLSServer(http.HandlerFunc(func(a http.ResponseWriter, _ *http.Request) {
		_, _ = a.Write(packages[0].Data)
	}))
	defer server.Close()
	w := newWorld(t, base.Config{MayFetch: []string{"127.0.0.1"}})
	_, err := w.service.Builds.FetchPackage(context.Background(), w.user, server.URL+"/a.apk", untold)
	require.ErrorContains(t, err, "certificate")

	path := filepath.Join(t.TempDir(), "authority.pem")
	require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: server.Certificate().Raw}), 0o600))
	trusted, err := outside.Trusted(path)
	require.NoError(t, err)
	w = newWorld(t, base.Config{MayFetch: []string{"127.0.0.1"}, Trusted: trusted})
	got, err := w.service.Builds.FetchPackage(context.Background(), w.user, server.URL+"/a.apk", untold)
	require.NoError(t, err)
	require.EqualValues(t, len(packages[0].Data), got.Size)
}
