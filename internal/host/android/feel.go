package android

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/host/driver"
)

// What a phone is made to feel. It is put back as it was, not as somebody thinks that phones are: what it was like before
// is written down on the phone itself, so that whoever comes after a host that was killed can put it back as well.

// wasFile is where a phone keeps what it was like.
const wasFile = "/data/local/tmp/yamato-was"

// setting is something of a phone's that can be changed, read, and put back.
type setting struct {
	read  string // the line that says it
	write string // the line that changes it; what it is to be is its last word
	// value finds it in what the phone says, and is all that is ever written.
	value *regexp.Regexp
	unset string // the line that takes it away, where it says null
}

func system(space, key, value string) setting {
	return setting{read: "settings get " + space + " " + key, write: "settings put " + space + " " + key,
		value: regexp.MustCompile(`(?m)^(` + value + `|null)\s*$`), unset: "settings delete " + space + " " + key}
}

// settings are those that are changed here, by name.
var settings = map[string]setting{
	"turning": system("system", "accelerometer_rotation", "[01]"),
	"held":    system("system", "user_rotation", "[0-3]"),
	"text":    system("system", "font_scale", `\d{1,2}(?:\.\d{1,6})?`),
	"night": {read: "cmd uimode night", write: "cmd uimode night",
		value: regexp.MustCompile(`(?m)^Night mode: (yes|no|auto)\s*$`)},
	"zone": {read: "getprop persist.sys.timezone", write: "cmd alarm set-timezone",
		value: regexp.MustCompile(`(?m)^([A-Za-z][A-Za-z0-9_+\-/]{0,59})\s*$`)},
	"flight": {read: "settings get global airplane_mode_on", write: "cmd connectivity airplane-mode",
		value: regexp.MustCompile(`(?m)^([01])\s*$`)},
	"wifi": {read: "settings get global wifi_on", write: "svc wifi", value: regexp.MustCompile(`(?m)^([0-2])\s*$`)},
	"data": {read: "settings get global mobile_data", write: "svc data", value: regexp.MustCompile(`(?m)^([01])\s*$`)},
}

// takes tells whether a value is one that the phone may have said.
func (s setting) takes(value string) bool {
	m := s.value.FindStringSubmatch(value)
	if m == nil {
		m = s.value.FindStringSubmatch("Night mode: " + value)
	}
	return m != nil && m[1] == value
}

// switches are how what is 0 or 1 is said to those that take words.
var switches = map[string]string{"0": "disable", "1": "enable", "2": "enable"}

// putting gives the line that changes a setting.
func (s setting) putting(name, value string) string {
	switch {
	case value == "null":
		return s.unset
	case name == "flight" || name == "wifi" || name == "data":
		return s.write + " " + switches[value]
	}
	return s.write + " " + quote(value)
}

// passing are what is only pretended to a phone, with the lines that end it.
var passing = map[string]string{"battery": "dumpsys battery reset", "place": "cmd location providers remove-test-provider gps"}

// noted writes down on the phone what it was like, once.
func (d *Device) noted(ctx context.Context, name, value string) error {
	if d.was[name] {
		return nil
	}
	out, err := d.run(ctx, callLimit, "echo "+quote(name+" "+value)+" >> "+wasFile)
	if err == nil && out.Code != 0 {
		err = &device.Trouble{Why: "nothing can be written on it: " + wrote(out), Remedy: "see whether there is room on it"}
	}
	if err == nil {
		d.was[name] = true
	}
	return err
}

// wrote is what a line has written, for a person.
func wrote(out Output) string {
	return clipped(strings.TrimSpace(string(out.Out)+string(out.Err)), 300)
}

// valueOf reads a setting.
func (d *Device) valueOf(ctx context.Context, name string) (string, error) {
	out, err := d.run(ctx, callLimit, settings[name].read)
	if err != nil {
		return "", err
	}
	m := settings[name].value.FindSubmatch(out.Out)
	if m == nil {
		return "", &device.Refusal{Why: fmt.Sprintf("the phone does not say how its %s is set: %s", name, wrote(out))}
	}
	return string(m[1]), nil
}

