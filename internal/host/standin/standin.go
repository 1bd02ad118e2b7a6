package standin

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/host"
)

// Driver drives the stand-ins of a site.
type Driver struct {
	command []string
}

// NewDriver gives the driver. command starts the child for apps; nil means this very
// program.
func NewDriver(command []string) (*Driver, error) {
	if command == nil {
		self, err := os.Executable()
		if err != nil {
			return nil, fmt.Errorf("this program cannot find its own file: %w", err)
		}
		command = []string{self, SandboxArgument}
	}
	return &Driver{command}, nil
}

// Open gives one stand-in; a virtual one is switched off.
func (v *Driver) Open(s *host.Site, d host.SiteDevice, m fleet.Model) (host.Device, error) {
	for _, t := range d.Standin.Troubles {
		if !slices.Contains(Troubles, t.Name) {
			return nil, fmt.Errorf("device %s: stand-ins know no trouble %q; there are %s", d.Name, t.Name, strings.Join(Troubles, ", "))
		}
	}
	return New(Config{Device: s.Describe(d, m), Cutout: m.Cutout, Sandbox: v.command, State: d.Standin}), nil
}

// fetchRate is how many megabytes of an OS image a stand-in's site fetches a second.
const fetchRate = 400

// Fetch brings an OS image, as fast as a good line would.
func (v *Driver) Fetch(ctx context.Context, image fleet.Image, told func(mb int)) error {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for mb := 0; mb < image.SizeMB; mb += fetchRate / 10 {
		told(mb)
		select {
		case <-tick.C:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	return nil
}

// Open gives all stand-ins of a site.
func Open(s *host.Site, command []string) ([]host.Device, error) {
	v, err := NewDriver(command)
	if err != nil {
		return nil, err
	}
	var out []host.Device
	for _, d := range s.Devices {
		m, err := s.Find(d)
		if err != nil {
			return nil, err
		}
		one, err := v.Open(s, d, m)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}
