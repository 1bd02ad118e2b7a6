package android

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/retry"
)

// The OS's own emulators: those that its image tools have made on this machine are virtual devices, which its own command
// boots. One that runs already, started by whomever, is taken over.

const (
	listLimit    = 20 * time.Second
	bootAtLeast  = 4 * time.Minute // that a boot may take, whatever is usual elsewhere: the first one is slow
	haltLimit    = 15 * time.Second
	firstConsole = 5554 // of the ports that the OS gives emulators: the console's are even, the bridge's the next
	lastConsole  = 5682
	maxConfig    = 256 << 10 // bytes
	maxBootLog   = 400       // lines
)

// Emulated is an emulator as the OS's image tools describe it, in the folder that they keep.
type Emulated struct {
	Name string // as the command knows it
	Dir  string
	Keys map[string]string // of its config.ini
}

// releases are the versions of the OS by their numbers for programs.
var releases = map[int]string{26: "8.0", 27: "8.1", 28: "9", 29: "10", 30: "11", 31: "12", 32: "12", 33: "13", 34: "14", 35: "15", 36: "16"}

// toolsHome is where the image tools keep emulators (ANDROID_AVD_HOME and what stands in its place).
func toolsHome() string {
	home, _ := os.UserHomeDir()
	switch {
	case os.Getenv("ANDROID_AVD_HOME") != "":
		return os.Getenv("ANDROID_AVD_HOME")
	case os.Getenv("ANDROID_USER_HOME") != "":
		return filepath.Join(os.Getenv("ANDROID_USER_HOME"), "avd")
	}
	return filepath.Join(home, ".android", "avd")
}

var emulatorName = regexp.MustCompile(`^[A-Za-z0-9._-]{1,100}$`)

// ReadEmulator reads how an emulator was made.
func ReadEmulator(name string) (a Emulated, err error) {
	if !emulatorName.MatchString(name) {
		return a, fmt.Errorf("%q is the name of no emulator", clipped(name, 100))
	}
	a = Emulated{Name: name, Dir: filepath.Join(toolsHome(), name+".avd")}
	if ini, err := keysIn(filepath.Join(toolsHome(), name+".ini")); err == nil && ini["path"] != "" {
		a.Dir = ini["path"]
	}
	a.Keys, err = keysIn(filepath.Join(a.Dir, "config.ini"))
	return a, err
}

// keysIn reads a file of keys and values.
func keysIn(path string) (map[string]string, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	keys := map[string]string{}
	for in := bufio.NewScanner(io.LimitReader(f, maxConfig)); in.Scan(); {
		if key, value, ok := strings.Cut(in.Text(), "="); ok {
			keys[strings.TrimSpace(key)] = plain.Text(strings.TrimSpace(value), 500)
		}
	}
	return keys, nil
}

var apiOf = regexp.MustCompile(`android-(\d{2})`)

// EmulatorNames lists the emulators that the image tools have made.
func EmulatorNames() (names []string, err error) {
	entries, err := os.ReadDir(toolsHome())
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), ".avd"); ok && emulatorName.MatchString(name) {
			names = append(names, name)
		}
	}
	return names, err
}

// Release is the version of the OS of a number for programs, "" where none is known.
func Release(api int) string { return releases[api] }

// API is the OS's number for programs, 0 where the description does not say it.
func (a Emulated) API() int {
	for _, key := range []string{"image.sysdir.1", "target"} {
		if m := apiOf.FindStringSubmatch(a.Keys[key]); m != nil {
			n, _ := strconv.Atoi(m[1])
			return n
		}
	}
	return 0
}

// facts are what is known of it before it has ever been booted.
func (a Emulated) facts(site string) (fleet.Device, error) {
	number := func(key string) int {
		n, _ := strconv.Atoi(strings.TrimRight(a.Keys[key], "MmBb"))
		return n
	}
	width, height, density := number("hw.lcd.width"), number("hw.lcd.height"), number("hw.lcd.density")
	release := releases[a.API()]
	if width < 100 || height < 100 || density < 60 || width > 10_000 || height > 10_000 || density > 2000 || release == "" {
		return fleet.Device{}, fmt.Errorf("the emulator %s does not say its screen and its OS in %s", a.Name, filepath.Join(a.Dir, "config.ini"))
	}
	f := fleet.Device{Site: site, Kind: fleet.Emulator, Platform: "android", Form: "phone", OS: release, ABI: clipped(a.Keys["abi.type"], 30),
		Model: clipped(cmp.Or(a.Keys["avd.ini.displayname"], strings.ReplaceAll(a.Name, "_", " ")), 60), Traits: []string{},
		Width: width * 160 / density, Height: height * 160 / density, MemoryMB: number("hw.ramSize"), TakesCPUs: max(1, number("hw.cpu.ncore"))}
	f.TakesMB = f.MemoryMB + 512 // and what the emulator takes itself
	if min(f.Width, f.Height) >= 600 {
		f.Form = "tablet"
	}
	var whole driver.Device = zoned{&Device{}}
	if a.API() >= apiSpeaks {
		whole = speaking{whole}
	}
	if a.API() >= apiPlaces {
		whole = placed{whole}
	}
	f.Abilities = append([]string{"tree", "back"}, device.Names(whole)...)
	slices.Sort(f.Abilities)
	return f, nil
}

