package fleet

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/text/language"

	"yamato/internal/core/device"
	"yamato/internal/core/near"
	"yamato/internal/core/plain"
)

// Class is what devices have in common as far as a run may ask.
type Class struct {
	Kind     string `json:"kind"`
	Model    string `json:"model"`
	Platform string `json:"platform"`
	OS       string `json:"os"`
}

// ClassOf gives the class that d belongs to.
func ClassOf(d Device) Class { return Class{d.Kind, d.Model, d.Platform, d.OS} }

// Level is one value of a factor, which is something that a run varies on a device.
type Level struct {
	Factor string `json:"factor"`
	Value  string `json:"value"`
}

// Levels are a level for each factor that a run varies, in the order of Factors.
type Levels []Level

// Of gives the level of a factor, "" where it is not varied.
func (l Levels) Of(factor string) string {
	for _, one := range l {
		if one.Factor == factor {
			return one.Value
		}
	}
	return ""
}

// Key is the same for the same levels, and for no others. Chance is made of it: the
// language stands without the name of its factor, as seeds have always had it.
func (l Levels) Key() string {
	var b strings.Builder
	for _, one := range l {
		if one.Factor != Language {
			b.WriteString(one.Factor + "\x00")
		}
		b.WriteString(one.Value + "\x00")
	}
	return b.String()
}

// Combination is a class of device, and what is varied on it.
type Combination struct {
	Class
	Levels Levels `json:"levels"`
}

// Of gives the combination that d belongs to, with levels.
func Of(d Device, levels Levels) Combination { return Combination{ClassOf(d), levels} }

// Matches reports whether d belongs to c.
func (c Class) Matches(d Device) bool { return c == ClassOf(d) }

// Label is what people read: "Kaede 7, Android 14", and "Kaede 7, Android 14, real"
// for real devices, since a virtual one may be of the same model.
func (c Class) Label() string {
	label := fmt.Sprintf("%s, %s %s", c.Model, PlatformName(c.Platform), c.OS)
	if c.Kind == Real {
		label += ", real"
	}
	return label
}

// Label is that of the class, with the levels that do not go without saying.
func (c Combination) Label() string {
	label := c.Class.Label()
	for _, l := range c.Levels {
		if f := FactorNamed(l.Factor); l.Value != f.Usual {
			label += ", " + f.Read(l.Value)
		}
	}
	return label
}

// The factors that devices are made to have.
const (
	Language   = "language" // which language a device speaks (BCP 47)
	Rotation   = "rotation"
	Appearance = "appearance"
	TextSize   = "text size"
	NetworkOf  = "network"
	PlaceOf    = "place"
	// Permission begins the names of factors that say how an app's wish is answered: "permission location".
	Permission = "permission "
	// Site is where devices are; which of a class a leg may go to depends on it.
	Site = "site"
)

// Factor is something that a run can vary on a device. All that is to be known of one
// stands here; what makes a device have a level is host.Surroundings.
type Factor struct {
	Name  string
	Usual string // the level that goes without saying
	// Always tells that every combination has a level of it.
	Always bool
	// Ability is what a device needs to be given a level that is not the usual one; "" for none.
	Ability string
	// Free tells that scripts read the level as a variable of that name, and no device is made to feel it.
	Free bool
	// Check tells why a value is no level, "" where it is one.
	Check func(value string) string
	// Words are how people read a level; as it is where nil.
	Words func(value string) string
}

// Read gives a level as people read it.
func (f Factor) Read(value string) string {
	if f.Words == nil {
		return value
	}
	return f.Words(value)
}

// Factors are all of them, in the order in which they are told.
var Factors = append([]Factor{
	{Name: Language, Usual: "en-GB", Always: true, Check: checkLanguage},
	{Name: Rotation, Usual: device.Portrait, Ability: "rotation", Check: oneOf(device.Portrait, device.Landscape),
		Words: worded(map[string]string{device.Portrait: "upright", device.Landscape: "across"})},
	{Name: Appearance, Usual: "light", Ability: "appearance", Check: oneOf("light", "dark")},
	{Name: TextSize, Usual: "100%", Ability: "text size", Check: checkTextSize,
		Words: func(v string) string { return "text at " + v }},
	{Name: NetworkOf, Usual: "normal", Ability: "network", Check: oneOf("normal", "slow", "none"),
		Words: worded(map[string]string{"none": "no network", "slow": "slow network", "normal": "normal network"})},
	{Name: PlaceOf, Usual: Nowhere, Ability: "place", Check: checkPlace,
		Words: func(v string) string {
			if v == Nowhere {
				return "place unknown"
			}
			return "at " + v
		}},
	{Name: Site, Check: func(string) string { return "" }, Words: func(v string) string { return "at the site " + v }},
}, permissions()...)

