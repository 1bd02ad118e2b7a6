package devicetest

import (
	"bytes"
	"context"
	"errors"
	"image"
	_ "image/jpeg" // frames come so
	_ "image/png"  // or so
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

// parts are what is tried of each ability. All begin with the probe app in front.
var parts = map[string]func(*subject){
	"gestures": (*subject).gestures, "rotation": (*subject).rotates, "appearance": (*subject).dresses,
	"language": (*subject).speaks, "time zone": (*subject).zones, "place": (*subject).stands,
	"motion":  (*subject).tilts,
	"network": (*subject).wires, "permissions": (*subject).permits, "push": (*subject).pushes,
	"links": (*subject).links,
	"files": (*subject).chooses, "away": (*subject).leaves, "log": (*subject).logs, "live": (*subject).films,
	"readings": (*subject).measures, "calls": (*subject).calls, "text size": (*subject).enlarges,
	"home": (*subject).presses, "text": (*subject).composes, "console": (*subject).evaluates,
	"clipboard": (*subject).copies, "battery": (*subject).charges,
}

// ability finds an ability of the device, which the device names, behind what wraps it.
func ability[T any](s *subject) T {
	a, ok := device.As[T](wrapped{s.device})
	require.True(s.t, ok)
	return a
}

// shows waits until an element of the probe shows a text.
func (s *subject) eventually(id, text string) {
	s.t.Helper()
	end := s.device.Now() + 5*time.Second
	for {
		tree := s.tree()
		found := screen.Locator{ID: id}.Find(tree)
		if len(found) == 1 && found[0].Content() == text {
			return
		}
		if s.device.Now() >= end {
			got := "nothing"
			if len(found) == 1 {
				got = found[0].Content()
			}
			require.Equal(s.t, text, got, "#%s", id)
		}
		require.NoError(s.t, s.device.AwaitChange(s.ctx, tree.Revision, end))
	}
}

// afresh cleans the device and has the probe in front again: nothing is left of what was done.
func (s *subject) afresh() {
	s.t.Helper()
	require.NoError(s.t, s.device.Clean(s.ctx, driver.CleanApp, s.id))
	s.running()
}

func (s *subject) pad() screen.Rect { return s.at("pad").Visible }

func (s *subject) gestures() {
	g, pad := ability[device.Gesturing](s), s.pad()
	c := pad.Centre()
	left, right := screen.Point{X: pad.X + 20, Y: c.Y}, screen.Point{X: pad.X + pad.W - 20, Y: c.Y}
	for says, fingers := range map[string][]device.Finger{
		"tap": {device.Tapped(c)}, "hold": {device.Hold(c, 700*time.Millisecond)},
		"right": {device.Drag(left, right, 200*time.Millisecond)},
		"left":  {device.Drag(right, left, 200*time.Millisecond)},
		"pinch": device.Pinch(c, 150, 40, 300*time.Millisecond), "spread": device.Pinch(c,
			40, 150, 300*time.Millisecond),
	} {
		s.gesture(g, says, fingers...)
		require.NoError(s.t, s.device.AwaitChange(s.ctx, s.tree().Revision, s.device.Now()+500*time.Millisecond))
	}
	s.gesture(g, "double", device.DoubleTap(c))
}

// gesture has fingers do what is known by its pace. A machine that has other things to do may not keep it: then they do it
// again, a few times.
func (s *subject) gesture(g device.Gesturing, says string, fingers ...device.Finger) {
	for range 6 {
		require.NoError(s.t, g.Perform(s.ctx, fingers...), says)
		for end := s.device.Now() + 2*time.Second; s.device.Now() < end; {
			tree := s.tree()
			if found := (screen.Locator{ID: "gesture"}).Find(tree); len(found) == 1 && found[0].Content() == says {
				return
			}
			require.NoError(s.t, s.device.AwaitChange(s.ctx, tree.Revision, end))
		}
	}
	s.eventually("gesture", says)
}

func (s *subject) rotates() {
	r := ability[device.Rotating](s)
	s.eventually("held", "portrait")
	before := s.tree()
	require.NoError(s.t, r.Rotate(s.ctx, device.Landscape))
	s.eventually("held", "landscape")
	now := s.tree()
	require.Equal(s.t, []float64{before.Height, before.Width}, []float64{now.Width, now.Height})
	require.Greater(s.t, now.Revision, before.Revision)
	s.shownBlue()
	require.Error(s.t, r.Rotate(s.ctx, "sideways"))
	s.afresh()
	s.eventually("held", "portrait")
}

func (s *subject) dresses() {
	d := ability[device.Dressing](s)
	s.eventually("scheme", "light")
	require.NoError(s.t, d.SetAppearance(s.ctx, true))
	s.eventually("scheme", "dark")
	require.NoError(s.t, s.device.Start(s.ctx, s.id, device.Fresh))
	s.eventually("scheme", "dark")
	s.afresh()
	s.eventually("scheme", "light")
}

func (s *subject) enlarges() {
	e := ability[device.Enlarging](s)
	before := s.at("size").Bounds.H
	require.NoError(s.t, e.SetTextSize(s.ctx, 200))
	require.Eventually(s.t, func() bool { return s.at("size").Bounds.H > 1.5*before }, 30*time.Second,
		20*time.Millisecond)
	require.Error(s.t, e.SetTextSize(s.ctx, 5))
	s.afresh()
	require.InDelta(s.t, before, s.at("size").Bounds.H, 1)
}

func (s *subject) speaks() {
	l := ability[device.Speaking](s)
	s.eventually("language", "en-GB")
	require.NoError(s.t, l.SetLanguage(s.ctx, "de-DE"))
	s.eventually("language", "de-DE")
	require.Equal(s.t, "de-DE", s.tree().Language)
	require.Error(s.t, l.SetLanguage(s.ctx, "no language at all"))
	s.afresh()
	s.eventually("language", "en-GB")
}

func (s *subject) zones() {
	z := ability[device.Zoned](s)
	before := s.at("zone").Content()
	require.NoError(s.t, z.SetTimeZone(s.ctx, "Asia/Tokyo"))
	s.eventually("zone", "Asia/Tokyo")
	require.Error(s.t, z.SetTimeZone(s.ctx, "Sora/Minami"))
	s.afresh()
	s.eventually("zone", before)
}

func (s *subject) stands() {
	p, may := ability[device.Placed](s), ability[device.Permitting](s)
	require.NoError(s.t, may.SetPermission(s.ctx, s.id, "location", device.Allow))
	require.NoError(s.t, p.SetPlace(s.ctx, &device.Place{Latitude: 0, Longitude: -25.5, Accuracy: 10}))
	s.tap("locate")
	s.eventually("place", "0.000 -25.500")
	require.NoError(s.t, p.SetPlace(s.ctx, &device.Place{Latitude: 37.739, Longitude: -25.669}))
	s.tap("locate")
	s.eventually("place", "37.739 -25.669")
	require.NoError(s.t, p.SetPlace(s.ctx, nil))
	s.tap("locate")
	s.eventually("place", "unknown")
	require.Error(s.t, p.SetPlace(s.ctx, &device.Place{Latitude: 91}))
	require.NoError(s.t, p.SetPlace(s.ctx, &device.Place{Latitude: 10, Longitude: 10, Accuracy: 1}))
	s.afresh()
	s.answers("locate", "Allow") // what was answered beforehand is forgotten too
	s.eventually("place", "unknown")
}

func (s *subject) permits() {
	may := ability[device.Permitting](s)
	if err := may.SetPermission(s.ctx, s.id, "location", device.Deny); !errors.Is(err, device.ErrNoAbility) {
		require.NoError(s.t, err)
		s.tap("locate")
		s.eventually("place", "refused")
	}
	if p, ok := device.As[device.Placed](s.device); ok {
		require.NoError(s.t, p.SetPlace(s.ctx, &device.Place{Latitude: 1, Longitude: 2, Accuracy: 5}))
		require.NoError(s.t, may.SetPermission(s.ctx, s.id, "location", device.Ask))
		for answer, place := range map[string]string{"Don’t allow": "refused", "Allow": "1.000 2.000"} {
			require.NoError(s.t, s.device.Start(s.ctx, s.id, device.Fresh))
			s.answers("locate", answer)
			s.eventually("place", place)
			s.tap("locate")
			s.eventually("place", place) // and it is not asked again
		}
		s.afresh()
		s.answers("locate", "Allow")
	}
	require.Error(s.t, may.SetPermission(s.ctx, s.id, "location", "perhaps"))
	require.Error(s.t, may.SetPermission(s.ctx, s.id, "everything", device.Allow))
	require.Error(s.t, may.SetPermission(s.ctx, s.id+".nobody", "location", device.Allow))
}

// answers taps what asks for a permission, and then an answer to the question that comes up,
// which keeps all else from being touched.
func (s *subject) answers(id, answer string) {
	s.t.Helper()
	under := s.at(id).Visible.Centre()
	s.tap(id)
	button := screen.Locator{Role: "button", Called: screen.Match{Text: answer}}
	for end := s.device.Now() + 5*time.Second; ; {
		tree := s.tree()
		if found := button.Find(tree); len(found) == 1 {
			require.Equal(s.t, s.id, tree.App)
			require.Len(s.t, screen.Locator{Role: "alertdialog"}.Find(tree), 1)
			_, err := s.device.Picture(s.ctx)
			require.NoError(s.t, err)
			require.NoError(s.t, s.device.Tap(s.ctx, under), "what lies under it is not touched")
			require.NoError(s.t, s.device.Tap(s.ctx, found[0].Visible.Centre()))
			require.Empty(s.t, button.Find(s.tree()), "it has been answered")
			return
		}
		require.Less(s.t, s.device.Now(), end, "no question came up")
		require.NoError(s.t, s.device.AwaitChange(s.ctx, tree.Revision, end))
	}
}

func (s *subject) tilts() {
	m := ability[device.Moving](s)
	if p, ok := device.As[device.Permitting](s.device); ok {
		require.NoError(s.t, p.SetPermission(s.ctx, s.id, "motion", device.Allow))
	}
	require.NoError(s.t, m.Tilt(s.ctx, 10, 45, 0))
	s.eventually("tilt", "45")
	require.Equal(s.t, "0", s.at("shaken").Content())
	require.NoError(s.t, m.Shake(s.ctx))
	s.eventually("shaken", "1")
	require.Error(s.t, m.Tilt(s.ctx, 10, 1000, 0))
	s.afresh()
	require.Equal(s.t, "", s.at("tilt").Content(), "nobody holds it so any more")
}

// presses goes home by the device's key, and comes back.
func (s *subject) presses() {
	p := ability[device.Presser](s)
	require.NoError(s.t, p.Press(s.ctx, "home"))
	require.NotEqual(s.t, s.id, s.tree().App)
	require.NoError(s.t, s.device.Start(s.ctx, s.id, device.Resume))
	require.Equal(s.t, s.id, s.tree().App)
}

// composes enters what no keyboard has a key for.
func (s *subject) composes() {
	s.tap("field")
	for _, text := range []string{"Größe 漢字 ñ", " ❤️‍🔥 مرحبا"} {
		require.NoError(s.t, ability[device.TextEntry](s).EnterText(s.ctx, text))
	}
	require.Equal(s.t, "Größe 漢字 ñ ❤️‍🔥 مرحبا", s.at("echo").Content())
}

func (s *subject) wires() {
	n := ability[device.Networked](s)
	s.tap("call")
	s.eventually("answer", "there is an answer")
	require.NoError(s.t, n.SetNetwork(s.ctx, device.Network{None: true}))
	s.eventually("network", "none")
	s.tap("call")
	s.eventually("answer", "no answer")
	if err := n.SetNetwork(s.ctx, device.Network{Delay: 600 * time.Millisecond}); !errors.Is(err, device.ErrNoAbility) {
		require.NoError(s.t, err)
		s.eventually("network", "some")
		began := s.device.Now()
		s.tap("call")
		s.eventually("answer", "there is an answer")
		require.Greater(s.t, s.device.Now()-began, 500*time.Millisecond)
	}
	require.Error(s.t, n.SetNetwork(s.ctx, device.Network{Loss: 2}))
	s.afresh()
	s.eventually("network", "some")
}

func (s *subject) pushes() {
	p := ability[device.Pushed](s)
	require.NoError(s.t, ability[device.Permitting](s).SetPermission(s.ctx, s.id, "notifications", device.Allow))
	var err error
	require.Eventually(s.t, func() bool {
		err = p.Push(s.ctx, s.id, "the 9.40 is late")
		return err == nil
	}, 10*time.Second, 50*time.Millisecond, "%v", err)
	s.eventually("message", "the 9.40 is late")
}

func (s *subject) links() {
	l := ability[device.Linking](s)
	require.NoError(s.t, l.OpenLink(s.ctx, s.id, "/#tickets"))
	s.eventually("page", "/#tickets")
	require.Error(s.t, l.OpenLink(s.ctx, s.id, "https://elsewhere.example/"))
	require.Error(s.t, l.OpenLink(s.ctx, s.id+".nobody", "/"))
}

func (s *subject) chooses() {
	f := ability[device.Filing](s)
	path := filepath.Join(s.t.TempDir(), "note.txt")
	require.NoError(s.t, os.WriteFile(path, []byte("mind the gap"), 0o600))
	require.NoError(s.t, f.PutFiles(s.ctx, path))
	s.tap("choose")
	s.eventually("chosen", "note.txt: mind the gap")
	require.Error(s.t, f.PutFiles(s.ctx, path+".not-there"))
	require.NoError(s.t, f.PutFiles(s.ctx, path))
	s.afresh()
	s.tap("choose")
	require.NoError(s.t, s.device.AwaitChange(s.ctx, s.tree().Revision, s.device.Now()+300*time.Millisecond))
	require.Empty(s.t, s.at("chosen").Content(), "there is nothing to choose any more")
}

func (s *subject) leaves() {
	l := ability[device.Leaving](s)
	s.tap("more")
	require.NoError(s.t, l.SendAway(s.ctx))
	require.NotEqual(s.t, s.id, s.tree().App)
	require.NoError(s.t, s.device.Start(s.ctx, s.id, device.Resume))
	require.Equal(s.t, s.id, s.tree().App)
	require.Equal(s.t, "1", s.at("count").Content(), "it goes on where it was")
	s.eventually("away", "1")
}

func (s *subject) logs() {
	l := ability[device.Logger](s)
	lines, err := l.Log(s.ctx)
	require.NoError(s.t, err)
	require.NotEmpty(s.t, lines, "at the least that the app was started")
	again, err := l.Log(s.ctx)
	require.NoError(s.t, err)
	require.False(s.t, slices.ContainsFunc(again, func(a device.LogLine) bool { return a == lines[0] }),
		"a line is given once")
}

func (s *subject) films() {
	l := ability[device.Live](s)
	ctx, stop := context.WithTimeout(s.ctx, 20*time.Second)
	defer stop()
	enough, frames := errors.New("enough"), 0
	err := l.Frames(ctx, 200, 400, func(f device.Frame) error {
		img, _, err := image.Decode(bytes.NewReader(f.Data))
		require.NoError(s.t, err)
		require.LessOrEqual(s.t, img.Bounds().Dx(), 200)
		require.LessOrEqual(s.t, img.Bounds().Dy(), 400)
		if frames++; frames == 1 {
			s.tap("more") // so that something moves
			return nil
		}
		return enough
	})
	require.ErrorIs(s.t, err, enough)
}

func (s *subject) measures() {
	list, err := ability[device.Measured](s).Readings(s.ctx)
	require.NoError(s.t, err)
	require.NotEmpty(s.t, list)
	names := []string{}
	for _, r := range list {
		names = append(names, r.Name)
		require.GreaterOrEqual(s.t, r.Value, 0.0)
	}
	require.Subset(s.t, names, []string{"memory", "cpu", "network"})
}

func (s *subject) calls() {
	c := ability[device.Calling](s)
	_, err := c.Calls(s.ctx)
	require.NoError(s.t, err)
	s.tap("call")
	s.eventually("answer", "there is an answer")
	var list []device.Call
	require.Eventually(s.t, func() bool {
		more, err := c.Calls(s.ctx)
		list = append(list, more...)
		return err == nil && slices.ContainsFunc(list, func(c device.Call) bool {
			return strings.HasSuffix(c.Address, "answer.txt") && c.Status == 200 && c.Method == "GET"
		})
	}, 30*time.Second, 20*time.Millisecond)
}

func (s *subject) copies() {
	c := ability[device.Copying](s)
	require.NoError(s.t, c.SetClipboard(s.ctx, "Sora → Minami"))
	got, err := c.Clipboard(s.ctx)
	require.NoError(s.t, err)
	require.Equal(s.t, "Sora → Minami", got)
	s.afresh()
	got, err = c.Clipboard(s.ctx)
	require.NoError(s.t, err)
	require.Empty(s.t, got)
}

func (s *subject) charges() {
	require.NoError(s.t, ability[device.Powered](s).SetBattery(s.ctx, 15, false))
	s.eventually("charge", "15")
	require.Error(s.t, ability[device.Powered](s).SetBattery(s.ctx, 101, false))
}

func (s *subject) evaluates() {
	e := ability[device.Evaluating](s)
	for expression, value := range map[string]string{"6 * 7": "42", "'Sora → ' + [1, 2].length": "Sora → 2",
		"({a: [1]})": `{"a":[1]}`,
		"undefined":  "undefined", "null": "null", "true": "true"} {
		got, err := e.Evaluate(s.ctx, expression)
		require.NoError(s.t, err, expression)
		require.Equal(s.t, value, got, expression)
	}
	for _, wrong := range []string{"nowhere.to.be.found", "throw new Error('mine')", "1 +"} {
		_, err := e.Evaluate(s.ctx, wrong)
		var crash *device.Crash
		require.Error(s.t, err, wrong)
		require.False(s.t, errors.As(err, &crash), "what is thrown by who looks is not the app's: %v", err)
	}
	s.tap("more")
	require.Equal(s.t, "1", s.at("count").Content(), "the app goes on")
}
