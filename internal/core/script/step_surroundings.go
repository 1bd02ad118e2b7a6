package script

import (
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/script/token"
)

// The steps that change what a device is made to feel. What they change is undone after the
// case.
type (
	// Rotate turns the device.
	Rotate struct {
		Step
		To string
	}
	// Permit answers beforehand what the app may ask for.
	Permit struct {
		Step
		Permission, Answer string
	}
	// PlaceDevice makes it believe that it is somewhere, or nowhere that it knows.
	PlaceDevice struct {
		Step
		Latitude, Longitude Value
		Unknown             bool
	}
	// Tilt makes it believe that it is held so; in degrees about x, y and z.
	Tilt struct {
		Step
		Beta, Gamma, Alpha Value
	}
	// Shake has it shaken.
	Shake struct{ Step }
	// SetNetwork makes its network what it says.
	SetNetwork struct {
		Step
		Network string
	}
	// SetBattery makes it believe how full its battery is, in percent.
	SetBattery struct {
		Step
		Percent  int
		Charging bool
	}
	// Deliver pushes a message.
	Deliver struct {
		Step
		Title, Body *Template
	}
	// GiveFile has a file chosen where the app asks for one next.
	GiveFile struct {
		Step
		File string
	}
)

func init() {
	add(
		form{word: "rotate", usage: "rotate to landscape|portrait", read: func(p *parser, s Step) Statement {
			p.want("to")
			return &Rotate{s, p.oneOf("a way to hold it", device.Landscape, device.Portrait)}
		}},
		form{word: "allow", usage: "allow " + strings.Join(device.Permissions, "|"), read: readPermit(device.Allow)},
		form{word: "deny", usage: "deny " + strings.Join(device.Permissions, "|"), read: readPermit(device.Deny)},
		form{word: "place", usage: "place device at 35.1, 139.2 · place device nowhere", read: readPlace},
		form{word: "tilt", usage: "tilt device x, y, z", read: func(p *parser, s Step) Statement {
			p.want("device")
			t := &Tilt{Step: s, Beta: p.expression()}
			p.wantComma("tilt device 20, 0, 0")
			t.Gamma = p.expression()
			p.wantComma("tilt device 20, 0, 0")
			t.Alpha = p.expression()
			return t
		}},
		form{word: "shake", usage: "shake device", read: func(p *parser, s Step) Statement {
			p.want("device")
			return &Shake{s}
		}},
		form{word: "network", usage: "network none|slow|normal", read: func(p *parser, s Step) Statement {
			return &SetNetwork{s, p.oneOf("what the network is like", "none", "slow", "normal")}
		}},
		form{word: "battery", usage: "battery 15% [charging]", read: readBattery},
		form{word: "deliver", usage: `deliver push "title", "body"`, read: func(p *parser, s Step) Statement {
			p.want("push")
			d := &Deliver{Step: s, Title: p.template(p.wantString("the message's title"))}
			if p.peek().IsSign(",") {
				p.next()
				d.Body = p.template(p.wantString("what the message says"))
			}
			return d
		}},
		form{word: "give", usage: `give file "…" · give back V`, read: readGive},
	)
}

// oneOf takes one of a few words.
func (p *parser) oneOf(what string, words ...string) string {
	t := p.next()
	if t.Kind != token.Word || !slices.Contains(words, t.Text) {
		hint := token.Meant(t.Raw, words)
		if hint == "" {
			hint = "it is one of " + strings.Join(words, ", ")
		}
		p.fail(t, hint, "%s is missing before %s", what, t)
	}
	return t.Text
}

func (p *parser) wantComma(usage string) {
	if t := p.next(); !t.IsSign(",") {
		p.fail(t, "write: "+usage, "a comma is missing before %s", t)
	}
}

func readPermit(answer string) func(p *parser, s Step) Statement {
	return func(p *parser, s Step) Statement {
		return &Permit{s, p.oneOf("what the app may ask for", device.Permissions...), answer}
	}
}

func readPlace(p *parser, s Step) Statement {
	p.want("device")
	if p.accept("nowhere") {
		return &PlaceDevice{Step: s, Unknown: true}
	}
	p.want("at")
	at := &PlaceDevice{Step: s, Latitude: p.expression()}
	p.wantComma("place device at 35.1, 139.2")
	at.Longitude = p.expression()
	return at
}

func readBattery(p *parser, s Step) Statement {
	t := p.next()
	n, whole := token.Whole(t.Number)
	if t.Kind != token.Percent || !whole || n > 100 {
		p.fail(t, "battery 15%", "a percentage of 0%% to 100%% is missing before %s", t)
	}
	return &SetBattery{s, n, p.accept("charging")}
}

