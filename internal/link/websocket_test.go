package link

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/require"

	"yamato/internal/core/fleet"
)

// joined gives both ends of a WebSocket on loopback.
func joined(t *testing.T) (mine, theirs *websocket.Conn) {
	t.Helper()
	accepted := make(chan *websocket.Conn, 1)
	release := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, err := websocket.Accept(w, r, nil)
		if err == nil {
			accepted <- c
			<-release
		}
	}))
	mine, response, err := websocket.Dial(context.Background(), server.URL, nil)
	require.NoError(t, err)
	if response.Body != nil {
		_ = response.Body.Close()
	}
	theirs = <-accepted
	t.Cleanup(func() { _ = mine.CloseNow(); close(release); server.Close() })
	return mine, theirs
}

func TestMessagesArriveAsTheyWereSent(t *testing.T) {
	mine, theirs := joined(t)
	ctx := context.Background()
	hello := FromHost{Hello: &Hello{Version: Version, Host: "bench",
		Devices: []Device{{Device: fleet.Device{Name: "kaede-7-1", Traits: []string{"location"}, Abilities: []string{}},
			Lease: 7}}}}
	require.NoError(t, WebSocket{mine}.Send(ctx, hello))
	var got FromHost
	require.NoError(t, WebSocket{theirs}.Receive(ctx, &got))
	require.Equal(t, hello, got)

	event := FromHost{Events: []Event{{Lease: 7, Seq: 1, Case: &CaseClosed{Case: 2, Verdict: "pass",
		Evidence: []EvidenceRef{{Sort: "picture", Name: "an order", Digest: "d", Size: 3}}}}}}
	require.NoError(t, WebSocket{mine}.Send(ctx, event))
	got = FromHost{}
	require.NoError(t, WebSocket{theirs}.Receive(ctx, &got))
	require.Equal(t, event, got)
}

func TestWhatIsNoMessageIsRefused(t *testing.T) {
	ctx := context.Background()
	for name, send := range map[string]func(*websocket.Conn) error{
		"not text":  func(c *websocket.Conn) error { return c.Write(ctx, websocket.MessageBinary, []byte("{}")) },
		"not JSON":  func(c *websocket.Conn) error { return c.Write(ctx, websocket.MessageText, []byte("{")) },
		"too large": func(c *websocket.Conn) error { return c.Write(ctx, websocket.MessageText, make([]byte, 2000)) },
	} {
		t.Run(name, func(t *testing.T) {
			mine, theirs := joined(t)
			theirs.SetReadLimit(1000)
			done := make(chan error, 1)
			go func() { done <- send(mine) }()
			var got FromHost
			require.Error(t, WebSocket{theirs}.Receive(ctx, &got))
			<-done
		})
	}
}
