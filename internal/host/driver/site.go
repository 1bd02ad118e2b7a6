package driver

import (
	"fmt"
	"maps"
	"slices"

	"github.com/goccy/go-yaml/ast"

	"yamato/internal/core/document"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
)

// Site is the description of a place that supplies devices: which driver drives
// them, the models and OS images there are, and the devices.
type Site struct {
	Name     string          `yaml:"site"`
	Driver   string          `yaml:"driver"`
	Clock    string          `yaml:"clock"` // wall: what people have done takes its time on the wall
	Capacity fleet.Capacity  `yaml:"capacity"`
	Licences []fleet.Licence `yaml:"licences"`
	Images   []fleet.Image   `yaml:"images"`
	Models   []fleet.Model   `yaml:"models"`
	Devices  []SiteDevice    `yaml:"devices"`
	// Own is what the driver reads for itself: what stands under its name.
	Own map[string]document.Part `yaml:"-"`
}

// UnmarshalYAML leaves what only the driver can read to it.
func (s *Site) UnmarshalYAML(node ast.Node) (err error) {
	type common Site
	s.Own, err = document.Split(node, (*common)(s))
	return err
}

// SiteDevice is one device of a site.
type SiteDevice struct {
	Name       string   `yaml:"name" json:"name"`
	Model      string   `yaml:"model" json:"model"`
	Kind       string   `yaml:"kind" json:"kind"`
	OS         string   `yaml:"os" json:"os"`
	Halted     bool     `yaml:"halted" json:"halted,omitempty"` // it is not booted when the host starts
	HardwareID string   `yaml:"hardware_id" json:"hardware_id,omitempty"`
	Labels     []string `yaml:"labels" json:"labels,omitempty"`
	Owner      string   `yaml:"owner" json:"owner,omitempty"`
	Use        struct {
		People []string `yaml:"people" json:"people,omitempty"`
		Hours  string   `yaml:"hours" json:"hours,omitempty"`
		Zone   string   `yaml:"zone" json:"zone,omitempty"`
	} `yaml:"use" json:"use,omitzero"`
	// Own is what the device's driver reads for itself: what stands under the driver's name.
	Own map[string]document.Part `yaml:"-" json:"-"`
}

// UnmarshalYAML leaves what only a driver can read to it.
func (d *SiteDevice) UnmarshalYAML(node ast.Node) (err error) {
	type common SiteDevice
	d.Own, err = document.Split(node, (*common)(d))
	return err
}

// ReadSite reads a site file and checks it. Its errors name what is wrong and
// where.
func ReadSite(data []byte) (*Site, error) {
	var s Site
	if err := document.Read(data, &s); err != nil {
		return nil, fmt.Errorf("the site file cannot be read: %w", err)
	}
	if err := document.Only(s.Own, s, s.Driver); err != nil {
		return nil, fmt.Errorf("the site file cannot be read: %w", err)
	}
	if !fleet.IsName(s.Name) {
		return nil, fmt.Errorf("the site file gives the site the name %q; names are small letters, digits and hyphens",
			s.Name)
	}
	if !slices.Contains([]string{"", "wall", "device"}, s.Clock) {
		return nil, fmt.Errorf("the site's clock is wall or device, not %q", s.Clock)
	}
	if err := s.checkOffer(); err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, d := range s.Devices {
		if !fleet.IsName(d.Name) {
			return nil, fmt.Errorf("device %q: names are small letters, digits and hyphens", d.Name)
		}
		if seen[d.Name] {
			return nil, fmt.Errorf("device %s stands twice in the site file", d.Name)
		}
		seen[d.Name] = true
		if err := document.Only(d.Own, d, s.Driver); err != nil {
			return nil, fmt.Errorf("the site file cannot be read: %w", err)
		}
		if _, err := s.Find(d); err != nil {
			return nil, err
		}
		if err := (fleet.Use{Hours: d.Use.Hours, Zone: d.Use.Zone}).Check(); err != nil {
			return nil, fmt.Errorf("device %s: %w", d.Name, err)
		}
	}
	return &s, nil
}

