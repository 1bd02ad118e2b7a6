package handset

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/cdproto/deviceorientation"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/performance"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/handset/pipe"
)

var (
	_ device.Presser    = (*Device)(nil)
	_ device.TextEntry  = (*Device)(nil)
	_ device.Gesturing  = (*Device)(nil)
	_ device.Rotating   = (*Device)(nil)
	_ device.Dressing   = (*Device)(nil)
	_ device.Enlarging  = (*Device)(nil)
	_ device.Speaking   = (*Device)(nil)
	_ device.Zoned      = (*Device)(nil)
	_ device.Placed     = (*Device)(nil)
	_ device.Moving     = (*Device)(nil)
	_ device.Networked  = (*Device)(nil)
	_ device.Permitting = (*Device)(nil)
	_ device.Pushed     = (*Device)(nil)
	_ device.Linking    = (*Device)(nil)
	_ device.Filing     = (*Device)(nil)
	_ device.Leaving    = (*Device)(nil)
	_ device.Logger     = (*Device)(nil)
	_ device.Live       = (*Device)(nil)
	_ device.Measured   = (*Device)(nil)
	_ device.Calling    = (*Device)(nil)
	_ device.Evaluating = (*Device)(nil)
	_ device.Debugged   = (*Device)(nil)
	_ device.Chancy     = (*Device)(nil)
)

// Perform does what fingers do.
func (d *Device) Perform(ctx context.Context, fingers ...device.Finger) error {
	if err := device.CheckFingers(fingers); err != nil {
		return err
	}
	if err := d.reach(ctx); err != nil || d.tab == nil || d.away {
		return err
	}
	if d.tab.asked() != nil || d.tab.question() != "" {
		return nil
	}
	if d.Offers != nil {
		d.scroll(fingers)
		return nil
	}
	inPage := make([]device.Finger, len(fingers))
	for i, f := range fingers {
		inPage[i] = slices.Clone(f)
		for j := range inPage[i] {
			inPage[i][j].At = d.inPixels(f[j].At)
		}
	}
	if from, to, ok := dragged(inPage); ok {
		if done, err := d.dragAndDrop(ctx, from, to); done || err != nil {
			return err
		}
	}
	if err := d.do(ctx, func(ctx context.Context) error { return perform(ctx, inPage) }); err != nil {
		return err
	}
	if at, ok := held(inPage); ok && d.tab != nil && d.tab.asked() == nil && d.tab.alive() == nil {
		if _, err := d.tab.ask(ctx, fmt.Sprintf("yamatoHeld(%g, %g)", at.X, at.Y)); err != nil &&
			!errors.Is(err, errDialog) {
			return err
		}
	}
	return nil
}

// longPress is from when on a finger that stays asks for what else there is to be done (UI Events, contextmenu, on
// touch screens).
const longPress = 500 * time.Millisecond

// held tells where one finger stays on its place for so long.
func held(fingers []device.Finger) (at screen.Point, ok bool) {
	if len(fingers) != 1 {
		return at, false
	}
	down, stays := false, time.Duration(0)
	for _, a := range fingers[0] {
		switch {
		case a.Do == "down":
			down = true
		case a.Do == "move" && down:
			return at, false
		case a.Do == "move":
			at = a.At
		case a.Do == "pause" && down:
			stays += a.Over
		}
	}
	return at, stays >= longPress
}

