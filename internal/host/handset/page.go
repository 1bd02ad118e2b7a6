package handset

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/inspector"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/serviceworker"
	"github.com/chromedp/cdproto/target"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/handset/debugport"
	"yamato/internal/host/handset/pipe"
	"yamato/internal/host/inpage"
	"yamato/internal/host/silence"
	"yamato/internal/host/waits"
)

const (
	world   = "yamato"
	binding = "yamatoChanged"
)

// patience is how long a page may do one thing without answering.
const patience = silence.Patience

// tab is a page in the browser, and what is known of it from its events. One goroutine drives
// it; events come from the pipe's.
type tab struct {
	pipe.Session
	browser *running
	target  target.ID
	main    cdp.FrameID
	events  events
	ports   []*debugport.Port       // to be closed with it
	scripts []page.ScriptIdentifier // of what its documents are made to be
	starts  int                     // how often an app was started in it
	pending waits.Requests          // that it has under way

	mu        sync.Mutex
	changed   chan struct{} // has an element when something may have changed
	context   runtime.ExecutionContextID
	crashed   string // why the page is no more, "" while it is
	dialog    *page.EventJavascriptDialogOpening
	answered  bool                 // the dialog has been
	due       string               // the name by which its pages are asked what is due
	frames    map[string]*frame    // those in the page, by the browser's names for them
	parts     []target.SessionID   // of frames and workers with a session of their own
	drags     chan *input.DragData // where what the system drags is handed over
	copied    *string              // what was copied in it, nil for nothing
	windows   []target.Info        // that the page has opened, and nobody has looked into yet
	closed    bool                 // by itself, as a window may be
	closing   bool                 // by whoever starts or ends the app
	files     []string             // to be chosen
	questions []string             // permissions that the page asks for, the first on the screen
	film      chan page.EventScreencastFrame
	workers   map[string]string // registrations of service workers, by host
}

// events are what a tab tells its device. They are called by the pipe's goroutine.
type events struct {
	logged func(level, tag, text string)
	called func(method string, params jsontext.Value) // of the network
}

// openTab opens an empty page in a browser context.
func openTab(ctx context.Context, r *running, in cdp.BrowserContextID, e events) (*tab, error) {
	id, err := target.CreateTarget("about:blank").WithBrowserContextID(in).WithNewWindow(true).Do(r.On(ctx))
	if err != nil {
		return nil, err
	}
	return joinTab(ctx, r, id, e)
}