// alter changes a setting, and reads it back.
func (d *Device) alter(ctx context.Context, name, value string) error {
	before, err := d.valueOf(ctx, name)
	if err != nil {
		return err
	}
	if err := d.noted(ctx, name, before); err != nil || before == value {
		return err
	}
	out, err := d.run(ctx, callLimit, settings[name].putting(name, value))
	if err != nil {
		return err
	}
	now, err := d.valueOf(ctx, name)
	if err == nil && now != value {
		err = &device.Refusal{Why: fmt.Sprintf("the phone does not let its %s be set to %s: %s", name, value, wrote(out))}
	}
	return err
}

// restore puts the phone back as it was before anything was changed on it, by this host or by one before.
func (d *Device) restore(ctx context.Context) error {
	out, err := d.run(ctx, callLimit, "cat "+wasFile+" 2>/dev/null")
	if err != nil {
		return err
	}
	was := map[string]string{}
	for line := range strings.Lines(string(out.Out)) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		if _, there := was[name]; !there { // the first is the oldest
			was[name] = value
		}
	}
	clear(d.was) // whatever comes of this, what is changed next is written down anew
	line, back := "", map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(was)) {
		switch s, known := settings[name]; { // what others have written there is not done
		case passing[name] != "":
			line += passing[name] + "; "
		case known && s.takes(was[name]):
			line += s.putting(name, was[name]) + "; "
			back[name] = was[name]
		}
	}
	if len(was) > 0 {
		if err := d.putBack(ctx, line, back); err != nil {
			return err
		}
	}
	clear(d.answered)
	d.tag, d.charged, d.placed = "", false, nil
	return nil
}

// putBack has settings be as they were, and sees that they are before it forgets how they were.
func (d *Device) putBack(ctx context.Context, line string, back map[string]string) error {
	for name := range back {
		line += "echo @" + name + "; " + settings[name].read + "; "
	}
	out, err := d.run(ctx, callLimit, line+"echo @end")
	if err != nil {
		return err
	}
	at := sections(string(out.Out))
	for name, was := range back {
		if now := first(settings[name].value, []byte(at[name])); now != was && (switches[now] == "" || switches[now] != switches[was]) {
			return &device.Trouble{Why: fmt.Sprintf("its %s is not as it was before (%s, and not %s)", name, cmp.Or(now, "nothing"), was),
				Remedy: "set it by hand in its settings"}
		}
	}
	_, err = d.run(ctx, callLimit, "rm -f "+wasFile)
	return err
}

var (
	_ device.Rotating   = (*Device)(nil)
	_ device.Dressing   = (*Device)(nil)
	_ device.Enlarging  = (*Device)(nil)
	_ device.Networked  = (*Device)(nil)
	_ device.Powered    = (*Device)(nil)
	_ device.Permitting = (*Device)(nil)
	_ device.Aware      = (*Device)(nil)
	_ device.Speaking   = speaking{}
	_ device.Zoned      = zoned{}
	_ device.Placed     = placed{}
)

// Rotate holds it upright or across, whichever way it lies.
func (d *Device) Rotate(ctx context.Context, to string) error {
	if err := device.CheckHeld(to); err != nil {
		return err
	}
	if err := d.alter(ctx, "turning", "0"); err != nil {
		return err
	}
	quarter := "0"
	if (to == device.Landscape) != (d.facts.Width > d.facts.Height) {
		quarter = "1"
	}
	if err := d.alter(ctx, "held", quarter); err != nil {
		return err
	}
	d.turns.Add(1)
	return nil
}

// SetAppearance makes the system light or dark.
func (d *Device) SetAppearance(ctx context.Context, dark bool) error {
	return d.alter(ctx, "night", map[bool]string{true: "yes", false: "no"}[dark])
}

