// Package yard keeps a site as its host has it: what the site file lists, what was made and removed since, which OS images
// are there. It outlives the host.
package yard

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/google/renameio/v2"

	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
	"yamato/internal/host/driver"
	"yamato/internal/link"
)

// Yard is a site as this host keeps it: what the site file lists, what was made and
// removed since, and which OS images have been fetched. It outlives the host.
type Yard struct {
	site   *driver.Site
	driver driver.Driver
	path   string

	mu      sync.Mutex
	kept    keptSite
	working map[string]int // images that are being fetched: megabytes so far
}

// keptSite is what a yard keeps on disk.
type keptSite struct {
	Made    []driver.SiteDevice `json:"made"`
	Removed []string            `json:"removed"`
	Fetched []string            `json:"fetched"`         // names of images
	Found   map[string]string   `json:"found,omitempty"` // the names of devices that were found, by their own numbers
}

// Open opens the yard of a site in a host's folder.
func Open(dir string, s *driver.Site, d driver.Driver) (*Yard, error) {
	y := &Yard{site: s, driver: d, path: filepath.Join(dir, "site.json"), working: map[string]int{}}
	body, err := os.ReadFile(y.path)
	if errors.Is(err, os.ErrNotExist) {
		return y, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading what was made at the site: %w", err)
	}
	if err := json.Unmarshal(body, &y.kept); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", y.path, err)
	}
	return y, nil
}

// OnWall tells whether what people have done at the site takes its time on the wall.
func (y *Yard) OnWall() bool { return y.site.Clock == "wall" }

// Capacity is what the site's devices may take together.
func (y *Yard) Capacity() fleet.Capacity { return y.site.Capacity }

// Devices opens the devices that there are.
func (y *Yard) Devices() ([]driver.Device, error) {
	var out []driver.Device
	for _, d := range y.list() {
		m, err := y.site.Find(d)
		if err != nil {
			return nil, err
		}
		device, err := y.driver.Open(y.site, d, m)
		if err != nil {
			return nil, err
		}
		out = append(out, device)
	}
	return out, nil
}

func (y *Yard) list() []driver.SiteDevice {
	y.mu.Lock()
	defer y.mu.Unlock()
	out := slices.DeleteFunc(slices.Clone(y.site.Devices), func(d driver.SiteDevice) bool {
		return slices.Contains(y.kept.Removed, d.Name)
	})
	return append(out, y.kept.Made...)
}

func (y *Yard) StartsHalted(name string) bool {
	for _, d := range y.list() {
		if d.Name == name {
			return d.Halted
		}
	}
	return y.MayCome(name) // what was found, and can be booted, is booted when it is wanted
}

func (y *Yard) Model(name string) (fleet.Model, bool) {
	i := slices.IndexFunc(y.site.Models, func(m fleet.Model) bool { return m.Model == name })
	if i < 0 {
		return fleet.Model{}, false
	}
	return y.site.Models[i], true
}

// keep writes what is kept. The caller holds the lock.
func (y *Yard) keep() error {
	body, err := json.MarshalIndent(y.kept, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(y.path), 0o700); err != nil {
		return err
	}
	return renameio.WriteFile(y.path, body, 0o600)
}

// images gives the OS images with their states. The caller holds the lock.
func (y *Yard) images() []fleet.Image {
	out := slices.Clone(y.site.Images)
	if making, ok := y.driver.(driver.Making); ok {
		out = append(out, making.Images(y.site)...)
	}
	for i := range out {
		at := &out[i]
		if at.State == "" {
			at.State = fleet.ImagePresent
		}
		if slices.Contains(y.kept.Fetched, at.Name()) {
			at.State = fleet.ImagePresent
		}
		if mb, ok := y.working[at.Name()]; ok {
			at.State, at.FetchedMB = fleet.ImageFetching, mb
		}
	}
	return out
}

func (y *Yard) Offer() link.Offer {
	y.mu.Lock()
	defer y.mu.Unlock()
	return link.Offer{Models: y.site.Models, Images: y.images(), Licences: y.site.Licences, Capacity: y.site.Capacity}
}

// Make makes a virtual device of a model and an image that is there.
func (y *Yard) Make(name, model, image string) (driver.Device, error) {
	m, ok := y.Model(model)
	if !ok {
		return nil, fmt.Errorf("this site has no model %q", model)
	}
	y.mu.Lock()
	defer y.mu.Unlock()
	at := slices.IndexFunc(y.images(), func(i fleet.Image) bool { return i.Names(image) && i.Platform == m.Platform })
	if at < 0 || y.images()[at].State != fleet.ImagePresent {
		return nil, fmt.Errorf("%s is not here", image)
	}
	kind := fleet.Emulator
	if m.Platform == "ios" {
		kind = fleet.Simulator
	}
	d := driver.SiteDevice{Name: name, Model: model, Kind: kind, OS: y.images()[at].OS, Halted: true}
	if slices.ContainsFunc(append(slices.Clone(y.site.Devices), y.kept.Made...), func(o driver.SiteDevice) bool {
		return o.Name == name
	}) {
		return nil, fmt.Errorf("there is a device named %s already", name)
	}
	if !fleet.IsName(name) {
		return nil, fmt.Errorf("%q cannot be the name of a device", name)
	}
	if making, ok := y.driver.(driver.Making); ok {
		if slices.Contains(slices.Collect(maps.Values(y.kept.Found)), name) {
			return nil, fmt.Errorf("there is a device named %s already", name)
		}
		id, device, err := making.Make(y.site, name, m, y.images()[at])
		if err != nil {
			return nil, err
		}
		if y.kept.Found == nil {
			y.kept.Found = map[string]string{}
		}
		y.kept.Found[id] = name
		return device, y.keep()
	}
	device, err := y.driver.Open(y.site, d, m)
	if err != nil {
		return nil, err
	}
	y.kept.Made = append(y.kept.Made, d)
	return device, y.keep()
}

