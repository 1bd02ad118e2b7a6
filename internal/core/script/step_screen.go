package script

import (
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// TakePicture keeps a picture of the screen, or of one element.
type TakePicture struct {
	Step
	Element      *Element
	Name         *Template
	UnlessPassed bool
}

func init() {
	add(form{word: "picture", usage: `picture [of E] as "name" [unless passed]`, read: readPicture})
}

func readPicture(p *parser, s Step) Statement {
	pic := &TakePicture{Step: s}
	if p.accept("of") {
		pic.Element = p.element()
	}
	p.want("as")
	pic.Name = p.template(p.wantString("the picture's name"))
	if p.accept("unless") {
		p.want("passed")
		pic.UnlessPassed = true
	}
	return pic
}

func (s *TakePicture) parts() []Node { return append(elements(s.Element), s.Name) }

func (s *TakePicture) words() string {
	out := "picture "
	if s.Element != nil {
		out += "of " + s.Element.words() + " "
	}
	out += "as " + s.Name.words()
	if s.UnlessPassed {
		out += " unless passed"
	}
	return out
}

func (s *TakePicture) content(j judged) bool { return j.steady }

func (s *TakePicture) run(r *runner) *stop {
	var crop screen.Rect
	saw, stopped := r.judge(s, "a picture", func(t *screen.Tree) sight {
		if s.Element == nil {
			return sight{ok: true}
		}
		return r.readable(s.Element, t)
	})
	if stopped != nil {
		return stopped
	}
	if s.Element != nil {
		crop = saw.nodes[0].Visible
	}
	if name, ok := r.nameless(s.Name); !ok {
		return r.stop(s, NoValue, "a name for the picture", r.noValue(name).actual)
	}
	tree, err := r.device.Tree(r.ctx)
	if err != nil {
		return r.trouble(s, err)
	}
	p, err := r.device.Picture(r.ctx)
	if err != nil {
		return r.trouble(s, err)
	}
	kept := keptPicture{r.mask(r.text(s.Name)), p, tree, crop}
	if s.UnlessPassed {
		if len(r.unless) < maxUnless {
			r.unless = append(r.unless, kept)
		}
		return nil
	}
	kept.give(r.rec)
	return nil
}

// maxUnless bounds the pictures of a case that wait for its verdict.
const maxUnless = 100

// keptPicture is a picture that a script has asked for.
type keptPicture struct {
	name    string
	picture device.Picture
	tree    *screen.Tree
	crop    screen.Rect
}

func (k keptPicture) give(rec Recorder) { rec.Picture(k.name, k.picture, k.tree, nil, k.crop) }
