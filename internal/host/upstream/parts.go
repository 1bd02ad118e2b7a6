package upstream

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strconv"
)

// What is sent whole at most, and in one part: in bytes.
const (
	wholeSize = 8 << 20
	partSize  = 8 << 20
)

// errPartsGone tells that the service does not know an upload any more, or is another.
var errPartsGone = errors.New("the upload is no longer there")

// errPartsMoved tells that the service has got further than it had said: a piece that was broken off was still arriving.
var errPartsMoved = errors.New("the upload has got further meanwhile")

// partTries bounds how often an upload is begun anew, or asked again how far it got, by one call.
const partTries = 3

// uploadParts keeps content by the tus protocol (1.0.0): it begins, or finds how far it got, and sends
// the rest. What is broken off is gone on with by the next call.
func (s *Services) uploadParts(ctx context.Context, digest string, content io.ReaderAt, size int64) error {
	var err error
	for range partTries {
		var at string
		if at, err = s.beginParts(ctx, digest, size); err != nil {
			return err
		}
		err = s.sendParts(ctx, at, digest, content, size)
		if err == nil || errors.Is(err, errPartsGone) {
			s.remember(digest, "")
		}
		if !errors.Is(err, errPartsGone) && !errors.Is(err, errPartsMoved) {
			return err
		}
	}
	return err
}

func (s *Services) remember(digest, at string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.begun == nil {
		s.begun = map[string]string{}
	}
	if at == "" {
		delete(s.begun, digest)
	} else {
		s.begun[digest] = at
	}
}

func (s *Services) beginParts(ctx context.Context, digest string, size int64) (at string, err error) {
	s.mu.Lock()
	at = s.begun[digest]
	s.mu.Unlock()
	if at != "" {
		return at, nil
	}
	response, err := s.part(ctx, http.MethodPost, "/api/v1/parts", nil, 0,
		map[string]string{"Upload-Length": strconv.FormatInt(size, 10)})
	if err != nil {
		return "", err
	}
	to, err := url.Parse(response.Header.Get("Location"))
	if err != nil || to.Path == "" {
		return "", errors.New("the service does not say where to send it")
	}
	s.remember(digest, to.Path) // by the way that we came, whatever the service calls itself
	return to.Path, nil
}

func (s *Services) sendParts(ctx context.Context, at, digest string, content io.ReaderAt, size int64) error {
	response, err := s.part(ctx, http.MethodHead, at, nil, 0, nil)
	if err != nil {
		return err
	}
	offset, err := strconv.ParseInt(response.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || offset < 0 || offset > size || response.Header.Get("Upload-Length") != strconv.FormatInt(size,
		10) {
		return errPartsGone
	}
	for offset < size {
		n := min(partSize, size-offset)
		response, err := s.part(ctx, http.MethodPatch, at, io.NewSectionReader(content, offset, n), n,
			map[string]string{
				"Upload-Offset": strconv.FormatInt(offset, 10), "Content-Type": "application/offset+octet-stream"})
		if err != nil {
			return err
		}
		was := offset
		if offset, err = strconv.ParseInt(response.Header.Get("Upload-Offset"), 10, 64); err != nil || offset <= was ||
			offset > size {
			return errors.New("the service does not say how far it got")
		}
	}
	_, err = s.part(ctx, http.MethodPut, "/api/v1/blobs/"+digest+"?part="+url.QueryEscape(path.Base(at)), nil, 0, nil)
	return err
}

// part makes one call of an upload in parts. Its answer has no body that matters.
func (s *Services) part(ctx context.Context, method, at string, body io.Reader, size int64,
	headers map[string]string) (*http.Response, error) {
	r, err := s.request(ctx, method, at, body)
	if err != nil {
		return nil, err
	}
	r.ContentLength = size
	r.Header.Set("Tus-Resumable", "1.0.0")
	for k, v := range headers {
		r.Header.Set(k, v)
	}
	response, err := s.http.Do(r)
	if err != nil {
		s.at.Add(1)
		return nil, err
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode == http.StatusNotFound || response.StatusCode == http.StatusGone:
		return nil, errPartsGone
	case response.StatusCode == http.StatusConflict && method == http.MethodPatch:
		return nil, errPartsMoved
	case response.StatusCode >= 300:
		text, _ := io.ReadAll(io.LimitReader(response.Body, 2000))
		return nil, fmt.Errorf("the service answers %s: %s", response.Status, text)
	}
	return response, nil
}
