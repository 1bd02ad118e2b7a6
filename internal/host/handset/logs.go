package handset

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
)

type jsontextValue = jsontext.Value

const (
	maxLines = 20_000
	maxBytes = 8 << 20 // of all lines
	maxLine  = 8 << 10
	maxCalls = 5000
)

// logs are the lines that nobody has fetched yet. Pages and the proxy write them.
type logs struct {
	mu      sync.Mutex
	lines   []device.LogLine
	bytes   int
	dropped int
}

func (l *logs) write(at time.Duration, app, level, tag, text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for line := range strings.SplitSeq(plain.Text(text, maxLine), "\n") {
		if len(l.lines) >= maxLines || l.bytes+len(line) > maxBytes {
			l.dropped++
			continue
		}
		l.bytes += len(line) + 64
		l.lines = append(l.lines, device.LogLine{AtMS: at.Milliseconds(), Level: level, Tag: tag, Text: line, App: app})
	}
}

func (l *logs) take(now time.Duration) []device.LogLine {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := l.lines
	if l.dropped > 0 {
		out = append(out, device.LogLine{AtMS: now.Milliseconds(), Level: "warn", Tag: "browser",
			Text: fmt.Sprintf("%d more lines were dropped", l.dropped)})
	}
	l.lines, l.bytes, l.dropped = nil, 0, 0
	return out
}

func (l *logs) forget() { _ = l.take(0) }

// Log gives the lines written since the last call.
func (d *Device) Log(context.Context) ([]device.LogLine, error) { return d.logs.take(d.Now()), nil }

// calls are what apps have asked the network for.
type calls struct {
	mu    sync.Mutex
	open  map[network.RequestID]device.Call
	ended []device.Call
}

// heard takes an event of the network in.
func (c *calls) heard(now time.Duration, method string, params jsontext.Value) {
	var e struct {
		RequestID network.RequestID `json:"requestId"`
		Request   struct {
			URL    string `json:"url"`
			Method string `json:"method"`
		} `json:"request"`
		Response struct {
			Status   float64 `json:"status"`
			MimeType string  `json:"mimeType"`
		} `json:"response"`
		EncodedDataLength float64 `json:"encodedDataLength"`
		ErrorText         string  `json:"errorText"`
	}
	switch method {
	case "Network.requestWillBeSent", "Network.responseReceived", "Network.loadingFinished", "Network.loadingFailed":
	default:
		return
	}
	if json.Unmarshal(params, &e, reads) != nil {
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
		if known {
			c.end(now, e.RequestID, call) // it was sent elsewhere
		}
		if len(c.open) < maxCalls {
			c.open[e.RequestID] = device.Call{AtMS: now.Milliseconds(), Method: plain.Text(e.Request.Method, 20),
				Address: plain.Text(e.Request.URL, 2000)}
		}
	case "Network.responseReceived":
		if known {
			call.Status, call.MediaType = int(e.Response.Status), plain.Text(e.Response.MimeType, 100)
			c.open[e.RequestID] = call
		}
	default:
		if known {
			call.Bytes, call.Trouble = int64(e.EncodedDataLength), plain.Text(e.ErrorText, 200)
			c.end(now, e.RequestID, call)
		}
	}
}

func (c *calls) end(now time.Duration, id network.RequestID, call device.Call) {
	delete(c.open, id)
	call.TookMS = now.Milliseconds() - call.AtMS
	if len(c.ended) < maxCalls {
		c.ended = append(c.ended, call)
	}
}

func (c *calls) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.open, c.ended = nil, nil
}

// Calls gives the calls over the network that have ended since the last time.
func (d *Device) Calls(context.Context) ([]device.Call, error) {
	d.calls.mu.Lock()
	defer d.calls.mu.Unlock()
	out := d.calls.ended
	d.calls.ended = nil
	return out, nil
}
