package webdriver

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Bounds of what a remote end may answer.
const (
	MaxAnswer = 32 << 20 // bytes
	// Patience is how long a command may take whose deadline nobody has set.
	Patience = 90 * time.Second
)

// Client speaks to one remote end. Several goroutines may use it.
type Client struct {
	base   string
	http   *http.Client
	signs  func(*http.Request)
	answer int64
}

// Options are how a remote end is spoken to; their zero value is fine for one on the loopback.
type Options struct {
	// Transport carries the requests; whoever speaks to somebody else's service gives one that dials public
	// addresses alone (package outside).
	Transport http.RoundTripper
	// Sign adds to a request what tells who asks.
	Sign func(*http.Request)
	// MaxAnswer bounds an answer in bytes; MaxAnswer where 0.
	MaxAnswer int64
}

// NewClient gives a client of the remote end at an address, which may have a path: https://farm.example/wd.
func NewClient(address string, o Options) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || u.RawQuery != "" ||
		u.Fragment != "" {
		return nil, fmt.Errorf("%q is no address of a WebDriver endpoint; write https://farm.example/wd", address)
	}
	c := &Client{base: strings.TrimSuffix(u.String(), "/"), signs: o.Sign, answer: o.MaxAnswer,
		http: &http.Client{Transport: o.Transport, CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("it sends us elsewhere, and is not followed") // to who knows where, with our key
		}}}
	if c.answer <= 0 {
		c.answer = MaxAnswer
	}
	return c, nil
}

// Do sends a command and reads the value of its answer into out, which may be nil. in is nil for a command without a
// body. Its error is an *Error where the remote end answered with one, else a *Broken, or the context's cause.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	value, err := c.raw(ctx, method, path, in)
	if err != nil || out == nil {
		return err
	}
	if err := json.Unmarshal(value, out); err != nil {
		return &Broken{Why: "its answer is of another type than the standard's", Err: err}
	}
	return nil
}

// raw sends a command and gives the value of its answer.
func (c *Client) raw(ctx context.Context, method, path string, in any) (json.RawMessage, error) {
	if _, bounded := ctx.Deadline(); !bounded {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeoutCause(ctx, Patience, &Broken{Why: "it did not answer within " + Patience.String()})
		defer stop()
	}
	var body io.Reader
	if method == http.MethodPost {
		if in == nil {
			in = struct{}{}
		}
		text, err := json.Marshal(in)
		if err != nil {
			return nil, fmt.Errorf("the command cannot be written: %w", err)
		}
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, fmt.Errorf("the command cannot be written: %w", err)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json; charset=utf-8")
	}
	req.Header.Set("Accept", "application/json")
	if c.signs != nil {
		c.signs(req)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, broken(ctx, unaddressed(err), "it cannot be reached")
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, c.answer+1))
	switch {
	case err != nil:
		return nil, broken(ctx, err, "its answer breaks off")
	case int64(len(text)) > c.answer:
		return nil, &Broken{Why: fmt.Sprintf("its answer is longer than %d MB", c.answer>>20), Status: resp.StatusCode}
	case resp.StatusCode != http.StatusOK:
		return nil, failed(resp.StatusCode, resp.Header, text)
	}
	var answer struct {
		Value *json.RawMessage `json:"value"`
	}
	if err := json.Unmarshal(text, &answer); err != nil {
		return nil, &Broken{Why: "its answer is no JSON object with a value", Status: resp.StatusCode, Err: err}
	}
	if answer.Value == nil {
		return json.RawMessage("null"), nil
	}
	return *answer.Value, nil
}

// unaddressed leaves the address out of an error of HTTP: it may hold what is nobody else's business.
func unaddressed(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// Status tells whether the remote end would take a session, and what it says of itself.
func (c *Client) Status(ctx context.Context) (ready bool, message string, err error) {
	var out struct {
		Ready   bool   `json:"ready"`
		Message string `json:"message"`
	}
	err = c.Do(ctx, http.MethodGet, "/status", nil, &out)
	return out.Ready, out.Message, err
}