// SetTextSize has texts shown larger or smaller.
func (d *Device) SetTextSize(ctx context.Context, percent int) error {
	if err := device.CheckTextSize(percent); err != nil {
		return err
	}
	return d.alter(ctx, "text", strconv.FormatFloat(float64(percent)/100, 'f', -1, 64))
}

// SetNetwork takes its network away, or gives it back. A phone over a bridge cannot be made slow: that takes what stands
// between it and the network.
func (d *Device) SetNetwork(ctx context.Context, n device.Network) error {
	if err := n.Check(); err != nil {
		return err
	}
	if !n.None && n != (device.Network{}) {
		return fmt.Errorf("%w: a phone's network can be taken away, and not be made slow", device.ErrNoAbility)
	}
	if serial, _ := d.at(); n.None && overNetwork(serial) {
		return fmt.Errorf("%w: the phone is reached over its network; plug it in by a cable, so that it can be without",
			device.ErrNoAbility)
	}
	on, off := "1", "0"
	if n.None {
		on, off = off, on
	}
	if d.api >= 30 {
		return d.alter(ctx, "flight", off)
	}
	return errors.Join(d.alter(ctx, "wifi", on), d.alter(ctx, "data", on))
}

var hostAndPort = regexp.MustCompile(`^(.+):\d+$`)

// overNetwork tells whether the bridge reaches a phone over a network that the phone has, by what the bridge calls it.
func overNetwork(serial string) bool {
	m := hostAndPort.FindStringSubmatch(serial)
	return m != nil && m[1] != "127.0.0.1" && m[1] != "localhost" && m[1] != "[::1]" || strings.Contains(serial, "._adb-tls")
}

// SetBattery has the system believe how full it is.
func (d *Device) SetBattery(ctx context.Context, percent int, charging bool) error {
	if percent < 0 || percent > 100 {
		return fmt.Errorf("a battery is 0 to 100 percent full, not %d", percent)
	}
	if err := d.noted(ctx, "battery", "-"); err != nil {
		return err
	}
	line := fmt.Sprintf("dumpsys battery unplug; dumpsys battery set status 3; dumpsys battery set level %d", percent)
	if charging {
		line = fmt.Sprintf("dumpsys battery set ac 1; dumpsys battery set status 2; dumpsys battery set level %d", percent)
	}
	if _, err := d.run(ctx, callLimit, line); err != nil {
		return err
	}
	d.charged = true
	out, err := d.run(ctx, callLimit, "dumpsys battery")
	if err == nil && first(batteryLevel, out.Out) != strconv.Itoa(percent) {
		err = &device.Refusal{Why: "the phone does not believe another battery: " + wrote(out)}
	}
	return err
}

// first gives what a pattern finds first.
func first(of *regexp.Regexp, in []byte) string {
	if m := of.FindSubmatch(in); m != nil {
		return string(m[1])
	}
	return ""
}

// permissions are the OS's names of what apps ask for. For notifications it asks since 13; before that they are
// switched off for an app, and nobody is asked.
var permissions = map[string][]string{
	"location":      {"android.permission.ACCESS_FINE_LOCATION", "android.permission.ACCESS_COARSE_LOCATION"},
	"camera":        {"android.permission.CAMERA"},
	"microphone":    {"android.permission.RECORD_AUDIO"},
	"notifications": {"android.permission.POST_NOTIFICATIONS"},
}

// The versions of the OS, by their numbers for programs, since which it has what is asked of it.
const (
	apiFlags  = 30 // a permission can be refused beforehand, and the network taken away as a whole
	apiPlaces = 31 // a place can be given by a line
	apiSpeaks = 33 // an app has a language of its own, and notifications are a permission
)

