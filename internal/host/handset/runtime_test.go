package handset

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// TestAnAppForStandInsDoesTheSameOnAHandset runs the stand-ins' own probe app, packed for the web.
func TestAnAppForStandInsDoesTheSameOnAHandset(t *testing.T) {
	t.Parallel()
	source, err := os.ReadFile("../standin/testdata/probe.js")
	require.NoError(t, err)
	data, err := demo.PackWeb(demo.App{ID: "example.probe", Name: "Probe", Version: demo.Version{Name: "1.0", Code: 1},
		Program: source})
	require.NoError(t, err)
	d, app := kaede(t), packed(t, data)
	ctx := opened(t, d, app)
	id := app.Package.ApplicationID
	shows := func(element, text string) {
		t.Helper()
		for end := d.Now() + 10*time.Second; at(t, ctx, d, element).Content() != text; {
			require.Less(t, d.Now(), end, "#%s shows %q, not %q", element, at(t, ctx, d, element).Content(), text)
			tree, err := d.Tree(ctx)
			require.NoError(t, err)
			require.NoError(t, d.AwaitChange(ctx, tree.Revision, end))
		}
	}
	tap := func(element string) {
		t.Helper()
		require.NoError(t, d.Tap(ctx, at(t, ctx, d, element).Visible.Centre()))
	}
	pad := at(t, ctx, d, "pad").Visible
	c := pad.Centre()
	left, right := screen.Point{X: pad.X + 10, Y: c.Y}, screen.Point{X: pad.X + pad.W - 10, Y: c.Y}
	for _, g := range []struct {
		is      string
		fingers []device.Finger
	}{{"tap", []device.Finger{device.Tapped(c)}}, {"hold", []device.Finger{device.Hold(c, 800*time.Millisecond)}},
		{"left", []device.Finger{device.Drag(right, left, 200*time.Millisecond)}},
		{"right", []device.Finger{device.Drag(left, right, 200*time.Millisecond)}},
		{"pinch", device.Pinch(c, 150, 40, 300*time.Millisecond)},
		{"spread", device.Pinch(c, 40, 150, 300*time.Millisecond)},
		{"double", []device.Finger{device.DoubleTap(c)}}} {
		for tries := 0; ; tries++ { // a machine that has other things to do may not keep their pace
			require.NoError(t, d.Perform(ctx, g.fingers...))
			end := d.Now() + 2*time.Second
			for at(t, ctx, d, "gesture").Content() != g.is && d.Now() < end {
				tree, err := d.Tree(ctx)
				require.NoError(t, err)
				require.NoError(t, d.AwaitChange(ctx, tree.Revision, end))
			}
			if tries == 6 || at(t, ctx, d, "gesture").Content() == g.is {
				break
			}
		}
		shows("gesture", g.is)
	}
	require.NoError(t, d.SetAppearance(ctx, true))
	shows("scheme", "dark")
	require.NoError(t, d.SetLanguage(ctx, "pt-PT"))
	shows("language", "pt-PT")
	require.NoError(t, d.SetPermission(ctx, id, "location", device.Allow))
	require.NoError(t, d.SetPlace(ctx, &device.Place{Latitude: 35.1, Longitude: 139.2, Accuracy: 5}))
	tap("locate")
	shows("place", "35.100 139.200")
	require.NoError(t, d.SetPermission(ctx, id, "location", device.Deny))
	tap("locate")
	shows("place", "refused")
	tap("call")
	shows("answer", "there is an answer")
	require.NoError(t, d.SetNetwork(ctx, device.Network{None: true}))
	shows("network", "none")
	tap("call")
	shows("answer", "no answer")
	require.NoError(t, d.SetNetwork(ctx, device.Network{}))
	require.NoError(t, d.Tilt(ctx, 10, 30, 0))
	shows("tilt", "30")
	require.NoError(t, d.Shake(ctx))
	shows("shaken", "1")
	require.NoError(t, d.OpenLink(ctx, id, "/#tickets"))
	shows("page", "/tickets")
	file := filepath.Join(t.TempDir(), "note.txt")
	require.NoError(t, os.WriteFile(file, []byte("mind the gap"), 0o600))
	require.NoError(t, d.PutFiles(ctx, file))
	tap("choose")
	shows("chosen", "note.txt: mind the gap")
	require.NoError(t, d.SendAway(ctx))
	require.NoError(t, d.Start(ctx, id, device.Resume))
	shows("away", "1")
	served(t, ctx, d)
	require.NoError(t, d.SetPermission(ctx, id, "notifications", device.Allow))
	require.NoError(t, d.Push(ctx, id, "the 9.40 is late"))
	shows("message", "the 9.40 is late")
}
