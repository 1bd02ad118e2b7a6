package client

import (
	"context"
	"encoding/base64"
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
func (s *Service) Upload(ctx context.Context, f io.ReaderAt, size int64, name, key string, memory Memory, patience time.Duration, sent func(int64)) (contract.Package, error) {
	address := memory.Recall(key)
	since, pause := time.Now(), 200*time.Millisecond
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
		case errors.As(err, &p) && p.Status < 500 && p.Status != http.StatusLocked && p.Status != http.StatusConflict:
			memory.Forget(key)
			return contract.Package{}, err
		}
		if offset > before {
			since, pause = time.Now(), 200*time.Millisecond
		}
		if time.Since(since) > patience {
			return contract.Package{}, s.unreachable(err)
		}
		t := time.NewTimer(pause)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return contract.Package{}, ctx.Err()
		}
		pause = min(2*pause, 3*time.Second)
	}
}

// uploadOnce begins an upload or finds how far it got, and sends the rest.
func (s *Service) uploadOnce(ctx context.Context, f io.ReaderAt, size int64, name string, address *string, offset *int64, sent func(int64)) error {
	if *address == "" {
		r, err := s.tus(ctx, http.MethodPost, fmt.Sprintf("%s/api/v1/projects/%s/uploads", s.base, s.Project), nil, map[string]string{
			"Upload-Length": strconv.FormatInt(size, 10), "Upload-Metadata": "filename " + base64.StdEncoding.EncodeToString([]byte(name)),
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
		if *offset, err = strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64); err != nil || *offset > size || r.Header.Get("Upload-Length") != strconv.FormatInt(size, 10) {
			return errUploadGone
		}
	}
	for sent(*offset); *offset < size; {
		n := min(pieceSize, size-*offset)
		piece := &counted{r: io.NewSectionReader(f, *offset, n), at: *offset, sent: sent}
		r, err := s.tus(ctx, http.MethodPatch, *address, piece, map[string]string{
			"Upload-Offset": strconv.FormatInt(*offset, 10), "Content-Type": "application/offset+octet-stream", "Content-Length": strconv.FormatInt(n, 10),
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

func (s *Service) tus(ctx context.Context, method, address string, body io.Reader, headers map[string]string, want int) (*http.Response, error) {
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
	text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if response.StatusCode == want {
		return response, nil
	}
	if response.StatusCode == http.StatusRequestEntityTooLarge {
		return nil, &ProblemError{Problem: contract.Problem{Title: "the package is larger than is taken: " + strings.TrimSpace(string(text)), Status: response.StatusCode}}
	}
	return nil, problemOf(response, text)
}

func (s *Service) takeUpload(ctx context.Context, id string) (contract.Package, error) {
	r, err := s.TakeUploadWithResponse(ctx, s.Project, id)
	if err != nil {
		return contract.Package{}, s.unreachable(err)
	}
	return Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
}
