package phone

import (
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

func init() {
	maps.Copy(commands, map[string]func(*job) int{
		"uiautomator": dump, "screencap": screencap, "input": input, "dumpsys": dumpsys, "logcat": logcat,
	})
}

// classes are the OS's classes of views, by what a screen reader calls them.
var classes = map[string]string{"button": "android.widget.Button", "textbox": "android.widget.EditText",
	"img": "android.widget.ImageView", "checkbox": "android.widget.CheckBox", "switch": "android.widget.Switch",
	"radio": "android.widget.RadioButton", "slider": "android.widget.SeekBar", "progressbar": "android.widget.ProgressBar",
	"list": "android.widget.ListView", "combobox": "android.widget.Spinner", "tab": "android.app.ActionBar$Tab",
	"spinbutton": "android.widget.NumberPicker", "option": "android.widget.CheckedTextView"}

// home is the package of what is to be seen where no app is in front.
const home = "com.android.launcher"

// dump writes the accessibility tree of the screen as the OS's own tool does.
func dump(j *job) int {
	to := "/sdcard/window_dump.xml"
	for _, a := range j.args[1:] {
		if a != "dump" && !strings.HasPrefix(a, "-") {
			to = a
		}
	}
	tree, err := j.phone.seen(j.ctx)
	if err != nil || j.phone.fate.befalls(j.phone.config.Troubles.Dump) {
		return j.fail(1, "ERROR: could not get idle state.")
	}
	out := j.out
	if to != "/dev/tty" {
		up, err := j.phone.files.Put(to, 0o644)
		if err != nil {
			return j.fail(1, "ERROR: %v", err)
		}
		defer func() { _ = up.Commit(time.Now()) }()
		out = up
	}
	j.phone.writeTree(out, tree)
	j.say("UI hierchary dumped to: %s\n", to) // the tool spells it so
	return 0
}

func (p *Phone) writeTree(w io.Writer, t *screen.Tree) {
	scale := float64(p.config.Density) / 160
	in := t.App
	if in == "" {
		in = home
	}
	turned := 0
	if t.Width > t.Height {
		turned = 1
	}
	fmt.Fprintf(w, "<?xml version='1.0' encoding='UTF-8' standalone='yes' ?><hierarchy rotation=\"%d\">", turned)
	var write func(n *screen.Node, index int)
	write = func(n *screen.Node, index int) {
		if !n.OnScreen() {
			return
		}
		class := classes[n.Role]
		if class == "" {
			class = "android.view.ViewGroup"
			if n.Text != "" || len(n.Children) == 0 {
				class = "android.widget.TextView"
			}
		}
		id := n.ID
		if id != "" {
			id = in + ":id/" + id
		}
		text, name := n.Text, n.Name
		if text == "" {
			text = n.Value
		}
		b := n.Visible
		fmt.Fprintf(w, `<node index="%d"`, index)
		for _, a := range [][2]string{{"text", text}, {"resource-id", id}, {"class", class}, {"package", in},
			{"content-desc", name}, {"checkable", yes(n.Checked != "")}, {"checked", yes(n.Checked == "true")},
			{"clickable", yes(n.Touch)}, {"enabled", yes(!n.Disabled)}, {"focusable", yes(n.Role == "textbox")},
			{"focused", yes(n.Focused)}, {"scrollable", "false"}, {"long-clickable", "false"}, {"password", "false"},
			{"selected", yes(n.Selected)}, {"bounds", fmt.Sprintf("[%.0f,%.0f][%.0f,%.0f]", math.Round(b.X*scale),
				math.Round(b.Y*scale), math.Round((b.X+b.W)*scale), math.Round((b.Y+b.H)*scale))}} {
			fmt.Fprintf(w, ` %s="`, a[0])
			_ = xml.EscapeText(w, []byte(a[1]))
			_, _ = io.WriteString(w, `"`)
		}
		_, _ = io.WriteString(w, ">")
		for i, c := range n.Children {
			write(c, i)
		}
		_, _ = io.WriteString(w, "</node>")
	}
	root := t.Root
	if q := question(t.Root); q != nil { // a window of its own, the only one that is told of
		in, root = "com.android.permissioncontroller", q
	}
	write(root, 0)
	_, _ = io.WriteString(w, "</hierarchy>")
}

// question finds what the system asks a person on the screen, nil where it asks nothing.
func question(n *screen.Node) *screen.Node {
	if n.Role == "alertdialog" && strings.HasPrefix(n.Name, "Allow “") {
		return n
	}
	for _, c := range n.Children {
		if q := question(c); q != nil {
			return q
		}
	}
	return nil
}

func yes(b bool) string { return strconv.FormatBool(b) }

func screencap(j *job) int {
	if !slices.Contains(j.args, "-p") {
		return j.fail(1, "usage: screencap -p")
	}
	var shot device.Picture
	err := j.phone.with(j.ctx, func(d driver.Device) (err error) { shot, err = d.Picture(j.ctx); return err })
	if err != nil || shot == nil {
		return j.fail(1, "Failed to take screenshot. Status: -38")
	}
	img, err := shot.Image()
	if err == nil {
		err = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(j.out, img)
	}
	if err != nil {
		return j.fail(1, "Failed to take screenshot.")
	}
	return 0
}

// keycodes are the OS's numbers of keys that a keyboard has, as W3C WebDriver calls them.
var keycodes = map[string]string{"66": "\uE007", "67": "\uE003", "61": "\uE004", "112": "\uE017", "21": "\uE012",
	"22": "\uE014", "19": "\uE013", "20": "\uE015", "122": "\uE011", "123": "\uE010"}

// input does what hands do.
func input(j *job) int {
	if len(j.args) < 3 {
		return j.fail(1, "Error: Invalid arguments for command")
	}
	scale := 160 / float64(j.phone.config.Density)
	number := func(i int) float64 {
		if i >= len(j.args) {
			return 0
		}
		f, _ := strconv.ParseFloat(j.args[i], 64)
		return f
	}
	at := func(i int) screen.Point { return screen.Point{X: number(i) * scale, Y: number(i+1) * scale} }
	err := j.phone.with(j.ctx, func(d driver.Device) error {
		switch j.args[1] {
		case "tap":
			return d.Tap(j.ctx, at(2))
		case "swipe":
			g, ok := device.As[device.Gesturing](d)
			if !ok {
				return device.ErrNoAbility
			}
			over := time.Duration(number(6)) * time.Millisecond
			if at(2) == at(4) {
				return g.Perform(j.ctx, device.Hold(at(2), over))
			}
			return g.Perform(j.ctx, device.Drag(at(2), at(4), over))
		case "text":
			for _, r := range j.args[2] {
				if r > 126 || r < 32 {
					return fmt.Errorf("java.lang.NullPointerException: Attempt to get length of null array") // as it does
				}
			}
			return d.Keys(j.ctx, strings.ReplaceAll(j.args[2], "%s", " "))
		case "keyevent":
			for _, key := range j.args[2:] {
				if err := j.phone.press(j, d, key); err != nil {
					return err
				}
			}
			return nil
		}
		return fmt.Errorf("Error: Unknown command: %s", j.args[1])
	})
	if err != nil {
		return j.fail(255, "%v", err)
	}
	return 0
}

func (p *Phone) press(j *job, d driver.Device, key string) error {
	name := map[string]string{"4": "back", "3": "home", "KEYCODE_BACK": "back", "KEYCODE_HOME": "home"}[key]
	if name != "" {
		k, ok := device.As[device.Presser](d)
		if !ok {
			return device.ErrNoAbility
		}
		return k.Press(j.ctx, name)
	}
	if k := keycodes[key]; k != "" {
		return d.Keys(j.ctx, k)
	}
	return nil // waking what is awake, and keys that this phone has not
}

func dumpsys(j *job) int {
	what := ""
	if len(j.args) > 1 {
		what = j.args[1]
	}
	switch what {
	case "battery":
		if len(j.args) > 2 {
			return setBattery(j, j.args[2:])
		}
		h := j.health()
		j.phone.mu.Lock()
		b := j.phone.battery
		j.phone.mu.Unlock()
		if !b.forced {
			b.level, b.plugged = 87, true
			if h.Charge != nil {
				b.level, b.plugged = *h.Charge, h.Plugged
			}
		}
		j.say("Current Battery Service state:\n  AC powered: false\n  USB powered: %v\n  level: %d\n  scale: 100\n  temperature: 281\n", b.plugged, b.level)
	case "power":
		j.say("Power Manager State:\n  mWakefulness=Awake\n")
	case "window":
		h := j.health()
		locked := h.Unlocked != nil && !*h.Unlocked
		j.say("WINDOW MANAGER POLICY STATE (dumpsys window policy)\n    KeyguardServiceDelegate\n      showing=%v\n      secure=%[1]v\n", locked)
	case "gfxinfo":
		j.say("Applications Graphics Acceleration Info:\nTotal frames rendered: %d\n", int64(j.reading("frames")))
	default:
		return j.fail(1, "Can't find service: %s", what)
	}
	return 0
}

// wake has the screen on, and the lock gone where it asks for no code.
func wake(j *job) int {
	return j.does(func(d driver.Device) error {
		return able(d, func(w device.Waking) error { _, err := w.Wake(j.ctx); return err })
	})
}
