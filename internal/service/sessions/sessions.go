// Package sessions has people at devices: asking for one, what they are told meanwhile, what stays, and the
// end. What the device does goes over a socket between its host and the instance that this one leads to; whoever looks
// on from another instance is relayed there (live.go, stage.go).
package sessions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"yamato/internal/core/appfile"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/near"
	"yamato/internal/core/plain"
	"yamato/internal/core/remedy"
	"yamato/internal/core/states"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/care"
	"yamato/internal/store"
	"yamato/internal/store/pg"
	kept "yamato/internal/store/sessions"
)

// Part is these use cases.
type Part struct {
	*base.Base
	builds *builds.Part
	care   *care.Part
	secret string // that the other instances know this one by
	taken  *taken

	mu     sync.Mutex
	stages map[int64]*stage // by lease
	ports  ports
	looks  sync.WaitGroup // of who is served now
}

// New gives them.
func New(b *base.Base, builds *builds.Part, care *care.Part) *Part {
	return &Part{Base: b, builds: builds, care: care, stages: map[int64]*stage{},
		ports: ports{wait: map[string]meeting{}}, secret: base.NewToken(), taken: newTaken()}
}

// Wish is what somebody wants of a session. What is empty is chosen.
type Wish struct {
	Name, Purpose      string
	Device, Lineup     string
	Build, App         string // a build to install first
	Platform           string // of the device, where none is named
	Installed          string // or an app that is there already
	Language, Cleaning string
	Shared             bool
	IdleMS, AwayMS     int64
	Lines              []string     // of script, carried out first
	Origin             *kept.Origin // where those come from
	Class              *fleet.Class // any device of a class, where neither device nor lineup is named
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// Bounds of what a session is asked with.
const (
	maxName    = 200     // bytes
	maxPurpose = 2000    // bytes
	maxLines   = 2000    // of script, to begin with
	maxBytes   = 1 << 20 // of those together
	usualIdle  = 30 * time.Minute
	usualAway  = 10 * time.Minute
	mostIdle   = 12 * time.Hour
)

// OpenSession asks for a device. The session waits in the queue where that is busy; one that is halted is booted.
func (s *Part) OpenSession(ctx context.Context, c base.Caller, in Wish, key string) (kept.Session, error) {
	wish, err := base.Wished(c, "session", key, in)
	if err != nil {
		return kept.Session{}, err
	}
	if made, err := s.Store.Granted(ctx, wish); err == nil {
		return s.Session(ctx, c, made)
	} else if !errors.Is(err, pg.ErrNone) {
		return kept.Session{}, base.Granted(err)
	}
	n := kept.Session{ProjectID: c.ProjectID, AskedBy: c.Name, Name: oneLine(in.Name), Purpose: in.Purpose,
		Shared: in.Shared, Language: in.Language, Cleaning: in.Cleaning, App: in.Installed}
	if err := s.check(&n, in); err != nil {
		return n, err
	}
	all, err := s.Candidates(ctx, c)
	if err != nil {
		return n, err
	}
	devices, err := s.choose(ctx, c, in, &n, all)
	if err != nil {
		return n, err
	}
	var build *store.Build
	if in.Build != "" {
		b, err := s.builds.BuildNamed(ctx, c, in.App, in.Build)
		if err != nil {
			return n, err
		}
		build = &b
		if devices, err = s.fitting(&n, b, devices, c.Name); err != nil {
			return n, err
		}
	}
	best := first(devices)
	if n.DeviceID == nil {
		for _, d := range devices {
			n.Among = append(n.Among, d.ID)
		}
	}
	if n.Name == "" {
		pattern, err := s.Store.Naming(ctx, c.ProjectID)
		if err != nil {
			return n, err
		}
		n.Name = plain.Text(Name(pattern, build, best.Name, time.Now()), maxName)
	}
	number, err := s.Store.AddSession(ctx, n, wish)
	if err != nil {
		return n, base.Granted(err)
	}
	s.Bell.Ring()
	if best.State == "halted" { // where nothing that is up will do
		_, err := s.care.Do(ctx, c, care.Wish{What: link.DoBoot, Device: best.Name}, "")
		if err != nil {
			s.Log.Info("a device that a session waits for could not be booted", "device", best.Name, "error", err)
		}
	}
	return s.Store.SessionNumbered(ctx, c.ProjectID, c.Name, number)
}

// check fills in what is usual, and refuses what cannot be.
func (s *Part) check(n *kept.Session, in Wish) error {
	size := 0
	for _, l := range in.Lines {
		size += len(l)
	}
	n.Lines.V, n.IdleMS, n.AwayMS = in.Lines, in.IdleMS, in.AwayMS
	if n.IdleMS == 0 {
		n.IdleMS = usualIdle.Milliseconds()
	}
	if n.AwayMS == 0 {
		n.AwayMS = usualAway.Milliseconds()
	}
	if n.Cleaning == "" {
		n.Cleaning = "app"
	}
	if in.Origin != nil {
		n.Origin = &pg.JSON[kept.Origin]{V: *in.Origin}
	}
	switch {
	case len(n.Name) > maxName || len(n.Purpose) > maxPurpose:
		return base.Invalid(fmt.Sprintf("a name has at most %d bytes, a purpose %d", maxName, maxPurpose), "shorten it")
	case len(in.Lines) > maxLines || size > maxBytes:
		return base.Invalid(fmt.Sprintf("a session begins with at most %d lines", maxLines),
			"push a suite for what is longer")
	case !slices.Contains([]string{"nothing", "app", "device"}, n.Cleaning):
		return base.Invalid(fmt.Sprintf("there is no cleaning %q", plain.Clip(n.Cleaning, 40)),
			"there are nothing, app and device")
	case n.IdleMS < 10_000 || n.IdleMS > mostIdle.Milliseconds() || n.AwayMS < 1000 ||
		n.AwayMS > mostIdle.Milliseconds():
		return base.Invalid("a session may be idle for 10 s to 12 h, and away for 1 s to 12 h",
			"choose times within that")
	case in.Device != "" && in.Lineup != "":
		return base.Invalid("either a device or a lineup is named", "leave one of them out")
	case in.Device == "" && in.Lineup == "" && in.Class == nil && in.Build == "":
		return base.Invalid("it does not say on which device",
			remedy.Say("name a device, a lineup or a build: %s lists devices", remedy.DeviceList))
	}
	if n.Language != "" {
		if _, why := fleet.UsualLevels(map[string]string{feel.Language: n.Language}); why != "" {
			return base.Invalid(why, "name it as BCP 47 does: en-GB")
		}
	}
	return nil
}

// choose gives the devices that a session may have: the one that is named, those of a lineup or a class, or any.
func (s *Part) choose(ctx context.Context, c base.Caller, in Wish, n *kept.Session,
	all []matrix.Candidate) ([]matrix.Candidate, error) {
	now := time.Now()
	switch {
	case in.Device != "":
		i := slices.IndexFunc(all, func(d matrix.Candidate) bool { return d.Name == in.Device })
		if i < 0 {
			return nil, base.NotFound(fmt.Sprintf("there is no device %q", plain.Clip(in.Device, 100)),
				remedy.Say("%s lists the devices", remedy.DeviceList))
		}
		d := all[i]
		if why, remedy := cannot(d, c.Name, now); why != "" {
			return nil, base.Invalid(fmt.Sprintf("%s cannot be had now: %s", d.Name, why), remedy)
		}
		n.DeviceID = &d.ID
		return []matrix.Candidate{d}, nil
	case in.Lineup != "":
		n.Lineup = in.Lineup
		var err error
		if all, err = s.builds.ChosenBy(ctx, c, in.Lineup, all); err != nil {
			return nil, err
		}
	case in.Class != nil:
		all = slices.DeleteFunc(all, func(d matrix.Candidate) bool {
			return d.Kind != in.Class.Kind || d.Model != in.Class.Model || d.Platform != in.Class.Platform ||
				d.OS != in.Class.OS
		})
	}
	if in.Platform != "" {
		all = slices.DeleteFunc(all, func(d matrix.Candidate) bool { return d.Platform != in.Platform })
	}
	// One that is free and virtual is had first: a phone is left to whom nothing else will do.
	slices.SortStableFunc(all, func(a, b matrix.Candidate) int {
		return cmp.Or(soonest[a.State]-soonest[b.State], hard[a.Kind]-hard[b.Kind])
	})
	why := ""
	all = slices.DeleteFunc(all, func(d matrix.Candidate) bool {
		w, _ := cannot(d, c.Name, now)
		if why == "" && w != "" {
			why = d.Name + ": " + w
		}
		return w != ""
	})
	if len(all) == 0 {
		if why == "" {
			why = "there is none such"
		}
		return nil, base.Invalid("no device can be had for this now; "+why,
			remedy.Say("%s lists the devices and what is wrong with each", remedy.DeviceList))
	}
	return all, nil
}

// cannot tells why somebody cannot have a device, however long they wait, "" where they can.
func cannot(d matrix.Candidate, who string, now time.Time) (why string, mend remedy.Remedy) {
	if r, ok := d.Admits(who, now); !ok {
		return r.Why, r.Remedy
	}
	switch d.State {
	case "offline", "unready", "sidelined":
		return fmt.Sprintf("it is %s: %s", d.State, d.Reason), remedy.Say("%s says what to do", remedy.DeviceCheck(d.Name))
	}
	return "", remedy.Remedy{}
}

// fitting keeps the devices that a build runs on, and notes which of its packages.
func (s *Part) fitting(n *kept.Session, b store.Build, devices []matrix.Candidate, who string) ([]matrix.Candidate,
	error) {
	at, why := -1, fleet.Reason{}
	devices = slices.DeleteFunc(slices.Clone(devices), func(d matrix.Candidate) bool {
		i, reasons := fleet.Fit(b.Facts(), d.Device, d.Condition.Installed, time.Now())
		if i < 0 {
			if why.Why == "" {
				why = reasons[0]
			}
			return true
		}
		if at < 0 {
			at = i
		}
		return i != at // one package a session: which is chosen by the first device that any fits
	})
	if at < 0 {
		return nil, base.Invalid(fmt.Sprintf("%s %s cannot run there: %s", b.App, b.VersionName, why.Why), why.Remedy)
	}
	n.BuildID, n.Package = &b.ID, b.Packages[at].Digest
	return devices, nil
}

// soonest tells which devices are had sooner, by their states.
var soonest = map[states.Device]int{states.DeviceIdle: 0, states.DeviceHalted: 1, states.DeviceBooting: 2,
	states.DeviceResetting: 3, states.DeviceLeased: 4}

// hard tells which kinds of devices there are fewer of.
var hard = map[string]int{fleet.Real: 1}

// first is the device that is likely to be had first.
func first(devices []matrix.Candidate) matrix.Candidate {
	return slices.MinFunc(devices, func(a, b matrix.Candidate) int { return soonest[a.State] - soonest[b.State] })
}

// Name fills in the pattern that sessions of a project are named by.
func Name(pattern string, b *store.Build, device string, now time.Time) string {
	app, version := "", ""
	if b != nil {
		app, version = b.App, b.VersionName
	}
	out := strings.NewReplacer("{app}", app, "{build}", version, "{device}", device, "{date}",
		now.Format("2006-01-02")).
		Replace(pattern)
	if out = strings.Join(strings.Fields(out), " "); out == "" {
		out = "by hand"
	}
	return out
}

// Sessions lists those that somebody may see, newest first.
func (s *Part) Sessions(ctx context.Context, c base.Caller, going bool, q string, cursor int64,
	limit int) (list []kept.Session,
	next int64, err error) {
	list, err = s.Store.Sessions.Sessions(ctx, c.ProjectID, c.Name, going, q, cursor, limit)
	if len(list) == limit {
		next = list[limit-1].Number
	}
	return list, next, err
}

// Session gives one, if the caller may see it.
func (s *Part) Session(ctx context.Context, c base.Caller, number int64) (kept.Session, error) {
	one, err := s.Store.SessionNumbered(ctx, c.ProjectID, c.Name, number)
	return one, base.NotThere(err, remedy.Say("%s lists the sessions that you may see", remedy.SessionList), "there is no session %d",
		number)
}

// own gives one that is the caller's.
func (s *Part) own(ctx context.Context, c base.Caller, number int64) (kept.Session, error) {
	one, err := s.Session(ctx, c, number)
	if err == nil && one.AskedBy != c.Name {
		err = base.Forbidden(fmt.Sprintf("session %d is %s's", number, one.AskedBy),
			"ask for the device to be handed over, on the session's page")
	}
	return one, err
}

// Words are what people may change of a session; nil leaves it as it is.
type Words struct {
	Name, Purpose *string
	Shared        *bool
}

// ChangeSession changes them.
func (s *Part) ChangeSession(ctx context.Context, c base.Caller, number int64, in Words) (kept.Session, error) {
	one, err := s.own(ctx, c, number)
	if err != nil {
		return one, err
	}
	for _, p := range []struct {
		to   *string
		from *string
		most int
	}{{&one.Name, in.Name, maxName}, {&one.Purpose, in.Purpose, maxPurpose}} {
		if p.from == nil {
			continue
		}
		if len(*p.from) > p.most || !utf8.ValidString(*p.from) {
			return one, base.Invalid(fmt.Sprintf("that is longer than %d bytes", p.most), "shorten it")
		}
		*p.to = strings.TrimSpace(*p.from)
	}
	one.Name = oneLine(one.Name)
	if one.Name == "" {
		return one, base.Invalid("a session has a name", "give it one")
	}
	if in.Shared != nil {
		one.Shared = *in.Shared
	}
	if err := s.Store.ChangeSession(ctx, one.ID, one.Name, one.Purpose, one.Shared); err != nil {
		return one, err
	}
	s.Bell.Ring()
	return s.Session(ctx, c, number)
}

// EndSession ends a session; the device is cleaned as it was asked.
func (s *Part) EndSession(ctx context.Context, c base.Caller, number int64) (kept.Session, error) {
	one, err := s.own(ctx, c, number)
	if err != nil || one.ClosedAt != nil {
		return one, err
	}
	if err := s.Store.AskEnd(ctx, one.ID, "ended by "+c.Name); err != nil {
		return one, err
	}
	s.Bell.Ring()
	return s.Session(ctx, c, number)
}

// MoveSession has a session go on on another device, with its name, build and what stays of it.
func (s *Part) MoveSession(ctx context.Context, c base.Caller, number int64, device, lineup string) (kept.Session,
	error) {
	one, err := s.own(ctx, c, number)
	if err != nil {
		return one, err
	}
	if one.ClosedAt != nil {
		return one, base.Invalid(fmt.Sprintf("session %d is closed", number), "open a new one")
	}
	if device == "" && lineup == "" {
		return one, base.Invalid("it does not say to which device", "name a device or a lineup")
	}
	all, err := s.Candidates(ctx, c)
	if err != nil {
		return one, err
	}
	next := kept.Session{}
	devices, err := s.choose(ctx, c, Wish{Device: device, Lineup: lineup}, &next, all)
	if err != nil {
		return one, err
	}
	if one.Pack != nil { // its app goes with it
		devices = slices.DeleteFunc(devices, func(d matrix.Candidate) bool {
			i, reasons := fleet.Fit([]appfile.Package{one.Pack.V}, d.Device, d.Condition.Installed, time.Now())
			if i < 0 {
				err = base.Invalid(fmt.Sprintf("%s cannot run on %s: %s", one.Build, d.Name, reasons[0].Why),
					reasons[0].Remedy)
			}
			return i < 0
		})
		if len(devices) == 0 {
			return one, err
		}
	}
	var among []int64
	if next.DeviceID == nil {
		for _, d := range devices {
			among = append(among, d.ID)
		}
	}
	if err := s.Store.Move(ctx, one.ID, next.DeviceID, among, next.Lineup, "it goes on on another device"); err != nil {
		return one, err
	}
	if best := first(devices); best.State == "halted" {
		// else it waits until somebody boots it
		_, _ = s.care.Do(ctx, c, care.Wish{What: link.DoBoot, Device: best.Name}, "")
	}
	s.Bell.Ring()
	return s.Session(ctx, c, number)
}

// SessionEntries gives what stays of a session.
func (s *Part) SessionEntries(ctx context.Context, c base.Caller, number int64) (kept.Session, []kept.Entry, error) {
	one, err := s.Session(ctx, c, number)
	if err != nil {
		return one, nil, err
	}
	list, err := s.Store.Entries(ctx, one.ID)
	return one, list, err
}

// Bounds of being away and idle.
const (
	awayAfter = 12 * time.Second // that nobody has been there for
	warnFor   = 2 * time.Minute  // before an idle session ends it says so
)

// WatchSessions looks after sessions until ctx ends: those that nobody is at any more, that have been idle for too
// long, and those that somebody asked to end a moment before being killed. Any instance may, each change is made once.
func (s *Part) WatchSessions(ctx context.Context) {
	if err := s.Store.SetSecret(ctx, s.Instance, s.secret); err != nil && ctx.Err() == nil {
		s.Log.Warn("live traffic cannot be relayed to this instance", "error", err)
	}
	for base.Every(ctx, time.Second) {
		if err := s.tend(ctx, time.Now()); err != nil && ctx.Err() == nil {
			s.Log.Warn("sessions could not be looked after", "error", err)
		}
	}
	s.looks.Wait()
}

func (s *Part) tend(ctx context.Context, now time.Time) error {
	list, err := s.Store.Going(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	changed := false
	for _, one := range list {
		if one.State != "open" && one.State != "away" || one.EndAsked != "" {
			continue
		}
		why := ""
		switch idle := time.Duration(one.IdleMS) * time.Millisecond; {
		case now.Sub(one.ContactAt) > awayAfter+time.Duration(one.AwayMS)*time.Millisecond:
			why = fmt.Sprintf("nobody came back within %s", short(one.AwayMS))
		case one.State == "open" && now.Sub(one.UsedAt) > idle:
			why = fmt.Sprintf("the device was not used for %s", short(one.IdleMS))
		}
		if why != "" {
			err = s.Store.AskEnd(ctx, one.ID, why)
			changed = true
		} else if one.State == "open" && now.Sub(one.ContactAt) > awayAfter {
			changed, err = s.Store.Away(ctx, one.ID, awayAfter)
		}
		if err != nil {
			return err
		}
	}
	if changed {
		s.Bell.Ring()
	}
	return s.Store.PassOnEnds(ctx)
}

func short(ms int64) string {
	d := time.Duration(ms) * time.Millisecond
	if d >= time.Minute {
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
	return fmt.Sprintf("%.0f s", d.Seconds())
}

// MaxFile bounds a file that devices are given to choose from, in bytes.
const MaxFile = 64 << 20

// AddSessionFile keeps a file that the device of a session can be given to choose from.
func (s *Part) AddSessionFile(ctx context.Context, c base.Caller, number int64, r io.Reader) (digest string, size int64,
	err error) {
	one, err := s.own(ctx, c, number)
	if err != nil {
		return "", 0, err
	}
	if one.ClosedAt != nil {
		return "", 0, base.Invalid(fmt.Sprintf("session %d is closed", number), "open a new one")
	}
	info, err := s.Put(ctx, r, "", MaxFile)
	if err != nil {
		return "", 0, err
	}
	return info.Digest, info.Size, s.Store.LetRead(ctx, one.ID, info.Digest)
}

// AwaitSession gives a session once it is open or closed, or when a time has passed.
func (s *Part) AwaitSession(ctx context.Context, c base.Caller, number int64, most time.Duration) (kept.Session,
	error) {
	heard, leave := s.Bell.Subscribe()
	defer leave()
	limit := time.NewTimer(most)
	defer limit.Stop()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		one, err := s.Session(ctx, c, number)
		if err != nil || one.State != "opening" && one.EndAsked == "" || one.ClosedAt != nil {
			return one, err
		}
		select {
		case <-heard:
		case <-tick.C:
		case <-limit.C:
			return one, nil
		case <-ctx.Done():
			return one, ctx.Err()
		}
	}
}

// AgainByHand has a session begin as a failed case of a run did: on a device of that class, with that build, in its
// language, at the step before the one that failed.
func (s *Part) AgainByHand(ctx context.Context, c base.Caller, run, leg int64, index int, in Wish) (Wish, error) {
	f, err := s.failedCase(ctx, c, run, leg, index)
	if err != nil {
		return in, err
	}
	in.App, in.Build, in.Lines = f.app, f.version, append([]string{"start app fresh"}, f.lines...)
	if len(f.lines) > 0 && strings.HasPrefix(f.lines[0], "start app") {
		in.Lines = f.lines
	}
	in.Origin = &kept.Origin{Run: run, Suite: f.leg.Suite, Case: f.name, Line: f.line, Step: f.step}
	if in.Device == "" && in.Lineup == "" {
		in.Class = &fleet.Class{Kind: f.leg.Kind, Model: f.leg.Model, Platform: f.leg.Platform, OS: f.leg.OS}
	}
	for _, l := range f.leg.Levels.V {
		if l.Factor == feel.Language && in.Language == "" {
			in.Language = l.Value
		}
	}
	if in.Name == "" {
		in.Name = plain.Text(fmt.Sprintf("run %d by hand: %s", run, f.name), maxName)
	}
	return in, nil
}

// Nearest chooses the device that is nearest to what somebody says that they saw something on.
func (s *Part) Nearest(ctx context.Context, c base.Caller, model, os, language string, in Wish) (Wish, error) {
	all, err := s.Candidates(ctx, c)
	if err != nil {
		return in, err
	}
	now := time.Now()
	best, most := "", -1.0
	for _, d := range all {
		if why, _ := cannot(d, c.Name, now); why != "" {
			continue
		}
		if in.Build != "" {
			b, err := s.builds.BuildNamed(ctx, c, in.App, in.Build)
			if err != nil {
				return in, err
			}
			if i, _ := fleet.Fit(b.Facts(), d.Device, d.Condition.Installed, now); i < 0 {
				continue
			}
		}
		score := 4*likeness(model, d.Model) + 2*likeness(os, d.OS) - 0.1*float64(soonest[d.State])
		if score > most {
			best, most = d.Name, score
		}
	}
	if best == "" {
		return in, base.Invalid("no device can be had for this now",
			remedy.Say("%s lists the devices and what is wrong with each", remedy.DeviceList))
	}
	in.Device = best
	if in.Language == "" {
		in.Language = language
	}
	return in, nil
}

// likeness is how near one text is to another, 0 to 1.
func likeness(wanted, has string) float64 {
	wanted, has = strings.ToLower(wanted), strings.ToLower(has)
	if wanted == "" {
		return 0
	}
	most := max(len([]rune(wanted)), len([]rune(has)))
	return 1 - float64(near.Distance(wanted, has))/float64(most)
}
