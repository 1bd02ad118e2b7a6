package client

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatAStoppingServiceDidNotAnswerIsReadAgainAndNothingElse(t *testing.T) {
	var calls atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := calls.Add(1)
		switch {
		case r.URL.Path == "/unwell":
			w.WriteHeader(http.StatusServiceUnavailable)
		case n == 1:
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusServiceUnavailable)
		case n == 2: // its socket is closed, and another listens
			c, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				_ = c.Close()
			}
		default:
			body, _ := io.ReadAll(r.Body)
			_, _ = w.Write(append([]byte("back"), body...))
		}
	}))
	defer server.Close()
	h := &http.Client{Transport: steady{&http.Transport{DisableKeepAlives: true}}}
	for _, one := range []struct {
		method, path, key string
		status            int
		calls             int64
	}{{"GET", "/runs/1", "", 200, 3}, {"POST", "/runs", "", 503, 1}, {"GET", "/unwell", "", 503, 1},
		{"POST", "/runs", "of one's own", 200, 3}} {
		calls.Store(0)
		body := ""
		if one.key != "" {
			body = "what is wished for"
		}
		r, err := http.NewRequest(one.method, server.URL+one.path, strings.NewReader(body)) // "" is no body at all
		require.NoError(t, err)
		if one.key != "" {
			r.Header.Set("Idempotency-Key", one.key)
		}
		answer, err := h.Do(r)
		require.NoError(t, err)
		said, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		require.Equal(t, one.status, answer.StatusCode, one.method)
		require.Equal(t, one.calls, calls.Load(), one.method)
		if one.status == 200 {
			require.Equal(t, "back"+body, string(said), "it is made again whole")
		}
	}
}