// command is what boots emulators: as the site file has it, the OS's own, or none.
func (w wishes) command() []string {
	if len(w.Emulator) > 0 {
		return w.Emulator
	}
	if root := cmp.Or(os.Getenv("ANDROID_HOME"), os.Getenv("ANDROID_SDK_ROOT")); root != "" {
		if path := filepath.Join(root, "emulator", "emulator"); exec.Command(path).Err == nil {
			return []string{path}
		}
	}
	if path, err := exec.LookPath("emulator"); err == nil {
		return []string{path}
	}
	return nil
}

// listed asks the command which emulators there are.
func (f *finder) listed(ctx context.Context) []Emulated {
	command := f.wishes.command()
	if command == nil {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, listLimit)
	defer stop()
	c := exec.CommandContext(ctx, command[0], append(slices.Clone(command[1:]), "-list-avds")...)
	c.WaitDelay = time.Second
	out, err := c.Output()
	if err != nil {
		f.log.Warn("the emulators of this machine cannot be listed", "command", command[0], "error", err)
		return nil
	}
	var list []Emulated
	for line := range strings.Lines(string(out[:min(len(out), maxConfig)])) {
		name := strings.TrimSpace(line)
		if !emulatorName.MatchString(name) {
			continue // what the command says beside
		}
		a, err := ReadEmulator(name)
		if err != nil {
			f.log.Warn("an emulator cannot be read", "name", name, "error", err)
			continue
		}
		list = append(list, a)
	}
	return list
}

// emulators tells of those that the image tools have made.
func (f *finder) emulators(ctx context.Context) {
	for _, a := range f.listed(ctx) {
		facts, err := a.facts(f.site)
		if err != nil {
			f.log.Warn("an emulator is left out", "error", err)
			continue
		}
		e := &emulator{of: a, facts: facts, finder: f, opened: time.Now(), noticed: make(chan struct{}, 1)}
		f.mu.Lock()
		f.made[a.Name] = e
		f.mu.Unlock()
		f.told(driver.Change{ID: emulatorID(a.Name), Like: facts.Model, Open: func(name string) (driver.Device, error) {
			e.facts.Name = name
			return e, nil
		}})
	}
}

