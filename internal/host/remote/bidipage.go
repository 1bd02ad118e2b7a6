package remote

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/inpage"
	"yamato/internal/host/silence"
	"yamato/internal/host/waits"
	"yamato/internal/webdriver"
	"yamato/internal/webdriver/bidi"
)

// sandbox is the world of look.js (BiDi, script.Target), beside the page's own scripts.
const sandbox = "yamato"

// The channels over which pages tell us (BiDi, script.ChannelValue).
const (
	changedChannel = "yamato-changed"
	askedChannel   = "yamato-asked"
)

// questioned are the permissions that ask.js tells of.
var questioned = []string{"location", "notifications", "camera", "microphone"}

// bidiPage is what an app shows, over WebDriver BiDi: a window, and those that it has opened.
type bidiPage struct {
	conn *bidi.Conn
	proc int // that keeps the browser, 0 where it is elsewhere
	tell tells

	changed chan struct{} // has an element when something may have changed
	pending waits.Requests

	mu        sync.Mutex
	contexts  []string // windows of the app, the one in front last
	within    map[string]string
	ended     string // why the page is no more
	dialogs   map[string]*dialog
	questions []string
	clip      *string
	files     []string
	closing   bool
}

// tells is who hears what a page logs and calls.
type tells struct {
	logged func(level, tag, text string)
	began  func(id, method, address string)
	call   func(id string, c device.Call)
}

// maxWindows bounds the windows of an app, and maxFrames its frames.
const (
	maxWindows = 5
	maxFrames  = 200
)

func newBidiPage(conn *bidi.Conn, proc int, t tells) *bidiPage {
	return &bidiPage{conn: conn, proc: proc, tell: t, changed: make(chan struct{}, 1), within: map[string]string{},
		dialogs: map[string]*dialog{}}
}

func (p *bidiPage) wake() {
	select {
	case p.changed <- struct{}{}:
	default:
	}
}

// front is the context that is in front, "" for none.
func (p *bidiPage) front() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.contexts) == 0 {
		return ""
	}
	return p.contexts[len(p.contexts)-1]
}

// top is the window that a context lies in.
func (p *bidiPage) top(context string) string {
	for deep := 0; deep < 50 && p.within[context] != ""; deep++ {
		context = p.within[context]
	}
	return context
}

// heard takes an event in. It is called by the goroutine that reads.
func (p *bidiPage) heard(method string, params json.RawMessage) {
	switch method {
	case "browsingContext.contextCreated", "browsingContext.contextDestroyed":
		p.contextEvent(method, params)
	case "browsingContext.navigationStarted":
		var e struct{ Context string }
		if json.Unmarshal(params, &e) == nil && e.Context == p.front() {
			p.pending.Clear()
			p.mu.Lock()
			p.questions = nil
			p.mu.Unlock()
		}
	case "browsingContext.userPromptOpened":
		var e struct{ Context, Type, Message, DefaultValue string }
		if json.Unmarshal(params, &e) == nil {
			p.promptOpened(e.Context, &dialog{kind: e.Type, message: e.Message, entry: plain.Text(e.DefaultValue, 2000)})
		}
	case "browsingContext.userPromptClosed":
		var e struct{ Context string }
		if json.Unmarshal(params, &e) == nil {
			p.mu.Lock()
			delete(p.dialogs, e.Context)
			p.mu.Unlock()
		}
	case "script.message":
		p.message(params)
	case "log.entryAdded":
		p.entry(params)
	case "input.fileDialogOpened":
		p.fileDialog(params)
	case "browsingContext.downloadWillBegin":
		var e struct{ SuggestedFilename string }
		if json.Unmarshal(params, &e) == nil {
			p.tell.logged("warn", "browser", "a file was offered and is not kept here: "+plain.Text(plain.Clip(e.SuggestedFilename, 300), 400))
		}
	default:
		if strings.HasPrefix(method, "network.") {
			p.networked(method, params)
		}
		return
	}
	p.wake()
}

