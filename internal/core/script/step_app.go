package script

import (
	"time"

	"yamato/internal/core/device"
)

// The steps that bring the app to the front and send it away.
type (
	// StartApp starts the app, with its data gone if Fresh.
	StartApp struct {
		Step
		Fresh bool
	}
	// SendAway has the app be away for so long, and brings it back.
	SendAway struct {
		Step
		For time.Duration
	}
)

func init() {
	add(form{word: "send", usage: "send app away for 5s", read: func(p *parser, s Step) Statement {
		p.want("app")
		p.want("away")
		p.want("for")
		return &SendAway{s, p.duration("how long it is away")}
	}}, form{word: "start", usage: "start app [fresh]", read: func(p *parser, s Step) Statement {
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

func (s *SendAway) parts() []Node   { return nil }
func (s *SendAway) words() string   { return "send app away for " + durationWords(s.For) }
func (s *SendAway) needs() []string { return []string{"away"} }

func (s *SendAway) run(r *runner) *stop {
	l, ok := device.As[device.Leaving](r.device)
	if !ok {
		return r.trouble(s, device.ErrNoAbility)
	}
	if err := l.SendAway(r.ctx); err != nil {
		return r.trouble(s, err)
	}
	for end := r.device.Now() + s.For; r.device.Now() < end; {
		tree, err := r.device.Tree(r.ctx)
		if err == nil {
			err = r.pass(tree.Revision, end)
		}
		if err != nil {
			return r.trouble(s, err)
		}
	}
	return r.act(s, r.device.Start(r.ctx, r.o.App, device.Resume))
}