// Remove forgets a device that was made here, or leaves one of the site file out. One that lies on the machine goes there too.
func (y *Yard) Remove(name string, d driver.Device) error {
	y.mu.Lock()
	defer y.mu.Unlock()
	if making, ok := y.driver.(driver.Making); ok {
		if err := making.Unmake(d); err != nil {
			return err
		}
		maps.DeleteFunc(y.kept.Found, func(_, n string) bool { return n == name })
		return y.keep()
	}
	made := len(y.kept.Made)
	y.kept.Made = slices.DeleteFunc(y.kept.Made, func(d driver.SiteDevice) bool { return d.Name == name })
	if len(y.kept.Made) == made {
		y.kept.Removed = append(y.kept.Removed, name)
	}
	return y.keep()
}

// Fetch brings an OS image, and calls told as it comes.
func (y *Yard) Fetch(ctx context.Context, name string, told func()) error {
	fetching, ok := y.driver.(driver.Fetching)
	if !ok {
		return fmt.Errorf("the devices of this site boot from no OS images")
	}
	y.mu.Lock()
	at := slices.IndexFunc(y.images(), func(i fleet.Image) bool { return i.Names(name) })
	if at < 0 {
		y.mu.Unlock()
		return fmt.Errorf("this site has no image %q", name)
	}
	image := y.images()[at]
	if image.State != fleet.ImageAbsent {
		y.mu.Unlock()
		return fmt.Errorf("%s is %s already", name, image.State)
	}
	y.working[image.Name()] = 0
	y.mu.Unlock()
	told()
	err := fetching.Fetch(ctx, image, func(mb int) {
		y.mu.Lock()
		y.working[image.Name()] = mb
		y.mu.Unlock()
		told()
	})
	y.mu.Lock()
	defer y.mu.Unlock()
	delete(y.working, image.Name())
	if err != nil {
		return fmt.Errorf("%s could not be fetched: %w", name, err)
	}
	y.kept.Fetched = append(y.kept.Fetched, image.Name())
	return y.keep()
}

// Finds tells whether devices of the site come and go by themselves.
func (y *Yard) Finds() bool {
	_, ok := y.driver.(driver.Finding)
	return ok
}

// MayCome tells whether a device of that name was found here before, and so may come again.
func (y *Yard) MayCome(name string) bool {
	y.mu.Lock()
	defer y.mu.Unlock()
	return y.Finds() && slices.Contains(slices.Collect(maps.Values(y.kept.Found)), name)
}

// Found is a device that came, or one that is gone for good.
type Found struct {
	Name string
	Came driver.Device // nil where it is gone
}

// Find tells of devices that come and go by themselves, until ctx ends. A device has the name that it had before,
// however it comes back; one that is new has one of its model.
func (y *Yard) Find(ctx context.Context, told func(Found) error) error {
	finding, ok := y.driver.(driver.Finding)
	if !ok {
		return nil
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	err := finding.Find(ctx, y.site, func(c driver.Change) {
		name, err := y.nameOf(c)
		if err != nil {
			stop(err)
			return
		}
		found := Found{Name: name}
		if c.Open != nil {
			if found.Came, err = c.Open(name); err != nil {
				stop(err)
				return
			}
		}
		if err := told(found); err != nil {
			stop(err)
		}
	})
	if cause := context.Cause(ctx); cause != nil && ctx.Err() != nil {
		return cause
	}
	return err
}

// nameOf gives the name of a device that was found. It is kept before anybody hears it.
func (y *Yard) nameOf(c driver.Change) (string, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	if name := y.kept.Found[c.ID]; name != "" {
		return name, nil
	}
	taken := slices.Collect(maps.Values(y.kept.Found))
	for _, d := range append(slices.Clone(y.site.Devices), y.kept.Made...) {
		if d.HardwareID == c.ID && c.ID != "" {
			return d.Name, nil // the site file gives it its name
		}
		taken = append(taken, d.Name)
	}
	name := fleet.ProposeName(plain.Clip(c.Like, 24)+" "+y.site.Name, taken) // devices of other hosts, of which nobody here knows, may be of the same model
	if y.kept.Found == nil {
		y.kept.Found = map[string]string{}
	}
	y.kept.Found[c.ID] = name
	return name, y.keep()
}
