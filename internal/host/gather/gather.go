// Package gather gathers what is to be kept of a case while it runs: what the app takes, what it
// asks the network for, and the screen as it moves. What costs time (drawing, encoding, sending)
// is done by others, afterwards.
package gather

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"sync"
	"time"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/readings"
	"yamato/internal/host/video"
)

// Bounds of what is gathered of one case.
const (
	maxCalls   = 10_000
	maxCallsIn = 24 << 20              // bytes of all calls with what they carried
	firstFrame = 2 * time.Second       // that a screen which begins to be watched is waited for
	frameEvery = 40 * time.Millisecond // between two frames, at the least
	width      = 480                   // of frames, at most
	height     = 1040
)

// Gathering is what is gathered of one case. One goroutine drives it and the device; frames come
// from another, which ends with End.
type Gathering struct {
	Calls   []device.Call
	Dropped int // calls
	Series  readings.Series
	Reel    *video.Reel // frames of a screen that moves by the wall's clock; nil where there are none

	device  device.Device
	keeping evidence.Keeping
	began   time.Duration
	next    time.Duration // when the next readings are due
	size    int           // of the calls

	stop context.CancelFunc
	done chan struct{}
}

// Begin begins gathering of a case that began at a moment of the device's. Frames go to a folder
// below dir. The screen of a private device is never watched: it may show what is none of ours.
func Begin(ctx context.Context, d device.Device, private bool, k evidence.Keeping, began time.Duration, dir string,
	room *video.Room) *Gathering {
	g := &Gathering{device: d, keeping: k, began: began, next: began}
	if c, ok := device.As[device.Calling](d); ok {
		_, _ = c.Calls(ctx) // what was before is not this case's
	}
	if _, live := device.As[device.Live](d); live && k.May(evidence.Video.Rule) && !device.Leaps(d) && !private {
		g.Reel = video.NewReel(dir, room)
		g.Watch(ctx)
	}
	g.Look(ctx)
	return g
}

// Due tells when readings are due next; far away where none are wanted.
func (g *Gathering) Due() (time.Duration, bool) {
	_, measured := device.As[device.Measured](g.device)
	return g.next, measured && g.keeping.May(evidence.Readings.Rule)
}

// Look takes in what there is now. Trouble is for the steps to tell.
func (g *Gathering) Look(ctx context.Context) {
	now := g.device.Now()
	if m, ok := device.As[device.Measured](g.device); ok && now >= g.next && g.keeping.May(evidence.Readings.Rule) {
		g.next = now + readings.EveryMS*time.Millisecond
		if list, err := m.Readings(ctx); err == nil {
			g.Series.Add((now - g.began).Milliseconds(), list)
		}
	}
	if c, ok := device.As[device.Calling](g.device); ok && g.keeping.May(evidence.Network.Rule) {
		list, err := c.Calls(ctx)
		if err != nil {
			return
		}
		for _, one := range list {
			if one.AtMS -= g.began.Milliseconds(); one.AtMS < 0 { // it was asked for before the case
				continue
			}
			n := one.Weight()
			if len(g.Calls) >= maxCalls || g.size+n > maxCallsIn {
				g.Dropped++
				continue
			}
			g.Calls, g.size = append(g.Calls, one), g.size+n
		}
	}
}

// Watch has the screen be watched from now on: an app has come to the front.
func (g *Gathering) Watch(ctx context.Context) {
	live, ok := device.As[device.Live](g.device)
	if g.Reel == nil || !ok {
		return
	}
	g.unwatch()
	ctx, stop := context.WithCancel(ctx)
	g.stop, g.done = stop, make(chan struct{})
	first := make(chan struct{})
	once := &sync.Once{}
	go func(done chan struct{}) { // ends with unwatch, which waits for it
		defer close(done)
		defer once.Do(func() { close(first) })
		pace := time.NewTicker(frameEvery)
		defer pace.Stop()
		_ = contain.Do("filming a screen", func() error {
			// without an app in front there is nothing to be seen
			return live.Frames(ctx, width, height, func(f device.Frame) error {
				once.Do(func() { close(first) })
				err := g.Reel.Add(f.At-g.began, f.MediaType, f.Data)
				select { // the device makes the next once this one is taken
				case <-pace.C:
				case <-ctx.Done():
				}
				return err
			})
		})
	}(g.done)
	wait := time.NewTimer(firstFrame)
	defer wait.Stop()
	select { // until then nothing else is asked of the device
	case <-first:
	case <-wait.C:
		g.unwatch() // it is watched again when an app comes to the front
	case <-ctx.Done():
	}
}

func (g *Gathering) unwatch() {
	if g.stop == nil {
		return
	}
	g.stop()
	<-g.done
	g.stop = nil
}

// End ends gathering. What has been gathered stays, until Discard.
func (g *Gathering) End(ctx context.Context) {
	g.next = 0
	g.Look(ctx)
	g.unwatch()
}

// Discard removes what was put on the disk.
func (g *Gathering) Discard() {
	g.unwatch()
	if g.Reel != nil {
		g.Reel.Discard()
	}
}

// Readings gives the figures as they are kept, CSV compressed, with what they come to; nil where there are none.
func (g *Gathering) Readings() (packed []byte, facts map[string]any, err error) {
	if len(g.Series.At) == 0 {
		return nil, nil, nil
	}
	var b bytes.Buffer // bounded by readings.MaxMoments
	z := gzip.NewWriter(&b)
	err = errors.Join(g.Series.Write(z), z.Close())
	return b.Bytes(), map[string]any{"sums": g.Series.Sums()}, err
}

// Weight is about how many bytes it takes in memory.
func (g *Gathering) Weight() int64 {
	return int64(g.size) + int64(len(g.Series.At)*(len(g.Series.Names)+1)*8)
}