// joinTab gives a page that is open.
func joinTab(ctx context.Context, r *running, id target.ID, e events) (*tab, error) {
	s, err := target.AttachToTarget(id).WithFlatten(true).Do(r.On(ctx))
	if err != nil {
		return nil, err
	}
	t := &tab{Session: pipe.Session{Pipe: r.Pipe, ID: s}, browser: r, target: id, events: e,
		changed: make(chan struct{}, 1),
		frames:  map[string]*frame{}, workers: map[string]string{}}
	t.Listen(s, t.heard)
	r.watch(id, t.popup, t.gone)
	on := t.On(ctx)
	if err := errors.Join(page.Enable().Do(on), runtime.Enable().Do(on), network.Enable().Do(on), log.Enable().Do(on),
		inspector.Enable().Do(on), serviceworker.Enable().Do(on), page.SetLifecycleEventsEnabled(true).Do(on),
		runtime.AddBinding(binding).WithExecutionContextName(world).Do(on),
		page.SetInterceptFileChooserDialog(true).Do(on),
		target.SetAutoAttach(true, false).WithFlatten(true).Do(on)); err != nil {
		return nil, err
	}
	t.due = rand.Text()
	if _, err := page.AddScriptToEvaluateOnNewDocument(inpage.Due(t.due)).Do(on); err != nil {
		return nil, err
	}
	if _, err := page.AddScriptToEvaluateOnNewDocument(inpage.Look(t.due)).WithWorldName(world).WithRunImmediately(true).Do(on); err != nil {
		return nil, err
	}
	if err := t.listenForAsking(ctx); err != nil {
		return nil, err
	}
	frames, err := page.GetFrameTree().Do(on)
	if err != nil {
		return nil, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.main = frames.Frame.ID
	return t, nil
}

// popup notes what the page opens: a second screen of the app, which is looked into when it is looked for.
func (t *tab) popup(info target.Info) {
	t.mu.Lock()
	full := len(t.windows) >= maxWindows
	if !full {
		t.windows = append(t.windows, info)
	}
	t.mu.Unlock()
	if full {
		t.events.logged("warn", "browser", "a window was opened and is not shown, as there are many: "+short(info.URL))
		t.browser.Post(target.CommandCloseTarget, target.CloseTarget(info.TargetID))
	}
	t.wake()
}

// heard takes an event in.
func (t *tab) heard(method string, params jsontext.Value) {
	switch method {
	case "Runtime.bindingCalled":
		var e runtime.EventBindingCalled
		if json.Unmarshal(params, &e, pipe.Reads) == nil && e.Name == askBinding {
			t.wants(e.Payload)
		}
		t.wake()
	case "Runtime.executionContextCreated":
		t.world(t.ID, params)
	case "Runtime.executionContextsCleared":
		t.mu.Lock()
		t.context = 0
		t.questions = nil
		t.mu.Unlock()
		t.pending.Clear()
		t.worldsGone(t.ID)
	case "Target.attachedToTarget":
		t.attached(params)
	case "Page.frameDetached":
		var e page.EventFrameDetached
		if json.Unmarshal(params, &e, pipe.Reads) == nil {
			t.pending.FrameGone(e.FrameID.String())
			t.wake()
			if e.Reason == page.FrameDetachedReasonRemove {
				t.mu.Lock()
				delete(t.frames, e.FrameID.String())
				t.mu.Unlock()
			}
		}
	case "Page.frameNavigated", "Page.lifecycleEvent":
		t.wake()
	case "Page.screencastFrame":
		t.filmed(params)
	case "Page.javascriptDialogOpening":
		t.dialogOpened(params)
	case "Page.javascriptDialogClosed":
		t.mu.Lock()
		t.dialog = nil
		t.mu.Unlock()
		t.wake()
	case "Input.dragIntercepted":
		t.dragBegan(params)
	case "Page.downloadWillBegin":
		var e struct {
			SuggestedFilename string `json:"suggestedFilename"`
		}
		if json.Unmarshal(params, &e, pipe.Reads) == nil {
			t.events.logged("warn", "browser", "a file was offered and is not kept here: "+
				plain.Text(short(e.SuggestedFilename), 300))
		}
	case "Page.fileChooserOpened":
		t.choose(params)
	case "Inspector.targetCrashed":
		t.end("its page has crashed")
	case "Inspector.detached":
		t.gone()
	case "Runtime.consoleAPICalled", "Runtime.exceptionThrown", "Log.entryAdded":
		t.console(method, params)
	case "ServiceWorker.workerRegistrationUpdated":
		t.registered(params)
	default:
		if strings.HasPrefix(method, "Network.") {
			t.networked(method, params)
			t.events.called(method, params)
		}
	}
}

// filmed passes a frame of the screen on.
func (t *tab) filmed(params jsontext.Value) {
	var e page.EventScreencastFrame
	if json.Unmarshal(params, &e, pipe.Reads) != nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.film == nil {
		return
	}
	select { // one is shown at a time, and none comes before it was acknowledged
	case t.film <- e:
	default:
	}
}

// dialogOpened takes a dialog in that a page has opened.
func (t *tab) dialogOpened(params jsontext.Value) {
	e := new(page.EventJavascriptDialogOpening)
	if json.Unmarshal(params, e, pipe.Reads) != nil {
		return
	}
	t.mu.Lock()
	leaving := e.Type == page.DialogTypeBeforeunload && t.closing
	if !leaving {
		t.dialog, t.answered = e, false
	}
	t.mu.Unlock()
	if leaving { // whoever starts or ends an app does not ask it
		t.Post(page.CommandHandleJavaScriptDialog, page.HandleJavaScriptDialog(true))
		return
	}
	t.wake()
}

// afresh has the page know nothing of the app that was in it, which is about to end.
func (t *tab) afresh() {
	t.starts++
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closing, t.dialog, t.answered = true, nil, false
	t.files, t.questions, t.windows = nil, nil, nil
	t.pending.Afresh()
	clear(t.workers)
}

// stays has the page ask again before it is left.
func (t *tab) stays() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closing = false
}

