package handset

import (
	"github.com/chromedp/cdproto/network"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/host/handset/pipe"
	"yamato/internal/host/waits"
)

// kinds are what requests are for, as the browser calls it.
var kinds = map[network.ResourceType]waits.Kind{network.ResourceTypeDocument: waits.Document,
	network.ResourceTypeScript: waits.Code, network.ResourceTypeStylesheet: waits.Code,
	network.ResourceTypeXHR: waits.Answer, network.ResourceTypeFetch: waits.Answer,
	network.ResourceTypeImage: waits.Asset, network.ResourceTypeFont: waits.Asset,
	network.ResourceTypeEventSource: waits.Endless, network.ResourceTypeWebSocket: waits.Endless,
	network.ResourceTypePing: waits.Endless, network.ResourceTypeMedia: waits.Endless,
	network.ResourceTypePrefetch: waits.Endless, network.ResourceTypeCSPViolationReport: waits.Endless,
	network.ResourceTypeManifest: waits.Endless}

// networked keeps count of what the page waits for.
func (t *tab) networked(method string, params jsontext.Value) {
	var e struct {
		RequestID string               `json:"requestId"`
		FrameID   string               `json:"frameId"`
		Type      network.ResourceType `json:"type"`
		Request   struct {
			URL    string `json:"url"`
			Method string `json:"method"`
		} `json:"request"`
		Response struct {
			MimeType string `json:"mimeType"`
		} `json:"response"`
	}
	switch method {
	case "Network.requestWillBeSent", "Network.loadingFinished", "Network.loadingFailed", "Network.responseReceived",
		"Network.dataReceived":
	default:
		return
	}
	if json.Unmarshal(params, &e, pipe.Reads) != nil {
		return
	}
	switch method {
	case "Network.loadingFinished", "Network.loadingFailed":
		if t.pending.End(e.RequestID) {
			t.wake()
		}
	case "Network.responseReceived", "Network.dataReceived":
		t.pending.Heard(e.RequestID, e.Response.MimeType)
	default:
		t.mu.Lock()
		main := t.main.String()
		t.mu.Unlock()
		t.pending.Begin(e.RequestID, e.FrameID, e.FrameID != main, kinds[e.Type], e.Request.Method, e.Request.URL)
	}
}
