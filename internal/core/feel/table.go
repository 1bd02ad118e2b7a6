package feel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/language"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
)

// The names of what other code asks for by name.
const (
	Language = "language" // what a device speaks (BCP 47)
	Rotation = "rotation"
	Place    = "place"
	Files    = "files"
	// Permission begins the names of those that say how an app's wish is answered: "permission location".
	Permission = "permission "
)

// UsualLanguage is what a device speaks that nobody has made to speak another.
const UsualLanguage = "en-GB"

// Nowhere is the place of a device that does not know where it is.
const Nowhere = "nowhere"

// All are what a device can be made to feel, in the order in which they are told.
var All = append([]*Surrounding{
	{Name: Language, Label: "Language", About: "a language as BCP 47 names it", Ability: "language",
		Usual:  UsualLanguage,
		Varied: true, Always: true, Open: true, Example: "de-DE", Verb: "Set",
		Forms: []Form{{Word: "language", Pieces: []Piece{{Text: true, What: "the language", Example: "de-DE"}},
			Level: first}},
		read: readLanguage, told: func(l string) string { return "speaks " + l },
		do: by(func(ctx context.Context, d device.Speaking, _, l string) error { return d.SetLanguage(ctx, l) }),
		is: func(f device.Feels) string { return f.Language }},
	{Name: Rotation, Label: "Held", About: "how it is held", Ability: "rotation", Usual: device.Portrait, Varied: true,
		Choices: []Choice{{device.Portrait, "upright"}, {device.Landscape, "across"}},
		Forms: []Form{{Word: "rotate", Pieces: []Piece{{Word: "to"},
			{OneOf: []string{device.Landscape, device.Portrait}, What: "a way to hold it"}}, Level: first}},
		told: func(l string) string { return "is held " + uprightOr(l) }, words: uprightOr,
		do: by(func(ctx context.Context, d device.Rotating, _, l string) error { return d.Rotate(ctx, l) }),
		is: func(f device.Feels) string { return f.Rotation }},
	{Name: "appearance", Label: "Appearance", About: "light or dark", Ability: "appearance", Usual: "light",
		Varied:  true,
		Choices: []Choice{{"light", "light"}, {"dark", "dark"}},
		Forms: []Form{{Word: "appearance", Pieces: []Piece{{OneOf: []string{"light", "dark"}, What: "light or dark"}},
			Level: first}},
		told: func(l string) string { return "is " + l },
		do: by(func(ctx context.Context, d device.Dressing, _, l string) error {
			return d.SetAppearance(ctx, l == "dark")
		}),
		is: func(f device.Feels) string { return f.Appearance }},
	{Name: "text size", Label: "Text", About: "how large text is, of the usual size", Ability: "text size",
		Usual:  "100%",
		Varied: true, Open: true, Example: "130%", Verb: "Set",
		Choices: []Choice{{"100%", "100 %"}, {"85%", "85 %"}, {"130%", "130 %"}, {"200%", "200 %"}},
		Forms: []Form{{Word: "text", Pieces: []Piece{{Word: "size"},
			{Percent: true, What: "a percentage of 50% to 300%", Example: "130%"}},
			Level: first}},
		read: readTextSize, words: func(l string) string { return "text at " + l },
		told: func(l string) string { return "shows text at " + spaced(l) },
		do: by(func(ctx context.Context, d device.Enlarging, _, l string) error {
			return d.SetTextSize(ctx, percentOf(l))
		}),
		is: func(f device.Feels) string {
			if f.TextSize == 0 {
				return ""
			}
			return fmt.Sprintf("%d%%", f.TextSize)
		}},
	{Name: "time zone", Label: "Time zone", About: "a time zone as IANA names it", Ability: "time zone", Varied: true,
		Open: true, Example: "Asia/Tokyo", Verb: "Set",
		Forms: []Form{{Word: "time", Pieces: []Piece{{Word: "zone"}, {Text: true, What: "the time zone",
			Example: "Europe/Lisbon"}}, Level: first}},
		read: readZone, words: func(l string) string { return "time of " + l },
		told: func(l string) string { return "is in the time zone " + l },
		do:   by(func(ctx context.Context, d device.Zoned, _, l string) error { return d.SetTimeZone(ctx, l) }),
		is:   func(f device.Feels) string { return f.Zone }},
	{Name: "network", Label: "Network", About: "none, slow, normal, or terms of its own", Ability: "network",
		Usual: "normal", Varied: true, Open: true, Example: exampleNetwork, Verb: "Set",
		Choices: []Choice{{"normal", "normal"}, {"slow", "slow"}, {"none", "none"}},
		Forms: []Form{{Word: "network", Pieces: []Piece{{OneOf: []string{"none", "slow", "normal"},
			What: "what the network is like"}}, Level: first},
			{Word: "network", Pieces: []Piece{{Text: true, What: "what the network is like", Example: exampleNetwork}},
				Level: first}},
		read: readNetwork, words: func(l string) string {
			return cmp.Or(map[string]string{"none": "no network"}[l],
				l+" network")
		},
		told: func(l string) string {
			switch l {
			case "none":
				return "has no network"
			case "slow", "normal":
				return "has a " + l + " network"
			}
			return "has a network with " + l
		},
		do: by(func(ctx context.Context, d device.Networked, _, l string) error {
			n, err := networkOf(l)
			if err != nil {
				return err
			}
			return d.SetNetwork(ctx, n)
		}),
		is: func(f device.Feels) string {
			if f.Network == "other" {
				return ""
			}
			return f.Network
		}},
	{Name: Place, Label: "Place", About: "latitude and longitude in degrees, or nowhere", Ability: "place",
		Usual:  Nowhere,
		Varied: true, Open: true, Example: "38.7059, -9.1444", Verb: "Be there", Choices: []Choice{{Nowhere, Nowhere}},
		Forms: []Form{
			{Word: "place", Pieces: []Piece{{Word: "device"}, {Word: "at", What: "where it is"},
				{Number: true, Example: "35.1,"},
				{Number: true, Example: "139.2"}}, Level: list},
			{Word: "place", Pieces: []Piece{{Word: "device"}, {Word: Nowhere}},
				Level: func([]string) string { return Nowhere }}},
		read: readPlace, words: func(l string) string {
			if l == Nowhere {
				return "place unknown"
			}
			return "at " + l
		},
		told: func(l string) string {
			if l == Nowhere {
				return "does not know where it is"
			}
			return "is at " + l
		},
		do: by(func(ctx context.Context, d device.Placed, _, l string) error {
			at, _ := PlaceOf(l)
			return d.SetPlace(ctx, at)
		}),
		is: func(f device.Feels) string { return placeText(f.Place) }},
	{Name: "battery", Label: "Battery", About: "how full it is, and whether it charges", Ability: "battery",
		Usual: "100% charging", Varied: true, Open: true, Example: "15% charging", Verb: "Set",
		Choices: []Choice{{"100% charging", "charged"}, {"50%", "50 %"}, {"15%", "15 %"}, {"5%", "5 %"}},
		Forms: []Form{{Word: "battery", Pieces: []Piece{{Percent: true, What: "a percentage of 0% to 100%",
			Example: "15%"},
			{Maybe: "charging"}}, Level: func(read []string) string {
			return strings.TrimSpace(read[0] + " " +
				read[1])
		}}},
		read: readBattery, words: func(l string) string { return "battery at " + l },
		told: func(l string) string {
			percent, charging := strings.CutSuffix(l, " charging")
			if charging {
				return "has " + spaced(percent) + " of its battery and charges"
			}
			return "has " + spaced(percent) + " of its battery"
		},
		do: by(func(ctx context.Context, d device.Powered, _, l string) error {
			percent, charging := strings.CutSuffix(l, " charging")
			return d.SetBattery(ctx, percentOf(percent), charging)
		})},
	{Name: "tilt", Label: "Tilt", About: "degrees about x, y and z", Ability: "motion", Usual: "0, 0, 0", Open: true,
		Example: "20, 0, 0", Verb: "Tilt",
		Choices: []Choice{{"0, 0, 0", "flat"}, {"0, -30, 0", "left"}, {"0, 30, 0", "right"}, {"90, 0, 0", "upright"}},
		Forms: []Form{{Word: "tilt", Pieces: []Piece{{Word: "device"}, {Number: true, Example: "20,"},
			{Number: true, Example: "0,"},
			{Number: true, Example: "0"}}, Level: list}},
		read: readTilt, told: func(l string) string { return "is tilted by " + l + " degrees" },
		do: by(func(ctx context.Context, d device.Moving, _, l string) error {
			n, err := numbers(l, 3)
			if err != nil {
				return err
			}
			return d.Tilt(ctx, n[2], n[0], n[1]) // alpha is about z (W3C Device Orientation)
		})},
	{Name: "shake", Label: "Shake", About: "to and fro, as a person does", Ability: "motion", Passing: true,
		Choices: []Choice{{"", "shake it"}},
		Forms:   []Form{{Word: "shake", Pieces: []Piece{{Word: "device"}}, Level: func([]string) string { return "" }}},
		read:    nothing, told: func(string) string { return "was shaken" },
		do: by(func(ctx context.Context, d device.Moving, _, _ string) error { return d.Shake(ctx) })},
	{Name: "push", Label: "Push", About: "a message's title, and what it says on lines after that", Ability: "push",
		Passing: true, Open: true, Example: "Your ferry leaves in 10 minutes", Verb: "Push",
		Forms: []Form{{Word: "deliver", Pieces: []Piece{{Word: "push"}, {Text: true, What: "the message's title",
			Example: "title"},
			{Rest: true, What: "what the message says", Example: "body"}},
			Level: func(read []string) string { return strings.TrimSuffix(read[0]+"\n"+read[1], "\n") }}},
		read: message(20_000), told: func(string) string { return "got a message pushed" },
		do: by(func(ctx context.Context, d device.Pushed, app, l string) error { return d.Push(ctx, app, l) })},
	{Name: "clipboard", Label: "Clipboard", About: "what was copied last", Ability: "clipboard", Open: true,
		Example: "Text",
		Verb:    "Copy", read: message(1 << 20), told: func(l string) string {
			return fmt.Sprintf("holds %q in its clipboard", plain.Clip(l, 60))
		},
		do: by(func(ctx context.Context, d device.Copying, _, l string) error { return d.SetClipboard(ctx, l) })},
	{Name: Files, Label: "Files", About: "files to choose from, by their paths on the host",
		Ability: "files",
		read:    message(1 << 20), told: func(l string) string {
			return fmt.Sprintf("has %d files to choose from", len(pathsOf(l)))
		},
		do: by(func(ctx context.Context, d device.Filing, _, l string) error { return d.PutFiles(ctx, pathsOf(l)...) })},
	{Name: "away", Label: "App", About: "the app in front, sent away without being ended", Ability: "away",
		Passing: true,
		Choices: []Choice{{"", "send it away"}}, read: nothing,
		told: func(string) string { return "sent the app away" },
		do:   by(func(ctx context.Context, d device.Leaving, _, _ string) error { return d.SendAway(ctx) })},
}, permissions()...)

