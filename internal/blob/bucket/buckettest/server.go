// Package buckettest starts an S3-compatible server on the loopback, for tests and measurements.
package buckettest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"yamato/internal/retry"
)

// The keys of a server that is started here.
const (
	Access = "sora-minami"
	Secret = "kujira-tobi-haruka"
)

// Server is a running one.
type Server struct {
	URL     string
	dir     string
	process *exec.Cmd
	ended   chan error
}

// program gives the path of the server, which `make test` has made; what is missing is built.
func program() (string, error) {
	_, here, _, _ := runtime.Caller(0)
	root := filepath.Join(filepath.Dir(here), "..", "..", "..", "..")
	path := filepath.Join(root, "bin", "objects")
	if _, err := os.Stat(path); err == nil {
		return path, nil
	}
	build := exec.Command("go", "build", "-o", path, "github.com/versity/versitygw/cmd/versitygw")
	build.Dir = filepath.Join(filepath.Dir(here), "..", "server")
	if said, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("building the S3-compatible server: %w: %s", err, said)
	}
	return path, nil
}

// Start starts a server that keeps its objects below dir, with one bucket.
func Start(ctx context.Context, dir, bucket string) (*Server, error) {
	path, err := program()
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	address := l.Addr().String()
	if err := l.Close(); err != nil {
		return nil, err
	}
	for _, d := range []string{"objects", "notes"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o700); err != nil {
			return nil, err
		}
	}
	s := &Server{URL: "http://" + address, dir: dir, ended: make(chan error, 1)}
	s.process = exec.Command(path, "--quiet", "--access", Access, "--secret", Secret, "--port", address, "posix",
		"--sidecar", filepath.Join(dir, "notes"),
		filepath.Join(dir, "objects"))
	s.process.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	s.process.Stderr = os.Stderr
	if err := s.process.Start(); err != nil {
		return nil, err
	}
	go func() { s.ended <- s.process.Wait() }() // ends with the process
	c, err := s.Client()
	if err != nil {
		return nil, err
	}
	pause := retry.From(20*time.Millisecond, 200*time.Millisecond)
	for {
		err := c.MakeBucket(ctx, bucket, minio.MakeBucketOptions{})
		if err == nil || minio.ToErrorResponse(err).Code == "BucketAlreadyOwnedByYou" {
			return s, nil
		}
		select {
		case why := <-s.ended:
			return nil, fmt.Errorf("the S3-compatible server ended: %w", errors.Join(why, err))
		default:
		}
		if pause.Wait(ctx) != nil {
			return nil, err
		}
	}
}

// Client gives a plain client of the server.
func (s *Server) Client() (*minio.Client, error) {
	u, err := url.Parse(s.URL)
	if err != nil {
		return nil, err
	}
	return minio.New(u.Host, &minio.Options{Creds: credentials.NewStaticV4(Access, Secret, ""), MaxRetries: 1})
}

// Stop ends the server.
func (s *Server) Stop() {
	_ = s.process.Process.Kill()
	<-s.ended
}

// Fault is what befalls a call of the store before it reaches the server: it answers itself and
// reports true, or lets the call through.
type Fault func(w http.ResponseWriter, r *http.Request) bool

// Before gives a handler that stands before the server, where faults befall calls.
func (s *Server) Before(fault Fault) http.Handler {
	through := &http.Client{Transport: &http.Transport{DisableCompression: true}}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if fault(w, r) {
			return
		}
		on, err := http.NewRequestWithContext(r.Context(), r.Method, s.URL+r.URL.RequestURI(), r.Body)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		on.Header, on.ContentLength, on.Host, on.TransferEncoding = r.Header, r.ContentLength, r.Host,
			r.TransferEncoding
		answer, err := through.Do(on)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		defer answer.Body.Close()
		for k, v := range answer.Header {
			w.Header()[k] = v
		}
		w.WriteHeader(answer.StatusCode)
		_, _ = io.Copy(w, answer.Body) // whoever asks has gone where that fails
	})
}
