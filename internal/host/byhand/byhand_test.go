package byhand

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/link"
)

func element(role, id, text string, y float64) *screen.Node {
	at := screen.Rect{X: 10, Y: y, W: 100, H: 40}
	return &screen.Node{Role: role, ID: id, Text: text, Bounds: at, Visible: at, Touch: role == "button"}
}

func shows(nodes ...*screen.Node) *screen.Tree {
	whole := screen.Rect{W: 400, H: 800}
	return &screen.Tree{Width: 400, Height: 800, App: "example.tideline",
		Root: &screen.Node{Role: "application", Bounds: whole, Visible: whole, Children: nodes}}
}

func TestATouchThatComesTooLateIsRefusedAndSaid(t *testing.T) {
	pay, cancel := element("button", "pay", "Pay", 100), element("button", "cancel", "Cancel", 100)
	here := screen.Point{X: 50, Y: 120}
	across := shows(pay)
	across.Width, across.Height = 800, 400
	other := shows(pay)
	other.App = "example.letters"
	for name, c := range map[string]struct {
		then, now *screen.Tree
		says      string
	}{
		"all as it was": {shows(pay), shows(pay), ""},
		"its words have changed": {shows(element("button", "pay", "Pay 3", 100)),
			shows(element("button", "pay", "Pay 4", 100)), ""},
		"it has moved a little":     {shows(pay), shows(element("button", "pay", "Pay", 110)), ""},
		"another thing is there":    {shows(pay), shows(cancel), "Pay"},
		"it has gone":               {shows(pay), shows(), "not there any more"},
		"something has come":        {shows(), shows(pay), "has come to be there"},
		"the screen was turned":     {shows(pay), across, "turned"},
		"another app is in front":   {shows(pay), other, "another app"},
		"nobody knows what it was":  {nil, shows(cancel), ""},
		"nothing there, before too": {shows(), shows(), ""},
		"one of a list that scrolls": {shows(element("listitem", "", "07:13", 100)),
			shows(element("listitem", "", "07:34", 100)), "07:13"},
	} {
		got := missed(c.then, c.now, here)
		if c.says == "" {
			require.Empty(t, got, name)
		} else {
			require.Contains(t, got, c.says, name)
			require.NotContains(t, got, "was touched and")
		}
	}
}

func TestWhatIsActedOnIsTheButtonAndNotTheWordsOnIt(t *testing.T) {
	words := element("", "", "Continue", 100)
	button := element("button", "", "", 100)
	button.Name, button.Children = "Continue", []*screen.Node{words}
	tree := shows(button)
	require.Same(t, button, actedOn(tree, screen.Point{X: 50, Y: 120}))
	require.Equal(t, `tap button called "Continue"`, lineFor(tree, button, "tap"))
	require.Nil(t, actedOn(tree, screen.Point{X: 390, Y: 790}))
	require.Equal(t, []string{"application"}, card(tree, button).Path)
}

func TestARouteIsTravelledAtItsSpeed(t *testing.T) {
	const gpx = `<gpx version="1.1"><trk><trkseg><trkpt lat="38.70" lon="-9.14"/><trkpt lat="38.71" lon="-9.14"/>
		<trkpt lat="38.71" lon="-9.13"/></trkseg></trk><wpt lat="1" lon="1"/></gpx>`
	r, err := readRoute(gpx, 10)
	require.NoError(t, err)
	require.Len(t, r.points, 3, "a track comes before single places")
	require.InDelta(t, 1112+868, r.length(), 5, "a hundredth of a degree north is 1112 m")
	half := r.at(556)
	require.InDelta(t, 38.705, half.Latitude, 0.0001)
	require.Equal(t, r.points[2], *r.at(1e9), "it stays where its way ends")
	require.InDelta(t, math.Pi*earthRadius, metres(device.Place{}, device.Place{Longitude: 180}), 1)

	for _, wrong := range []string{"", "<gpx/>", "not xml <", `<gpx><wpt lat="91" lon="0"/></gpx>`,
		`<gpx><wpt lat="x" lon="0"/></gpx>`,
		`<gpx><wpt lat="NaN" lon="0"/></gpx>`, strings.Repeat("x", maxGPX+1)} {
		_, err := readRoute(wrong, 0)
		require.Error(t, err, plainHead(wrong))
	}
	for _, speed := range []float64{-1, math.NaN(), math.Inf(1), 4000} {
		_, err := readRoute(gpx, speed)
		require.Error(t, err)
	}
}

func plainHead(s string) string { return s[:min(len(s), 30)] }

func TestTheLogIsKeptInPiecesBoundedInBytes(t *testing.T) {
	var kept int
	var from []int64
	b := logbook{keep: func(_ context.Context, piece []byte, lines, errors, first, to int64) error {
		kept += strings.Count(string(piece), "\n")
		from = append(from, first)
		require.Equal(t, to-first, lines)
		return nil
	}}
	for i := range 5000 {
		level := "info"
		if i%1000 == 0 {
			level = "error"
		}
		require.True(t, b.add(device.LogLine{Level: level, Tag: "t", Text: strings.Repeat("x", 1000)}))
		b.turn(context.Background())
	}
	require.NoError(t, b.flush(context.Background()))
	require.Equal(t, 5000, kept)
	require.EqualValues(t, 5, b.errors)
	require.Greater(t, len(from), 3, "a piece is no larger than is kept at once")
	b.size = maxLog + 1
	require.False(t, b.add(device.LogLine{Text: "one too many"}))
	require.EqualValues(t, 1, b.dropped, "what is not kept is counted, and told")
}