func (p *bidiPage) promptOpened(context string, d *dialog) {
	p.mu.Lock()
	leaving := d.kind == "beforeunload" && p.closing
	if !leaving {
		p.dialogs[p.top(context)] = d
	}
	p.mu.Unlock()
	if leaving { // whoever starts or ends an app does not ask it
		go p.conn.Post("browsingContext.handleUserPrompt", map[string]any{"context": context, "accept": true})
	}
}

// contextEvent takes in that a window or a frame has come, or is gone.
func (p *bidiPage) contextEvent(method string, params json.RawMessage) {
	var e struct {
		Context        string
		Parent         *string
		OriginalOpener *string
		URL            string
	}
	if json.Unmarshal(params, &e) != nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if method == "browsingContext.contextDestroyed" {
		delete(p.within, e.Context)
		delete(p.dialogs, e.Context)
		p.pending.FrameGone(e.Context)
		if i := slices.Index(p.contexts, e.Context); i >= 0 {
			p.contexts = slices.Delete(p.contexts, i, i+1)
			if len(p.contexts) == 0 && !p.closing {
				p.ended = "its page was closed"
			}
		}
		return
	}
	switch {
	case e.Parent != nil:
		if len(p.within) < maxFrames {
			p.within[e.Context] = *e.Parent
		}
	case e.OriginalOpener != nil && slices.Contains(p.contexts, *e.OriginalOpener):
		if len(p.contexts) >= maxWindows {
			p.tell.logged("warn", "browser", "a window was opened and is not shown, as there are many: "+plain.Clip(e.URL, 300))
			go p.conn.Post("browsingContext.close", map[string]any{"context": e.Context})
			return
		}
		p.contexts = append(p.contexts, e.Context)
	}
}

// message takes in what a script tells over a channel.
func (p *bidiPage) message(params json.RawMessage) {
	var e struct {
		Channel string
		Data    bidi.Value
	}
	if json.Unmarshal(params, &e) != nil || e.Channel != askedChannel {
		return
	}
	text, _ := e.Data.Text()
	if said, ok := strings.CutPrefix(text, "said:"); ok {
		p.tell.logged("info", "browser", plain.Text(said, 500))
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if copied, ok := strings.CutPrefix(text, "copied:"); ok {
		p.clip = &copied
	} else if slices.Contains(questioned, text) && !slices.Contains(p.questions, text) {
		p.questions = append(p.questions, text)
	}
}

// entry takes a line of the log in (BiDi, log.LogEntry).
func (p *bidiPage) entry(params json.RawMessage) {
	var e struct {
		Level, Text, Type, Method string
		Args                      []bidi.Value
		Source                    struct{ Context string }
	}
	if json.Unmarshal(params, &e) != nil {
		return
	}
	p.mu.Lock()
	ours := e.Source.Context == "" || slices.Contains(p.contexts, p.top(e.Source.Context))
	p.mu.Unlock()
	if !ours {
		return
	}
	level := map[string]string{"error": "error", "warn": "warn", "debug": "debug"}[e.Level]
	if level == "" {
		level = "info"
	}
	tag, text := "console", e.Text
	if e.Type == "javascript" {
		tag, level = "uncaught", "error"
	} else if len(e.Args) > 0 {
		words := []string{}
		for _, a := range e.Args[:min(len(e.Args), 50)] {
			word, _ := a.Text()
			words = append(words, word)
		}
		text = strings.Join(words, " ")
	}
	p.tell.logged(level, tag, text)
}

// fileDialog gives a page that asks for files those that were put on the device, or none.
func (p *bidiPage) fileDialog(params json.RawMessage) {
	var e struct {
		Context  string
		Element  *struct{ SharedID string }
		Multiple bool
	}
	if json.Unmarshal(params, &e) != nil {
		return
	}
	p.mu.Lock()
	files := p.files
	p.files = nil
	p.mu.Unlock()
	if len(files) == 0 || e.Element == nil {
		p.tell.logged("info", "browser", "the app asked for a file, and there was none to choose")
		return
	}
	if !e.Multiple {
		files = files[:1]
	}
	go p.conn.Post("input.setFiles", map[string]any{"context": e.Context, "files": files,
		"element": map[string]string{"sharedId": e.Element.SharedID}})
}

func (p *bidiPage) asked() *dialog {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.contexts) == 0 {
		return nil
	}
	d := p.dialogs[p.contexts[len(p.contexts)-1]]
	if d == nil || d.answered {
		return nil
	}
	return d
}

