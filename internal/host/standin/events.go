package standin

import (
	"context"
	"fmt"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/standin/sandbox"
)

// What comes to an app from without: messages, links, being sent away, being moved.

// notice is a notification on the screen.
type notice struct{ app, text string }

// event tells the app that runs, if one does.
func (d *Device) event(ctx context.Context, name string, args ...any) error {
	if d.running == nil || d.crash != nil {
		return nil
	}
	_, err := d.turn(ctx, sandbox.Request{Op: "event", Value: name, Args: args})
	return err
}

// leave has the home screen in front of the app that runs.
func (d *Device) leave(ctx context.Context) error {
	was := d.front
	d.front, d.keyboard, d.left = false, false, d.now
	if err := d.render(); err != nil || !was {
		return err
	}
	return d.event(ctx, "away")
}

// SendAway has the home screen in front; the app goes on behind it.
func (d *Device) SendAway(ctx context.Context) error { return d.Press(ctx, "home") }

// simulated are devices that get messages pushed without anybody's service between.
type simulated struct{ *Device }

// Push delivers a message: to the app, if it runs, and as a notification where it is not in
// front and may show some.
func (d simulated) Push(ctx context.Context, app, message string) error {
	i := d.apps[app]
	switch {
	case i == nil:
		return fmt.Errorf("no app %s is installed", app)
	case len(message) > maxNotice:
		return fmt.Errorf("a message has at most %d bytes", maxNotice)
	}
	if err := d.alive(); err != nil {
		return err
	}
	text := plain.Text(message, maxNotice)
	d.write("info", "push", "a message for "+app)
	if !d.front || d.running != i {
		if d.permitted(i, "notifications") == device.Allow {
			n := &notice{app, text}
			d.banner = n
			d.laters++
			d.timers[-d.laters] = timer{at: d.now + noticeTime, stay: true, do: func(context.Context) error {
				if d.banner == n {
					d.banner = nil
				}
				return d.render()
			}}
		} else {
			d.write("info", "push", "not shown: "+app+" may show no notifications")
		}
	}
	if err := d.render(); err != nil || d.running != i {
		return err
	}
	return d.event(ctx, "message", text, false)
}

// opened follows the notification on the screen into its app.
func (d *Device) opened(ctx context.Context) error {
	n := d.banner
	if d.banner = nil; n == nil {
		return d.render()
	}
	if err := d.Start(ctx, n.app, device.Resume); err != nil {
		return err
	}
	return d.event(ctx, "message", n.text, true)
}

// OpenLink follows a link into an app: a path of its own (/tickets), or one with the last part of
// its id for a scheme (tideline://tickets).
func (d *Device) OpenLink(ctx context.Context, app, link string) error {
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	path := link
	scheme := app[strings.LastIndexByte(app, '.')+1:] + "://"
	if rest, ok := strings.CutPrefix(strings.ToLower(link), strings.ToLower(scheme)); ok {
		path = "/" + link[len(link)-len(rest):]
	}
	if path == "" || !strings.ContainsRune("/#?", rune(path[0])) || len(path) > maxNotice {
		return fmt.Errorf("%s is no link into %s: those begin with / or %s", plain.Clip(link, 100), app, scheme)
	}
	if err := d.Start(ctx, app, device.Resume); err != nil {
		return err
	}
	return d.event(ctx, "link", plain.Text(path, maxNotice))
}

// emulated are devices whose motion and battery are made up.
type emulated struct{ simulated }

// Tilt makes the device believe that it is tilted.
func (d emulated) Tilt(ctx context.Context, alpha, beta, gamma float64) error {
	if err := device.CheckTilt(alpha, beta, gamma); err != nil {
		return err
	}
	return d.moved(ctx, "tilt", alpha, beta, gamma)
}

// Shake shakes the device.
func (d emulated) Shake(ctx context.Context) error { return d.moved(ctx, "shake") }

// moved tells the app in front, if it may know.
func (d *Device) moved(ctx context.Context, event string, args ...any) error {
	if err := d.alive(); err != nil || !d.front || d.running == nil {
		return err
	}
	if d.permitted(d.running, "motion") != device.Allow {
		return nil
	}
	return d.event(ctx, event, args...)
}

// SetBattery changes how full the battery is; apps see it in os.device.charge and charging.
func (d emulated) SetBattery(ctx context.Context, percent int, charging bool) error {
	if percent < 1 || percent > 100 {
		return fmt.Errorf("a battery is 1 to 100 percent full, not %d", percent)
	}
	d.charge, d.charging = percent, charging
	return d.felt(ctx)
}