// gone notes that the page was closed.
func (t *tab) gone() {
	t.mu.Lock()
	t.closed = true
	t.mu.Unlock()
	t.end("its page was closed")
}

func (t *tab) wake() {
	select {
	case t.changed <- struct{}{}:
	default:
	}
}

// end notes that the page is no more.
func (t *tab) end(why string) {
	t.mu.Lock()
	if t.crashed == "" {
		t.crashed = why
	}
	t.mu.Unlock()
	t.wake()
}

// choose gives a page that asks for files those that were put on the handset, or none.
func (t *tab) choose(params jsontext.Value) {
	var e struct {
		BackendNodeID cdp.BackendNodeID `json:"backendNodeId"`
		Mode          string            `json:"mode"`
	}
	if json.Unmarshal(params, &e, pipe.Reads) != nil {
		return
	}
	t.mu.Lock()
	files := t.files
	t.files = nil
	t.mu.Unlock()
	if e.Mode == "selectSingle" && len(files) > 1 {
		files = files[:1]
	}
	if len(files) == 0 {
		t.events.logged("info", "browser", "the app asked for a file, and there was none to choose")
		return
	}
	t.Post("DOM.setFileInputFiles", map[string]any{"files": files, "backendNodeId": e.BackendNodeID})
}

// console takes a line of the page's log in.
func (t *tab) console(method string, params jsontext.Value) {
	switch method {
	case "Runtime.consoleAPICalled":
		var e runtime.EventConsoleAPICalled
		if json.Unmarshal(params, &e, pipe.Reads) != nil {
			return
		}
		var words []string
		for _, a := range e.Args {
			words = append(words, said(a))
		}
		level := map[runtime.APIType]string{runtime.APITypeError: "error", runtime.APITypeWarning: "warn",
			runtime.APITypeDebug: "debug", runtime.APITypeAssert: "error"}[e.Type]
		if level == "" {
			level = "info"
		}
		t.events.logged(level, "console", strings.Join(words, " "))
	case "Runtime.exceptionThrown":
		var e runtime.EventExceptionThrown
		if json.Unmarshal(params, &e, pipe.Reads) == nil && e.ExceptionDetails != nil {
			t.events.logged("error", "uncaught", thrown(e.ExceptionDetails))
		}
	case "Log.entryAdded":
		var e log.EventEntryAdded
		if json.Unmarshal(params, &e, pipe.Reads) == nil && e.Entry != nil {
			level := map[log.Level]string{log.LevelError: "error", log.LevelWarning: "warn",
				log.LevelVerbose: "debug"}[e.Entry.Level]
			if level == "" {
				level = "info"
			}
			text := e.Entry.Text
			if e.Entry.URL != "" {
				text += " (" + short(e.Entry.URL) + ")"
			}
			t.events.logged(level, string(e.Entry.Source), text)
		}
	}
}

func said(o *runtime.RemoteObject) string {
	if o.Type == runtime.TypeString {
		var text string
		if json.Unmarshal(o.Value, &text, pipe.Reads) == nil {
			return text
		}
	}
	if len(o.Value) > 0 {
		return string(o.Value)
	}
	if o.UnserializableValue != "" {
		return string(o.UnserializableValue)
	}
	return o.Description
}

