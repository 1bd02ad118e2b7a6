// Package waits keeps count of the requests that a page has under way, and tells which of them a person would still
// wait for.
package waits

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"yamato/internal/core/plain"
)

// Kind is what a request is for.
type Kind int

// The kinds that differ in how long one waits for them.
const (
	Other    Kind = iota
	Document      // of the page, or of a frame
	Code          // scripts and style sheets
	Answer        // asked for by a script
	Asset         // pictures, fonts
	Endless       // what stays open, or nobody waits for: streams, sockets, pings, media
)

// Request is one that is under way.
type request struct {
	since  time.Time
	kind   Kind
	frame  string
	inner  bool      // of a frame, not of the page
	what   string    // "GET /api/crossings"
	at     string    // host and path
	heard  time.Time // when something of the answer last came
	stream bool      // its answer never ends by itself
	habit  bool      // others like it have stayed open
}

// bounds of what is kept count of, and of requests whose like is remembered.
const (
	maxRequests = 1000
	maxHabits   = 500
)

// For how long a request keeps a page busy: as long as a person would think that something is still to come.
// What is open for longer is meant to be, or never comes.
const (
	documentFor = 60 * time.Second
	frameFor    = 5 * time.Second        // the document of a frame
	codeFor     = 10 * time.Second       // what the page cannot do without
	answerFor   = 6 * time.Second        // an answer that a script asked for
	otherFor    = 3 * time.Second        // anything else
	pausedFor   = 2 * time.Second        // an answer that has begun to come, and does not go on
	habitFor    = 300 * time.Millisecond // a request like others that stayed open
	openFrom    = 5 * time.Second        // from when on a request is one that stays open
)

var patienceFor = map[Kind]time.Duration{Document: documentFor, Code: codeFor, Answer: answerFor}

// polls are names that say that an answer comes when there is one.
var polls = regexp.MustCompile(`(?i)(^|[/._-])(poll|polling|longpoll|long-poll|lp|subscribe|subscription|stream|events?|notify|notifications|listen|comet|socket\.io|sockjs|signalr|hot-update|heartbeat|ping|beacon|telemetry|collect|analytics)([/._?-]|$)`)

// endless are media types of answers that go on (HTML 9.2; RFC 2046, 5.1; JSON lines).
var endless = []string{"text/event-stream", "multipart/x-mixed-replace", "application/x-ndjson",
	"application/stream+json", "application/grpc-web", "application/grpc-web+proto"}

// Requests are those of a page. Several goroutines may use them; the zero value is one of none.
type Requests struct {
	mu     sync.Mutex
	open   map[string]*request
	habits map[string]bool // requests that stay open, by method, host and path
}

// Begin notes a request. frame is whose it is, inner tells that it is not the page's own.
func (r *Requests) Begin(id, frame string, inner bool, kind Kind, method, address string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if kind == Endless || len(r.open) >= maxRequests || strings.HasPrefix(address, "data:") ||
		strings.HasPrefix(address, "blob:") {
		return
	}
	next := &request{since: time.Now(), kind: kind, frame: frame, inner: inner}
	if u, err := url.Parse(address); err == nil {
		next.at, next.what = u.Host+u.Path, plain.Clip(method+" "+u.Path, 120)
		next.habit = kind == Answer && (r.habits[method+next.at] || polls.MatchString(u.Path))
	}
	if r.open == nil {
		r.open = map[string]*request{}
	}
	r.open[id] = next
}

// Heard notes that something of an answer has come. mediaType is "" where it is not told.
func (r *Requests) Heard(id, mediaType string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if q := r.open[id]; q != nil {
		q.heard = time.Now()
		if mediaType != "" {
			q.stream = slices.Contains(endless, strings.ToLower(mediaType))
		}
	}
}

// End notes that a request has ended, and tells whether it was known.
func (r *Requests) End(id string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	q := r.open[id]
	if q == nil {
		return false
	}
	if time.Since(q.since) >= openFrom && len(r.habits) < maxHabits { // the next like it is known for one
		method, _, _ := strings.Cut(q.what, " ")
		if r.habits == nil {
			r.habits = map[string]bool{}
		}
		r.habits[method+q.at] = true
	}
	delete(r.open, id)
	return true
}

// FrameGone forgets those of a frame.
func (r *Requests) FrameGone(frame string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id, q := range r.open {
		if q.frame == frame {
			delete(r.open, id)
		}
	}
}

// Clear forgets all that are under way: another document is in the page.
func (r *Requests) Clear() {
	r.mu.Lock()
	defer r.mu.Unlock()
	clear(r.open)
}

// Afresh forgets what was learnt, too: another app is in the page.
func (r *Requests) Afresh() {
	r.mu.Lock()
	defer r.mu.Unlock()
	clear(r.habits)
}

// Awaited tells what the page waits for, and what is open and nobody waits for, by names. overlook are those
// that are left out, by host and path, or by path alone.
func (r *Requests) Awaited(overlook []string) (awaits, open []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now()
	for _, q := range r.open {
		left := slices.ContainsFunc(overlook, func(o string) bool {
			if strings.HasPrefix(o, "/") {
				_, path, _ := strings.Cut(q.at, "/")
				return strings.HasPrefix("/"+path, o)
			}
			return strings.HasPrefix(q.at, o)
		})
		if !left && q.awaited(now) {
			awaits = append(awaits, q.what)
		} else if q.kind == Answer {
			open = append(open, q.what)
		}
	}
	for _, list := range []*[]string{&awaits, &open} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
		if more := len(*list) - 5; more > 0 {
			*list = append((*list)[:5], fmt.Sprintf("%d more", more))
		}
	}
	return awaits, open
}

// awaited tells whether a person would still wait for a request.
func (q *request) awaited(now time.Time) bool {
	limit, known := patienceFor[q.kind]
	if !known {
		limit = otherFor
	}
	switch {
	case q.kind == Document && q.inner:
		limit = frameFor
	case q.habit:
		limit = habitFor
	case q.stream:
		return false
	case !q.heard.IsZero() && q.kind != Document:
		return now.Sub(q.heard) < pausedFor && now.Sub(q.since) < 5*answerFor // it is coming
	}
	return now.Sub(q.since) < limit
}
