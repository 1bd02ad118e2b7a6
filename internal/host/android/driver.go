// Package android drives phones and emulators that Android's debug bridge sees. It speaks the protocol of the bridge's own
// server, which it starts where it is not up (server.go); device.go has what a phone can be told, dump.go its screen.
package android

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yamato/internal/contain"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
	"yamato/internal/host/driver"
	"yamato/internal/retry"
)

// Name is what site files call the driver.
const Name = "android"

func init() {
	driver.Register(Name, func() (driver.Driver, error) { return &Driver{}, nil })
}

// Driver finds the phones that the bridge sees.
type Driver struct {
	Server Server
	Log    *slog.Logger

	finding atomic.Pointer[finder] // the search that is under way
}

// wishes are what a site file says under the driver's name.
type wishes struct {
	Only []string `yaml:"only"` // serials: of these phones alone; all where there are none
	// Emulator is the command that boots emulators, and its first words; the OS's own where it is left out.
	Emulator []string `yaml:"emulator"`
	Connect  []string `yaml:"connect"` // host:port of phones over the network, which are connected again when they are lost
}

func wishesOf(s *driver.Site) (w wishes, err error) {
	if err := s.Own[Name].Read(&w); err != nil {
		return w, fmt.Errorf("%s: %w", Name, err)
	}
	for _, at := range w.Connect {
		if err := CheckAddress(at); err != nil {
			return w, fmt.Errorf("%s: connect: %w", Name, err)
		}
	}
	return w, nil
}

// CheckAddress tells why a text is no address of a phone over the network.
func CheckAddress(at string) error {
	host, port, err := net.SplitHostPort(at)
	if n, wrong := strconv.ParseUint(port, 10, 16); err != nil || host == "" || wrong != nil || n == 0 || strings.ContainsAny(at, " \t\n") {
		return fmt.Errorf("a phone over the network is at HOST:PORT, not %q", clipped(at, 80))
	}
	return nil
}

// Check refuses what cannot be listed: phones tell themselves what they are.
func (v *Driver) Check(s *driver.Site) error {
	if _, err := wishesOf(s); err != nil {
		return err
	}
	for _, d := range s.Devices {
		return fmt.Errorf("device %s: phones are found by themselves; leave `devices` out", d.Name)
	}
	return nil
}

// Open opens nothing: phones are found.
func (v *Driver) Open(*driver.Site, driver.SiteDevice, fleet.Model) (driver.Device, error) {
	return nil, errors.New("phones are found by themselves")
}

func clipped(s string, most int) string { return plain.Clip(plain.Text(s, 4*most), most) }

// place is where the bridge sees a phone, if it does.
type place struct {
	mu      sync.Mutex
	serial  string // "" while it cannot be talked to
	state   string // how the bridge sees it then
	noticed chan struct{}
}

// as gives how the bridge sees a phone that cannot be talked to.
func (p *place) as() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.state
}

func (p *place) now() (string, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.serial, p.serial != ""
}

// set has the bridge see it at a place, or nowhere, in a state.
func (p *place) set(serial, state string) {
	p.mu.Lock()
	changed := p.serial != serial || p.state != state
	p.serial, p.state = serial, state
	noticed := p.noticed
	p.mu.Unlock()
	if changed && noticed != nil {
		select {
		case noticed <- struct{}{}:
		default:
		}
	}
}

// Find tells of phones as they are plugged in and allowed. One that is unplugged stays, and says so itself; plugged in at
// another place it is the same, by its hardware's number.
func (v *Driver) Find(ctx context.Context, s *driver.Site, told func(driver.Change)) error {
	w, err := wishesOf(s)
	if err != nil {
		return err
	}
	f := &finder{wishes: w, server: &v.Server, site: s.Name, told: told, log: v.Log, known: map[string]*place{}, seen: map[string]*place{}, spare: map[string]*place{},
		unmet: map[string]*place{}, boots: map[*place]string{}, calling: map[string]bool{}, made: map[string]*emulator{}}
	if f.log == nil {
		f.log = slog.Default()
	}
	v.finding.Store(f)
	defer f.meeting.Wait()
	if err = f.server.Start(ctx); err != nil {
		return err
	}
	f.emulators(ctx)
	pause := retry.From(100*time.Millisecond, 2*time.Second)
	for {
		err := f.follow(ctx, pause.Reset)
		f.look(ctx, nil) // nobody sees anything now
		if ctx.Err() != nil {
			return ctx.Err()
		}
		f.log.Warn("the debug bridge's server was lost; it is sought again", "error", err)
		if retry.For(ctx, pause.Next()) != nil {
			return ctx.Err()
		}
		if err := v.Server.Start(ctx); err != nil {
			f.log.Warn("the debug bridge's server cannot be started", "error", err)
		}
	}
}