func thrown(d *runtime.ExceptionDetails) string {
	if d.Exception != nil {
		if text := said(d.Exception); text != "" {
			return text
		}
	}
	return d.Text
}

func short(address string) string {
	if len(address) > 300 {
		return address[:300] + "…"
	}
	return address
}

// ask runs an expression in the world of look.js and reads what it gives, which is text. It
// gives a *device.Crash where the page is no more or has stopped answering.
func (t *tab) ask(ctx context.Context, expression string) (string, error) {
	return t.AskAt(ctx, inpage.Place{}, expression)
}

// askAt is ask of the document at a place. It gives inpage.ErrFrameGone where a frame has none any more.
func (t *tab) AskAt(ctx context.Context, in inpage.Place, expression string) (string, error) {
	q := silence.From(t.browser.pid())
	for {
		if err := t.alive(); err != nil {
			return "", err
		}
		t.mu.Lock()
		where, known := t.contextAt(in)
		t.mu.Unlock()
		if !known && in.Frame != "" {
			return "", inpage.ErrFrameGone
		}
		if !known { // between two documents
			if t.asked() != nil {
				return "", errDialog
			}
			left := q.Left()
			if left == 0 {
				return "", t.stuck()
			}
			if err := t.await(ctx, time.Now().Add(left)); err != nil {
				return "", err
			}
			continue
		}
		text, again, err := t.askIn(ctx, in, where, expression, q)
		if !again {
			return text, err
		}
	}
}

var errDialog = errors.New("a dialog is in front of the page")

func (t *tab) askIn(ctx context.Context, in inpage.Place, where runtime.ExecutionContextID, expression string,
	q *silence.Quiet) (text string,
	again bool, err error) {
	if t.asked() != nil {
		return "", false, errDialog
	}
	session := t.session(in).ID
	id, answer, err := t.Send(session, runtime.CommandEvaluate, runtime.Evaluate(expression).WithContextID(where).
		WithReturnByValue(true).WithAwaitPromise(strings.HasPrefix(expression, "(async")))
	if err != nil {
		return "", false, lost(err)
	}
	defer t.Forget(id)
	end := time.NewTimer(silence.Unmeasured)
	defer end.Stop()
	for {
		select {
		case m := <-answer:
			if m.Error != nil { // the document has gone meanwhile
				t.mu.Lock()
				if now, _ := t.contextAt(in); now == where && in.Frame == "" {
					t.context = 0
				} else if now == where {
					t.frames[in.Frame].context = 0
				}
				t.mu.Unlock()
				return "", true, nil
			}
			var r runtime.EvaluateReturns
			if err := json.Unmarshal(m.Result, &r, pipe.Reads); err != nil {
				return "", false, err
			}
			if r.ExceptionDetails != nil {
				return "", false, fmt.Errorf("the screen cannot be read: %s", thrown(r.ExceptionDetails))
			}
			if r.Result != nil && len(r.Result.Value) > 0 {
				_ = json.Unmarshal(r.Result.Value, &text, pipe.Reads)
			}
			return text, false, nil
		case <-t.changed:
			if t.asked() != nil {
				t.wake()
				return "", false, errDialog
			}
			if err := t.alive(); err != nil {
				return "", false, err
			}
			t.mu.Lock()
			_, there := t.contextAt(in)
			t.mu.Unlock()
			if !there && in.Frame != "" {
				return "", false, inpage.ErrFrameGone
			}
		case <-end.C:
			left := q.Left()
			if left == 0 && in.Frame != "" {
				return "", false, inpage.ErrFrameGone // a frame that does not answer is not the app
			} else if left == 0 {
				return "", false, t.stuck()
			}
			end.Reset(left)
		case <-t.Gone:
			return "", false, lost(pipe.ErrGone)
		case <-ctx.Done():
			return "", false, context.Cause(ctx)
		}
	}
}

