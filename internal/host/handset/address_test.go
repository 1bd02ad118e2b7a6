package handset

import (
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

// TestAnAppAtAnAddressIsOpenedThere has it store something, be updated where it is, and be cleaned.
func TestAnAppAtAnAddressIsOpenedThere(t *testing.T) {
	t.Parallel()
	var release, asked atomic.Int64
	release.Store(1)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/favicon.ico" { // a browser asks for that whenever it finds the time
			asked.Add(1)
		}
		w.Header().Set("Content-Type", "text/html")
		_, _ = fmt.Fprintf(w, `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width"><p id="path">%s</p><p id="release">%d</p>
<p id="stored"></p><script>localStorage.n = Number(localStorage.n || 0) + 1; document.getElementById('stored').textContent = localStorage.n</script>`,
			r.URL.Path, release.Load())
	}))
	defer server.Close()
	host := strings.TrimPrefix(server.URL, "http://")
	app := bundled(t, fstest.MapFS{"manifest.webmanifest": {Data: []byte(`{"name": "Quay", "id": "example.quay", "start_url": "` +
		server.URL + `/board/", "version": "1.0+1"}`)}})
	require.True(t, app.Package.AtAddress())
	d := kaede(t, host)
	ctx := opened(t, d, app)
	require.Equal(t, "/board/", at(t, ctx, d, "path").Content())
	release.Store(2)
	require.NoError(t, d.Stop(ctx, "example.quay"))
	require.NoError(t, d.Start(ctx, "example.quay", device.Resume))
	require.Equal(t, []string{"2", "2"}, []string{at(t, ctx, d, "release").Content(),
		at(t, ctx, d, "stored").Content()})
	require.NoError(t, d.OpenLink(ctx, "example.quay", "/tickets"))
	require.Equal(t, "/tickets", at(t, ctx, d, "path").Content())
	require.Error(t, d.OpenLink(ctx, "example.quay", "http://elsewhere.example/"))
	require.NoError(t, d.Clean(ctx, driver.CleanApp, "example.quay"))
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	require.NoError(t, d.Install(ctx, app))
	require.NoError(t, d.Start(ctx, "example.quay", device.Resume))
	require.Equal(t, "1", at(t, ctx, d, "stored").Content(), "nothing is left of before")

	// An address in the private network has to be named in the site file.
	before := asked.Load()
	other := kaede(t)
	require.NoError(t, other.Ready(ctx, driver.Terms{}))
	require.NoError(t, other.Install(ctx, app))
	var trouble *device.Trouble
	err := other.Start(ctx, "example.quay", device.Fresh)
	require.ErrorContains(t, err, "name "+host+" under reach")
	require.False(t, errors.As(err, &trouble), "it is no reason to take the handset out of use")
	require.Equal(t, before, asked.Load(), "nobody was asked")
	server.Close()
	require.ErrorAs(t, d.Start(ctx, "example.quay", device.Fresh), &trouble)
	require.Contains(t, trouble.Why, "does not answer")
}

// counting serves pages that tell how often they were opened, by what is stored and by a cookie.
func counting(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/favicon.ico" { // a browser asks for that whenever it finds the time
		http.NotFound(w, r)
		return
	}
	seen := 0
	if c, err := r.Cookie("seen"); err == nil {
		seen, _ = strconv.Atoi(c.Value)
	}
	http.SetCookie(w, &http.Cookie{Name: "seen", Value: strconv.Itoa(seen + 1), Path: "/", MaxAge: 3600})
	w.Header().Set("Content-Type", "text/html")
	_, _ = fmt.Fprintf(w, `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width"><p id="path">%s</p><p id="cookie">%d</p>
<p id="stored"></p><a id="away" href="%s">away</a><script>localStorage.n = Number(localStorage.n || 0) + 1; document.getElementById('stored').textContent = localStorage.n</script>`,
		r.URL.Path, seen+1, r.URL.Query().Get("to"))
}

func stayingAt(t *testing.T, id, address string) driver.App {
	t.Helper()
	return bundled(t, fstest.MapFS{"manifest.webmanifest": {Data: []byte(`{"name": "Quay", "id": "` + id +
		`", "start_url": "` +
		address + `", "version": "1.0+1"}`)}})
}

