// Package host is the host's runtime: it links to a service, carries out the
// leases that it is given on the devices of its drivers, and reports what
// happens. Device is what it asks of a driver; each driver has a folder of its
// own below.
//
// A host owns its devices' leases only for as long as they last by its own
// monotonic clock: it stops driving before a lease runs out. What it has to say
// is kept on disk until the service has committed it.
package host

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"yamato/internal/contain"
	"yamato/internal/host/cache"
	"yamato/internal/host/driver"
	"yamato/internal/host/journal"
	"yamato/internal/host/pictures"
	"yamato/internal/host/video"
	"yamato/internal/host/yard"
	"yamato/internal/killpoint"
	"yamato/internal/link"
	"yamato/internal/retry"
)

// Config is how a host works.
type Config struct {
	Name    string // of the host, one of a kind in its project
	Site    string
	Program string // version of the program
	Dir     string // for the journal and cached packages
	Scratch int64  // bytes that frames and the like may take on its disk until they are handed on; 0 for 4 GiB
	Devices []driver.Device
	Yard    *yard.Yard // where virtual devices are made, nil where none are
	Service Remote
	Log     *slog.Logger
	Linked  func() // is told each time that a service has taken the host in; nil for nobody

	told func(*Host) // of the running host, for tests
}

// Remote is the service as a host reaches it.
type Remote interface {
	// Dial opens a link.
	Dial(ctx context.Context) (link.Conn, func(), error)
	// Adopt has the host come with a token of its own from now on.
	Adopt(token string) error
	// DialLive opens the socket of a session, by its lease.
	DialLive(ctx context.Context, lease int64) (link.Live, func(), error)
	// DialPort opens a connection for a tool that is joined to a session's device.
	DialPort(ctx context.Context, lease int64, id string) (net.Conn, error)
	// Upload keeps content under its SHA-256.
	Upload(ctx context.Context, digest string, content io.ReaderAt, size int64) error
	// Lent gives what the suite of a lease wants of its project.
	Lent(ctx context.Context, lease int64) (link.Lent, error)
	// Download writes the blob of a digest to a file.
	Download(ctx context.Context, digest, path string) error
}

// Host is a running host.
type Host struct {
	config  Config
	log     *slog.Logger
	journal *journal.Journal
	cache   *cache.Cache
	stains  *journal.Stains
	gallery pictures.Gallery
	texts   texts
	scratch string              // a folder for what is being made; emptied when the host starts
	disk    *video.Room         // that what is optional may take there
	waiting *semaphore.Weighted // bytes of pictures that are not drawn yet
	life    context.Context     // leases outlive links, and end with the host
	jobs    *errgroup.Group     // all that works for as long as the host

	mu      sync.Mutex
	ttl     time.Duration
	held    map[int64]*holding // leases by number
	asks    []asking           // for more time, the oldest first
	lastAsk int64
	workers map[string]*worker // by device
	news    news
	room    room
	boot    string // this process, and no other
	started time.Time
}

// holding is a lease as this host holds it. Its context ends with it.
type holding struct {
	lease link.Lease
	ctx   context.Context
	end   context.CancelCauseFunc
	timer *time.Timer // ends it before it runs out, by the monotonic clock
	until time.Time   // when it runs out, as far as it was given more time
}

// asking is an ask for more time that has not been answered.
type asking struct {
	number int64
	at     time.Time
}

// maxAsks bounds the asks that wait for their answers: an answer to one before is of no use any more.
const maxAsks = 16

// marginPart is which part of a lease's time before its end it is given up.
const marginPart = 8

var (
	errRanOut  = errors.New("the lease ran out: the service could not be reached")
	errLost    = errors.New("the lease is no longer ours")
	errRestart = errors.New("the host was restarted in the middle")
)

// usualScratch is what frames and the like may take on a host's disk, in bytes.
const usualScratch = 4 << 30

// emptied gives a folder with nothing in it: what a host that was killed has left is of no use.
func emptied(dir string) (string, error) {
	if err := errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o700)); err != nil {
		return "", fmt.Errorf("making the host's scratch folder: %w", err)
	}
	return dir, nil
}

