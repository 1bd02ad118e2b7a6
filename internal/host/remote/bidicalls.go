package remote

import (
	"encoding/base64"
	"encoding/json"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/waits"
)

// destinations are what requests are for, as Fetch calls it (3.2.7, destination).
var destinations = map[string]waits.Kind{"document": waits.Document, "iframe": waits.Document, "frame": waits.Document,
	"script": waits.Code, "style": waits.Code, "worker": waits.Code, "font": waits.Asset, "image": waits.Asset,
	"manifest": waits.Endless, "video": waits.Endless, "audio": waits.Endless, "track": waits.Endless, "report": waits.Endless}

// bytesValue is one of the network's (BiDi, network.BytesValue).
type bytesValue struct{ Type, Value string }

func (b bytesValue) text() string {
	if b.Type != "base64" {
		return b.Value
	}
	data, err := base64.StdEncoding.DecodeString(b.Value)
	if err != nil {
		return ""
	}
	return string(data)
}

type bidiHeader struct {
	Name  string
	Value bytesValue
}

// fields are headers, bounded.
func fields(in []bidiHeader) (out []device.Header) {
	for _, h := range in[:min(len(in), 60)] {
		out = append(out, device.Header{Name: plain.Text(h.Name, 200), Value: plain.Text(h.Value.text(), 2000)})
	}
	return out
}

// networked takes an event of the network in (BiDi 7.5.5): what the page waits for, and what stands in the record.
func (p *bidiPage) networked(method string, params json.RawMessage) {
	var e struct {
		Context       *string
		Navigation    *string
		RedirectCount int
		ErrorText     string
		Request       struct {
			Request, URL, Method       string
			Headers                    []bidiHeader
			BodySize                   *float64
			Destination, InitiatorType string
		}
		Response struct {
			Status             float64
			MimeType, Protocol string
			Headers            []bidiHeader
			BytesReceived      float64
			Content            struct{ Size float64 }
		}
	}
	if json.Unmarshal(params, &e) != nil {
		return
	}
	id := plain.Clip(e.Request.Request, 200)
	context := ""
	if e.Context != nil {
		context = *e.Context
	}
	p.mu.Lock()
	ours, inner := false, false
	for _, c := range p.contexts {
		ours = ours || c == p.top(context)
	}
	inner = p.within[context] != ""
	p.mu.Unlock()
	if !ours && context != "" {
		return // of another app's page, or the browser's own
	}
	switch method {
	case "network.beforeRequestSent":
		kind, known := destinations[e.Request.Destination]
		switch {
		case e.Request.Destination == "" && (e.Request.InitiatorType == "fetch" || e.Request.InitiatorType == "xmlhttprequest"):
			kind = waits.Answer
		case e.Request.InitiatorType == "beacon" || e.Request.InitiatorType == "ping":
			kind = waits.Endless
		case !known:
			kind = waits.Other
		}
		for _, h := range e.Request.Headers { // EventSource asks for what goes on (HTML 9.2)
			if h.Name == "Accept" && h.Value.Value == "text/event-stream" {
				kind = waits.Endless
			}
		}
		if context != "" {
			p.pending.Begin(id, context, inner, kind, plain.Clip(e.Request.Method, 20), e.Request.URL)
		}
		p.tell.began(id, e.Request.Method, e.Request.URL)
	case "network.responseStarted":
		p.pending.Heard(id, e.Response.MimeType)
	case "network.responseCompleted", "network.fetchError":
		if p.pending.End(id) {
			p.wake()
		}
		call := device.Call{Method: plain.Text(e.Request.Method, 20), Address: plain.Text(e.Request.URL, 2000),
			Status: int(e.Response.Status), MediaType: plain.Text(e.Response.MimeType, 100), Bytes: int64(e.Response.BytesReceived),
			Trouble: plain.Text(e.ErrorText, 200), Protocol: plain.Text(e.Response.Protocol, 20)}
		if e.Request.BodySize != nil && *e.Request.BodySize > 0 {
			call.Sent = int64(*e.Request.BodySize)
		}
		call.Asked.Headers, call.Answered.Headers = fields(e.Request.Headers), fields(e.Response.Headers)
		if call.Status != 0 {
			call.Answered.Why = "this engine hands no bodies out"
		}
		p.tell.call(id, call)
	}
}

// calls are what apps have asked the network for, until somebody fetches it. They are written by goroutines that read.
type calls struct {
	open  map[string]time.Duration // when each began
	ended []device.Call
	size  int
	total int64
}

// Bounds of what is kept.
const (
	maxCalls = 5000
	maxIn    = 24 << 20 // bytes of all calls with what they carried
)

func (c *calls) begin(id string, now time.Duration) {
	if c.open == nil {
		c.open = map[string]time.Duration{}
	}
	if len(c.open) < maxCalls {
		c.open[id] = now
	}
}

func (c *calls) end(id string, now time.Duration, call device.Call) {
	began, known := c.open[id]
	delete(c.open, id)
	c.total += call.Bytes
	if !known || len(c.ended) >= maxCalls || c.size+call.Weight() > maxIn {
		return
	}
	call.AtMS, call.TookMS = began.Milliseconds(), (now - began).Milliseconds()
	c.size += call.Weight()
	c.ended = append(c.ended, call)
}

func (c *calls) take() []device.Call {
	out := c.ended
	c.ended, c.size = nil, 0
	return out
}

func (c *calls) forget() { *c = calls{} }
