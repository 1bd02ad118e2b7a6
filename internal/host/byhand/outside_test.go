package byhand

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/driver"
	"yamato/internal/host/null"
	"yamato/internal/host/video"
	"yamato/internal/link"
)

// able is a null device that can do what an order may ask for.
type able struct {
	driver.Device
	taps []screen.Point
}

func (a *able) Perform(context.Context, ...device.Finger) error       { return nil }
func (a *able) PutFiles(context.Context, ...string) error             { return nil }
func (a *able) SetClipboard(context.Context, string) error            { return nil }
func (a *able) Clipboard(context.Context) (string, error)             { return "", nil }
func (a *able) Rotate(context.Context, string) error                  { return nil }
func (a *able) SetPlace(context.Context, *device.Place) error         { return nil }
func (a *able) SetNetwork(context.Context, device.Network) error      { return nil }
func (a *able) Tilt(context.Context, float64, float64, float64) error { return nil }
func (a *able) Shake(context.Context) error                           { return nil }
func (a *able) Tap(_ context.Context, at screen.Point) error {
	if at.X == 13 {
		panic("a driver's own fault")
	}
	a.taps = append(a.taps, at)
	return nil
}
func (a *able) Unwrap() device.Device { return a.Device }

// seated is a session on a device that can do most things, and what it answers.
func seated(t testing.TB) (*sitting, *able, func() []link.Answer) {
	t.Helper()
	d := &able{Device: &null.Device{}}
	s := &sitting{Config: Config{Device: d, Careful: d, Said: slog.New(slog.DiscardHandler),
		Keep:  func(link.Entry) error { return nil },
		Fetch: func(context.Context, string) (string, error) { return "", errors.New("nothing is there") },
		Upload: func(context.Context, evidence.Kind, string, []byte) (link.EvidenceRef, error) {
			return link.EvidenceRef{}, nil
		},
		InHand: func(string) {},
		Glance: func(context.Context) {},
		Log:    func(context.Context) []device.LogLine { return nil },
		Draw:   func(device.Picture) ([]byte, error) { return nil, errors.New("nothing is drawn") },
		DrawPart: func(device.Picture, *screen.Tree, screen.Rect) ([]byte, error) {
			return nil, errors.New("nothing is drawn")
		},
		DialPort: nil, Folder: "", Private: false},
		began: time.Now(), felt: map[string]felt{}, out: newOutlet(), life: context.Background()}
	s.film.shown = sync.NewCond(&s.film.mu)
	s.logged.keep = s.keepLog
	s.trial = script.NewTrial(d, script.Options{Known: func(string) bool { return true }}, recorder{s})
	s.status.Apps = []link.OnDevice{}
	s.out.status = json.RawMessage(`{}`)
	return s, d, func() (out []link.Answer) {
		list, err := s.out.box.Take()
		require.NoError(t, err)
		for _, body := range list {
			var told link.Told
			require.NoError(t, json.Unmarshal(body, &told))
			if told.Answer != nil {
				out = append(out, *told.Answer)
			}
		}
		return out
	}
}

func TestNumbersOfASocketAreCheckedBeforeTheyAreUsed(t *testing.T) {
	f := &film{shown: sync.NewCond(&sync.Mutex{})}
	f.number, f.sent, f.flying = 3, 3, []int64{2, 3}
	f.times[3] = frameTime{3, time.Second}
	for _, number := range []int64{-1, -1 << 63, 0, 4, 1<<63 - 1, -frameTimes} {
		_, known := f.takenAt(number)
		require.False(t, known, "%d", number)
	}
	at, known := f.takenAt(3)
	require.True(t, known)
	require.Equal(t, time.Second, at)
	f.acknowledged(1<<63 - 1)
	require.Equal(t, []int64{2, 3}, f.flying, "what was never sent was shown to nobody")
	f.acknowledged(2)
	require.Equal(t, []int64{3}, f.flying)
}

func TestAnOrderThatMeetsAFaultIsAnsweredAndTheNextIsCarriedOut(t *testing.T) {
	s, d, answers := seated(t)
	before := contain.Met()
	for _, order := range []string{`{"id":1,"do":"tap","at":{"X":13,"Y":1}}`,
		`{"id":2,"do":"tap","at":{"X":5,"Y":5},"aimed":-1}`,
		`{"id":3,"do":"tap","at":{"X":1e300,"Y":5}}`, `{"id":4,"do":"feel","name":"files","args":{"digests":["x","../../etc"]}}`,
		`{"id":5,"do":"tap","at":{"X":5,"Y":5},"aimed":9223372036854775807}`} {
		var o link.Order
		require.NoError(t, json.Unmarshal([]byte(order), &o))
		s.carryOut(context.Background(), o)
	}
	list := answers()
	require.Len(t, list, 5)
	require.Contains(t, list[0].Trouble, "a fault of this program's own")
	require.Contains(t, list[1].Trouble, "frames are numbered from 1")
	require.Contains(t, list[2].Trouble, "a place is within a screen")
	require.NotEmpty(t, list[3].Trouble)
	require.Empty(t, list[4].Trouble)
	require.Equal(t, []screen.Point{{X: 5, Y: 5}}, d.taps)
	require.Equal(t, before+1, contain.Met())
}

// FuzzOrders: whatever comes over a session's socket is answered, and meets no fault.
func FuzzOrders(f *testing.F) {
	for _, order := range []string{`{"do":"tap","at":{"X":1,"Y":2},"aimed":-1}`,
		`{"do":"stroke","path":[{"x":1,"y":1,"at_ms":0},{"x":1,"y":9,"at_ms":-5}]}`,
		`{"do":"pinch","at":{"X":1,"Y":1},"from":1,"to":1e9}`,
		`{"do":"hold","at":{"X":1,"Y":1},"over_ms":9223372036854775807}`,
		`{"do":"line","text":"tap #a"}`, `{"do":"text","text":"abc"}`, `{"do":"keys","text":""}`,
		`{"do":"evaluate","text":"1"}`,
		`{"do":"feel","name":"place","args":{"Latitude":1e400}}`,
		`{"do":"feel","name":"route","args":{"GPX":"<gpx/>","Speed":-1}}`,
		`{"do":"feel","name":"files","args":{"Digests":["../../x",""]}}`, `{"do":"undo"}`, `{"do":"remove","app":"x"}`,
		`{"do":"link","text":"x"}`,
		`{"do":"install"}`, `{"do":"install","blob":"x","pack":{}}`, `{"do":"mark","text":"x"}`,
		`{"do":"video","on":true}`, `{"do":"card","at":{"X":1,"Y":1}}`, `{"do":"tree"}`, `{"do":"picture"}`} {
		f.Add([]byte(order))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		var o link.Order
		if json.Unmarshal(text, &o) != nil || o.Do == "port" || o.Do == "video" {
			return
		}
		s, _, answers := seated(t)
		before := contain.Met()
		s.carryOut(context.Background(), o)
		require.Len(t, answers(), 1)
		require.Equal(t, before, contain.Met(), "%s", text)
	})
}

func TestAVideoWhoseMakerHangsIsLeft(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ffmpeg"), []byte("#!/bin/sh\nexec sleep 600\n"), 0o700))
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	s, _, _ := seated(t)
	s.Folder, s.Room = dir, video.NewRoom(1<<30, dir)
	s.film.newest, s.film.width, s.film.height = device.Frame{MediaType: "image/png", Data: []byte("x")}, 20, 40
	require.NoError(t, s.beginVideo())
	ctx, stop := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer stop()
	_, err := s.endVideo(ctx)
	require.ErrorContains(t, err, "the video could not be made")
	require.Nil(t, s.video)
}
