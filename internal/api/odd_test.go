package api_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// oddWords are what no caller should send in a parameter.
var oddWords = []string{
	"\x00", "a\x00b", "\xff", "\xc3\x28", "2147483648", "9223372036854775807", "-1", "1e99", "0x10", "../../etc/passwd",
	"%00", "'", `"`, "\\", "\n", "💥", "NaN", "true", "null", "[]", "{}",
	strings.Repeat("9", 400), strings.Repeat("a", 3000), "\u202e", " ", "1;drop table run",
}

// oddBodies are what no caller should send as a body.
var oddBodies = []string{
	"", "null", "[]", "{}", "0", `"x"`, "{", `{"a":`, "\x00", "\xff\xfe", `{"text":"\u0000"}`,
	`{"build":"\u0000","suites":["\u0000"]}`, `{"build":"\ud800"}`,
	`{"build":1e999,"suites":[1]}`, `{"build":"1","suites":["A"],"seed":9999999999999999999999}`,
	`{"build":"1","suites":["A"],"repeat_failed":2147483648}`,
	strings.Repeat("[", 100_000), `{"a":` + strings.Repeat(`{"a":`, 5000), `{"suites":[` + strings.Repeat(`"a",`,
		60_000) + `"a"]}`, `{"text":"` + strings.Repeat("(", 900_000) + `"}`,
	`{"file_name":"a.yamato","text":"suite \"s\"\ncase \"c\"\nlet a = ` + strings.Repeat("(", 3000) + `\nend\n"}`,
	`{"which":"one","leg":9223372036854775807,"case_index":2147483648}`, `{"reason":"` + strings.Repeat("x",
		100_000) + `"}`, `{"what":"boot","device":"\u0000"}`,
	`{"labels":{"\u0000":"x"}}`, `{"keep":2147483648,"days":-1}`, `{"url":"http://127.0.0.1:1/\u0000"}`,
	`{"code":"` + strings.Repeat("a", 100_000) + `"}`,
}