// adopt has an emulator that runs be the one that was made under that name, if there is one.
func (f *finder) adopt(serial, name string, whole driver.Device, d *Device) bool {
	e := f.made[name]
	if e == nil {
		return false
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.inner == nil && e.process == nil { // one that is being booted here is opened once it is up
		e.serial, e.inner, e.phone = serial, whole, d
		e.notice()
	}
	return true
}

// lost takes in that the bridge sees an emulator no more that somebody else had started. The caller holds the finder's lock.
func (f *finder) lost(serial string) {
	for _, e := range f.made {
		e.mu.Lock()
		if e.serial == serial && e.process == nil && e.inner != nil {
			e.inner, e.phone = nil, nil
			e.notice()
		}
		e.mu.Unlock()
	}
}

// emulator is one that is booted and halted here.
type emulator struct {
	of      Emulated
	facts   fleet.Device
	finder  *finder
	opened  time.Time
	noticed chan struct{}

	mu      sync.Mutex
	inner   driver.Device // nil while it is off
	phone   *Device
	serial  string
	process *exec.Cmd
	ended   chan struct{}
	wipe    bool
	shaped  bool // its console was told to make its network worse
	log     []device.LogLine
}

var (
	_ driver.Device  = (*emulator)(nil)
	_ device.Virtual = (*emulator)(nil)
)

var errOff = &device.Trouble{Why: "it is switched off", Remedy: "boot it: yamato device boot, or its page in the console"}

func (e *emulator) on() (driver.Device, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.inner == nil {
		return nil, errOff
	}
	return e.inner, nil
}

func (e *emulator) notice() {
	select {
	case e.noticed <- struct{}{}:
	default:
	}
}

// Unwrap gives the phone that it is while it is up.
func (e *emulator) Unwrap() device.Device {
	if d, err := e.on(); err == nil {
		return d
	}
	return nil
}

// Up tells whether it is switched on.
func (e *emulator) Up() bool { _, err := e.on(); return err == nil }

// BootLog is what the command wrote when it was booted last.
func (e *emulator) BootLog() []device.LogLine {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.Clone(e.log)
}

// Noticed tells that it came up or went down.
func (e *emulator) Noticed() <-chan struct{} { return e.noticed }

// Boot has the OS's command boot it, and waits until the OS in it says that it is up.
func (e *emulator) Boot(ctx context.Context, limit time.Duration, _ bool) error {
	if e.Up() {
		return nil
	}
	command := e.finder.wishes.command()
	if command == nil {
		return &device.Trouble{Why: "this machine has no emulator to boot it with", Remedy: "install the OS's emulator, and set ANDROID_HOME"}
	}
	port, err := freeConsole()
	if err != nil {
		return err
	}
	ctx, stop := context.WithTimeout(ctx, max(limit, bootAtLeast))
	defer stop()
	args := append(slices.Clone(command[1:]), "-avd", e.of.Name, "-port", strconv.Itoa(port), "-no-window", "-no-audio", "-no-boot-anim",
		"-no-snapshot-save")
	e.mu.Lock()
	if e.wipe {
		args = append(args, "-wipe-data")
	}
	e.serial, e.log, e.ended = fmt.Sprintf("emulator-%d", port), nil, make(chan struct{})
	process, serial, ended := exec.Command(command[0], args...), e.serial, e.ended
	out, feed := io.Pipe()
	process.Stdout, process.Stderr = feed, feed
	err = process.Start()
	if err == nil {
		e.process = process
	}
	e.mu.Unlock()
	if err != nil {
		return &device.Trouble{Why: "the emulator cannot be started: " + err.Error(), Remedy: "see that it is installed, and may be run"}
	}
	began := time.Now()
	go e.listen(out, began)
	go func() { // the process is waited for by whoever started it, for as long as it runs
		_ = process.Wait()
		_ = feed.Close()
		close(ended)
		e.gone(process)
	}()
	if err := e.awaitBoot(ctx, serial, ended); err != nil {
		_ = e.Halt(context.WithoutCancel(ctx))
		return err
	}
	return nil
}

// listen keeps what the command says.
func (e *emulator) listen(out io.Reader, began time.Time) {
	in := bufio.NewScanner(out)
	in.Buffer(nil, maxLogLine)
	for in.Scan() {
		level, text := "info", in.Text()
		if before, after, ok := strings.Cut(text, "|"); ok {
			switch strings.TrimSpace(before) {
			case "ERROR", "FATAL", "PANIC":
				level, text = "error", after
			case "WARNING":
				level, text = "warn", after
			case "INFO", "DEBUG", "USER_INFO":
				text = after
			}
		}
		e.mu.Lock()
		if len(e.log) < maxBootLog {
			e.log = append(e.log, device.LogLine{AtMS: time.Since(began).Milliseconds(), Level: level, Tag: "emulator",
				Text: plain.Text(strings.TrimSpace(text), maxLogLine)})
		}
		e.mu.Unlock()
	}
	_, _ = io.Copy(io.Discard, out) // a line that is too long; the command is not to wait for it
}

// gone takes in that the process has ended.
func (e *emulator) gone(of *exec.Cmd) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.process == of {
		e.inner, e.phone, e.process = nil, nil, nil
		e.notice()
	}
}

// awaitBoot waits until the system in it is up, and opens it.
func (e *emulator) awaitBoot(ctx context.Context, serial string, ended <-chan struct{}) error {
	server := e.finder.server
	pause := retry.From(100*time.Millisecond, 2*time.Second)
	for {
		if out, err := server.Run(ctx, serial, "getprop sys.boot_completed", nil, maxOutput); err == nil && bytes.HasPrefix(out.Out, []byte("1")) {
			break
		}
		select {
		case <-ended:
			return &device.Trouble{Why: "the emulator ended before it was up: " + e.lastWords(), Remedy: "read its boot log: yamato device show NAME --boot-log"}
		default:
		}
		if retry.For(ctx, pause.Next()) != nil {
			return fmt.Errorf("it was not up in time: %w", context.Cause(ctx))
		}
	}
	whole, d, err := open(ctx, server, e.facts.Site, e.facts.Name, func() (string, bool) { return serial, e.Up() || ctx.Err() == nil })
	if err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.inner, e.phone, e.wipe = whole, d, false
	return nil
}

// lastWords are what the command said of why it ended.
func (e *emulator) lastWords() string {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, l := range slices.Backward(e.log) {
		if l.Level == "error" {
			return clipped(l.Text, 300)
		}
	}
	if len(e.log) > 0 {
		return clipped(e.log[len(e.log)-1].Text, 300)
	}
	return "it said nothing"
}