// Run works until ctx ends. Leases that were under way when an earlier host on
// the same directory was killed are ended first.
func Run(ctx context.Context, c Config) error {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	j, err := journal.Open(c.Dir, c.Log)
	if err != nil {
		return err
	}
	defer j.Close()
	left, err := journal.OpenStains(c.Dir, c.Log)
	if err != nil {
		return err
	}
	blobs, err := cache.Open(c.Dir, c.Service)
	if err != nil {
		return err
	}
	scratch, err := emptied(filepath.Join(c.Dir, "scratch"))
	if err != nil {
		return err
	}
	h := &Host{config: c, scratch: scratch, disk: video.NewRoom(cmp.Or(c.Scratch, usualScratch), scratch),
		waiting: semaphore.NewWeighted(maxWaiting), boot: uuid.NewString(), started: time.Now(),
		log: c.Log, journal: j, stains: left, cache: blobs, workers: map[string]*worker{}, held: map[int64]*holding{},
		ttl: 30 * time.Second, news: newNews()}
	g, ctx := errgroup.WithContext(ctx)
	h.life, h.jobs = ctx, g
	if c.told != nil {
		c.told(h)
	}
	leftovers := h.leftovers()
	g.Go(func() error { h.watchRoom(ctx); return nil })
	defer context.AfterFunc(ctx, j.Stop)()
	for _, d := range c.Devices {
		name := d.Describe().Name
		h.employ(d, leftovers[name]...)
		delete(leftovers, name)
	}
	for name, gone := range leftovers { // of devices that are not here any more
		if c.Yard != nil && c.Yard.MayCome(name) { // it is cleaned once it is found again
			for i, l := range gone {
				h.say(l.end()...)
				gone[i].Finished = true
			}
			continue
		}
		delete(leftovers, name)
		for _, l := range gone {
			h.say(append(l.end(), link.Event{Lease: l.Number, Clean: &link.Clean{Trouble: errNotHere.Error()}})...)
		}
	}
	g.Go(func() error { h.keepLinked(ctx); return nil })
	if c.Yard != nil {
		g.Go(func() error { h.weigh(ctx); return nil })
		if c.Yard.Finds() {
			contain.Go(g, "finding devices", func() error { return h.find(ctx, leftovers) })
		}
	}
	return g.Wait()
}

var errNotHere = errors.New("its host drives the device no more, and could not clean it")

// leftovers gives the leases that a killed host left open, by device: each is cleaned of
// them before anything else.
func (h *Host) leftovers() map[string][]leftover {
	out := map[string][]leftover{}
	for _, o := range h.journal.Unfinished() {
		out[o.Device] = append(out[o.Device], leftover(o))
	}
	return out
}

// keepLinked links to the service, again and again.
func (h *Host) keepLinked(ctx context.Context) {
	pause := retry.From(50*time.Millisecond, 2*time.Second)
	for ctx.Err() == nil {
		began := time.Now()
		err := h.linkOnce(ctx)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > 5*time.Second {
			pause.Reset()
		}
		next := pause.Next()
		if next > 240*time.Millisecond { // a service that is started again is back before that
			h.log.Warn("not linked; trying again", "error", err, "in", next)
		}
		if retry.For(ctx, next) != nil {
			return
		}
	}
}

