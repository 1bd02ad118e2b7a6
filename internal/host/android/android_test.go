package android

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
	"yamato/internal/phone"
	"yamato/internal/testbin"
)

// TestMain ends the server that the tests share.
func TestMain(m *testing.M) {
	code := m.Run()
	if shared.Address != "" {
		_, port, _ := net.SplitHostPort(shared.Address)
		_ = exec.Command("adb", "-P", port, "kill-server").Run()
		_ = os.RemoveAll(home)
	}
	os.Exit(code)
}

var (
	shared Server
	home   string // for its key
	once   sync.Once
)

// debianServer gives Debian's own server of the bridge, started by the driver.
func debianServer(t *testing.T) *Server {
	t.Helper()
	if _, err := exec.LookPath("adb"); err != nil {
		t.Skip("adb is not here: make test installs it")
	}
	once.Do(func() {
		var err error
		home, err = os.MkdirTemp("", "yamato-bridge-")
		require.NoError(t, err)
		require.NoError(t, os.Setenv("HOME", home)) // its key is its own
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		shared.Address = l.Addr().String()
		require.NoError(t, l.Close())
	})
	require.NoError(t, shared.Start(context.Background()))
	return &shared
}

// generation is one of the OS, as the phone that ships has it.
type generation struct {
	release string
	api     int
}

// serve has a phone listen, until the test ends.
func serve(t *testing.T, p *phone.Phone) (at string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- p.Serve(ctx, l) }()
	t.Cleanup(func() { stop(); require.NoError(t, <-done) })
	return l.Addr().String()
}

// plugIn has a phone with a stand-in behind it, which the bridge sees over the network.
func plugIn(t *testing.T, of generation, serial string) (*phone.Phone, string) {
	t.Helper()
	return plugInAsking(t, of, serial, nil)
}

// plugInAsking has one that asks whether a computer may debug it.
func plugInAsking(t *testing.T, of generation, serial string, allow func(context.Context, string) (bool, bool)) (*phone.Phone, string) {
	t.Helper()
	return plugInLike(t, of, phone.Config{Serial: serial, Allow: allow})
}

func plugInLike(t *testing.T, of generation, c phone.Config) (*phone.Phone, string) {
	t.Helper()
	body := standin.New(standin.Config{Device: fleet.Device{Name: "kaede-7-r1", Kind: fleet.Real, Platform: "android", Model: "Kaede 7",
		OS: of.release, Form: "phone", Width: 408, Height: 896, MemoryMB: 8192}, Cutout: "none", Scale: 2,
		Sandbox: []string{testbin.Program(t), sandbox.Argument}})
	t.Cleanup(func() { require.NoError(t, body.Close()) })
	c.Model, c.Maker, c.Release, c.API, c.ABI, c.Width, c.Height, c.Density = "Kaede 7", "Kaede", of.release, of.api, "x86_64", 816, 1792, 320
	c.Dir, c.Device = t.TempDir(), body.Whole()
	p, err := phone.New(c)
	require.NoError(t, err)
	return p, serve(t, p)
}

func connected(t *testing.T, s *Server, at string) {
	t.Helper()
	require.Eventually(t, func() bool {
		again(s, at)
		out, err := s.Run(context.Background(), at, "echo here", nil, maxOutput)
		return err == nil && string(out.Out) == "here\n"
	}, 60*time.Second, 20*time.Millisecond)
}

// probeApp is the probe of the contract as stand-ins run it: behind the phone is one.
func probeApp(t *testing.T) driver.App {
	t.Helper()
	program, err := os.ReadFile("../standin/testdata/probe.js")
	require.NoError(t, err)
	return packed(t, string(program))
}

