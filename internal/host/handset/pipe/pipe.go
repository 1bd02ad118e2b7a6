// Package pipe speaks the browser's debugging protocol.
package pipe

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/target"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/contain"
)

// maxMessage bounds what the browser may say at once, in bytes. Pages decide how long some of
// its messages are; what is longer is passed over.
const maxMessage = 64 << 20

// ErrGone is given once the browser does not answer any more.
var ErrGone = errors.New("the browser is gone")

// Pipe is a connection to the browser: messages of JSON, each ended by a zero byte (the
// browser's option --remote-debugging-pipe). Sessions with targets share it.
type Pipe struct {
	in  io.WriteCloser
	out io.ReadCloser

	writing sync.Mutex

	mu       sync.Mutex
	last     int64
	waiting  map[int64]chan Message
	sessions map[target.SessionID]func(method string, params jsontext.Value)
	Gone     chan struct{} // closed when nothing more comes
}

// Message is one of the protocol's: a command, its answer, or an event.
type Message struct {
	ID      int64            `json:"id,omitzero"`
	Session target.SessionID `json:"sessionId,omitzero"`
	Method  string           `json:"method,omitzero"`
	Params  jsontext.Value   `json:"params,omitzero"`
	Result  jsontext.Value   `json:"result,omitzero"`
	Error   *protocolError   `json:"error,omitzero"`
}

// protocolError is what the browser refuses a command with.
type protocolError struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
	Data    string `json:"data"`
}

func (e *protocolError) Error() string {
	if e.Data != "" {
		return e.Message + ": " + e.Data
	}
	return e.Message
}

// Reads are how what the browser says is read: pages decide on some of it.
var (
	writes = json.JoinOptions(json.DefaultOptionsV2(), jsontext.AllowInvalidUTF8(true))
	Reads  = json.JoinOptions(json.DefaultOptionsV2(), jsontext.AllowInvalidUTF8(true),
		jsontext.AllowDuplicateNames(true),
		json.MatchCaseInsensitiveNames(false))
)

// New speaks over in and out. Its reader ends when out does.
func New(in io.WriteCloser, out io.ReadCloser) *Pipe {
	return &Pipe{in: in, out: out, waiting: map[int64]chan Message{}, Gone: make(chan struct{}),
		sessions: map[target.SessionID]func(string, jsontext.Value){}}
}

// CloseIn has the browser hear that nothing more comes, which ends it.
func (p *Pipe) CloseIn() error { return p.in.Close() }

// CloseOut ends Read.
func (p *Pipe) CloseOut() error { return p.out.Close() }

// Read takes in what the browser says until it says nothing more. Events are handed on in
// order, by this goroutine: who hears them must not wait.
func (p *Pipe) Read() {
	defer func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		close(p.Gone)
	}()
	from := bufio.NewReaderSize(p.out, 1<<20)
	var kept []byte
	for {
		part, err := from.ReadSlice(0)
		if len(kept) <= maxMessage {
			kept = append(kept, part...)
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		if err != nil {
			return
		}
		if len(kept) <= maxMessage {
			_ = contain.Do("hearing the browser", func() error {
				p.hear(bytes.TrimSuffix(kept,
					[]byte{0}))
				return nil
			})
		}
		kept = kept[:0]
		if cap(kept) > 4<<20 {
			kept = nil
		}
	}
}

func (p *Pipe) hear(text []byte) {
	var m Message
	if err := json.Unmarshal(text, &m, Reads); err != nil {
		return // nobody waits for what cannot be read
	}
	p.mu.Lock()
	answer := p.waiting[m.ID]
	delete(p.waiting, m.ID)
	heard := p.sessions[m.Session]
	p.mu.Unlock()
	switch {
	case m.ID != 0 && answer != nil:
		answer <- m // has room for it
	case m.ID == 0 && heard != nil:
		heard(m.Method, m.Params)
	}
}

// Listen hands a session's events to heard; nil for nobody any more. The browser's own have
// no session.
func (p *Pipe) Listen(s target.SessionID, heard func(method string, params jsontext.Value)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if heard == nil {
		delete(p.sessions, s)
	} else {
		p.sessions[s] = heard
	}
}

// Send writes a command and gives where its answer comes.
func (p *Pipe) Send(s target.SessionID, method string, params any) (int64, chan Message, error) {
	m := Message{Session: s, Method: method}
	if params != nil {
		body, err := json.Marshal(params, writes)
		if err != nil {
			return 0, nil, err
		}
		m.Params = body
	}
	answer := make(chan Message, 1)
	p.mu.Lock()
	p.last++
	m.ID = p.last
	p.waiting[m.ID] = answer
	p.mu.Unlock()
	text, err := json.Marshal(m, writes)
	if err != nil {
		p.Forget(m.ID)
		return 0, nil, err
	}
	p.writing.Lock()
	defer p.writing.Unlock()
	if _, err := p.in.Write(append(text, 0)); err != nil {
		p.Forget(m.ID)
		return 0, nil, errors.Join(ErrGone, err)
	}
	return m.ID, answer, nil
}

// Forget waits for an answer no more.
func (p *Pipe) Forget(id int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.waiting, id)
}

// Session is a target that commands are sent to; the zero one is the browser itself. It is a
// cdp.Executor.
type Session struct {
	*Pipe
	ID target.SessionID
}

// Execute sends a command and waits for its answer.
func (s Session) Execute(ctx context.Context, method string, params, result any) error {
	id, answer, err := s.Send(s.ID, method, params)
	if err != nil {
		return err
	}
	select {
	case m := <-answer:
		if m.Error != nil {
			return fmt.Errorf("%s: %w", method, m.Error)
		}
		if result == nil {
			return nil
		}
		return json.Unmarshal(m.Result, result, Reads)
	case <-s.Gone:
		s.Forget(id)
		return ErrGone
	case <-ctx.Done():
		s.Forget(id)
		return context.Cause(ctx)
	}
}

// Post sends a command whose answer nobody waits for.
func (s Session) Post(method string, params any) {
	if id, _, err := s.Send(s.ID, method, params); err == nil {
		s.Forget(id)
	}
}

// On gives a context in which cdproto's commands go to s.
func (s Session) On(ctx context.Context) context.Context { return cdp.WithExecutor(ctx, s) }
