// Package devicetest holds the contract that every driver's devices keep, in the manner of
// testing/fstest. A driver's own tests call Run with devices of its own and with the probe
// app packed for its technology: an app with these elements.
//
//	#count   a text: how often #more was tapped; it is kept until the app's data go
//	#more    a button
//	#field   a field; #echo is a text that shows what is in it
//	#later   a button: 500 ms after it is tapped, #came is shown for good
//	#blue    a box of 100 by 100 dp in #0000ff
//
// and, as far as the driver's devices have these abilities,
//
//	#pad       where fingers do things; #gesture tells what: tap, double, hold, left, right, pinch, spread
//	#scheme    light or dark; #held portrait or landscape; #language, #zone, #network (some or none)
//	#locate    a button; #place is where the device is then: degrees with three decimals, refused or unknown
//	#tilt      the rounded beta of the last tilt; #shaken how often it was shaken; #size a text that grows with the size of text
//	#page      path and fragment of where the app is; #message what was pushed last
//	#choose    asks for a file; #chosen is its name, a colon and what it holds
//	#call      asks the network for answer.txt; #answer is what comes, or "no answer"
//	#charge    how full the battery is, in percent
//	#away      how often the app has been sent away
package devicetest

import (
	"context"
	"errors"
	"image"
	"image/color"
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/driver"
)

// Subject is a device to be tried, not ready yet, and the probe app for it.
type Subject struct {
	Device driver.Device
	App    driver.App
	// Typed is true of a device whose keys are all that it has to enter text by, and type what an English keyboard has.
	Typed bool
}

// Busy has two busy loops, of other processes, beside a test until it ends.
func Busy(t *testing.T) {
	t.Helper()
	for range 2 {
		loop := exec.Command("sh", "-c", "while :; do :; done")
		require.NoError(t, loop.Start())
		t.Cleanup(func() { _ = loop.Process.Kill(); _ = loop.Wait() })
	}
}

// Unhindered judges until the machine did not keep the device from running: what could not run was not late. What
// judges tells for itself; a machine that never lets the device run is said to be no place for this test.
func Unhindered(t testing.TB, judge func() script.Result) script.Result {
	t.Helper()
	for tries := 1; ; tries++ {
		r := judge()
		var trouble *device.Trouble
		if !errors.As(r.Err, &trouble) || !trouble.Busy || tries == 6 {
			return r
		}
		t.Logf("judged again: %s", trouble.Why)
	}
}

// soon is how long a call may go on once its context has ended: on a machine with much else to do, and less than any
// of them takes by itself.
const soon = 10 * time.Second

// Run tries devices that make gives: each part of the contract has one of its own.
func Run(t *testing.T, make func(t *testing.T) Subject) {
	for name, part := range map[string]func(*subject){
		"it says what it is, and always the same": (*subject).describes, "ready twice is ready": (*subject).ready,
		"an app comes to the front and goes":                    (*subject).starts,
		"a revision rises with each change and not without one": (*subject).revises,
		"what is tapped is what the tree says is there":         (*subject).taps,
		"text arrives whole":                                    (*subject).enters,
		"no change is missed":                                   (*subject).awaits,
		"the picture agrees with the tree":                      (*subject).shows,
		"cleaning undoes what was done":                         (*subject).cleans,
		"calls end with their context":                          (*subject).ends,
		"abilities are found through what wraps it":             (*subject).unwraps,
	} {
		t.Run(name, func(t *testing.T) {
			s := make(t)
			part(&subject{t, context.Background(), s.Device, s.App, s.App.Package.ApplicationID, s.Typed})
		})
	}
	has := device.Names(make(t).Device)
	for _, name := range has {
		part := parts[name]
		if part == nil {
			continue
		}
		t.Run("ability: "+name, func(t *testing.T) {
			s := make(t)
			try := &subject{t, context.Background(), s.Device, s.App, s.App.Package.ApplicationID, s.Typed}
			require.Contains(t, s.Device.Abilities(), name, "what it can do it says")
			try.running()
			part(try)
		})
	}
	t.Run("it says what it cannot do", func(t *testing.T) {
		for _, a := range device.Abilities {
			if !slices.Contains(has, a.Name) {
				require.NotContains(t, make(t).Device.Abilities(), a.Name)
			}
		}
	})
}

type subject struct {
	t      *testing.T
	ctx    context.Context
	device driver.Device
	app    driver.App
	id     string
	typed  bool
}

func (s *subject) tree() *screen.Tree {
	s.t.Helper()
	tree, err := s.device.Tree(s.ctx)
	require.NoError(s.t, err)
	return tree
}

func (s *subject) up() {
	s.t.Helper()
	require.NoError(s.t, s.device.Ready(s.ctx, driver.Terms{}))
}

