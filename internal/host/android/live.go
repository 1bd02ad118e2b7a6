package android

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"net"
	"os"
	"os/exec"
	"sync"
	"time"

	"golang.org/x/image/draw"

	"yamato/internal/core/device"
)

var _ device.Live = (*Device)(nil)

const (
	recordLimit = 170 * time.Second // the OS's recorder ends by itself after 180
	stillEvery  = 300 * time.Millisecond
	settled     = 150 * time.Millisecond // that the recorder has been silent for, until a still tells how the screen came to rest
	maxFrame    = 4 << 20                // bytes of one frame
)

// errNoRecorder tells that a phone, or this host, has no way to show how the screen moves.
var errNoRecorder = errors.New("the screen cannot be recorded")

// Frames shows the screen as it moves: by the OS's own recorder, in H.264, where the phone has one and this host can read
// that; else by stills.
func (d *Device) Frames(ctx context.Context, width, height int, show func(device.Frame) error) error {
	if width < 1 || height < 1 {
		return errors.New("a frame is at least one pixel wide and high")
	}
	f := &film{device: d, width: width, height: height, show: show}
	if err := f.still(ctx); err != nil {
		return endedOr(ctx, err)
	}
	for ctx.Err() == nil {
		err := f.record(ctx)
		if errors.Is(err, errNoRecorder) {
			return endedOr(ctx, f.stills(ctx))
		}
		if err != nil {
			return endedOr(ctx, err)
		}
	}
	return nil
}

func endedOr(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// film is somebody's view of the screen.
type film struct {
	device        *Device
	width, height int
	show          func(device.Frame) error

	mu     sync.Mutex
	newest []byte        // a frame that nobody has seen, nil for none
	came   time.Time     // when the recorder gave something last
	rested bool          // what is shown is how the screen came to rest
	more   chan struct{} // something came
}

// still shows what is on the screen now.
func (f *film) still(ctx context.Context) error {
	data, err := f.taken(ctx)
	if err != nil || bytes.Equal(data, f.newest) {
		return err
	}
	f.newest = data
	return f.give(data)
}

// taken is what is on the screen now.
func (f *film) taken(ctx context.Context) ([]byte, error) {
	p, err := f.device.Picture(ctx)
	if err != nil {
		return nil, err
	}
	img, err := p.Image()
	if err != nil {
		return nil, err
	}
	return f.fit(img)
}

func (f *film) give(data []byte) error {
	return f.show(device.Frame{At: f.device.Now(), MediaType: "image/jpeg", Data: data})
}

// fit makes a picture no larger than is asked for.
func (f *film) fit(img image.Image) ([]byte, error) {
	b := img.Bounds()
	part := min(1, float64(f.width)/float64(b.Dx()), float64(f.height)/float64(b.Dy()))
	small := image.NewRGBA(image.Rect(0, 0, max(1, int(float64(b.Dx())*part)), max(1, int(float64(b.Dy())*part))))
	draw.ApproxBiLinear.Scale(small, small.Bounds(), img, b, draw.Src, nil)
	var out bytes.Buffer
	err := jpeg.Encode(&out, small, &jpeg.Options{Quality: 75})
	return out.Bytes(), err
}

// stills shows what has changed, again and again.
func (f *film) stills(ctx context.Context) error {
	for {
		t := time.NewTimer(stillEvery)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return nil
		}
		if err := f.still(ctx); err != nil {
			return err
		}
	}
}

