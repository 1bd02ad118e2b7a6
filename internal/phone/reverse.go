package phone

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"

	"yamato/internal/bridge"
	"yamato/internal/contain"
)

// Ports that the phone listens on, and whose connections go to the bridge's machine (SERVICES.TXT, reverse:).

// maxReversed bounds how many ports of a phone lead back to a bridge's machine.
const maxReversed = 32

// reversed are the ports that lead back over one connection, by the place on the phone.
type reversed struct {
	mu    sync.Mutex
	ports map[string]back
}

type back struct {
	to string // tcp:PORT, on the bridge's machine
	l  net.Listener
}

// reverse carries out what a bridge asks of ports that lead back to it.
func (c *connection) reverse(ctx context.Context, s *stream, what string) {
	command, rest, _ := strings.Cut(what, ":")
	answer := func(err error) {
		if err != nil {
			_, _ = fmt.Fprintf(s, "FAIL%04x%s", len(err.Error()), err)
			return
		}
		_, _ = io.WriteString(s, "OKAY")
	}
	switch command {
	case "list-forward":
		c.back.mu.Lock()
		var list strings.Builder
		for _, from := range slices.Sorted(maps.Keys(c.back.ports)) {
			fmt.Fprintf(&list, "(reverse) %s %s\n", from, c.back.ports[from].to)
		}
		c.back.mu.Unlock()
		_, _ = fmt.Fprintf(s, "%04x%s", list.Len(), list.String())
	case "forward":
		from, to, _ := strings.Cut(strings.TrimPrefix(rest, "norebind:"), ";")
		port, err := c.leadBack(ctx, from, to)
		answer(err)
		if err == nil && from == "tcp:0" {
			_, _ = fmt.Fprintf(s, "%04x%s", len(port), port)
		}
	case "killforward":
		c.back.mu.Lock()
		b, ok := c.back.ports[rest]
		delete(c.back.ports, rest)
		c.back.mu.Unlock()
		if !ok {
			answer(fmt.Errorf("listener '%s' not found", rest))
			return
		}
		_ = b.l.Close()
		answer(nil)
	case "killforward-all":
		c.forgetBacks()
		answer(nil)
	default:
		answer(errors.New("unknown command"))
	}
}

func tcpPort(place string) (string, error) {
	text, ok := strings.CutPrefix(place, "tcp:")
	if n, err := strconv.ParseUint(text, 10, 16); !ok || err != nil || n > 65535 {
		return "", fmt.Errorf("unsupported place '%s'", place)
	}
	return text, nil
}

// leadBack has a port of the phone's, which is one of this machine's loopback, lead to the bridge's machine.
func (c *connection) leadBack(ctx context.Context, from, to string) (string, error) {
	port, err := tcpPort(from)
	if err != nil {
		return "", err
	}
	if _, err := tcpPort(to); err != nil {
		return "", err
	}
	c.back.mu.Lock()
	defer c.back.mu.Unlock()
	if before, ok := c.back.ports[from]; ok {
		before.to = to
		c.back.ports[from] = before
		return port, nil
	}
	if len(c.back.ports) >= maxReversed {
		return "", errors.New("too many ports")
	}
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", port))
	if err != nil {
		return "", errors.New("cannot bind listener: " + err.Error())
	}
	_, port, _ = net.SplitHostPort(l.Addr().String())
	if from == "tcp:0" {
		from = "tcp:" + port
	}
	c.back.ports[from] = back{to, l}
	c.work.Go(func() {
		for { // until the listener is closed
			conn, err := l.Accept()
			if err != nil {
				return
			}
			c.back.mu.Lock()
			to := c.back.ports[from].to
			c.back.mu.Unlock()
			c.work.Go(func() {
				_ = contain.Do("a port that leads back", func() error { c.carry(c.ctx, conn, to); return nil })
			})
		}
	})
	return port, nil
}

// carry has what comes over a connection go to the bridge's machine, and back.
func (c *connection) carry(ctx context.Context, conn net.Conn, to string) {
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	c.mu.Lock()
	c.last++
	s := newStream(c, c.last, 0)
	s.ready = false // until the bridge has opened its end
	c.streams[s.own] = s
	full := len(c.streams) > maxStreams
	c.mu.Unlock()
	defer s.leave()
	if full || c.send(bridge.Packet{Command: bridge.Open, Arg0: s.own, Data: []byte(to + "\x00")}) != nil {
		s.end()
		_ = s.Close()
		return
	}
	var both sync.WaitGroup
	both.Go(func() {
		_, _ = io.Copy(conn, s)
		_ = conn.Close()
	})
	_, _ = io.Copy(s, conn)
	_ = s.Close()
	both.Wait()
}

func (c *connection) forgetBacks() {
	c.back.mu.Lock()
	defer c.back.mu.Unlock()
	for from, b := range c.back.ports {
		_ = b.l.Close()
		delete(c.back.ports, from)
	}
}
