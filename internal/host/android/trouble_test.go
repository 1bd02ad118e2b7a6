package android

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os/exec"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/phone"
)

// hour is one of a run as it touches a phone: each gives what the phone, or the way to it, is in trouble with.
func hour(d driver.Device, app driver.App) error {
	ctx, id := context.Background(), app.Package.ApplicationID
	phone := inside(d)
	for _, do := range []func() error{
		func() error { return d.Ready(ctx, driver.Terms{}) }, func() error { return d.Install(ctx, app) },
		func() error { return phone.SetAppearance(ctx, true) }, func() error { return d.Start(ctx, id, device.Fresh) },
		func() error {
			tree, err := d.Tree(ctx)
			if err != nil {
				return err
			}
			more := screen.Locator{ID: "more"}.Find(tree)
			if tree.App != id || len(more) != 1 {
				return errRestarted // what is judged of an app is judged while it is in front
			}
			return d.Tap(ctx, more[0].Visible.Centre())
		},
		func() error { tree, err := d.Tree(ctx); _ = tree; return err },
		func() error { _, err := phone.Log(ctx); return err }, func() error { _, err := phone.Readings(ctx); return err },
		func() error { _, err := d.Picture(ctx); return err }, func() error { return d.Clean(ctx, driver.CleanApp, id) },
	} {
		if err := do(); err != nil {
			return err
		}
	}
	return nil
}

// Whatever befalls a phone, and the way to it, at whatever moment: no app is blamed, and the phone is as it was once it can be.
func TestWhatBefallsAPhoneBlamesNoApp(t *testing.T) {
	s := debianServer(t)
	app := probeApp(t)
	var whole atomic.Int64
	t.Run("seeds", func(t *testing.T) {
		for seed := range 20 {
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				befallen(t, s, app, uint64(seed), &whole)
			})
		}
	})
	require.Greater(t, whole.Load(), int64(5), "and much goes well between")
	require.Less(t, whole.Load(), int64(78))
}

// again has the bridge connect to a phone once more. Its server does not survive all that befalls phones (Debian's 29.0.6 ends
// itself now and then where many come and go): it is started anew, as the driver's search does.
func again(s *Server, at string) {
	_ = s.Start(context.Background())
	_ = s.Connect(context.Background(), at)
}

func befallen(t *testing.T, s *Server, app driver.App, seed uint64, whole *atomic.Int64) {
	_, at := plugInLike(t, generation{"15", 35}, phone.Config{Serial: fmt.Sprintf("KAEDET%02d", seed), Troubles: phone.Troubles{
		Seed: seed, Cable: .008, Cut: .006, Restart: .004, Dump: .03, Refuse: .1, Room: .1, Flood: 5}})
	var d driver.Device
	require.Eventually(t, func() bool {
		again(s, at)
		var err error
		d, _, err = open(context.Background(), s, "cable", "kaede-7-1", func() (string, bool) { return at, true })
		return err == nil
	}, 60*time.Second, 10*time.Millisecond)
	for range 4 {
		err := hour(d, app)
		var own *device.Trouble
		if err == nil {
			whole.Add(1)
			continue
		}
		require.True(t, errors.As(err, &own), "%v", err)
		require.NotEmpty(t, own.Remedy)
		again(s, at)
	}
	require.Eventually(t, func() bool { // and cleaning succeeds in the end
		again(s, at)
		return d.Clean(context.Background(), driver.CleanApp, app.Package.ApplicationID) == nil
	}, 60*time.Second, 10*time.Millisecond)
	require.Eventually(t, func() bool {
		again(s, at)
		out, err := s.Run(context.Background(), at, "cmd uimode night; pm list packages -3", nil, maxOutput)
		return err == nil && strings.TrimSpace(string(out.Out)) == "Night mode: no"
	}, 60*time.Second, 10*time.Millisecond, "it is as it was")
}

// endless writes for as long as anybody reads.
func endless(out io.Writer) int {
	line := []byte(strings.Repeat("all work and no play ", 1000) + "\n")
	for {
		if _, err := out.Write(line); err != nil {
			return 1
		}
	}
}