// running has the probe app in front, afresh.
func (s *subject) running() {
	s.t.Helper()
	s.up()
	require.NoError(s.t, s.device.Install(s.ctx, s.app))
	require.NoError(s.t, s.device.Start(s.ctx, s.id, device.Fresh))
	require.Equal(s.t, s.id, s.tree().App)
}

func (s *subject) at(id string) *screen.Node {
	s.t.Helper()
	nodes := screen.Locator{ID: id}.Find(s.tree())
	require.Len(s.t, nodes, 1, "#%s", id)
	return nodes[0]
}

func (s *subject) tap(id string) {
	s.t.Helper()
	require.NoError(s.t, s.device.Tap(s.ctx, s.at(id).Visible.Centre()))
}

func (s *subject) describes() {
	before := s.device.Describe()
	require.NotEmpty(s.t, before.Name)
	require.Positive(s.t, before.Width*before.Height)
	s.running()
	require.Equal(s.t, before, s.device.Describe())
	require.ElementsMatch(s.t, before.Abilities, s.device.Abilities())
}

func (s *subject) ready() {
	s.up()
	first := s.tree()
	s.up()
	require.NotEqual(s.t, s.id, first.App)
	require.NotNil(s.t, first.Root)
	facts := s.device.Describe()
	require.Equal(s.t, []float64{float64(facts.Width), float64(facts.Height)}, []float64{first.Width, first.Height},
		"the tree is in density-independent pixels")
	require.Equal(s.t, "en-GB", first.Language)
}

func (s *subject) starts() {
	s.up()
	require.Error(s.t, s.device.Start(s.ctx, s.id, device.Fresh), "it is not there yet")
	require.NoError(s.t, s.device.Stop(s.ctx, s.id), "stopping what does not run is harmless")
	s.running()
	require.NoError(s.t, s.device.Install(s.ctx, s.app), "the same again is harmless")
	s.tap("more")
	require.Equal(s.t, "1", s.at("count").Content())
	require.NoError(s.t, s.device.Stop(s.ctx, s.id))
	require.NotEqual(s.t, s.id, s.tree().App)
	require.NoError(s.t, s.device.Start(s.ctx, s.id, device.Resume))
	require.Equal(s.t, "1", s.at("count").Content(), "its data outlive it")
	require.NoError(s.t, s.device.Start(s.ctx, s.id, device.Fresh))
	require.Equal(s.t, "0", s.at("count").Content(), "but not a fresh start")
	require.Error(s.t, s.device.Start(s.ctx, s.id+".nobody", device.Fresh))
}

func (s *subject) revises() {
	s.running()
	require.Equal(s.t, s.tree().Revision, s.tree().Revision)
	before := s.tree().Revision
	s.tap("more")
	require.Greater(s.t, s.tree().Revision, before)
}

func (s *subject) taps() {
	s.running()
	for range 3 {
		s.tap("more")
	}
	require.Equal(s.t, "3", s.at("count").Content())
	blue := s.at("blue").Visible
	require.NoError(s.t, s.device.Tap(s.ctx, blue.Centre()), "what takes no touches does no harm")
	require.Equal(s.t, "3", s.at("count").Content())
}

func (s *subject) enters() {
	s.running()
	s.tap("field")
	require.True(s.t, s.at("field").Focused)
	text := "é ß 漢字 👩‍👩‍👧 {x} \\ \""
	if s.typed {
		require.Error(s.t, device.EnterText(s.ctx, s.device, text), "what it cannot type it says")
		require.Empty(s.t, s.at("echo").Content(), "and types none of it")
		text = `A b (x) {y} \ " ' $HOME; %s &`
	}
	require.NoError(s.t, device.EnterText(s.ctx, s.device, text))
	require.Equal(s.t, text, s.at("echo").Content())
	require.NoError(s.t, s.device.Keys(s.ctx, "\uE003\uE003\uE003"))
	require.Equal(s.t, screen.Fold(text[:len(text)-3]), screen.Fold(s.at("echo").Content()),
		"backspace takes one character away")
}