// packed makes an Android package of a program.
func packed(t *testing.T, program string) driver.App {
	t.Helper()
	data, err := demo.PackAndroid(demo.App{ID: "example.probe", Name: "Probe", Version: demo.Version{Name: "1.0", Code: 1}, MinimumAPI: 29,
		MinimumIOS: "16.0", Program: []byte(program), Permissions: []string{"android.permission.INTERNET",
			"android.permission.ACCESS_FINE_LOCATION", "android.permission.POST_NOTIFICATIONS"}})
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "probe.apk")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	p, err := appfile.Read(f, int64(len(data)))
	require.NoError(t, err)
	return driver.App{Package: *p, Path: path}
}

// Phones keep the contract behind Debian's own server of the bridge, under two generations of the OS.
func TestPhonesKeepTheContractOfDevices(t *testing.T) {
	for i, of := range []generation{{"10", 29}, {"15", 35}} {
		t.Run("OS "+of.release, func(t *testing.T) {
			t.Parallel()
			devicetest.Run(t, func(t *testing.T) devicetest.Subject {
				s := debianServer(t)
				_, at := plugIn(t, of, fmt.Sprintf("KAEDE7R%d", i))
				connected(t, s, at)
				d, _, err := open(context.Background(), s, "cable", "kaede-7-1", func() (string, bool) { return at, true })
				require.NoError(t, err)
				return devicetest.Subject{Device: d, App: probeApp(t), Typed: true}
			})
		})
	}
}

// found runs the driver's search, and gives what it tells of.
func found(t *testing.T, s *Server) <-chan driver.Change {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	told := make(chan driver.Change, 8)
	done := make(chan error, 1)
	go func() {
		v := &Driver{Server: *s}
		done <- v.Find(ctx, &driver.Site{Name: "cable"}, func(c driver.Change) { told <- c })
	}()
	t.Cleanup(func() { stop(); require.ErrorIs(t, <-done, context.Canceled) })
	return told
}

func come(t *testing.T, told <-chan driver.Change, id string) driver.Device {
	t.Helper()
	for {
		select {
		case c := <-told:
			if c.ID != id {
				continue // another test's phone
			}
			require.Equal(t, "Kaede 7", c.Like)
			d, err := c.Open("kaede-7-1")
			require.NoError(t, err)
			return d
		case <-time.After(30 * time.Second):
			require.FailNow(t, "the phone is not found")
		}
	}
}

func health(t *testing.T, d driver.Device) bool {
	t.Helper()
	h, ok := device.As[device.Healthy](d)
	require.True(t, ok)
	got, err := h.Health(context.Background())
	require.NoError(t, err)
	return *got.Connected
}

func TestAPhoneThatComesBackElsewhereIsTheSame(t *testing.T) {
	s := debianServer(t)
	told := found(t, s)
	p, at := plugIn(t, generation{"15", 35}, "KAEDECABLE")
	connected(t, s, at)
	d := come(t, told, "KAEDECABLE")
	require.Equal(t, "KAEDECABLE", d.Describe().HardwareID)
	require.True(t, health(t, d))
	pull := func(at string) {
		t.Helper()
		_, err := s.ask(context.Background(), "host:disconnect:"+at)
		require.NoError(t, err)
	}
	pull(at)
	require.Eventually(t, func() bool { return !health(t, d) }, 10*time.Second, 10*time.Millisecond, "its cable was pulled")
	require.ErrorIs(t, d.Ready(context.Background(), driver.Terms{}), errAway, "which is its own trouble, and no app's")

	elsewhere := serve(t, p) // another port of the same phone
	connected(t, s, elsewhere)
	require.Eventually(t, func() bool { return health(t, d) }, 10*time.Second, 10*time.Millisecond, "it is the same, and is back")
	require.NoError(t, d.Ready(context.Background(), driver.Terms{}))

	connected(t, s, at) // by both ways at once, and then by the other alone
	pull(elsewhere)
	require.Eventually(t, func() bool { return health(t, d) && d.Ready(context.Background(), driver.Terms{}) == nil }, 10*time.Second,
		10*time.Millisecond)
}

