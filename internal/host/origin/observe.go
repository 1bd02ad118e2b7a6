package origin

import (
	"net/http"
	"time"
)

// Exchange is a request that went through the proxy, as far as the proxy can tell: of a tunnel only where it leads.
type Exchange struct {
	Method, Address string
	Destination     string // Sec-Fetch-Dest (Fetch Metadata Request Headers), "" where it does not say
	Accept          string
	Began           time.Time
	// Of the answer, once it has ended.
	Took      time.Duration
	Status    int
	MediaType string
	Bytes     int64
}

// Watch has somebody be told of each exchange as it begins, and as it ends, by several goroutines at once.
func (p *Proxy) Watch(began func(*Exchange), ended func(*Exchange)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.began, p.ended = began, ended
}

// watched has an answer be counted.
type watched struct {
	http.ResponseWriter
	of *Exchange
}

func (w *watched) WriteHeader(status int) {
	if w.of.Status == 0 {
		w.of.Status, w.of.MediaType = status, w.Header().Get("Content-Type")
	}
	w.ResponseWriter.WriteHeader(status)
}

func (w *watched) Write(b []byte) (int, error) {
	if w.of.Status == 0 {
		w.WriteHeader(http.StatusOK)
	}
	n, err := w.ResponseWriter.Write(b)
	w.of.Bytes += int64(n)
	return n, err
}

// Unwrap is for http.ResponseController: tunnels take the connection over.
func (w *watched) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// ServeHTTP serves bundles, passes on what may be reached, and refuses the rest.
func (p *Proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	began, ended := p.began, p.ended
	p.mu.Unlock()
	if began == nil {
		p.serve(w, r)
		return
	}
	address := r.URL.String()
	if r.Method == http.MethodConnect {
		address = "https://" + r.Host
	}
	e := &Exchange{Method: r.Method, Address: address, Destination: r.Header.Get("Sec-Fetch-Dest"),
		Accept: r.Header.Get("Accept"), Began: time.Now()}
	began(e)
	defer func() { // also where the proxy ends what it passes on by a panic (net/http, ErrAbortHandler)
		e.Took = time.Since(e.Began)
		ended(e)
	}()
	p.serve(&watched{ResponseWriter: w, of: e}, r)
}
