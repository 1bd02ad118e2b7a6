package sessions

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/jellydator/ttlcache/v3"

	"yamato/internal/service/base"
)

// What one instance tells another of whom it relays. The secret by which they know each other is never sent: all of it
// is signed with it (HMAC, RFC 2104, over SHA-256), with a moment and a word that is taken once.
const (
	headSigned  = "Yamato-Relay"
	headMoment  = "Yamato-Moment" // seconds since 1970
	headOnce    = "Yamato-Once"
	headCaller  = "Yamato-Caller"
	headProject = "Yamato-Project"
	headProgram = "Yamato-Program"
)

// relayAge is by how much the clocks of two instances may differ, and maxOnce how many words are remembered for as
// long.
const (
	relayAge = 2 * time.Minute
	maxOnce  = 100_000
)

func signature(secret, path string, h http.Header) string {
	m := hmac.New(sha256.New, []byte(secret))
	for _, part := range []string{path, h.Get(headMoment), h.Get(headOnce), h.Get(headCaller), h.Get(headProject),
		h.Get(headProgram)} {
		m.Write([]byte(strconv.Itoa(len(part)) + ":" + part))
	}
	return hex.EncodeToString(m.Sum(nil))
}

// signed are the headers by which another instance, of that secret, is told whom this one relays.
func signed(secret, path string, c base.Caller, program bool) http.Header {
	h := http.Header{}
	h.Set(headMoment, strconv.FormatInt(time.Now().Unix(), 10))
	h.Set(headOnce, base.NewToken())
	h.Set(headCaller, url.QueryEscape(c.Name))
	h.Set(headProject, strconv.FormatInt(c.ProjectID, 10))
	h.Set(headProgram, strconv.FormatBool(program))
	h.Set(headSigned, signature(secret, path, h))
	return h
}

// taken are the words that relays have come with of late.
type taken = ttlcache.Cache[string, struct{}]

func newTaken() *taken {
	return ttlcache.New(ttlcache.WithTTL[string, struct{}](2*relayAge), ttlcache.WithCapacity[string,
		struct{}](maxOnce),
		ttlcache.WithDisableTouchOnHit[string, struct{}]())
}

// Relayed tells whom another instance relays, by its call.
func (s *Part) Relayed(r *http.Request) (c base.Caller, program, ok bool) {
	h := r.Header
	if !hmac.Equal([]byte(signature(s.secret, r.URL.Path, h)), []byte(strings.ToLower(h.Get(headSigned)))) {
		return c, false, false
	}
	moment, err := strconv.ParseInt(h.Get(headMoment), 10, 64)
	if age := time.Since(time.Unix(moment, 0)); err != nil || age > relayAge || age < -relayAge {
		return c, false, false
	}
	if _, before := s.taken.GetOrSet(h.Get(headOnce), struct{}{}); before {
		return c, false, false
	}
	name, err := url.QueryUnescape(h.Get(headCaller))
	project, err2 := strconv.ParseInt(h.Get(headProject), 10, 64)
	return base.Caller{ProjectID: project, Name: name, Kind: "user"}, h.Get(headProgram) == "true", err == nil &&
		err2 == nil
}

// dialling is how another instance is reached: over TLS where its address says so, by the authorities that this service
// trusts.
func (s *Part) dialling(h http.Header) *websocket.DialOptions {
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: s.Config.Trusted, MinVersion: tls.VersionTLS12},
		TLSHandshakeTimeout: 5 * time.Second}
	return &websocket.DialOptions{HTTPHeader: h, HTTPClient: &http.Client{Transport: transport}}
}
