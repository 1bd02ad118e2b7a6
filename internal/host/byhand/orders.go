package byhand

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/driver"
	"yamato/internal/link"
)

// orders are what a person can have a device do, by name. Each gives what is answered.
var orders map[string]func(*sitting, context.Context, link.Order) (link.Answer, error)

func init() { // they refer to one another
	orders = map[string]func(*sitting, context.Context, link.Order) (link.Answer, error){
		"tap": (*sitting).tap, "twice": (*sitting).twice, "hold": (*sitting).hold, "stroke": (*sitting).stroke,
		"pinch": (*sitting).pinch, "text": (*sitting).text, "keys": (*sitting).keys, "press": (*sitting).press,
		"line": (*sitting).line, "card": (*sitting).point, "tree": (*sitting).whole, "evaluate": (*sitting).evaluate,
		"picture": (*sitting).picture, "mark": (*sitting).mark, "video": (*sitting).record,
		"install": (*sitting).install, "start": (*sitting).start, "empty": (*sitting).empty, "stop": (*sitting).stop,
		"port":   (*sitting).port,
		"remove": (*sitting).remove, "link": (*sitting).follow, "feel": (*sitting).feel, "undo": (*sitting).undo,
	}
}

// refusal is an order that cannot be carried out, with what to do instead.
type refusal struct{ why, remedy string }

func (r *refusal) Error() string { return r.why }

func refuse(remedy, format string, args ...any) error {
	return &refusal{fmt.Sprintf(format, args...), remedy}
}

// carryOut does what a person asks, and answers.
func (s *sitting) carryOut(ctx context.Context, o link.Order) {
	began := time.Now()
	do, ok := orders[o.Do]
	var a link.Answer
	var err error
	switch {
	case o.Wrong() != "":
		err = refuse("", "%s", o.Wrong())
	case !ok:
		err = refuse("this page may be older than the host; load it again", "there is no order %q",
			plain.Clip(o.Do, 40))
	case s.trouble != "":
		err = refuse("see to the device; the session goes on by itself", "the device does not answer: %s", s.trouble)
	default:
		if o.Do != "text" {
			s.flushTyping()
		}
		err = contain.Do("the order "+o.Do, func() (err error) { a, err = do(s, ctx, o); return err })
	}
	a.ID, a.Took = o.ID, time.Since(began).Milliseconds()
	var crash *device.Crash
	var own *device.Trouble
	var no *refusal
	switch {
	case err == nil:
	case errors.As(err, &crash):
		s.died(ctx, crash)
		a.Trouble = crash.Error()
	case errors.As(err, &own):
		a.Trouble, a.Remedy = own.Why, own.Remedy
	case errors.As(err, &no):
		a.Trouble, a.Remedy = no.why, no.remedy
	case errors.Is(err, device.ErrNoAbility):
		a.Trouble, a.Remedy = "this device cannot do that", "`yamato device show` lists what each device can do"
	default:
		a.Trouble = plain.Text(err.Error(), 1000)
	}
	s.look(ctx)
	s.out.tell(link.Told{Answer: &a})
}

// ability gives an ability of the device, or an error that says that it has none.
func ability[T any](s *sitting) (T, error) {
	a, ok := device.As[T](s.Device)
	if !ok {
		return a, device.ErrNoAbility
	}
	return a, nil
}

// aim gives the screen as it is, once it is sure that what was aimed at is still there.
func (s *sitting) aim(ctx context.Context, o link.Order) (*screen.Tree, error) {
	if o.At == nil {
		return nil, refuse("", "it does not say where")
	}
	tree, err := s.Device.Tree(ctx)
	if err != nil {
		return nil, err
	}
	then := s.aimedAt(o.Aimed)
	s.see(tree)
	if why := missed(then, tree, *o.At); why != "" {
		return nil, refuse("look again, and aim at what is there now", "too late: %s", why)
	}
	return tree, nil
}

// did keeps what was done, with the line of script that does the same.
func (s *sitting) did(text, line string) {
	e := link.Entry{Kind: link.EntryDid, Text: plain.Text(text, 500)}
	if line != "" {
		e.Lines = []string{line}
	}
	if err := s.note(e); err != nil {
		s.Said.Error("what was done in a session could not be kept", "error", err)
	}
}

