package main

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"yamato/demo"
	"yamato/internal/browser"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/core/states"
	"yamato/internal/host/upstream"
	"yamato/internal/link"
)

const (
	packageEntries = 20_000
	packageSize    = 200 << 20
	manyDevices    = 10_000
	pageDevices    = 2000
	changesASecond = 50
	hugeParts      = 20 // of 105 MB
)

// fleetFigures measures the reading of builds, and large fleets.
func (r *rig) fleetFigures(ctx context.Context, page *strings.Builder) error {
	read, err := r.reading()
	if err != nil {
		return err
	}
	fit, lineup := choosing()
	shown, err := r.fleetPage(ctx)
	if err != nil {
		return err
	}
	fmt.Fprintf(page, `## F: builds and fleet

| | |
|---|---|
| SHA-256 of a package of %d MB with %d entries | %.0f ms |
| hashing and reading it (manifest, resources, signatures) | %.0f ms: **%.2f times** that (aim: at most 1.3) |
| memory of a process that reads it (peak resident, `+"`yamato build inspect`"+`) | **%.0f MB** (aim: under 64) |
| the same of a package of %.1f GB | **%.0f MB** in %.2f s |
| fit of a build against %d devices | median **%.1f ms**, slowest of 50 %.1f (aim: under 20) |
| a lineup over %d devices | median **%.1f ms**, slowest of 50 %.1f (aim: under 20) |
| Fleet page, %d devices, %d changes a second | **%.1f frames a second** over %.0f s (aim: at least 50); longest task %.0f ms |

The page is scrolled to and fro all the while. The changes come from a host's link and go through the service and its database to the
browser, as any host's do.

`, packageSize>>20, packageEntries, read.hash, read.both, read.both/read.hash, read.memory, read.huge,
		read.hugeMemory, read.hugeTook, manyDevices, fit[len(fit)/2], fit[len(fit)-1], manyDevices,
		lineup[len(lineup)/2],
		lineup[len(lineup)-1],
		pageDevices, changesASecond, shown.fps, shown.seconds, shown.longest)
	return nil
}

type reading struct {
	hash, both, memory         float64 // ms, ms, MB
	huge, hugeMemory, hugeTook float64 // GB, MB, s
}

// reading compares hashing a large package with hashing and reading it: the median
// of five, taken in turn.
func (r *rig) reading() (reading, error) {
	var out reading
	path := filepath.Join(r.dir, "large.apk")
	if err := writeLarge(path); err != nil {
		return out, err
	}
	hash := func(f *os.File) error {
		h := sha256.New()
		_, err := io.Copy(h, f)
		return err
	}
	var alone, both []float64
	for range 5 {
		for _, with := range []bool{false, true} {
			f, err := os.Open(path)
			if err != nil {
				return out, err
			}
			began := time.Now()
			err = hash(f)
			if err == nil && with {
				info, _ := f.Stat()
				_, err = appfile.Read(f, info.Size())
			}
			took := time.Since(began).Seconds() * 1000
			_ = f.Close()
			if err != nil {
				return out, err
			}
			if with {
				both = append(both, took)
			} else {
				alone = append(alone, took)
			}
		}
	}
	slices.Sort(alone)
	slices.Sort(both)
	out.hash, out.both = alone[2], both[2]
	var err error
	if out.memory, err = r.peak("build", "inspect", path); err != nil {
		return out, err
	}
	huge := filepath.Join(r.dir, "huge.apk")
	defer func() { _ = os.Remove(huge) }() // it is large, and the folder goes later
	if out.huge, err = writeHuge(huge); err != nil {
		return out, err
	}
	began := time.Now()
	out.hugeMemory, err = r.peak("build", "inspect", huge)
	out.hugeTook = time.Since(began).Seconds()
	return out, err
}

