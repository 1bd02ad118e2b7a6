package sessions

import (
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/service/base"
)

func TestOnlyAnotherInstanceRelaysAndEachCallOnce(t *testing.T) {
	s := &Part{secret: base.NewToken(), taken: newTaken()}
	aya := base.Caller{ProjectID: 4, Name: "Aya Torrent & Söhne"}
	call := func(h http.Header, path string) *http.Request {
		r := httptest.NewRequest(http.MethodGet, path, nil)
		r.Header = h
		return r
	}
	const path = "/api/v1/relay/7"
	h := signed(s.secret, path, aya, true)
	for _, values := range h {
		require.NotContains(t, values[0], s.secret, "the secret is not sent")
	}
	c, program, ok := s.Relayed(call(h, path))
	require.True(t, ok)
	require.True(t, program)
	require.Equal(t, base.Caller{ProjectID: 4, Name: aya.Name, Kind: "user"}, c)
	_, _, ok = s.Relayed(call(h, path))
	require.False(t, ok, "the same call again")
	for name, change := range map[string]func(http.Header){
		"of another project": func(h http.Header) { h.Set(headProject, "5") },
		"of somebody else":   func(h http.Header) { h.Set(headCaller, "Bo") },
		"by a program":       func(h http.Header) { h.Set(headProgram, "false") },
		"with another word":  func(h http.Header) { h.Set(headOnce, "x") },
		"unsigned":           func(h http.Header) { h.Del(headSigned) },
		"signed by another":  func(h http.Header) { h.Set(headSigned, signature("another", path, h)) },
		"long ago": func(h http.Header) {
			h.Set(headMoment, strconv.FormatInt(time.Now().Add(-time.Hour).Unix(), 10))
			h.Set(headSigned, signature(s.secret, path, h))
		},
	} {
		h := signed(s.secret, path, aya, true)
		change(h)
		_, _, ok := s.Relayed(call(h, path))
		require.False(t, ok, name)
	}
	_, _, ok = s.Relayed(call(signed(s.secret, path, aya, true), "/api/v1/relay/8"))
	require.False(t, ok, "for another lease")
}