// freeConsole gives a port for an emulator's console, of which the next is free as well.
func freeConsole() (int, error) {
	for port := firstConsole; port <= lastConsole; port += 2 {
		free := true
		for _, p := range []int{port, port + 1} {
			l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(p)))
			if free = free && err == nil; err == nil {
				_ = l.Close()
			}
		}
		if free {
			return port, nil
		}
	}
	return 0, &device.Trouble{Why: "all ports for emulators are taken on this machine", Remedy: "halt some"}
}

// Halt switches it off: by its console, and where that does not help by ending its process.
func (e *emulator) Halt(ctx context.Context) error {
	e.mu.Lock()
	process, serial, ended := e.process, e.serial, e.ended
	up := e.inner != nil || process != nil
	e.inner, e.phone = nil, nil
	e.mu.Unlock()
	if !up {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, haltLimit)
	defer stop()
	port, _ := strconv.Atoi(strings.TrimPrefix(serial, "emulator-"))
	_, err := console(ctx, port, "kill")
	if process == nil {
		return err // somebody else's: it was asked, and that is all that can be done
	}
	select {
	case <-ended:
		return nil
	case <-ctx.Done():
	}
	_ = process.Process.Kill()
	<-ended
	return nil
}

// Empty has it begin as it was made at its next boot.
func (e *emulator) Empty(ctx context.Context) error {
	err := error(nil)
	if e.Up() {
		err = e.Halt(ctx)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.wipe = true
	return err
}

// Describe tells what it is.
func (e *emulator) Describe() fleet.Device { return e.facts }

// Abilities are what it can do while it is up.
func (e *emulator) Abilities() []string { return e.facts.Abilities }

// Now is the time since it was found.
func (e *emulator) Now() time.Duration {
	if d, err := e.on(); err == nil {
		return d.Now()
	}
	return time.Since(e.opened)
}

// Ready boots it where it is off.
func (e *emulator) Ready(ctx context.Context, s driver.Terms) error {
	if err := e.Boot(ctx, bootAtLeast, s.RealTime); err != nil {
		return err
	}
	return e.with(func(d driver.Device) error { return d.Ready(ctx, s) })
}

func (e *emulator) with(do func(d driver.Device) error) error {
	d, err := e.on()
	if err != nil {
		return err
	}
	return do(d)
}

// Install puts an app on it.
func (e *emulator) Install(ctx context.Context, app driver.App) error {
	return e.with(func(d driver.Device) error { return d.Install(ctx, app) })
}

// Tree is what is on its screen.
func (e *emulator) Tree(ctx context.Context) (tree *screen.Tree, err error) {
	err = e.with(func(d driver.Device) error { tree, err = d.Tree(ctx); return err })
	return tree, err
}

// AwaitChange waits for a change of its screen.
func (e *emulator) AwaitChange(ctx context.Context, revision uint64, until time.Duration) error {
	return e.with(func(d driver.Device) error { return d.AwaitChange(ctx, revision, until) })
}

// Picture is its screen.
func (e *emulator) Picture(ctx context.Context) (p device.Picture, err error) {
	err = e.with(func(d driver.Device) error { p, err = d.Picture(ctx); return err })
	return p, err
}

// Tap touches a place.
func (e *emulator) Tap(ctx context.Context, at screen.Point) error {
	return e.with(func(d driver.Device) error { return d.Tap(ctx, at) })
}

// Keys presses keys.
func (e *emulator) Keys(ctx context.Context, keys string) error {
	return e.with(func(d driver.Device) error { return d.Keys(ctx, keys) })
}

// Start starts an app.
func (e *emulator) Start(ctx context.Context, app string, how device.Start) error {
	return e.with(func(d driver.Device) error { return d.Start(ctx, app, how) })
}

// Stop ends one.
func (e *emulator) Stop(ctx context.Context, app string) error {
	return e.with(func(d driver.Device) error { return d.Stop(ctx, app) })
}

// Clean undoes what a lease did. One that is off has nothing of it on its screen, and its apps go when it is emptied.
func (e *emulator) Clean(ctx context.Context, level driver.Cleaning, apps ...string) error {
	if level == driver.CleanDevice {
		return e.Empty(ctx)
	}
	if !e.Up() {
		if err := e.Boot(ctx, bootAtLeast, true); err != nil {
			return err
		}
	}
	if err := e.shape(ctx, device.Network{}); err != nil {
		return err
	}
	return e.with(func(d driver.Device) error { return d.Clean(ctx, level, apps...) })
}

// Close switches off what was booted here.
func (e *emulator) Close() error {
	e.mu.Lock()
	mine := e.process != nil
	e.mu.Unlock()
	if mine {
		return e.Halt(context.Background())
	}
	return nil
}
