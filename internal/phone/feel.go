package phone

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/host/driver"
)

// What the OS lets a shell make the phone feel, as its own tools have it.

func init() {
	maps.Copy(commands, map[string]func(*job) int{"svc": svc, "appops": appops})
	maps.Copy(services, map[string]func(*job) int{"uimode": uimode, "connectivity": connectivity, "alarm": alarm, "locale": locale,
		"location": location, "statusbar": func(*job) int { return 0 }, "appops": appops})
}

// services are what `cmd` speaks with, by name; the first of a job's args is the name.
var services = map[string]func(*job) int{}

// since are the versions of the OS, by their numbers for programs, that services came with.
var since = map[string]int{"connectivity": 30, "location": 31, "locale": 33}

func usualSettings() map[string]string {
	return map[string]string{"system/accelerometer_rotation": "1", "system/user_rotation": "0", "system/font_scale": "1.0",
		"global/airplane_mode_on": "0", "global/wifi_on": "1", "global/mobile_data": "1"}
}

// battery is what the phone says of its battery; forced where a shell has it believe another.
type battery struct {
	forced  bool
	own     int // what it really has
	level   int
	plugged bool
}

// does has the device behind the phone do something; its error is what the tool says.
func (j *job) does(do func(d driver.Device) error) int {
	if err := j.phone.with(j.ctx, do); err != nil {
		return j.fail(255, "Error: %v", err)
	}
	return 0
}

// able does something by an ability of the device behind the phone.
func able[T any](d driver.Device, do func(T) error) error {
	t, ok := device.As[T](d)
	if !ok {
		return device.ErrNoAbility
	}
	return do(t)
}

// set has a setting take effect.
func (j *job) set(key string) int {
	p := j.phone
	value := func(key string) string {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.settings[key]
	}
	switch key {
	case "system/user_rotation", "system/accelerometer_rotation":
		held := device.Portrait
		if value("system/accelerometer_rotation") == "0" && (value("system/user_rotation") == "1" || value("system/user_rotation") == "3") {
			held = device.Landscape
		}
		return j.does(func(d driver.Device) error {
			return able(d, func(r device.Rotating) error { return r.Rotate(j.ctx, held) })
		})
	case "system/font_scale":
		scale, err := strconv.ParseFloat(value(key), 64)
		if err != nil {
			scale = 1
		}
		return j.does(func(d driver.Device) error {
			return able(d, func(e device.Enlarging) error {
				return e.SetTextSize(j.ctx, max(50, min(300, int(math.Round(100*scale)))))
			})
		})
	case "global/airplane_mode_on", "global/wifi_on", "global/mobile_data":
		return j.does(func(d driver.Device) error {
			return able(d, func(n device.Networked) error { return n.SetNetwork(j.ctx, p.reach()) })
		})
	}
	return 0
}

func (j *job) put(key, value string) int {
	j.phone.mu.Lock()
	j.phone.settings[key] = value
	j.phone.mu.Unlock()
	return j.set(key)
}

