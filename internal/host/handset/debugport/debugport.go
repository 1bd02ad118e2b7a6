// Package debugport lets debuggers reach one page of a browser, and nothing else of it: the browser's
// own protocol over a WebSocket, found by the list at /json/list as browsers give it.
package debugport

import (
	"context"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto/target"
	"github.com/coder/websocket"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/host/handset/pipe"
)

// Page is what debuggers are joined to.
type Page struct {
	Browser pipe.Session
	Target  target.ID
	Name    string
	Version string // the browser's
}

// Port is where debuggers come to; each has a session of its own.
type Port struct {
	Address string // host and port, on loopback
	page    Page
	life    context.Context
	end     context.CancelFunc
	joined  sync.WaitGroup // who has come
	serving sync.WaitGroup
}

// Open gives a port until ctx ends, the browser is gone, or it is closed.
func Open(ctx context.Context, page Page) (*Port, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &Port{Address: l.Addr().String(), page: page}
	b.life, b.end = context.WithCancel(ctx)
	server := &http.Server{Handler: b, ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: 64 << 10}
	b.serving.Go(func() { _ = server.Serve(l) })
	b.serving.Go(func() {
		select {
		case <-b.life.Done():
		case <-page.Browser.Gone:
		}
		b.end()
		_ = server.Close()
		b.joined.Wait()
	})
	return b, nil
}

// Close ends the port and all that came by it.
func (b *Port) Close() {
	b.end()
	b.serving.Wait()
}

const debugPath = "/devtools/page/app"

// ServeHTTP lists the page, and joins who comes by WebSocket. What is on the way from a page in
// some browser, or by another name than loopback's, is refused: it is no debugger.
func (b *Port) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if name, _, err := net.SplitHostPort(r.Host); err != nil && r.Host != "localhost" && r.Host != "127.0.0.1" ||
		err == nil && name != "localhost" && name != "127.0.0.1" || r.Header.Get("Origin") != "" {
		http.Error(w, "a debugger is no page", http.StatusForbidden)
		return
	}
	switch r.URL.Path {
	case "/json", "/json/list":
		w.Header().Set("Content-Type", "application/json")
		_ = json.MarshalWrite(w, []map[string]string{{"id": "app", "type": "page", "title": b.page.Name,
			"webSocketDebuggerUrl": "ws://" + r.Host + debugPath}}) // it may have come by another port
	case "/json/version":
		w.Header().Set("Content-Type", "application/json")
		_ = json.MarshalWrite(w, map[string]string{"Browser": "Chrome/" + b.page.Version, "Protocol-Version": "1.3",
			"webSocketDebuggerUrl": "ws://" + r.Host + browserPath})
	case debugPath, browserPath:
		b.joined.Add(1)
		defer b.joined.Done()
		b.join(w, r)
	default:
		http.NotFound(w, r)
	}
}

// maxDebug bounds one message of a debugger's, and maxHeld all that waits for it, in bytes.
const (
	maxDebug = 16 << 20
	maxHeld  = 64 << 20
)

func (b *Port) join(w http.ResponseWriter, r *http.Request) {
	socket, err := websocket.Accept(w, r, nil)
	if err != nil {
		return
	}
	defer func() { _ = socket.CloseNow() }()
	socket.SetReadLimit(maxDebug)
	ctx, stop := context.WithCancel(b.life)
	defer stop()
	s, err := target.AttachToTarget(b.page.Target).WithFlatten(true).Do(b.page.Browser.On(ctx))
	if err != nil {
		return
	}
	defer func() {
		b.page.Browser.Listen(s, nil)
		b.page.Browser.Post(target.CommandDetachFromTarget, target.DetachFromTarget().WithSessionID(s))
	}()
	d := debugger{b, s, r.URL.Path == browserPath}
	events := make(chan []byte, 4096) // the pipe's goroutine must not wait: who does not read is left
	var held atomic.Int64             // bytes of them
	b.page.Browser.Listen(s, func(method string, params jsontext.Value) {
		event := map[string]any{"method": method, "params": params}
		if d.whole {
			event["sessionId"] = s
		}
		text, err := json.Marshal(event, pipe.Reads)
		if err != nil {
			return
		}
		if held.Add(int64(len(text))) > maxHeld {
			stop()
			return
		}
		select {
		case events <- text:
		default:
			stop()
		}
	})
	var both sync.WaitGroup
	defer both.Wait()
	defer stop()
	both.Go(func() {
		defer stop()
		for {
			select {
			case text := <-events:
				held.Add(-int64(len(text)))
				if socket.Write(ctx, websocket.MessageText, text) != nil {
					return
				}
			case <-ctx.Done():
				_ = socket.CloseNow()
				return
			}
		}
	})
	for {
		_, text, err := socket.Read(ctx)
		if err != nil {
			return
		}
		answers, ok := d.answer(ctx, text)
		if !ok {
			return
		}
		for _, a := range answers {
			if socket.Write(ctx, websocket.MessageText, a) != nil {
				return
			}
		}
	}
}

// debugger is a tool that has joined a page.
type debugger struct {
	port    *Port
	session target.SessionID
	whole   bool // it was told of a browser with one page in it
}

// answer carries out what a debugger says, and gives what it is told; false where there is no more to be said.
func (d debugger) answer(ctx context.Context, text []byte) (answers [][]byte, ok bool) {
	var command struct {
		ID      int64            `json:"id"`
		Session target.SessionID `json:"sessionId"`
		Method  string           `json:"method"`
		Params  jsontext.Value   `json:"params"`
	}
	if json.Unmarshal(text, &command, pipe.Reads) != nil {
		return nil, false
	}
	switch {
	case d.whole && command.Session == "":
		return d.port.asBrowser(d.session, command.ID, command.Method, command.Params), true
	case d.whole && command.Session != d.session:
		return [][]byte{refusal(command.ID, "there is no session "+string(command.Session))}, true
	case d.whole && (command.Method == "Target.setDiscoverTargets" || command.Method == "Target.setAutoAttach"):
		return [][]byte{done(command.ID, d.session)}, true // there are no others to be found
	}
	answer := d.port.pass(ctx, d.session, command.ID, command.Method, command.Params, d.whole)
	return [][]byte{answer}, answer != nil
}

// pass has the page carry a command out, and gives the answer as the protocol has it.
func (b *Port) pass(ctx context.Context, s target.SessionID, id int64, method string, params jsontext.Value,
	whole bool) []byte {
	out := map[string]any{"id": id}
	if whole {
		out["sessionId"] = s
	}
	why := refused(method, params)
	if why == "" {
		var given any
		if len(params) > 0 {
			given = params
		}
		number, answer, err := b.page.Browser.Send(s, method, given)
		if err != nil {
			return nil
		}
		select {
		case m := <-answer:
			if out["result"] = m.Result; m.Error != nil {
				delete(out, "result")
				out["error"] = map[string]any{"code": m.Error.Code, "message": m.Error.Message}
			}
		case <-ctx.Done():
			b.page.Browser.Forget(number)
			return nil
		}
	} else {
		out["error"] = map[string]any{"code": -32000, "message": why}
	}
	text, err := json.Marshal(out, pipe.Reads)
	if err != nil {
		return nil
	}
	return text
}
