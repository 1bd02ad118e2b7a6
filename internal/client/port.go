package client

import (
	"context"
	"fmt"
	"net"
	"net/http"

	"github.com/coder/websocket"
)

// Port joins the debug port of the app in a session's device. The connection lasts as long as ctx.
func (s *Service) Port(ctx context.Context, session int64) (net.Conn, error) {
	c, response, err := websocket.Dial(ctx, fmt.Sprintf("%s/api/v1/projects/%s/sessions/%d/port", s.base, s.Project,
		session),
		&websocket.DialOptions{HTTPClient: s.http, HTTPHeader: http.Header{"Authorization": {"Bearer " + s.token}}})
	if err != nil {
		if response != nil && response.StatusCode >= 400 {
			return nil, fmt.Errorf("the service answers %s", response.Status)
		}
		return nil, s.unreachable(err)
	}
	c.SetReadLimit(16 << 20)
	return websocket.NetConn(ctx, c, websocket.MessageBinary), nil
}