// perform sends one touch event for each thing that some finger does.
func perform(ctx context.Context, fingers []device.Finger) error {
	at, down := make([]screen.Point, len(fingers)), make([]bool, len(fingers))
	points := func() []*input.TouchPoint {
		out := []*input.TouchPoint{}
		for i, p := range at {
			if down[i] {
				out = append(out, &input.TouchPoint{X: p.X, Y: p.Y, ID: float64(i + 1)})
			}
		}
		return out
	}
	for step := 0; ; step++ {
		var over time.Duration
		kind, any := input.TouchType(""), false
		for i, f := range fingers {
			if step >= len(f) {
				continue
			}
			any = true
			a := f[step]
			over = max(over, a.Over)
			switch a.Do {
			case "down":
				down[i], kind = true, input.TouchStart
			case "up":
				if down[i] = false; kind == "" {
					kind = input.TouchEnd
				}
			case "move":
				if at[i] = a.At; down[i] && kind == "" {
					kind = input.TouchMove
				}
			}
		}
		if !any {
			return nil
		}
		if over > 0 {
			if err := pause(ctx, nil, time.Now().Add(over)); err != nil {
				return err
			}
		}
		if left := points(); kind == input.TouchEnd && len(left) > 0 {
			kind = input.TouchMove // an end is of all fingers; one that is missing from a move was lifted
		}
		if kind != "" {
			if err := input.DispatchTouchEvent(kind, points()).Do(ctx); err != nil {
				return err
			}
		}
	}
}

// change makes the page in front, if there is one, feel what has changed.
func (d *Device) change(ctx context.Context, how func(context.Context, *tab) error) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	if d.tab == nil {
		return nil
	}
	if err := d.tab.alive(); err != nil {
		return err
	}
	if d.tab.asked() != nil {
		return errors.New("a dialog is in front; answer it first")
	}
	d.render()
	return lost(how(ctx, d.tab))
}

// Feels tells what the handset is made to feel; what an app in front is told, its page is asked.
func (d *Device) Feels(ctx context.Context, app string) (device.Feels, error) {
	f := device.Feels{Language: d.language, Zone: d.zone, Network: d.network.Kind(), Place: d.place}.Set(d.across,
		d.dark, d.text, app,
		d.answers)
	if err := d.reach(ctx); err != nil || d.tab == nil || d.front != app || d.tab.asked() != nil ||
		d.tab.alive() != nil {
		return f, err
	}
	said, err := d.tab.ask(ctx, feltByPage)
	if err != nil {
		return f, lost(err)
	}
	var page struct {
		Dark, Across bool
		Language     string
	}
	if err := json.Unmarshal([]byte(said), &page); err != nil {
		return f, fmt.Errorf("the page does not tell what it feels: %w", err)
	}
	f.Language, f.Rotation, f.Appearance = plain.Clip(page.Language, 60), device.Portrait, "light"
	if page.Across {
		f.Rotation = device.Landscape
	}
	if page.Dark {
		f.Appearance = "dark"
	}
	return f, nil
}

// feltByPage asks a page what it is told of its surroundings.
const feltByPage = `JSON.stringify({dark: matchMedia("(prefers-color-scheme: dark)").matches,
	across: screen.orientation.type.startsWith("landscape"), language: navigator.language})`

// Rotate holds the handset upright or across.
func (d *Device) Rotate(ctx context.Context, to string) error {
	if err := device.CheckHeld(to); err != nil {
		return err
	}
	if i := d.apps[d.front]; i != nil {
		if keeps := strings.SplitN(i.bundle.Facts.Orientation, "-", 2)[0]; keeps != "" && keeps != "any" &&
			keeps != "natural" && keeps != to {
			return nil // its manifest has it one way, however the handset is held (W3C Web App Manifest, orientation)
		}
	}
	d.across = to == device.Landscape
	return d.change(ctx, func(ctx context.Context, t *tab) error {
		w, h := d.width()
		return errors.Join(t.screen(ctx, int(w), int(h), d.config.Density, d.across), d.keepClear(ctx, t))
	})
}

// SetAppearance makes the system light or dark.
func (d *Device) SetAppearance(ctx context.Context, dark bool) error {
	d.dark = dark
	return d.change(ctx, d.dress)
}

func (d *Device) dress(ctx context.Context, t *tab) error {
	scheme := "light"
	if d.dark {
		scheme = "dark"
	}
	return emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme",
		Value: scheme}, {Name: "pointer", Value: "coarse"}, {Name: "hover", Value: "none"}}).Do(t.On(ctx))
}

