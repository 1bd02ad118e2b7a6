// Package phone is the phone that ships: it speaks the device's side of Android's debug bridge, so that the bridge's own
// server and client connect to it, and whatever drives phones can be tried without one. It was written from the OS's public
// documentation; what it was tried against is Debian's adb (docs/phones.md).
//
// transport.go holds packets, streams and the question whether a computer may debug it; shell.go reads command lines;
// system.go has the commands; files.go the files.
package phone

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"yamato/internal/core/device"
	"yamato/internal/host/driver"
)

// Config is what a phone is.
type Config struct {
	Serial  string // its hardware's number
	Model   string
	Maker   string
	Release string // of the OS: "10", "15"
	API     int
	ABI     string
	Width   int // pixels
	Height  int
	Density int // dots an inch
	Dir     string
	// Device is what its screen shows and its apps run on; nil for a phone without a screen.
	Device driver.Device
	// Allow says whether a computer whose key the phone does not know may debug it. It may take its time, as a person
	// does; nil lets everybody.
	Allow func(ctx context.Context, key string) (allowed, always bool)
	Log   *slog.Logger

	Troubles Troubles
	Boots    time.Duration     // how long its system takes until it is up
	Props    map[string]string // properties beside those of every phone
	// Extra are commands that it has beside those of a phone, or in their place: how phones misbehave.
	Extra map[string]func(out io.Writer) (code int)
}

// Phone is one phone.
type Phone struct {
	config Config
	files  *files
	boot   time.Time
	fate   fate

	using    sync.Mutex  // of what lies behind its programs
	restarts atomic.Bool // it is to start anew
	body     body
	front    string // the app that was seen in front last
	log      []logged
	logSize  int
	off      time.Duration // how far its clock is ahead
	bootID   string

	mu          sync.Mutex
	props       map[string]string
	settings    map[string]string
	night       string
	battery     battery
	known       map[string]bool  // keys of computers that are always allowed
	sessions    map[int]*session // installs of several packages that are under way
	lastSession int
	limits      limits
}

// New makes a phone whose files lie in its folder.
func New(c Config) (*Phone, error) {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	for _, d := range []string{"data/local/tmp", "sdcard/Download", "system/bin"} {
		if err := os.MkdirAll(filepath.Join(c.Dir, d), 0o755); err != nil {
			return nil, fmt.Errorf("the phone's files have no place: %w", err)
		}
	}
	for name, text := range map[string]string{"proc/meminfo": "MemTotal:        8167876 kB\nMemFree:         2043124 kB\n"} {
		if err := errors.Join(os.MkdirAll(filepath.Join(c.Dir, filepath.Dir(name)), 0o755),
			os.WriteFile(filepath.Join(c.Dir, name), []byte(text), 0o444)); err != nil {
			return nil, err
		}
	}
	root, err := os.OpenRoot(c.Dir)
	if err != nil {
		return nil, err
	}
	p := &Phone{config: c, files: &files{root: root}, boot: time.Now(), settings: usualSettings(), night: "no", bootID: newID(),
		known: map[string]bool{}, sessions: map[int]*session{}, body: body{device: c.Device, apps: map[string]*app{}, uids: map[string]int{}}}
	p.fate = fate{dice: rand.New(rand.NewPCG(c.Troubles.Seed, 26)), conns: map[net.Conn]bool{}}
	if in, ok := device.As[insider](c.Device); c.Device != nil && ok {
		p.body.device = in.Inside()
	}
	if h, ok := device.As[device.Healthy](p.body.device); p.body.device != nil && ok {
		if now, err := h.Health(context.Background()); err == nil && now.ClockOff != nil {
			p.off = *now.ClockOff
		}
	}
	p.props = map[string]string{
		"ro.serialno": c.Serial, "ro.product.model": c.Model, "ro.product.manufacturer": c.Maker,
		"ro.product.name": c.Model, "ro.product.device": c.Model, "ro.build.version.release": c.Release,
		"ro.build.version.sdk": fmt.Sprint(c.API), "ro.product.cpu.abi": c.ABI, "ro.product.cpu.abilist": c.ABI,
		"ro.sf.lcd_density": fmt.Sprint(c.Density), "sys.boot_completed": "1", "ro.debuggable": "0",
		"persist.sys.timezone": "Europe/Lisbon", "persist.sys.locale": "en-GB",
	}
	for key, value := range c.Props {
		p.props[key] = value
	}
	return p, nil
}

// insider is a device that is more to who plays its OS than to who drives it.
type insider interface{ Inside() driver.Device }

// newID gives an identifier as the kernel makes one when it starts (RFC 9562, version 4).
func newID() string { return uuid.NewString() }

// Serve serves bridges that connect to l until ctx ends. Every connection has an owner: it is ended with ctx, and waited for.
func (p *Phone) Serve(ctx context.Context, l net.Listener) error {
	var open sync.WaitGroup
	defer open.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer context.AfterFunc(ctx, func() { _ = l.Close() })()
	for {
		c, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the phone can be reached no more: %w", err)
		}
		p.fate.hold(c, true)
		open.Go(func() {
			defer p.fate.hold(c, false)
			if err := p.attend(ctx, c); err != nil && ctx.Err() == nil && !errors.Is(err, io.EOF) {
				p.config.Log.Info("a bridge was left", "error", err)
			}
		})
	}
}
