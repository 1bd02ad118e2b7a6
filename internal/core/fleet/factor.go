package fleet

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/text/language"
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

// Language is the factor that says which language a device speaks (BCP 47).
const Language = "language"

// Factor is something that a run can vary on a device. All that is to be known of one
// stands here; what makes a device have a level is host.Surroundings.
type Factor struct {
	Name  string
	Usual string // the level that goes without saying
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
var Factors = []Factor{
	{Name: Language, Usual: "en-GB", Check: checkLanguage},
}

// FactorNamed gives a factor; one that is not known says its levels as they are.
func FactorNamed(name string) Factor {
	if i := slices.IndexFunc(Factors, func(f Factor) bool { return f.Name == name }); i >= 0 {
		return Factors[i]
	}
	return Factor{Name: name, Words: func(v string) string { return name + " " + v }}
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

// UsualLevels are the levels of all factors, wished ones where there are, in order. It
// tells why a wish cannot be.
func UsualLevels(wished map[string]string) (out Levels, why string) {
	for _, f := range Factors {
		value := f.Usual
		if v := wished[f.Name]; v != "" {
			value = v
			if why := f.Check(v); why != "" {
				return nil, why
			}
		}
		out = append(out, Level{f.Name, value})
	}
	return out, ""
}