// writeHuge writes a package with more in it than fits in memory, or in the 31 bits
// of an offset, and gives its size in GB.
func writeHuge(path string) (float64, error) {
	small, err := demo.PackAndroid(demo.App{ID: "example.huge", Name: "Huge", Version: demo.Version{Name: "1.0",
		Code: 1}, MinimumAPI: 30, Texts: map[string]map[string]string{"app_name": {"": "Huge"}}})
	if err != nil {
		return 0, err
	}
	from, err := zip.NewReader(bytes.NewReader(small), int64(len(small)))
	if err != nil {
		return 0, err
	}
	f, err := os.Create(path)
	if err != nil {
		return 0, err
	}
	w := zip.NewWriter(f)
	chance, part := rand.NewChaCha8([32]byte{9}), make([]byte, 105<<20)
	for i := 0; i < hugeParts && err == nil; i++ {
		var to io.Writer
		if to, err = w.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("assets/world-%02d.bin", i)}); err == nil {
			_, _ = chance.Read(part)
			_, err = to.Write(part)
		}
	}
	for _, e := range from.File { // the manifest lies behind all that
		if err == nil {
			err = w.Copy(e)
		}
	}
	err = errors.Join(err, w.Close())
	info, statErr := f.Stat()
	if err = errors.Join(err, statErr, f.Close()); err != nil {
		return 0, err
	}
	runtime.GC()
	return float64(info.Size()) / (1 << 30), nil
}

// peak runs the program and gives the most memory that it had, in MB, by what the
// system says of it shortly before its end. (What it says at the end counts the
// memory of whoever started it, too.)
func (r *rig) peak(args ...string) (float64, error) {
	cmd := exec.Command(r.program, args...)
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }() // waited for below
	tick := time.NewTicker(time.Millisecond)
	defer tick.Stop()
	most := 0.0
	for {
		select {
		case err := <-done:
			return most, err
		case <-tick.C:
		}
		exe, _ := os.Readlink(fmt.Sprintf("/proc/%d/exe", cmd.Process.Pid))
		text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
		_, rest, ok := strings.Cut(string(text), "VmHWM:")
		var kb float64
		if _, err := fmt.Sscan(rest, &kb); ok && err == nil && strings.HasSuffix(exe, filepath.Base(r.program)) {
			most = max(most, kb/1024)
		}
	}
}

func writeLarge(path string) error {
	chance := rand.NewChaCha8([32]byte{7})
	extra := map[string][]byte{}
	for i := range packageEntries {
		body := make([]byte, packageSize/packageEntries)
		_, _ = chance.Read(body)
		extra[fmt.Sprintf("assets/part-%05d.bin", i)] = body
	}
	texts := map[string]map[string]string{"app_name": {"": "Large"}}
	for i := range 4000 {
		texts[fmt.Sprintf("text_%04d", i)] = map[string]string{"": fmt.Sprintf(
			"text %d, with as many words as such texts have",
			i), "de-DE": fmt.Sprintf("Text %d, mit so vielen Worten, wie solche Texte haben",
			i), "pt-PT": fmt.Sprintf("texto %d", i)}
	}
	data, err := demo.PackAndroid(demo.App{ID: "example.large", Name: "Large", Version: demo.Version{Name: "1.0",
		Code: 1}, MinimumAPI: 30, Texts: texts, Extra: extra})
	if err != nil {
		return err
	}
	err = os.WriteFile(path, data, 0o600)
	runtime.GC()
	return err
}

// choosing times fit and a lineup over a large fleet, in ms, sorted.
func choosing() (fits, lineups []float64) {
	now := time.Now()
	packages := []appfile.Package{
		{Kind: appfile.Android, ApplicationID: demo.ApplicationID, MinimumOS: "14", ABIs: []string{"arm64-v8a"},
			Needs: []string{"camera"}, Parts: []appfile.Part{{Name: "code"}},
			Signing: &appfile.Signing{Fingerprint: "aa"}},
		{Kind: appfile.IOSDevice, Profile: &appfile.Profile{Name: "ad hoc", Expires: now.AddDate(1, 0, 0),
			Devices: make([]string, 100)}},
	}
	var list []fleet.Standing
	for i := range manyDevices {
		d := fleet.Standing{State: []states.Device{"idle", "leased", "offline", "unready"}[i%4], Used: int64(i % 97),
			Device: fleet.Device{Name: fmt.Sprintf("device-%05d", i), Site: fmt.Sprintf("site-%d", i%20),
				Model: fmt.Sprintf("Model %d", i%200),
				Kind:  []string{fleet.Emulator, fleet.Real}[i%2], Platform: []string{"android", "ios"}[i/2%2],
				OS: fmt.Sprint(12 + i%5), Form: "phone", ABI: []string{"x86_64", "arm64-v8a"}[i%2],
				Traits:   []string{"location"},
				Released: 2020 + i%6, HardwareID: fmt.Sprint(i)}}
		list = append(list, d)
	}
	installed := []fleet.Installed{{ID: demo.ApplicationID, VersionCode: "1", Signer: "bb"}}
	l, err := fleet.ReadLineup("lineup: many\npick:\n  - {platform: android, os: 13..15}\n  - {kind: real, " +
		"platform: ios}\nskip:\n  - site: site-3\ntake: 40\nfirst: [spread, newest_os, least_used]\n")
	if err != nil {
		panic(err) // it is written above
	}
	for range 50 {
		began := time.Now()
		f := fleet.NewFitter(packages, now)
		for i := range list {
			f.Fit(&list[i].Device, installed)
		}
		fits = append(fits, time.Since(began).Seconds()*1000)
		began = time.Now()
		l.Choose(list, "Aya", now)
		lineups = append(lineups, time.Since(began).Seconds()*1000)
	}
	slices.Sort(fits)
	slices.Sort(lineups)
	return fits, lineups
}

