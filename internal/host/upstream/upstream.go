// Package upstream is the service as a host calls it: its link, its sockets, blobs in pieces, and the token that a host
// has of its own.
package upstream

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"

	"yamato/internal/link"
)

// Services reaches one of several services that share their records. Where one
// does not answer, the next is tried.
type Services struct {
	urls []string
	key  *Token
	http *http.Client
	at   atomic.Int64

	mu    sync.Mutex
	begun map[string]string // uploads in parts that are under way: their paths, by digest
}

// NewServices gives the way to services at urls, with a host's token.
func NewServices(urls []string, key *Token) *Services {
	return &Services{urls: urls, key: key, http: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 512,
		ResponseHeaderTimeout: time.Minute}}}
}

// Adopt has the host come with a token of its own from now on.
func (s *Services) Adopt(token string) error { return s.key.adopt(token) }

func (s *Services) url() string { return s.urls[int(s.at.Load())%len(s.urls)] }

// Dial opens a link to a service.
func (s *Services) Dial(ctx context.Context) (link.Conn, func(), error) {
	c, err := s.dial(ctx, "/api/v1/link")
	if err != nil {
		s.at.Add(1)
		return nil, nil, err
	}
	c.SetReadLimit(link.MaxMessage)
	return link.WebSocket{Socket: c}, func() { _ = c.CloseNow() }, nil
}

// DialLive opens the socket of a session. It goes where the link goes, and follows it.
func (s *Services) DialLive(ctx context.Context, lease int64) (link.Live, func(), error) {
	c, err := s.dial(ctx, "/api/v1/live/"+strconv.FormatInt(lease, 10))
	if err != nil {
		return link.Live{}, nil, err
	}
	c.SetReadLimit(link.MaxLive)
	return link.Live{Socket: c}, func() { _ = c.CloseNow() }, nil
}

// DialPort opens a connection for a tool that is joined to a session's device. It lasts as long as ctx.
func (s *Services) DialPort(ctx context.Context, lease int64, id string) (net.Conn, error) {
	c, err := s.dial(ctx, fmt.Sprintf("/api/v1/live/%d/port/%s", lease, url.PathEscape(id)))
	if err != nil {
		return nil, err
	}
	c.SetReadLimit(link.MaxMessage)
	return websocket.NetConn(ctx, c, websocket.MessageBinary), nil
}

func (s *Services) dial(ctx context.Context, path string) (*websocket.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	token := s.key.Now()
	c, response, err := websocket.Dial(ctx, s.url()+path, &websocket.DialOptions{
		HTTPClient: s.http, HTTPHeader: http.Header{"Authorization": {"Bearer " + token}},
	})
	if err != nil {
		if response != nil && response.StatusCode == http.StatusUnauthorized {
			return nil, s.key.refused(token)
		}
		if response != nil && response.StatusCode >= 400 {
			return nil, fmt.Errorf("the service answers %s", response.Status)
		}
		return nil, err
	}
	return c, nil
}

// Upload keeps content under its SHA-256. What is large goes in parts, and goes on where it was
// broken off when it is called again.
func (s *Services) Upload(ctx context.Context, digest string, content io.ReaderAt, size int64) error {
	if size > wholeSize {
		return s.uploadParts(ctx, digest, content, size)
	}
	r, err := s.request(ctx, http.MethodPut, "/api/v1/blobs/"+digest, io.NewSectionReader(content, 0, size))
	if err != nil {
		return err
	}
	r.ContentLength = size
	r.Header.Set("Content-Type", "application/octet-stream")
	response, err := s.do(r)
	if err != nil {
		return err
	}
	return response.Body.Close()
}

// maxLent bounds what a lease is lent, in bytes.
const maxLent = 4 << 20

// Lent gives what the suite of a lease wants of its project. It stays in memory.
func (s *Services) Lent(ctx context.Context, lease int64) (link.Lent, error) {
	var out link.Lent
	r, err := s.request(ctx, http.MethodGet, "/api/v1/lent/"+strconv.FormatInt(lease, 10), nil)
	if err != nil {
		return out, err
	}
	response, err := s.do(r)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	err = json.NewDecoder(io.LimitReader(response.Body, maxLent)).Decode(&out)
	return out, err
}

// Download writes a blob to a file.
func (s *Services) Download(ctx context.Context, digest, path string) error {
	r, err := s.request(ctx, http.MethodGet, "/api/v1/blobs/"+digest, nil)
	if err != nil {
		return err
	}
	response, err := s.do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, response.Body)
	return errors.Join(err, f.Close())
}

func (s *Services) request(ctx context.Context, method, path string, body io.Reader) (*http.Request, error) {
	r, err := http.NewRequestWithContext(ctx, method, s.url()+path, body)
	if err == nil {
		r.Header.Set("Authorization", "Bearer "+s.key.Now())
	}
	return r, err
}

func (s *Services) do(r *http.Request) (*http.Response, error) {
	response, err := s.http.Do(r)
	if err != nil {
		s.at.Add(1)
		return nil, err
	}
	if response.StatusCode >= 300 {
		text, _ := io.ReadAll(io.LimitReader(response.Body, 500))
		_ = response.Body.Close()
		return nil, fmt.Errorf("the service answers %s: %s", response.Status, strings.TrimSpace(string(text)))
	}
	return response, nil
}
