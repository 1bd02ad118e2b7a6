package fleet

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/plain"
	"yamato/internal/core/remedy"
)

// Model is a kind of handset or tablet that a site offers.
type Model struct {
	Model    string   `json:"model" yaml:"model"`
	Platform string   `json:"platform" yaml:"platform"`
	Form     string   `json:"form" yaml:"form"`
	Width    int      `json:"width" yaml:"width"`
	Height   int      `json:"height" yaml:"height"`
	Cutout   string   `json:"cutout,omitempty" yaml:"cutout"`
	MemoryMB int      `json:"memory_mb" yaml:"memory_mb"`
	Traits   []string `json:"traits" yaml:"traits"`
	Released int      `json:"released,omitempty" yaml:"released"`
	ABI      string   `json:"abi,omitempty" yaml:"abi"`
	// memory of the host while a virtual device of it is up
	TakesMB   int   `json:"takes_mb,omitempty" yaml:"takes_mb"`
	TakesCPUs int   `json:"takes_cpus,omitempty" yaml:"takes_cpus"` // and processors
	BootMS    int64 `json:"boot_ms,omitempty" yaml:"boot_ms"`       // longest that a boot may take; 60000 where 0
}

// The states of an OS image at a site.
const (
	ImageAbsent   = "absent"
	ImageFetching = "fetching"
	ImagePresent  = "present"
)

// Image is an OS image as a site has it.
type Image struct {
	Platform  string `json:"platform" yaml:"platform"`
	OS        string `json:"os" yaml:"os"`
	ABI       string `json:"abi,omitempty" yaml:"abi"`
	SizeMB    int    `json:"size_mb" yaml:"size_mb"`
	Licence   string `json:"licence,omitempty" yaml:"licence"` // name of the text that has to be accepted
	State     string `json:"state" yaml:"state"`
	FetchedMB int    `json:"fetched_mb,omitempty" yaml:"-"`
}

// Name is how people write an image: "Android 15".
func (i Image) Name() string { return PlatformName(i.Platform) + " " + i.OS }

// Names tells whether text means this image: "Android 15", "android 15".
func (i Image) Names(text string) bool {
	return strings.EqualFold(strings.Join(strings.Fields(text), " "), i.Name())
}

// Licence is a text that somebody has to accept before an image is fetched.
type Licence struct {
	Name string `json:"name" yaml:"name"`
	Text string `json:"text" yaml:"text"`
}

// NewestImage gives the newest image that is present for a platform.
func NewestImage(images []Image, platform string) (Image, bool) {
	var best Image
	for _, i := range images {
		if i.Platform == platform && i.State == ImagePresent && (best.OS == "" || compareVersions(i.OS, best.OS) > 0) {
			best = i
		}
	}
	return best, best.OS != ""
}

// ProposeName gives the first free name for another device of a model: kaede-7-3.
func ProposeName(model string, taken []string) string {
	base := strings.Trim(plain.Clip(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		}
		return '-'
	}, strings.ToLower(model)), 40), "-")
	if base == "" {
		base = "device"
	}
	for n := 1; ; n++ {
		if name := base + "-" + strconv.Itoa(n); !slices.Contains(taken, name) {
			return name
		}
	}
}

// Capacity is what a host has for virtual devices; 0 is without bound.
type Capacity struct {
	MemoryMB int `json:"memory_mb" yaml:"memory_mb"`
	CPUs     int `json:"cpus" yaml:"cpus"`
	Devices  int `json:"devices,omitempty" yaml:"devices"` // that are up at once: what a supplier lets one have
}

// Running is a virtual device that is up, and whether it has something to do.
type Running struct {
	Name      string `json:"name"`
	TakesMB   int    `json:"takes_mb"`
	TakesCPUs int    `json:"takes_cpus"`
	Busy      bool   `json:"busy"`
}

// Room tells whether another virtual device fits on a host beside those that
// run, else what takes the room and what could be halted.
func Room(c Capacity, running []Running, wanted Device) (Reason, bool) {
	memory, cpus := 0, 0
	for _, r := range running {
		memory, cpus = memory+r.TakesMB, cpus+r.TakesCPUs
	}
	lackMB, lackCPUs := 0, 0
	if c.MemoryMB > 0 {
		lackMB = max(0, memory+wanted.TakesMB-c.MemoryMB)
	}
	if c.CPUs > 0 {
		lackCPUs = max(0, cpus+wanted.TakesCPUs-c.CPUs)
	}
	if c.Devices > 0 && len(running) >= c.Devices {
		return Reason{fmt.Sprintf("%s waits for one of the %d devices that may be up at once here: %s", wanted.Name, c.Devices,
			listing(running, func(r Running) string { return r.Name })), remedyForRoom(running, lackMB, lackCPUs)}, false
	}
	if lackMB == 0 && lackCPUs == 0 {
		return Reason{}, true
	}
	why := fmt.Sprintf("%s needs %s and %s is free (%s in all)", wanted.Name, gb(wanted.TakesMB), gb(c.MemoryMB-memory),
		gb(c.MemoryMB))
	if lackMB == 0 {
		why = fmt.Sprintf("%s needs %d processors and %d of %d are free", wanted.Name, wanted.TakesCPUs, c.CPUs-cpus,
			c.CPUs)
	}
	if len(running) > 0 {
		why += ": " + listing(running, func(r Running) string { return r.Name + " takes " + gb(r.TakesMB) })
	}
	return Reason{why, remedyForRoom(running, lackMB, lackCPUs)}, false
}

// remedyForRoom proposes the fewest idle devices whose halt makes enough room.
func remedyForRoom(running []Running, lackMB, lackCPUs int) remedy.Remedy {
	idle := slices.DeleteFunc(slices.Clone(running), func(r Running) bool { return r.Busy })
	slices.SortStableFunc(idle, func(a, b Running) int { return cmp.Compare(b.TakesMB, a.TakesMB) })
	if i := slices.IndexFunc(idle, func(r Running) bool {
		return r.TakesMB >= lackMB && r.TakesCPUs >= lackCPUs
	}); i >= 0 {
		for i+1 < len(idle) && idle[i+1].TakesMB >= lackMB && idle[i+1].TakesCPUs >= lackCPUs {
			i++ // the smallest that is enough
		}
		return remedy.Say("halt %s, which has nothing to do: %s", idle[i].Name, remedy.DevicesHalt(idle[i].Name))
	}
	var halt []Running
	for _, r := range idle {
		halt, lackMB, lackCPUs = append(halt, r), lackMB-r.TakesMB, lackCPUs-r.TakesCPUs
		if lackMB <= 0 && lackCPUs <= 0 {
			names := listing(halt, func(r Running) string { return r.Name })
			return remedy.Say("halt %s, which have nothing to do: %s", names,
				remedy.DevicesHalt(strings.ReplaceAll(names, ",", "")))
		}
	}
	return remedy.Plain("wait until something that runs is done, or give the host more memory")
}

func listing(list []Running, of func(Running) string) string {
	words := make([]string, len(list))
	for i, r := range list {
		words[i] = of(r)
	}
	return strings.Join(words, ", ")
}

func gb(mb int) string { return fmt.Sprintf("%.1f GB", float64(mb)/1024) }

// LicenceDigest is of the text of the licence of that name: who accepts one accepts what was
// shown. It is "" where there is none.
func LicenceDigest(list []Licence, name string) string {
	for _, l := range list {
		if l.Name == name {
			sum := sha256.Sum256([]byte(l.Text))
			return hex.EncodeToString(sum[:])
		}
	}
	return ""
}
