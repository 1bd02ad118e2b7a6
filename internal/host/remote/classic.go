package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/inpage"
	"yamato/internal/host/origin"
	"yamato/internal/host/silence"
	"yamato/internal/host/waits"
	"yamato/internal/webdriver"
	"yamato/internal/webdriver/bidi"
)

// classicPage is what an app shows, over W3C WebDriver without events: it is asked for all, and told of nothing. Our
// scripts run among the page's own, as the standard has no other world for them.
type classicPage struct {
	tell tells
	proc func() int // that keeps the browser
	look string     // look.js

	session *webdriver.Session
	known   []webdriver.Window // in the order in which they came
	at      string             // the frame that commands go to
	ended   error              // why the page is no more
	doing   string             // what it was asked last
	dialog  *dialog
	pending waits.Requests

	mu   sync.Mutex
	last int // number of the exchange that began last
	ids  map[*origin.Exchange]string
}

// began and ended take in what the device's proxy tells of the network.
func (p *classicPage) began(e *origin.Exchange) {
	p.mu.Lock()
	p.last++
	id := fmt.Sprint(p.last)
	if p.ids == nil {
		p.ids = map[*origin.Exchange]string{}
	}
	p.ids[e] = id
	p.mu.Unlock()
	p.pending.Begin(id, "", false, kindOf(e), e.Method, e.Address)
	p.tell.began(id, e.Method, e.Address)
}

func (p *classicPage) endedExchange(e *origin.Exchange) {
	p.mu.Lock()
	id := p.ids[e]
	delete(p.ids, e)
	p.mu.Unlock()
	p.pending.End(id)
	media, _, _ := strings.Cut(e.MediaType, ";")
	call := device.Call{Method: plain.Text(e.Method, 20), Address: plain.Text(e.Address, 2000), Status: e.Status,
		MediaType: plain.Text(strings.TrimSpace(media), 100), Bytes: e.Bytes}
	if e.Status == 0 {
		call.Trouble = "there was no answer"
	} else {
		call.Answered.Why = "this engine hands no bodies out"
	}
	p.tell.call(id, call)
}

// kindOf tells what a request is for, by what it says of itself (Fetch Metadata, Sec-Fetch-Dest), or by what it asks for.
func kindOf(e *origin.Exchange) waits.Kind {
	if kind, known := destinations[e.Destination]; known {
		return kind
	}
	switch u, _ := url.Parse(e.Address); {
	case strings.Contains(e.Accept, "text/event-stream"), e.Method == http.MethodConnect:
		return waits.Endless
	case e.Destination == "empty":
		return waits.Answer
	case strings.HasPrefix(e.Accept, "text/html"):
		return waits.Document
	case strings.HasPrefix(e.Accept, "image/"):
		return waits.Asset
	case u != nil && slices.Contains([]string{".js", ".mjs", ".css"}, path.Ext(u.Path)):
		return waits.Code
	}
	return waits.Answer
}

// call sends a command of the session. A dialog that is open keeps all else from being answered.
func (p *classicPage) call(ctx context.Context, what func(context.Context) error) error {
	if p.session == nil {
		return died("the browser")
	}
	if p.dialog != nil {
		return errDialog
	}
	inner, stop := context.WithTimeoutCause(ctx, 3*time.Minute, errSilent)
	defer stop()
	quiet := silence.From(p.proc())
	done := make(chan error, 1)
	var over sync.WaitGroup
	over.Go(func() { done <- what(inner) })
	defer over.Wait()
	defer stop()
	end := time.NewTimer(silence.Unmeasured)
	defer end.Stop()
	for {
		select {
		case err := <-done:
			return p.told(ctx, err)
		case <-end.C:
			if left := quiet.Left(); left > 0 {
				end.Reset(left)
				continue
			}
			// A page, the browser or its driver: which of them is silent no command of the standard tells.
			p.ended = &device.Trouble{Why: fmt.Sprintf("the browser was to %s, and did not answer within %s", p.doing, silence.Patience),
				Remedy: "nothing: it is started anew; see the host's log if it happens again", Busy: true}
			stop()
			<-done
			return p.ended
		}
	}
}

// told says whose an error is.
func (p *classicPage) told(ctx context.Context, err error) error {
	var e *webdriver.Error
	var b *webdriver.Broken
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case webdriver.Is(err, webdriver.UnexpectedAlert):
		return p.dialogOpened(ctx)
	case webdriver.Is(err, webdriver.InvalidSession):
		p.session = nil
		return died("the browser")
	case errors.As(err, &e):
		return err
	case errors.As(err, &b):
		return died("the browser")
	}
	return err
}

