package watch

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Watch is what one browser wants to be told of.
type Watch struct {
	Fleet   bool            // every device, and then what changes
	Runs    bool            // the late runs, and then what changes
	Library bool            // that builds or suites have changed
	Events  map[int64]int64 // events of runs, by number, after an event's number
}

// Told is something that a browser is told: the name of an event and its data.
type Told struct {
	Kind string
	Body any
}

// FleetNews tells of devices: of all where Whole is set, else of those that changed.
type FleetNews struct {
	Whole   bool               `json:"whole"`
	Devices []contract.Glimpse `json:"devices"`
	Gone    []string           `json:"gone,omitempty"`
}

// RunsNews tells of runs that changed.
type RunsNews struct {
	Runs []contract.Run `json:"runs"`
}

// EventNews tells of events of one run. They are numbered on from First.
type EventNews struct {
	Run    int64             `json:"run"`
	First  int64             `json:"first"`
	Events []json.RawMessage `json:"events"`
}

// LibraryNews tells that builds or suites have changed, by other numbers.
type LibraryNews struct {
	Builds int64 `json:"builds"`
	Suites int64 `json:"suites"`
}

// pulseEvery is how often a browser is told that all is well where nothing happens.
const pulseEvery = 5 * time.Second

// Follow tells what happens, as it happens, until ctx ends or tell fails. What it
// tells first is how things are; nothing after it is left out.
func (s *Part) Follow(ctx context.Context, c base.Caller, w Watch, tell func([]Told) error) error {
	heard, leave := s.Bell.Subscribe()
	defer leave()
	f := follower{service: s, caller: c, watch: w}
	pulse := time.NewTicker(pulseEvery)
	defer pulse.Stop()
	tick := time.NewTicker(time.Second) // in case the bell was not heard
	defer tick.Stop()
	for first := true; ; first = false {
		told, wait, err := f.news(ctx)
		if err != nil {
			return err
		}
		var soon <-chan time.Time
		if wait > 0 { // the tables were read a moment ago: what has changed since is told a moment later
			soon = time.After(wait)
		}
		if len(told) > 0 || first {
			if first {
				told = append(told, Told{"pulse", struct{}{}})
			}
			if err := tell(told); err != nil {
				return err
			}
		}
		select {
		case <-heard:
		case <-soon:
		case <-tick.C:
		case <-pulse.C:
			if err := tell([]Told{{"pulse", struct{}{}}}); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// follower remembers what a browser has been told.
type follower struct {
	service *Part
	caller  base.Caller
	watch   Watch
	seen    *sight
}

// news gives what has not been told. Events of runs never wait; fleet and runs may,
// for as long as it says.
func (f *follower) news(ctx context.Context) (out []Told, wait time.Duration, err error) {
	for run, after := range f.watch.Events {
		n, err := f.events(ctx, run, after)
		if err != nil {
			return nil, 0, err
		}
		for _, one := range n {
			out = append(out, Told{"run", one})
			f.watch.Events[run] = one.First + int64(len(one.Events)) - 1
		}
	}
	if !f.watch.Fleet && !f.watch.Runs && !f.watch.Library {
		return out, 0, nil
	}
	now, wait, err := f.service.views.see(ctx, f.service, f.caller.ProjectID)
	if err != nil || now == f.seen {
		return out, wait, err
	}
	before := f.seen
	f.seen = now
	if n, ok := fleetNews(before, now); ok && f.watch.Fleet {
		out = append(out, Told{"fleet", n})
	}
	if n := runsNews(before, now); len(n.Runs) > 0 && f.watch.Runs || before == nil && f.watch.Runs {
		out = append(out, Told{"runs", n})
	}
	if f.watch.Library && (before == nil || before.marks != now.marks) {
		out = append(out, Told{"library", LibraryNews{now.marks.Builds, now.marks.Suites}})
	}
	return out, wait, nil
}

func (f *follower) events(ctx context.Context, run, after int64) ([]EventNews, error) {
	var out []EventNews
	batches, err := f.service.Store.EventsOf(ctx, f.caller.ProjectID, run, after, 500)
	for _, b := range batches {
		first, list := b.First, b.Events.V
		if skip := after + 1 - first; skip > 0 {
			first, list = after+1, list[min(skip, int64(len(list))):]
		}
		if len(list) > 0 {
			out = append(out, EventNews{run, first, list})
			after = first + int64(len(list)) - 1
		}
	}
	return out, err
}

// sight is how a project's fleet and late runs are at a moment. It is never
// changed; what has not changed between two sights is the same pointer in both.
type sight struct {
	devices map[string]*store.Glimpse
	order   []*store.Glimpse
	runs    map[int64]*store.Run
	late    []*store.Run
	marks   store.Marks
}

func fleetNews(before, now *sight) (FleetNews, bool) {
	n := FleetNews{Whole: before == nil, Devices: []contract.Glimpse{}}
	for _, d := range now.order {
		if before == nil || before.devices[d.Name] != d {
			n.Devices = append(n.Devices, wire.Glimpse(*d))
		}
	}
	if before != nil {
		for name := range before.devices {
			if now.devices[name] == nil {
				n.Gone = append(n.Gone, name)
			}
		}
	}
	return n, n.Whole || len(n.Devices)+len(n.Gone) > 0
}

func runsNews(before, now *sight) RunsNews {
	n := RunsNews{Runs: []contract.Run{}}
	for _, r := range now.late {
		if before == nil || before.runs[r.ID] != r {
			n.Runs = append(n.Runs, wire.Run(*r))
		}
	}
	return n
}

// views holds the newest sight of each project that somebody watches: however many
// browsers there are, the tables are read once.
type views struct {
	mu sync.Mutex
	of map[int64]*view
}

type view struct {
	mu   sync.Mutex // held while the tables are read
	rung int64      // the bell's count before they were
	at   time.Time  // when they had been
	took time.Duration
	last *sight
}

// The tables are read again at most this often, and never more than a fifth of
// the time; where the bell was not heard, after a second.
const (
	readEvery = 30 * time.Millisecond
	readShare = 4
	staleTime = time.Second
)

// see gives a sight that is at least as new as the last ring of the bell, or the
// last one and for how long the tables are not to be read.
func (v *views) see(ctx context.Context, s *Part, project int64) (*sight, time.Duration, error) {
	v.mu.Lock()
	one := v.of[project]
	if one == nil {
		one = &view{}
		v.of[project] = one
	}
	v.mu.Unlock()
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.last != nil && one.rung == s.Bell.Count() && time.Since(one.at) < staleTime {
		return one.last, 0, nil
	}
	if wait := max(readEvery, readShare*one.took) - time.Since(one.at); wait > 0 && one.last != nil {
		return one.last, wait, nil
	}
	rung, began := s.Bell.Count(), time.Now()
	next, err := s.look(ctx, project, one.last)
	if err != nil {
		return nil, 0, err
	}
	one.rung, one.at, one.took = rung, time.Now(), time.Since(began)
	if next != nil {
		one.last = next
	}
	return one.last, 0, nil
}

// newestRuns is how many of the newest runs are followed, finished ones too.
const newestRuns = 30

// look reads the tables. It gives nil where nothing has changed since before.
func (s *Part) look(ctx context.Context, project int64, before *sight) (*sight, error) {
	old := before
	if old == nil {
		old = &sight{}
	}
	devices, err := s.Store.Glimpses(ctx, project)
	if err != nil {
		return nil, err
	}
	var open []int64
	for id, r := range old.runs {
		if r.FinishedAt == nil {
			open = append(open, id)
		}
	}
	runs, err := s.Store.LateRuns(ctx, project, open, newestRuns)
	if err != nil {
		return nil, err
	}
	marks, err := s.Store.Marks(ctx, project)
	if err != nil {
		return nil, err
	}
	now := &sight{devices: make(map[string]*store.Glimpse, len(devices)), runs: make(map[int64]*store.Run, len(runs)),
		marks: marks}
	same := before != nil && marks == old.marks && len(devices) == len(old.order) && len(runs) == len(old.late)
	for i := range devices {
		d := &devices[i]
		if was := old.devices[d.Name]; was != nil && *was == *d {
			d = was
		} else {
			same = false
		}
		now.devices[d.Name], now.order = d, append(now.order, d)
	}
	for i := range runs {
		r := &runs[i]
		if was := old.runs[r.ID]; was != nil && sameRun(*was, *r) {
			r = was
		} else {
			same = false
		}
		now.runs[r.ID], now.late = r, append(now.late, r)
	}
	if same {
		return nil, nil
	}
	return now, nil
}

func sameRun(a, b store.Run) bool {
	return a.LastEvent == b.LastEvent && a.State == b.State && a.OpenLegs == b.OpenLegs && a.Verdict == b.Verdict &&
		(a.FinishedAt == nil) == (b.FinishedAt == nil)
}
