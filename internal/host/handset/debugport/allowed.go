package debugport

import (
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/host/handset/pipe"
)

// What a debugger may ask of a page is a list of what is allowed: the parts of the protocol that are about this page
// and what its app has stored. The rest reaches, or may come to reach, files of the host, other pages or the browser
// as a whole: what navigates, downloads, traces, trusts certificates or gives permissions.

// wholeDomains are parts of the protocol that are about the page alone, whatever is asked.
var wholeDomains = words(`Accessibility Animation Audits CSS CacheStorage Console DOMDebugger DOMSnapshot DOMStorage
	Debugger DeviceOrientation Emulation EventBreakpoints HeapProfiler IndexedDB Inspector LayerTree Log Media Overlay
	Performance PerformanceTimeline Preload Profiler Runtime Schema ServiceWorker WebAudio WebAuthn`)

// commands are those of other parts that are about the page alone.
var commands = words(`DOM.collectClassNamesFromSubtree DOM.copyTo DOM.describeNode DOM.disable DOM.discardSearchResults DOM.enable
	DOM.focus DOM.forceShowPopover DOM.getAnchorElement DOM.getAttributes DOM.getBoxModel DOM.getContainerForNode
	DOM.getContentQuads DOM.getDetachedDomNodes DOM.getDocument DOM.getElementByRelation DOM.getFlattenedDocument
	DOM.getFrameOwner DOM.getNodeForLocation DOM.getNodeStackTraces DOM.getNodesForSubtreeByStyle DOM.getOuterHTML
	DOM.getQueryingDescendantsForContainer DOM.getRelayoutBoundary DOM.getSearchResults DOM.getTopLayerElements
	DOM.hideHighlight DOM.highlightNode DOM.highlightRect DOM.markUndoableState DOM.moveTo DOM.performSearch
	DOM.pushNodeByPathToFrontend DOM.pushNodesByBackendIdsToFrontend DOM.querySelector DOM.querySelectorAll DOM.redo
	DOM.removeAttribute DOM.removeNode DOM.requestChildNodes DOM.requestNode DOM.resolveNode DOM.scrollIntoViewIfNeeded
	DOM.setAttributeValue DOM.setAttributesAsText DOM.setInspectedNode DOM.setNodeName DOM.setNodeStackTracesEnabled
	DOM.setNodeValue DOM.setOuterHTML DOM.undo
	Fetch.continueRequest Fetch.continueResponse Fetch.continueWithAuth Fetch.disable Fetch.enable Fetch.failRequest
	Fetch.fulfillRequest Fetch.getResponseBody
	Input.cancelDragging Input.dispatchKeyEvent Input.dispatchMouseEvent Input.dispatchTouchEvent
	Input.emulateTouchFromMouseEvent Input.imeSetComposition Input.insertText Input.setIgnoreInputEvents
	Input.synthesizePinchGesture Input.synthesizeScrollGesture Input.synthesizeTapGesture
	Memory.getDOMCounters
	Network.clearBrowserCache Network.clearBrowserCookies Network.deleteCookies Network.disable
	Network.emulateNetworkConditions Network.enable Network.enableReportingApi Network.getAllCookies Network.getCookies
	Network.getRequestPostData Network.getResponseBody Network.getSecurityIsolationStatus Network.replayXHR
	Network.searchInResponseBody Network.setAttachDebugStack Network.setBlockedURLs Network.setBypassServiceWorker
	Network.setCacheDisabled Network.setCookie Network.setCookies Network.setExtraHTTPHeaders Network.setUserAgentOverride
	Page.addScriptToEvaluateOnNewDocument Page.bringToFront Page.captureScreenshot Page.captureSnapshot
	Page.createIsolatedWorld Page.disable Page.enable Page.getAppManifest Page.getFrameTree Page.getInstallabilityErrors
	Page.getLayoutMetrics Page.getNavigationHistory Page.getResourceContent Page.getResourceTree
	Page.handleJavaScriptDialog Page.reload Page.removeScriptToEvaluateOnNewDocument Page.screencastFrameAck
	Page.searchInResource Page.setBypassCSP Page.setLifecycleEventsEnabled Page.startScreencast Page.stopLoading
	Page.stopScreencast
	Security.disable Security.enable`)

// unless are parameters that a command may not be given: another address for a request of the page's, and keys that
// paste, copy or cut for the browser (Input.dispatchKeyEvent has editing commands).
var unless = map[string][]string{"Fetch.continueRequest": {"url"}, "Input.dispatchKeyEvent": {"commands"}}

func words(text string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(text) {
		out[w] = true
	}
	return out
}

// refused tells why a command is not passed on, "" where it is.
func refused(method string, params jsontext.Value) string {
	domain, _, ok := strings.Cut(method, ".")
	if !ok || !wholeDomains[domain] && !commands[method] {
		return method + " reaches beyond the app, and is not passed on"
	}
	if keys := unless[method]; len(keys) > 0 {
		var given map[string]jsontext.Value
		if len(params) > 0 && json.Unmarshal(params, &given, pipe.Reads) != nil {
			return method + " cannot be read"
		}
		for _, key := range keys {
			if _, there := given[key]; there {
				return method + " with " + key + " reaches beyond the app, and is not passed on"
			}
		}
	}
	return ""
}
