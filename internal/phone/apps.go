package phone

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

// app is one that is installed.
type app struct {
	p      appfile.Package
	paths  []string // of its packages, the base first
	splits []string // names of the others
	fresh  bool     // its data were taken away: it starts as on its first day
	uid    int
	pid    int    // 0 while it does not run
	tag    string // its own language, "" for the system's

	grants map[string]grant // by the OS's name of the permission
}

// body is what lies behind the phone's programs: a device, whose clock goes with the wall's.
type body struct {
	device driver.Device
	apps   map[string]*app
	begun  time.Time // when its clock stood at zero; none before it was made ready
	pids   int
	uids   map[string]int
}

// with does something with the device once its clock has come to where the wall's is. It is done by one at a time.
func (p *Phone) with(ctx context.Context, do func(d driver.Device) error) error {
	p.lock()
	defer p.using.Unlock()
	b := &p.body
	if b.device == nil {
		return errors.New("this phone has no screen")
	}
	if b.begun.IsZero() {
		if err := b.device.Ready(ctx, driver.Terms{}); err != nil {
			return err
		}
		b.begun = time.Now().Add(-b.device.Now())
	}
	// Whoever hangs up meanwhile leaves the app as it is: a turn of it that is given up would end its process.
	whole := context.WithoutCancel(ctx)
	for target := time.Since(b.begun); b.device.Now() < target; {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		err := b.device.AwaitChange(whole, device.NoRevision, target) // nobody looks meanwhile: nothing is laid out
		if p.noteCrash(ctx, err) {
			continue
		}
		if err != nil {
			return err
		}
	}
	err := do(b.device)
	p.noteLog(ctx)
	if p.noteCrash(ctx, err) {
		return nil // the OS goes on; who looks finds another app in front
	}
	return err
}

// noteCrash keeps what the system writes of an app that has died.
func (p *Phone) noteCrash(ctx context.Context, err error) bool {
	var c *device.Crash
	if !errors.As(err, &c) {
		return false
	}
	p.noteLog(ctx)
	p.noteDeath(p.front, cmp.Or(c.Report, c.Reason))
	// The OS ends what is left of the app, and shows the home screen.
	if p.body.device.Stop(ctx, p.front) != nil {
		return false
	}
	p.front = ""
	if k, ok := device.As[device.Presser](p.body.device); ok {
		return k.Press(ctx, "home") == nil
	}
	return true
}

func init() {
	maps.Copy(commands, map[string]func(*job) int{
		"pm": packages, "am": activities, "cmd": func(j *job) int {
			if len(j.args) < 2 {
				return j.fail(20, "cmd: no service specified; use -l to list all services")
			}
			do := services[j.args[1]]
			if do != nil && j.phone.config.API >= since[j.args[1]] {
				j.args = j.args[1:]
				return do(j)
			}
			return j.fail(20, "cmd: Can't find service: %s", j.args[1])
		},
	})
	maps.Copy(services, map[string]func(*job) int{"package": packages, "activity": activities})
}

// packages is the OS's package manager.
func packages(j *job) int {
	if len(j.args) < 2 {
		return j.fail(1, "Package manager (package) commands:")
	}
	rest := j.args[2:]
	name := ""
	if len(rest) > 0 {
		name = rest[len(rest)-1]
	}
	p := j.phone
	switch j.args[1] {
	case "install":
		return install(j, rest)
	case "install-create", "install-write", "install-commit", "install-abandon":
		return installing(j, strings.TrimPrefix(j.args[1], "install-"), rest)
	case "list":
		p.lock()
		defer p.using.Unlock()
		for _, id := range slices.Sorted(maps.Keys(p.body.apps)) {
			if slices.Contains(rest, "-U") {
				j.say("package:%s uid:%d\n", id, p.body.apps[id].uid)
				continue
			}
			j.say("package:%s\n", id)
		}
		return 0
	case "path":
		p.lock()
		defer p.using.Unlock()
		if a := p.body.apps[name]; a != nil {
			j.say("package:/data/app/%s-1/base.apk\n", name)
			for _, of := range a.splits {
				j.say("package:/data/app/%s-1/split_%s.apk\n", name, of)
			}
			return 0
		}
		return 1
	case "uninstall":
		return uninstall(j, name)
	case "clear":
		err := p.with(j.ctx, func(d driver.Device) error {
			a := p.body.apps[name]
			if a == nil {
				return errFailed
			}
			a.fresh = true
			if err := p.forget(j, d, a); err != nil {
				return err
			}
			return p.stop(j.ctx, d, name)
		})
		return j.outcome(err, "Success", "Failed")
	case "grant", "revoke", "set-permission-flags", "clear-permission-flags":
		return permission(j, rest)
	case "resolve-activity":
		p.lock()
		defer p.using.Unlock()
		if a := p.body.apps[name]; a != nil && a.p.Launch != "" {
			j.say("priority=0 preferredOrder=0 match=0x108000 specificIndex=-1 isDefault=false\n%s/%s\n", name, a.p.Launch)
			return 0
		}
		j.say("No activity found\n")
		return 0
	}
	return j.fail(255, "Unknown command: %s", j.args[1])
}

var errFailed = errors.New("it failed")

