package handset

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/plain"
	"yamato/internal/host/handset/pipe"
)

// pending is a request that a page has made and that is under way.
type pending struct {
	since  time.Time
	kind   network.ResourceType
	frame  string
	what   string    // "GET /api/crossings"
	at     string    // host and path
	heard  time.Time // when something of the answer last came
	stream bool      // its answer never ends by itself
	habit  bool      // others like it have stayed open
}

// maxPending bounds the requests that are kept count of, and maxHabits those whose like is remembered.
const (
	maxPending = 1000
	maxHabits  = 500
)

// For how long a request keeps a page busy: as long as a person would think that something is still to come.
// What is open for longer is meant to be, or never comes.
var patienceFor = map[network.ResourceType]time.Duration{
	network.ResourceTypeDocument: 60 * time.Second, network.ResourceTypeScript: 10 * time.Second,
	network.ResourceTypeStylesheet: 10 * time.Second, network.ResourceTypeXHR: awaitedFor,
	network.ResourceTypeFetch: awaitedFor,
	network.ResourceTypeImage: 3 * time.Second, network.ResourceTypeFont: 3 * time.Second}

const (
	awaitedFor = 6 * time.Second        // an answer that a script asked for
	frameFor   = 5 * time.Second        // the document of a frame
	otherFor   = 3 * time.Second        // anything else
	pausedFor  = 2 * time.Second        // an answer that has begun to come, and does not go on
	habitFor   = 300 * time.Millisecond // a request like others that stayed open
	openFrom   = 5 * time.Second        // from when on a request is one that stays open
)

// polls are names that say that an answer comes when there is one.
var polls = regexp.MustCompile(`(?i)(^|[/._-])(poll|polling|longpoll|long-poll|lp|subscribe|subscription|stream|events?|notify|notifications|listen|comet|socket\.io|sockjs|signalr|hot-update|heartbeat|ping|beacon|telemetry|collect|analytics)([/._?-]|$)`)

// endless are media types of answers that go on (HTML 9.2; RFC 2046, 5.1; JSON lines).
var endless = []string{"text/event-stream", "multipart/x-mixed-replace", "application/x-ndjson",
	"application/stream+json",
	"application/grpc-web", "application/grpc-web+proto"}

// networked keeps count of what the page waits for.
func (t *tab) networked(method string, params jsontext.Value) {
	var e struct {
		RequestID network.RequestID    `json:"requestId"`
		FrameID   string               `json:"frameId"`
		Type      network.ResourceType `json:"type"`
		Request   struct {
			URL    string `json:"url"`
			Method string `json:"method"`
		} `json:"request"`
		Response struct {
			MimeType string `json:"mimeType"`
		} `json:"response"`
	}
	switch method {
	case "Network.requestWillBeSent", "Network.loadingFinished", "Network.loadingFailed", "Network.responseReceived",
		"Network.dataReceived":
	default:
		return
	}
	if json.Unmarshal(params, &e, pipe.Reads) != nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	p := t.pending[e.RequestID]
	switch method {
	case "Network.loadingFinished", "Network.loadingFailed":
		if p != nil {
			t.remember(p)
			delete(t.pending, e.RequestID)
			t.wake()
		}
		return
	case "Network.responseReceived", "Network.dataReceived":
		if p != nil {
			p.heard = time.Now()
			if e.Response.MimeType != "" {
				p.stream = slices.Contains(endless, strings.ToLower(e.Response.MimeType))
			}
		}
		return
	}
	switch e.Type { // what stays open, or nobody waits for
	case network.ResourceTypeEventSource, network.ResourceTypeWebSocket, network.ResourceTypePing,
		network.ResourceTypeMedia,
		network.ResourceTypePrefetch, network.ResourceTypeCSPViolationReport, network.ResourceTypeManifest:
		return
	}
	if len(t.pending) >= maxPending || strings.HasPrefix(e.Request.URL, "data:") || strings.HasPrefix(e.Request.URL,
		"blob:") {
		return
	}
	next := &pending{since: time.Now(), kind: e.Type, frame: e.FrameID}
	if u, err := url.Parse(e.Request.URL); err == nil {
		next.at, next.what = u.Host+u.Path, plain.Clip(e.Request.Method+" "+u.Path, 120)
		script := e.Type == network.ResourceTypeXHR || e.Type == network.ResourceTypeFetch
		next.habit = script && (t.habits[e.Request.Method+next.at] || polls.MatchString(u.Path))
	}
	t.pending[e.RequestID] = next
}

// remember notes a request that has stayed open, so that the next like it is known for one.
func (t *tab) remember(p *pending) {
	if time.Since(p.since) >= openFrom && len(t.habits) < maxHabits {
		method, _, _ := strings.Cut(p.what, " ")
		t.habits[method+p.at] = true
	}
}

// letGo forgets requests that are no more the page's own.
func (t *tab) letGo(which func(network.RequestID, *pending) bool) {
	t.mu.Lock()
	for id, p := range t.pending {
		if which(id, p) {
			delete(t.pending, id)
		}
	}
	t.mu.Unlock()
	t.wake()
}

// awaited tells what the page waits for, and what is open and nobody waits for, by names. overlook are those
// that are left out, by host and path, or by path alone.
func (t *tab) awaited(overlook []string) (awaits, open []string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := time.Now()
	for _, p := range t.pending {
		left := slices.ContainsFunc(overlook, func(o string) bool {
			if strings.HasPrefix(o, "/") {
				_, path, _ := strings.Cut(p.at, "/")
				return strings.HasPrefix("/"+path, o)
			}
			return strings.HasPrefix(p.at, o)
		})
		if !left && p.awaited(now, t.main.String()) {
			awaits = append(awaits, p.what)
		} else if p.kind == network.ResourceTypeXHR || p.kind == network.ResourceTypeFetch {
			open = append(open, p.what)
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
func (p *pending) awaited(now time.Time, main string) bool {
	limit, known := patienceFor[p.kind]
	if !known {
		limit = otherFor
	}
	switch {
	case p.kind == network.ResourceTypeDocument && p.frame != main:
		limit = frameFor
	case p.habit:
		limit = habitFor
	case p.stream:
		return false
	case !p.heard.IsZero() && p.kind != network.ResourceTypeDocument:
		return now.Sub(p.heard) < pausedFor && now.Sub(p.since) < 5*awaitedFor // it is coming
	}
	return now.Sub(p.since) < limit
}