// Whatever is sent, no call answers that the service failed, hangs, or takes much memory.
func TestOddCallsAreRefusedAndNothingFails(t *testing.T) {
	r := newRig(t)
	doc, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	var calls atomic.Int64
	hands := make(chan struct{}, 4) // so many are on their way at once
	var flying sync.WaitGroup
	send := func(method, path, kind, body string, header http.Header) {
		ctx, stop := context.WithTimeout(context.Background(), 60*time.Second)
		defer stop()
		req, err := http.NewRequestWithContext(ctx, method, r.url+path, strings.NewReader(body))
		if err != nil {
			return // not even a request
		}
		req.Header.Set("Authorization", "Bearer "+userToken)
		if kind != "" {
			req.Header.Set("Content-Type", kind)
		}
		for k, v := range header {
			req.Header[k] = v
		}
		response, err := http.DefaultClient.Do(req)
		if err != nil && strings.Contains(err.Error(), "invalid header") {
			return
		}
		if len(body) > 16<<10 && (errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)) {
			return // what is refused for its length may be cut off before it has been sent (RFC 9110, 15.5.14)
		}
		if !assert.NoError(t, err, "%s %q", method, path) {
			return
		}
		defer response.Body.Close()
		if response.Header.Get("Content-Type") == "text/event-stream" {
			return
		}
		text, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
		assert.NoError(t, err)
		assert.Less(t, response.StatusCode, 500, "%s %.200q %.100q: %s", method, path, body, text)
		calls.Add(1)
	}
	try := func(method, path, kind, body string, header http.Header) {
		hands <- struct{}{}
		flying.Go(func() {
			defer func() { <-hands }()
			send(method, path, kind, body, header)
		})
	}
	fill := func(path string, word func(name string) string) string {
		for _, part := range strings.Split(path, "/") {
			if strings.HasPrefix(part, "{") {
				path = strings.Replace(path, part, url.PathEscape(word(strings.Trim(part, "{}"))), 1)
			}
		}
		return path
	}
	usual := func(name string) string {
		if name == "project" {
			return "default"
		}
		return "1"
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			if strings.Contains(path, "/fetch") && method == "POST" || strings.HasSuffix(path, "/stream") ||
				strings.HasSuffix(path, "/events") {
				continue // they go on for as long as the caller listens
			}
			for _, p := range append(item.Parameters, operation.Parameters...) {
				for _, odd := range oddWords {
					switch p.Value.In {
					case "path":
						try(method, fill(path, func(name string) string {
							if name == p.Value.Name {
								return odd
							}
							return usual(name)
						}), "", "", nil)
					case "query":
						if p.Value.Name == "wait_ms" {
							continue
						}
						try(method, fill(path, usual)+"?"+url.Values{p.Value.Name: {odd}}.Encode(), "", "", nil)
					case "header":
						try(method, fill(path, usual), "application/json", "{}",
							http.Header{http.CanonicalHeaderKey(p.Value.Name): {odd}})
					}
				}
			}
			if operation.RequestBody == nil {
				continue
			}
			for _, odd := range oddBodies {
				for _, kind := range []string{"application/json", "application/octet-stream", "text/plain"} {
					if operation.RequestBody.Value.Content[kind] == nil && len(odd) > 1000 {
						continue // it is refused for its kind, before it is read
					}
					try(method, fill(path, usual), kind, odd, nil)
				}
			}
		}
	}
	for _, odd := range oddWords { // by hand
		for _, path := range []string{"/projects/default/runs/%s/events", "/projects/default/runs/1/evidence/%s",
			"/projects/default/builds/%s/icon", "/projects/default/devices/%s/remains/log",
			"/projects/default/uploads/%s"} {
			try("GET", "/api/v1"+fmt.Sprintf(path, url.PathEscape(odd)), "", "", nil)
		}
		try("GET", "/install/"+url.PathEscape(odd), "", "", nil)
		try("POST", "/api/v1/session", "application/json", odd, nil)
		try("POST", "/api/v1/projects/default/uploads", "", "", http.Header{"Tus-Resumable": {"1.0.0"},
			"Upload-Length": {odd}, "Upload-Metadata": {"filename " + odd}})
	}
	flying.Wait()
	runtime.GC()
	runtime.ReadMemStats(&after)
	require.Greater(t, calls.Load(), int64(1500))
	require.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(200<<20))
}

// zeros is a body without end.
type zeros struct{ read atomic.Int64 }

const muchTooMuch = 1 << 30

func (z *zeros) Read(p []byte) (int, error) {
	if z.read.Load() >= muchTooMuch {
		return 0, io.EOF
	}
	clear(p)
	z.read.Add(int64(len(p)))
	return len(p), nil
}

func TestABodysBoundGoesByTheCallAndNotByWhatItSaysOfItself(t *testing.T) {
	r := newRig(t)
	for path, token := range map[string]string{"/api/v1/session": "", "/api/v1/projects/default/suites": userToken,
		"/api/v1/projects/default/runs": userToken, "/api/v1/nowhere": ""} {
		for _, kind := range []string{"application/octet-stream", "application/offset+octet-stream",
			"application/json"} {
			body := &zeros{}
			req, err := http.NewRequest("POST", r.url+path, body)
			require.NoError(t, err)
			req.Header.Set("Content-Type", kind)
			if token != "" {
				req.Header.Set("Authorization", "Bearer "+token)
			}
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			response, err := http.DefaultClient.Do(req)
			if err == nil {
				require.GreaterOrEqual(t, response.StatusCode, 400, path)
				_, _ = io.Copy(io.Discard, response.Body)
				_ = response.Body.Close()
			}
			runtime.ReadMemStats(&after)
			require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(100<<20), "%s as %s", path, kind)
			require.Less(t, body.read.Load(), int64(100<<20), "%s as %s: it is not read to its end", path, kind)
		}
	}
}
