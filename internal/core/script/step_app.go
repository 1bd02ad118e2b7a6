package script

import "yamato/internal/core/device"

// StartApp starts the app, with its data gone if Fresh.
type StartApp struct {
	Step
	Fresh bool
}

func init() {
	add(form{word: "start", usage: "start app [fresh]", read: func(p *parser, s Step) Statement {
		p.want("app")
		return &StartApp{s, p.accept("fresh")}
	}})
}

func (s *StartApp) parts() []Node { return nil }

func (s *StartApp) words() string {
	if s.Fresh {
		return "start app fresh"
	}
	return "start app"
}

// run starts the app; the first step of a case starts it afresh, unless the suite goes on
// in what the case before left.
func (s *StartApp) run(r *runner) *stop {
	how := device.Resume
	if s.Fresh || r.ran == 0 && !r.suite.KeepApp {
		how = device.Fresh
	}
	return r.act(s, r.device.Start(r.ctx, r.o.App, how))
}
