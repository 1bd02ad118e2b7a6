package handset

import (
	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/host/handset/pipe"
	"yamato/internal/host/inpage"
)

// frame is a frame of a page, which may live in a process, and so in a session, of its own.
type frame struct {
	session target.SessionID
	context runtime.ExecutionContextID // of the world of look.js, 0 between two documents
	number  int                        // that the document about it has for it, 0 where that has not been asked
	within  string                     // the frame whose document that is
}

// maxFrames bounds the frames of a page that are kept count of.
const maxFrames = 200

func cdpFrame(id string) cdp.FrameID { return cdp.FrameID(id) }

// session gives the session in which a place is asked.
func (t *tab) session(in inpage.Place) pipe.Session {
	t.mu.Lock()
	defer t.mu.Unlock()
	if f := t.frames[in.Frame]; f != nil {
		return pipe.Session{Pipe: t.Pipe, ID: f.session}
	}
	return t.Session
}

// contextAt gives the world of look.js at a place. The caller holds the lock.
func (t *tab) contextAt(in inpage.Place) (runtime.ExecutionContextID, bool) {
	if in.Frame == "" {
		return t.context, t.context != 0
	}
	f := t.frames[in.Frame]
	if f == nil || f.context == 0 {
		return 0, false
	}
	return f.context, true
}

// world notes a world of look.js that was made in a session.
func (t *tab) world(s target.SessionID, params jsontext.Value) {
	var e runtime.EventExecutionContextCreated
	if json.Unmarshal(params, &e, pipe.Reads) != nil || e.Context.Name != world {
		return
	}
	var aux struct {
		FrameID string `json:"frameId"`
	}
	_ = json.Unmarshal(e.Context.AuxData, &aux, pipe.Reads)
	t.mu.Lock()
	if s == t.ID && (cdp.FrameID(aux.FrameID) == t.main || t.main == "") {
		t.context = e.Context.ID
	} else if f := t.frames[aux.FrameID]; f != nil {
		f.session, f.context = s, e.Context.ID
	} else if len(t.frames) < maxFrames {
		t.frames[aux.FrameID] = &frame{session: s, context: e.Context.ID}
	}
	t.mu.Unlock()
	t.wake()
}

// worldsGone notes that a session has none any more.
func (t *tab) worldsGone(s target.SessionID) {
	t.mu.Lock()
	for _, f := range t.frames {
		if f.session == s {
			f.context = 0
		}
	}
	t.mu.Unlock()
	t.wake()
}

// attached takes in a part of the page that lives in a process of its own: a frame of another origin, or a
// worker. It is called by the pipe's goroutine, and waits for nothing.
func (t *tab) attached(params jsontext.Value) {
	var e target.EventAttachedToTarget
	if json.Unmarshal(params, &e, pipe.Reads) != nil || e.TargetInfo == nil {
		return
	}
	in := pipe.Session{Pipe: t.Pipe, ID: e.SessionID}
	switch e.TargetInfo.Type {
	case "iframe":
		t.pending.FrameGone(string(e.TargetInfo.TargetID))
		t.wake()
		t.Listen(e.SessionID, func(method string, params jsontext.Value) { t.heardIn(e.SessionID, method, params) })
		t.part(e.SessionID)
		in.Post(page.CommandEnable, nil)
		in.Post(runtime.CommandEnable, nil)
		in.Post(network.CommandEnable, network.Enable())
		in.Post(accessibility.CommandEnable, nil)
		in.Post(runtime.CommandAddBinding, runtime.AddBinding(binding).WithExecutionContextName(world))
		in.Post(page.CommandAddScriptToEvaluateOnNewDocument,
			page.AddScriptToEvaluateOnNewDocument(inpage.Look(t.due)).WithWorldName(world).WithRunImmediately(true))
		in.Post(target.CommandSetAutoAttach, target.SetAutoAttach(true, false).WithFlatten(true))
	case "worker", "shared_worker", "service_worker":
		t.Listen(e.SessionID, func(method string, params jsontext.Value) { t.heardOfWorker(method, params) })
		t.part(e.SessionID)
		in.Post(network.CommandEnable, network.Enable())
	}
}

// part notes a session that ends with the page.
func (t *tab) part(s target.SessionID) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.parts) < 10*maxFrames {
		t.parts = append(t.parts, s)
	}
}

// heardIn takes an event of a frame's own session in.
func (t *tab) heardIn(s target.SessionID, method string, params jsontext.Value) {
	switch method {
	case "Runtime.bindingCalled", "Page.lifecycleEvent":
		t.wake()
	case "Runtime.executionContextCreated":
		t.world(s, params)
	case "Runtime.executionContextsCleared":
		t.worldsGone(s)
	case "Target.attachedToTarget":
		t.attached(params)
	case "Network.requestWillBeSent", "Network.responseReceived", "Network.loadingFinished", "Network.loadingFailed":
		t.events.called(method, params) // it stands in the record, and nobody waits for it
	}
}

// heardOfWorker takes an event of a worker's in: what it asks for stands in the record, and the page is not
// busy with it.
func (t *tab) heardOfWorker(method string, params jsontext.Value) {
	switch method {
	case "Network.requestWillBeSent", "Network.responseReceived", "Network.loadingFinished", "Network.loadingFailed":
		t.events.called(method, params)
	}
}
