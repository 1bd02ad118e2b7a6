// Package record keeps what a browser's pages log, and what they ask the network for, until somebody
// fetches it.
package record

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/handset/pipe"
)

const (
	maxLines = 20_000
	maxBytes = 8 << 20 // of all lines
	maxLine  = 8 << 10
	maxCalls = 5000
)

// Log holds the lines that nobody has fetched yet. Pages and the proxy write them.
type Log struct {
	mu      sync.Mutex
	lines   []device.LogLine
	bytes   int
	dropped int
}

// Write adds a text, a line at a time.
func (l *Log) Write(at time.Duration, app, level, tag, text string) {
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

// Take gives the lines written since the last time.
func (l *Log) Take(now time.Duration) []device.LogLine {
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

// Forget drops them.
func (l *Log) Forget() { _ = l.Take(0) }

// Calls are what apps have asked the network for.
type Calls struct {
	mu    sync.Mutex
	open  map[network.RequestID]device.Call
	ended []device.Call
	total int64 // bytes that came, since Begin
}

// Heard takes an event of the network in.
func (c *Calls) Heard(now time.Duration, method string, params jsontext.Value) {
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

func (c *Calls) end(now time.Duration, id network.RequestID, call device.Call) {
	delete(c.open, id)
	c.total += call.Bytes
	call.TookMS = now.Milliseconds() - call.AtMS
	if len(c.ended) < maxCalls {
		c.ended = append(c.ended, call)
	}
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
	c.open, c.ended = nil, nil
}

// Take gives the calls that have ended since the last time.
func (c *Calls) Take() []device.Call {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := c.ended
	c.ended = nil
	return out
}