func init() {
	for _, s := range All {
		if s.read == nil {
			s.read = oneOf(s.Choices)
		}
	}
}

// permissions are one row each: how what an app asks for is answered.
func permissions() (out []*Surrounding) {
	for _, p := range device.Permissions {
		form := func(answer string) Form {
			return Form{Word: answer, Pieces: []Piece{{Word: p, What: "what the app may ask for"}},
				Level: func([]string) string { return answer }}
		}
		out = append(out, &Surrounding{Name: Permission + p, Label: "Permission",
			About: "how the app is answered that asks for " +
				p, Ability: "permissions", Usual: device.Ask, Varied: true,
			Choices: []Choice{{device.Ask, device.Ask}, {device.Allow, device.Allow}, {device.Deny, device.Deny}},
			Forms:   []Form{form(device.Allow), form(device.Deny)},
			words: func(l string) string {
				return cmp.Or(map[string]string{device.Allow: p + " allowed", device.Deny: p + " denied",
					device.Ask: p + " asked for"}[l], l)
			},
			told: func(l string) string { return fmt.Sprintf("answers %s about %s", l, p) },
			do: by(func(ctx context.Context, d device.Permitting, app, l string) error {
				return d.SetPermission(ctx, app, p, l)
			}),
			is: func(f device.Feels) string { return f.Answers[p] }})
	}
	return out
}