func TestTwoAppsOfOneOriginShareNothing(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(counting))
	defer server.Close()
	d := kaede(t, strings.TrimPrefix(server.URL, "http://"))
	ctx := opened(t, d, stayingAt(t, "example.quay", server.URL+"/quay/"))
	require.NoError(t, d.Install(ctx, stayingAt(t, "example.pier", server.URL+"/pier/")))
	told := func() []string {
		return []string{at(t, ctx, d, "path").Content(), at(t, ctx, d, "cookie").Content(),
			at(t, ctx, d, "stored").Content()}
	}
	require.NoError(t, d.Start(ctx, "example.pier", device.Resume))
	require.Equal(t, []string{"/pier/", "1", "1"}, told())
	require.NoError(t, d.Stop(ctx, "example.quay"))
	require.NoError(t, d.Start(ctx, "example.quay", device.Resume))
	require.Equal(t, []string{"/quay/", "2", "2"}, told())
	require.NoError(t, d.Remove(ctx, "example.quay"))
	require.NoError(t, d.Start(ctx, "example.pier", device.Resume))
	require.Equal(t, []string{"/pier/", "2", "2"}, told(), "the origin is reached while one app of it is there")
}

func TestAFreshStartLeavesNothingOfOtherOriginsEither(t *testing.T) {
	t.Parallel()
	server, other := httptest.NewServer(http.HandlerFunc(counting)), httptest.NewServer(http.HandlerFunc(counting))
	defer server.Close()
	defer other.Close()
	elsewhere := strings.Replace(other.URL, "127.0.0.1", "localhost", 1) + "/sign-in"
	d := kaede(t, strings.TrimPrefix(server.URL, "http://"),
		strings.TrimPrefix(elsewhere[:strings.LastIndex(elsewhere, "/")], "http://"))
	ctx := opened(t, d, stayingAt(t, "example.quay", server.URL+"/?to="+url.QueryEscape(elsewhere)))
	require.NoError(t, d.SetPermission(ctx, "example.quay", "location", device.Allow))
	for range 2 {
		require.NoError(t, d.Start(ctx, "example.quay", device.Fresh))
		away := at(t, ctx, d, "away").Bounds
		require.NoError(t, d.Tap(ctx, screen.Point{X: away.X + away.W/2, Y: away.Y + away.H/2}))
		require.Eventually(t, func() bool { return at(t, ctx, d, "path").Content() == "/sign-in" }, 20*time.Second,
			20*time.Millisecond)
		require.Equal(t, []string{"/sign-in", "1", "1"}, []string{at(t, ctx, d, "path").Content(),
			at(t, ctx, d, "cookie").Content(),
			at(t, ctx, d, "stored").Content()})
	}
	require.NoError(t, d.Start(ctx, "example.quay", device.Fresh))
	said, err := d.tab.ask(ctx, "(async () => (await navigator.permissions.query({name: 'geolocation'})).state)()")
	require.NoError(t, err)
	require.Equal(t, "granted", said, "what was answered beforehand goes on")
}

func TestAnAuthorityOfOnesOwnIsTrustedWhereItIsNamed(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("certutil"); err != nil {
		t.Skip("certutil is not installed (libnss3-tools)")
	}
	server := httptest.NewTLSServer(http.HandlerFunc(counting)) // its certificate is one that it has signed itself
	defer server.Close()
	path := filepath.Join(t.TempDir(), "authority.pem")
	require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: server.Certificate().Raw}), 0o600))
	app := stayingAt(t, "example.quay", server.URL+"/")
	host := strings.TrimPrefix(server.URL, "https://")
	own := &Browser{Keeper: theBrowser().Keeper, Authority: path}
	d := kaedeIn(t, own, host)
	ctx := opened(t, d, app)
	require.Equal(t, "1", at(t, ctx, d, "cookie").Content())

	stranger := kaede(t, host)
	require.NoError(t, stranger.Ready(ctx, driver.Terms{}))
	require.NoError(t, stranger.Install(ctx, app))
	require.ErrorContains(t, stranger.Start(ctx, "example.quay", device.Fresh), "handset.authority")
}
