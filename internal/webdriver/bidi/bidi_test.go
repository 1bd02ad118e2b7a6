package bidi

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/require"

	"yamato/internal/webdriver"
)

// end is a remote end that answers each message as a test says.
func end(t *testing.T, answer func(ws *websocket.Conn, id int, method string)) (*Conn, chan string) {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ws, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		defer func() { _ = ws.CloseNow() }()
		for {
			_, text, err := ws.Read(r.Context())
			if err != nil {
				return
			}
			var in struct {
				ID     int
				Method string
			}
			_ = json.Unmarshal(text, &in)
			answer(ws, in.ID, in.Method)
		}
	}))
	t.Cleanup(server.Close)
	heard := make(chan string, 100)
	c, err := Dial(t.Context(), "ws"+strings.TrimPrefix(server.URL, "http")+"/session", nil, nil, func(method string, params json.RawMessage) {
		heard <- method + string(params)
		if method == "test.panics" {
			panic("of a test's")
		}
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c, heard
}

func say(ws *websocket.Conn, text string) {
	_ = ws.Write(context.Background(), websocket.MessageText, []byte(text))
}

func TestAnswersFindWhoAskedInWhateverOrderTheyCome(t *testing.T) {
	var first int
	c, heard := end(t, func(ws *websocket.Conn, id int, method string) {
		if method == "test.first" {
			first = id
			return
		}
		say(ws, `{"type":"event","method":"log.entryAdded","params":{"text":"late"}}`)
		say(ws, `{"type":"success","id":99999,"result":{}}`) // to nobody
		say(ws, `{"type":"error","id":null,"error":"invalid argument","message":""}`)
		text, _ := json.Marshal(map[string]any{"type": "success", "id": id, "result": map[string]int{"n": 2}})
		say(ws, string(text))
		text, _ = json.Marshal(map[string]any{"type": "error", "id": first, "error": "no such frame", "message": "gone"})
		say(ws, string(text))
	})
	failed := make(chan error, 1)
	go func() { failed <- c.Call(t.Context(), "test.first", nil, nil) }()
	require.Eventually(t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return len(c.waiting) == 1
	}, 10*time.Second, time.Millisecond)
	var out struct{ N int }
	require.NoError(t, c.Call(t.Context(), "test.second", nil, &out))
	require.Equal(t, 2, out.N)
	err := <-failed
	require.True(t, webdriver.Is(err, webdriver.NoSuchFrame), "%v", err)
	require.Equal(t, `log.entryAdded{"text":"late"}`, <-heard)
}

// What is no message of the standard's ends the connection, and says so to all who wait.
func TestWhatIsNoMessageEndsTheConnection(t *testing.T) {
	for name, sent := range map[string]string{"no JSON": "hello", "a list": "[1]", "of no type": `{"id":1}`,
		"of another type": `{"type":"perhaps","id":1}`, "an id that is a text": `{"type":"success","id":"1"}`,
		"deep":                       `{"type":"event","method":"x","params":` + strings.Repeat("[", 100_000) + `}`,
		"too long":                   `{"type":"event","method":"x","params":"` + strings.Repeat("x", MaxMessage+1) + `"}`,
		"what meets a fault of ours": `{"type":"event","method":"test.panics","params":{}}`} {
		t.Run(name, func(t *testing.T) {
			c, _ := end(t, func(ws *websocket.Conn, _ int, _ string) { say(ws, sent) })
			require.ErrorIs(t, c.Call(t.Context(), "test", nil, nil), ErrGone)
			<-c.Gone
			require.ErrorIs(t, c.Call(t.Context(), "test", nil, nil), ErrGone, "and nothing more is asked of it")
		})
	}
	c, _ := end(t, func(ws *websocket.Conn, id int, _ string) { say(ws, `{"type":"success","id":1,"result":[7]}`) })
	var out struct{ N int }
	var b *webdriver.Broken
	require.ErrorAs(t, c.Call(t.Context(), "test", nil, &out), &b, "an answer of another type is no end")
}

func TestACallThatNobodyAnswersEndsWithItsContext(t *testing.T) {
	c, _ := end(t, func(*websocket.Conn, int, string) {})
	ctx, stop := context.WithTimeout(t.Context(), 30*time.Millisecond)
	defer stop()
	require.ErrorIs(t, c.Call(ctx, "test", nil, nil), context.DeadlineExceeded)
	require.Empty(t, c.waiting, "nobody waits any more")
}

func TestValuesReadAsPeopleWriteThem(t *testing.T) {
	for in, want := range map[string]string{
		`{"type":"string","value":"Sora → Minami"}`: "Sora → Minami", `{"type":"undefined"}`: "undefined", `{"type":"null"}`: "null",
		`{"type":"number","value":42}`: "42", `{"type":"number","value":0.5}`: "0.5", `{"type":"number","value":"NaN"}`: "NaN",
		`{"type":"boolean","value":true}`: "true", `{"type":"function"}`: "[function]", `{"type":"array"}`: "[]",
		`{"type":"object","value":[["a",{"type":"array","value":[{"type":"number","value":1}]}]]}`: `{"a":[1]}`,
		`{"type":"map","value":[[{"type":"number","value":7},{"type":"null"}]]}`:                   `{"7":null}`,
		`{"type":"window","value":{"context":"c-1"}}`:                                              "[window]",
	} {
		var v Value
		require.NoError(t, json.Unmarshal([]byte(in), &v))
		got, err := v.Text()
		require.NoError(t, err, in)
		require.Equal(t, want, got, in)
	}
	deep := `{"type":"null"}`
	for range maxDeep + 2 {
		deep = `{"type":"array","value":[` + deep + `]}`
	}
	for _, wrong := range []string{deep, `{"type":"array","value":7}`, `{"type":"object","value":[[1,2]]}`, `{"type":"string","value":7}`} {
		var v Value
		require.NoError(t, json.Unmarshal([]byte(wrong), &v))
		_, err := v.Text()
		require.Error(t, err, wrong)
	}
	var w *Value
	require.Empty(t, w.Window())
}