func TestAServerThatDiesCostsSecondsAndBlamesNoApp(t *testing.T) {
	s := debianServer(t)
	told := found(t, s)
	_, at := plugIn(t, generation{"10", 29}, "KAEDEKILL")
	connected(t, s, at)
	d := come(t, told, "KAEDEKILL")
	_, port, _ := net.SplitHostPort(s.Address)
	require.NoError(t, exec.Command("adb", "-P", port, "kill-server").Run())
	require.Eventually(t, func() bool {
		_, err := d.Tree(context.Background())
		var own *device.Trouble
		require.True(t, err == nil || errors.As(err, &own), "%v", err)
		return err != nil
	}, 10*time.Second, 5*time.Millisecond)
	connected(t, s, at) // the driver has started it anew by itself; over the network a phone is connected by whoever wants it
	require.Eventually(t, func() bool { _, err := d.Tree(context.Background()); return err == nil }, 20*time.Second, 20*time.Millisecond)
}

func TestAnAppThatDiesIsACrashWithItsReport(t *testing.T) {
	s := debianServer(t)
	_, at := plugIn(t, generation{"15", 35}, "KAEDECRASH")
	connected(t, s, at)
	d, _, err := open(context.Background(), s, "cable", "kaede-7-1", func() (string, bool) { return at, true })
	require.NoError(t, err)
	ctx := context.Background()
	require.NoError(t, d.Ready(ctx, driver.Terms{}))
	app := packed(t, `os.show(() => ui.column({pad: 30}, ui.button({id: 'go', text: 'Go', onTap: () => { throw new Error('no fare for three'); }})));`)
	require.NoError(t, d.Install(ctx, app))
	require.NoError(t, d.Start(ctx, "example.probe", device.Fresh))
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	go_ := screen.Locator{ID: "go"}.Find(tree)
	require.Len(t, go_, 1)
	require.NoError(t, d.Tap(ctx, go_[0].Visible.Centre()))
	_, err = d.Tree(ctx)
	var crash *device.Crash
	require.ErrorAs(t, err, &crash)
	require.Contains(t, crash.Report, "no fare for three")
	require.NoError(t, d.Start(ctx, "example.probe", device.Fresh), "the next case begins anew")
	_, err = d.Tree(ctx)
	require.NoError(t, err)
	require.NoError(t, inside(d).Press(ctx, "home"))
	_, err = d.Tree(ctx)
	require.NoError(t, err, "what was left has not died")
}

func opened(t *testing.T, s *Server, at string) driver.Device {
	t.Helper()
	d, _, err := open(context.Background(), s, "cable", "kaede-7-1", func() (string, bool) { return at, true })
	require.NoError(t, err)
	return d
}

func shell(t *testing.T, s *Server, at, line string) string {
	t.Helper()
	out, err := s.Run(context.Background(), at, line, nil, maxOutput)
	require.NoError(t, err)
	require.Zero(t, out.Code, "%s: %s", line, out.Err)
	return string(out.Out)
}