func (s *sitting) tap(ctx context.Context, o link.Order) (link.Answer, error) {
	tree, err := s.aim(ctx, o)
	if err != nil {
		return link.Answer{}, err
	}
	n := actedOn(tree, *o.At)
	err = s.Device.Tap(ctx, *o.At)
	line := lineFor(tree, n, "tap") // by what was there before; nobody waits for it
	s.did("tapped "+named(n, *o.At), line)
	return link.Answer{Lines: listed(line)}, err
}

func named(n *screen.Node, at screen.Point) string {
	if n == nil {
		return fmt.Sprintf("at %.0f, %.0f", at.X, at.Y)
	}
	return screen.Describe(n)
}

func listed(line string) []string {
	if line == "" {
		return nil
	}
	return []string{line}
}

// fingers does a gesture at a place.
func (s *sitting) fingers(ctx context.Context, o link.Order, what string, list ...device.Finger) (link.Answer, error) {
	g, err := ability[device.Gesturing](s)
	if err != nil {
		return link.Answer{}, err
	}
	tree, err := s.aim(ctx, o)
	if err != nil {
		return link.Answer{}, err
	}
	err = g.Perform(ctx, list...)
	s.did(what+" "+named(actedOn(tree, *o.At), *o.At), "")
	return link.Answer{}, err
}

func (s *sitting) twice(ctx context.Context, o link.Order) (link.Answer, error) {
	return s.fingers(ctx, o, "tapped twice", device.DoubleTap(at(o)))
}

func (s *sitting) hold(ctx context.Context, o link.Order) (link.Answer, error) {
	long := min(max(time.Duration(o.OverMS)*time.Millisecond, 600*time.Millisecond), 10*time.Second)
	return s.fingers(ctx, o, "held", device.Hold(at(o), long))
}

func at(o link.Order) screen.Point {
	if o.At == nil {
		return screen.Point{}
	}
	return *o.At
}

// maxPath bounds the places of one stroke.
const maxPath = 2000

// stroke follows a finger from down to up, as quickly as it went.
func (s *sitting) stroke(ctx context.Context, o link.Order) (link.Answer, error) {
	if len(o.Path) < 2 || len(o.Path) > maxPath {
		return link.Answer{}, refuse("", "a stroke has 2 to %d places", maxPath)
	}
	first := screen.Point{X: o.Path[0].X, Y: o.Path[0].Y}
	f := device.Finger{{Do: "move", At: first}, {Do: "down"}}
	before := o.Path[0].AtMS
	for _, p := range o.Path[1:] {
		over := time.Duration(min(max(p.AtMS-before, 0), 5000)) * time.Millisecond
		f = append(f, device.Action{Do: "move", At: screen.Point{X: p.X, Y: p.Y}, Over: over})
		before = p.AtMS
	}
	o.At = &first
	return s.fingers(ctx, o, "dragged from", append(f, device.Action{Do: "up"}))
}

func (s *sitting) pinch(ctx context.Context, o link.Order) (link.Answer, error) {
	what := "spread about"
	if o.To < o.From {
		what = "pinched about"
	}
	return s.fingers(ctx, o, what, device.Pinch(at(o), o.From, o.To, 300*time.Millisecond)...)
}

// maxText bounds what is entered at once, in bytes.
const maxText = 20_000

func (s *sitting) text(ctx context.Context, o link.Order) (link.Answer, error) {
	if len(o.Text) > maxText || !utf8.ValidString(o.Text) {
		return link.Answer{}, refuse("enter it in parts", "a text has at most %d bytes", maxText)
	}
	tree, err := s.Device.Tree(ctx)
	if err != nil {
		return link.Answer{}, err
	}
	s.see(tree)
	if len(s.typed.text) > maxLine {
		s.flushTyping()
	}
	s.typed.add(tree, o.Text)
	return link.Answer{}, device.EnterText(ctx, s.Device, o.Text)
}

func (s *sitting) keys(ctx context.Context, o link.Order) (link.Answer, error) {
	if o.Text == "" || len(o.Text) > 100 {
		return link.Answer{}, refuse("", "keys are given as W3C WebDriver writes them")
	}
	err := s.Device.Keys(ctx, o.Text)
	if name, ok := keyNames[o.Text]; ok {
		s.did("pressed "+name, "press "+name)
	}
	return link.Answer{}, err
}