// SetPermission answers beforehand what an app asks for.
func (d *Device) SetPermission(ctx context.Context, app, permission, answer string) error {
	if err := device.CheckPermission(permission, answer); err != nil {
		return err
	}
	if !isPackage(app) {
		return fmt.Errorf("no app %q can be installed", app)
	}
	names := permissions[permission]
	if names == nil {
		return fmt.Errorf("%w: Android asks nobody about %s", device.ErrNoAbility, permission)
	}
	if there, err := d.run(ctx, callLimit, "pm path", app); err != nil {
		return err
	} else if len(strings.TrimSpace(string(there.Out))) == 0 {
		return fmt.Errorf("no app %s is installed", app)
	}
	if permission == "notifications" && d.api < apiSpeaks {
		mode := map[string]string{device.Allow: "allow", device.Deny: "ignore", device.Ask: "default"}[answer]
		return d.granted(ctx, "appops set "+app+" POST_NOTIFICATION "+mode)
	}
	if answer == device.Deny && d.api < apiFlags {
		return fmt.Errorf("%w: Android %s cannot be told beforehand to refuse; 11 and later can", device.ErrNoAbility, d.facts.OS)
	}
	if asked := d.asks[app]; asked != nil {
		names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !slices.Contains(asked, n) })
		if len(names) == 0 && answer == device.Allow {
			return &device.Refusal{Why: fmt.Sprintf("%s cannot be allowed it: its package does not declare %s", app,
				permissions[permission][0])}
		}
	}
	var lines []string
	for _, n := range names {
		switch of := app + " " + n; {
		case answer == device.Allow:
			lines = append(lines, "pm grant "+of)
		case answer == device.Deny:
			lines = append(lines, "pm revoke "+of, "pm set-permission-flags "+of+" user-set user-fixed")
		case d.api < apiFlags:
			lines = append(lines, "pm revoke "+of)
		default:
			lines = append(lines, "pm revoke "+of, "pm clear-permission-flags "+of+" user-set user-fixed")
		}
	}
	if err := d.granted(ctx, strings.Join(lines, " && ")); err != nil {
		return err
	}
	d.answered[[2]string{app, permission}] = answer
	return nil
}

func (d *Device) granted(ctx context.Context, line string) error {
	if line == "" {
		return nil
	}
	out, err := d.run(ctx, callLimit, line)
	if err == nil && out.Code != 0 {
		err = &device.Refusal{Why: "the phone does not take the answer: " + wrote(out)}
	}
	return err
}

// again has what was answered for an app, and its language, hold after its data have gone.
func (d *Device) again(ctx context.Context, app string) error {
	for key, answer := range maps.Clone(d.answered) {
		if key[0] == app {
			if err := d.SetPermission(ctx, app, key[1], answer); err != nil {
				return err
			}
		}
	}
	if d.tag != "" {
		return d.speak(ctx, app)
	}
	return nil
}

// speaking is a phone whose apps can have a language of their own.
type speaking struct{ driver.Device }

// Unwrap gives the phone.
func (s speaking) Unwrap() device.Device { return s.Device }

// inside gives the phone behind what gives it abilities.
func inside(d driver.Device) *Device {
	phone, _ := device.As[*Device](d) // only phones are wrapped here
	return phone
}

// SetLanguage changes the language of the apps that were put on it. The system's own no line changes.
func (s speaking) SetLanguage(ctx context.Context, tag string) error {
	if err := device.CheckLanguage(tag); err != nil {
		return err
	}
	d := inside(s.Device)
	d.tag = tag
	apps := slices.Sorted(maps.Keys(d.put))
	if d.app != "" && !slices.Contains(apps, d.app) {
		apps = append(apps, d.app)
	}
	for _, app := range apps {
		if err := d.speak(ctx, app); err != nil {
			return err
		}
	}
	return nil
}

func (d *Device) speak(ctx context.Context, app string) error {
	out, err := d.run(ctx, callLimit, "cmd locale set-app-locales "+app+" --user current --locales", d.tag)
	if err == nil && out.Code != 0 {
		err = &device.Refusal{Why: "the phone does not give " + app + " another language: " + wrote(out)}
	}
	return err
}

// zoned is a phone that lets its time zone be changed.
type zoned struct{ driver.Device }

// Unwrap gives what it wraps.
func (z zoned) Unwrap() device.Device { return z.Device }