func (p *bidiPage) answer(ctx context.Context, yes bool, text string) error {
	front := p.front()
	d := p.asked()
	if d == nil {
		return nil
	}
	p.mu.Lock()
	d.answered = true
	p.mu.Unlock()
	in := map[string]any{"context": front, "accept": yes}
	if yes && d.kind == "prompt" {
		in["userText"] = text
	}
	err := p.conn.Call(ctx, "browsingContext.handleUserPrompt", in, nil)
	if webdriver.Is(err, webdriver.NoSuchAlert) {
		return nil
	}
	return p.told(err)
}

func (p *bidiPage) question() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.questions) == 0 {
		return ""
	}
	return p.questions[0]
}

func (p *bidiPage) settled(permission string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.questions = slices.DeleteFunc(p.questions, func(q string) bool { return q == permission })
}

func (p *bidiPage) copied() *string {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := p.clip
	p.clip = nil
	return out
}

func (p *bidiPage) choose(paths []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.files = slices.Clone(paths)
}

// alive tells why the page is no more.
func (p *bidiPage) alive() error {
	if err := p.lost(); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ended != "" {
		return &device.Crash{Reason: p.ended, Report: "the browser told of no more"}
	}
	return nil
}

// lost tells why the browser is no more.
func (p *bidiPage) lost() error {
	select {
	case <-p.conn.Gone:
		return died("the browser")
	default:
		return nil
	}
}

// told says whose an error of the browser's is.
func (p *bidiPage) told(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, bidi.ErrGone):
		return died("the browser")
	}
	return err
}

func (p *bidiPage) window(context.Context) (string, error) { return p.front(), nil }

func (p *bidiPage) windows() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.contexts)
}

// leave closes the window in front; the one behind it is there again.
func (p *bidiPage) leave(ctx context.Context) error {
	front := p.front()
	err := p.conn.Call(ctx, "browsingContext.close", map[string]any{"context": front}, nil)
	p.mu.Lock()
	p.contexts = slices.DeleteFunc(p.contexts, func(c string) bool { return c == front })
	p.mu.Unlock()
	if webdriver.Is(err, "no such frame") {
		return nil
	}
	return p.told(err)
}

func (p *bidiPage) waits(overlook []string) (awaits, open []string) {
	return p.pending.Awaited(overlook)
}