// Nowhere is the place of a device that does not know where it is.
const Nowhere = "nowhere"

func permissions() (out []Factor) {
	for _, p := range device.Permissions {
		out = append(out, Factor{Name: Permission + p, Usual: device.Ask, Ability: "permissions",
			Check: oneOf(device.Allow, device.Deny, device.Ask),
			Words: worded(map[string]string{device.Allow: p + " allowed", device.Deny: p + " denied",
				device.Ask: p + " asked for"})})
	}
	return out
}

// freeName is what a factor of a project's own is called: scripts read it as $name.
var freeName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)

// FactorNamed gives a factor; one that is not known is free, and says its levels with its name.
func FactorNamed(name string) Factor {
	if i := slices.IndexFunc(Factors, func(f Factor) bool { return f.Name == name }); i >= 0 {
		return Factors[i]
	}
	return Factor{Name: name, Free: true, Check: func(v string) string {
		known := []string{}
		for _, f := range Factors {
			known = append(known, f.Name)
		}
		switch slip := near.Word(name, known); {
		case slip != "":
			return fmt.Sprintf("%q is no factor; did you mean `%s`?", plain.Clip(name, 60), slip)
		case !freeName.MatchString(name):
			return fmt.Sprintf("%q is no factor: one of a project's own is a word of small letters, digits and _, which "+
				"scripts read as a variable", plain.Clip(name, 60))
		}
		if v == "" || len(v) > 200 {
			return "a level has 1 to 200 characters"
		}
		return ""
	}, Words: func(v string) string { return name + " " + v }}
}

func oneOf(levels ...string) func(string) string {
	return func(v string) string {
		if slices.Contains(levels, v) {
			return ""
		}
		return fmt.Sprintf("%q is none of %s", plain.Clip(v, 60), strings.Join(levels, ", "))
	}
}

func worded(words map[string]string) func(string) string {
	return func(v string) string { return cmp.Or(words[v], v) }
}

// Percent reads a text size.
func Percent(v string) (int, bool) {
	n, err := strconv.Atoi(strings.TrimSuffix(v, "%"))
	return n, err == nil && strings.HasSuffix(v, "%") && device.CheckTextSize(n) == nil
}

func checkTextSize(v string) string {
	if _, ok := Percent(v); ok {
		return ""
	}
	return fmt.Sprintf("%q is no text size: write 50%% to 300%% of the usual one, as in 130%%", plain.Clip(v, 60))
}

// PlaceIn reads a place: latitude and longitude in degrees, or Nowhere.
func PlaceIn(v string) (at *device.Place, ok bool) {
	if v == Nowhere {
		return nil, true
	}
	lat, lon, ok := strings.Cut(v, ",")
	latitude, err := strconv.ParseFloat(strings.TrimSpace(lat), 64)
	longitude, err2 := strconv.ParseFloat(strings.TrimSpace(lon), 64)
	at = &device.Place{Latitude: latitude, Longitude: longitude, Accuracy: 5}
	return at, ok && err == nil && err2 == nil && at.Check() == nil
}

func checkPlace(v string) string {
	if _, ok := PlaceIn(v); ok {
		return ""
	}
	return fmt.Sprintf("%q is no place: write latitude and longitude, as in \"35.1, 139.2\", or nowhere", plain.Clip(v, 60))
}

// checkLanguage refuses what is no language, however well it is formed.
func checkLanguage(tag string) string {
	t, err := language.Parse(tag)
	if err != nil {
		return fmt.Sprintf("%q is no language: write it as in BCP 47, de-DE", tag)
	}
	if base, confidence := t.Base(); confidence == language.No || base.String() == "und" {
		return fmt.Sprintf("%q is no language: write it as in BCP 47, de-DE", tag)
	}
	return ""
}

// UsualLevels are the levels of a combination: those that are wished, and the usual ones of
// factors that every combination has; in the order of Factors, free ones after them by name. It
// tells why a wish cannot be.
func UsualLevels(wished map[string]string) (out Levels, why string) {
	for _, f := range Factors {
		value := wished[f.Name]
		if value == "" {
			if !f.Always {
				continue
			}
			value = f.Usual
		} else if why := f.Check(value); why != "" {
			return nil, why
		}
		out = append(out, Level{f.Name, value})
	}
	for _, name := range slices.Sorted(maps.Keys(wished)) {
		f := FactorNamed(name)
		if !f.Free || wished[name] == "" {
			continue
		}
		if why := f.Check(wished[name]); why != "" {
			return nil, why
		}
		out = append(out, Level{name, wished[name]})
	}
	return out, ""
}