// askEvery is how often the bridge is asked about phones that cannot be talked to yet: it tells of phones that come and go, and
// not always of one that begins to wait for its person.
const askEvery = time.Second

// follow takes in what the bridge sees, as it tells, until that ends.
func (f *finder) follow(ctx context.Context, came func()) error {
	ctx, stop := context.WithCancel(ctx)
	lists, ended := make(chan []Seen), make(chan error, 1)
	f.meeting.Go(func() {
		ended <- f.server.Track(ctx, func(list []Seen) {
			select {
			case lists <- list:
			case <-ctx.Done():
			}
		})
	})
	defer stop()
	t := time.NewTicker(askEvery)
	defer t.Stop()
	for waiting := false; ; {
		select {
		case err := <-ended:
			return err
		case list := <-lists:
			came()
			f.look(ctx, list)
			waiting = slices.ContainsFunc(list, func(s Seen) bool { return s.State != "device" })
		case <-t.C:
			if !waiting && len(f.wishes.Connect) == 0 {
				continue
			}
			if list, err := f.server.Devices(ctx); err == nil {
				f.look(ctx, list)
				f.connect(ctx, list)
			}
		}
	}
}

// connect has the bridge connect again to phones over the network that it does not see. Each is asked for at most once at a
// time.
func (f *finder) connect(ctx context.Context, list []Seen) {
	for _, at := range f.wishes.Connect {
		i := slices.IndexFunc(list, func(s Seen) bool { return s.Serial == at })
		if i >= 0 && list[i].State != "offline" {
			continue
		}
		f.mu.Lock()
		busy := f.calling[at]
		f.calling[at] = true
		f.mu.Unlock()
		if busy {
			continue
		}
		f.meeting.Go(func() {
			_ = contain.Do("connecting a phone", func() error { return f.server.Connect(ctx, at) })
			f.mu.Lock()
			defer f.mu.Unlock()
			delete(f.calling, at)
		})
	}
}

// finder keeps which phones there are, and where the bridge sees them.
type finder struct {
	wishes  wishes
	server  *Server
	site    string
	told    func(driver.Change)
	log     *slog.Logger
	meeting sync.WaitGroup

	mu    sync.Mutex
	known map[string]*place // by the hardware's number
	seen  map[string]*place // by what the bridge calls it; nil for one that has not said yet what it is
	spare map[string]*place // other ways to phones that are reached already: a cable, and the network
	unmet map[string]*place // phones that wait for a person before they say what they are
	boots map[*place]string // what each phone says of its kernel's start

	made map[string]*emulator // by the names that the image tools know them by

	calling map[string]bool // addresses that the bridge is asked to connect to now
}

// look takes in what the bridge sees now. A phone that takes its time to say what it is keeps no other waiting.
func (f *finder) look(ctx context.Context, list []Seen) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for serial, p := range f.seen {
		if !slices.Contains(list, Seen{serial, "device"}) {
			delete(f.seen, serial)
			delete(f.spare, serial)
			f.lost(serial)
			if p != nil {
				p.set(f.otherWay(p, list))
			}
		}
	}
	for serial := range f.unmet {
		if !slices.ContainsFunc(list, func(s Seen) bool { return s.Serial == serial && s.State != "device" }) {
			f.forget(serial)
		}
	}
	for _, one := range list {
		if one.State != "device" {
			f.waits(one)
			continue
		}
		if _, there := f.seen[one.Serial]; there {
			continue
		}
		f.seen[one.Serial] = nil
		f.meeting.Go(func() {
			_ = contain.Do("meeting a phone", func() error { f.meet(ctx, one.Serial); return nil })
		})
	}
}