// begin has a promise be waited for in the world of look.js: the channel hears when it is kept,
// or when there is nobody any more who could keep it.
func (t *tab) begin(promise string) (<-chan pipe.Message, error) {
	t.mu.Lock()
	where := t.context
	t.mu.Unlock()
	if where == 0 { // between two documents: nothing would be told
		none := make(chan pipe.Message)
		close(none)
		return none, nil
	}
	_, answer, err := t.Send(t.ID, runtime.CommandEvaluate, runtime.Evaluate(promise).WithContextID(where).
		WithReturnByValue(true).WithAwaitPromise(true))
	return answer, lost(err)
}

// stuck ends a page that does not answer any more.
func (t *tab) stuck() error {
	report := ""
	t.Post("Runtime.terminateExecution", nil)
	t.end("it stopped answering")
	return &device.Crash{Reason: fmt.Sprintf("it stopped answering: for more than %s its page did one thing without a pause",
		patience), Report: report}
}

// lost says that it is the browser, and not the app, that is at fault.
func lost(err error) error {
	if errors.Is(err, pipe.ErrGone) {
		return &device.Trouble{Why: "the browser that the handset lives in has died",
			Remedy: "nothing: it is started anew; see the host's log if it happens again"}
	}
	return err
}

// alive tells why the page is no more, nil while it is.
func (t *tab) alive() error {
	select {
	case <-t.Gone:
		return lost(pipe.ErrGone)
	default:
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.crashed != "" {
		return &device.Crash{Reason: t.crashed, Report: "the browser told of no more"}
	}
	return nil
}

// asked gives the dialog in front of the page, nil where there is none.
func (t *tab) asked() *page.EventJavascriptDialogOpening {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.answered {
		return nil
	}
	return t.dialog
}

// await waits until something may have changed, or until then.
func (t *tab) await(ctx context.Context, until time.Time) error {
	end := time.NewTimer(time.Until(until))
	defer end.Stop()
	select {
	case <-t.changed:
	case <-end.C:
	case <-device.Nudge(ctx):
	case <-t.Gone:
		return lost(pipe.ErrGone)
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	return nil
}

// answer answers the dialog in front.
func (t *tab) answer(ctx context.Context, yes bool, text string) error {
	t.mu.Lock()
	t.answered = true
	t.mu.Unlock()
	return page.HandleJavaScriptDialog(yes).WithPromptText(text).Do(t.On(ctx))
}

// close closes the page. One that hangs is closed all the same.
func (t *tab) close(ctx context.Context) {
	for _, p := range t.ports {
		p.Close()
	}
	t.mu.Lock()
	t.closing = true
	parts := t.parts
	t.mu.Unlock()
	for _, s := range parts {
		t.Listen(s, nil)
	}
	t.Listen(t.ID, nil)
	t.browser.forget(t.target)
	if t.asked() != nil {
		t.Post(page.CommandHandleJavaScriptDialog, page.HandleJavaScriptDialog(false))
	}
	t.Post("Runtime.terminateExecution", nil)
	ctx, stop := context.WithTimeout(ctx, 2*time.Second)
	defer stop()
	_ = target.CloseTarget(t.target).Do(t.browser.On(ctx))
}

// screen makes the page as large as a handset's screen.
func (t *tab) screen(ctx context.Context, width, height int, density float64, across bool) error {
	kind, angle := emulation.OrientationTypePortraitPrimary, int64(0)
	if across {
		kind, angle = emulation.OrientationTypeLandscapePrimary, 90
	}
	return emulation.SetDeviceMetricsOverride(int64(width), int64(height), density, true).
		WithScreenWidth(int64(width)).WithScreenHeight(int64(height)).
		WithScreenOrientation(&emulation.ScreenOrientation{Type: kind, Angle: angle}).Do(t.On(ctx))
}