// linkOnce opens a link and serves it until it breaks.
func (h *Host) linkOnce(ctx context.Context) error {
	conn, hangUp, err := h.config.Service.Dial(ctx)
	if err != nil {
		return err
	}
	defer hangUp()
	if err := conn.Send(ctx, link.FromHost{Hello: h.hello()}); err != nil {
		return err
	}
	var first link.ToHost
	if err := conn.Receive(ctx, &first); err != nil {
		return fmt.Errorf("the service did not take this host in: %w", err)
	}
	if first.Welcome == nil || first.Welcome.Version != link.Version {
		return errors.New("the service did not welcome this host")
	}
	h.mu.Lock()
	h.ttl = time.Duration(first.Welcome.TTLMS) * time.Millisecond
	h.asks = nil // what was asked over another link is answered by nobody
	h.mu.Unlock()
	if first.Welcome.Replaced {
		h.log.Warn("another host of this name was linked, and this one has its place now; give each host a name of "+
			"its own with --name", "name", h.config.Name)
	}
	if own := first.Welcome.Token; own != "" { // before it is used for anything
		if err := h.config.Service.Adopt(own); err != nil {
			return fmt.Errorf("the token that the service gave this host cannot be kept: %w", err)
		}
		h.log.Info("the service has given this host a token of its own")
		if err := conn.Send(ctx, link.FromHost{Adopted: true}); err != nil { // from here on it comes with that
			return err
		}
	}
	h.log.Info("linked")
	if h.config.Linked != nil {
		h.config.Linked()
	}
	h.journal.Rewind()
	h.news.again(&h.mu)
	g, ctx := errgroup.WithContext(ctx)
	contain.Go(g, "hearing the service", func() error { return h.hear(ctx, conn) })
	contain.Go(g, "reporting to the service", func() error { return h.report(ctx, conn) })
	contain.Go(g, "renewing leases", func() error { return h.renew(ctx, conn) })
	contain.Go(g, "telling of devices", func() error { return h.tell(ctx, conn) })
	return g.Wait()
}

func (h *Host) hello() *link.Hello {
	h.mu.Lock()
	defer h.mu.Unlock()
	hello := &link.Hello{Version: link.Version, Host: h.config.Name, Site: h.config.Site, Program: h.config.Program,
		Boot: h.boot, Started: h.started.UnixMilli()}
	uncleaned := h.uncleaned()
	for _, w := range h.workers {
		hello.Devices = append(hello.Devices, w.declared(uncleaned))
	}
	slices.SortFunc(hello.Devices, func(a, b link.Device) int { return strings.Compare(a.Name, b.Name) })
	hello.Offer, hello.Load = h.offer(), h.load()
	hello.Errands = h.news.hand()
	clear(h.news.devices)
	h.news.gone, h.news.offer, h.news.load = nil, false, false
	return hello
}

// uncleaned gives the lease that each device has not been cleaned of, as far as the
// service may know. The caller holds the lock.
func (h *Host) uncleaned() map[string]int64 {
	out := map[string]int64{}
	for n, held := range h.held {
		out[held.lease.Device] = n
	}
	for _, n := range h.journal.Uncleaned() { // cleaned, but the service may not know yet: its word is on the way
		if device, ok := h.journal.Device(n); ok {
			out[device] = n
		}
	}
	return out
}

// hear takes in what the service says.
func (h *Host) hear(ctx context.Context, conn link.Conn) error {
	for {
		var m link.ToHost
		if err := conn.Receive(ctx, &m); err != nil {
			return err
		}
		for _, l := range m.Leases {
			if err := h.accept(l); err != nil {
				return err
			}
		}
		h.see(ctx, conn, m.See)
		h.do(m.Do)
		if len(m.Acks) > 0 {
			killpoint.Pass("acknowledged")
		}
		for _, e := range m.End {
			h.stop(e.Lease, ended(e.Reason))
		}
		h.journal.Acknowledge(m.Acks)
		h.news.heard(&h.mu, m.Heard)
		for _, r := range m.Refused {
			h.log.Warn("the service refuses word of a lease", "lease", r.Lease, "why", r.Reason)
			h.stop(r.Lease, fmt.Errorf("%w: %s", errLost, r.Reason))
			h.journal.Refuse(r.Lease)
		}
		if m.Renewed != nil {
			h.renewed(*m.Renewed)
		}
	}
}

