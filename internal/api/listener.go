package api

import (
	"errors"
	"net"
	"os"
	"sync"
	"time"
)

// Bounds on connections. Behind a proxy all come from one address, and a machine of tests has hundreds of programs.
const (
	MaxConnections     = 20_000
	MaxConnectionsEach = 4_000 // from one address
)

// Bounded gives a listener that hangs up on what is more than so many connections at a time, in all and from one
// address: who has taken all that one may have keeps nobody else out.
//
// What is written to one of them is taken within a time, or it is hung up on: who reads nothing keeps no answer,
// stream or file open.
func Bounded(l net.Listener, all, each int, taken time.Duration) net.Listener {
	return &bounded{Listener: l, all: all, each: each, taken: taken, from: map[string]int{}}
}

// TakenWithin is how long one write to a connection may take. A slow one takes some kB of it in that time.
const TakenWithin = time.Minute

type bounded struct {
	net.Listener
	all, each int
	taken     time.Duration

	mu   sync.Mutex
	open int
	from map[string]int
}

// Accept waits for a connection that there is room for.
func (b *bounded) Accept() (net.Conn, error) {
	for {
		c, err := b.Listener.Accept()
		if err != nil {
			return nil, err
		}
		at := addressOf(c)
		b.mu.Lock()
		room := b.open < b.all && b.from[at] < b.each
		if room {
			b.open++
			b.from[at]++
		}
		b.mu.Unlock()
		if room {
			return &counted{Conn: c, taken: b.taken, done: func() { b.leave(at) }}, nil
		}
		_ = c.Close()
	}
}

func (b *bounded) leave(at string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.open--
	if b.from[at]--; b.from[at] <= 0 {
		delete(b.from, at)
	}
}

func addressOf(c net.Conn) string {
	host, _, err := net.SplitHostPort(c.RemoteAddr().String())
	if err != nil {
		return ""
	}
	return host
}

// counted is a connection that is counted until it is closed.
type counted struct {
	net.Conn
	taken time.Duration
	once  sync.Once
	done  func()
}

// Write hangs up on who does not take what is written.
func (c *counted) Write(b []byte) (int, error) {
	if err := c.SetWriteDeadline(time.Now().Add(c.taken)); err != nil {
		return 0, err
	}
	n, err := c.Conn.Write(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		_ = c.Close()
	}
	return n, err
}

func (c *counted) Close() error {
	defer c.once.Do(c.done)
	return c.Conn.Close()
}
