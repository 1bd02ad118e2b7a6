// Package lines keeps the lines that a browser and its pages log until somebody fetches them.
package lines

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
)

const (
	maxLines = 20_000
	maxBytes = 8 << 20 // of all lines
	maxLine  = 8 << 10
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
