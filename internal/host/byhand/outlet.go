package byhand

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"yamato/internal/contain"
	"yamato/internal/link"
	"yamato/internal/mailbox"
	"yamato/internal/retry"
)

// outlet holds what goes out over the session's socket until it has gone. Nothing that is to last
// depends on it: where nobody takes it, the oldest goes first.
type outlet struct {
	box *mailbox.Box

	mu     sync.Mutex
	status json.RawMessage // the newest, for who comes anew
	conn   *link.Live      // nil where there is none
	nudged chan struct{}   // closed when an order comes; nil where nobody waits
}

// maxOut bounds what waits to go out, in bytes.
const maxOut = 8 << 20

func newOutlet() *outlet { return &outlet{box: mailbox.New(mailbox.Drop, maxOut)} }

// tell queues something.
func (o *outlet) tell(t link.Told) {
	body, err := json.Marshal(t)
	if err != nil {
		return // only values of our own come here
	}
	o.put(body)
}

func (o *outlet) put(body json.RawMessage) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.conn != nil || o.status != nil {
		_ = o.box.Put(body) // it drops what has waited longest, and refuses nothing
	}
}

func (o *outlet) setStatus(s link.Status) {
	body, err := json.Marshal(link.Told{Status: &s})
	if err != nil {
		return
	}
	o.mu.Lock()
	o.status = body
	o.mu.Unlock()
	o.put(body)
}

// again has the status told once more.
func (o *outlet) again() {
	o.mu.Lock()
	status := o.status
	o.mu.Unlock()
	if status != nil {
		o.put(status)
	}
}

// nudge gives a channel that is closed when an order comes; stop says that nobody waits any more.
func (o *outlet) nudge() (c <-chan struct{}, stop func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	mine := make(chan struct{})
	o.nudged = mine
	return mine, func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.nudged == mine {
			o.nudged = nil
		}
	}
}

func (o *outlet) poke() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.nudged != nil {
		close(o.nudged)
		o.nudged = nil
	}
}

// live gives the socket, nil where there is none.
func (o *outlet) live() *link.Live {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.conn
}

func (o *outlet) connect(l *link.Live) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.conn = l
}

// keepLive holds the session's socket, again and again.
func (s *sitting) keepLive(ctx context.Context) {
	pause := retry.From(50*time.Millisecond, time.Second)
	for ctx.Err() == nil {
		began := time.Now()
		err := s.liveOnce(ctx)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > 5*time.Second {
			pause.Reset()
		}
		next := pause.Next()
		if next > 400*time.Millisecond {
			s.Said.Info("the session's socket is not up; trying again", "session", s.Session.Number, "error", err)
		}
		if retry.For(ctx, next) != nil {
			return
		}
	}
}

func (s *sitting) liveOnce(ctx context.Context) error {
	conn, hangUp, err := s.Dial(ctx)
	if err != nil {
		return err
	}
	defer hangUp()
	s.out.connect(&conn)
	defer s.out.connect(nil)
	s.film.fresh()
	s.out.again()
	g, ctx := errgroup.WithContext(ctx)
	contain.Go(g, "hearing a session", func() error { return s.hear(ctx, conn) })
	contain.Go(g, "telling a session", func() error { return s.speak(ctx, conn) })
	g.Go(func() error {
		for retry.For(ctx, link.LivePing) == nil {
			wait, stop := context.WithTimeout(ctx, link.LivePing)
			err := conn.Socket.Ping(wait)
			stop()
			if err != nil {
				return err
			}
		}
		return ctx.Err()
	})
	return g.Wait()
}

func (s *sitting) speak(ctx context.Context, conn link.Live) error {
	for {
		list, err := s.out.box.Take()
		if err != nil {
			return err
		}
		for _, body := range list {
			if err := conn.Send(ctx, body); err != nil {
				return err
			}
		}
		select {
		case <-s.out.box.Rings():
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (s *sitting) hear(ctx context.Context, conn link.Live) error {
	for {
		var a link.Asked
		if _, err := conn.Receive(ctx, &a); err != nil {
			return err
		}
		if a.Shown > 0 {
			s.film.acknowledged(a.Shown)
		}
		if a.Size != nil {
			s.film.resize(*a.Size)
			s.out.poke()
		}
		if a.Again {
			s.out.again()
			s.film.fresh()
		}
		if a.Order != nil {
			size := weightOf(a.Order)
			if s.waiting.Add(size) > maxOrderBytes {
				s.waiting.Add(-size)
				s.tooMuch(a.Order.ID)
				continue
			}
			select {
			case s.orders <- *a.Order:
				s.out.poke()
			default:
				s.waiting.Add(-size)
				s.tooMuch(a.Order.ID)
			}
		}
	}
}

// tooMuch answers an order that there is no room for.
func (s *sitting) tooMuch(id int64) {
	s.out.tell(link.Told{Answer: &link.Answer{ID: id, Trouble: "the device is still busy with what came before",
		Remedy: "wait a moment"}})
}

// weightOf is about what an order takes, in bytes.
func weightOf(o *link.Order) int64 {
	return int64(len(o.Args) + len(o.Text) + len(o.Name) + 24*len(o.Path) + 500)
}