// usualText is the size of text that nobody has changed, in CSS pixels.
const usualText = 16

// SetTextSize shows text smaller or larger: what pages size by the reader's own setting.
func (d *Device) SetTextSize(ctx context.Context, percent int) error {
	if err := device.CheckTextSize(percent); err != nil {
		return err
	}
	d.text = percent
	return d.change(ctx, d.enlarge)
}

func (d *Device) enlarge(ctx context.Context, t *tab) error {
	return errors.Join(page.SetFontSizes(&page.FontSizes{Standard: int64(usualText * d.text / 100),
		Fixed: int64(13 * d.text / 100)}).Do(t.On(ctx)),
		emulation.SetEmulatedOSTextScale().WithScale(float64(d.text)/100).Do(t.On(ctx)))
}

// SetLanguage changes the handset's language, for pages that are open too.
func (d *Device) SetLanguage(ctx context.Context, tag string) error {
	if err := device.CheckLanguage(tag); err != nil {
		return err
	}
	d.language = tag
	return d.change(ctx, func(ctx context.Context, t *tab) error {
		if err := d.speak(ctx, t); err != nil {
			return err
		}
		_, err := t.ask(ctx, "(dispatchEvent(new Event('languagechange')), '')")
		return err
	})
}

func (d *Device) speak(ctx context.Context, t *tab) error {
	c := d.config.Device
	agent := fmt.Sprintf("Mozilla/5.0 (Linux; Android 14; %s) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/%s Mobile "+
		"Safari/537.36", c.Model, d.running.version)
	return errors.Join(emulation.SetUserAgentOverride(agent).WithAcceptLanguage(d.language).WithPlatform("Linux armv81").
		Do(t.On(ctx)), taken(emulation.SetLocaleOverride().WithLocale(strings.ReplaceAll(d.language, "-",
		"_")).Do(t.On(ctx))))
}

// taken passes over that a page has been made to feel something by another in its process: by the window
// that has opened it.
func taken(err error) error {
	if err != nil && strings.Contains(err.Error(), "override is already in effect") {
		return nil
	}
	return err
}

// SetTimeZone changes the handset's time zone.
func (d *Device) SetTimeZone(ctx context.Context, name string) error {
	if err := device.CheckZone(name); err != nil {
		return err
	}
	d.zone = name
	return d.change(ctx, d.tell)
}

func (d *Device) tell(ctx context.Context, t *tab) error {
	if d.zone == "" {
		return nil
	}
	return taken(emulation.SetTimezoneOverride(d.zone).Do(t.On(ctx)))
}

// SetPlace makes the handset believe that it is somewhere, or not know.
func (d *Device) SetPlace(ctx context.Context, at *device.Place) error {
	if err := at.Check(); err != nil {
		return err
	}
	d.place = at
	return d.change(ctx, d.stand)
}

func (d *Device) stand(ctx context.Context, t *tab) error {
	params := map[string]any{} // without any it does not know
	if d.place != nil {
		params = map[string]any{"latitude": d.place.Latitude, "longitude": d.place.Longitude,
			"accuracy": max(d.place.Accuracy, 1)}
	}
	return t.Execute(ctx, emulation.CommandSetGeolocationOverride, params, nil)
}

// Tilt makes the handset believe that it is tilted.
func (d *Device) Tilt(ctx context.Context, alpha, beta, gamma float64) error {
	if err := device.CheckTilt(alpha, beta, gamma); err != nil {
		return err
	}
	return d.change(ctx, func(ctx context.Context, t *tab) error {
		return deviceorientation.SetDeviceOrientationOverride(alpha, beta, gamma).Do(t.On(ctx))
	})
}

// shaking are the sensors that feel a shake, and what each has at rest, in m/s² and rad/s.
var shaking = map[emulation.SensorType]float64{emulation.SensorTypeAccelerometer: 9.81,
	emulation.SensorTypeLinearAcceleration: 0, emulation.SensorTypeGyroscope: 0}

