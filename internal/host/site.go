package host

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"

	"yamato/internal/core/fleet"
)

// Site is the description of a place that supplies devices: which driver drives
// them, the models there are, and the devices.
type Site struct {
	Name    string       `yaml:"site"`
	Driver  string       `yaml:"driver"`
	Models  []Model      `yaml:"models"`
	Devices []SiteDevice `yaml:"devices"`
}

// Model is a kind of handset or tablet, as a site file describes it.
type Model struct {
	Model    string   `yaml:"model"`
	Platform string   `yaml:"platform"`
	Form     string   `yaml:"form"`
	Width    int      `yaml:"width"`
	Height   int      `yaml:"height"`
	Cutout   string   `yaml:"cutout"`
	MemoryMB int      `yaml:"memory_mb"`
	Traits   []string `yaml:"traits"`
}

// SiteDevice is one device of a site.
type SiteDevice struct {
	Name  string `yaml:"name"`
	Model string `yaml:"model"`
	Kind  string `yaml:"kind"`
	OS    string `yaml:"os"`
}

var deviceName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// ReadSite reads a site file and checks it. Its errors name what is wrong and
// where.
func ReadSite(data []byte) (*Site, error) {
	var s Site
	if err := yaml.UnmarshalWithOptions(data, &s, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("the site file cannot be read: %w", err)
	}
	if !deviceName.MatchString(s.Name) {
		return nil, fmt.Errorf("the site file gives the site the name %q; names are small letters, digits and hyphens", s.Name)
	}
	seen := map[string]bool{}
	for _, d := range s.Devices {
		if !deviceName.MatchString(d.Name) {
			return nil, fmt.Errorf("device %q: names are small letters, digits and hyphens", d.Name)
		}
		if seen[d.Name] {
			return nil, fmt.Errorf("device %s stands twice in the site file", d.Name)
		}
		seen[d.Name] = true
		if _, err := s.Find(d); err != nil {
			return nil, err
		}
	}
	return &s, nil
}

// Find gives the model of one of the site's devices.
func (s *Site) Find(d SiteDevice) (Model, error) {
	for _, m := range s.Models {
		if m.Model != d.Model {
			continue
		}
		if m.Width < 100 || m.Height < 100 || m.Width > 4000 || m.Height > 4000 {
			return m, fmt.Errorf("model %s: a screen is 100 to 4000 dp wide and high", m.Model)
		}
		if !strings.Contains(" emulator simulator real ", " "+d.Kind+" ") {
			return m, fmt.Errorf("device %s: its kind is emulator, simulator or real, not %q", d.Name, d.Kind)
		}
		return m, nil
	}
	return Model{}, fmt.Errorf("device %s is of the model %q, which the site file does not describe", d.Name, d.Model)
}

// Describe gives what the service is told of one of the site's devices; the
// driver adds its abilities.
func (s *Site) Describe(d SiteDevice, m Model) fleet.Device {
	traits := m.Traits
	if traits == nil {
		traits = []string{}
	}
	return fleet.Device{Name: d.Name, Site: s.Name, Kind: d.Kind, Platform: m.Platform, Model: m.Model, Form: m.Form, OS: d.OS,
		Width: m.Width, Height: m.Height, MemoryMB: m.MemoryMB, Traits: traits, Abilities: []string{}}
}
