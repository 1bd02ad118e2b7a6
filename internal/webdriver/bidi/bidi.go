// Package bidi speaks W3C WebDriver BiDi as a local end: commands and their answers, and events, over one WebSocket.
package bidi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"

	"yamato/internal/contain"
	"yamato/internal/core/plain"
	"yamato/internal/webdriver"
)

// MaxMessage bounds a message of the remote end's, in bytes: pictures come in one.
const MaxMessage = 48 << 20

// ErrGone tells that the remote end has closed the connection, or cannot be reached any more.
var ErrGone = errors.New("the remote end is gone")

// Conn is a connection. Several goroutines may use it.
type Conn struct {
	ws   *websocket.Conn
	hear func(method string, params json.RawMessage)
	over sync.WaitGroup
	stop context.CancelFunc

	// Gone is closed when the connection has ended.
	Gone chan struct{}

	mu      sync.Mutex
	last    uint64
	waiting map[uint64]chan answer
	why     error
}

type answer struct {
	result json.RawMessage
	err    error
}

// Dial connects to a remote end's address (ws, wss). hear is told of events, one at a time, by the goroutine that
// reads: it is not to wait for answers. It may be nil.
func Dial(ctx context.Context, address string, client *http.Client, header http.Header, hear func(method string, params json.RawMessage)) (*Conn, error) {
	ws, _, err := websocket.Dial(ctx, address, &websocket.DialOptions{HTTPClient: client, HTTPHeader: header})
	if err != nil {
		return nil, fmt.Errorf("the remote end cannot be connected to: %w", err)
	}
	ws.SetReadLimit(MaxMessage)
	reading, stop := context.WithCancel(context.Background())
	c := &Conn{ws: ws, hear: hear, stop: stop, Gone: make(chan struct{}), waiting: map[uint64]chan answer{}}
	c.over.Go(func() { c.read(reading) })
	return c, nil
}

// read takes messages in until the connection ends.
func (c *Conn) read(ctx context.Context) {
	var why error
	for why == nil {
		_, text, err := c.ws.Read(ctx)
		if err != nil {
			why = err
			break
		}
		why = contain.Do("a message of a browser's", func() error { return c.take(text) })
	}
	c.mu.Lock()
	c.why = fmt.Errorf("%w: %w", ErrGone, why)
	for id, w := range c.waiting {
		delete(c.waiting, id)
		w <- answer{err: c.why}
	}
	c.mu.Unlock()
	close(c.Gone)
	_ = c.ws.CloseNow()
}

// take takes a message in (BiDi 3.1). What is none of the standard's ends the connection: nobody knows what would
// come next.
func (c *Conn) take(text []byte) error {
	var in struct {
		Type    string          `json:"type"`
		ID      *uint64         `json:"id"`
		Method  string          `json:"method"`
		Params  json.RawMessage `json:"params"`
		Result  json.RawMessage `json:"result"`
		Error   string          `json:"error"`
		Message string          `json:"message"`
	}
	if err := json.Unmarshal(text, &in); err != nil {
		return fmt.Errorf("it sent what is no message: %w", err)
	}
	switch in.Type {
	case "event":
		if c.hear != nil {
			c.hear(in.Method, in.Params)
		}
		return nil
	case "success", "error":
	default:
		return fmt.Errorf("it sent a message of the type %q", plain.Clip(in.Type, 40))
	}
	if in.ID == nil {
		return nil // to a message that it could not read
	}
	c.mu.Lock()
	w := c.waiting[*in.ID]
	delete(c.waiting, *in.ID)
	c.mu.Unlock()
	if w == nil {
		return nil // nobody waits for it any more
	}
	a := answer{result: in.Result}
	if in.Type == "error" {
		a.err = &webdriver.Error{Code: webdriver.Code(plain.Text(in.Error, 100)), Message: plain.Text(in.Message, 2000)}
	}
	w <- a
	return nil
}

// Send sends a command; its answer comes over the channel, which has room for it. forget is called by who does not
// wait for it any more.
func (c *Conn) send(ctx context.Context, method string, params any) (got <-chan answer, forget func(), err error) {
	if params == nil {
		params = struct{}{}
	}
	w := make(chan answer, 1)
	c.mu.Lock()
	if c.why != nil {
		c.mu.Unlock()
		return nil, nil, c.why
	}
	c.last++
	id := c.last
	c.waiting[id] = w
	c.mu.Unlock()
	forget = func() {
		c.mu.Lock()
		delete(c.waiting, id)
		c.mu.Unlock()
	}
	text, err := json.Marshal(map[string]any{"id": id, "method": method, "params": params})
	if err == nil {
		if err = c.ws.Write(ctx, websocket.MessageText, text); err != nil && ctx.Err() == nil {
			err = fmt.Errorf("%w: %w", ErrGone, err)
		}
	}
	if err != nil {
		forget()
		return nil, nil, err
	}
	return w, forget, nil
}

// Call sends a command and reads its result into out, which may be nil. Its error is a *webdriver.Error where the
// remote end answered with one, ErrGone, or the context's cause.
func (c *Conn) Call(ctx context.Context, method string, params, out any) error {
	if _, bounded := ctx.Deadline(); !bounded {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeoutCause(ctx, webdriver.Patience, &webdriver.Broken{
			Why: "it did not answer within " + webdriver.Patience.String()})
		defer stop()
	}
	// A write that a context ends takes the connection along (coder/websocket, Conn.Write): it has a time of its own.
	writing, stop := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer stop()
	got, forget, err := c.send(writing, method, params)
	if err != nil {
		return err
	}
	select {
	case a := <-got:
		if a.err != nil || out == nil {
			return a.err
		}
		if err := json.Unmarshal(a.result, out); err != nil {
			return &webdriver.Broken{Why: "its answer to " + method + " is of another type than the standard's", Err: err}
		}
		return nil
	case <-ctx.Done():
		forget()
		return context.Cause(ctx)
	}
}

// Post sends a command whose answer nobody waits for.
func (c *Conn) Post(method string, params any) {
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	if _, forget, err := c.send(ctx, method, params); err == nil {
		forget()
	}
}

// Close ends the connection, and waits until nothing is told any more.
func (c *Conn) Close() {
	_ = c.ws.CloseNow()
	c.stop()
	c.over.Wait()
}
