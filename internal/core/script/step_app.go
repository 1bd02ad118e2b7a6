package script

import (
	"fmt"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/token"
)

// The steps that start and stop the app, send it away and bring it what comes from outside.
type (
	// StartApp starts the app, with its data gone if Fresh.
	StartApp struct {
		Step
		Fresh bool
	}
	// StopApp ends the app and leaves its data.
	StopApp struct{ Step }
	// SendAway has the app be away for so long, and brings it back.
	SendAway struct {
		Step
		For time.Duration
	}
	// FollowLink opens a link into the app.
	FollowLink struct {
		Step
		Link *Template
	}
	// UpdateApp installs another build over the app, which keeps its data.
	UpdateApp struct {
		Step
		Build string
	}
)

func init() {
	add(
		form{word: "start", usage: "start app [fresh]", read: func(p *parser, s Step) Statement {
			p.want("app")
			return &StartApp{s, p.accept("fresh")}
		}},
		form{word: "stop", usage: "stop app", read: func(p *parser, s Step) Statement {
			p.want("app")
			return &StopApp{s}
		}},
		form{word: "send", usage: "send app away for 5s", read: func(p *parser, s Step) Statement {
			p.wantPhrase("app", "away", "for")
			return &SendAway{s, p.duration("how long it is away")}
		}},
		form{word: "follow", usage: `follow link "…"`, read: func(p *parser, s Step) Statement {
			p.want("link")
			return &FollowLink{s, p.template(p.wantString("the link"))}
		}},
		form{word: "update", usage: `update app to build "…"`, read: func(p *parser, s Step) Statement {
			p.wantPhrase("app", "to", "build")
			t := p.next()
			if t.Kind != token.String && t.Kind != token.Number {
				p.fail(t, `update app to build "3.2.1"`, "the build's version or number is missing before %s", t)
			}
			build := t.Plain()
			if t.Kind == token.Number {
				build = t.Raw
			}
			return &UpdateApp{s, build}
		}},
	)
}

func (s *StartApp) parts() []Node   { return nil }
func (s *StopApp) parts() []Node    { return nil }
func (s *SendAway) parts() []Node   { return nil }
func (s *FollowLink) parts() []Node { return []Node{s.Link} }
func (s *UpdateApp) parts() []Node  { return nil }

func (s *StartApp) words() string {
	if s.Fresh {
		return "start app fresh"
	}
	return "start app"
}

func (s *StopApp) words() string    { return "stop app" }
func (s *SendAway) words() string   { return "send app away for " + durationWords(s.For) }
func (s *FollowLink) words() string { return "follow link " + s.Link.words() }
func (s *UpdateApp) words() string  { return "update app to build " + quote(s.Build) }

func (s *SendAway) needs() []string   { return []string{"away"} }
func (s *FollowLink) needs() []string { return []string{"links"} }

// run starts the app; the first step of a case starts it afresh, unless the suite goes on
// in what the case before left.
func (s *StartApp) run(r *runner) *stop {
	how := device.Resume
	if s.Fresh || r.ran == 0 && !r.suite.KeepApp {
		how = device.Fresh
	}
	return r.start(s, how)
}

// start starts the app, and notes when that was.
func (r *runner) start(st Statement, how device.Start) *stop {
	began := r.device.Now()
	stopped := r.act(st, r.device.Start(r.ctx, r.o.App, how))
	if stopped != nil {
		return stopped
	}
	r.started, r.away = began, false
	if r.o.Opened == nil || r.opening {
		return nil
	}
	r.opening = true // once a case: what the case itself changes is not the run's any more
	if err := r.o.Opened(r.ctx); err != nil {
		return r.trouble(st, err)
	}
	return nil
}

func (s *StopApp) run(r *runner) *stop {
	stopped := r.act(s, r.device.Stop(r.ctx, r.o.App))
	r.away = stopped == nil
	return stopped
}

func (s *SendAway) run(r *runner) *stop {
	l, ok := device.As[device.Leaving](r.device)
	if !ok {
		return r.trouble(s, device.ErrNoAbility)
	}
	if err := l.SendAway(r.ctx); err != nil {
		return r.trouble(s, err)
	}
	if stopped := r.letPass(s, s.For); stopped != nil {
		return stopped
	}
	return r.act(s, r.device.Start(r.ctx, r.o.App, device.Resume))
}

// letPass lets the device's time go on.
func (r *runner) letPass(st Statement, long time.Duration) *stop {
	for end := r.device.Now() + long; r.device.Now() < end; {
		tree, err := r.device.Tree(r.ctx)
		if err == nil {
			r.settling.See(tree, r.device.Now())
			err = r.pass(tree.Revision, end)
		}
		if err != nil {
			return r.trouble(st, err)
		}
	}
	return nil
}

func (s *FollowLink) run(r *runner) *stop {
	l, ok := device.As[device.Linking](r.device)
	if !ok {
		return r.trouble(s, device.ErrNoAbility)
	}
	link, stopped := r.textOf(s, s.Link)
	if stopped != nil {
		return stopped
	}
	return r.act(s, l.OpenLink(r.ctx, r.o.App, link))
}

func (s *UpdateApp) run(r *runner) *stop {
	if r.o.Update == nil {
		return r.stop(s, NoAbility, "to get another build", "no other builds are at hand here")
	}
	if err := r.o.Update(r.ctx, s.Build); err != nil {
		return r.trouble(s, fmt.Errorf("build %s could not be installed: %w", s.Build, err))
	}
	*r.build = s.Build
	return r.start(s, device.Resume)
}

// textOf gives a text with its values.
func (r *runner) textOf(st Statement, t *Template) (string, *stop) {
	if name, ok := r.nameless(t); !ok {
		return "", r.stop(st, NoValue, "a value for each name", r.noValue(name).actual)
	}
	return r.text(t), nil
}

// running tells why the app does not run, "" where it does as far as anybody can tell: a device
// tells of an app that has died by an error.
func (r *runner) running(t *screen.Tree) string {
	if t.App != r.o.App && r.away {
		return "the app was stopped"
	}
	return ""
}
