package sessions

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/coder/websocket"
	"golang.org/x/sync/errgroup"

	"yamato/internal/contain"
	"yamato/internal/core/remedy"
	"yamato/internal/link"
	"yamato/internal/service/base"
	kept "yamato/internal/store/sessions"
)

// end is one end that looks on: a browser's socket, another instance's, or a command in this process.
type end interface {
	Send(ctx context.Context, message any) error
	SendFrame(ctx context.Context, frame []byte) error
}

// maxSaid bounds what somebody who looks on says at once, in bytes, and maxInbox how much of that may wait.
const (
	maxSaid  = 6 << 20
	maxInbox = 4
)

// View is a session as those who look on are told of it, whenever it has changed.
type View struct {
	State    string `json:"state"`
	Name     string `json:"name"`
	Device   string `json:"device"`
	Owner    string `json:"owner"`
	Shared   bool   `json:"shared"`
	Ahead    int    `json:"ahead"`          // sessions that wait for the same and came before
	Waits    string `json:"waits"`          // what it waits for, in words
	Why      string `json:"why"`            // it was closed
	Ending   string `json:"ending"`         // why it is about to end, "" where it is not
	EndsInMS int64  `json:"ends_in_ms"`     // where nobody uses the device, 0 where that is far off
	Lost     bool   `json:"lost,omitempty"` // its host is not heard now
}

// ServeViewer serves somebody who looks on until the session is closed, or their end is.
func (s *Part) ServeViewer(ctx context.Context, c base.Caller, number int64, conn link.Live) error {
	if _, err := s.Session(ctx, c, number); err != nil {
		return err
	}
	s.looks.Add(1)
	defer s.looks.Done()
	conn.Socket.SetReadLimit(maxSaid)
	inbox := make(chan json.RawMessage, maxInbox)
	g, ctx := errgroup.WithContext(ctx)
	contain.Go(g, "a session's socket", func() error { return listen(ctx, conn, inbox) })
	contain.Go(g, "a session's socket", func() error {
		if err := s.follow(ctx, c, number, newViewer(c, false), conn, inbox); err != nil {
			return err
		}
		return errClosed
	})
	return g.Wait()
}

