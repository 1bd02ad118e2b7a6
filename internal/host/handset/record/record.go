// Package record keeps what a browser's pages ask the network for until somebody fetches it.
package record

import (
	"encoding/base64"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/chromedp/cdproto/network"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/device"
	"yamato/internal/core/har"
	"yamato/internal/core/plain"
	"yamato/internal/host/handset/pipe"
)

const (
	maxCalls = 5000
	maxIn    = 24 << 20 // bytes of all calls with what they carried
)

// Calls are what apps have asked the network for.
type Calls struct {
	mu     sync.Mutex
	open   map[network.RequestID]device.Call
	ended  []ended
	size   int                                         // bytes of the calls that have ended
	total  int64                                       // bytes that came, since Begin
	asked  int64                                       // bytes of bodies that are on their way
	bodies func(network.RequestID) <-chan pipe.Message // asks for what an answer carried; nil for nobody
}

// ended is a call that has ended. Its body may still be on its way.
type ended struct {
	device.Call
	body <-chan pipe.Message
}

// WithBodies has what answers carry be asked for, once they have ended, where it is text. It is
// called by the pipe's goroutine, and is not to wait.
func (c *Calls) WithBodies(ask func(network.RequestID) <-chan pipe.Message) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.bodies = ask
}

// Heard takes an event of the network in.
func (c *Calls) Heard(now time.Duration, method string, params jsontext.Value) {
	var e struct {
		RequestID network.RequestID `json:"requestId"`
		Request   struct {
			URL      string         `json:"url"`
			Method   string         `json:"method"`
			Headers  jsontext.Value `json:"headers"`
			PostData string         `json:"postData"`
		} `json:"request"`
		Response struct {
			Status   float64        `json:"status"`
			MimeType string         `json:"mimeType"`
			Protocol string         `json:"protocol"`
			Headers  jsontext.Value `json:"headers"`
		} `json:"response"`
		RedirectResponse *struct {
			Status  float64        `json:"status"`
			Headers jsontext.Value `json:"headers"`
		} `json:"redirectResponse"`
		EncodedDataLength float64 `json:"encodedDataLength"`
		ErrorText         string  `json:"errorText"`
	}
	switch method {
	case "Network.requestWillBeSent", "Network.responseReceived", "Network.loadingFinished", "Network.loadingFailed":
	default:
		c.socket(now, method, params)
		return
	}
	if json.Unmarshal(params, &e, pipe.Reads) != nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.open == nil {
		c.open = map[network.RequestID]device.Call{}
	}
	call, known := c.open[e.RequestID]
	switch method {
	case "Network.requestWillBeSent":
		if known { // it was sent elsewhere
			if r := e.RedirectResponse; r != nil {
				call.Status, call.WaitMS, call.Answered.Headers = int(r.Status), now.Milliseconds()-call.AtMS,
					fields(r.Headers)
			}
			c.end(now, e.RequestID, call, false)
		}
		if len(c.open) < maxCalls {
			opened := device.Call{AtMS: now.Milliseconds(), Method: plain.Text(e.Request.Method, 20),
				Address: plain.Text(e.Request.URL, 2000), Sent: int64(len(e.Request.PostData))}
			opened.Asked.Headers = fields(e.Request.Headers)
			for _, h := range opened.Asked.Headers {
				if strings.EqualFold(h.Name, "content-type") {
					opened.Asked.MediaType = h.Value
				}
			}
			if opened.Asked.MediaType == "" || har.Readable(opened.Asked.MediaType) {
				opened.Asked.Body = plain.Text(e.Request.PostData, device.MaxBody)
				opened.Asked.Cut = len(e.Request.PostData) > device.MaxBody
			}
			c.open[e.RequestID] = opened
		}
	case "Network.responseReceived":
		if known {
			call.Status, call.MediaType = int(e.Response.Status), plain.Text(e.Response.MimeType, 100)
			call.WaitMS, call.Protocol = now.Milliseconds()-call.AtMS, plain.Text(e.Response.Protocol, 20)
			call.Answered.Headers = fields(e.Response.Headers)
			c.open[e.RequestID] = call
		}
	default:
		if known {
			call.Bytes, call.Trouble = int64(e.EncodedDataLength), plain.Text(e.ErrorText, 200)
			c.end(now, e.RequestID, call, method == "Network.loadingFinished")
		}
	}
}

