package link

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/coder/websocket"
)

// WebSocket carries messages over a WebSocket, one text frame each.
type WebSocket struct{ Socket *websocket.Conn }

// SendLimit is how long one message may take to be handed to the network.
const SendLimit = 30 * time.Second

// Send writes one message.
func (w WebSocket) Send(ctx context.Context, message any) error {
	body, encoded := message.(json.RawMessage)
	if !encoded {
		var err error
		if body, err = json.Marshal(message); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, SendLimit)
	defer cancel()
	return w.Socket.Write(ctx, websocket.MessageText, body)
}

// Receive reads one message into a pointer.
func (w WebSocket) Receive(ctx context.Context, into any) error {
	sort, body, err := w.Socket.Read(ctx)
	if err != nil {
		return err
	}
	if sort != websocket.MessageText {
		return fmt.Errorf("a message that is not text")
	}
	return Decode(body, into)
}