func readGive(p *parser, s Step) Statement {
	if t := p.peek(); t.Is("back") {
		p.next()
		if p.inAction == nil {
			p.fault(t, "name it instead: let x = …", "only an action gives a value back")
		}
		return &GiveBack{Step: s, Value: p.expression()}
	}
	p.want("file")
	t := p.wantString("the file's path")
	file, why := Beside(p.name, t.Plain())
	if why == "" && strings.HasPrefix(file, "..") {
		why = "a file that is given lies in the suite's folder"
	}
	if why != "" {
		p.fail(t, `give file "files/photo.png"`, "%s", why)
	}
	return &GiveFile{s, file}
}

func values(list ...Value) []Node {
	var out []Node
	for _, v := range list {
		if v != nil {
			out = append(out, v)
		}
	}
	return out
}

func (s *Rotate) parts() []Node      { return nil }
func (s *Permit) parts() []Node      { return nil }
func (s *PlaceDevice) parts() []Node { return values(s.Latitude, s.Longitude) }
func (s *Tilt) parts() []Node        { return values(s.Beta, s.Gamma, s.Alpha) }
func (s *Shake) parts() []Node       { return nil }
func (s *SetNetwork) parts() []Node  { return nil }
func (s *SetBattery) parts() []Node  { return nil }
func (s *GiveFile) parts() []Node    { return nil }

func (s *Deliver) parts() []Node {
	if s.Body == nil {
		return []Node{s.Title}
	}
	return []Node{s.Title, s.Body}
}

func (s *Rotate) words() string { return "rotate to " + s.To }
func (s *Permit) words() string { return s.Answer + " " + s.Permission }

func (s *PlaceDevice) words() string {
	if s.Unknown {
		return "place device nowhere"
	}
	return "place device at " + s.Latitude.words() + ", " + s.Longitude.words()
}

func (s *Tilt) words() string {
	return "tilt device " + s.Beta.words() + ", " + s.Gamma.words() + ", " + s.Alpha.words()
}

func (s *Shake) words() string      { return "shake device" }
func (s *SetNetwork) words() string { return "network " + s.Network }

func (s *SetBattery) words() string {
	if s.Charging {
		return fmt.Sprintf("battery %d%% charging", s.Percent)
	}
	return fmt.Sprintf("battery %d%%", s.Percent)
}

func (s *Deliver) words() string {
	if s.Body == nil {
		return "deliver push " + s.Title.words()
	}
	return "deliver push " + s.Title.words() + ", " + s.Body.words()
}

func (s *GiveFile) words() string { return "give file " + quote(s.File) }

func (s *Rotate) needs() []string      { return []string{"rotation"} }
func (s *Permit) needs() []string      { return []string{"permissions"} }
func (s *PlaceDevice) needs() []string { return []string{"place"} }
func (s *Tilt) needs() []string        { return []string{"motion"} }
func (s *Shake) needs() []string       { return []string{"motion"} }
func (s *SetNetwork) needs() []string  { return []string{"network"} }
func (s *SetBattery) needs() []string  { return []string{"battery"} }
func (s *Deliver) needs() []string     { return []string{"push"} }
func (s *GiveFile) needs() []string    { return []string{"files"} }

// feelings are what a device was made to feel, of each kind of thing: how that is done again, and
// how it is undone, in the order in which it was first done.
type feelings struct {
	kinds    []string
	do, undo map[string]func() error
}

func (f *feelings) note(kind string, do, undo func() error) {
	if f.do == nil {
		f.do, f.undo = map[string]func() error{}, map[string]func() error{}
	}
	if f.do[kind] == nil {
		f.kinds, f.undo[kind] = append(f.kinds, kind), undo
	}
	f.do[kind] = do
}

// feel does something to a device by an ability of it, and notes how that is undone after the
// case, once for each kind of thing: by what came before all, where that has made it feel so.
func feel[T any](r *runner, st Statement, kind string, do func(T) error, undo func(T) error) *stop {
	ability, ok := device.As[T](r.device)
	if !ok {
		return r.trouble(st, device.ErrNoAbility)
	}
	if undo != nil {
		back := func() error { return undo(ability) }
		if again := r.usual.do[kind]; again != nil {
			back = again
		}
		r.felt.note(kind, func() error { return do(ability) }, back)
	}
	return r.act(st, do(ability))
}