// keyNames are the keys that scripts can press (W3C WebDriver, 17.4.2), by what stands for them.
var keyNames = map[string]string{"\ue007": "enter", "\ue004": "tab", "\ue00c": "escape", "\ue003": "backspace"}

func (s *sitting) press(ctx context.Context, o link.Order) (link.Answer, error) {
	p, err := ability[device.Presser](s)
	if err != nil {
		return link.Answer{}, err
	}
	if !slices.Contains(s.Device.Abilities(), o.Text) {
		return link.Answer{}, refuse("", "this device has no key %q", plain.Clip(o.Text, 40))
	}
	err = p.Press(ctx, o.Text)
	s.did("pressed "+o.Text, "press "+o.Text)
	return link.Answer{}, err
}

// typing is text that is being entered: what is typed letter by letter is one step.
type typing struct {
	text string
	into string // locator of the field, "" where nothing finds it alone
}

func (t *typing) add(tree *screen.Tree, text string) {
	if t.text == "" {
		t.into = ""
		tree.Walk(func(n *screen.Node, _ int) bool {
			if n.Focused && n.Role != "application" {
				t.into = strings.TrimSpace(lineFor(tree, n, ""))
			}
			return true
		})
	}
	t.text += text
}

// flushTyping keeps what was typed as one step.
func (s *sitting) flushTyping() {
	t := s.typed
	if t.text == "" {
		return
	}
	s.typed = typing{}
	line := ""
	if len(t.text) <= 500 && !strings.ContainsAny(t.text, "\n\r") {
		line = "type \"" + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "{", `\{`).Replace(t.text) + "\""
		if t.into != "" {
			line += " into " + t.into
		}
	}
	s.did(fmt.Sprintf("typed %q", plain.Clip(t.text, 200)), line)
}

// recorder keeps the pictures that lines of script ask for.
type recorder struct{ s *sitting }

func (recorder) Step(script.StepRecord) {}

func (r recorder) Picture(name string, p device.Picture, tree *screen.Tree, _ []screen.Rect, crop screen.Rect) {
	if name == script.FailurePicture {
		return
	}
	if err := r.s.keepPicture(context.Background(), name, p, tree, crop); err != nil {
		r.s.Said.Warn("a picture could not be kept", "error", err)
	}
}

// maxLine bounds a line of script, in bytes.
const maxLine = 4000

// line carries out a line of script on what is there.
func (s *sitting) line(ctx context.Context, o link.Order) (link.Answer, error) {
	if len(o.Text) > maxLine {
		return link.Answer{}, refuse("push a suite for what is longer", "a line has at most %d bytes", maxLine)
	}
	tried, findings := s.trial.Line(ctx, s.app(), o.Text)
	if len(findings) > 0 {
		f := findings[0]
		return link.Answer{}, refuse(f.Hint, "column %d: %s", f.Pos.Column, f.Message)
	}
	for _, l := range tried.Felt {
		s.nowFeels(l.Of, l.Of.Told(l.Level), func(ctx context.Context) error {
			if l.Of.Name == feel.Language && s.Session.Language != "" {
				return l.Of.Do(ctx, s.Device, s.app(), s.Session.Language)
			}
			return s.trial.Undo(ctx, l.Of)
		})
	}
	if len(tried.Felt) > 0 {
		s.status.Felt = s.feels()
	}
	a := link.Answer{Text: tried.Named}
	var found []string
	for _, n := range tried.Found {
		a.Marks = append(a.Marks, n.Visible)
		found = append(found, screen.Describe(n))
	}
	if a.Text == "" && len(found) > 0 {
		a.Text = strings.Join(found[:min(len(found), 5)], ", ")
	}
	if f := tried.Failure; f != nil {
		for _, c := range f.Candidates {
			a.Marks = append(a.Marks, c.Bounds)
		}
		if f.Cause == script.Crashed { // it was done, and is the way there
			s.did(strings.TrimSpace(o.Text), strings.TrimSpace(o.Text))
			s.look(ctx)
		}
		return a, refuse("", "expected %s, but %s", f.Expected, f.Actual)
	}
	s.did(strings.TrimSpace(o.Text), strings.TrimSpace(o.Text))
	return a, nil
}

