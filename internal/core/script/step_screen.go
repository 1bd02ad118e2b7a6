package script

import (
	"yamato/internal/core/screen"
)

// TakePicture keeps a picture of the screen, or of one element.
type TakePicture struct {
	Step
	Element *Element
	Name    *Template
}

func init() {
	add(form{word: "picture", usage: `picture [of E] as "name"`, read: readPicture})
}

func readPicture(p *parser, s Step) Statement {
	pic := &TakePicture{Step: s}
	if p.accept("of") {
		pic.Element = p.element()
	}
	p.want("as")
	pic.Name = p.template(p.wantString("the picture's name"))
	if t := p.peek(); t.Is("unless") {
		p.notReady(t)
	}
	return pic
}

func (s *TakePicture) parts() []Node {
	if s.Element == nil {
		return []Node{s.Name}
	}
	return []Node{s.Element, s.Name}
}

func (s *TakePicture) words() string {
	if s.Element == nil {
		return "picture as " + s.Name.words()
	}
	return "picture of " + s.Element.words() + " as " + s.Name.words()
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
	tree, err := r.device.Tree(r.ctx)
	if err != nil {
		return r.trouble(s, err)
	}
	p, err := r.device.Picture(r.ctx)
	if err != nil {
		return r.trouble(s, err)
	}
	r.rec.Picture(r.text(s.Name), p, tree, nil, crop)
	return nil
}
