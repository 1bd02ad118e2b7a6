package fleet

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"yamato/internal/core/feel"
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

// As gives d as one of a class.
func (d Device) As(c Class) Device {
	d.Kind, d.Model, d.Platform, d.OS = c.Kind, c.Model, c.Platform, c.OS
	return d
}

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
		if one.Factor != feel.Language {
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
	label := c.Model + ", " + SystemName(c.Platform, c.OS)
	if c.Kind == Real {
		label += ", real"
	}
	return label
}

// Label is that of the class, with the levels that do not go without saying.
func (c Combination) Label() string {
	label := c.Class.Label()
	for _, l := range c.Levels {
		if f := FactorNamed(l.Factor); !f.IsUsual(l.Value) {
			label += ", " + f.Read(l.Value)
		}
	}
	return label
}

// Site is where devices are; which of a class a leg may go to depends on it.
const Site = "site"

// Factor is something that a run can vary. There are three sorts, all in one list: what devices are (Of),
// what they are made to feel (core/feel), and what scripts read (Free).
type Factor struct {
	Name  string
	Usual string // the level that goes without saying
	// Always tells that every combination has a level of it.
	Always bool
	// Ability is what a device needs to be given a level that is not the usual one; "" for none.
	Ability string
	// Of gives what a device is, whatever it is made to feel; nil for the other sorts.
	Of func(d Device) string
	// InClass tells that the class of a combination says it, so that its levels do not.
	InClass bool
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

// IsUsual tells whether a level is the one that goes without saying.
func (f Factor) IsUsual(value string) bool {
	if s := feel.Named(f.Name); s != nil && f.Of == nil {
		canonical, err := s.Read(value)
		return err == nil && canonical == f.Usual
	}
	return value == f.Usual
}

// Factors are all that are known by name, in the order in which they are told.
var Factors = slices.Concat([]Factor{
	own("device", true, func(d Device) string { return ClassOf(d).Label() }), // whole: "Kaede 7, Android 14"
	own("platform", true, func(d Device) string { return d.Platform }),
	own("kind", true, func(d Device) string { return d.Kind }),
	own("model", true, func(d Device) string { return d.Model }),
	own("os", true, func(d Device) string { return d.OS }),
	own("form", true, func(d Device) string { return d.Form }),
	own("engine", true, func(d Device) string { return EngineOf(d.Platform, d.OS) }),
}, felt(), []Factor{own(Site, false, func(d Device) string { return d.Site })})

// own is a factor that devices have of themselves.
func own(name string, inClass bool, of func(d Device) string) Factor {
	f := Factor{Name: name, InClass: inClass, Of: of, Check: func(string) string { return "" }}
	if !inClass {
		f.Words = func(v string) string { return "at the " + name + " " + v }
	}
	return f
}

// felt are the factors that devices are made to feel.
func felt() (out []Factor) {
	for _, s := range feel.All {
		if !s.Varied {
			continue
		}
		f := Factor{Name: s.Name, Usual: s.Usual, Always: s.Always, Check: s.Check, Words: s.Words}
		if !s.Always { // what every combination has, every device can be made to feel
			f.Ability = s.Ability
		}
		out = append(out, f)
	}
	return out
}

// OfDevices are the names of the factors that devices have of themselves, in order.
func OfDevices() (out []string) {
	for _, f := range Factors {
		if f.Of != nil {
			out = append(out, f.Name)
		}
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
			if !f.InClass {
				known = append(known, f.Name)
			}
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

// UsualLevels are the levels of a combination: those that are wished, and the usual ones of
// factors that every combination has; in the order of Factors, free ones after them by name. It
// tells why a wish cannot be.
func UsualLevels(wished map[string]string) (out Levels, why string) {
	for _, f := range Factors {
		value := wished[f.Name]
		if f.InClass {
			continue
		}
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
