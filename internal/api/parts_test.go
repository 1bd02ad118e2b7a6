package api_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/host/upstream"
)

// TestAnUploadOfAHostsGoesOnWhereItWasBrokenOff counts what is sent again.
func TestAnUploadOfAHostsGoesOnWhereItWasBrokenOff(t *testing.T) {
	r := newRig(t)
	var sent, parts atomic.Int64
	var broken atomic.Bool
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body := io.Reader(q.Body)
		if q.Method == http.MethodPatch && parts.Add(1) == 3 {
			body = io.LimitReader(q.Body, 3<<20)
			broken.Store(true)
		}
		on, err := http.NewRequestWithContext(q.Context(), q.Method, r.url+q.URL.RequestURI(),
			io.TeeReader(body, counter{&sent}))
		if err != nil {
			panic(err)
		}
		on.Header, on.ContentLength = q.Header, q.ContentLength
		answer, err := http.DefaultTransport.RoundTrip(on)
		if err != nil {
			panic(http.ErrAbortHandler)
		}
		defer answer.Body.Close()
		for k, v := range answer.Header {
			w.Header()[k] = v
		}
		w.WriteHeader(answer.StatusCode)
		_, _ = io.Copy(w, answer.Body) // whoever asked has gone where that fails
	}))
	defer front.Close()
	content := bytes.Repeat([]byte("all the frames of a long crossing\n"), 1<<20)
	sum := sha256.Sum256(content)
	digest := hex.EncodeToString(sum[:])
	s := upstream.NewServices([]string{front.URL}, upstream.FixedToken(hostToken))
	ctx := context.Background()
	require.Error(t, s.Upload(ctx, digest, bytes.NewReader(content), int64(len(content))))
	require.True(t, broken.Load())
	require.NoError(t, s.Upload(ctx, digest, bytes.NewReader(content), int64(len(content))))
	require.Less(t, sent.Load(), int64(len(content))+(4<<20),
		"of what was sent no more than the piece that broke off is sent twice")
	require.NoError(t, s.Upload(ctx, digest, bytes.NewReader(content), int64(len(content))), "again, whole")

	damaged := append([]byte("x"), content[1:]...)
	require.ErrorContains(t, s.Upload(ctx, digest, bytes.NewReader(damaged), int64(len(damaged))), "422",
		"what arrives damaged is refused")
	_, answer, _ := r.call("POST", "/api/v1/parts", userToken, "", nil)
	require.Equal(t, http.StatusForbidden, answer.StatusCode, "only hosts hand in evidence")
}

type counter struct{ n *atomic.Int64 }

func (c counter) Write(p []byte) (int, error) { c.n.Add(int64(len(p))); return len(p), nil }
