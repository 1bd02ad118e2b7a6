package debugport

import (
	"github.com/chromedp/cdproto/target"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/host/handset/pipe"
)

// browserPath is where a client of the browser's own protocol finds a browser of its own: one context, with
// one page in it, which is the app's. What would reach beyond that is not there.
const browserPath = "/devtools/browser/app"

const (
	theTarget  = "app"
	theContext = "app"
)

// asBrowser answers what is asked of the browser itself, and gives the events that go with the answer.
func (b *Port) asBrowser(s target.SessionID, id int64, method string, params jsontext.Value) [][]byte {
	var in struct {
		TargetID   string `json:"targetId"`
		AutoAttach bool   `json:"autoAttach"`
		Discover   bool   `json:"discover"`
		Wait       bool   `json:"waitForDebuggerOnStart"`
	}
	if len(params) > 0 && json.Unmarshal(params, &in, pipe.Reads) != nil {
		return [][]byte{refusal(id, method+" cannot be read")}
	}
	info := map[string]any{"targetId": theTarget, "type": "page", "title": b.page.Name, "url": "", "attached": true,
		"canAccessOpener": false, "browserContextId": theContext}
	attached := said("Target.attachedToTarget", map[string]any{"sessionId": s, "targetInfo": info,
		"waitingForDebugger": false})
	answer := func(result map[string]any, events ...[]byte) [][]byte {
		text, err := json.Marshal(map[string]any{"id": id, "result": result}, pipe.Reads)
		if err != nil {
			return nil
		}
		return append(events, text)
	}
	mine := in.TargetID == "" || in.TargetID == theTarget
	switch {
	case method == "Browser.getVersion":
		return answer(map[string]any{"protocolVersion": "1.3", "product": "Chrome/" + b.page.Version, "revision": "",
			"userAgent": "",
			"jsVersion": ""})
	case method == "Target.getBrowserContexts":
		return answer(map[string]any{"browserContextIds": []string{theContext}})
	case method == "Target.getTargets":
		return answer(map[string]any{"targetInfos": []any{info}})
	case method == "Target.getTargetInfo" && mine:
		return answer(map[string]any{"targetInfo": info})
	case method == "Target.setDiscoverTargets" && in.Discover:
		return answer(map[string]any{}, said("Target.targetCreated", map[string]any{"targetInfo": info}))
	case method == "Target.setAutoAttach" && in.AutoAttach:
		return answer(map[string]any{}, attached)
	case method == "Target.attachToTarget" && mine:
		return answer(map[string]any{"sessionId": s}, attached)
	case method == "Target.activateTarget" && mine, method == "Target.setDiscoverTargets",
		method == "Target.setAutoAttach":
		return answer(map[string]any{})
	}
	return [][]byte{refusal(id, method+" reaches beyond the app, and is not passed on")}
}

func said(method string, params map[string]any) []byte {
	// of texts and numbers alone
	text, _ := json.Marshal(map[string]any{"method": method, "params": params}, pipe.Reads)
	return text
}

func refusal(id int64, why string) []byte {
	text, _ := json.Marshal(map[string]any{"id": id, "error": map[string]any{"code": -32000, "message": why}},
		pipe.Reads)
	return text
}

func done(id int64, s target.SessionID) []byte {
	text, _ := json.Marshal(map[string]any{"id": id, "sessionId": s, "result": map[string]any{}}, pipe.Reads)
	return text
}