func TestAHostilePhoneIsBoundedAndTheOthersGoOn(t *testing.T) {
	s := debianServer(t)
	says := func(text string) func(io.Writer) int {
		return func(out io.Writer) int { _, _ = io.WriteString(out, text); return 0 }
	}
	_, good := plugIn(t, generation{"15", 35}, "KAEDEGOOD")
	connected(t, s, good)
	app := probeApp(t)
	for name, extra := range map[string]map[string]func(io.Writer) int{
		"a screen without end":     {"uiautomator": endless},
		"a picture without end":    {"screencap": endless},
		"a log without end":        {"logcat": endless},
		"broken XML":               {"uiautomator": says("<?xml version='1.0'?><hierarchy><node bounds=\"[0,0][1,1]\"></hierarchy>")},
		"a deep tree":              {"uiautomator": says("<?xml version='1.0'?><hierarchy>" + strings.Repeat("<node>", 5000) + strings.Repeat("</node>", 5000) + "</hierarchy>")},
		"a picture that is none":   {"screencap": says("\x89PNG\r\n\x1a\n" + strings.Repeat("\xff", 100))},
		"a huge picture":           {"screencap": says("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x7f\xff\xff\xff\x7f\xff\xff\xff\x08\x06\x00\x00\x00" + strings.Repeat("\x00", 50))},
		"it writes what it likes":  {"cat": says("night yes; reboot\nheld ../../x\n\x00\xff\n"), "settings": says("$(reboot)\n")},
		"nothing of what is asked": {"pm": says("../../etc\nline\n"), "cmd": says(strings.Repeat("x", 100_000))},
	} {
		t.Run(name, func(t *testing.T) {
			_, at := plugInLike(t, generation{"15", 35}, phone.Config{Serial: "KAEDEBAD", Extra: extra})
			connected(t, s, at)
			d, _, err := open(context.Background(), s, "cable", "kaede-7-1", func() (string, bool) { return at, true })
			if err == nil {
				err = hour(d, app)
			}
			if err == nil {
				p, wrong := d.Picture(context.Background())
				if wrong == nil {
					_, wrong = p.Image()
				}
				err = wrong
			}
			var crash *device.Crash
			require.False(t, errors.As(err, &crash), "%v", err)
			require.LessOrEqual(t, len(fmt.Sprint(err)), 2000)
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			require.Less(t, m.HeapInuse, uint64(600<<20))
			require.NoError(t, hour(opened(t, s, good), app), "the others go on")
		})
	}
}

// A phone whose recorder says why it records nothing is shown by stills, and is not asked again and again.
func TestAPhoneThatRecordsNothingIsShownByStills(t *testing.T) {
	s := debianServer(t)
	var asked atomic.Int64
	_, at := plugInLike(t, generation{"15", 35}, phone.Config{Serial: "KAEDESTILL", Extra: map[string]func(io.Writer) int{
		"screenrecord": func(out io.Writer) int {
			asked.Add(1)
			_, _ = io.WriteString(out, "ERROR: unable to create video/avc codec instance\n")
			return 1
		}}})
	connected(t, s, at)
	d := opened(t, s, at)
	app := probeApp(t)
	ctx, stop := context.WithTimeout(context.Background(), 60*time.Second)
	defer stop()
	require.NoError(t, errors.Join(d.Ready(ctx, driver.Terms{}), d.Install(ctx, app), d.Start(ctx, app.Package.ApplicationID, device.Fresh)))
	enough, frames := errors.New("enough"), 0
	require.ErrorIs(t, inside(d).Frames(ctx, 200, 400, func(device.Frame) error {
		if frames++; frames == 3 {
			return enough
		}
		tree, err := d.Tree(ctx) // something changes, so that there is a next one
		if err != nil {
			return err
		}
		return d.Tap(ctx, screen.Locator{ID: "more"}.Find(tree)[0].Visible.Centre())
	}), enough)
	require.Equal(t, int64(1), asked.Load())
}

// A server of the bridge that is none, or another's, is the host's trouble, and told.
func TestWhatIsNoBridgeIsSaid(t *testing.T) {
	for name, answer := range map[string]string{"another version's": "OKAYzzzz", "a web server's": "HTTP/1.1 400 Bad Request\r\n\r\n",
		"silent": "", "too long": "OKAYffff", "a refusal that does not end": "FAIL00ff", "nonsense": strings.Repeat("\x00", 64)} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			t.Cleanup(func() { _ = l.Close() })
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					_, _ = io.WriteString(c, answer)
					_ = c.Close()
				}
			}()
			s := &Server{Address: l.Addr().String(), Command: "false"}
			require.ErrorIs(t, s.Start(context.Background()), errServer)
			_, err = s.Run(context.Background(), "x", "true", nil, maxOutput)
			require.Error(t, err)
			require.Error(t, s.Track(context.Background(), func([]Seen) {}))
		})
	}
	missing := &Server{Address: "127.0.0.1:1", Command: "no-such-program-of-a-bridge"}
	require.ErrorContains(t, missing.Start(context.Background()), "is not installed here")
	_, err := exec.LookPath(missing.Command)
	require.Error(t, err)
}
