package main

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/jpeg"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/android"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
)

const (
	phoneInstallMB = 200
	phoneTries     = 5
	phoneCount     = 10 // at once, for what each takes of its host
)

// phoneFigures measures phones over the debug bridge, beside Debian's own client at the same server.
func (r *rig) phoneFigures(ctx context.Context, page *strings.Builder) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	bench, err := newPhoneBench(ctx, r)
	if err != nil {
		return err
	}
	defer bench.close()
	one, err := bench.plugIn(ctx)
	if err != nil {
		return err
	}
	f := phoneFigures{}
	if err := bench.measure(ctx, one, &f); err != nil {
		return err
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.GC() // what was pooled goes with the second
	runtime.ReadMemStats(&before)
	phones := []driver.Device{}
	for range phoneCount {
		d, err := bench.plugIn(ctx)
		if err != nil {
			return err
		}
		if err := useOnce(ctx, d, bench.moving); err != nil {
			return err
		}
		phones = append(phones, d)
	}
	runtime.GC()
	runtime.GC()
	runtime.ReadMemStats(&after)
	f.memory = max(0, (float64(after.HeapAlloc+after.StackInuse)-float64(before.HeapAlloc+before.StackInuse))/phoneCount/(1<<20))
	runtime.KeepAlive(phones)
	fmt.Fprintf(page, `## A: phones over the debug bridge

The phone that ships, in a process of its own, behind Debian's server of the bridge; medians of %d, beside Debian's client at
the same server in the same run. Nothing of this is a phone that a person holds.

| | here | Debian's client | ratio |
|---|---|---|---|
| a package of %d MB installed, seconds | %.2f | %.2f | **%.2f** (aim: at most 1.15) |
| a line of the shell, there and back, ms | %.1f | %.1f | **%.2f** (aim: at most 1.2, and under 5 ms) |

| | |
|---|---|
| from a tap to the changed tree | **%.0f ms** |
| from a tap to changed pixels in a session's frames | **%.0f ms** |
| frames a second while the screen moves | **%.0f** (aim: 25) |
| ten cases of the sample's suites, to the same on a stand-in in real time | **%.2f** (aim: at most 1.3): %.1f s and %.1f s |
| memory of the host, a phone that has been used, with %d at once | **%.2f MB** (aim: under 15) |

`, phoneTries, phoneInstallMB, f.install[0], f.install[1], f.install[0]/f.install[1], f.line[0], f.line[1], f.line[0]/f.line[1],
		f.tap, f.pixels, f.frames, f.leg[0]/f.leg[1], f.leg[0], f.leg[1], phoneCount, f.memory)
	return nil
}

type phoneFigures struct {
	install, line, leg  [2]float64
	tap, pixels, frames float64
	memory              float64
}

// phoneBench is a server of the bridge, and the driver that finds the phones that it sees.
type phoneBench struct {
	rig    *rig
	server *android.Server
	port   string
	home   string
	site   *driver.Site
	found  chan driver.Change
	ended  chan error
	moving driver.App
	phones []*exec.Cmd
}

func newPhoneBench(ctx context.Context, r *rig) (*phoneBench, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &phoneBench{rig: r, server: &android.Server{Address: l.Addr().String()}, home: filepath.Join(r.dir, "bridge"),
		site: &driver.Site{Name: "cable"}, found: make(chan driver.Change, 32), ended: make(chan error, 1)}
	_, b.port, _ = net.SplitHostPort(l.Addr().String())
	if err := errors.Join(l.Close(), os.MkdirAll(b.home, 0o700), os.Setenv("HOME", b.home)); err != nil {
		return nil, err
	}
	apk, err := demo.PackAndroid(demo.App{ID: "example.moving", Name: "Moving", Version: demo.Version{Name: "1.0", Code: 1}, MinimumAPI: 29,
		Program: []byte(moving), Texts: map[string]map[string]string{"app_name": {"": "Moving"}}})
	if err != nil {
		return nil, err
	}
	if b.moving, err = appOf(r.dir, "moving-phone.apk", apk); err != nil {
		return nil, err
	}
	if err := b.server.Start(ctx); err != nil {
		return nil, err
	}
	v := &android.Driver{Server: *b.server}
	go func() { b.ended <- v.Find(ctx, b.site, func(c driver.Change) { b.found <- c }) }()
	return b, nil
}

func (b *phoneBench) close() {
	_ = exec.Command("adb", "-P", b.port, "kill-server").Run()
	for _, p := range b.phones {
		_ = p.Process.Kill()
		_ = p.Wait()
	}
}

