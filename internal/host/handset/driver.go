package handset

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"

	"yamato/internal/core/fleet"
	"yamato/internal/core/near"
	"yamato/internal/host/driver"
	"yamato/internal/host/keeper"
	"yamato/internal/host/remote"
	"yamato/internal/outside"
)

// Name is what site files call the driver, and where a device's own part stands.
const Name = "handset"

func init() {
	driver.Register(Name, func() (driver.Driver, error) { return NewDriver(nil) })
}

// Part is what a site file says of a handset under `handset`.
type Part struct {
	// Engine is Blink where it is not stated, Gecko or WebKit.
	Engine  string `yaml:"engine"`
	Browser string `yaml:"browser"` // path of the browser; with Blink, the same for all of a host
	// Authority is a PEM file with certificates of an authority of one's own; the same for all of a host.
	Authority string  `yaml:"authority"`
	Density   float64 `yaml:"density"` // pixels a dp; 2 where it is not stated
	// Overlook are requests that nobody waits for, by host and path as they begin, or by path alone.
	Overlook []string `yaml:"overlook"`
	Reach    []string `yaml:"reach"` // hosts that apps may reach, beside their own: api.example or api.example:8443
}

var hostName = regexp.MustCompile(`^(\[[0-9a-fA-F:]+\]|[a-zA-Z0-9]([a-zA-Z0-9.-]{0,251}[a-zA-Z0-9])?)(:[0-9]{1,5})?$`)

func (p Part) check() error {
	if p.Engine != "" && !slices.Contains(fleet.Engines, p.Engine) {
		if meant := near.Word(p.Engine, fleet.Engines); meant != "" {
			return fmt.Errorf("there is no engine %q; did you mean %q?", p.Engine, meant)
		}
		return fmt.Errorf("there is no engine %q; there are %s", p.Engine, strings.Join(fleet.Engines, ", "))
	}
	if p.Authority != "" && p.Engine != "" && p.Engine != fleet.Blink {
		return fmt.Errorf("an authority of one's own is known to Blink alone; have the machine itself trust it for %s", p.Engine)
	}
	if p.Density != 0 && (p.Density < 0.5 || p.Density > 5) {
		return fmt.Errorf("a density is 0.5 to 5 pixels a dp, not %g", p.Density)
	}
	for _, h := range p.Reach {
		if !hostName.MatchString(h) {
			return fmt.Errorf("%q is no host that apps could reach; write api.example or api.example:8443", h)
		}
	}
	if len(p.Overlook) > 100 {
		return errors.New("at most 100 requests are overlooked")
	}
	for _, o := range p.Overlook {
		host, _, _ := strings.Cut(o, "/")
		if o == "" || len(o) > 500 || o == "/" || host != "" && !hostName.MatchString(host) {
			return fmt.Errorf("%q is no request that could be overlooked; write api.example/poll, or /poll", o)
		}
	}
	return nil
}

// Driver drives the handsets of a host, which share one browser.
type Driver struct {
	keeper []string

	mu      sync.Mutex
	browser *Browser
}

// NewDriver gives the driver. command starts a keeper of browsers; nil means this very program.
func NewDriver(command []string) (*Driver, error) {
	if command == nil {
		self, err := os.Executable()
		if err != nil {
			return nil, fmt.Errorf("this program cannot find its own file: %w", err)
		}
		command = []string{self, keeper.Argument}
	}
	return &Driver{keeper: command}, nil
}

// Check refuses what no handset can be.
func (v *Driver) Check(s *driver.Site) error {
	return driver.Supplies{"web": {fleet.Emulator, fleet.Real}}.Check(s)
}

// Open gives one handset, switched off.
func (v *Driver) Open(s *driver.Site, d driver.SiteDevice, m fleet.Model) (driver.Device, error) {
	var part Part
	if err := d.Own[Name].Read(&part); err != nil {
		return nil, fmt.Errorf("the site file cannot be read: %w", err)
	}
	if err := part.check(); err != nil {
		return nil, fmt.Errorf("device %s: %w", d.Name, err)
	}
	if part.Engine != "" && part.Engine != fleet.Blink {
		return v.elsewhere(s, d, m, part)
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.browser == nil {
		v.browser = &Browser{Path: part.Browser, Authority: part.Authority, Keeper: v.keeper, Log: slog.Default()}
	}
	if part.Authority != "" && v.browser.Authority != part.Authority {
		return nil, fmt.Errorf("device %s: the handsets of a host share one browser, and so its authorities; name the same file for all of them", d.Name)
	}
	if part.Browser != "" && v.browser.Path != part.Browser {
		return nil, fmt.Errorf("device %s: the handsets of a host share one browser; name the same for all of them",
			d.Name)
	}
	if part.Authority != "" {
		if _, err := outside.ReadAuthorities(part.Authority); err != nil {
			return nil, fmt.Errorf("device %s: %w", d.Name, err)
		}
	}
	facts := s.Describe(d, m)
	if facts.OS == "" {
		var err error
		if facts.OS, err = v.browser.installed(); err != nil {
			return nil, fmt.Errorf("device %s: %w", d.Name, err)
		}
	}
	return New(Config{Device: facts, Density: part.Density, Reach: part.Reach, Overlook: part.Overlook,
		Cutout: m.Cutout}, v.browser), nil
}

// elsewhere gives a handset with another engine than the one that this package drives.
func (v *Driver) elsewhere(s *driver.Site, d driver.SiteDevice, m fleet.Model, part Part) (driver.Device, error) {
	facts := s.Describe(d, m)
	if facts.OS == "" {
		version, err := remote.Installed(context.Background(), part.Engine, v.keeper, part.Browser)
		if err != nil {
			return nil, fmt.Errorf("device %s: %w", d.Name, err)
		}
		facts.OS = version
	}
	if engine, _, named := strings.Cut(facts.OS, " "); !named || engine != part.Engine {
		facts.OS = part.Engine + " " + facts.OS
	}
	c := remote.Config{Device: facts, Density: part.Density, Reach: part.Reach, Overlook: part.Overlook, Cutout: m.Cutout}
	if part.Engine == fleet.Gecko {
		return remote.NewGecko(c, v.keeper, part.Browser), nil
	}
	return remote.NewWebKit(c, v.keeper, part.Browser), nil
}

// Available tells why there can be no handsets on this machine, nil where there can.
func Available() error {
	_, err := (&Browser{}).find()
	return err
}