// dialogOpened finds out what a dialog says. The standard does not tell of which kind it is: one that takes text is a
// prompt, and of the others one that asks cannot be told from one that says.
func (p *classicPage) dialogOpened(ctx context.Context) error {
	text, err := p.session.AlertText(ctx)
	if webdriver.Is(err, webdriver.NoSuchAlert) {
		return errDialog // it has been closed meanwhile
	}
	if err != nil {
		return err
	}
	d := &dialog{kind: "confirm", message: plain.Text(text, 2000)}
	if err := p.session.Do(ctx, http.MethodPost, "/alert/text", map[string]string{"text": ""}, nil); err == nil {
		d.kind = "prompt"
	}
	p.dialog = d
	return errDialog
}

func (p *classicPage) asked() *dialog { return p.dialog }

func (p *classicPage) answer(ctx context.Context, yes bool, text string) error {
	d := p.dialog
	p.dialog = nil
	if d == nil || p.session == nil {
		return nil
	}
	if d.kind != "prompt" || !yes {
		text = ""
	}
	err := p.session.Answer(ctx, yes, text)
	if webdriver.Is(err, webdriver.NoSuchAlert) {
		return nil
	}
	return p.told(ctx, err)
}

func (p *classicPage) alive() error {
	if p.session == nil {
		return died("the browser")
	}
	return p.ended
}

// window has the newest window be in front, and the one before where that is closed.
func (p *classicPage) window(ctx context.Context) (string, error) {
	if err := p.alive(); err != nil {
		return "", err
	}
	if p.dialog != nil {
		return string(p.front()), nil
	}
	var now []webdriver.Window
	if err := p.call(ctx, func(ctx context.Context) (err error) { now, err = p.session.Windows(ctx); return err }); err != nil {
		if errors.Is(err, errDialog) {
			return string(p.front()), nil
		}
		return "", err
	}
	was := p.front()
	p.known = slices.DeleteFunc(p.known, func(w webdriver.Window) bool { return !slices.Contains(now, w) })
	for _, w := range now {
		if !slices.Contains(p.known, w) && len(p.known) < maxWindows {
			p.known = append(p.known, w)
		}
	}
	if len(p.known) == 0 {
		p.ended = &device.Crash{Reason: "its page was closed", Report: "the browser told of no more"}
		return "", p.ended
	}
	if front := p.front(); front != was {
		p.at = ""
		if err := p.call(ctx, func(ctx context.Context) error { return p.session.To(ctx, front) }); err != nil {
			return "", err
		}
	}
	return string(p.front()), nil
}

func (p *classicPage) front() webdriver.Window {
	if len(p.known) == 0 {
		return ""
	}
	return p.known[len(p.known)-1]
}

func (p *classicPage) windows() int { return len(p.known) }

func (p *classicPage) leave(ctx context.Context) error {
	return p.call(ctx, func(ctx context.Context) error { _, err := p.session.CloseWindow(ctx); return err })
}

// to has commands go to a frame: ids of the frames' elements, each within the one before, parted by spaces.
func (p *classicPage) to(ctx context.Context, frame string) error {
	if p.at == frame {
		return nil
	}
	p.at = "?"
	if err := p.session.ToFrame(ctx, nil); err != nil {
		return err
	}
	for id := range strings.FieldsSeq(frame) {
		if err := p.session.ToFrame(ctx, webdriver.Element{ID: id}); err != nil {
			return err
		}
	}
	p.at = frame
	return nil
}

// absent is what a script gives where look.js is not there yet.
const absent = "\x00absent"

// thrown is what stands before what a promise of ours was broken by.
const thrown = "\x00thrown"

// AskAt evaluates an expression beside look.js.
func (p *classicPage) AskAt(ctx context.Context, in inpage.Place, expression string) (text string, err error) {
	body := "if (!globalThis.yamatoLook) return '\\u0000absent'; return (" + expression + ");"
	async := strings.HasPrefix(expression, "(async")
	if async {
		body = "const done = arguments[arguments.length - 1]; if (!globalThis.yamatoLook) return done('\\u0000absent'); (" + expression + ").then(done, (e) => done('\\u0000thrown' + e));"
	}
	p.doing = "evaluate " + plain.Clip(expression, 80)
	for tries := 0; ; tries++ {
		err = p.call(ctx, func(ctx context.Context) error {
			if err := p.to(ctx, in.Frame); err != nil {
				return err
			}
			var out *string
			var err error
			if async {
				err = p.session.RunAsync(ctx, body, &out)
			} else {
				err = p.session.Run(ctx, body, &out)
			}
			if text = ""; out != nil {
				text = *out
			}
			if err == nil && text == absent {
				err = p.session.Run(ctx, p.look, nil)
				text = absent
			}
			return err
		})
		switch {
		case err == nil && strings.HasPrefix(text, thrown):
			return "", fmt.Errorf("the screen cannot be read: %s", plain.Clip(strings.TrimPrefix(text, thrown), 300))
		case err == nil && text != absent:
			return text, nil
		case err == nil && tries < 50: // it is there now
			continue
		case in.Frame != "" && webdriver.Is(err, webdriver.NoSuchFrame, webdriver.StaleElement, webdriver.NoSuchElement, webdriver.NoSuchWindow):
			p.at = "?"
			return "", inpage.ErrFrameGone
		case in.Frame == "" && webdriver.Is(err, webdriver.NoSuchFrame, webdriver.NoSuchWindow) && tries < 50: // between two documents
			p.at = "?"
			if _, err := p.window(ctx); err != nil {
				return "", err
			}
			if err := pause(ctx, time.Now().Add(30*time.Millisecond)); err != nil {
				return "", err
			}
			continue
		case err == nil:
			err = errors.New("the screen cannot be read: the page takes our script away")
		}
		return "", err
	}
}