func (s *Rotate) run(r *runner) *stop {
	was := device.Portrait
	if t, err := r.device.Tree(r.ctx); err == nil && t.Width > t.Height {
		was = device.Landscape
	}
	return feel(r, s, "rotation", func(d device.Rotating) error { return d.Rotate(r.ctx, s.To) },
		func(d device.Rotating) error { return d.Rotate(r.ctx, was) })
}

func (s *Permit) run(r *runner) *stop {
	return feel(r, s, "permission "+s.Permission, func(d device.Permitting) error {
		return d.SetPermission(r.ctx, r.o.App, s.Permission, s.Answer)
	}, func(d device.Permitting) error { return d.SetPermission(r.ctx, r.o.App, s.Permission, device.Ask) })
}

func (s *PlaceDevice) run(r *runner) *stop {
	var at *device.Place
	if !s.Unknown {
		numbers, stopped := r.numbers(s, s.Latitude, s.Longitude)
		if stopped != nil {
			return stopped
		}
		at = &device.Place{Latitude: numbers[0], Longitude: numbers[1], Accuracy: 5}
	}
	return feel(r, s, "place", func(d device.Placed) error { return d.SetPlace(r.ctx, at) },
		func(d device.Placed) error { return d.SetPlace(r.ctx, nil) })
}

func (s *Tilt) run(r *runner) *stop {
	n, stopped := r.numbers(s, s.Beta, s.Gamma, s.Alpha)
	if stopped != nil {
		return stopped
	}
	return feel(r, s, "tilt", func(d device.Moving) error { return d.Tilt(r.ctx, n[2], n[0], n[1]) },
		func(d device.Moving) error { return d.Tilt(r.ctx, 0, 0, 0) })
}

func (s *Shake) run(r *runner) *stop {
	return feel[device.Moving](r, s, "shake", func(d device.Moving) error { return d.Shake(r.ctx) }, nil)
}

// networks are what a network can be made by name.
var networks = map[string]device.Network{"none": {None: true}, "slow": device.Slow, "normal": {}}

func (s *SetNetwork) run(r *runner) *stop {
	return feel(r, s, "network", func(d device.Networked) error { return d.SetNetwork(r.ctx, networks[s.Network]) },
		func(d device.Networked) error { return d.SetNetwork(r.ctx, device.Network{}) })
}

func (s *SetBattery) run(r *runner) *stop {
	return feel(r, s, "battery", func(d device.Powered) error { return d.SetBattery(r.ctx, s.Percent, s.Charging) },
		func(d device.Powered) error { return d.SetBattery(r.ctx, 100, true) })
}

func (s *Deliver) run(r *runner) *stop {
	text, stopped := r.textOf(s, s.Title)
	if stopped == nil && s.Body != nil {
		var body string
		if body, stopped = r.textOf(s, s.Body); body != "" {
			text += "\n" + body
		}
	}
	if stopped != nil {
		return stopped
	}
	return feel[device.Pushed](r, s, "push", func(d device.Pushed) error { return d.Push(r.ctx, r.o.App, text) }, nil)
}

func (s *GiveFile) run(r *runner) *stop {
	if r.o.File == nil {
		return r.stop(s, NoValue, "a file to give", "no files are at hand here")
	}
	path, err := r.o.File(s.File)
	if err != nil {
		return r.stop(s, NoValue, "a file to give", err.Error())
	}
	return feel(r, s, "files", func(d device.Filing) error { return d.PutFiles(r.ctx, path) },
		func(d device.Filing) error { return d.PutFiles(r.ctx) })
}

// numbers computes values that have to be numbers.
func (r *runner) numbers(st Statement, list ...Value) ([]float64, *stop) {
	var out []float64
	for _, v := range list {
		value, stopped := r.valueWhenSettled(st, v)
		if stopped != nil {
			return nil, stopped
		}
		if !value.IsNumber() {
			return nil, r.stop(st, NotANumber, v.told()+" to be a number", r.quoted(value)+" is a text")
		}
		f, _ := value.Number.Float64()
		out = append(out, f)
	}
	return out, nil
}

// restore undoes what the device was made to feel. It tells what could not be.
func (r *runner) restore(f *feelings) (troubles []string) {
	for _, kind := range slices.Backward(f.kinds) {
		undo := f.undo[kind]
		err := undo()
		if crash := (*device.Crash)(nil); errors.As(err, &crash) { // that the app has died is known, and in the way of nothing
			_ = r.device.Stop(r.ctx, r.o.App)
			err = undo()
		}
		if err != nil {
			troubles = append(troubles, kind+": "+err.Error())
		}
	}
	*f = feelings{}
	return troubles
}

func newRat() *big.Rat { return new(big.Rat) }