// fleetPage measures the Fleet page while devices change.
func (r *rig) fleetPage(ctx context.Context) (frames, error) {
	if err := r.serve(ctx, "fleet"); err != nil {
		return frames{}, err
	}
	token, err := os.ReadFile(filepath.Join(r.dir, "service-fleet", "host-token"))
	if err != nil {
		return frames{}, err
	}
	conn, hangUp, err := upstream.NewServices([]string{r.client.Base()},
		upstream.FixedToken(strings.TrimSpace(string(token)))).Dial(ctx)
	if err != nil {
		return frames{}, err
	}
	defer hangUp()
	var devices []link.Device
	for i := range pageDevices {
		devices = append(devices, link.Device{Device: fleet.Device{Name: fmt.Sprintf("device-%04d", i), Site: "bench",
			Kind: fleet.Emulator, Platform: "android", Model: fmt.Sprintf("Model %d", i%40), OS: "14", Form: "phone",
			Traits: []string{}, Abilities: []string{}}})
	}
	if err := conn.Send(ctx, link.FromHost{Hello: &link.Hello{Version: link.Version, Host: "bench", Site: "bench",
		Devices: devices}}); err != nil {
		return frames{}, err
	}
	var welcome link.ToHost
	if err := conn.Receive(ctx, &welcome); err != nil {
		return frames{}, err
	}
	b, err := browser.Open(ctx)
	if err != nil {
		return frames{}, err
	}
	defer b.Close()
	tab, err := b.Tab()
	if err != nil {
		return frames{}, err
	}
	defer tab.Close()
	tab.Patience(time.Minute)
	if _, err := r.firstLoad(ctx, tab); err != nil {
		return frames{}, err
	}
	if err := tab.Go(r.client.Base() + "/fleet"); err != nil {
		return frames{}, err
	}
	if err := tab.Await(`document.querySelectorAll("[data-device]").length > 8`); err != nil {
		return frames{}, err
	}
	if err := tab.Run(`(() => { const box = document.querySelector("[aria-label=Devices][role=region]"); const on = () => { box.scrollTop = (box.scrollTop + 3) % 400; requestAnimationFrame(on); }; requestAnimationFrame(on); })()`); err != nil {
		return frames{}, err
	}
	changing, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() { done <- change(changing, conn, devices) }() // waited for below
	t, err := trace(ctx, tab, 15*time.Second)
	stop()
	if failed := <-done; err == nil && failed != nil && changing.Err() == nil {
		err = failed
	}
	return t.frames(), err
}

// change tells of so many changes a second, each of another device, those on the
// screen among them.
func change(ctx context.Context, conn link.Conn, devices []link.Device) error {
	tick := time.NewTicker(time.Second / changesASecond)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
		i := n * 7919 % pageDevices
		if n%2 == 0 {
			i = n / 2 % 24
		}
		d := &devices[i]
		if d.Condition.Checks == nil {
			d.Condition = fleet.Condition{Checks: []fleet.Check{{ID: "charge", Why: "its battery is low",
				Remedy: "charge it"}}}
		} else {
			d.Condition = fleet.Condition{}
		}
		if err := conn.Send(ctx, link.FromHost{Fleet: &link.Fleet{Devices: []link.Device{*d}}}); err != nil {
			return err
		}
	}
}