// socket takes in what is said of a WebSocket (RFC 6455): it stands in the record once it has closed, with what
// went over it in sum.
func (c *Calls) socket(now time.Duration, method string, params jsontext.Value) {
	var e struct {
		RequestID network.RequestID `json:"requestId"`
		URL       string            `json:"url"`
		Response  struct {
			Status  float64        `json:"status"`
			Headers jsontext.Value `json:"headers"`
			Payload string         `json:"payloadData"`
		} `json:"response"`
		ErrorMessage string `json:"errorMessage"`
	}
	if !strings.HasPrefix(method, "Network.webSocket") || json.Unmarshal(params, &e, pipe.Reads) != nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.open == nil {
		c.open = map[network.RequestID]device.Call{}
	}
	call, known := c.open[e.RequestID]
	switch method {
	case "Network.webSocketCreated":
		if len(c.open) < maxCalls {
			c.open[e.RequestID] = device.Call{AtMS: now.Milliseconds(), Method: "GET", Address: plain.Text(e.URL, 2000),
				Protocol: "websocket"}
		}
		return
	case "Network.webSocketHandshakeResponseReceived":
		call.Status, call.WaitMS, call.Answered.Headers = int(e.Response.Status), now.Milliseconds()-call.AtMS,
			fields(e.Response.Headers)
	case "Network.webSocketFrameSent":
		call.Sent += int64(len(e.Response.Payload))
	case "Network.webSocketFrameReceived":
		call.Bytes += int64(len(e.Response.Payload))
	case "Network.webSocketFrameError":
		call.Trouble = plain.Text(e.ErrorMessage, 200)
	case "Network.webSocketClosed":
		if known {
			c.end(now, e.RequestID, call, false)
		}
		return
	}
	if known {
		c.open[e.RequestID] = call
	}
}

func (c *Calls) end(now time.Duration, id network.RequestID, call device.Call, whole bool) {
	delete(c.open, id)
	c.total += call.Bytes
	call.TookMS = now.Milliseconds() - call.AtMS
	size := call.Weight()
	if len(c.ended) >= maxCalls || c.size+size > maxIn {
		return
	}
	c.size += size
	one := ended{Call: call}
	switch {
	case !whole || c.bodies == nil || call.Bytes == 0 && call.Status != 200:
	case !har.Readable(call.MediaType):
		one.Answered.Why = "it is no text"
	case call.Bytes > maxAsked:
		one.Answered.Why = fmt.Sprintf("it is larger than %d kB", maxAsked>>10)
	case c.asked+call.Bytes > maxAskedIn:
		one.Answered.Why = "too much was carried at once"
	default:
		one.body, c.asked = c.bodies(id), c.asked+call.Bytes
	}
	c.ended = append(c.ended, one)
}

// maxAsked bounds the bodies that are asked for, in bytes: of longer ones not even the beginning is kept.
const (
	maxAsked   = 1 << 20
	maxAskedIn = 8 << 20 // of all that are on their way
)

// fields gives the fields of a request or an answer, as the protocol tells them, bounded.
func fields(told jsontext.Value) []device.Header {
	var list map[string]string
	if len(told) > 64<<10 || json.Unmarshal(told, &list, pipe.Reads) != nil {
		return nil
	}
	var out []device.Header
	for _, name := range slices.Sorted(maps.Keys(list)) {
		if len(out) == 60 {
			break
		}
		out = append(out, device.Header{Name: plain.Text(name, 200), Value: plain.Text(list[name], 2000)})
	}
	return out
}

// Begin counts what comes from now on: another app is in front.
func (c *Calls) Begin() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.total = 0
}

// Total is how many bytes have come since Begin.
func (c *Calls) Total() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.total
}

// Forget drops them.
func (c *Calls) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.open, c.ended, c.size = nil, nil, 0
}

// bodyWait is how long what calls carried is waited for, in all.
const bodyWait = 500 * time.Millisecond

// Take gives the calls that have ended since the last time, with what they carried.
func (c *Calls) Take() []device.Call {
	c.mu.Lock()
	list := c.ended
	c.ended, c.size, c.asked = nil, 0, 0
	c.mu.Unlock()
	if len(list) == 0 {
		return nil
	}
	late := time.NewTimer(bodyWait)
	defer late.Stop()
	out := make([]device.Call, 0, len(list))
	over := false
	for _, one := range list {
		if one.body != nil && !over {
			select {
			case b, ok := <-one.body:
				one.carry(b, ok)
			case <-late.C:
				over = true
			}
		}
		if one.body != nil && over {
			select {
			case b, ok := <-one.body:
				one.carry(b, ok)
			default:
				one.Answered.Why = "the browser did not hand it out in time"
			}
		}
		out = append(out, one.Call)
	}
	return out
}

// carry takes in what the browser hands out of an answer's body.
func (e *ended) carry(m pipe.Message, ok bool) {
	var body struct {
		Body   string `json:"body"`
		Base64 bool   `json:"base64Encoded"`
	}
	switch {
	case !ok || m.Error != nil || json.Unmarshal(m.Result, &body, pipe.Reads) != nil:
		e.Answered.Why = "the browser did not hand it out"
		return
	case body.Base64:
		text, err := base64.StdEncoding.DecodeString(body.Body)
		if err != nil || !utf8.Valid(text) {
			e.Answered.Why = "it is no text"
			return
		}
		body.Body = string(text)
	}
	e.Answered.Body, e.Answered.Cut = plain.Text(body.Body, device.MaxBody), len(body.Body) > device.MaxBody
}
