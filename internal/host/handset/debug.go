package handset

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	"github.com/coder/websocket"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/plain"
	"yamato/internal/host/handset/pipe"
)

// maxExpression bounds what is evaluated in an app, and maxValue what it gives, in bytes.
const (
	maxExpression = 64 << 10
	maxValue      = 64 << 10
)

// Evaluate evaluates an expression in the page in front, among its own scripts.
func (d *Device) Evaluate(ctx context.Context, expression string) (string, error) {
	if err := d.reach(ctx); err != nil {
		return "", err
	}
	if d.tab == nil || d.away {
		return "", errors.New("no app is in front whose page could be asked")
	}
	if len(expression) > maxExpression {
		return "", fmt.Errorf("an expression has at most %d bytes", maxExpression)
	}
	var value *runtime.RemoteObject
	var wrong *runtime.ExceptionDetails
	err := d.do(ctx, func(ctx context.Context) (err error) {
		value, wrong, err = runtime.Evaluate(expression).WithReplMode(true).WithAwaitPromise(true).WithReturnByValue(true).Do(ctx)
		return err
	})
	switch {
	case err != nil:
		return "", err
	case wrong != nil:
		return "", errors.New(plain.Text(thrown(wrong), 2000))
	case value == nil: // a dialog came up before there was an answer
		return "", errDialog
	case value.Type == runtime.TypeUndefined:
		return "undefined", nil
	}
	return plain.Text(said(value), maxValue), nil
}

// DebugPort lets a debugger reach the page in front: the browser's own protocol over a WebSocket, found
// by the list at /json/list as browsers give it.
func (d *Device) DebugPort(ctx context.Context) (string, error) {
	if err := d.reach(ctx); err != nil {
		return "", err
	}
	if d.tab == nil {
		return "", errors.New("no app is in front that a debugger could be joined to")
	}
	if err := d.tab.alive(); err != nil {
		return "", err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	life, end := context.WithCancel(ctx)
	b := &bridge{tab: d.tab, address: l.Addr().String(), name: plain.Text(d.front, 200), life: life}
	server := &http.Server{Handler: b, ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: 64 << 10}
	d.tab.bridges.Go(func() { _ = server.Serve(l) })
	d.tab.bridges.Go(func() { // it ends with the page, and with whoever asked for it
		defer end()
		select {
		case <-life.Done():
		case <-d.tab.closing:
		case <-d.tab.Gone:
		}
		end()
		_ = server.Close()
		b.joined.Wait()
	})
	return b.address, nil
}

// bridge joins debuggers to a page, each in a session of its own.
type bridge struct {
	tab     *tab
	address string
	name    string
	life    context.Context // of the port
	joined  sync.WaitGroup
}

const debugPath = "/devtools/page/app"

// ServeHTTP lists the page, and joins who comes by WebSocket. What is on the way from a page in
// some browser, or by another name than the port's own, is refused: it is no debugger.
func (b *bridge) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Host != b.address && r.Host != strings.Replace(b.address, "127.0.0.1", "localhost", 1) || r.Header.Get("Origin") != "" {
		http.Error(w, "a debugger is no page", http.StatusForbidden)
		return
	}
	switch r.URL.Path {
	case "/json", "/json/list":
		w.Header().Set("Content-Type", "application/json")
		_ = json.MarshalWrite(w, []map[string]string{{"id": "app", "type": "page", "title": b.name,
			"webSocketDebuggerUrl": "ws://" + b.address + debugPath}})
	case "/json/version":
		w.Header().Set("Content-Type", "application/json")
		_ = json.MarshalWrite(w, map[string]string{"Browser": "Chrome/" + b.tab.browser.version, "Protocol-Version": "1.3"})
	case debugPath:
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

func (b *bridge) join(w http.ResponseWriter, r *http.Request) {
	socket, err := websocket.Accept(w, r, nil)
	if err != nil {
		return
	}
	defer func() { _ = socket.CloseNow() }()
	socket.SetReadLimit(maxDebug)
	ctx, stop := context.WithCancel(b.life)
	defer stop()
	s, err := target.AttachToTarget(b.tab.target).WithFlatten(true).Do(b.tab.browser.On(ctx))
	if err != nil {
		return
	}
	defer func() {
		b.tab.Listen(s, nil)
		b.tab.browser.Post(target.CommandDetachFromTarget, target.DetachFromTarget().WithSessionID(s))
	}()
	events := make(chan []byte, 4096) // the pipe's goroutine must not wait: who does not read is left
	var held atomic.Int64             // bytes of them
	b.tab.Listen(s, func(method string, params jsontext.Value) {
		text, err := json.Marshal(map[string]any{"method": method, "params": params}, pipe.Reads)
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
		var command struct {
			ID     int64          `json:"id"`
			Method string         `json:"method"`
			Params jsontext.Value `json:"params"`
		}
		if json.Unmarshal(text, &command, pipe.Reads) != nil {
			return
		}
		if answer := b.pass(ctx, s, command.ID, command.Method, command.Params); answer == nil ||
			socket.Write(ctx, websocket.MessageText, answer) != nil {
			return
		}
	}
}

// kept are the domains of the protocol by which the rest of the browser, and so other devices,
// could be reached.
var kept = []string{"Target.", "Browser.", "Storage.", "SystemInfo.", "Tethering."}

// pass has the page carry a command out, and gives the answer as the protocol has it.
func (b *bridge) pass(ctx context.Context, s target.SessionID, id int64, method string, params jsontext.Value) []byte {
	out := map[string]any{"id": id}
	refused := ""
	for _, domain := range kept {
		if strings.HasPrefix(method, domain) {
			refused = method + " reaches beyond the app, and is not passed on"
		}
	}
	if refused == "" {
		var given any
		if len(params) > 0 {
			given = params
		}
		number, answer, err := b.tab.Send(s, method, given)
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
			b.tab.Forget(number)
			return nil
		}
	} else {
		out["error"] = map[string]any{"code": -32000, "message": refused}
	}
	text, err := json.Marshal(out, pipe.Reads)
	if err != nil {
		return nil
	}
	return text
}