// rest gives the handset sensors, before a page asks for them, that feel nothing.
func (d *Device) rest(ctx context.Context, t *tab) error {
	for kind := range shaking {
		if err := emulation.SetSensorOverrideEnabled(true, kind).Do(t.On(ctx)); err != nil {
			return err
		}
	}
	return push(t.On(ctx), 0)
}

// push has the sensors feel a push to the side, in m/s².
func push(ctx context.Context, by float64) error {
	for kind, rest := range shaking {
		if err := emulation.SetSensorOverrideReadings(kind, &emulation.SensorReading{
			Xyz: &emulation.SensorReadingXYZ{X: by, Y: by / 4, Z: rest}}).Do(ctx); err != nil {
			return err
		}
	}
	return nil
}

// Shake moves the handset to and fro, by as much as wrists do (W3C Device Orientation, devicemotion).
func (d *Device) Shake(ctx context.Context) error {
	return d.change(ctx, func(ctx context.Context, t *tab) error {
		for _, by := range []float64{22, -22, 22, -22, 22, -22, 0} {
			if err := push(t.On(ctx), by); err != nil {
				return err
			}
			if err := pause(ctx, nil, time.Now().Add(70*time.Millisecond)); err != nil {
				return err
			}
		}
		return nil
	})
}

// SetNetwork makes the network worse, or normal again.
func (d *Device) SetNetwork(ctx context.Context, n device.Network) error {
	if err := n.Check(); err != nil {
		return err
	}
	d.network = n
	return d.change(ctx, d.wire)
}

func (d *Device) wire(ctx context.Context, t *tab) error {
	rate := func(n int) float64 {
		if n == 0 {
			return -1
		}
		return float64(n)
	}
	// What is lost is sent again, and comes later for it: a delay is what pages feel of that.
	delay := float64(d.network.Delay.Milliseconds()) * (1 + 2*d.network.Loss)
	return t.Execute(ctx, "Network.emulateNetworkConditions", map[string]any{"offline": d.network.None,
		"latency":            delay,
		"downloadThroughput": rate(d.network.Download), "uploadThroughput": rate(d.network.Upload)}, nil)
}

// asked are the permissions that apps ask for, as the browser calls them.
var asked = map[string][]string{"location": {"geolocation"}, "notifications": {"notifications", "push"},
	"camera": {"camera"}, "microphone": {"microphone"}, "motion": {"accelerometer", "gyroscope", "magnetometer"}}

// SetPermission answers beforehand what an app asks for.
func (d *Device) SetPermission(ctx context.Context, app, permission, answer string) error {
	if err := device.CheckPermission(permission, answer); err != nil {
		return err
	}
	if d.apps[app] == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	if err := d.reach(ctx); err != nil {
		return err
	}
	d.answers[[2]string{app, permission}] = answer
	delete(d.given, [2]string{app, permission})
	return d.permit(ctx, app, permission, answer)
}

// Push delivers a message to the app's service worker.
func (d *Device) Push(ctx context.Context, app, message string) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	if d.tab == nil {
		return errors.New("no app is open on the handset, and pages that are not open get no messages here")
	}
	id, err := d.registration(ctx, i)
	if err != nil {
		return err
	}
	return lost(d.tab.Execute(ctx, "ServiceWorker.deliverPushMessage", map[string]any{"origin": i.origin,
		"registrationId": id, "data": message}, nil))
}

// OpenLink follows a link into an app: a path of its origin, or an address of it.
func (d *Device) OpenLink(ctx context.Context, app, link string) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	address := link
	if strings.HasPrefix(link, "/") || strings.HasPrefix(link, "#") || strings.HasPrefix(link, "?") {
		address = i.origin + "/" + strings.TrimPrefix(link, "/")
	}
	if !strings.HasPrefix(address, i.origin+"/") {
		return fmt.Errorf("%s is no link into %s, whose pages are at %s", short(link), app, i.origin)
	}
	if d.front != app || d.tab == nil || d.tab.alive() != nil {
		if err := d.Start(ctx, app, device.Resume); err != nil {
			return err
		}
	} else if err := d.comeBack(ctx); err != nil {
		return err
	}
	d.render()
	return d.visit(ctx, address)
}

