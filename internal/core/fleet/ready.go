package fleet

import (
	"fmt"
	"time"

	"yamato/internal/core/device"
)

// Health is what a driver can tell of a device before anything runs on it.
type Health = device.Health

// Check is one check of readiness.
type Check struct {
	ID     string `json:"id"`
	Title  string `json:"title"` // of what is asked for: "Debugging is allowed"
	OK     bool   `json:"ok"`
	Why    string `json:"why,omitempty"`
	Remedy string `json:"remedy,omitempty"`
}

// Bounds of readiness.
const (
	minCharge    = 15 // hundredths, unless it is being charged
	minFreeMB    = 500
	maxHeat      = 45 // degrees Celsius, of its battery
	maxClockOff  = 2 * time.Minute
	oldestDroid  = "7.0"
	oldestIPhone = "15"
)

// modes are what a device can be started in so that nothing runs on it.
var modes = map[string]struct{ why, remedy string }{
	"recovery":      {"it was started to be repaired (recovery)", "choose Reboot system now on its screen"},
	"bootloader":    {"it was started for new system software (bootloader)", "choose Start on its screen, or hold its power key until it restarts"},
	"offline":       {"it is seen, and does not answer", "take its cable out and in again; if that does not help, restart it"},
	"no permission": {"this computer's rules let nobody speak with it", "install Debian's package android-sdk-platform-tools-common on its host, and plug it in again"},
	"host":          {"it takes this computer for a device", "set its USB to file transfer"},
}

// Readiness gives the checks that apply to d, in the order in which a person
// would go through them. A check that cannot be made before an earlier one
// passes is left out until then.
func Readiness(d Device, h Health) []Check {
	var out []Check
	ios := d.Platform == "ios"
	add := func(id, title string, ok bool, why, remedy string) {
		c := Check{ID: id, Title: title, OK: ok}
		if !ok {
			c.Why, c.Remedy = why, remedy
		}
		out = append(out, c)
	}
	if h.Connected != nil {
		add("connected", "It is connected", *h.Connected, "it does not answer on its cable",
			"plug it in with a cable that carries data, straight into the host "+orThe(d.Site))
		if !*h.Connected {
			return out
		}
	}
	if h.Mode != "" {
		why := modes[h.Mode]
		add("mode", "It was started as usual", false, why.why, why.remedy)
		return out
	}
	if h.Trusted != nil {
		add("trusted", "It trusts this computer", *h.Trusted, "nobody has said yes to Trust This Computer",
			"unlock it, plug it in again, tap Trust and enter its passcode")
		if !*h.Trusted {
			return out
		}
	}
	if h.Developer != nil {
		remedy := "Settings, About phone: tap the build number seven times"
		if ios {
			remedy = "Settings, Privacy & Security, Developer Mode: switch it on; it restarts"
		}
		add("developer", "Developer mode is on", *h.Developer, "developer mode is off", remedy)
	}
	if h.Debugging != "" {
		debugging(h.Debugging, add)
	}
	if h.Unlocked != nil {
		add("unlocked", "It can be unlocked", *h.Unlocked, "it is locked with a code that the driver does not know",
			"unlock it, and take the code off or set its lock to Swipe while it is used for tests")
	}
	if h.InFront != "" {
		add("in_front", "Nothing is in front of apps", false,
			"a dialog is in front that nobody could send away: "+h.InFront, "answer it on the device, then check again")
	}
	if h.TrustsCode != nil {
		add("trusts_code", "The developer is trusted", *h.TrustsCode, "the developer of the app is not trusted yet",
			"Settings, General, VPN & Device Management: tap the developer, then Trust")
	}
	measures(d, h, add)
	return out
}

func debugging(state string, add func(id, title string, ok bool, why, remedy string)) {
	const title = "Debugging is allowed"
	switch state {
	case "always":
		add("debugging", title, true, "", "")
	case "once":
		add("debugging", title+" (this once)", true, "", "")
	case "asked":
		add("debugging", title, false, "it asks whether this computer may debug it",
			"say yes on its screen, and tick Always allow from this computer")
	default:
		add("debugging", title, false, "debugging was never allowed",
			"Settings, Developer options: switch USB debugging on, plug it in again and say yes")
	}
}

func measures(d Device, h Health, add func(id, title string, ok bool, why, remedy string)) {
	if h.Charge != nil {
		add("charge", fmt.Sprintf("Its battery has charge (%d%%)", *h.Charge), *h.Charge >= minCharge || h.Plugged,
			fmt.Sprintf("its battery is at %d%% and it is not being charged", *h.Charge),
			"plug it into a port that gives power, and wait until it is over 15%")
	}
	if h.Heat != nil {
		add("heat", "It is cool enough", *h.Heat < maxHeat, fmt.Sprintf("its battery is at %d °C", *h.Heat),
			"let it cool down: out of the sun, out of its case, and without a charger that heats it")
	}
	if h.FreeMB != nil {
		add("space", fmt.Sprintf("It has free space (%.1f GB)", float64(*h.FreeMB)/1024), *h.FreeMB >= minFreeMB,
			fmt.Sprintf("only %d MB are free", *h.FreeMB), "remove apps or pictures until 500 MB are free")
	}
	if h.ClockOff != nil {
		add("clock", "Its clock is right", h.ClockOff.Abs() <= maxClockOff,
			"its clock is off by "+roughly(h.ClockOff.Abs()),
			"set date and time automatically in its settings: certificates fail otherwise")
	}
	if h.OS != "" {
		oldest := oldestDroid
		if d.Platform == "ios" {
			oldest = oldestIPhone
		}
		add("os", "Its OS is known", compareVersions(h.OS, oldest) >= 0,
			"it runs "+PlatformName(d.Platform)+" "+h.OS+", older than "+oldest,
			"update it, or take it out of the site file")
	}
}

// roughly words a time of more than a minute.
func roughly(d time.Duration) string {
	for _, unit := range []struct {
		of   time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}} {
		switch n := int64(d.Round(unit.of) / unit.of); {
		case d < unit.of:
		case n == 1:
			return "1 " + unit.name
		default:
			return fmt.Sprintf("%d %ss", n, unit.name)
		}
	}
	return d.Round(time.Second).String()
}

func orThe(site string) string {
	if site == "" {
		return "itself"
	}
	return "of " + site
}

// Unready gives what the first check that fails says, false where all pass.
func Unready(checks []Check) (Reason, bool) {
	for _, c := range checks {
		if !c.OK {
			return because(c.Why, c.Remedy), true
		}
	}
	return Reason{}, false
}
