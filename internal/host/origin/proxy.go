package origin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yamato/internal/outside"
)

// Proxy is all the network that a handset has. It serves the apps' bundles, each on an origin
// of its own, and passes on what goes to hosts that the site file names. The rest it refuses.
type Proxy struct {
	allowed []string // hosts, or host:port
	refused func(host string)
	through http.Handler
	dial    func(ctx context.Context, network, address string) (net.Conn, error)
	listen  net.Listener
	server  *http.Server
	serving sync.WaitGroup
	others  atomic.Int64 // requests and tunnels that went to others than the apps' own origins

	mu      sync.Mutex
	began   func(*Exchange) // nil where nobody watches
	ended   func(*Exchange)
	bundles map[string]http.Handler // by host
	own     map[string]int          // hosts with their ports, that apps at an address are at: how many apps
	conns   map[net.Conn]bool       // tunnels
}

// originEnd ends the hosts of bundles. The name `localhost` and what ends in it mean this
// machine and nothing else (RFC 6761, 6.3), and browsers count them as safe.
const originEnd = ".localhost"

// OpenProxy listens on a free port of the loopback.
func OpenProxy(allowed []string, refused func(host string)) (*Proxy, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Proxy{allowed: allowed, refused: refused, listen: l, bundles: map[string]http.Handler{},
		own: map[string]int{}, conns: map[net.Conn]bool{}, dial: outside.Dialer(allowed)}
	p.through = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {},
		Transport: &http.Transport{Proxy: nil, DialContext: p.dial, ResponseHeaderTimeout: 2 * time.Minute,
			MaxIdleConns:    32,
			IdleConnTimeout: 10 * time.Second, DisableCompression: true},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			p.unanswered(w, r.URL.Host, err)
		}}
	p.server = &http.Server{Handler: p, ReadHeaderTimeout: 30 * time.Second, MaxHeaderBytes: 256 << 10}
	p.serving.Go(func() { _ = p.server.Serve(l) })
	return p, nil
}

// Address is where it listens.
func (p *Proxy) Address() string { return p.listen.Addr().String() }

// Serve puts a bundle on a host's origin; nil takes it off.
func (p *Proxy) Serve(host string, bundle http.Handler) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if bundle == nil {
		delete(p.bundles, host)
	} else {
		p.bundles[host] = bundle
	}
}

// Own has an app's own origin be reached, at public addresses; or no more. What is private
// or loopback has to be named in the site file.
func (p *Proxy) Own(at *url.URL, yes bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	host := whole(at.Host, at.Scheme)
	if yes {
		p.own[host]++
	} else if p.own[host]--; p.own[host] <= 0 {
		delete(p.own, host)
	}
}

// Reaches tries whether an app's own origin can be reached. Its error is outside.ErrPrivate where
// it lies in the private network and is not named.
func (p *Proxy) Reaches(ctx context.Context, at *url.URL) error {
	ctx, stop := context.WithTimeout(ctx, 20*time.Second)
	defer stop()
	conn, err := p.dial(ctx, "tcp", whole(at.Host, at.Scheme))
	if err != nil {
		return err
	}
	return conn.Close()
}

// whole is a host with its port.
func whole(host, scheme string) string {
	if _, _, err := net.SplitHostPort(host); err == nil {
		return strings.ToLower(host)
	}
	return strings.ToLower(net.JoinHostPort(strings.Trim(host, "[]"), map[string]string{"https": "443"}[scheme]+
		map[string]string{"http": "80"}[scheme]))
}

// Others counts what went to others than the apps' own origins so far: a sign-in elsewhere, an interface.
func (p *Proxy) Others() int64 { return p.others.Load() }

// unanswered tells an app why a host gave no answer.
func (p *Proxy) unanswered(w http.ResponseWriter, host string, err error) {
	if errors.Is(err, outside.ErrPrivate) {
		p.refused(host)
		http.Error(w, host+" leads to a private or loopback address, which the site file would have to name",
			http.StatusForbidden)
		return
	}
	http.Error(w, host+" does not answer: "+err.Error(), http.StatusBadGateway)
}

// may tells whether apps may reach a host.
func (p *Proxy) may(hostport string) bool {
	host, _, err := net.SplitHostPort(hostport)
	if err != nil {
		host = hostport
	}
	return slices.Contains(p.allowed, hostport) || slices.Contains(p.allowed, strings.Trim(host, "[]"))
}

// serve serves bundles, passes on what may be reached, and refuses the rest.
func (p *Proxy) serve(w http.ResponseWriter, r *http.Request) {
	host := r.URL.Host
	if r.Method == http.MethodConnect {
		host = r.Host
	}
	p.mu.Lock()
	bundle := p.bundles[strings.TrimSuffix(host, ":80")]
	own := p.own[whole(host, r.URL.Scheme)] > 0
	p.mu.Unlock()
	switch {
	case bundle != nil && r.Method != http.MethodConnect:
		bundle.ServeHTTP(w, r)
	case host == "":
		http.Error(w, "this is a handset's proxy, and no server", http.StatusBadRequest)
	case !own && !p.may(host):
		p.refused(host)
		http.Error(w, fmt.Sprintf("apps on this handset may not reach %s; the site file names the hosts that they may",
			host), http.StatusForbidden)
	case r.Method == http.MethodConnect:
		p.passes(own)
		p.tunnel(w, r)
	case r.URL.Scheme == "http":
		p.passes(own)
		p.through.ServeHTTP(w, r)
	default:
		http.Error(w, "only http is passed on", http.StatusBadRequest)
	}
}

func (p *Proxy) passes(own bool) {
	if !own {
		p.others.Add(1)
	}
}

// tunnel joins a client to a host, both ways, until either has had enough.
func (p *Proxy) tunnel(w http.ResponseWriter, r *http.Request) {
	ctx, stop := context.WithTimeout(r.Context(), 20*time.Second)
	defer stop()
	there, err := p.dial(ctx, "tcp", r.Host)
	if err != nil {
		p.unanswered(w, r.Host, err)
		return
	}
	here, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		_ = there.Close()
		return
	}
	if !p.keep(here, there) {
		return
	}
	defer p.drop(here, there)
	if _, err := io.WriteString(here, "HTTP/1.1 200 Connected\r\n\r\n"); err != nil {
		return
	}
	var both sync.WaitGroup
	both.Go(func() {
		_, _ = io.Copy(there, buffered)
		_ = there.Close()
	})
	_, _ = io.Copy(here, there)
	_ = here.Close()
	both.Wait()
}

func (p *Proxy) keep(conns ...net.Conn) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range conns {
		if p.conns == nil { // it has been closed
			_ = c.Close()
			continue
		}
		p.conns[c] = true
	}
	return p.conns != nil
}

func (p *Proxy) drop(conns ...net.Conn) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range conns {
		_ = c.Close()
		delete(p.conns, c)
	}
}

// Close ends the proxy and all that goes through it.
func (p *Proxy) Close() error {
	p.mu.Lock()
	for c := range p.conns {
		_ = c.Close()
	}
	p.conns = nil
	p.mu.Unlock()
	err := p.server.Close()
	p.serving.Wait()
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// Of gives the origin that an app has on a handset, and its host.
func Of(app string) (origin, host string) {
	host = hostLabel(app) + originEnd
	return (&url.URL{Scheme: "http", Host: host}).String(), host
}