// Names does nothing: the script has roles and names of its own in browsers that do not tell theirs.
func (p *classicPage) Names(context.Context, inpage.Place) error { return nil }

// FrameNumbered gives the place of a frame by the number that the document about it has for it.
func (p *classicPage) FrameNumbered(ctx context.Context, in inpage.Place, number int) (inpage.Place, bool) {
	var out *webdriver.Element
	err := p.call(ctx, func(ctx context.Context) error {
		if err := p.to(ctx, in.Frame); err != nil {
			return err
		}
		return p.session.Run(ctx, "return globalThis.yamatoFrameNumbered ? yamatoFrameNumbered(arguments[0]) : null", &out, number)
	})
	if err != nil || out == nil || out.ID == "" || strings.ContainsAny(out.ID, " \t\n") {
		return inpage.Place{}, false
	}
	return inpage.Place{Frame: strings.TrimSpace(in.Frame + " " + out.ID)}, true
}

// await waits until something may have changed, or until then: the page itself is asked to say so.
func (p *classicPage) await(ctx context.Context, until time.Time) error {
	const most = 250 * time.Millisecond // nobody else is answered meanwhile
	left := min(time.Until(until), most)
	if left <= 0 {
		return ctx.Err()
	}
	if device.Nudged(ctx) {
		return nil
	}
	p.doing = "tell of a change"
	err := p.call(ctx, func(ctx context.Context) error {
		if err := p.to(ctx, ""); err != nil {
			return err
		}
		return p.session.RunAsync(ctx, `const done = arguments[arguments.length - 1]; let over = false;
			const end = () => { if (over) return; over = true; globalThis.yamatoChanged = undefined; done(''); };
			globalThis.yamatoChanged = end; setTimeout(end, arguments[0]);`, nil, left.Milliseconds())
	})
	var e *webdriver.Error
	if errors.As(err, &e) || errors.Is(err, errDialog) { // the document has gone meanwhile: something has changed
		return pause(ctx, time.Now().Add(10*time.Millisecond))
	}
	return err
}

func (p *classicPage) waits(overlook []string) (awaits, open []string) {
	return p.pending.Awaited(overlook)
}

// scriptTime bounds what a script of ours waits for: an answer is lost where the document goes meanwhile, and some
// remote ends then say nothing until this is over.
const scriptTime = 3 * time.Second

// patiently does something whose script may take longer.
func (p *classicPage) patiently(ctx context.Context, long time.Duration, what func() error) error {
	if err := p.call(ctx, func(ctx context.Context) error { return p.session.Timeouts(ctx, long, 0) }); err != nil {
		return err
	}
	err := what()
	if p.session == nil || p.dialog != nil {
		return err
	}
	return errors.Join(err, p.call(ctx, func(ctx context.Context) error { return p.session.Timeouts(ctx, scriptTime, 0) }))
}

// evaluate evaluates an expression in the page.
func (p *classicPage) evaluate(ctx context.Context, expression string) (string, error) {
	const body = `const done = arguments[arguments.length - 1], text = arguments[0];
		const say = (v) => done(['ok', v === undefined ? 'undefined' : typeof v === 'string' ? v : typeof v === 'function' ? String(v) : JSON.stringify(v)]);
		const fail = (e) => done(['thrown', String(e)]);
		try { Promise.resolve((0, eval)(/^\s*\{/.test(text) ? '(' + text + ')' : text)).then(say, fail); } catch (e) { fail(e); }`
	var out []string
	err := p.patiently(ctx, silence.Patience*3/4, func() error {
		return p.call(ctx, func(ctx context.Context) error {
			if err := p.to(ctx, ""); err != nil {
				return err
			}
			return p.session.RunAsync(ctx, body, &out, expression)
		})
	})
	switch {
	case err != nil:
		return "", err
	case len(out) != 2:
		return "", &webdriver.Broken{Why: "it gives another value than the script's"}
	case out[0] == "thrown":
		return "", &bidi.Thrown{Text: plain.Text(out[1], 2000)}
	}
	return out[1], nil
}

