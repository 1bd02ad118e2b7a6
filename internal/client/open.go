// Package client is the typed HTTP client of the service, generated from
// api/openapi.yaml, with what streams added by hand. The commands and the tests
// use it and nothing else to talk to a service.
package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"yamato/internal/contract"
	"yamato/internal/retry"
)

// Service is a service as a caller of one project sees it.
type Service struct {
	*ClientWithResponses
	Project string
	base    string
	token   string
	http    *http.Client
}

// Open gives the service at url for the holder of a token. It does not call yet.
func Open(url, token, project string) (*Service, error) {
	h := &http.Client{Transport: steady{&http.Transport{DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
		MaxIdleConnsPerHost: 16}}}
	s := &Service{Project: project, base: strings.TrimSuffix(url, "/"), token: token, http: h}
	c, err := NewClientWithResponses(s.base, WithHTTPClient(h),
		WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			r.Header.Set("User-Agent", agent)
			return nil
		}))
	s.ClientWithResponses = c
	return s, err
}

// agent tells the service that its words are read by somebody who gives commands.
const agent = "yamato/1"

// Base is the service's address.
func (s *Service) Base() string { return s.base }

// ProblemError is a problem document that the service answered with.
type ProblemError struct{ contract.Problem }

func (p *ProblemError) Error() string { return p.Title }

// maxAnswer bounds an answer that is read as a whole: the details of a run of 100,000 legs
// take about a quarter of it.
const maxAnswer = 256 << 20

// maxLine bounds a line of an answer that streams.
const maxLine = 4 << 20

// Unreachable tells that no service answered.
type Unreachable struct {
	URL string
	Err error
}

func (u *Unreachable) Error() string { return "no service answers at " + u.URL }
func (u *Unreachable) Unwrap() error { return u.Err }

// As reads what a call of the generated client answers: its value, or the problem document
// as an error. It closes the answer. Every command calls by it:
//
//	runs, err := client.As[contract.RunList](s.ListRuns(ctx, s.Project, params))
func As[T any](r *http.Response, err error) (value T, _ error) {
	if err != nil {
		return value, unreachable(err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(io.LimitReader(r.Body, maxAnswer+1))
	switch {
	case err != nil:
		return value, &Unreachable{r.Request.URL.Scheme + "://" + r.Request.URL.Host, err}
	case r.StatusCode >= 300:
		return value, problemOf(r, body)
	case len(body) > maxAnswer:
		return value, fmt.Errorf("the service's answer is larger than the %d MB that are read", maxAnswer>>20)
	case r.StatusCode == http.StatusNoContent:
		return value, nil
	}
	if err := json.Unmarshal(body, &value); err != nil {
		return value, fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	return value, nil
}

// unreachable says which service did not answer.
func unreachable(err error) error {
	var at *url.Error
	if errors.Is(err, context.Canceled) || !errors.As(err, &at) {
		return err
	}
	where := at.URL
	if u, bad := url.Parse(at.URL); bad == nil {
		where = u.Scheme + "://" + u.Host
	}
	return &Unreachable{where, err}
}

func (s *Service) unreachable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return &Unreachable{s.base, err}
}

func problemOf(r *http.Response, body []byte) error {
	p := &ProblemError{}
	if err := json.Unmarshal(body, &p.Problem); err != nil || p.Title == "" {
		p.Title, p.Status = "the service answers "+r.Status, r.StatusCode
	}
	return p
}

// Event is one event of a run.
type Event struct {
	Number int64
	contract.RunEvent
}

// Follow calls seen for each event of a run after the given number, in order and
// without gaps, until the run ends. A lost connection is taken up again where it
// broke, for as long as patience; lost is told of each loss.
func (s *Service) Follow(ctx context.Context, run, after int64, patience time.Duration, lost func(error),
	seen func(Event) error) error {
	since, pause := time.Now(), retry.From(100*time.Millisecond, 2*time.Second)
	for {
		before := after
		ended, err := s.followOnce(ctx, run, &after, seen)
		var p *ProblemError
		switch {
		case ended || ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &p) && p.Status < 500:
			return err
		case errors.As(err, new(*refusedBySeen)):
			return errors.Unwrap(err)
		}
		if after > before {
			since = time.Now()
			pause.Reset()
		}
		if time.Since(since) > patience {
			return s.unreachable(err)
		}
		lost(err)
		if err := pause.Wait(ctx); err != nil {
			return err
		}
	}
}

type refusedBySeen struct{ err error }

func (r *refusedBySeen) Error() string { return r.err.Error() }
func (r *refusedBySeen) Unwrap() error { return r.err }

func (s *Service) followOnce(ctx context.Context, run int64, after *int64,
	seen func(Event) error) (ended bool, err error) {
	r, err := s.get(ctx, fmt.Sprintf("runs/%d/events", run),
		map[string]string{"Last-Event-ID": strconv.FormatInt(*after,
			10)})
	if err != nil {
		return false, err
	}
	defer r.Body.Close()
	lines := bufio.NewScanner(r.Body)
	lines.Buffer(nil, maxLine)
	var e Event
	var name string
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "id":
			if e.Number, err = strconv.ParseInt(value, 10, 64); err != nil {
				return false, err
			}
		case "event":
			name = value
		case "data":
			if name == "end" {
				return true, nil
			}
			if err := json.Unmarshal([]byte(value), &e.RunEvent); err != nil {
				return false, err
			}
			if err := seen(e); err != nil {
				return false, &refusedBySeen{err}
			}
			*after, e, name = e.Number, Event{}, ""
		}
	}
	if err := lines.Err(); err != nil {
		return false, err
	}
	return false, io.ErrUnexpectedEOF
}