// checkOffer checks what the site has beside its devices.
func (s *Site) checkOffer() error {
	if s.Capacity.MemoryMB < 0 || s.Capacity.CPUs < 0 || s.Capacity.Devices < 0 {
		return fmt.Errorf("the site's capacity is a number of megabytes, of processors and of devices, nothing for what has " +
			"no bound")
	}
	models := map[string]bool{}
	for _, m := range s.Models {
		switch {
		case m.Model == "" || models[m.Model]:
			return fmt.Errorf("the model %q has no name, or stands twice in the site file", m.Model)
		case !slices.Contains([]string{"", "phone", "tablet"}, m.Form):
			return fmt.Errorf("model %s: its form is phone or tablet, not %q", m.Model, m.Form)
		case !slices.Contains([]string{"", "none", "hole", "bar"}, m.Cutout):
			return fmt.Errorf("model %s: its cutout is none, hole or bar, not %q", m.Model, m.Cutout)
		case m.MemoryMB < 0 || m.TakesMB < 0 || m.TakesCPUs < 0 || m.BootMS < 0:
			return fmt.Errorf("model %s: what it has and takes is no less than nothing", m.Model)
		}
		models[m.Model] = true
	}
	for _, i := range s.Images {
		switch {
		case i.Platform == "" || i.OS == "":
			return fmt.Errorf("an OS image states its platform and its os; this one states %q and %q", i.Platform, i.OS)
		case !slices.Contains([]string{"", fleet.ImageAbsent, fleet.ImagePresent}, i.State):
			return fmt.Errorf("the image %s: its state is absent or present, not %q", i.Name(), i.State)
		case i.Licence != "" && !slices.ContainsFunc(s.Licences, func(l fleet.Licence) bool {
			return l.Name == i.Licence
		}):
			return fmt.Errorf("the image %s comes under the licence %q, which the site file does not hold", i.Name(),
				i.Licence)
		}
	}
	return nil
}

// Find gives the model of one of the site's devices.
func (s *Site) Find(d SiteDevice) (fleet.Model, error) {
	for _, m := range s.Models {
		if m.Model != d.Model {
			continue
		}
		if m.Width < 100 || m.Height < 100 || m.Width > 4000 || m.Height > 4000 {
			return m, fmt.Errorf("model %s: a screen is 100 to 4000 dp wide and high", m.Model)
		}
		return m, nil
	}
	return fleet.Model{}, fmt.Errorf("device %s is of the model %q, which the site file does not describe", d.Name,
		d.Model)
}

// Supplies are the kinds of devices that a driver has, by platform.
type Supplies map[string][]string

// Check refuses models, images and devices that are none of these.
func (v Supplies) Check(s *Site) error {
	platforms := slices.Sorted(maps.Keys(v))
	for _, m := range s.Models {
		if v[m.Platform] == nil {
			return fmt.Errorf("model %s: with this driver its platform is %s, not %q", m.Model, plain.Either(platforms),
				m.Platform)
		}
	}
	for _, i := range s.Images {
		if v[i.Platform] == nil {
			return fmt.Errorf("the image %s: with this driver its platform is %s, not %q", i.Name(), plain.Either(platforms),
				i.Platform)
		}
	}
	for _, d := range s.Devices {
		m, err := s.Find(d)
		if err != nil {
			return err
		}
		if kinds := v[m.Platform]; !slices.Contains(kinds, d.Kind) {
			return fmt.Errorf("device %s: a device of %s is %s with this driver, not %q", d.Name,
				fleet.PlatformName(m.Platform), plain.Either(kinds), d.Kind)
		}
	}
	return nil
}

// Describe gives what the service is told of one of the site's devices; the
// driver adds its abilities.
func (s *Site) Describe(d SiteDevice, m fleet.Model) fleet.Device {
	traits := m.Traits
	if traits == nil {
		traits = []string{}
	}
	out := fleet.Device{Name: d.Name, Site: s.Name, Kind: d.Kind, Platform: m.Platform, Model: m.Model, Form: m.Form,
		OS:    d.OS,
		Width: m.Width, Height: m.Height, MemoryMB: m.MemoryMB, Traits: traits, Abilities: []string{},
		ABI: m.ABI, HardwareID: d.HardwareID, Released: m.Released, Labels: d.Labels, Owner: d.Owner,
		Use: fleet.Use{People: d.Use.People, Hours: d.Use.Hours, Zone: d.Use.Zone}}
	if out.Virtual() {
		out.Traits = slices.DeleteFunc(slices.Clone(traits), func(t string) bool {
			return slices.Contains(notVirtual, t)
		})
		out.TakesMB, out.TakesCPUs = m.TakesMB, m.TakesCPUs
		if out.ABI != "" {
			out.ABI = virtualABI
		}
	}
	return out
}

// notVirtual are the traits that no emulator and no simulator has, whatever its
// model has: some can imitate them, which is an ability.
var notVirtual = []string{"camera", "motion", "telephony", "nfc", "push"}

// virtualABI is the instruction set of the machines that run virtual devices here.
const virtualABI = "x86_64"
