package client

import (
	"io"
	"net/http"
	"time"

	"github.com/google/uuid"

	"yamato/internal/retry"
)

// stoppedFor is how long a service that said that it is stopping is waited for: it is being started anew, or replaced.
const stoppedFor = 30 * time.Second

// steady makes a call again that a service which was stopping did not answer (503 with Retry-After, RFC 9110, 15.6.4): one
// that changes nothing, or one with a key, by which the service knows what it has made already.
type steady struct{ next http.RoundTripper }

// RoundTrip makes a call, and makes it again while the service is being started anew.
func (s steady) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := s.next.RoundTrip(r)
	if err != nil || !stopping(answer) || !repeatable(r) {
		return answer, err
	}
	pause := retry.From(200*time.Millisecond, 2*time.Second)
	for begun := time.Now(); time.Since(begun) < stoppedFor; {
		if retry.For(r.Context(), pause.Next()) != nil {
			break
		}
		again := r.Clone(r.Context())
		if r.GetBody != nil {
			if again.Body, err = r.GetBody(); err != nil {
				break
			}
		}
		next, err := s.next.RoundTrip(again)
		if err != nil { // it is gone for a moment
			continue
		}
		_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10))
		_ = answer.Body.Close()
		if answer = next; !stopping(answer) {
			break
		}
	}
	return answer, nil
}

// NewKey makes an Idempotency-Key for one call.
func NewKey() *string {
	key := uuid.NewString()
	return &key
}

func repeatable(r *http.Request) bool {
	empty := r.Body == nil || r.Body == http.NoBody
	return r.Method == http.MethodGet && empty || r.Header.Get("Idempotency-Key") != "" && (empty || r.GetBody != nil)
}

func stopping(a *http.Response) bool {
	return a.StatusCode == http.StatusServiceUnavailable && a.Header.Get("Retry-After") != ""
}
