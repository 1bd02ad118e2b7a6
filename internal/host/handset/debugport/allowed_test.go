package debugport

import (
	stdjson "encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatIsPassedOnIsWhatIsAllowed(t *testing.T) {
	for _, method := range []string{"Runtime.evaluate", "DOM.getDocument", "CSS.enable", "Debugger.pause",
		"Network.getResponseBody",
		"Page.captureScreenshot", "Input.dispatchMouseEvent", "Emulation.setEmulatedMedia", "Fetch.continueRequest"} {
		require.Empty(t, refused(method, nil), method)
	}
	// Files, other pages, the browser as a whole; and what nobody has heard of yet.
	for _, method := range []string{"DOM.setFileInputFiles", "DOM.getFileInfo", "Input.dispatchDragEvent",
		"Input.setInterceptDrags",
		"Page.navigate", "Page.navigateToHistoryEntry", "Page.setDownloadBehavior",
		"Page.setInterceptFileChooserDialog", "Page.printToPDF",
		"Tracing.start", "Security.setIgnoreCertificateErrors", "Browser.grantPermissions", "Browser.close",
		"Target.createTarget",
		"Storage.getCookies", "SystemInfo.getInfo", "IO.read", "Network.loadNetworkResource",
		"Network.takeResponseBodyForInterceptionAsStream",
		"Fetch.takeResponseBodyAsStream", "FileSystem.getDirectory", "Extensions.loadUnpacked", "PWA.install",
		"Tethering.bind",
		"Memory.simulatePressureNotification", "Never.heardOf", "DOM", "", ".", "DOM.", "dom.getDocument", "Runtime"} {
		require.Contains(t, refused(method, nil), "reaches beyond the app", method)
	}
	require.Empty(t, refused("Input.dispatchKeyEvent", []byte(`{"type":"keyDown","key":"v"}`)))
	require.NotEmpty(t, refused("Input.dispatchKeyEvent", []byte(`{"type":"keyDown","commands":["paste"]}`)))
	require.NotEmpty(t, refused("Fetch.continueRequest", []byte(`{"requestId":"1","url":"file:///etc/hostname"}`)))
	require.NotEmpty(t, refused("Fetch.continueRequest", []byte(`[]`)))
}

// FuzzCommands: whatever a debugger sends is answered or refused in words, and nothing passes that is not on the list.
func FuzzCommands(f *testing.F) {
	f.Add("Target.attachToTarget", []byte(`{"targetId":"app"}`), int64(1))
	f.Add("Target.createTarget", []byte(`{"url":"file:///etc/hostname"}`), int64(-1))
	f.Add("Input.dispatchKeyEvent", []byte(`{"commands":["paste"],"commands":null}`), int64(2))
	f.Add("Fetch.continueRequest", []byte(`{"url":"x"`), int64(3))
	f.Add("Browser.getVersion", []byte(`{"discover":1e400}`), int64(1<<62))
	f.Add("\x00.\xff", []byte(`nul`), int64(0))
	f.Fuzz(func(t *testing.T, method string, params []byte, id int64) {
		b := &Port{page: Page{Name: "Tideline", Version: "1"}}
		for _, text := range b.asBrowser("s", id, method, params) {
			require.True(t, stdjson.Valid(text), "%q", text)
		}
		domain, _, dotted := strings.Cut(method, ".")
		if refused(method, params) == "" {
			require.True(t, dotted && (wholeDomains[domain] || commands[method]), method)
			for _, key := range unless[method] {
				var given map[string]any
				if stdjson.Unmarshal(params, &given) == nil {
					require.NotContains(t, given, key)
				}
			}
		} else {
			require.True(t, stdjson.Valid(refusal(id, refused(method, params))))
		}
	})
}