func TestAPieceThatCannotBeKeptIsKeptWithTheNext(t *testing.T) {
	failing := true
	kept := ""
	b := logbook{keep: func(_ context.Context, piece []byte, _, _, _, _ int64) error {
		if failing {
			return fmt.Errorf("the service is away")
		}
		kept += string(piece)
		return nil
	}}
	b.add(device.LogLine{Text: "first"})
	require.Error(t, b.flush(context.Background()))
	failing = false
	b.add(device.LogLine{Text: "second"})
	require.NoError(t, b.flush(context.Background()))
	require.Contains(t, kept, "first")
	require.Contains(t, kept, "second")
}

func TestWhatNobodyTakesIsBoundedInBytes(t *testing.T) {
	o := newOutlet()
	o.tell(link.Told{Log: []device.LogLine{{Text: "nobody is there"}}})
	list, err := o.box.Take()
	require.NoError(t, err)
	require.Empty(t, list, "what is told to nobody is not kept")
	o.connect(&link.Live{})
	for range 40 {
		o.tell(link.Told{Log: []device.LogLine{{Text: strings.Repeat("x", 1<<20)}}})
	}
	size := 0
	list, err = o.box.Take()
	require.NoError(t, err)
	for _, body := range list {
		size += len(body)
	}
	require.LessOrEqual(t, size, maxOut)
}

func TestOneNudgeEndsOneWait(t *testing.T) {
	o := newOutlet()
	o.poke() // nobody waits
	c, stop := o.nudge()
	o.poke()
	<-c
	o.poke()
	stop()
	c, stop = o.nudge()
	defer stop()
	select {
	case <-c:
		t.Fatal("a wait that begins now has not been nudged")
	default:
	}
}

func TestTypedLettersAreOneStep(t *testing.T) {
	field := element("textbox", "name", "", 100)
	field.Focused = true
	var typed typing
	for _, c := range "Käthe “漢字” {x}" {
		typed.add(shows(field), string(c))
	}
	require.Equal(t, "#name", typed.into)
	var kept []link.Entry
	s := &sitting{Config: Config{Keep: func(e link.Entry) error { kept = append(kept, e); return nil }}, typed: typed,
		out:   newOutlet(),
		began: time.Now()}
	s.flushTyping()
	s.flushTyping()
	require.Len(t, kept, 1)
	require.Equal(t, []string{`type "Käthe “漢字” \{x}" into #name`}, kept[0].Lines)
}

func TestTheNewestFrameWinsAndNoMoreAreSentThanAreTaken(t *testing.T) {
	f := &film{}
	f.shown = sync.NewCond(&f.mu)
	f.ring()
	done := make(chan struct{})
	go func() { // nobody takes any: each waits a moment, and goes
		defer close(done)
		for i := range 3 {
			f.take(device.Frame{At: time.Duration(i), Data: []byte{byte(i)}})
			f.take(device.Frame{At: time.Duration(i), Data: []byte{byte(i)}})
		}
	}()
	<-done
	require.EqualValues(t, 3, f.number, "one that looks the same is none")
	require.Equal(t, []byte{2}, f.newest.Data)
	at, ok := f.takenAt(2)
	require.True(t, ok)
	require.Equal(t, time.Duration(1), at)
	_, ok = f.takenAt(99)
	require.False(t, ok)
	f.flying, f.sent = []int64{1, 2, 3}, 3
	f.acknowledged(2)
	require.Equal(t, []int64{3}, f.flying, "those before one that was shown are of no use")
	f.resize(link.Size{Width: 1 << 30, Height: -5})
	require.Equal(t, link.Size{Width: maxSide, Height: 80}, f.size)
}

func FuzzRoute(f *testing.F) {
	f.Add(`<gpx><trk><trkseg><trkpt lat="1" lon="2"/></trkseg></trk></gpx>`, 3.0)
	f.Fuzz(func(t *testing.T, gpx string, speed float64) {
		r, err := readRoute(gpx, speed)
		if err != nil {
			return
		}
		for _, gone := range []float64{0, 1, r.length(), math.MaxFloat64} {
			if p := r.at(gone); p.Check() != nil {
				t.Fatalf("%v is no place", p)
			}
		}
	})
}

func FuzzFeel(f *testing.F) {
	f.Add("place", "1, 2", `{"name": "Quay"}`)
	f.Add("route", "", `{"gpx": "<gpx/>"}`)
	f.Fuzz(func(t *testing.T, name, level, args string) {
		s := &sitting{Config: Config{Device: bare{}}, felt: map[string]felt{}}
		if _, err := s.feel(context.Background(), link.Order{Name: name, Text: level,
			Args: json.RawMessage(args)}); err == nil {
			t.Fatal("a device that has no ability cannot be made to feel anything")
		}
	})
}