// record shows what the phone's recorder gives, until that ends by itself or the phone is turned.
func (f *film) record(ctx context.Context) error {
	program, err := exec.LookPath("ffmpeg")
	if err != nil {
		return errNoRecorder
	}
	serial, ok := f.device.at()
	if !ok {
		return errAway
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	turns := f.device.turns.Load()
	w, h := f.size()
	line := fmt.Sprintf("screenrecord --output-format=h264 --bit-rate 4000000 --size %dx%d --time-limit %d -", w, h, int(recordLimit.Seconds()))
	phone, err := f.device.server.dial(ctx, "host:transport:"+serial, "exec:"+line)
	if err != nil {
		return err
	}
	defer phone.Close()
	decoder := exec.CommandContext(ctx, program, "-hide_banner", "-loglevel", "error", "-flags", "low_delay",
		"-probesize", "32", "-analyzeduration", "1", "-threads", "1", "-f", "h264", "-i", "pipe:0", "-fps_mode", "passthrough",
		"-threads", "1", "-flush_packets", "1", "-f", "image2pipe", "-c:v", "mjpeg", "-q:v", "5", "pipe:1")
	decoder.WaitDelay = 2 * time.Second
	in, err := decoder.StdinPipe()
	if err != nil {
		return err
	}
	out, err := decoder.StdoutPipe()
	if err != nil {
		return err
	}
	if err := decoder.Start(); err != nil {
		return errNoRecorder
	}
	f.newest, f.came, f.rested, f.more = nil, time.Now(), false, make(chan struct{}, 1)
	var work sync.WaitGroup
	work.Go(func() { // ends with the phone's connection or the decoder
		pass(in, phone)
		_ = in.Close()
	})
	work.Go(func() {
		err := readFrames(out, f.put)
		stop(cmp.Or(err, io.EOF))
	})
	err = f.deliver(ctx, turns)
	stop(io.EOF)
	_ = phone.Close()
	_ = in.Close()
	work.Wait()
	_ = decoder.Wait()
	if errors.Is(err, io.EOF) {
		err = nil // the recording ended while a still was taken
	}
	switch {
	case err != nil:
		return err
	case f.newest == nil && f.device.turns.Load() == turns:
		return errNoRecorder // whatever came is no recording: the phone has no recorder, or its screen may not be recorded
	}
	return nil
}

// breath is how long the recorder has to be silent for what it gave to be whole: it writes a picture at once.
const breath = 30 * time.Millisecond

// delimiter is an access unit delimiter (ITU-T H.264, 7.3.2.4): a decoder takes it for the end of the picture before, which
// it otherwise holds back until the next begins.
var delimiter = []byte{0, 0, 0, 1, 9, 0xf0}

// pass gives the decoder what the phone records, until that ends, and tells it where a picture is whole.
func pass(to io.Writer, from net.Conn) {
	buffer, open := make([]byte, 64<<10), false
	for {
		if open {
			_ = from.SetReadDeadline(time.Now().Add(breath))
		} else {
			_ = from.SetReadDeadline(time.Time{})
		}
		n, err := from.Read(buffer)
		if n > 0 {
			open = true
			if _, err := to.Write(buffer[:n]); err != nil {
				return
			}
		}
		switch {
		case err == nil:
		case errors.Is(err, os.ErrDeadlineExceeded) && open:
			open = false
			if _, err := to.Write(delimiter); err != nil {
				return
			}
		default:
			return
		}
	}
}

// size is that of the recording: even, in the form of the screen, no larger than is asked for.
func (f *film) size() (w, h int) {
	facts := f.device.facts
	fw, fh := float64(facts.Width), float64(facts.Height)
	if f.device.across.Load() != (fw > fh) {
		fw, fh = fh, fw
	}
	part := min(float64(f.width)/fw, float64(f.height)/fh, f.device.scale)
	even := func(n float64) int { return max(2, int(n)&^1) }
	return even(fw * part), even(fh * part)
}

// put has a frame be the newest.
func (f *film) put(data []byte) {
	f.mu.Lock()
	f.newest, f.came, f.rested = data, time.Now(), false
	f.mu.Unlock()
	select {
	case f.more <- struct{}{}:
	default:
	}
}

// deliver shows frames as they come. What the screen has come to rest at is taken as a still besides: a recording is never as
// sharp, and a picture that came in two pieces may be broken.
func (f *film) deliver(ctx context.Context, turns int64) error {
	watch := time.NewTicker(settled)
	defer watch.Stop()
	for {
		select {
		case <-ctx.Done():
			if err := context.Cause(ctx); !errors.Is(err, io.EOF) && !errors.Is(err, context.Canceled) {
				return err
			}
			return nil
		case <-watch.C:
			if f.device.turns.Load() != turns {
				return nil
			}
			f.mu.Lock()
			rest := !f.rested && time.Since(f.came) >= settled
			f.rested = f.rested || rest
			f.mu.Unlock()
			if rest {
				data, err := f.taken(ctx)
				if err == nil {
					err = f.give(data)
				}
				if err != nil {
					return err
				}
			}
		case <-f.more:
			f.mu.Lock()
			data := f.newest
			f.mu.Unlock()
			if err := f.give(data); err != nil {
				return err
			}
		}
	}
}

// readFrames reads JPEG pictures that follow each other: each begins with its mark, and ends with another that stands nowhere
// within one (ITU-T T.81, B.1.1.3).
func readFrames(r io.Reader, put func([]byte)) error {
	var frame []byte
	buffer := make([]byte, 64<<10)
	for {
		n, err := r.Read(buffer)
		for b := buffer[:n]; len(b) > 0; {
			end := bytes.Index(b, []byte{0xff, 0xd9})
			if len(frame) > 0 && frame[len(frame)-1] == 0xff && b[0] == 0xd9 {
				end = -1
				frame, b = append(frame, 0xd9), b[1:]
				put(frame)
				frame = nil
				continue
			}
			if end < 0 {
				frame, b = append(frame, b...), nil
			} else {
				put(append(frame, b[:end+2]...))
				frame, b = nil, b[end+2:]
			}
			if len(frame) > maxFrame {
				return errors.New("the decoder gives a frame that does not end")
			}
		}
		if err != nil {
			return err
		}
	}
}