func (p *classicPage) perform(ctx context.Context, sources ...webdriver.Source) error {
	p.doing = "do what fingers or keys do"
	err := p.call(ctx, func(ctx context.Context) error {
		if err := p.to(ctx, ""); err != nil {
			return err
		}
		return p.session.Perform(ctx, sources...)
	})
	if errors.Is(err, errDialog) || webdriver.Is(err, webdriver.NoSuchWindow, webdriver.NoSuchFrame) { // it came, or the window went, of it
		p.at = "?"
		return nil
	}
	return err
}

func (p *classicPage) picture(ctx context.Context) (data []byte, err error) {
	if err := p.alive(); err != nil {
		return nil, err
	}
	return data, p.call(ctx, func(ctx context.Context) (err error) {
		if err = p.to(ctx, ""); err != nil {
			return err
		}
		// What was changed is drawn with the next frame: a picture shows the one before.
		if err = p.session.RunAsync(ctx, `const done = arguments[arguments.length - 1], end = setTimeout(done, 200);
			requestAnimationFrame(() => requestAnimationFrame(() => { clearTimeout(end); done(''); }));`, nil); err != nil {
			return err
		}
		data, err = p.session.Picture(ctx)
		return err
	})
}

func (p *classicPage) back(ctx context.Context) (bool, error) {
	err := p.call(ctx, p.session.Back)
	p.at = "?"
	if errors.Is(err, errDialog) {
		return true, nil
	}
	return err == nil, err
}

func (p *classicPage) visit(ctx context.Context, address string) error {
	ctx, stop := context.WithTimeoutCause(ctx, loadTime, &device.Crash{Reason: "its start page did not come within " + loadTime.String()})
	defer stop()
	p.at, p.doing = "?", "open "+plain.Clip(address, 80)
	p.pending.Clear()
	err := p.call(ctx, func(ctx context.Context) error { return p.session.Go(ctx, address) })
	var e *webdriver.Error
	switch {
	case errors.Is(err, errDialog):
		return nil
	case webdriver.Is(err, webdriver.Timeout):
		return &device.Crash{Reason: "its start page did not come within " + loadTime.String()}
	case webdriver.Is(err, webdriver.InsecureCertificate):
		return fmt.Errorf("the page %s shows a certificate that the browser does not trust; to mend it: have the host's machine trust its authority", plain.Clip(address, 300))
	case errors.As(err, &e):
		return &device.Trouble{Why: "the page " + plain.Clip(address, 300) + " cannot be opened: " + plain.Clip(e.Message, 200),
			Remedy: "see the host's log; where the app is at an address, check that it answers there"}
	case err != nil:
		return err
	}
	return loaded(ctx, p)
}

// What the standard has no words for.
func (p *classicPage) question() string { return "" }
func (p *classicPage) copied() *string  { return nil }
func (p *classicPage) choose([]string)  {}

// hide leaves the app as it is: behind the home screen it goes on.
func (p *classicPage) hide(context.Context, bool) error                      { return nil }
func (p *classicPage) permit(context.Context, appPage, string, string) error { return nil }

// store is what a page keeps in its browser, as far as it can be carried to another.
type store struct {
	cookies []webdriver.Cookie
	items   map[string]string // of localStorage
}

// keep reads what the page in front has stored.
func (p *classicPage) keep(ctx context.Context) (out store, err error) {
	err = p.call(ctx, func(ctx context.Context) error {
		if err := p.to(ctx, ""); err != nil {
			return err
		}
		if out.cookies, err = p.session.Cookies(ctx); err != nil {
			return err
		}
		var text string
		if err := p.session.Run(ctx, "try { return JSON.stringify({...localStorage}); } catch (_) { return '{}'; }", &text); err != nil {
			return err
		}
		return json.Unmarshal([]byte(text), &out.items)
	})
	return out, err
}

// put has a page that is at an app's origin have stored what another had.
func (p *classicPage) put(ctx context.Context, s store) error {
	return p.call(ctx, func(ctx context.Context) error {
		for _, c := range s.cookies {
			if err := p.session.AddCookie(ctx, c); err != nil && !webdriver.Is(err, webdriver.UnableToSetCookie, "invalid cookie domain") {
				return err
			}
		}
		return p.session.Run(ctx, "for (const [k, v] of Object.entries(arguments[0])) localStorage.setItem(k, v);", nil, s.items)
	})
}