// wanted tells whether a phone is of this site.
func (f *finder) wanted(names ...string) bool {
	return len(f.wishes.Only) == 0 || slices.ContainsFunc(names, func(n string) bool { return slices.Contains(f.wishes.Only, n) })
}

// waits takes in a phone that the bridge sees and cannot talk to. The caller holds the lock.
func (f *finder) waits(one Seen) {
	if p := f.known[one.Serial]; p != nil { // on a cable the bridge calls it by its number
		if _, reached := p.now(); !reached {
			p.set("", one.State)
		}
		return
	}
	if p := f.unmet[one.Serial]; p != nil {
		p.set("", one.State)
		return
	}
	if h := stateHealth(one.State); f.wanted(one.Serial) && *h.Connected && h.Mode != "offline" { // what is offline may be long gone
		f.log.Info("a phone waits for somebody", "serial", one.Serial, "state", one.State)
		p := &place{state: one.State}
		u := newUnmet(f.site, one.Serial, p)
		p.noticed = u.noticed
		f.unmet[one.Serial] = p
		f.told(driver.Change{ID: unmetID(one.Serial), Like: u.facts.Model, Open: func(name string) (driver.Device, error) {
			u.facts.Name = name
			return u, nil
		}})
	}
}

func unmetID(serial string) string { return "unmet " + serial }

// forget lets go of a phone that waited: it has gone, or has said what it is.
func (f *finder) forget(serial string) {
	delete(f.unmet, serial)
	f.told(driver.Change{ID: unmetID(serial), Like: "phone"})
}

// otherWay gives another serial under which the bridge sees a phone, "" for none, and how it is seen then. The caller holds
// the lock.
func (f *finder) otherWay(p *place, list []Seen) (serial, state string) {
	for serial, of := range f.spare {
		if of == p && slices.Contains(list, Seen{serial, "device"}) {
			delete(f.spare, serial)
			f.seen[serial] = p
			return serial, ""
		}
	}
	return "", ""
}

// meet learns which phone it is that the bridge sees.
func (f *finder) meet(ctx context.Context, serial string) {
	p := &place{serial: serial}
	whole, d, err := open(ctx, f.server, f.site, "", p.now)
	f.mu.Lock()
	defer f.mu.Unlock()
	if _, there := f.seen[serial]; !there {
		return // it went while it was asked
	}
	if err != nil {
		f.log.Warn("a phone does not say what it is", "serial", serial, "error", err)
		delete(f.seen, serial) // it is asked again when the bridge tells of phones
		return
	}
	if d.knownAs != "" && f.adopt(serial, d.knownAs, whole, d) {
		return
	}
	id := d.facts.HardwareID
	if id == "" {
		id = serial
	}
	if !f.wanted(serial, id) {
		return // it stays seen, so that it is not asked again
	}
	if before := f.known[id]; before != nil {
		_, reached := before.now()
		switch {
		case reached && f.boots[before] == d.boot:
			f.log.Info("a phone is seen twice, and reached as it was", "number", id, "serial", serial)
			f.spare[serial] = before
			return
		case !reached:
			f.seen[serial], f.boots[before] = before, d.boot
			before.set(serial, "")
			return
		}
		// Another phone has the same number, as those of some makers do: what the bridge calls it tells them apart.
		f.log.Warn("two phones have one number", "number", id, "serial", serial)
		id += " at " + serial
		if p := f.known[id]; p != nil {
			f.seen[serial], f.boots[p] = p, d.boot
			p.set(serial, "")
			return
		}
	}
	p.noticed, d.state = d.noticed, p.as
	f.known[id], f.seen[serial], f.boots[p] = p, p, d.boot
	f.told(driver.Change{ID: id, Like: d.facts.Model, Open: func(name string) (driver.Device, error) {
		d.facts.Name = name
		return whole, nil
	}})
}
