package remote

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"os"
	"time"

	"github.com/shirou/gopsutil/v4/process"
	xdraw "golang.org/x/image/draw"

	"yamato/internal/core/device"
	"yamato/internal/host/driver"
)

// GeckoDevice is a handset with Gecko.
type GeckoDevice struct{ *browserDevice }

// WebKitDevice is a handset with WebKit.
type WebKitDevice struct{ *browserDevice }

var (
	_ driver.Device     = (*GeckoDevice)(nil)
	_ device.Virtual    = (*GeckoDevice)(nil)
	_ device.Presser    = (*browserDevice)(nil)
	_ device.TextEntry  = (*browserDevice)(nil)
	_ device.Gesturing  = (*browserDevice)(nil)
	_ device.Rotating   = (*browserDevice)(nil)
	_ device.Dressing   = (*browserDevice)(nil)
	_ device.Enlarging  = (*browserDevice)(nil)
	_ device.Speaking   = (*browserDevice)(nil)
	_ device.Zoned      = (*browserDevice)(nil)
	_ device.Linking    = (*browserDevice)(nil)
	_ device.Removing   = (*browserDevice)(nil)
	_ device.Logger     = (*browserDevice)(nil)
	_ device.Measured   = (*browserDevice)(nil)
	_ device.Calling    = (*browserDevice)(nil)
	_ device.Evaluating = (*browserDevice)(nil)
	_ device.Aware      = (*browserDevice)(nil)
	_ device.Tidying    = (*browserDevice)(nil)
	_ device.Hindered   = (*browserDevice)(nil)
	_ device.Placed     = (*GeckoDevice)(nil)
	_ device.Permitting = (*GeckoDevice)(nil)
	_ device.Networked  = (*GeckoDevice)(nil)
	_ device.Filing     = (*GeckoDevice)(nil)
	_ device.Leaving    = (*GeckoDevice)(nil)
	_ device.Chancy     = (*GeckoDevice)(nil)
	_ device.Live       = (*GeckoDevice)(nil)
	_ driver.Device     = (*WebKitDevice)(nil)
)

// NewGecko gives a handset with Gecko that is switched off. keeper is the command that starts a keeper; path is the
// browser's, looked for where "".
func NewGecko(c Config, keeper []string, path string) *GeckoDevice {
	d := &GeckoDevice{newDevice(c, "Gecko")}
	d.engine, d.knows = newGecko(keeper, path, d.tells()), true
	d.config.Device.Abilities = append([]string{"back", "tree"}, device.Names(d)...)
	return d
}

// SetPlace makes the handset believe that it is somewhere, or not know.
func (d *GeckoDevice) SetPlace(ctx context.Context, at *device.Place) error {
	if err := at.Check(); err != nil {
		return err
	}
	d.place = at
	return d.change(ctx)
}

// SetPermission answers beforehand what an app asks for.
func (d *GeckoDevice) SetPermission(ctx context.Context, app, permission, answer string) error {
	if err := device.CheckPermission(permission, answer); err != nil {
		return err
	}
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	if err := d.reach(ctx); err != nil {
		return err
	}
	d.answers[[2]string{app, permission}] = answer
	delete(d.given, [2]string{app, permission})
	if permission == "motion" {
		return nil // nobody asks for it where nothing moves
	}
	return d.engine.permit(ctx, d.page(i), permission, answer)
}

// SetNetwork takes the network away, or gives it back.
func (d *GeckoDevice) SetNetwork(ctx context.Context, n device.Network) error {
	if err := n.Check(); err != nil {
		return err
	}
	if n != (device.Network{}) && !n.None {
		return fmt.Errorf("a slow network: %w", device.ErrNoAbility)
	}
	d.network = n
	return d.change(ctx)
}

// PutFiles has files chosen when an app asks next.
func (d *GeckoDevice) PutFiles(ctx context.Context, paths ...string) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	for _, p := range paths {
		if _, err := os.Stat(p); err != nil {
			return fmt.Errorf("the file cannot be read on the host: %w", err)
		}
	}
	if d.front == "" {
		return errors.New("no app is open on the handset that could ask for files")
	}
	d.engine.choose(paths)
	return nil
}