func (s *subject) awaits() {
	s.running()
	s.tap("later")
	tree, began := s.tree(), s.device.Now()
	require.Empty(s.t, screen.Locator{ID: "came"}.Find(tree))
	for tries := 0; len(screen.Locator{ID: "came"}.Find(s.tree())) == 0; tries++ {
		require.Less(s.t, tries, 20, "it wakes for nothing, again and again")
		require.NoError(s.t, s.device.AwaitChange(s.ctx, s.tree().Revision, began+time.Minute))
	}
	came := s.device.Now() - began // by 500 ms, and on a busy machine later; it would have waited for a minute
	require.Greater(s.t, came, 200*time.Millisecond, "it wakes with the change")
	require.Less(s.t, came, 50*time.Second, "it wakes with the change")

	// What has changed before one waits is not waited for.
	revision, now := s.tree().Revision, s.device.Now()
	require.NoError(s.t, s.device.AwaitChange(s.ctx, revision-1, now+time.Minute))
	require.Less(s.t, s.device.Now()-now, soon)
	// And where nothing changes, it waits for as long as it is told, and no longer.
	now = s.device.Now()
	require.NoError(s.t, s.device.AwaitChange(s.ctx, s.tree().Revision, now+700*time.Millisecond))
	waited := s.device.Now() - now
	require.GreaterOrEqual(s.t, waited, 690*time.Millisecond)
	require.Less(s.t, waited, time.Minute)
}

func (s *subject) shows() {
	s.running()
	s.shownBlue()
}

// shownBlue finds the blue box in the picture where the tree says that it is.
func (s *subject) shownBlue() {
	s.t.Helper()
	p, err := s.device.Picture(s.ctx)
	require.NoError(s.t, err)
	img, err := p.Image()
	require.NoError(s.t, err)
	tree, box := s.tree(), s.at("blue").Visible
	scale := float64(img.Bounds().Dx()) / tree.Width
	require.InDelta(s.t, tree.Height*scale, float64(img.Bounds().Dy()), scale, "it is of the whole screen")
	for _, at := range []screen.Point{{X: box.X + 4, Y: box.Y + 4}, box.Centre(),
		{X: box.X + box.W - 4, Y: box.Y + box.H - 4}} {
		require.Equal(s.t, color.NRGBA{B: 255, A: 255}, pixel(img, at, scale), "blue at %v", at)
	}
	require.NotEqual(s.t, color.NRGBA{B: 255, A: 255}, pixel(img, screen.Point{X: box.X + box.W + 4, Y: box.Y + 4},
		scale))
}

func pixel(img image.Image, at screen.Point, scale float64) color.NRGBA {
	return color.NRGBAModel.Convert(img.At(img.Bounds().Min.X+int(at.X*scale),
		img.Bounds().Min.Y+int(at.Y*scale))).(color.NRGBA)
}

func (s *subject) cleans() {
	s.running()
	s.tap("more")
	require.NoError(s.t, s.device.Clean(s.ctx, driver.CleanApp, s.id))
	require.NoError(s.t, s.device.Clean(s.ctx, driver.CleanApp, s.id), "twice is harmless")
	require.NoError(s.t, s.device.Clean(s.ctx, driver.CleanApp, "example.never.there"))
	s.up()
	require.Error(s.t, s.device.Start(s.ctx, s.id, device.Resume), "the app is gone")
	s.running()
	require.Equal(s.t, "0", s.at("count").Content(), "and its data with it")
}

func (s *subject) ends() {
	s.running()
	revision := s.tree().Revision // before some call, in whatever order, leaves it off
	ended, stop := context.WithCancel(s.ctx)
	stop()
	for name, call := range map[string]func() error{
		"await":   func() error { return s.device.AwaitChange(ended, revision, s.device.Now()+time.Hour) },
		"install": func() error { return s.device.Install(ended, s.app) },
		"start":   func() error { return s.device.Start(ended, s.id, device.Fresh) },
		"tap":     func() error { return s.device.Tap(ended, screen.Point{X: 1, Y: 1}) },
		"keys":    func() error { return s.device.Keys(ended, "a") },
		"ready":   func() error { return s.device.Ready(ended, driver.Terms{}) },
		"clean":   func() error { return s.device.Clean(ended, driver.CleanApp, s.id) },
		"frames": func() error {
			if l, ok := device.As[device.Live](s.device); ok {
				return l.Frames(ended, 100, 100, func(device.Frame) error { return nil })
			}
			return nil
		},
		"evaluate": func() error {
			if e, ok := device.As[device.Evaluating](s.device); ok {
				_, err := e.Evaluate(ended, "1")
				return err
			}
			return nil
		},
	} {
		began := time.Now()
		_ = call() // it may have been done by then
		require.Less(s.t, time.Since(began), soon, name)
	}
}

// wrapped is a device behind another, as hosts put them.
type wrapped struct{ driver.Device }

func (w wrapped) Unwrap() device.Device { return w.Device }

func (s *subject) unwraps() {
	twice := wrapped{wrapped{s.device}}
	_, direct := device.As[device.Presser](s.device)
	_, through := device.As[device.Presser](twice)
	require.Equal(s.t, direct, through)
	_, direct = device.As[device.Virtual](s.device)
	_, through = device.As[device.Virtual](twice)
	require.Equal(s.t, direct, through)
}
