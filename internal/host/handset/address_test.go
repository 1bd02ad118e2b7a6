package handset

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
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
	require.Equal(t, []string{"2", "2"}, []string{at(t, ctx, d, "release").Content(), at(t, ctx, d, "stored").Content()})
	require.NoError(t, d.OpenLink(ctx, "example.quay", "/tickets"))
	require.Equal(t, "/tickets", at(t, ctx, d, "path").Content())
	require.Error(t, d.OpenLink(ctx, "example.quay", "http://elsewhere.example/"))
	require.NoError(t, d.Clean(ctx, driver.CleanApp, "example.quay"))
	require.NoError(t, d.Ready(ctx, driver.Surroundings{Language: "en-GB"}))
	require.NoError(t, d.Install(ctx, app))
	require.NoError(t, d.Start(ctx, "example.quay", device.Resume))
	require.Equal(t, "1", at(t, ctx, d, "stored").Content(), "nothing is left of before")

	// An address in the private network has to be named in the site file.
	before := asked.Load()
	other := kaede(t)
	require.NoError(t, other.Ready(ctx, driver.Surroundings{Language: "en-GB"}))
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