// SetTimeZone changes the system's time zone.
func (z zoned) SetTimeZone(ctx context.Context, name string) error {
	if err := device.CheckZone(name); err != nil {
		return err
	}
	return inside(z.Device).alter(ctx, "zone", name)
}

// placed is a phone that can be told where it is.
type placed struct{ driver.Device }

// Unwrap gives what it wraps.
func (p placed) Unwrap() device.Device { return p.Device }

// SetPlace has the phone's own receiver give a place, or none.
func (p placed) SetPlace(ctx context.Context, at *device.Place) error {
	if err := at.Check(); err != nil {
		return err
	}
	d := inside(p.Device)
	if d.placed == nil {
		if err := d.noted(ctx, "place", "-"); err != nil {
			return err
		}
	}
	const begin = "appops set com.android.shell android:mock_location allow && cmd location providers add-test-provider gps && "
	line := begin + "cmd location providers set-test-provider-enabled gps false"
	if at != nil {
		line = begin + fmt.Sprintf("cmd location providers set-test-provider-enabled gps true && "+
			"cmd location providers set-test-provider-location gps --location %s,%s --accuracy %s",
			degrees(at.Latitude), degrees(at.Longitude), degrees(math.Max(at.Accuracy, 1)))
	}
	out, err := d.run(ctx, callLimit, line)
	if err == nil && out.Code != 0 {
		err = &device.Refusal{Why: "the phone does not let itself be told where it is: " + wrote(out)}
	}
	if err == nil {
		d.placed = &device.Place{}
		if at != nil {
			*d.placed = *at
		}
		d.nowhere = at == nil
	}
	return err
}

func degrees(f float64) string { return strconv.FormatFloat(f, 'f', 7, 64) }

// Feels tells what it feels, by what it says itself.
func (d *Device) Feels(ctx context.Context, app string) (device.Feels, error) {
	f := device.Feels{Answers: map[string]string{}}
	names := []string{"held", "night", "text", "zone"}
	if d.api >= apiFlags {
		names = append(names, "flight")
	}
	line := ""
	for _, n := range names {
		line += "echo @" + n + "; " + settings[n].read + "; "
	}
	if d.api >= apiSpeaks && isPackage(app) {
		line += "echo @language; cmd locale get-app-locales " + app + " --user current; "
	}
	out, err := d.run(ctx, callLimit, line+"echo @end")
	if err != nil {
		return f, err
	}
	at := sections(string(out.Out))
	value := func(name string) string { return first(settings[name].value, []byte(at[name])) }
	f.Rotation = device.Portrait
	if (value("held") == "1" || value("held") == "3") != (d.facts.Width > d.facts.Height) {
		f.Rotation = device.Landscape
	}
	f.Appearance = map[string]string{"yes": "dark", "no": "light", "auto": ""}[value("night")]
	f.TextSize = 100
	if scale, err := strconv.ParseFloat(value("text"), 64); err == nil && scale > 0 && scale < 10 {
		f.TextSize = int(math.Round(100 * scale))
	}
	f.Zone = value("zone")
	f.Network = map[string]string{"0": "normal", "1": "none"}[value("flight")]
	f.Language = d.language
	if tag := first(appLocale, []byte(at["language"])); tag != "" {
		f.Language = tag
	}
	if d.placed != nil && !d.nowhere {
		p := *d.placed
		f.Place = &p
	}
	for key, answer := range d.answered {
		if key[0] == app {
			f.Answers[key[1]] = answer
		}
	}
	return f, nil
}

var appLocale = regexp.MustCompile(`are \[([A-Za-z0-9-]{2,40})`)

// sections parts what lines have said by what was echoed before each: "@name".
func sections(text string) map[string]string {
	out, name := map[string]string{}, ""
	for line := range strings.Lines(text) {
		if trimmed := strings.TrimSpace(line); strings.HasPrefix(trimmed, "@") {
			name = trimmed[1:]
			continue
		}
		out[name] += line
	}
	return out
}
