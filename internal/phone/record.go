package phone

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"maps"
	"os/exec"
	"strconv"
	"sync"
	"time"

	"golang.org/x/image/draw"

	"yamato/internal/core/device"
	"yamato/internal/host/driver"
)

func init() {
	maps.Copy(commands, map[string]func(*job) int{"screenrecord": screenrecord})
}

const (
	recordLimit = 180 * time.Second
	tick        = 40 * time.Millisecond // that the device's clock goes on by at least, while it is recorded
)

// screenrecord writes the screen as it moves, in H.264 (ITU-T H.264, Annex B), until its time is over or nobody reads.
func screenrecord(j *job) int {
	w, h, limit, raw := j.phone.config.Width, j.phone.config.Height, recordLimit, false
	for i, a := range j.args {
		next := ""
		if i+1 < len(j.args) {
			next = j.args[i+1]
		}
		switch a {
		case "--output-format=h264":
			raw = true
		case "--size":
			if n, err := fmt.Sscanf(next, "%dx%d", &w, &h); n != 2 || err != nil || w < 2 || h < 2 || w > 4096 || h > 4096 {
				return j.fail(2, "Invalid size '%s', must be width x height", next)
			}
		case "--time-limit":
			n, err := strconv.Atoi(next)
			if limit = time.Duration(n) * time.Second; err != nil || n < 1 || limit > recordLimit {
				return j.fail(2, "Time limit %ss outside acceptable range [1,180]", next)
			}
		}
	}
	program, err := exec.LookPath("ffmpeg")
	if err != nil || !raw {
		return j.fail(1, "ERROR: unable to create video/avc codec instance")
	}
	ctx, stop := context.WithTimeout(j.ctx, limit)
	defer stop()
	coder := exec.CommandContext(ctx, program, "-hide_banner", "-loglevel", "error", "-f", "rawvideo", "-pix_fmt", "rgba",
		"-s", fmt.Sprintf("%dx%d", w, h), "-framerate", "25", "-i", "pipe:0", "-fps_mode", "passthrough", "-c:v", "libx264", "-preset", "ultrafast",
		"-tune", "zerolatency", "-threads", "1", "-pix_fmt", "yuv420p", "-g", "50", "-f", "h264", "pipe:1")
	coder.WaitDelay = time.Second
	coder.Stdout = j.out
	in, err := coder.StdinPipe()
	if err == nil {
		err = coder.Start()
	}
	if err != nil {
		return j.fail(1, "ERROR: %v", err)
	}
	var work sync.WaitGroup
	work.Go(func() { // time passes on the phone whether or not anybody does something
		t := time.NewTicker(tick)
		defer t.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-t.C:
				_ = j.phone.with(ctx, func(driver.Device) error { return nil })
			}
		}
	})
	err = j.phone.film(ctx, w, h, func(picture []byte) error { _, err := in.Write(picture); return err })
	stop()
	_ = in.Close()
	work.Wait()
	_ = coder.Wait()
	if err != nil {
		return 1
	}
	return 0
}

// film shows the screen as it moves: pictures of four bytes a pixel, of a size.
func (p *Phone) film(ctx context.Context, w, h int, show func(picture []byte) error) error {
	l, ok := device.As[device.Live](p.body.device)
	if !ok {
		return device.ErrNoAbility
	}
	if err := p.with(ctx, func(driver.Device) error { return nil }); err != nil { // it is up
		return err
	}
	p.lock()
	var free sync.Once
	defer free.Do(p.using.Unlock)
	return l.Frames(ctx, w, h, func(f device.Frame) error {
		free.Do(p.using.Unlock) // from its first frame on, frames are drawn beside what else is done
		img, err := jpeg.Decode(bytes.NewReader(f.Data))
		if err != nil {
			return err
		}
		whole := image.NewRGBA(image.Rect(0, 0, w, h))
		b := img.Bounds()
		part := min(float64(w)/float64(b.Dx()), float64(h)/float64(b.Dy()))
		dx, dy := int(float64(b.Dx())*part), int(float64(b.Dy())*part)
		at := image.Rect((w-dx)/2, (h-dy)/2, (w-dx)/2+dx, (h-dy)/2+dy)
		if dx == b.Dx() && dy == b.Dy() {
			draw.Draw(whole, at, img, b.Min, draw.Src)
		} else {
			draw.ApproxBiLinear.Scale(whole, at, img, b, draw.Src, nil)
		}
		return show(whole.Pix)
	})
}
