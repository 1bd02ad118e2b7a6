package byhand

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/link"
)

// film is the screen as it moves, on its way to who watches: the newest frame, and those that are on
// their way.
type film struct {
	mu     sync.Mutex
	shown  *sync.Cond // the newest frame was sent, or nobody waits for it
	newest device.Frame
	number int64   // of the newest
	sent   int64   // number of the one sent last
	flying []int64 // numbers of frames that were sent and not acknowledged
	size   link.Size
	sizes  int // how often the size has changed
	width  int // of the screen, in its own units
	height int
	times  [frameTimes]frameTime
	rings  chan struct{}
	onShow func(device.Frame) // the video takes frames too; nil where none is made
	still  string             // why the screen does not move, "" where it does
	end    context.CancelFunc // of the frames that come now, nil where none do
	done   chan error
	closed bool
}

type frameTime struct {
	number int64
	at     time.Duration
}

// Bounds of frames on their way.
const (
	frameTimes  = 128 // of which it is remembered when they were taken
	inFlight    = 2
	frameWait   = 100 * time.Millisecond // that a frame waits to be sent before the device may make another
	usualWidth  = 420
	usualHeight = 900
	maxSide     = 2400
)

func (f *film) wake() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	f.shown.Broadcast()
}

// fresh begins anew for who has come just now: the newest frame is sent at once.
func (f *film) fresh() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.flying, f.sent = nil, 0
	f.ring()
}

// acknowledged notes that somebody has been shown a frame; those before it are of no use any more.
func (f *film) acknowledged(number int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if number > f.sent { // nobody has been shown what was not sent
		return
	}
	f.flying = slices.DeleteFunc(f.flying, func(n int64) bool { return n <= number })
	f.ring()
}

func (f *film) resize(to link.Size) {
	f.mu.Lock()
	defer f.mu.Unlock()
	to = link.Size{Width: min(max(to.Width, 80), maxSide), Height: min(max(to.Height, 80), maxSide)}
	if to != f.size {
		f.size = to
		f.sizes++
	}
}

func (f *film) ring() {
	if f.rings == nil {
		f.rings = make(chan struct{}, 1)
	}
	select {
	case f.rings <- struct{}{}:
	default:
	}
}

func (f *film) stillWhy() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.still
}

// take has a frame be the newest. It returns when that is on its way, or after a moment: what
// is made meanwhile nobody would see.
func (f *film) take(frame device.Frame) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(frame.Data) > link.MaxFrame || bytes.Equal(frame.Data, f.newest.Data) {
		return
	}
	f.number++
	f.newest = frame
	f.times[f.number%frameTimes] = frameTime{f.number, frame.At}
	if f.onShow != nil {
		f.onShow(frame)
	}
	f.ring()
	late := false // as the timer says, once: a clock that is read after it was set may find it early, and nobody wakes twice
	timer := time.AfterFunc(frameWait, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		late = true
		f.shown.Broadcast()
	})
	defer timer.Stop()
	for f.sent < f.number && !f.closed && !late {
		f.shown.Wait()
	}
}

// takenAt gives when a frame was taken, in device time.
func (f *film) takenAt(number int64) (time.Duration, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if number <= 0 || number > f.number { // it comes from outside
		return 0, false
	}
	t := f.times[number%frameTimes]
	return t.at, t.number == number
}

// send sends frames as they may go, until ctx ends.
func (f *film) send(ctx context.Context, out *outlet) {
	f.mu.Lock()
	f.ring()
	rings := f.rings
	f.mu.Unlock()
	for {
		select {
		case <-rings:
		case <-ctx.Done():
			return
		}
		conn := out.live()
		f.mu.Lock()
		ready := conn != nil && len(f.flying) < inFlight && f.sent < f.number
		var body []byte
		if ready {
			f.flying, f.sent = append(f.flying, f.number), f.number
			body = link.EncodeFrame(link.FrameHead{Number: f.number, AtMS: f.newest.At.Milliseconds(), Width: f.width,
				Height: f.height}, f.newest.Data)
			f.shown.Broadcast()
		}
		f.mu.Unlock()
		if ready {
			_ = conn.SendFrame(ctx, body) // a broken socket is noticed by who hears from it
		}
	}
}

// watch sees to it that frames come, where the device can show its screen as it moves; else, and while
// it cannot, a single picture is taken of each new screen. It belongs to who has the device.
func (s *sitting) watch(ctx context.Context) {
	f := &s.film
	f.mu.Lock()
	running, sizes, size := f.end != nil, f.sizes, f.size
	if size.Width == 0 {
		size = link.Size{Width: usualWidth, Height: usualHeight}
	}
	f.width, f.height = int(s.tree.Width), int(s.tree.Height)
	f.mu.Unlock()
	if running {
		select {
		case err := <-f.done:
			f.stopped(err)
		default:
			if sizes == s.filmed.sizes {
				return
			}
			f.stop()
		}
	}
	live, ok := device.As[device.Live](s.Device)
	switch {
	case s.Private:
		s.single("this is somebody's own device: only the app in hand is shown, one picture at a time")
		return
	case !ok:
		s.single("this device's driver cannot show its screen as it moves: one picture at a time")
		return
	}
	if s.filmed.front == s.tree.App && s.filmed.sizes == sizes && time.Since(s.filmed.tried) < quietLook {
		s.single("")
		return
	}
	s.filmed = filmed{sizes, s.tree.App, time.Now()}
	own, end := context.WithCancel(ctx)
	begun, done := make(chan struct{}), make(chan error, 1)
	var once sync.Once
	go func() { // ends with own, and whoever ends that waits for done
		done <- contain.Do("showing a screen", func() error {
			return live.Frames(own, size.Width, size.Height, func(frame device.Frame) error {
				once.Do(func() { close(begun) })
				f.take(frame)
				return own.Err()
			})
		})
	}()
	late := time.NewTimer(2 * quietLook)
	defer late.Stop()
	select {
	case <-begun:
	case err := <-done:
		end()
		f.stopped(err)
		s.single("")
		return
	case <-late.C:
	}
	f.mu.Lock()
	f.end, f.done, f.still = end, done, ""
	f.mu.Unlock()
}

// filmed is for what frames were asked for last.
type filmed struct {
	sizes int
	front string
	tried time.Time
}

// stopped notes that no frames come any more.
func (f *film) stopped(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.end != nil {
		f.end()
	}
	f.end, f.done = nil, nil
	if err != nil && !errors.Is(err, context.Canceled) {
		f.still = "the screen does not move now: " + err.Error()
	}
}

// stop ends the frames and waits until they have.
func (f *film) stop() {
	f.mu.Lock()
	end, done := f.end, f.done
	f.mu.Unlock()
	if end == nil {
		return
	}
	end()
	f.mu.Lock()
	f.shown.Broadcast()
	f.mu.Unlock()
	<-done
	f.stopped(nil)
}

// single shows one picture of a screen that has not been shown yet.
func (s *sitting) single(why string) {
	f := &s.film
	if why != "" {
		f.mu.Lock()
		f.still = why
		f.mu.Unlock()
	}
	if s.pictured == s.tree.Revision {
		return
	}
	p, err := s.Device.Picture(context.Background())
	if err != nil {
		return
	}
	png, err := s.Draw(p)
	if err != nil {
		return
	}
	s.pictured = s.tree.Revision
	f.take(device.Frame{At: s.Device.Now(), MediaType: "image/png", Data: png})
}