// by does something by an ability of the device.
func by[T any](do func(ctx context.Context, ability T, app, level string) error) func(context.Context, device.Device,
	string, string) error {
	return func(ctx context.Context, d device.Device, app, level string) error {
		ability, ok := device.As[T](d)
		if !ok {
			return device.ErrNoAbility
		}
		return do(ctx, ability, app, level)
	}
}

func first(read []string) string { return read[0] }

func list(read []string) string { return strings.Join(read, ", ") }

func uprightOr(l string) string {
	return cmp.Or(map[string]string{device.Portrait: "upright", device.Landscape: "across"}[l], l)
}

// spaced writes a percentage as people read it: 130 %.
func spaced(l string) string { return strings.TrimSuffix(l, "%") + " %" }

// Paths gives the level of files to choose from. What divides them stands in no path.
func Paths(paths ...string) string { return strings.Join(paths, "\x00") }

func pathsOf(l string) []string {
	if l == "" {
		return nil
	}
	return strings.Split(l, "\x00")
}

func oneOf(choices []Choice) func(string) (string, error) {
	return func(l string) (string, error) {
		var all []string
		for _, c := range choices {
			if c.Level == l {
				return l, nil
			}
			all = append(all, c.Level)
		}
		return "", fmt.Errorf("%q is none of %s", plain.Clip(l, 60), strings.Join(all, ", "))
	}
}

