package debugport

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatIsPassedOnIsWhatIsAllowed(t *testing.T) {
	for _, method := range []string{"Runtime.evaluate", "DOM.getDocument", "CSS.enable", "Debugger.pause", "Network.getResponseBody",
		"Page.captureScreenshot", "Input.dispatchMouseEvent", "Emulation.setEmulatedMedia", "Fetch.continueRequest"} {
		require.Empty(t, refused(method, nil), method)
	}
	// Files, other pages, the browser as a whole; and what nobody has heard of yet.
	for _, method := range []string{"DOM.setFileInputFiles", "DOM.getFileInfo", "Input.dispatchDragEvent", "Input.setInterceptDrags",
		"Page.navigate", "Page.navigateToHistoryEntry", "Page.setDownloadBehavior", "Page.setInterceptFileChooserDialog", "Page.printToPDF",
		"Tracing.start", "Security.setIgnoreCertificateErrors", "Browser.grantPermissions", "Browser.close", "Target.createTarget",
		"Storage.getCookies", "SystemInfo.getInfo", "IO.read", "Network.loadNetworkResource", "Network.takeResponseBodyForInterceptionAsStream",
		"Fetch.takeResponseBodyAsStream", "FileSystem.getDirectory", "Extensions.loadUnpacked", "PWA.install", "Tethering.bind",
		"Memory.simulatePressureNotification", "Never.heardOf", "DOM", "", ".", "DOM.", "dom.getDocument", "Runtime"} {
		require.Contains(t, refused(method, nil), "reaches beyond the app", method)
	}
	require.Empty(t, refused("Input.dispatchKeyEvent", []byte(`{"type":"keyDown","key":"v"}`)))
	require.NotEmpty(t, refused("Input.dispatchKeyEvent", []byte(`{"type":"keyDown","commands":["paste"]}`)))
	require.NotEmpty(t, refused("Fetch.continueRequest", []byte(`{"requestId":"1","url":"file:///etc/hostname"}`)))
	require.NotEmpty(t, refused("Fetch.continueRequest", []byte(`[]`)))
}
