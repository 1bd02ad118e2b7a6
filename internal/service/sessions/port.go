package sessions

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/coder/websocket"

	"yamato/internal/link"
	"yamato/internal/service/base"
)

// ports are the connections of people's own tools that wait for their other end, by id.
type ports struct {
	mu   sync.Mutex
	wait map[string]meeting
}

// meeting is where a host's end comes, and how it hears that it is of no use any more.
type meeting struct {
	came chan *websocket.Conn
	done chan struct{}
}

// portWait is how long a host may take to open its end.
const portWait = 20 * time.Second

// ServePort joins a tool of whoever has a session to its device's debug port, until either end closes or the lease
// ends.
func (s *Part) ServePort(ctx context.Context, c base.Caller, number int64, mine *websocket.Conn) error {
	one, err := s.own(ctx, c, number)
	if err != nil {
		return err
	}
	if one.LeaseID == nil || one.Instance == nil {
		return base.Invalid(fmt.Sprintf("session %d has no device now", number), "wait until it is open")
	}
	s.looks.Add(1)
	defer s.looks.Done()
	if *one.Instance != s.Instance {
		path := fmt.Sprintf("/api/v1/relay/%d/port", *one.LeaseID)
		there, answer, err := websocket.Dial(ctx, one.Address+path, s.dialling(signed(one.Secret, path, c, false)))
		if answer != nil && answer.Body != nil {
			_ = answer.Body.Close()
		}
		if err != nil {
			return err
		}
		return pass(ctx, mine, there)
	}
	id := base.NewToken()
	m := meeting{make(chan *websocket.Conn, 1), make(chan struct{})}
	s.ports.mu.Lock()
	s.ports.wait[id] = m
	s.ports.mu.Unlock()
	defer func() {
		s.ports.mu.Lock()
		delete(s.ports.wait, id)
		s.ports.mu.Unlock()
		close(m.done)
	}()
	answer, err := s.Order(ctx, c, number, link.Order{Do: "port", Text: id})
	if err != nil {
		return err
	}
	if answer.Trouble != "" {
		return base.Invalid(answer.Trouble, answer.Remedy)
	}
	wait, stop := context.WithTimeout(ctx, portWait)
	defer stop()
	select {
	case theirs := <-m.came:
		return pass(ctx, mine, theirs)
	case <-wait.Done():
		return base.Refuse(base.NoAnswer, "the device's host did not open its end",
			"see on the session's page whether its host is heard")
	}
}

// MeetPort takes a host's end of a connection, and returns when that is of no use any more. It reports false where
// nobody waits for it.
func (s *Part) MeetPort(id string, theirs *websocket.Conn) bool {
	s.ports.mu.Lock()
	m, ok := s.ports.wait[id]
	delete(s.ports.wait, id)
	s.ports.mu.Unlock()
	if !ok {
		return false
	}
	m.came <- theirs
	<-m.done
	return true
}

// ServeRelayedPort is ServePort for somebody whom another instance relays.
func (s *Part) ServeRelayedPort(ctx context.Context, c base.Caller, lease int64, mine *websocket.Conn) error {
	g := s.stage(lease)
	if g == nil {
		return base.NotFound("that session is not here any more", "")
	}
	one, err := s.Store.SessionByID(ctx, g.session)
	if err != nil {
		return err
	}
	return s.ServePort(ctx, c, one.Number, mine)
}

// pass passes bytes on both ways until either end closes.
func pass(ctx context.Context, a, b *websocket.Conn) error {
	a.SetReadLimit(link.MaxMessage)
	b.SetReadLimit(link.MaxMessage)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	ended := make(chan error, 2)
	one := func(to, from *websocket.Conn) {
		for {
			sort, body, err := from.Read(ctx)
			if err == nil {
				err = to.Write(ctx, sort, body)
			}
			if err != nil {
				ended <- err
				return
			}
		}
	}
	go one(a, b) // both end with ctx, and are waited for
	go one(b, a)
	err := <-ended
	stop()
	<-ended
	_ = a.CloseNow()
	_ = b.CloseNow()
	return err
}
