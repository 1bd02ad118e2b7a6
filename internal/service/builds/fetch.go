package builds

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/outside"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// fetchTime bounds how long a package may take that is fetched from an address.
const fetchTime = 15 * time.Minute

// fetcher gives a client that dials public addresses only, whatever a name or a
// redirect leads to; hosts that an administrator has named are let through. The
// address is checked when it is dialled, so that no second look-up can differ.
func fetcher(allowed []string, trusted *x509.CertPool) *http.Client {
	return &http.Client{
		Timeout: fetchTime,
		Transport: &http.Transport{
			Proxy: nil, ResponseHeaderTimeout: 30 * time.Second, TLSHandshakeTimeout: 15 * time.Second,
			DisableKeepAlives:  true,
			DisableCompression: true, // lengths and ranges are those of the file
			DialContext:        outside.Dialer(allowed),
			TLSClientConfig:    &tls.Config{RootCAs: trusted, MinVersion: tls.VersionTLS12},
		},
		CheckRedirect: func(r *http.Request, before []*http.Request) error {
			if len(before) >= 5 {
				return errors.New("it was redirected more than five times")
			}
			if r.URL.Scheme != "https" && r.URL.Scheme != "http" {
				return fmt.Errorf("it was redirected to %s", r.URL.Scheme)
			}
			return nil
		},
	}
}

// FetchPackage takes in a package from an address that the service fetches. told is
// told how many bytes have come, of how many (-1 where the address does not say).
func (s *Part) FetchPackage(ctx context.Context, c base.Caller, address string,
	told func(got, of int64)) (store.Package, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return store.Package{}, base.Invalid(fmt.Sprintf("%q is no address that can be fetched",
			base.Short(address, 100)), "write it as in https://builds.example/tideline-3.2.0.apk")
	}
	ctx, stop := context.WithTimeout(ctx, fetchTime)
	defer stop()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return store.Package{}, base.Invalid(err.Error(), "")
	}
	from := fetcher(s.Config.MayFetch, s.Config.Trusted)
	answer, err := from.Do(r)
	if errors.Is(err, outside.ErrPrivate) {
		return store.Package{}, forbidden(u.Hostname())
	}
	if err != nil {
		return store.Package{}, base.Invalid("it could not be fetched: "+err.Error(),
			"check the address from the service's machine, or push the file itself")
	}
	body := &fetched{client: from, request: r, answer: answer, told: told}
	defer func() { _ = body.answer.Body.Close() }()
	switch {
	case answer.StatusCode != http.StatusOK:
		return store.Package{}, base.Invalid(fmt.Sprintf("%s answers %s", u.Host, answer.Status),
			"an address that needs signing in cannot be fetched: push the file itself")
	case answer.ContentLength > MaxPackage:
		return store.Package{}, base.Invalid(fmt.Sprintf("it is %d MB large; a package has at most %d GB",
			answer.ContentLength>>20, MaxPackage>>30), "")
	}
	if ext := strings.ToLower(path.Ext(u.Path)); isPage(answer) &&
		slices.Contains([]string{".apk", ".ipa", ".zip", ".aab"}, ext) {
		return store.Package{}, base.Invalid(u.Host+" answers with a web page, where a package was to be: "+
			base.Short(u.Path, 200), "an address that needs signing in cannot be fetched: push the file itself")
	}
	if isPage(answer) {
		name, data, err := atAddress(ctx, from, answer)
		if errors.Is(err, outside.ErrPrivate) {
			return store.Package{}, forbidden(u.Hostname())
		}
		if err != nil {
			return store.Package{}, base.Invalid("the web app at "+u.Host+" could not be taken in: "+err.Error(),
				"hand in the address of its start page, or a zipped web bundle")
		}
		told(int64(len(data)), int64(len(data)))
		return s.AddPackage(ctx, c, name, bytes.NewReader(data))
	}
	name := path.Base(answer.Request.URL.Path)
	if _, params, err := mime.ParseMediaType(answer.Header.Get("Content-Disposition")); err == nil &&
		params["filename"] != "" {
		name = params["filename"]
	}
	told(0, answer.ContentLength)
	p, err := s.AddPackage(ctx, c, name, body)
	if body.failed != nil {
		return p, base.Invalid(fmt.Sprintf("the connection to %s was lost after %d MB: %v", u.Host, body.got>>20,
			body.failed), "try again, or push the file itself")
	}
	return p, err
}

func forbidden(host string) error {
	return base.Forbidden(host+" leads to a private or loopback address, which the service does not fetch from",
		"an administrator can allow the host: yamato serve --may-fetch "+host)
}

// fetched is what an address answers. Where the connection is lost it goes on where
// it stopped, if the address can (RFC 9110, 14.2 and 13.1.5).
type fetched struct {
	client  *http.Client
	request *http.Request
	answer  *http.Response
	told    func(got, of int64)
	got     int64
	again   int
	failed  error
}