// app is the app that lines of script are about: the one in front, or else the one put on the device last.
func (s *sitting) app() string {
	if f := s.status.Front; f != "" && f != "system" {
		return f
	}
	if n := len(s.status.Apps); n > 0 {
		return s.status.Apps[n-1].ID
	}
	return s.Session.App
}

// point gives the card of what is at a place.
func (s *sitting) point(ctx context.Context, o link.Order) (link.Answer, error) {
	tree, err := s.Device.Tree(ctx)
	if err != nil {
		return link.Answer{}, err
	}
	s.see(tree)
	n := meant(tree, at(o))
	if n == nil {
		return link.Answer{}, nil
	}
	c := card(tree, n)
	if len(c.Lines) == 0 { // of what has nothing to be found by, the nearest thing around it is meant
		for _, p := range tree.Ancestors(n) {
			if p.Role == "application" {
				break
			}
			if around := card(tree, p); len(around.Lines) > 0 {
				c = around
				break
			}
		}
	}
	return link.Answer{Card: c, Marks: []screen.Rect{c.Bounds}}, nil
}

// whole gives the screen tree.
func (s *sitting) whole(ctx context.Context, _ link.Order) (link.Answer, error) {
	tree, err := s.Device.Tree(ctx)
	if err != nil {
		return link.Answer{}, err
	}
	body, err := json.Marshal(tree)
	if len(body) > link.MaxLive/2 {
		return link.Answer{}, refuse("point at what it is about instead", "the tree is too large to be shown: %d MB",
			len(body)>>20)
	}
	return link.Answer{Tree: body}, err
}

func (s *sitting) evaluate(ctx context.Context, o link.Order) (link.Answer, error) {
	e, err := ability[device.Evaluating](s)
	if err != nil {
		return link.Answer{}, err
	}
	if len(o.Text) > maxText {
		return link.Answer{}, refuse("", "an expression has at most %d bytes", maxText)
	}
	text, err := e.Evaluate(ctx, o.Text)
	return link.Answer{Text: plain.Text(text, maxText)}, err
}

// install puts an app on the device, in place of the same one if that is there.
func (s *sitting) install(ctx context.Context, o link.Order) (link.Answer, error) {
	if o.Pack == nil || o.Blob == "" {
		return link.Answer{}, refuse("choose a build", "it does not say what to install")
	}
	s.busy("fetching the package")
	defer s.busy("")
	path, err := s.Fetch(ctx, o.Blob)
	if err != nil {
		return link.Answer{}, err
	}
	s.busy("installing")
	p := *o.Pack
	if err := s.Device.Install(ctx, driver.App{Package: p, Path: path}); err != nil {
		return link.Answer{}, err
	}
	s.has(link.OnDevice{ID: p.ApplicationID, Name: p.Name, Version: p.VersionName})
	s.InHand(p.ApplicationID)
	s.pack = o.Blob
	s.keepApp(fmt.Sprintf("installed %s %s", nameOf(p.Name, p.ApplicationID), p.VersionName), "")
	if o.On { // its data is to be gone
		return s.empty(ctx, link.Order{App: p.ApplicationID})
	}
	return s.start(ctx, link.Order{App: p.ApplicationID})
}

func nameOf(name, id string) string {
	if name == "" {
		return id
	}
	return name
}

// has notes that an app is on the device.
func (s *sitting) has(a link.OnDevice) {
	s.status.Apps = slices.DeleteFunc(s.status.Apps, func(o link.OnDevice) bool { return o.ID == a.ID })
	s.status.Apps = append(s.status.Apps, a)
}

func (s *sitting) keepApp(text, line string) {
	e := link.Entry{Kind: link.EntryApp, Text: plain.Text(text, 500)}
	if line != "" {
		e.Lines = []string{line}
	}
	_ = s.note(e)
}

// busy tells what is being done, before it is.
func (s *sitting) busy(what string) {
	s.status.Busy = what
	s.tellStatus()
}

func (s *sitting) start(ctx context.Context, o link.Order) (link.Answer, error) {
	return s.begin(ctx, o.App, device.Resume, "started", "start app")
}

func (s *sitting) empty(ctx context.Context, o link.Order) (link.Answer, error) {
	return s.begin(ctx, o.App, device.Fresh, "emptied and started", "start app fresh")
}