func (b *phoneBench) client(ctx context.Context, args ...string) error {
	c := exec.CommandContext(ctx, "adb", append([]string{"-P", b.port}, args...)...)
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("adb %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

// plugIn starts a phone in a process of its own, and gives the driver's device for it.
func (b *phoneBench) plugIn(ctx context.Context) (driver.Device, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	at := l.Addr().String()
	_ = l.Close()
	n := len(b.phones) + 1
	p := exec.CommandContext(ctx, b.rig.program, "standin", "phone", "--listen", at, "--serial", fmt.Sprintf("KAEDEBENCH%d", n))
	if err := p.Start(); err != nil {
		return nil, err
	}
	b.phones = append(b.phones, p)
	for end := time.Now().Add(20 * time.Second); ; {
		if err := b.server.Connect(ctx, at); err == nil {
			break
		} else if time.Now().After(end) {
			return nil, err
		}
	}
	select {
	case c := <-b.found:
		return c.Open(fmt.Sprintf("kaede-7-%d", n))
	case err := <-b.ended:
		return nil, err
	case <-time.After(30 * time.Second):
		return nil, errors.New("the phone was not found")
	}
}

func useOnce(ctx context.Context, d driver.Device, app driver.App) error {
	if err := errors.Join(d.Ready(ctx, driver.Terms{}), d.Install(ctx, app), d.Start(ctx, app.Package.ApplicationID, device.Fresh)); err != nil {
		return err
	}
	for range 20 {
		if _, err := d.Tree(ctx); err != nil {
			return err
		}
	}
	_, err := d.Picture(ctx)
	return err
}

func (b *phoneBench) measure(ctx context.Context, d driver.Device, f *phoneFigures) error {
	serial := ""
	list, err := b.server.Devices(ctx)
	if err != nil || len(list) == 0 {
		return fmt.Errorf("the bridge sees no phone: %w", err)
	}
	serial = list[0].Serial
	if err := d.Ready(ctx, driver.Terms{}); err != nil {
		return err
	}
	for i, app := range []int{0, 1} { // two packages, so that none is there already
		large, err := largeApp(b.rig.dir, app)
		if err != nil {
			return err
		}
		f.install[i], err = seconds(3, func() error {
			if i == 0 {
				if r, ok := device.As[device.Removing](d); ok {
					if err := r.Remove(ctx, large.Package.ApplicationID); err != nil {
						return err
					}
				}
				return d.Install(ctx, large)
			}
			return b.client(ctx, "-s", serial, "install", "-r", large.Path)
		})
		if err != nil {
			return err
		}
	}
	if f.line[0], err = median(100, func() (time.Duration, error) {
		began := time.Now()
		_, err := b.server.Run(ctx, serial, "true", nil, 1<<10)
		return time.Since(began), err
	}); err != nil {
		return err
	}
	if f.line[1], err = median(100, func() (time.Duration, error) {
		began := time.Now()
		err := b.client(ctx, "-s", serial, "shell", "true")
		return time.Since(began), err
	}); err != nil {
		return err
	}
	if err := b.moves(ctx, d, f); err != nil {
		return err
	}
	return b.leg(ctx, d, f)
}

// seconds gives the median of how long something takes.
func seconds(n int, do func() error) (float64, error) {
	ms, err := median(n, func() (time.Duration, error) {
		began := time.Now()
		err := do()
		return time.Since(began), err
	})
	return ms / 1000, err
}

// largeApp is a package of many bytes that nothing makes smaller.
func largeApp(dir string, n int) (driver.App, error) {
	apk, err := demo.PackAndroid(demo.App{ID: fmt.Sprintf("example.large%d", n), Name: "Large", Version: demo.Version{Name: "1.0", Code: 1},
		MinimumAPI: 29, Program: []byte(moving)})
	if err != nil {
		return driver.App{}, err
	}
	in, err := zip.NewReader(bytes.NewReader(apk), int64(len(apk)))
	if err != nil {
		return driver.App{}, err
	}
	var whole bytes.Buffer
	out := zip.NewWriter(&whole)
	for _, e := range in.File {
		if err := out.Copy(e); err != nil {
			return driver.App{}, err
		}
	}
	w, err := out.CreateHeader(&zip.FileHeader{Name: "assets/sea", Method: zip.Store})
	if err == nil {
		_, err = io.CopyN(w, rand.NewChaCha8([32]byte{byte(n)}), phoneInstallMB<<20)
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return driver.App{}, err
	}
	return appOf(dir, fmt.Sprintf("large%d.apk", n), whole.Bytes())
}

// moves measures what is seen of a tap, and of a screen that moves.
func (b *phoneBench) moves(ctx context.Context, d driver.Device, f *phoneFigures) error {
	if err := useOnce(ctx, d, b.moving); err != nil {
		return err
	}
	tap := func(id string) (revision uint64, err error) {
		tree, err := d.Tree(ctx)
		if err != nil {
			return 0, err
		}
		n := screen.Locator{ID: id}.Find(tree)
		if len(n) != 1 {
			return 0, fmt.Errorf("the screen has %d elements #%s", len(n), id)
		}
		return tree.Revision, d.Tap(ctx, n[0].Visible.Centre())
	}
	var err error
	if f.tap, err = median(phoneTries*4, func() (time.Duration, error) {
		began := time.Now()
		revision, err := tap("go")
		if err == nil {
			err = d.AwaitChange(ctx, revision, d.Now()+10*time.Second)
		}
		return time.Since(began), err
	}); err != nil {
		return err
	}
	live, ok := device.As[device.Live](d)
	if !ok {
		return errors.New("the phone does not show its screen as it moves")
	}
	var frames, blue atomic.Int64
	came := make(chan struct{}, 1)
	filming, end := context.WithCancel(ctx)
	var watching sync.WaitGroup
	watching.Go(func() {
		_ = live.Frames(filming, 408, 896, func(frame device.Frame) error {
			frames.Add(1)
			if img, err := jpeg.Decode(bytes.NewReader(frame.Data)); err == nil { // of the button, in its upper left
				r, _, b, _ := img.At(img.Bounds().Dx()/10, img.Bounds().Dy()/10).RGBA()
				blue.Store(map[bool]int64{true: 1}[b > r])
			}
			select {
			case came <- struct{}{}:
			default:
			}
			return nil
		})
	})
	defer func() { end(); watching.Wait() }()
	quiet := func() {
		for {
			select {
			case <-came:
			case <-time.After(600 * time.Millisecond):
				return
			}
		}
	}
	if f.pixels, err = median(phoneTries*2, func() (time.Duration, error) {
		quiet()
		before, began := blue.Load(), time.Now()
		_, err := tap("go")
		if err != nil {
			return 0, err
		}
		for late := time.After(10 * time.Second); blue.Load() == before; {
			select {
			case <-came:
			case <-late:
				return 0, errors.New("a tap changes nothing in the frames")
			}
		}
		return time.Since(began), nil
	}); err != nil {
		return err
	}
	if _, err := tap("move"); err != nil {
		return err
	}
	const window = 5 * time.Second
	time.Sleep(time.Second) // the first second is the encoder's
	from := frames.Load()
	time.Sleep(window)
	f.frames = float64(frames.Load()-from) / window.Seconds()
	return nil
}

// leg carries ten cases out on the phone, and on a stand-in in real time.
func (b *phoneBench) leg(ctx context.Context, phone driver.Device, f *phoneFigures) error {
	packages, err := demo.Packages(demo.Versions[0], time.Now())
	if err != nil {
		return err
	}
	i := slices.IndexFunc(packages, func(p demo.Package) bool { return strings.HasSuffix(p.File, ".apk") })
	app, err := appOf(b.rig.dir, packages[i].File, packages[i].Data)
	if err != nil {
		return err
	}
	texts, err := appfile.ReadTexts(bytes.NewReader(packages[i].Data), int64(len(packages[i].Data)))
	if err != nil {
		return err
	}
	suites, err := demo.Suites()
	if err != nil {
		return err
	}
	o := script.Options{App: app.Package.ApplicationID, Words: texts.Speaker().Say, Secrets: demo.Secrets,
		Accounts: map[string]map[string]string{demo.Accounts[0].Name: {"user": demo.Accounts[0].User, "password": demo.Accounts[0].Password}}}
	body := standin.New(standin.Config{Device: fleet.Device{Name: "kaede-7-r1", Kind: fleet.Real, Platform: "android", Model: "Kaede 7", OS: "15",
		Form: "phone", Width: 408, Height: 896, MemoryMB: 8192}, Cutout: "none", Scale: 2, Sandbox: []string{b.rig.program, sandbox.Argument}})
	defer body.Close()
	for i, d := range []driver.Device{phone, body.Whole()} {
		if err := errors.Join(d.Ready(ctx, driver.Terms{RealTime: true}), d.Install(ctx, app)); err != nil {
			return err
		}
		began, cases := time.Now(), 0
		for _, name := range []string{"tickets.yamato", "wallet.yamato"} {
			s, _ := script.ReadWith(suites[name], script.FileMap(suites))
			for _, c := range s.Cases {
				if cases++; cases > 10 {
					break
				}
				if r := script.RunCase(ctx, s, c, d, o, nothing{}); r.Verdict != "pass" {
					return fmt.Errorf("%q ended in %s: %+v", c.Name, r.Verdict, r.Failure)
				}
			}
		}
		f.leg[i] = time.Since(began).Seconds()
	}
	return nil
}
