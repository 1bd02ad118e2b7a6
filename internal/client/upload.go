package client

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"

	"yamato/internal/contract"
	"yamato/internal/retry"
)

// Memory remembers where the upload of a file was begun, so that a later command
// goes on with it. Keys are of the caller's making.
type Memory interface {
	Recall(key string) string
	Remember(key, address string)
	Forget(key string)
}

// errUploadGone tells that the service has no such upload any more.
var errUploadGone = errors.New("the upload is no longer there")

// pieceSize bounds what is sent in one request: a broken one costs no more.
const pieceSize = 32 << 20

// Upload sends a package in pieces by the tus protocol (1.0.0). After a lost
// connection it goes on where it stopped, for as long as patience without progress;
// an upload that memory knows is gone on with. sent is told how many bytes are there.
func (s *Service) Upload(ctx context.Context, f io.ReaderAt, size int64, name, key string, memory Memory,
	patience time.Duration, sent func(int64)) (contract.Package, error) {
	address := memory.Recall(key)
	since, pause := time.Now(), retry.From(200*time.Millisecond, 3*time.Second)
	var offset int64
	for {
		before := offset
		err := s.uploadOnce(ctx, f, size, name, &address, &offset, sent)
		if address != "" {
			memory.Remember(key, address)
		}
		var p *ProblemError
		switch {
		case err == nil:
			memory.Forget(key)
			return s.takeUpload(ctx, path.Base(address))
		case ctx.Err() != nil:
			return contract.Package{}, ctx.Err()
		case errors.Is(err, errUploadGone):
			memory.Forget(key)
			address, offset = "", 0
			continue
		case errors.As(err, &p) && p.Status == http.StatusInsufficientStorage: // what is there stays, to go on with
			return contract.Package{}, err
		case errors.As(err, &p) && p.Status < 500 && p.Status != http.StatusLocked && p.Status != http.StatusConflict:
			memory.Forget(key)
			return contract.Package{}, err
		}
		if offset > before {
			since = time.Now()
			pause.Reset()
		}
		if time.Since(since) > patience {
			return contract.Package{}, s.unreachable(err)
		}
		if err := pause.Wait(ctx); err != nil {
			return contract.Package{}, err
		}
	}
}

// uploadOnce begins an upload or finds how far it got, and sends the rest.
func (s *Service) uploadOnce(ctx context.Context, f io.ReaderAt, size int64, name string, address *string,
	offset *int64, sent func(int64)) error {
	if *address == "" {
		r, err := s.tus(ctx, http.MethodPost, fmt.Sprintf("%s/api/v1/projects/%s/uploads", s.base, s.Project), nil,
			map[string]string{
				"Upload-Length":   strconv.FormatInt(size, 10),
				"Upload-Metadata": "filename " + base64.StdEncoding.EncodeToString([]byte(name)),
			}, http.StatusCreated)
		if err != nil {
			return err
		}
		at, err := url.Parse(r.Header.Get("Location"))
		if err != nil || at.Path == "" {
			return errors.New("the service does not say where to send the package")
		}
		*address, *offset = s.base+at.Path, 0 // by the way that we came, whatever the service calls itself
	} else {
		r, err := s.tus(ctx, http.MethodHead, *address, nil, nil, http.StatusOK)
		if err != nil {
			var p *ProblemError
			if errors.As(err, &p) && (p.Status == http.StatusNotFound || p.Status == http.StatusGone) {
				return errUploadGone
			}
			return err
		}
		if *offset, err = strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64); err != nil || *offset > size ||
			r.Header.Get("Upload-Length") != strconv.FormatInt(size, 10) {
			return errUploadGone
		}
	}
	for sent(*offset); *offset < size; {
		n := min(pieceSize, size-*offset)
		piece := &counted{r: io.NewSectionReader(f, *offset, n), at: *offset, sent: sent}
		r, err := s.tus(ctx, http.MethodPatch, *address, piece, map[string]string{
			"Upload-Offset": strconv.FormatInt(*offset, 10), "Content-Type": "application/offset+octet-stream",
			"Content-Length": strconv.FormatInt(n, 10),
		}, http.StatusNoContent)
		if err != nil {
			return err
		}
		if *offset, err = strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64); err != nil {
			return errors.New("the service does not say how far it got")
		}
		sent(*offset)
	}
	return nil
}

type counted struct {
	r    io.Reader
	at   int64
	sent func(int64)
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.at += int64(n)
	c.sent(c.at)
	return n, err
}

func (s *Service) tus(ctx context.Context, method, address string, body io.Reader, headers map[string]string,
	want int) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+s.token)
	r.Header.Set("Tus-Resumable", "1.0.0")
	for k, v := range headers {
		r.Header.Set(k, v)
	}
	if n := headers["Content-Length"]; n != "" {
		r.ContentLength, _ = strconv.ParseInt(n, 10, 64)
	}
	response, err := s.http.Do(r)
	if err != nil {
		return nil, s.unreachable(err)
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	if response.StatusCode == want {
		return response, nil
	}
	if response.StatusCode == http.StatusRequestEntityTooLarge {
		return nil, &ProblemError{Problem: contract.Problem{Title: "the package is larger than is taken: " +
			strings.TrimSpace(string(text)), Status: response.StatusCode}}
	}
	return nil, problemOf(response, text)
}

func (s *Service) takeUpload(ctx context.Context, id string) (contract.Package, error) {
	return As[contract.Package](s.TakeUpload(ctx, s.Project, id))
}

// Fetch has the service fetch a package from an address. got is told how many bytes
// have come, of how many; -1 where that is not known.
func (s *Service) Fetch(ctx context.Context, address string, got func(n, of int64)) (contract.Package, error) {
	var p contract.Package
	r, err := s.FetchPackage(ctx, s.Project, contract.NewFetch{Url: address},
		func(_ context.Context, r *http.Request) error {
			r.Header.Set("Accept", "text/event-stream, application/json")
			return nil
		})
	if err != nil {
		return p, s.unreachable(err)
	}
	defer r.Body.Close()
	if !strings.HasPrefix(r.Header.Get("Content-Type"), "text/event-stream") {
		return As[contract.Package](r, nil)
	}
	lines := bufio.NewScanner(r.Body)
	lines.Buffer(nil, maxLine)
	name := ""
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch {
		case field == "event":
			name = value
		case field == "data" && name == "progress":
			var at contract.FetchProgress
			if err := json.Unmarshal([]byte(value), &at); err != nil {
				return p, err
			}
			of := int64(-1)
			if at.Of != nil {
				of = *at.Of
			}
			got(at.Got, of)
		case field == "data" && name == "package":
			return p, json.Unmarshal([]byte(value), &p)
		case field == "data" && name == "problem":
			refused := &ProblemError{}
			if err := json.Unmarshal([]byte(value), &refused.Problem); err != nil {
				return p, err
			}
			return p, refused
		}
	}
	if err := lines.Err(); err != nil {
		return p, s.unreachable(err)
	}
	return p, s.unreachable(io.ErrUnexpectedEOF)
}