// accept begins a lease, unless it is under way already.
func (h *Host) accept(l link.Lease) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, ok := h.held[l.Number]; ok || h.journal.Knows(l.Number) {
		return nil
	}
	if err := h.journal.Begin(l.Number, l.Device, l.Apps, l.LastSeq); err != nil {
		h.log.Warn("a lease is not taken: it cannot be noted", "lease", l.Number, "error", err)
		return nil // it runs out by itself, and nothing was tried
	}
	killpoint.Pass("lease-begun")
	w, ok := h.workers[l.Device]
	if !ok { // nothing was done to it here
		h.turnAway(l.Number, "this host has no device "+l.Device)
		return nil
	}
	left := time.Duration(l.TTLMS) * time.Millisecond
	held := &holding{lease: l}
	held.ctx, held.end = context.WithCancelCause(h.life)
	held.timer = time.AfterFunc(left-left/marginPart, func() { held.end(errRanOut) })
	select {
	case w.leases <- held:
		h.held[l.Number] = held
	default: // the service has forgotten leases that it gave before
		held.timer.Stop()
		h.turnAway(l.Number, "its device has a lease already")
	}
	return nil
}

// turnAway ends a lease that nothing was tried under.
func (h *Host) turnAway(lease int64, why string) {
	h.say(link.Event{Lease: lease, Finished: &link.Finished{Trouble: why}},
		link.Event{Lease: lease, Clean: &link.Clean{}})
}

// say keeps events to be reported. It may wait for room on the disk, and its caller does
// not; what is said in one call stays in its order.
func (h *Host) say(events ...link.Event) {
	h.jobs.Go(func() error {
		if err := h.journal.Append(events...); err != nil {
			h.log.Warn("the end of a lease could not be kept", "lease", events[0].Lease, "error", err)
		}
		return nil
	})
}

// stop ends the attempt under a lease early.
func (h *Host) stop(lease int64, why error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if held := h.held[lease]; held != nil {
		held.end(why)
	}
}

// release forgets a lease whose device is clean.
func (h *Host) release(lease int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if held := h.held[lease]; held != nil {
		held.timer.Stop()
		held.end(nil)
		delete(h.held, lease)
	}
}

// renew asks for more time for the leases that are held, every third of it. The
// time counts from when it asks.
func (h *Host) renew(ctx context.Context, conn link.Conn) error {
	h.mu.Lock()
	every := h.ttl / 3
	h.mu.Unlock()
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		list, ask := h.askFor(time.Now())
		if len(list) == 0 {
			continue
		}
		if err := conn.Send(ctx, link.FromHost{Renew: list, Ask: ask}); err != nil {
			return err
		}
	}
}

// askFor gives the leases to renew, and notes when that was asked, under a number.
func (h *Host) askFor(now time.Time) ([]int64, int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	var list []int64
	for n := range h.held {
		list = append(list, n)
	}
	if len(list) > 0 {
		h.lastAsk++
		if h.asks = append(h.asks, asking{h.lastAsk, now}); len(h.asks) > maxAsks {
			h.asks = h.asks[1:]
		}
	}
	return list, h.lastAsk
}

// renewed gives leases the time that was asked for: from when that very ask was made, as the service counts from when
// it heard it. An answer to an ask that nobody knows any more gives nothing.
func (h *Host) renewed(r link.Renewed) {
	h.mu.Lock()
	defer h.mu.Unlock()
	i := slices.IndexFunc(h.asks, func(a asking) bool { return a.number == r.Ask || r.Ask == 0 })
	if i < 0 || r.TTLMS <= 0 {
		return
	}
	asked := h.asks[i].at
	h.asks = slices.Delete(h.asks, i, i+1)
	ttl := time.Duration(r.TTLMS) * time.Millisecond
	for _, n := range r.Leases {
		held := h.held[n]
		if held == nil || asked.Add(ttl).Before(held.until) { // it was given more already
			continue
		}
		if held.until = asked.Add(ttl); held.timer.Stop() { // else it has run out just now
			held.timer.Reset(time.Until(held.until) - ttl/marginPart)
		}
	}
}

// report sends what the journal holds and the service has not acknowledged.
func (h *Host) report(ctx context.Context, conn link.Conn) error {
	for {
		events, err := h.journal.Next(ctx, link.MaxBatch)
		if err != nil {
			return err
		}
		if err := conn.Send(ctx, link.FromHost{Events: events}); err != nil {
			return err
		}
		killpoint.Pass("reported")
	}
}