func (s *Service) get(ctx context.Context, path string, headers map[string]string) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s/api/v1/projects/%s/%s", s.base, s.Project,
		path), nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+s.token)
	r.Header.Set("User-Agent", agent)
	for k, v := range headers {
		r.Header.Set(k, v)
	}
	response, err := s.http.Do(r)
	if err != nil {
		return nil, s.unreachable(err)
	}
	if response.StatusCode != http.StatusOK {
		defer response.Body.Close()
		body, _ := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
		return nil, problemOf(response, body)
	}
	return response, nil
}

// RunReport opens a run as one page.
func (s *Service) RunReport(ctx context.Context, run int64) (io.ReadCloser, error) {
	r, err := s.get(ctx, fmt.Sprintf("runs/%d/report.html", run), nil)
	if err != nil {
		return nil, err
	}
	return r.Body, nil
}

// EvidenceContent opens one piece of evidence for reading.
func (s *Service) EvidenceContent(ctx context.Context, run, id int64) (io.ReadCloser, error) {
	r, err := s.get(ctx, fmt.Sprintf("runs/%d/evidence/%d", run, id), nil)
	if err != nil {
		return nil, err
	}
	return r.Body, nil
}

// CoveredAs opens what was covered, as "csv" or "html".
func (s *Service) CoveredAs(ctx context.Context, form, app, from, to string) (io.ReadCloser, error) {
	q := url.Values{}
	for name, value := range map[string]string{"app": app, "from": from, "to": to} {
		if value != "" {
			q.Set(name, value)
		}
	}
	r, err := s.get(ctx, "covered."+form+"?"+q.Encode(), nil)
	if err != nil {
		return nil, err
	}
	return r.Body, nil
}

// Remains opens what is left of a device that was given up: its boot "log", or
// its last "picture".
func (s *Service) Remains(ctx context.Context, device, what string) (io.ReadCloser, error) {
	r, err := s.get(ctx, "devices/"+url.PathEscape(device)+"/remains/"+what, nil)
	if err != nil {
		return nil, err
	}
	return r.Body, nil
}

// KeptOfSession opens what an entry of a session keeps.
func (s *Service) KeptOfSession(ctx context.Context, session, lease, seq int64) (io.ReadCloser, error) {
	r, err := s.get(ctx, fmt.Sprintf("sessions/%d/kept/%d/%d", session, lease, seq), nil)
	if err != nil {
		return nil, err
	}
	return r.Body, nil
}

// SessionLog opens a session's log, as lines (of JSON) or text.
func (s *Service) SessionLog(ctx context.Context, session int64, as string) (io.ReadCloser, error) {
	r, err := s.get(ctx, fmt.Sprintf("sessions/%d/log?as=%s", session, as), nil)
	if err != nil {
		return nil, err
	}
	return r.Body, nil
}

// FindingFile opens a finding as Markdown with its pictures, in a zip.
func (s *Service) FindingFile(ctx context.Context, number int64) (io.ReadCloser, error) {
	r, err := s.get(ctx, fmt.Sprintf("findings/%d/finding.zip", number), nil)
	if err != nil {
		return nil, err
	}
	return r.Body, nil
}