func (j *job) outcome(err error, well, badly string) int {
	if err != nil {
		j.say("%s\n", badly)
		return 1
	}
	j.say("%s\n", well)
	return 0
}

// forget has an app be allowed nothing: that goes with its data.
func (p *Phone) forget(j *job, d driver.Device, a *app) error {
	for of := range a.grants {
		what := permissionNames[of]
		delete(a.grants, of)
		if err := p.permit(j, d, a, what); err != nil {
			return err
		}
	}
	return nil
}

// keep has an app be on the phone. One that was there keeps who it is, and what it was allowed.
func (p *Phone) keep(read *appfile.Package, paths []string) {
	a := p.body.apps[read.ApplicationID]
	if a == nil {
		if p.body.uids[read.ApplicationID] == 0 {
			p.body.uids[read.ApplicationID] = 10_100 + len(p.body.uids)
		}
		a = &app{uid: p.body.uids[read.ApplicationID], grants: map[string]grant{}}
		p.body.apps[read.ApplicationID] = a
	}
	_ = a.remove() // those of the version before
	a.p, a.paths, a.pid = *read, paths, 0
}

func older(a, b string) bool {
	x, _ := strconv.ParseInt(a, 10, 64)
	y, _ := strconv.ParseInt(b, 10, 64)
	return x < y
}

func uninstall(j *job, name string) int {
	p := j.phone
	err := p.with(j.ctx, func(d driver.Device) error {
		a := p.body.apps[name]
		if a == nil {
			return errFailed
		}
		r, ok := device.As[device.Removing](d)
		if !ok {
			return errFailed
		}
		if err := p.forget(j, d, a); err != nil {
			return err
		}
		if err := r.Remove(j.ctx, name); err != nil {
			return err
		}
		if p.front == name {
			p.front = ""
		}
		delete(p.body.apps, name)
		return a.remove()
	})
	return j.outcome(err, "Success", "Failure [DELETE_FAILED_INTERNAL_ERROR]")
}

func (p *Phone) stop(ctx context.Context, d driver.Device, name string) error {
	if p.front == name {
		p.front = ""
	}
	if a := p.body.apps[name]; a != nil {
		a.pid = 0
	}
	return d.Stop(ctx, name)
}

// activities is the OS's activity manager.
func activities(j *job) int {
	if len(j.args) < 2 {
		return j.fail(1, "Activity manager (activity) commands:")
	}
	p := j.phone
	switch j.args[1] {
	case "force-stop":
		name := j.args[len(j.args)-1]
		err := p.with(j.ctx, func(d driver.Device) error {
			if p.body.apps[name] == nil {
				return nil // of an app that is not there nothing runs
			}
			return p.stop(j.ctx, d, name)
		})
		if err != nil {
			return j.fail(255, "Error: %v", err)
		}
		return 0
	case "start":
		return begin(j)
	}
	return j.fail(255, "Unknown command: %s", j.args[1])
}

func begin(j *job) int {
	p, component, link, name := j.phone, "", "", ""
	for i := 2; i < len(j.args); i++ {
		switch {
		case j.args[i] == "-n" && i+1 < len(j.args):
			i++
			component = j.args[i]
		case j.args[i] == "-d" && i+1 < len(j.args):
			i++
			link = j.args[i]
		case j.args[i] == "-a" && i+1 < len(j.args):
			i++
		case !strings.HasPrefix(j.args[i], "-"):
			name = j.args[i]
		}
	}
	if component != "" {
		name, _, _ = strings.Cut(component, "/")
	}
	j.say("Starting: Intent { cmp=%s }\n", component)
	missing, took := false, time.Duration(0)
	err := p.with(j.ctx, func(d driver.Device) error {
		a := p.body.apps[name]
		if a == nil || component != "" && component != name+"/"+a.p.Launch {
			missing = true
			return nil
		}
		if link != "" {
			l, ok := device.As[device.Linking](d)
			if !ok {
				missing = true
				return nil
			}
			p.front = name
			return l.OpenLink(j.ctx, name, link)
		}
		how := device.Resume
		if a.fresh {
			how, a.fresh = device.Fresh, false
		}
		p.front = name
		if a.pid == 0 {
			p.body.pids++
			a.pid = 4000 + p.body.pids
		}
		if err := p.speak(j, d, a); err != nil && !errors.Is(err, device.ErrNoAbility) {
			return err
		}
		before := d.Now()
		err := d.Start(j.ctx, name, how)
		took = d.Now() - before
		return err
	})
	switch {
	case missing:
		return j.fail(1, "Error type 3\nError: Activity class {%s} does not exist.", component)
	case err != nil:
		return j.fail(1, "Error: %v", err)
	}
	j.say("Status: ok\nActivity: %s\nTotalTime: %d\nWaitTime: %[2]d\nComplete\n", component, took.Milliseconds())
	return 0
}

// seen is what is on the screen.
func (p *Phone) seen(ctx context.Context) (*screen.Tree, error) {
	var tree *screen.Tree
	err := p.with(ctx, func(d driver.Device) (err error) {
		tree, err = d.Tree(ctx)
		if err == nil {
			p.front = tree.App
		}
		return err
	})
	if err == nil && tree == nil { // the app has died just now
		return p.seen(ctx)
	}
	return tree, err
}