// A phone is put back as its person had it, by a host that comes after one that was killed too.
func TestAPhoneIsPutBackAsItsPersonHadIt(t *testing.T) {
	s := debianServer(t)
	_, at := plugIn(t, generation{"15", 35}, "KAEDEWAS")
	connected(t, s, at)
	ctx := context.Background()
	before := shell(t, s, at, "dumpsys battery")
	mine := "cmd uimode night yes; settings put system font_scale 1.3; cmd alarm set-timezone Asia/Tokyo"
	shell(t, s, at, mine)
	killed := opened(t, s, at)
	require.NoError(t, killed.Ready(ctx, driver.Terms{}))
	require.NoError(t, inside(killed).SetAppearance(ctx, false))
	require.NoError(t, inside(killed).SetTextSize(ctx, 200))
	require.NoError(t, inside(killed).SetTextSize(ctx, 85))
	require.NoError(t, inside(killed).Rotate(ctx, device.Landscape))
	zone, ok := device.As[device.Zoned](killed)
	require.True(t, ok)
	require.NoError(t, zone.SetTimeZone(ctx, "Europe/Berlin"))
	require.NoError(t, inside(killed).SetBattery(ctx, 15, false))
	f, err := inside(killed).Feels(ctx, "")
	require.NoError(t, err)
	require.Equal(t, []any{"landscape", "light", 85, "Europe/Berlin"}, []any{f.Rotation, f.Appearance, f.TextSize, f.Zone})
	shell(t, s, at, `echo 'night yes; touch /sdcard/x' >> `+wasFile+`; echo 'unheard of' >> `+wasFile)

	next := opened(t, s, at)
	require.NoError(t, next.Clean(ctx, driver.CleanApp))
	f, err = inside(next).Feels(ctx, "")
	require.NoError(t, err)
	require.Equal(t, []any{"portrait", "dark", 130, "Asia/Tokyo"}, []any{f.Rotation, f.Appearance, f.TextSize, f.Zone})
	require.Equal(t, "1\n", shell(t, s, at, "settings get system accelerometer_rotation"))
	require.Equal(t, before, shell(t, s, at, "dumpsys battery"))
	require.Empty(t, shell(t, s, at, "cat "+wasFile+" 2>/dev/null; true"), "and nothing is left of it")
}

// A phone that asks is among the devices, and says what it waits for, until it is allowed.
func TestAPhoneThatAsksSaysSoUntilItIsAllowed(t *testing.T) {
	s := debianServer(t)
	told := found(t, s)
	yes := make(chan struct{})
	_, at := plugInAsking(t, generation{"15", 35}, "KAEDEASKS", func(ctx context.Context, _ string) (bool, bool) {
		select {
		case <-yes:
			return true, true
		case <-ctx.Done():
			return false, false
		}
	})
	go func() { _, _ = s.ask(context.Background(), "host:connect:"+at) }() // it waits for the answer as well
	change := func(id string) driver.Change {
		t.Helper()
		for {
			select {
			case c := <-told:
				if c.ID == id {
					return c
				}
			case <-time.After(30 * time.Second):
				require.FailNow(t, "nothing is told of "+id)
			}
		}
	}
	waits := change(unmetID(at))
	d, err := waits.Open("phone-1")
	require.NoError(t, err)
	h, err := d.(device.Healthy).Health(context.Background())
	require.NoError(t, err)
	why, bad := fleet.Unready(fleet.Readiness(d.Describe(), h))
	require.True(t, bad)
	require.Contains(t, why.Why, "asks whether this computer may debug it")
	require.ErrorIs(t, d.Ready(context.Background(), driver.Terms{}), errUnmet)
	close(yes)
	var seen []string
	for range 2 {
		select {
		case c := <-told:
			seen = append(seen, c.ID)
			require.Equal(t, c.ID == "KAEDEASKS", c.Open != nil)
		case <-time.After(30 * time.Second):
			require.FailNow(t, "it was allowed, and does not come")
		}
	}
	require.ElementsMatch(t, []string{"KAEDEASKS", unmetID(at)}, seen)
}

func TestTwoPhonesOfOneNumberAreTwo(t *testing.T) {
	s := debianServer(t)
	told := found(t, s)
	_, at := plugIn(t, generation{"15", 35}, "0123456789ABCDEF")
	connected(t, s, at)
	one := come(t, told, "0123456789ABCDEF")
	_, other := plugIn(t, generation{"10", 29}, "0123456789ABCDEF")
	connected(t, s, other)
	two := come(t, told, "0123456789ABCDEF at "+other)
	require.Equal(t, []string{"15", "10"}, []string{one.Describe().OS, two.Describe().OS})
	require.NoError(t, one.Ready(context.Background(), driver.Terms{}))
	require.NoError(t, two.Ready(context.Background(), driver.Terms{}))
}