// await waits until something may have changed, or until then.
func (p *bidiPage) await(ctx context.Context, until time.Time) error {
	end := time.NewTimer(time.Until(until))
	defer end.Stop()
	select {
	case <-p.changed:
	case <-end.C:
	case <-device.Nudge(ctx):
	case <-p.conn.Gone:
		return died("the browser")
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	return nil
}

// Names does nothing: the script has roles and names of its own in browsers that do not tell theirs.
func (p *bidiPage) Names(context.Context, inpage.Place) error { return nil }

// AskAt evaluates an expression in the world of look.js.
func (p *bidiPage) AskAt(ctx context.Context, in inpage.Place, expression string) (string, error) {
	front := p.front()
	where := front
	if in.Frame != "" {
		where = in.Frame
	}
	v, err := p.eval(ctx, where, sandbox, expression, strings.HasPrefix(expression, "(async"))
	switch {
	case err == nil:
		text, _ := v.Text()
		return text, nil
	case in.Frame != "" && webdriver.Is(err, webdriver.NoSuchFrame, "no such node"):
		return "", inpage.ErrFrameGone
	}
	return "", err
}

// eval evaluates an expression in a context. What is thrown is a *bidi.Thrown. A page that does not answer for too
// long, in its own time, has stopped answering.
func (p *bidiPage) eval(ctx context.Context, where, world, expression string, promise bool) (*bidi.Value, error) {
	quiet := silence.From(p.proc)
	for tries := 0; ; tries++ {
		if err := p.alive(); err != nil {
			return nil, err
		}
		if p.asked() != nil {
			return nil, errDialog
		}
		inner, stop := context.WithTimeoutCause(ctx, silence.Patience*9, errSilent)
		type got struct {
			v   *bidi.Value
			err error
		}
		done := make(chan got, 1)
		var over sync.WaitGroup
		over.Go(func() {
			v, err := p.conn.Evaluate(inner, where, world, expression, promise)
			done <- got{v, err}
		})
		finish := func() { stop(); over.Wait() }
		end := time.NewTimer(silence.Unmeasured)
	waiting:
		for {
			select {
			case g := <-done:
				end.Stop()
				finish()
				// between two documents there is nobody to answer: it is asked again, of the next
				if webdriver.Is(g.err, webdriver.NoSuchFrame, webdriver.UnknownError) && where == p.front() && tries < 100 && quiet.Left() > 0 {
					if err := p.await(ctx, time.Now().Add(50*time.Millisecond)); err != nil {
						return nil, err
					}
					break waiting
				}
				return g.v, p.told(g.err)
			case <-p.changed:
				p.wake()
				if p.asked() != nil {
					end.Stop()
					finish()
					return nil, errDialog
				}
				select { // it may go on changing meanwhile
				case g := <-done:
					done <- g
				case <-time.After(5 * time.Millisecond):
				case <-ctx.Done():
				}
			case <-end.C:
				if left := quiet.Left(); left > 0 {
					end.Reset(left)
					continue
				}
				finish()
				return nil, p.stuck()
			case <-ctx.Done():
				end.Stop()
				finish()
				return nil, context.Cause(ctx)
			}
		}
	}
}

var errSilent = errors.New("the page did not answer")

// stuck ends a page that does not answer any more.
func (p *bidiPage) stuck() error {
	p.mu.Lock()
	p.ended = "it stopped answering"
	p.mu.Unlock()
	return &device.Crash{Reason: fmt.Sprintf("it stopped answering: for more than %s its page did one thing without a pause",
		silence.Patience)}
}

// FrameNumbered gives the context of a frame by the number that the document about it has for it.
func (p *bidiPage) FrameNumbered(ctx context.Context, in inpage.Place, number int) (inpage.Place, bool) {
	where := in.Frame
	if where == "" {
		where = p.front()
	}
	v, err := p.eval(ctx, where, sandbox, fmt.Sprintf("yamatoFrameAt(%d)", number), false)
	if err != nil {
		return inpage.Place{}, false
	}
	c := v.Window()
	return inpage.Place{Frame: c}, c != ""
}

// evaluate evaluates an expression among the page's own scripts.
func (p *bidiPage) evaluate(ctx context.Context, expression string) (string, error) {
	v, err := p.eval(ctx, p.front(), "", expression, true)
	if err != nil {
		return "", err
	}
	text, err := v.Text()
	return text, err
}

// perform does what sources of input do. A dialog that comes up meanwhile keeps the answer back, and the input has
// arrived all the same.
func (p *bidiPage) perform(ctx context.Context, sources ...webdriver.Source) error {
	return p.during(ctx, func(ctx context.Context) error {
		return p.conn.Call(ctx, "input.performActions", map[string]any{"context": p.front(), "actions": sources}, nil)
	})
}

// during does something that the page answers to.
func (p *bidiPage) during(ctx context.Context, what func(context.Context) error) error {
	if p.asked() != nil {
		return nil
	}
	quiet := silence.From(p.proc)
	inner, stop := context.WithCancel(ctx)
	var over sync.WaitGroup
	done := make(chan error, 1)
	over.Go(func() { done <- what(inner) })
	defer over.Wait()
	defer stop()
	end := time.NewTimer(silence.Unmeasured)
	defer end.Stop()
	windows := p.windows()
	for {
		select {
		case err := <-done:
			if err != nil && ctx.Err() == nil {
				if p.windows() < windows || p.asked() != nil { // what was touched has closed its window, or asks
					return nil
				}
				if crash := p.alive(); crash != nil {
					return crash
				}
				if webdriver.Is(err, webdriver.NoSuchFrame, "no such node") { // the document has gone with it
					return nil
				}
			}
			return p.told(err)
		case <-p.changed:
			p.wake()
			if p.asked() != nil || p.alive() != nil {
				stop()
				<-done
				return nil
			}
			select {
			case err := <-done:
				done <- err
			case <-time.After(5 * time.Millisecond):
			case <-ctx.Done():
			}
		case <-end.C:
			if left := quiet.Left(); left > 0 {
				end.Reset(left)
				continue
			}
			stop()
			<-done
			return p.stuck()
		}
	}
}

// picture is what is to be seen of the page.
func (p *bidiPage) picture(ctx context.Context) ([]byte, error) {
	if err := p.alive(); err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeoutCause(ctx, silence.Patience, errors.New("the browser drew nothing within "+silence.Patience.String()))
	defer stop()
	var out struct{ Data string }
	if err := p.conn.Call(ctx, "browsingContext.captureScreenshot", map[string]any{"context": p.front(), "origin": "viewport"}, &out); err != nil {
		if crash := p.alive(); crash != nil {
			return nil, crash
		}
		return nil, p.told(err)
	}
	data, err := base64.StdEncoding.DecodeString(out.Data)
	if err != nil {
		return nil, &webdriver.Broken{Why: "its picture is not in base64", Err: err}
	}
	return data, nil
}

// back goes back by one.
func (p *bidiPage) back(ctx context.Context) (bool, error) {
	err := p.during(ctx, func(ctx context.Context) error {
		return p.conn.Call(ctx, "browsingContext.traverseHistory", map[string]any{"context": p.front(), "delta": -1}, nil)
	})
	if webdriver.Is(err, "no such history entry") {
		return false, nil
	}
	return err == nil, err
}

// loadTime is how long an app's first page may take.
const loadTime = 60 * time.Second

// visit goes to an address and waits until there is a document.
func (p *bidiPage) visit(ctx context.Context, address string) error {
	ctx, stop := context.WithTimeoutCause(ctx, loadTime, &device.Crash{Reason: "its start page did not come within " +
		loadTime.String()})
	defer stop()
	err := p.during(ctx, func(ctx context.Context) error {
		return p.conn.Call(ctx, "browsingContext.navigate", map[string]any{"context": p.front(), "url": address,
			"wait": "interactive"}, nil)
	})
	p.mu.Lock()
	p.closing = false
	p.mu.Unlock()
	var e *webdriver.Error
	if errors.As(err, &e) && e.Code == webdriver.UnknownError {
		switch {
		case strings.Contains(e.Message, "ABORT"): // the app may go elsewhere at once, or give a file
			return nil
		case strings.Contains(e.Message, "CERT") || strings.Contains(e.Message, "SSL") || strings.Contains(e.Message, "SEC_"):
			return fmt.Errorf("the page %s shows a certificate that the browser does not trust (%s); to mend it: name its authority's PEM file as handset.authority in the site file", plain.Clip(address, 300), plain.Clip(e.Message, 200))
		}
		return &device.Trouble{Why: "the page " + plain.Clip(address, 300) + " cannot be opened: " + plain.Clip(e.Message, 200),
			Remedy: "see the host's log; where the app is at an address, check that it answers there"}
	}
	if err != nil {
		return err
	}
	return loaded(ctx, p)
}

// loaded waits until the document is all there; one that never is, for a while only.
func loaded(ctx context.Context, e interface {
	inpage.Page
	await(ctx context.Context, until time.Time) error
}) error {
	for end := time.Now().Add(loadTime / 6); ; {
		state, err := e.AskAt(ctx, inpage.Place{}, "document.readyState")
		if errors.Is(err, errDialog) || state == "complete" || err == nil && !time.Now().Before(end) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := e.await(ctx, time.Now().Add(30*time.Millisecond)); err != nil {
			return err
		}
	}
}