func uimode(j *job) int {
	if len(j.args) < 2 || j.args[1] != "night" {
		return j.fail(255, "UiModeManager service (uimode) commands:")
	}
	p := j.phone
	if len(j.args) > 2 {
		if !slices.Contains([]string{"yes", "no", "auto"}, j.args[2]) {
			return j.fail(255, "Error: mode must be 'yes', 'no', or 'auto', or 'custom_schedule'")
		}
		p.mu.Lock()
		p.night = j.args[2]
		p.mu.Unlock()
		if code := j.does(func(d driver.Device) error {
			return able(d, func(a device.Dressing) error { return a.SetAppearance(j.ctx, j.args[2] == "yes") })
		}); code != 0 {
			return code
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	j.say("Night mode: %s\n", p.night)
	return 0
}

func connectivity(j *job) int {
	if len(j.args) == 3 && j.args[1] == "airplane-mode" {
		switch j.args[2] {
		case "enable":
			return j.put("global/airplane_mode_on", "1")
		case "disable":
			return j.put("global/airplane_mode_on", "0")
		}
	}
	return j.fail(255, "Connectivity service commands:")
}

func svc(j *job) int {
	keys := map[string]string{"wifi": "global/wifi_on", "data": "global/mobile_data"}
	if len(j.args) == 3 && keys[j.args[1]] != "" {
		switch j.args[2] {
		case "enable":
			return j.put(keys[j.args[1]], "1")
		case "disable":
			return j.put(keys[j.args[1]], "0")
		}
	}
	return j.fail(1, "Available commands:\n    help\n    wifi\n    data")
}

func alarm(j *job) int {
	if len(j.args) != 3 || j.args[1] != "set-timezone" {
		return j.fail(255, "Alarm manager service (alarm) commands:")
	}
	if code := j.does(func(d driver.Device) error {
		return able(d, func(z device.Zoned) error { return z.SetTimeZone(j.ctx, j.args[2]) })
	}); code != 0 {
		return code
	}
	j.phone.mu.Lock()
	defer j.phone.mu.Unlock()
	j.phone.props["persist.sys.timezone"] = j.args[2]
	return 0
}

// locale gives an app a language of its own, which it has while it is in front.
func locale(j *job) int {
	if len(j.args) < 3 {
		return j.fail(255, "Locale manager (locale) shell commands:")
	}
	name, tag := j.args[2], ""
	if i := slices.Index(j.args, "--locales"); i > 0 && i+1 < len(j.args) {
		tag = j.args[i+1]
	}
	p := j.phone
	switch j.args[1] {
	case "get-app-locales":
		p.lock()
		defer p.using.Unlock()
		if a := p.body.apps[name]; a != nil {
			j.say("Locales for %s for user 0 are [%s]\n", name, a.tag)
			return 0
		}
	case "set-app-locales":
		missing := false
		code := j.does(func(d driver.Device) error {
			a := p.body.apps[name]
			if missing = a == nil; missing {
				return nil
			}
			a.tag = tag
			if p.front != name {
				return nil
			}
			return p.speak(j, d, a)
		})
		if !missing {
			return code
		}
	}
	return j.fail(255, "java.lang.IllegalArgumentException: Unknown package: %s for user 0", name)
}

// speak has the device speak what an app does.
func (p *Phone) speak(j *job, d driver.Device, a *app) error {
	p.mu.Lock()
	tag := p.props["persist.sys.locale"]
	p.mu.Unlock()
	if a.tag != "" {
		tag = a.tag
	}
	return able(d, func(s device.Speaking) error { return s.SetLanguage(j.ctx, tag) })
}

func location(j *job) int {
	if len(j.args) < 4 || j.args[1] != "providers" || j.args[3] != "gps" {
		return j.fail(255, "Location service commands:")
	}
	var at *device.Place
	switch j.args[2] {
	case "add-test-provider", "remove-test-provider":
	case "set-test-provider-enabled":
		if len(j.args) == 5 && j.args[4] == "true" {
			return 0
		}
	case "set-test-provider-location":
		at = &device.Place{}
		for i := 4; i+1 < len(j.args); i += 2 {
			var err error
			switch j.args[i] {
			case "--location":
				_, err = fmt.Sscanf(j.args[i+1], "%f,%f", &at.Latitude, &at.Longitude)
			case "--accuracy":
				_, err = fmt.Sscanf(j.args[i+1], "%f", &at.Accuracy)
			}
			if err != nil {
				return j.fail(255, "Error: %v", err)
			}
		}
	default:
		return j.fail(255, "Unknown command: %s", j.args[2])
	}
	return j.does(func(d driver.Device) error {
		return able(d, func(p device.Placed) error { return p.SetPlace(j.ctx, at) })
	})
}

// permissionNames are what the OS calls the permissions that apps ask for.
var permissionNames = map[string]string{"android.permission.ACCESS_FINE_LOCATION": "location",
	"android.permission.ACCESS_COARSE_LOCATION": "location", "android.permission.CAMERA": "camera",
	"android.permission.RECORD_AUDIO": "microphone", "android.permission.POST_NOTIFICATIONS": "notifications"}

// grant is how one permission of an app stands.
type grant struct{ given, fixed bool }

// permission carries out what the package manager is told of a permission.
func permission(j *job, rest []string) int {
	if len(rest) < 2 {
		return j.fail(255, "Error: no package or permission specified")
	}
	p, name, of := j.phone, rest[0], rest[1]
	if strings.HasSuffix(j.args[1], "-flags") && p.config.API < 30 {
		return j.fail(255, "Unknown command: %s", j.args[1])
	}
	why := ""
	code := j.does(func(d driver.Device) error {
		a := p.body.apps[name]
		switch {
		case a == nil:
			why = "java.lang.IllegalArgumentException: Unknown package: " + name
			return nil
		case permissionNames[of] == "" || !slices.Contains(a.p.Permissions, of):
			why = fmt.Sprintf("java.lang.SecurityException: Package %s has not requested permission %s", name, of)
			return nil
		}
		g := a.grants[of]
		switch j.args[1] {
		case "grant":
			g.given = true
		case "revoke":
			if g.given && p.front == name { // the OS ends what has lost a permission
				if err := p.stop(j.ctx, d, name); err != nil {
					return err
				}
			}
			g.given = false
		case "set-permission-flags":
			g.fixed = g.fixed || slices.Contains(rest[2:], "user-fixed")
		default:
			g.fixed = g.fixed && !slices.Contains(rest[2:], "user-fixed")
		}
		a.grants[of] = g
		return p.permit(j, d, a, permissionNames[of])
	})
	if why != "" {
		return j.fail(255, "\nException occurred while executing '%s':\n%s", j.args[1], why)
	}
	return code
}

// permit has the device answer for an app as its permissions stand.
func (p *Phone) permit(j *job, d driver.Device, a *app, what string) error {
	answer := device.Ask
	for of, g := range a.grants {
		if permissionNames[of] != what {
			continue
		}
		if g.given {
			answer = device.Allow
		} else if g.fixed && answer == device.Ask {
			answer = device.Deny
		}
	}
	return able(d, func(m device.Permitting) error { return m.SetPermission(j.ctx, a.p.ApplicationID, what, answer) })
}

func appops(j *job) int {
	args := j.args[1:]
	if len(args) != 4 || args[0] != "set" {
		return j.fail(255, "AppOps service (appops) commands:")
	}
	if args[1] == "com.android.shell" {
		return 0
	}
	answer := map[string]string{"allow": device.Allow, "ignore": device.Deny, "deny": device.Deny, "default": device.Ask}[args[3]]
	if answer == "" || args[2] != "POST_NOTIFICATION" {
		return j.fail(255, "Error: Unknown operation string: %s", args[2])
	}
	return j.does(func(d driver.Device) error {
		return able(d, func(m device.Permitting) error { return m.SetPermission(j.ctx, args[1], "notifications", answer) })
	})
}

// setBattery carries out `dumpsys battery set …`, unplug and reset.
func setBattery(j *job, args []string) int {
	p, level, plugged := j.phone, 87, true
	if h := j.health(); h.Charge != nil {
		level, plugged = *h.Charge, h.Plugged
	}
	p.mu.Lock()
	b := &p.battery
	if !b.forced {
		*b = battery{forced: true, level: level, plugged: plugged, own: level}
	}
	switch {
	case args[0] == "reset":
		own := b.own
		*b = battery{}
		level = own
	case args[0] == "unplug":
		b.plugged = false
	case args[0] == "set" && len(args) == 3:
		n, err := strconv.Atoi(args[2])
		switch {
		case err != nil:
			p.mu.Unlock()
			return j.fail(255, "Bad value: %s", args[2])
		case args[1] == "level":
			b.level = n
		case args[1] == "ac" || args[1] == "usb":
			b.plugged = n == 1
		}
	}
	now := *b
	p.mu.Unlock()
	if !now.forced {
		now = battery{level: level, plugged: true}
	}
	return j.does(func(d driver.Device) error {
		return able(d, func(c device.Powered) error { return c.SetBattery(j.ctx, max(1, min(100, now.level)), now.plugged) })
	})
}