// fetchAgain is how often a fetch goes on after a lost connection.
const fetchAgain = 5

func (f *fetched) Read(p []byte) (int, error) {
	for {
		n, err := f.answer.Body.Read(p)
		f.got += int64(n)
		if n > 0 {
			f.told(f.got, f.length())
		}
		if err == nil || err == io.EOF || n > 0 {
			if err != io.EOF {
				err = nil
			}
			return n, err
		}
		if f.again++; f.again > fetchAgain || f.goOn() != nil {
			f.failed = err
			return 0, err
		}
	}
}

func (f *fetched) length() int64 {
	if f.answer.ContentLength < 0 {
		return -1
	}
	if f.answer.StatusCode == http.StatusPartialContent {
		return f.answer.ContentLength + f.from()
	}
	return f.answer.ContentLength
}

// from is where the part that is being read begins.
func (f *fetched) from() (at int64) {
	_, _ = fmt.Sscanf(f.answer.Header.Get("Content-Range"), "bytes %d-", &at)
	return at
}

// goOn asks for the rest. Without a strong validator it might be that of another file.
func (f *fetched) goOn() error {
	tag := f.answer.Header.Get("ETag")
	if tag == "" || strings.HasPrefix(tag, "W/") {
		return errors.New("it cannot be told whether the rest is of the same file")
	}
	r := f.request.Clone(f.request.Context())
	r.Header.Set("Range", fmt.Sprintf("bytes=%d-", f.got))
	r.Header.Set("If-Range", tag)
	answer, err := f.client.Do(r)
	if err != nil {
		return err
	}
	before := f.answer
	f.answer = answer
	_ = before.Body.Close()
	if answer.StatusCode != http.StatusPartialContent || f.from() != f.got {
		return errors.New("the address does not go on where it stopped")
	}
	return nil
}

// mostBegun is what one caller may have begun to upload and not ended: a person, and a host with its many devices.
var mostBegun = map[string]store.Begun{"user": {Count: 200, Bytes: 64 << 30}, "host": {Count: 2000, Bytes: 256 << 30}}

// StartUpload notes whose an upload is, and how large in bytes; TakeUpload takes it in when it is complete.
func (s *Part) StartUpload(ctx context.Context, c base.Caller, id string, size int64) error {
	most := mostBegun[c.Kind]
	ok, err := s.Store.AddUpload(ctx, c.ProjectID, id, c.Uploader(), size, most)
	if err == nil && !ok {
		return base.Refuse(base.TooMuch, fmt.Sprintf("%s has begun as much as one may: %d uploads, or %d GB", c.Name,
			most.Count, most.Bytes>>30),
			"end those that are begun, or give them up (DELETE); what is left alone goes after a day")
	}
	return err
}

// OwnsUpload tells whether an upload is of the caller's project; of hosts, whether it is its own.
func (s *Part) OwnsUpload(ctx context.Context, c base.Caller, id string) error {
	by := ""
	if c.Kind == "host" {
		by = c.Uploader()
	}
	ok, err := s.Store.HasUpload(ctx, c.ProjectID, id, by)
	if err != nil || ok {
		return err
	}
	return base.NotFound("there is no such upload", "it is kept for a day after it was begun: begin anew")
}

// TakeUpload takes in a package whose upload is complete.
func (s *Part) TakeUpload(ctx context.Context, c base.Caller, id, name string,
	content io.Reader) (store.Package, error) {
	p, err := s.AddPackage(ctx, c, name, content)
	if err != nil {
		return p, err
	}
	return p, s.EndUpload(ctx, c, id)
}

// EndUpload forgets an upload that was taken in, refused or given up.
func (s *Part) EndUpload(ctx context.Context, c base.Caller, id string) error {
	return s.Store.RemoveUpload(ctx, c.ProjectID, id)
}

// reachable tells whether a phone could open an address and install from it, and
// what it would need otherwise.
func reachable(base string, b store.Build) (bool, *string) {
	u, err := url.Parse(base)
	if err != nil {
		return false, nil
	}
	host := u.Hostname()
	ip, ipErr := netip.ParseAddr(host)
	switch {
	case host == "localhost" || ipErr == nil && ip.IsLoopback():
		hint := "the service is reached by loopback, where no phone can open this page: start it with --listen " +
			cmp.Or(outside.OwnAddress(), "ADDRESS") + ":" + cmp.Or(u.Port(), "7420") +
			", this machine's address in the phones' network, and open the console there"
		return false, &hint
	case u.Scheme != "https" && slices.ContainsFunc(b.Packages, func(p store.Package) bool {
		return p.Facts.V.Kind == appfile.IOSDevice
	}):
		hint := "Android phones can install from here; iOS installs over HTTPS only: put the service behind a proxy " +
			"with a certificate that the phone trusts"
		return true, &hint
	}
	return true, nil
}
