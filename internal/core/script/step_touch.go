package script

// Tap touches the middle of an element.
type Tap struct {
	Step
	Element *Element
}

func init() {
	add(form{word: "tap", usage: "tap E", read: func(p *parser, s Step) Statement {
		return &Tap{s, p.element()}
	}})
}

func (s *Tap) parts() []Node         { return []Node{s.Element} }
func (s *Tap) words() string         { return "tap " + s.Element.words() }
func (s *Tap) run(r *runner) *stop   { return r.tap(s, s.Element) }
func (s *Tap) content(j judged) bool { return j.steady }

// tap touches the middle of an element once that is there, shown, still, enabled and
// uncovered.
func (r *runner) tap(st Statement, e *Element) *stop {
	saw, stopped := r.judge(st, e.Text+" to act on", r.usable(e))
	if stopped != nil {
		return stopped
	}
	return r.act(st, r.device.Tap(r.ctx, saw.nodes[0].Visible.Centre()))
}