// listen puts what is said on a socket into an inbox.
func listen(ctx context.Context, conn link.Live, inbox chan<- json.RawMessage) error {
	for {
		_, body, err := conn.Socket.Read(ctx)
		if err != nil {
			return err
		}
		select {
		case inbox <- body:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

var errClosed = base.Refuse(base.Missing, "the session is closed", "its page shows what stays of it")

// follow keeps somebody at a session, wherever its live traffic comes together, until it is closed.
func (s *Part) follow(ctx context.Context, c base.Caller, number int64, v *viewer, to end,
	inbox <-chan json.RawMessage) error {
	heard, leave := s.Bell.Subscribe()
	defer leave()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	told := ""
	for {
		one, err := s.Session(ctx, c, number)
		if err != nil {
			return err
		}
		if err := s.tellView(ctx, one, &told, to); err != nil {
			return err
		}
		if one.ClosedAt != nil {
			return nil
		}
		switch {
		case one.LeaseID == nil || one.Instance == nil:
		case *one.Instance == s.Instance:
			if g := s.stage(*one.LeaseID); g != nil {
				if err := s.attend(ctx, g, v, to, inbox, func(ctx context.Context) error {
					now, err := s.Session(ctx, c, number)
					if err != nil {
						return err
					}
					return s.tellView(ctx, now, &told, to)
				}); err != nil {
					return err
				}
				told = ""
				continue
			}
		case one.Address != "" && one.Secret != "":
			err := s.relay(ctx, one, c, v.program, to, inbox)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			s.Log.Info("a relay to another instance has ended", "session", number, "error", err)
			told = ""
		}
		unheard := inbox
		if v.program { // its one order waits until somebody is there to take it
			unheard = nil
		}
		select {
		case body := <-unheard:
			if err := turnAway(ctx, to, body); err != nil {
				return err
			}
		case <-heard:
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// turnAway answers an order that nobody is there to take: whoever gave it is not to wait for ever.
func turnAway(ctx context.Context, to end, body json.RawMessage) error {
	var m Said
	if link.Decode(body, &m) != nil || m.Order == nil {
		return nil
	}
	return to.Send(ctx, written(link.Told{Answer: &link.Answer{ID: m.Order.ID,
		Trouble: "the device's host is not heard now; nothing was done",
		Remedy:  "it goes on by itself once it is back"}}))
}

func (s *Part) stage(lease int64) *stage {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stages[lease]
}

// tellView tells how a session is, where that has changed.
func (s *Part) tellView(ctx context.Context, one kept.Session, told *string, to end) error {
	v := View{State: string(one.State), Name: one.Name, Device: one.Device, Owner: one.AskedBy, Shared: one.Shared,
		Why:    one.Why,
		Ending: one.EndAsked}
	if one.LeaseID == nil && one.ClosedAt == nil {
		v.Device = one.Wanted
		v.Waits = "a device of those asked for"
		if one.Wanted != "" {
			v.Waits = one.Wanted
		}
		var err error
		if v.Ahead, err = s.Store.Ahead(ctx, one); err != nil {
			return err
		}
	}
	v.Lost = one.LeaseID != nil && one.State != "opening" && (one.Address == "" || one.Instance != nil &&
		*one.Instance == s.Instance && s.stage(*one.LeaseID) == nil)
	if left := time.Until(one.UsedAt.Add(time.Duration(one.IdleMS) * time.Millisecond)); one.State == "open" &&
		left < min(warnFor,
			time.Duration(one.IdleMS)*time.Millisecond/2) {
		v.EndsInMS = max(1, left.Truncate(time.Second).Milliseconds())
	}
	body := written(map[string]View{"session": v})
	if string(body) == *told {
		return nil
	}
	*told = string(body)
	return to.Send(ctx, body)
}

// presence is how often it is noted that somebody is there.
const presence = 4 * time.Second

// attend serves somebody at a stage of this instance, until that is gone. It gives nil then.
func (s *Part) attend(ctx context.Context, g *stage, v *viewer, to end, inbox <-chan json.RawMessage,
	look func(context.Context) error) error {
	if err := g.join(v); err != nil {
		return err
	}
	defer g.leave(v)
	out, stop := context.WithCancel(ctx)
	speaking := make(chan error, 1)
	// ends with out, and is waited for below
	go func() { speaking <- contain.Do("telling a viewer", func() error { return v.speak(out, to) }) }()
	defer func() { stop(); <-speaking }()
	g.present(ctx, v)
	tick, here := time.NewTicker(time.Second), time.NewTicker(presence)
	defer tick.Stop()
	defer here.Stop()
	for {
		select {
		case <-g.gone:
			return nil
		case err := <-speaking:
			speaking <- err
			return err
		case body := <-inbox:
			var m Said
			if err := link.Decode(body, &m); err != nil {
				return base.Invalid("a message that cannot be read", "load the page again")
			}
			g.hear(ctx, v, m)
		case <-tick.C:
			if look != nil {
				if err := look(ctx); err != nil {
					return err
				}
			}
		case <-here.C:
			g.present(ctx, v)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// speak sends what a viewer is to be told.
func (v *viewer) speak(ctx context.Context, to end) error {
	for {
		words, frame, err := v.take()
		if err != nil {
			return err
		}
		for _, w := range words {
			if err := to.Send(ctx, w); err != nil {
				return err
			}
		}
		if frame != nil {
			if err := to.SendFrame(ctx, frame); err != nil {
				return err
			}
		}
		if words != nil || frame != nil {
			continue
		}
		select {
		case <-v.box.Rings():
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// relay passes everything on to and from the instance where a session's live traffic comes together.
func (s *Part) relay(ctx context.Context, one kept.Session, c base.Caller, program bool, to end,
	inbox <-chan json.RawMessage) error {
	dialling, stop := context.WithTimeout(ctx, 5*time.Second)
	path := fmt.Sprintf("/api/v1/relay/%d", *one.LeaseID)
	socket, answer, err := websocket.Dial(dialling, one.Address+path, s.dialling(signed(one.Secret, path, c, program)))
	stop()
	if answer != nil && answer.Body != nil {
		_ = answer.Body.Close()
	}
	if err != nil {
		return err
	}
	defer socket.CloseNow()
	socket.SetReadLimit(link.MaxLive)
	there := link.Live{Socket: socket}
	g, ctx := errgroup.WithContext(ctx)
	contain.Go(g, "a session's socket", func() error {
		for {
			sort, body, err := socket.Read(ctx)
			if err != nil {
				return err
			}
			if sort == websocket.MessageBinary {
				err = to.SendFrame(ctx, body)
			} else {
				err = to.Send(ctx, json.RawMessage(body))
			}
			if err != nil {
				return err
			}
		}
	})
	contain.Go(g, "a session's socket", func() error {
		for {
			select {
			case body := <-inbox:
				if err := there.Send(ctx, body); err != nil {
					return err
				}
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	})
	return g.Wait()
}

// ServeRelay serves somebody whom another instance relays, until the stage is gone.
func (s *Part) ServeRelay(ctx context.Context, c base.Caller, program bool, lease int64, conn link.Live) error {
	g := s.stage(lease)
	if g == nil {
		return base.NotFound("that session is not here any more", "")
	}
	one, err := s.Store.SessionByID(ctx, g.session)
	if err != nil {
		return err
	}
	if one.ProjectID != c.ProjectID || one.AskedBy != c.Name && !one.Shared {
		return base.Forbidden("this session is not shared", "")
	}
	s.looks.Add(1)
	defer s.looks.Done()
	conn.Socket.SetReadLimit(maxSaid)
	inbox := make(chan json.RawMessage, maxInbox)
	told := ""
	group, ctx := errgroup.WithContext(ctx)
	contain.Go(group, "a session's socket", func() error { return listen(ctx, conn, inbox) })
	contain.Go(group, "a session's socket", func() error {
		err := s.attend(ctx, g, newViewer(c, program), conn, inbox, func(ctx context.Context) error {
			now, err := s.Store.SessionNumbered(ctx, c.ProjectID, c.Name, one.Number)
			if err != nil {
				return err
			}
			return s.tellView(ctx, now, &told, conn)
		})
		if err == nil {
			err = errClosed
		}
		return err
	})
	return group.Wait()
}

// command is an order given by a program: of all that it is told it wants the answer.
type command struct{ answers chan link.Answer }

func (c command) Send(ctx context.Context, message any) error {
	body, ok := message.(json.RawMessage)
	if !ok {
		return nil
	}
	var t link.Told
	if json.Unmarshal(body, &t) != nil || t.Answer == nil {
		return nil
	}
	select {
	case c.answers <- *t.Answer:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (command) SendFrame(context.Context, []byte) error { return nil }

// Order has a device do something in a session that the caller has, and waits for the answer.
func (s *Part) Order(ctx context.Context, c base.Caller, number int64, o link.Order) (link.Answer, error) {
	one, err := s.own(ctx, c, number)
	if err != nil {
		return link.Answer{}, err
	}
	if one.ClosedAt != nil {
		return link.Answer{}, base.Invalid(fmt.Sprintf("session %d is closed: %s", number, one.Why),
			remedy.Say("%s opens another", remedy.SessionOpen))
	}
	ctx, stop := context.WithTimeout(ctx, doTime)
	defer stop()
	o.ID = 1
	inbox := make(chan json.RawMessage, 1)
	inbox <- written(Said{Order: &o})
	mine := command{make(chan link.Answer, 1)}
	ended := make(chan error, 1)
	following, leave := context.WithCancel(ctx)
	go func() {
		ended <- contain.Do("a session's order", func() error {
			return s.awaitStage(following, c, number, mine,
				inbox)
		})
	}() // ends with following, and is waited for
	defer func() { leave(); <-ended }()
	select {
	case a := <-mine.answers:
		return a, nil
	case err := <-ended:
		ended <- err
		if err == nil {
			err = errClosed
		}
		if ctx.Err() != nil {
			err = base.Refuse(base.NoAnswer, fmt.Sprintf("the device did not answer within %s", doTime),
				"see on the session's page what it does")
		}
		return link.Answer{}, err
	}
}

// doTime bounds how long a program waits for an answer.
const doTime = 90 * time.Second

// awaitStage is follow for a command: its order is not to be lost while there is no stage yet.
func (s *Part) awaitStage(ctx context.Context, c base.Caller, number int64, to end, inbox chan json.RawMessage) error {
	for {
		one, err := s.Session(ctx, c, number)
		if err != nil || one.ClosedAt != nil {
			return err
		}
		ready := one.LeaseID != nil && one.Instance != nil && (*one.Instance != s.Instance && one.Address != "" ||
			s.stage(*one.LeaseID) != nil)
		if ready {
			return s.follow(ctx, c, number, newViewer(c, true), to, inbox)
		}
		if !base.Every(ctx, 100*time.Millisecond) {
			return ctx.Err()
		}
	}
}