// SendAway has the home screen in front; the app behind it stands still.
func (d *GeckoDevice) SendAway(ctx context.Context) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	return d.sendAway(ctx)
}

// SetChance makes what scripts draw from Math.random a function of seed, in apps that are started from now on.
func (d *WebKitDevice) SetChance(seed uint64) { d.seed = seed }

// SetChance makes what scripts draw from Math.random a function of seed, in apps that are started from now on.
func (d *GeckoDevice) SetChance(seed uint64) { d.seed = seed }

// frameEvery is how often a screen is drawn that somebody looks at: each is a whole picture.
const frameEvery = 150 * time.Millisecond

// Frames shows the screen as it moves: whole pictures, where something has changed. It goes on beside other calls, as
// what is spoken has answers to several commands at once; a session of W3C WebDriver has not, and no such ability.
func (d *GeckoDevice) Frames(ctx context.Context, width, height int, show func(device.Frame) error) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	if d.front == "" || d.away {
		return errors.New("no app is in front whose screen could move")
	}
	if d.engine.asked() != nil {
		return errDialog
	}
	page := d.engine.(*gecko).bidiPage // that of now, whatever becomes of the browser meanwhile
	w, h := d.size()
	var last []byte
	for ctx.Err() == nil {
		began := time.Now()
		data, err := page.picture(ctx)
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		if !bytes.Equal(data, last) {
			last = data
			img, err := (picture{data, w, h}).Image()
			if err != nil {
				return err
			}
			frame, err := small(img, width, height)
			if err != nil {
				return err
			}
			if err := show(device.Frame{At: d.Now(), MediaType: "image/jpeg", Data: frame}); err != nil {
				return err
			}
		}
		if err := pause(ctx, began.Add(frameEvery)); err != nil {
			return nil
		}
	}
	return nil
}

// small is a picture as a JPEG, at most as wide and high as asked.
func small(img image.Image, width, height int) ([]byte, error) {
	b := img.Bounds()
	scale := min(1, float64(width)/float64(b.Dx()), float64(height)/float64(b.Dy()))
	if scale < 1 {
		out := image.NewRGBA(image.Rect(0, 0, max(1, int(float64(b.Dx())*scale)), max(1, int(float64(b.Dy())*scale))))
		xdraw.ApproxBiLinear.Scale(out, out.Bounds(), img, b, xdraw.Src, nil)
		img = out
	}
	var buf bytes.Buffer
	err := jpeg.Encode(&buf, img, &jpeg.Options{Quality: 70})
	return buf.Bytes(), err
}

// Readings tells what the browser takes, all of its processes together.
func (d *browserDevice) Readings(ctx context.Context) ([]device.Reading, error) {
	if err := d.reach(ctx); err != nil || d.front == "" {
		return nil, err
	}
	d.mu.Lock()
	total := d.net.total
	d.mu.Unlock()
	out := []device.Reading{{Name: "network", Value: float64(total)}}
	root, err := process.NewProcessWithContext(ctx, int32(d.engine.keeper()))
	if err != nil {
		return out, nil
	}
	var memory, cpu float64
	var add func(p *process.Process, deep int)
	add = func(p *process.Process, deep int) {
		if m, err := p.MemoryInfoWithContext(ctx); err == nil {
			memory += float64(m.RSS)
		}
		if t, err := p.TimesWithContext(ctx); err == nil {
			cpu += t.User + t.System
		}
		if deep < 6 {
			kids, _ := p.ChildrenWithContext(ctx) // none is an error too
			for _, k := range kids {
				add(k, deep+1)
			}
		}
	}
	add(root, 0)
	return append(out, device.Reading{Name: "memory", Value: memory}, device.Reading{Name: "cpu", Value: cpu}), nil
}

// NewWebKit gives a handset with WebKit that is switched off.
func NewWebKit(c Config, keeper []string, path string) *WebKitDevice {
	c.Density = 1 // its windows have no other
	d := &WebKitDevice{newDevice(c, "WebKit")}
	d.engine, d.knows = newWebKit(keeper, path, d.tells()), true
	d.config.Device.Abilities = append([]string{"back", "tree"}, device.Names(d)...)
	return d
}
