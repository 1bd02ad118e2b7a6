// Package android drives phones and emulators that Android's debug bridge sees. It speaks the protocol of the bridge's own
// server, which it starts where it is not up (server.go); device.go has what a phone can be told, dump.go its screen.
package android

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
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
}

// Check refuses what cannot be listed: phones tell themselves what they are.
func (v *Driver) Check(s *driver.Site) error {
	for _, d := range s.Devices {
		return fmt.Errorf("device %s: phones are found by themselves; leave `devices` and `models` out", d.Name)
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
	mu     sync.Mutex
	serial string
	device *Device
}

func (p *place) now() (string, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.serial, p.serial != ""
}

func (p *place) set(serial string) {
	p.mu.Lock()
	changed := p.serial != serial
	p.serial = serial
	d := p.device
	p.mu.Unlock()
	if changed && d != nil {
		select {
		case d.noticed <- struct{}{}:
		default:
		}
	}
}

// Find tells of phones as they are plugged in and allowed. One that is unplugged stays, and says so itself; plugged in at
// another place it is the same, by its hardware's number.
func (v *Driver) Find(ctx context.Context, s *driver.Site, told func(driver.Change)) error {
	f := &finder{server: &v.Server, site: s.Name, told: told, log: v.Log, known: map[string]*place{}, seen: map[string]*place{}, spare: map[string]*place{}}
	if f.log == nil {
		f.log = slog.Default()
	}
	defer f.meeting.Wait()
	if err := v.Server.Start(ctx); err != nil {
		return err
	}
	pause := retry.From(100*time.Millisecond, 2*time.Second)
	for {
		err := v.Server.Track(ctx, func(list []Seen) {
			pause.Reset()
			f.look(ctx, list)
		})
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

// finder keeps which phones there are, and where the bridge sees them.
type finder struct {
	server  *Server
	site    string
	told    func(driver.Change)
	log     *slog.Logger
	meeting sync.WaitGroup

	mu    sync.Mutex
	known map[string]*place // by the hardware's number
	seen  map[string]*place // by what the bridge calls it; nil for one that has not said yet what it is
	spare map[string]*place // other ways to phones that are reached already: a cable, and the network
}

// look takes in what the bridge sees now. A phone that takes its time to say what it is keeps no other waiting.
func (f *finder) look(ctx context.Context, list []Seen) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for serial, p := range f.seen {
		if !slices.Contains(list, Seen{serial, "device"}) {
			delete(f.seen, serial)
			delete(f.spare, serial)
			if p != nil {
				p.set(f.otherWay(p, list))
			}
		}
	}
	for _, one := range list {
		if one.State != "device" {
			f.log.Info("a phone cannot be used yet", "serial", one.Serial, "state", one.State)
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

// otherWay gives another serial under which the bridge sees a phone, "" for none. The caller holds the lock.
func (f *finder) otherWay(p *place, list []Seen) string {
	for serial, of := range f.spare {
		if of == p && slices.Contains(list, Seen{serial, "device"}) {
			delete(f.spare, serial)
			f.seen[serial] = p
			return serial
		}
	}
	return ""
}

// meet learns which phone it is that the bridge sees.
func (f *finder) meet(ctx context.Context, serial string) {
	p := &place{serial: serial}
	d, err := open(ctx, f.server, f.site, "", p.now)
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
	id := d.facts.HardwareID
	if id == "" {
		id = serial
	}
	if before := f.known[id]; before != nil {
		if _, reached := before.now(); reached {
			f.log.Info("a phone is seen twice, and reached as it was; two phones of one number cannot be told apart", "number", id,
				"serial", serial)
			f.spare[serial] = before
			return
		}
		f.seen[serial] = before
		before.set(serial)
		return
	}
	p.device = d
	f.known[id], f.seen[serial] = p, p
	f.told(driver.Change{ID: id, Like: d.facts.Model, Open: func(name string) (driver.Device, error) {
		d.facts.Name = name
		return d, nil
	}})
}
