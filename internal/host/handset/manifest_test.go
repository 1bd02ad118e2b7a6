package handset

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/verdict"
)

const asking = `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width, viewport-fit=cover">
<p id="mode"></p><p id="clear"></p><div id="edge" style="padding: env(safe-area-inset-top) 0 0 env(safe-area-inset-left)"></div>
<script>
function tell() {
  const s = getComputedStyle(document.getElementById('edge'));
  document.getElementById('clear').textContent = s.paddingTop + ' ' + s.paddingLeft;
  document.getElementById('mode').textContent = ['fullscreen', 'standalone', 'minimal-ui', 'browser'].filter((m) => matchMedia('(display-mode: ' + m + ')').matches).join();
}
addEventListener('resize', tell);
setInterval(tell, 50);
tell();
</script>`

// TestAPageIsToldHowItIsShown tells it of the manifest's display, and where a cut-out is.
func TestAPageIsToldHowItIsShown(t *testing.T) {
	t.Parallel()
	for display, mode := range map[string]string{"standalone": "standalone", "fullscreen": "fullscreen", "": "browser",
		"odd": "browser"} {
		d := kaede(t)
		d.config.Cutout = "hole"
		ctx := opened(t, d, bundled(t, fstest.MapFS{"index.html": {Data: []byte(asking)},
			"manifest.webmanifest": {Data: []byte(
				`{"name": "Shown", "id": "` + odd + `", "start_url": "/", "display": "` + display + `"}`)}}))
		require.Equal(t, mode, at(t, ctx, d, "mode").Content())
		require.Equal(t, verdict.Pass, verdictOf(t, d, `expect #clear shows "32px 0px"`).Verdict)
		require.NoError(t, d.Rotate(ctx, device.Landscape))
		require.Equal(t, verdict.Pass, verdictOf(t, d, `expect #clear shows "0px 32px"`).Verdict)
	}
}
