// Package har writes the calls that an app made as HTTP Archive 1.2, which browsers and other
// viewers open.
package har

import (
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/url"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/device"
)

// Record is what is written of calls.
type Record struct {
	Calls   []device.Call
	Began   time.Time // on the wall, when the device's clock stood at the zero of the calls' times
	Device  string
	Version string              // of the program
	Bodies  bool                // what the calls carried is written too
	Why     string              // why it is not, where it is not
	Hide    func(string) string // replaces what nobody is to see; nil for nothing
	Dropped int                 // calls that were too many or too large
}

// hidden are header fields that let somebody in: their values are never kept.
var hidden = []string{"authorization", "proxy-authorization", "cookie", "set-cookie", "x-api-key", "x-auth-token",
	"x-csrf-token", "x-amz-security-token"}

// Mark stands where a value was that is never kept.
const Mark = "[not kept]"

// The archive's own words (HAR 1.2); what begins with an underscore is ours.
type (
	entry struct {
		Started  time.Time `json:"startedDateTime"`
		Time     int64     `json:"time"`
		Request  request   `json:"request"`
		Response response  `json:"response"`
		Cache    struct{}  `json:"cache"`
		Timings  timings   `json:"timings"`
		AtMS     int64     `json:"_at_ms"` // device time since the case began
		Trouble  string    `json:"_trouble,omitempty"`
	}
	timings struct {
		Send    int64 `json:"send"`
		Wait    int64 `json:"wait"`
		Receive int64 `json:"receive"`
	}
	pair struct {
		Name  string `json:"name"`
		Value string `json:"value"`
	}
	request struct {
		Method      string    `json:"method"`
		URL         string    `json:"url"`
		Version     string    `json:"httpVersion"`
		Cookies     []pair    `json:"cookies"`
		Headers     []pair    `json:"headers"`
		Query       []pair    `json:"queryString"`
		Body        *postData `json:"postData,omitempty"`
		HeadersSize int64     `json:"headersSize"`
		BodySize    int64     `json:"bodySize"`
	}
	postData struct {
		MediaType string `json:"mimeType"`
		Params    []pair `json:"params"`
		Text      string `json:"text"`
		Comment   string `json:"comment,omitempty"`
	}
	response struct {
		Status      int     `json:"status"`
		StatusText  string  `json:"statusText"`
		Version     string  `json:"httpVersion"`
		Cookies     []pair  `json:"cookies"`
		Headers     []pair  `json:"headers"`
		Content     content `json:"content"`
		Redirect    string  `json:"redirectURL"`
		HeadersSize int64   `json:"headersSize"`
		BodySize    int64   `json:"bodySize"`
	}
	content struct {
		Size      int64  `json:"size"`
		MediaType string `json:"mimeType"`
		Text      string `json:"text,omitempty"`
		Comment   string `json:"comment,omitempty"`
	}
)

// Write writes a record, call by call: it is never held whole.
func (r Record) Write(w io.Writer) error {
	head, err := json.Marshal(map[string]string{"name": "Yamato", "version": orNone(r.Version)})
	if err != nil {
		return err
	}
	comment := "Calls of the app on " + r.Device + "."
	if !r.Bodies && r.Why != "" {
		comment += " Bodies are not kept: " + r.Why + "."
	}
	if r.Dropped > 0 {
		comment += fmt.Sprintf(" %d more calls were not kept: they were too many or too large.", r.Dropped)
	}
	said, err := json.Marshal(comment)
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(w, `{"log":{"version":"1.2","creator":%s,"comment":%s,"pages":[],"entries":[`, head,
		said); err != nil {
		return err
	}
	calls := slices.Clone(r.Calls)
	slices.SortStableFunc(calls, func(a, b device.Call) int { return int(max(-1, min(1, a.AtMS-b.AtMS))) })
	for i := range calls {
		body, err := json.Marshal(r.entry(&calls[i]))
		if err != nil {
			return err
		}
		if i > 0 {
			body = append([]byte(",\n"), body...)
		}
		if _, err := w.Write(body); err != nil {
			return err
		}
	}
	_, err = io.WriteString(w, "]}}\n")
	return err
}

func orNone(s string) string {
	if s == "" {
		return "unknown"
	}
	return s
}