func nothing(l string) (string, error) {
	if l != "" {
		return "", errors.New("nothing is to be said of it")
	}
	return "", nil
}

func message(most int) func(string) (string, error) {
	return func(l string) (string, error) {
		if len(l) > most {
			return "", fmt.Errorf("a text has at most %d bytes here", most)
		}
		return l, nil
	}
}

// readLanguage refuses what is no language, however well it is formed.
func readLanguage(l string) (string, error) {
	wrong := fmt.Errorf("%q is no language: write it as in BCP 47, de-DE", plain.Clip(l, 60))
	t, err := language.Parse(l)
	if err != nil || len(l) > 100 {
		return "", wrong
	}
	base, confidence := t.Base()
	if raw, _, _ := t.Raw(); confidence == language.No || base.String() == "und" || raw.String() == "und" {
		return "", wrong
	}
	return l, nil
}

// percent reads a whole percentage, as in 130%; a space before the sign does not matter.
func percent(l string) (int, bool) {
	digits, ok := strings.CutSuffix(l, "%")
	digits = strings.TrimSpace(digits)
	if !ok || digits == "" || len(digits) > 9 || strings.Trim(digits, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.Atoi(digits)
	return n, err == nil
}

func percentOf(canonical string) int {
	n, _ := percent(canonical)
	return n
}

func readTextSize(l string) (string, error) {
	n, ok := percent(l)
	if !ok || device.CheckTextSize(n) != nil {
		return "", fmt.Errorf("%q is no text size: write 50%% to 300%% of the usual one, as in 130%%",
			plain.Clip(l, 60))
	}
	return fmt.Sprintf("%d%%", n), nil
}

func readBattery(l string) (string, error) {
	level, charging := strings.CutSuffix(l, "charging")
	n, ok := percent(strings.TrimSpace(level))
	if !ok || n > 100 {
		return "", fmt.Errorf("%q is no level of a battery: write 0%% to 100%%, as in 15%% or 15%% charging",
			plain.Clip(l, 60))
	}
	if charging {
		return fmt.Sprintf("%d%% charging", n), nil
	}
	return fmt.Sprintf("%d%%", n), nil
}

func readZone(l string) (string, error) { return l, device.CheckZone(l) }

// exampleNetwork is a network of one's own.
const exampleNetwork = "200 ms delay, 50000 B/s down, 20000 B/s up, 1 % lost"

var networks = map[string]device.Network{"none": {None: true}, "slow": device.Slow, "normal": {}}

// networkOf reads a network: one of those that have names, or terms as in exampleNetwork, in any order.
func networkOf(l string) (n device.Network, err error) {
	if n, ok := networks[l]; ok {
		return n, nil
	}
	wrong := fmt.Errorf("%q is no network: write none, slow, normal, or as in %q", plain.Clip(l, 80), exampleNetwork)
	seen := map[string]bool{}
	for term := range strings.SplitSeq(l, ",") {
		words := strings.Fields(term)
		if len(words) != 3 || seen[words[2]] {
			return n, wrong
		}
		seen[words[2]] = true
		v, err := strconv.ParseFloat(words[0], 64)
		if err != nil || !(v >= 0 && v <= 1e9) {
			return n, wrong
		}
		switch words[1] + " " + words[2] {
		case "ms delay":
			n.Delay = time.Duration(v * float64(time.Millisecond))
		case "B/s down":
			n.Download = int(v)
		case "B/s up":
			n.Upload = int(v)
		case "% lost":
			n.Loss = v / 100
		default:
			return n, wrong
		}
	}
	return n, n.Check()
}

func readNetwork(l string) (string, error) {
	n, err := networkOf(l)
	if err != nil {
		return "", err
	}
	if kind := n.Kind(); kind != "other" {
		return kind, nil
	}
	var terms []string
	if n.Delay > 0 {
		terms = append(terms, fmt.Sprintf("%g ms delay", float64(n.Delay)/float64(time.Millisecond)))
	}
	if n.Download > 0 {
		terms = append(terms, fmt.Sprintf("%d B/s down", n.Download))
	}
	if n.Upload > 0 {
		terms = append(terms, fmt.Sprintf("%d B/s up", n.Upload))
	}
	if n.Loss > 0 {
		terms = append(terms, fmt.Sprintf("%g %% lost", n.Loss*100))
	}
	return strings.Join(terms, ", "), nil
}

// usualAccuracy is that of a place whose accuracy nobody says, in metres.
const usualAccuracy = 5

// PlaceOf reads a place: latitude and longitude in degrees, how near in metres where that is said, or
// Nowhere, which is nil.
func PlaceOf(l string) (at *device.Place, err error) {
	if l == Nowhere {
		return nil, nil
	}
	wrong := fmt.Errorf("%q is no place: write latitude and longitude, as in \"35.1, 139.2\", or nowhere",
		plain.Clip(l, 60))
	where, near, said := strings.Cut(l, "within")
	n, err := numbers(where, 2)
	if err != nil {
		return nil, wrong
	}
	at = &device.Place{Latitude: n[0], Longitude: n[1], Accuracy: usualAccuracy}
	if said {
		metres, ok := strings.CutSuffix(strings.TrimSpace(near), "m")
		if at.Accuracy, err = strconv.ParseFloat(strings.TrimSpace(metres), 64); err != nil || !ok {
			return nil, wrong
		}
	}
	if at.Check() != nil {
		return nil, wrong
	}
	return at, nil
}

func placeText(at *device.Place) string {
	if at == nil {
		return Nowhere
	}
	text := decimal(at.Latitude) + ", " + decimal(at.Longitude)
	if at.Accuracy != usualAccuracy {
		text += " within " + decimal(at.Accuracy) + " m"
	}
	return text
}

func readPlace(l string) (string, error) {
	at, err := PlaceOf(l)
	if err != nil {
		return "", err
	}
	return placeText(at), nil
}

func readTilt(l string) (string, error) {
	n, err := numbers(l, 3)
	if err == nil {
		err = device.CheckTilt(n[2], n[0], n[1])
	}
	if err != nil {
		return "", fmt.Errorf("%q is no tilt: write degrees about x, y and z, as in \"20, 0, 0\"; x is -180 to 180, y -90 to 90, "+
			"z 0 to 360", plain.Clip(l, 60))
	}
	return list([]string{decimal(n[0]), decimal(n[1]), decimal(n[2])}), nil
}

// numbers reads so many decimal numbers with commas between.
func numbers(l string, many int) (out []float64, err error) {
	for part := range strings.SplitSeq(l, ",") {
		v, err := strconv.ParseFloat(strings.TrimSpace(part), 64)
		if err != nil || v != v || len(out) == many {
			return nil, fmt.Errorf("%q is not %d numbers", plain.Clip(l, 60), many)
		}
		out = append(out, v)
	}
	if len(out) != many || slices.ContainsFunc(out, func(v float64) bool { return v > 1e300 || v < -1e300 }) {
		return nil, fmt.Errorf("%q is not %d numbers", plain.Clip(l, 60), many)
	}
	return out, nil
}

func decimal(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
