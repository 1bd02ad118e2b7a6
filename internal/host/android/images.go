package android

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
)

// Emulators are made as the OS's image tools make them: a folder with a description that names an image of the OS which
// those tools have installed below ANDROID_HOME. What is made here says so in its description, and is removed here alone.

const (
	madeKey     = "yamato.made"
	makeDensity = 320 // dots an inch of the screens of what is made: two pixels a dp
)

// installedImage is an OS image as the image tools have installed it.
type installedImage struct {
	api      int
	tag, abi string
	below    string // the folder of it, below the tools' own
}

// toolsRoot is where the image tools have installed what they have, "" where nobody says.
func toolsRoot() string { return cmp.Or(os.Getenv("ANDROID_HOME"), os.Getenv("ANDROID_SDK_ROOT")) }

// abiHere are the instruction sets that an emulator runs at a bearable pace on this machine.
var abiHere = map[string]string{"amd64": "x86_64", "arm64": "arm64-v8a"}[runtime.GOARCH]

// imagesHere lists the images for this machine, the newest of the OS first, and of one version the one with most in it.
func imagesHere() (out []installedImage) {
	root := toolsRoot()
	if root == "" {
		return nil
	}
	found, _ := filepath.Glob(filepath.Join(root, "system-images", "android-*", "*", "*"))
	for _, dir := range found[:min(len(found), 1000)] {
		below, err := filepath.Rel(root, dir)
		parts := strings.Split(filepath.ToSlash(below), "/")
		info, wrong := os.Stat(dir)
		if err != nil || wrong != nil || !info.IsDir() || len(parts) != 4 || parts[3] != abiHere || !emulatorName.MatchString(parts[2]) {
			continue
		}
		api, err := strconv.Atoi(strings.TrimPrefix(parts[1], "android-"))
		if err != nil || releases[api] == "" {
			continue
		}
		out = append(out, installedImage{api, parts[2], parts[3], filepath.ToSlash(below) + "/"})
	}
	rank := func(i installedImage) int { return slices.Index([]string{"default", "google_apis"}, i.tag) }
	slices.SortStableFunc(out, func(a, b installedImage) int { return cmp.Or(b.api-a.api, rank(b)-rank(a)) })
	return out
}

var _ driver.Making = (*Driver)(nil)

// Images are the OS images that are installed on this machine.
func (v *Driver) Images(*driver.Site) (out []fleet.Image) {
	for _, i := range imagesHere() {
		of := fleet.Image{Platform: "android", OS: releases[i.api], ABI: i.abi, State: fleet.ImagePresent}
		if !slices.ContainsFunc(out, func(had fleet.Image) bool { return had.Name() == of.Name() }) {
			out = append(out, of)
		}
	}
	return out
}

// Make makes an emulator of a model, which boots from an image, and gives what it is found by from then on.
func (v *Driver) Make(s *driver.Site, name string, m fleet.Model, image fleet.Image) (id string, d driver.Device, err error) {
	f := v.finding.Load()
	if f == nil || f.wishes.command() == nil {
		return "", nil, errors.New("this machine has no emulator to boot it with; install the OS's, and set ANDROID_HOME")
	}
	if m.Width <= 0 || m.Height <= 0 || m.MemoryMB <= 0 {
		return "", nil, fmt.Errorf("the model %s has no width, height and memory_mb in the site file, which an emulator is made by", m.Model)
	}
	list := imagesHere()
	at := slices.IndexFunc(list, func(i installedImage) bool { return releases[i.api] == image.OS })
	if at < 0 {
		return "", nil, fmt.Errorf("%s is not installed here any more", image.Name())
	}
	dir, ini := filepath.Join(toolsHome(), name+".avd"), filepath.Join(toolsHome(), name+".ini")
	if !emulatorName.MatchString(name) || strings.ContainsAny(m.Model, "\n\r=") {
		return "", nil, fmt.Errorf("%q and %q cannot be the names of an emulator and its model", name, m.Model)
	}
	if err := os.MkdirAll(toolsHome(), 0o755); err != nil {
		return "", nil, err
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return "", nil, fmt.Errorf("the image tools have an emulator named %s already: %w", name, err)
	}
	keys := [][2]string{{"AvdId", name}, {"avd.ini.displayname", m.Model}, {"avd.ini.encoding", "UTF-8"}, {"abi.type", list[at].abi},
		{"tag.id", list[at].tag}, {"image.sysdir.1", list[at].below}, {"hw.lcd.width", strconv.Itoa(m.Width * makeDensity / 160)},
		{"hw.lcd.height", strconv.Itoa(m.Height * makeDensity / 160)}, {"hw.lcd.density", strconv.Itoa(makeDensity)},
		{"hw.ramSize", strconv.Itoa(m.MemoryMB)}, {"hw.cpu.ncore", strconv.Itoa(max(1, m.TakesCPUs))}, {"hw.keyboard", "yes"},
		{"hw.gpu.enabled", "yes"}, {"disk.dataPartition.size", "6G"}, {madeKey, "yes"}}
	text := ""
	for _, k := range keys {
		text += k[0] + "=" + k[1] + "\n"
	}
	err = errors.Join(os.WriteFile(filepath.Join(dir, "config.ini"), []byte(text), 0o644),
		os.WriteFile(ini, fmt.Appendf(nil, "avd.ini.encoding=UTF-8\npath=%s\ntarget=android-%d\n", dir, list[at].api), 0o644))
	var of Emulated
	var facts fleet.Device
	if err == nil {
		of, err = ReadEmulator(name)
	}
	if err == nil {
		facts, err = of.facts(s.Name)
	}
	if err != nil {
		return "", nil, errors.Join(err, os.RemoveAll(dir), os.Remove(ini))
	}
	facts.Name = name
	e := &emulator{of: of, facts: facts, finder: f, opened: time.Now(), noticed: make(chan struct{}, 1)}
	f.mu.Lock()
	f.made[name] = e
	f.mu.Unlock()
	return emulatorID(name), e, nil
}

// Unmake halts an emulator that was made here, and removes what lies on the machine of it.
func (v *Driver) Unmake(d driver.Device) error {
	e, ok := device.As[*emulator](d)
	if !ok {
		return errors.New("it is no emulator of this machine's")
	}
	if e.of.Keys[madeKey] == "" {
		return &device.Trouble{Why: "it was made by the OS's image tools", Remedy: "remove it with them"}
	}
	if err := e.Close(); err != nil {
		return err
	}
	e.finder.mu.Lock()
	delete(e.finder.made, e.of.Name)
	e.finder.mu.Unlock()
	return errors.Join(os.RemoveAll(e.of.Dir), os.Remove(filepath.Join(toolsHome(), e.of.Name+".ini")))
}

func emulatorID(name string) string { return "emulator " + name }
