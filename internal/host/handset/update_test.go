package handset

import (
	"context"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// TestAnUpdateTakesOverAndKeepsWhatWasStored installs a version over another whose service
// worker serves all of it from its cache.
func TestAnUpdateTakesOverAndKeepsWhatWasStored(t *testing.T) {
	t.Parallel()
	version := func(name string) fstest.MapFS {
		return fstest.MapFS{
			"manifest.webmanifest": {Data: []byte(`{"name": "Kept", "id": "example.kept", "start_url": "/", "version": "` + name + `+1"}`)},
			"index.html": {Data: []byte(`<!doctype html><html lang="en"><meta name="viewport" content="width=device-width"><p id="version">` + name +
				`</p><p id="stored"></p><script>localStorage.first = localStorage.first || '` + name + `'; document.getElementById('stored').textContent = localStorage.first;
navigator.serviceWorker.register('sw.js')</script>`)},
			"sw.js": {Data: []byte(`const v = '` + name + `'; addEventListener('install', (e) => e.waitUntil(caches.open(v).then((c) => c.addAll(['/']))));
addEventListener('activate', (e) => e.waitUntil(clients.claim()));
addEventListener('fetch', (e) => e.respondWith(caches.open(v).then((c) => c.match(e.request)).then((r) => r || fetch(e.request))))`)},
		}
	}
	d := kaede(t)
	ctx := opened(t, d, bundled(t, version("1.0")))
	require.Equal(t, "1.0", at(t, ctx, d, "version").Content())
	served(t, ctx, d)
	require.NoError(t, d.Stop(ctx, "example.kept"))
	require.NoError(t, d.Install(ctx, bundled(t, version("2.0"))))
	require.NoError(t, d.Start(ctx, "example.kept", device.Resume))
	require.Equal(t, "2.0", at(t, ctx, d, "version").Content(), "the new one is there")
	require.Equal(t, "1.0", at(t, ctx, d, "stored").Content(), "with what the old one has stored")
	require.NoError(t, d.Start(ctx, "example.kept", device.Fresh))
	require.Equal(t, "2.0", at(t, ctx, d, "stored").Content(), "until it is started afresh")
}

// TestTheSampleOpensWithoutANetwork has its service worker serve it.
func TestTheSampleOpensWithoutANetwork(t *testing.T) {
	t.Parallel()
	d := kaede(t)
	ctx := opened(t, d, tideline(t, demo.Versions[0]))
	served(t, ctx, d)
	require.NoError(t, d.SetNetwork(ctx, device.Network{None: true}))
	require.NoError(t, d.Stop(ctx, demo.ApplicationID))
	require.NoError(t, d.Start(ctx, demo.ApplicationID, device.Resume))
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, screen.Locator{Role: "tab"}.Find(tree))
}

// served waits until the app's service worker is at work.
func served(t *testing.T, ctx context.Context, d *Device) {
	t.Helper()
	require.Eventually(t, func() bool {
		at, err := d.tab.ask(ctx, "(async () => String((await navigator.serviceWorker.getRegistrations()).some((r) => r.active && r.active.state === 'activated')))()")
		return err == nil && at == "true"
	}, 20*time.Second, 20*time.Millisecond)
}