// PutFiles has files chosen when an app asks next.
func (d *Device) PutFiles(ctx context.Context, paths ...string) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	for _, p := range paths {
		if _, err := os.Stat(p); err != nil {
			return fmt.Errorf("the file cannot be read on the host: %w", err)
		}
	}
	if d.tab == nil {
		return errors.New("no app is open on the handset that could ask for files")
	}
	d.tab.mu.Lock()
	defer d.tab.mu.Unlock()
	d.tab.files = slices.Clone(paths)
	return nil
}

// SendAway has the home screen in front; the app behind it stands still.
func (d *Device) SendAway(ctx context.Context) error {
	if err := d.reach(ctx); err != nil || d.tab == nil || d.away {
		return err
	}
	d.away = true
	d.render()
	return lost(d.hide(ctx, true))
}

func (d *Device) comeBack(ctx context.Context) error {
	if !d.away {
		return nil
	}
	d.away = false
	d.render()
	return lost(d.hide(ctx, false))
}

// Frames shows the screen as it moves.
func (d *Device) Frames(ctx context.Context, width, height int, show func(device.Frame) error) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	if d.tab == nil || d.away {
		return errors.New("no app is in front whose screen could move")
	}
	t := d.tab
	if t.asked() != nil {
		return errDialog
	}
	frames := make(chan page.EventScreencastFrame, 1)
	t.mu.Lock()
	t.film = frames
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		t.film = nil
		t.mu.Unlock()
		t.Post(page.CommandStopScreencast, nil)
	}()
	if err := page.StartScreencast().WithFormat(page.ScreencastFormatJpeg).WithQuality(70).WithMaxWidth(int64(width)).
		WithMaxHeight(int64(height)).Do(t.On(ctx)); err != nil {
		return lost(err)
	}
	for {
		select {
		case f := <-frames:
			data, err := base64.StdEncoding.DecodeString(f.Data)
			if err != nil {
				return err
			}
			if err := show(device.Frame{At: d.Now(), MediaType: "image/jpeg", Data: data}); err != nil {
				return err
			}
			t.Post(page.CommandScreencastFrameAck, page.ScreencastFrameAck(f.SessionID))
		case <-t.Gone:
			return lost(pipe.ErrGone)
		case <-ctx.Done():
			return nil
		}
	}
}

// readings are the browser's figures that mean something to people.
var readings = map[string]string{"JSHeapUsedSize": "memory", "TaskDuration": "cpu", "Nodes": "elements",
	"Documents": "documents", "LayoutCount": "layouts"}

// Readings tells what the page in front takes.
func (d *Device) Readings(ctx context.Context) ([]device.Reading, error) {
	if err := d.reach(ctx); err != nil || d.tab == nil || d.tab.asked() != nil || d.tab.alive() != nil {
		return nil, err // a page that a dialog holds tells nothing, and is not waited for
	}
	var list []*performance.Metric
	err := d.do(ctx, func(ctx context.Context) (err error) {
		if d.measured != d.tab { // once a page
			if err := performance.Enable().Do(ctx); err != nil {
				return err
			}
			d.measured = d.tab
		}
		list, err = performance.GetMetrics().Do(ctx)
		return err
	})
	out := []device.Reading{{Name: "network", Value: float64(d.calls.Total())}}
	for _, m := range list {
		if name := readings[m.Name]; name != "" {
			out = append(out, device.Reading{Name: name, Value: m.Value})
		}
	}
	return out, err
}

// Log gives the lines written since the last call.
func (d *Device) Log(context.Context) ([]device.LogLine, error) { return d.logs.Take(d.Now()), nil }

// Calls gives the calls over the network that have ended since the last time.
func (d *Device) Calls(context.Context) ([]device.Call, error) { return d.calls.Take(), nil }
