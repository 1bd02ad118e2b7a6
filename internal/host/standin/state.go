package standin

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/fleet"
)

// State is how a stand-in is at first: what stands under `standin` of a device in a site
// file. Other drivers find that out for themselves.
type State struct {
	Unplugged bool   `yaml:"unplugged" json:"unplugged,omitempty"`
	Debugging string `yaml:"debugging" json:"debugging,omitempty"` // never, asked, once or always
	Developer string `yaml:"developer" json:"developer,omitempty"` // off
	Distrusts bool   `yaml:"distrusts" json:"distrusts,omitempty"` // this computer
	// is the developer of what was installed last
	Untrusted bool `yaml:"untrusted" json:"untrusted,omitempty"`
	// is in front, and no driver can send it away
	Dialog      string `yaml:"dialog" json:"dialog,omitempty"`
	Code        bool   `yaml:"code" json:"code,omitempty"` // it is locked with a code
	Charge      int    `yaml:"charge" json:"charge,omitempty"`
	Discharging bool   `yaml:"discharging" json:"discharging,omitempty"`
	// seconds without a touch until the screen goes off; 0 for never
	Timeout   int               `yaml:"timeout" json:"timeout,omitempty"`
	FreeMB    int               `yaml:"free_mb" json:"free_mb,omitempty"`
	ClockOff  int               `yaml:"clock_off" json:"clock_off,omitempty"` // seconds
	OS        string            `yaml:"os" json:"os,omitempty"`               // as it says itself
	Installed []fleet.Installed `yaml:"installed" json:"installed,omitempty"`
	Troubles  []StateTrouble    `yaml:"troubles" json:"troubles,omitempty"`
}

// StateTrouble is a trouble of a stand-in: so many times, or always (-1), or by chance.
type StateTrouble struct {
	Name   string  `yaml:"name" json:"name"`
	Count  int     `yaml:"count" json:"count,omitempty"`
	Chance float64 `yaml:"chance" json:"chance,omitempty"`
}

func (s State) check(d fleet.Device) error {
	switch {
	case !slices.Contains([]string{"", "never", "asked", "once", "always"}, s.Debugging):
		return fmt.Errorf("debugging is never, asked, once or always, not %q", s.Debugging)
	case !slices.Contains([]string{"", "on", "off"}, s.Developer):
		return fmt.Errorf("developer is on or off, in quotes, not %q", s.Developer)
	case s.Charge < 0 || s.Charge > 100 || s.FreeMB < 0 || s.Timeout < 0:
		return fmt.Errorf("charge is 0 to 100, and no less than nothing is free_mb and timeout")
	}
	for _, t := range s.Troubles {
		if why := hasTrouble(d, t.Name); why != "" {
			return fmt.Errorf("%s; it can have %s", why, strings.Join(troublesOf(d), ", "))
		}
		if t.Chance < 0 || t.Chance > 1 || t.Count < -1 {
			return fmt.Errorf("the trouble %s: its chance is 0 to 1, and its count is -1 for always", t.Name)
		}
	}
	return nil
}