func (r Record) hide(s string) string {
	if r.Hide == nil {
		return s
	}
	return r.Hide(s)
}

func (r Record) entry(c *device.Call) entry {
	version := orNone(c.Protocol)
	wait := min(max(c.WaitMS, 0), c.TookMS)
	e := entry{Started: r.Began.Add(time.Duration(c.AtMS) * time.Millisecond).UTC(), Time: c.TookMS, AtMS: c.AtMS,
		Trouble: r.hide(c.Trouble), Timings: timings{Wait: wait, Receive: c.TookMS - wait},
		Request: request{Method: c.Method, URL: r.address(c.Address), Version: version, Cookies: []pair{},
			Headers: r.headers(c.Asked.Headers), Query: r.query(c.Address), HeadersSize: -1, BodySize: c.Sent},
		Response: response{Status: c.Status, StatusText: "", Version: version, Cookies: []pair{},
			Headers: r.headers(c.Answered.Headers),
			Content: content{Size: c.Bytes, MediaType: c.MediaType}, HeadersSize: -1, BodySize: c.Bytes}}
	for _, h := range c.Answered.Headers {
		if strings.EqualFold(h.Name, "location") {
			e.Response.Redirect = r.address(h.Value)
		}
	}
	if !r.Bodies {
		return e
	}
	if c.Asked.Body != "" {
		e.Request.Body = &postData{MediaType: c.Asked.MediaType, Params: []pair{}, Text: r.hide(c.Asked.Body),
			Comment: cut(c.Asked)}
	}
	e.Response.Content.Text, e.Response.Content.Comment = r.hide(c.Answered.Body), cut(c.Answered)
	return e
}

func cut(p device.Carried) string {
	if p.Cut {
		return "only the beginning is kept"
	}
	if p.Why != "" {
		return "not kept: " + p.Why
	}
	return ""
}

func (r Record) headers(list []device.Header) []pair {
	out := []pair{}
	for _, h := range list {
		value := r.hide(h.Value)
		if slices.Contains(hidden, strings.ToLower(h.Name)) {
			value = Mark
		}
		out = append(out, pair{h.Name, value})
	}
	return out
}

// address hides who somebody is where an address says so (RFC 3986, 3.2.1).
func (r Record) address(s string) string {
	if u, err := url.Parse(s); err == nil && u.User != nil {
		u.User = url.User("not-kept")
		s = u.String()
	}
	return r.hide(s)
}

func (r Record) query(address string) []pair {
	out := []pair{}
	u, err := url.Parse(address)
	if err != nil {
		return out
	}
	for _, part := range strings.Split(u.RawQuery, "&") {
		if part == "" {
			continue
		}
		name, value, _ := strings.Cut(part, "=")
		if n, err := url.QueryUnescape(name); err == nil {
			name = n
		}
		if v, err := url.QueryUnescape(value); err == nil {
			value = v
		}
		out = append(out, pair{r.hide(name), r.hide(value)})
	}
	return out
}

// Readable tells whether a body of a media type is text that people read.
func Readable(mediaType string) bool {
	kind, _, err := mime.ParseMediaType(mediaType)
	if err != nil {
		kind = strings.ToLower(strings.TrimSpace(strings.Split(mediaType, ";")[0]))
	}
	return strings.HasPrefix(kind, "text/") || strings.HasSuffix(kind, "+json") || strings.HasSuffix(kind, "+xml") ||
		slices.Contains([]string{"application/json", "application/xml", "application/javascript",
			"application/x-www-form-urlencoded",
			"application/graphql", "application/x-ndjson", "application/yaml"}, kind)
}

// Summary is what is to be known of a record without opening it.
type Summary struct {
	Calls   int   `json:"calls"`
	Failed  int   `json:"failed"` // no answer, or one of 400 and up
	Bytes   int64 `json:"bytes"`
	Dropped int   `json:"dropped,omitempty"`
}

// Sum sums a record up.
func (r Record) Sum() Summary {
	out := Summary{Calls: len(r.Calls), Dropped: r.Dropped}
	for _, c := range r.Calls {
		out.Bytes += c.Bytes
		if c.Status == 0 || c.Status >= 400 {
			out.Failed++
		}
	}
	return out
}
