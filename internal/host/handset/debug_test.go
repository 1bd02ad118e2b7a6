package handset

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
	"github.com/coder/websocket"
	"github.com/stretchr/testify/require"

	"yamato/internal/link"
)

// TestADebuggerReachesTheAppAndNothingElse joins two to one page.
func TestADebuggerReachesTheAppAndNothingElse(t *testing.T) {
	t.Parallel()
	d := kaede(t)
	_, err := d.DebugPort(context.Background())
	require.ErrorContains(t, err, "switched off")
	ctx := opened(t, d, probe(t))
	address, err := d.DebugPort(ctx)
	require.NoError(t, err)
	get := func(path string, header ...string) (int, string) {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+address+path, nil)
		require.NoError(t, err)
		for i := 0; i+1 < len(header); i += 2 {
			if r.Header.Set(header[i], header[i+1]); header[i] == "Host" {
				r.Host = header[i+1]
			}
		}
		a, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer a.Body.Close()
		text, err := io.ReadAll(a.Body)
		require.NoError(t, err)
		return a.StatusCode, string(text)
	}
	status, text := get("/json/list")
	require.Equal(t, http.StatusOK, status)
	var list []map[string]string
	require.NoError(t, json.Unmarshal([]byte(text), &list))
	require.Len(t, list, 1)
	where := list[0]["webSocketDebuggerUrl"]
	status, _ = get("/json/list", "Origin", "https://elsewhere.example")
	require.Equal(t, http.StatusForbidden, status, "a page in some browser is no debugger")
	status, _ = get("/json/list", "Host", "elsewhere.example")
	require.Equal(t, http.StatusForbidden, status)
	status, _ = get("/json/new")
	require.Equal(t, http.StatusNotFound, status)

	join := func() link.WebSocket {
		socket, _, err := websocket.Dial(ctx, where, nil)
		require.NoError(t, err)
		t.Cleanup(func() { _ = socket.CloseNow() })
		return link.WebSocket{Socket: socket}
	}
	one, two := join(), join()
	ask := func(s link.WebSocket, id int, method, params string) string {
		require.NoError(t, s.Send(ctx, json.RawMessage(`{"id":`+string(rune('0'+id))+`,"method":"`+method+`","params":`+
			params+`}`)))
		for {
			var m struct {
				ID int
			}
			_, text, err := s.Socket.Read(ctx)
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(text, &m))
			if m.ID == id {
				return string(text)
			}
		}
	}
	require.Contains(t, ask(one, 1, "Runtime.evaluate", `{"expression":"document.title"}`), `"value":"Probe"`)
	require.Contains(t, ask(two, 1, "Runtime.evaluate", `{"expression":"6 * 7"}`), `"value":42`)
	require.Contains(t, ask(one, 2, "Runtime.enable", "{}"), `"id":2`)
	require.Contains(t, ask(two, 2, "No.such", "{}"), `"error"`)
	for i, method := range []string{"Target.getTargets", "Browser.close", "DOM.setFileInputFiles", "Page.navigate"} {
		require.Contains(t, ask(one, 3+i, method, "{}"), "reaches beyond the app")
	}
	// What is done by it is seen by the handset, and the handset still is driven.
	ask(two, 3, "Runtime.evaluate", `{"expression":"document.getElementById('more').click()"}`)
	require.Equal(t, "1", at(t, ctx, d, "count").Content())

	// A client of the browser's own protocol finds a browser of its own, with the app in it and nothing else.
	status, text = get("/json/version")
	require.Equal(t, http.StatusOK, status)
	var version map[string]string
	require.NoError(t, json.Unmarshal([]byte(text), &version))
	require.Contains(t, version["webSocketDebuggerUrl"], "/devtools/browser/")
	remote, stop := chromedp.NewRemoteAllocator(ctx, "http://"+address)
	defer stop()
	client, stop := chromedp.NewContext(remote, chromedp.WithTargetID("app"))
	defer stop()
	var title string
	var targets []*target.Info
	require.NoError(t, chromedp.Run(client, chromedp.Evaluate("document.title", &title),
		chromedp.ActionFunc(func(ctx context.Context) (err error) {
			targets, err = target.GetTargets().Do(cdp.WithExecutor(ctx, chromedp.FromContext(ctx).Browser))
			return err
		})))
	require.Equal(t, "Probe", title)
	require.Len(t, targets, 1)
	require.ErrorContains(t, chromedp.Run(client, chromedp.ActionFunc(func(ctx context.Context) error {
		_, err := target.CreateTarget("about:blank").Do(cdp.WithExecutor(ctx, chromedp.FromContext(ctx).Browser))
		return err
	})), "reaches beyond the app")

	require.NoError(t, d.Stop(ctx, "example.probe"))
	_, _, err = two.Socket.Read(ctx)
	require.Error(t, err, "it ends with the app")
	_, err = http.Get("http://" + address + "/json/list")
	require.Error(t, err, "and so does the port")
}