// begin brings an app to the front, and keeps that it was.
func (s *sitting) begin(ctx context.Context, app string, how device.Start, did, line string) (link.Answer, error) {
	s.InHand(app)
	s.busy("starting " + s.called(app))
	err := s.Careful.Start(ctx, app, how)
	s.busy("")
	if err == nil {
		s.keepApp(did+" "+s.called(app), line)
	}
	return link.Answer{}, err
}

func (s *sitting) stop(ctx context.Context, o link.Order) (link.Answer, error) {
	err := s.Device.Stop(ctx, o.App)
	if err == nil {
		s.keepApp("stopped "+s.called(o.App), "")
	}
	return link.Answer{}, err
}

func (s *sitting) remove(ctx context.Context, o link.Order) (link.Answer, error) {
	r, err := ability[device.Removing](s)
	if err != nil {
		return link.Answer{}, err
	}
	if !slices.ContainsFunc(s.status.Apps, func(a link.OnDevice) bool { return a.ID == o.App && !a.There }) {
		return link.Answer{}, refuse("what was there before stays", "this session has not put %s on the device",
			plain.Clip(o.App, 100))
	}
	if err := r.Remove(ctx, o.App); err != nil {
		return link.Answer{}, err
	}
	s.keepApp("removed "+s.called(o.App), "")
	s.status.Apps = slices.DeleteFunc(s.status.Apps, func(a link.OnDevice) bool { return a.ID == o.App })
	return link.Answer{}, nil
}

func (s *sitting) follow(ctx context.Context, o link.Order) (link.Answer, error) {
	l, err := ability[device.Linking](s)
	if err != nil {
		return link.Answer{}, err
	}
	if len(o.Text) > 4000 {
		return link.Answer{}, refuse("", "a link has at most 4000 bytes")
	}
	if err := l.OpenLink(ctx, o.App, o.Text); err != nil {
		return link.Answer{}, err
	}
	s.did("followed "+plain.Clip(o.Text, 300), "")
	return link.Answer{}, nil
}

// called is how people call an app.
func (s *sitting) called(id string) string {
	for _, a := range s.status.Apps {
		if a.ID == id {
			return nameOf(a.Name, id)
		}
	}
	return id
}

// port joins a connection of the holder's own tool to the app's debug port. Text names the connection at the service.
func (s *sitting) port(ctx context.Context, o link.Order) (link.Answer, error) {
	d, err := ability[device.Debugged](s)
	if err != nil {
		return link.Answer{}, refuse("handsets have one", "this device's apps have no debug port")
	}
	if s.joined.Load() >= maxJoined {
		return link.Answer{}, refuse("close one of them", "%d tools are joined already", maxJoined)
	}
	there, err := net.DialTimeout("tcp", s.debug, portTime) // it is gone where the app was started anew
	if err != nil || s.debug == "" {
		if s.debug, err = d.DebugPort(s.life); err != nil {
			return link.Answer{}, err
		}
		if there, err = net.DialTimeout("tcp", s.debug, portTime); err != nil {
			return link.Answer{}, fmt.Errorf("the app's debug port does not answer: %w", err)
		}
	}
	if err := s.join(there, o.Text); err != nil {
		return link.Answer{}, err
	}
	s.did("a tool of "+o.By+" was joined to the app", "")
	return link.Answer{Text: "joined"}, nil
}

// Bounds of people's own tools at one session's device.
const (
	maxJoined = 32 // connections
	portTime  = 5 * time.Second
)

// join connects both ends and passes everything on until either closes, or the session ends.
func (s *sitting) join(there net.Conn, id string) error {
	here, err := s.DialPort(s.life, id)
	if err != nil {
		return errors.Join(err, there.Close())
	}
	s.joined.Add(1)
	s.joins.Go(func() { // ends with either end, and both end with the session
		defer s.joined.Add(-1)
		end := context.AfterFunc(s.life, func() { _ = here.Close(); _ = there.Close() })
		defer end()
		var both sync.WaitGroup
		pass := func(to, from net.Conn) {
			_, _ = io.Copy(to, from) // it ends when either is closed
			_ = to.Close()
			_ = from.Close()
		}
		both.Go(func() { pass(here, there) })
		pass(there, here)
		both.Wait()
	})
	return nil
}

func encoded(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // only plain values of our own come here
	}
	return b
}
