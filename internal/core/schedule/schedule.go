// Package schedule decides which leg runs on which device.
//
// State is incremental: Apply takes one event and gives the placements that
// follow from it. After every event no idle device fits a waiting leg. It holds
// no clock and asks nobody; the same events in the same order always give the
// same placements, so a decision can be replayed and rehearsed.
package schedule

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"
)

// Class is what devices have in common as far as a leg may ask.
type Class struct {
	Project  int64
	Kind     string
	Model    string
	Platform string
	OS       string
	Only     string // for whom, as Only writes it; "" for everybody
}

// Only names the people whom a device is for now. Without any it is for nobody.
func Only(people []string) string { return apart + strings.Join(people, apart) + apart }

const apart = "\x00" // no name holds it: PostgreSQL's text does not either

// Device is a device as the scheduler sees it.
type Device struct {
	ID    int64
	Class Class
	Worth int // how much else it could serve; devices of little worth go first
	Idle  bool
	At    time.Time     // when it came to be so
	Took  time.Duration // how long its last lease lasted, 0 where it had none
	Lease int64         // the number of that lease
}

// Demand is what a leg asks of a device. Empty fields of Class take anything;
// the project never does.
type Demand struct {
	Class  Class
	Device int64   // this device and no other; 0 for any
	Avoid  []int64 // not these
	Among  []int64 // one of these; nil for any
	Who    string  // asks; devices may be for some people only
}

// Takes reports whether a device of class c with that id serves d.
func (d Demand) Takes(id int64, c Class) bool {
	return d.takesClass(c) && (d.Device == 0 || d.Device == id) && !slices.Contains(d.Avoid, id) &&
		(len(d.Among) == 0 || slices.Contains(d.Among, id))
}

func (d Demand) takesClass(c Class) bool {
	either := func(want, have string) bool { return want == "" || want == have }
	return d.Class.Project == c.Project && either(d.Class.Kind, c.Kind) && either(d.Class.Model, c.Model) &&
		either(d.Class.Platform, c.Platform) && either(d.Class.OS, c.OS) &&
		(c.Only == "" || d.Who != "" && strings.Contains(c.Only, apart+d.Who+apart))
}

// Leg is a leg as the scheduler sees it. Lower Order goes first.
type Leg struct {
	ID      int64
	Order   Order
	Demand  Demand
	Waiting bool
	At      time.Time // since when it waits
}

// Order is when a leg's turn is: by run, then by position in it.
type Order struct {
	Run int64
	Leg int64
}

// Placement puts a leg on a device.
type Placement struct {
	Leg    int64
	Device int64
}

// Event tells what a device or a leg is now. Telling the same twice is harmless.
type Event interface{ apply(*State) []Placement }

func (d Device) apply(s *State) []Placement { return s.device(d) }
func (l Leg) apply(s *State) []Placement    { return s.leg(l) }

// State is the queue and the idle fleet. The zero State is not ready: use New.
type State struct {
	policy Policy
	pools  map[Class]*pool
	some   []*pool // of devices that are for some people only
	queues map[queueKey]*queue
	idle   map[int64]*pool  // by device
	legs   map[int64]*queue // by waiting leg
	paces  map[Class]pace
	leases map[int64]int64 // the last lease of each device whose time was counted
	now    time.Time       // the latest that any event told
}

// pool holds the idle devices of one class.
type pool struct {
	class   Class
	devices *ordered[key]
	serves  []*queue // the queues whose demand takes this class
}

// queue holds the waiting legs of one demand.
type queue struct {
	demand Demand
	legs   *ordered[key]
	pools  []*pool
}

type queueKey struct {
	class  Class
	device int64
	avoid  string
	among  string
	who    string
}

// key is where something stands among its like. Of equal rank the older id goes first.
type key struct {
	rank Rank
	id   int64
}

func (k key) compare(o key) int {
	return cmp.Or(slices.Compare(k.rank[:], o.rank[:]), cmp.Compare(k.id, o.id))
}

// pace is how long leases of a class have lasted.
type pace struct {
	n   int
	sum time.Duration
}

// New gives an empty state that ranks by a policy.
func New(p Policy) *State {
	return &State{p, map[Class]*pool{}, nil, map[queueKey]*queue{}, map[int64]*pool{}, map[int64]*queue{},
		map[Class]pace{}, map[int64]int64{}, time.Time{}}
}

// Copy gives a state that is the same and changes apart, to see what would happen if.
func (s *State) Copy() *State {
	c := New(s.policy)
	c.paces, c.leases, c.now = maps.Clone(s.paces), maps.Clone(s.leases), s.now
	pools, queues := map[*pool]*pool{}, map[*queue]*queue{}
	for class, p := range s.pools {
		pools[p] = &pool{class: class, devices: p.devices.copy()}
		c.pools[class] = pools[p]
	}
	for _, p := range s.some {
		c.some = append(c.some, pools[p])
	}
	for k, q := range s.queues {
		queues[q] = &queue{demand: q.demand, legs: q.legs.copy()}
		c.queues[k] = queues[q]
	}
	for p, to := range pools {
		for _, q := range p.serves {
			to.serves = append(to.serves, queues[q])
		}
	}
	for q, to := range queues {
		for _, p := range q.pools {
			to.pools = append(to.pools, pools[p])
		}
	}
	for id, p := range s.idle {
		c.idle[id] = pools[p]
	}
	for id, q := range s.legs {
		c.legs[id] = queues[q]
	}
	return c
}

// Now is the latest time that any event told.
func (s *State) Now() time.Time { return s.now }

// Pace gives how long leases of a class have lasted on average, and how many were counted.
func (s *State) Pace(c Class) (time.Duration, int) {
	p := s.paces[c]
	if p.n == 0 {
		return 0, 0
	}
	return p.sum / time.Duration(p.n), p.n
}

func (s *State) tell(at time.Time) {
	if at.After(s.now) {
		s.now = at
	}
}

// Apply takes in what a device or a leg is now, and gives the placements that
// follow: none or one. A placed leg is no longer waiting and its device no
// longer idle, without further word.
func (s *State) Apply(e Event) []Placement { return e.apply(s) }

// Waiting and Idle count what is left over.
func (s *State) Waiting() int { return len(s.legs) }

// Idle counts the devices with nothing to do.
func (s *State) Idle() int { return len(s.idle) }

func (s *State) device(d Device) []Placement {
	s.tell(d.At)
	if d.Took > 0 && s.leases[d.ID] != d.Lease {
		s.leases[d.ID] = d.Lease
		p := s.paces[d.Class]
		s.paces[d.Class] = pace{p.n + 1, p.sum + d.Took}
	}
	s.takeDevice(d.ID)
	if !d.Idle {
		return nil
	}
	p := s.pool(d.Class)
	var best *queue
	var first key
	for _, q := range p.serves {
		k, ok := q.legs.first()
		if ok && q.demand.Takes(d.ID, d.Class) && (best == nil || k.compare(first) < 0) {
			best, first = q, k
		}
	}
	if best == nil {
		p.devices.add(d.ID, key{s.policy.Device(d), d.ID})
		s.idle[d.ID] = p
		return nil
	}
	s.takeLeg(first.id)
	return []Placement{{first.id, d.ID}}
}

func (s *State) leg(l Leg) []Placement {
	s.tell(l.At)
	s.takeLeg(l.ID)
	if !l.Waiting {
		return nil
	}
	q := s.queue(l.Demand)
	var best *key
	for _, p := range q.pools {
		if k, ok := p.devices.firstWhere(func(k key) bool {
			return l.Demand.Takes(k.id, p.class)
		}); ok && (best == nil || k.compare(*best) < 0) {
			best = &k
		}
	}
	if best == nil {
		q.legs.add(l.ID, key{s.policy.Leg(l), l.ID})
		s.legs[l.ID] = q
		return nil
	}
	s.takeDevice(best.id)
	s.forget(q)
	return []Placement{{l.ID, best.id}}
}

func (s *State) takeDevice(id int64) {
	if p, ok := s.idle[id]; ok {
		p.devices.remove(id)
		delete(s.idle, id)
	}
}

func (s *State) takeLeg(id int64) {
	if q, ok := s.legs[id]; ok {
		q.legs.remove(id)
		delete(s.legs, id)
		s.forget(q)
	}
}

// forget drops a queue that nothing waits in, so that demands that name single
// devices do not pile up over months.
func (s *State) forget(q *queue) {
	if q.legs.size() > 0 {
		return
	}
	delete(s.queues, keyOf(q.demand))
	for _, p := range q.pools {
		p.serves = slices.DeleteFunc(p.serves, func(o *queue) bool { return o == q })
	}
}

func (s *State) pool(c Class) *pool {
	if p, ok := s.pools[c]; ok {
		return p
	}
	p := &pool{class: c, devices: newOrdered(key.compare)}
	s.pools[c] = p
	if c.Only != "" {
		s.some = append(s.some, p)
	}
	for _, q := range s.queues {
		link(p, q)
	}
	return p
}

func (s *State) queue(d Demand) *queue {
	k := keyOf(d)
	if q, ok := s.queues[k]; ok {
		return q
	}
	q := &queue{demand: d, legs: newOrdered(key.compare)}
	s.queues[k] = q
	if p, ok := s.pools[d.Class]; ok && d.exact() { // the common case, without a look at every pool
		link(p, q)
		for _, p := range s.some {
			link(p, q)
		}
		return q
	}
	for _, p := range s.pools {
		link(p, q)
	}
	return q
}

func (d Demand) exact() bool {
	return d.Class.Kind != "" && d.Class.Model != "" && d.Class.Platform != "" && d.Class.OS != ""
}

func link(p *pool, q *queue) {
	if q.demand.takesClass(p.class) {
		p.serves = append(p.serves, q)
		q.pools = append(q.pools, p)
	}
}

func keyOf(d Demand) queueKey {
	return queueKey{d.Class, d.Device, packed(d.Avoid), packed(d.Among), d.Who}
}

// packed writes a set of ids, the same for the same ids in any order.
func packed(ids []int64) string {
	var out []byte
	for _, id := range slices.Sorted(slices.Values(ids)) {
		for range 8 {
			out = append(out, byte(id))
			id >>= 8
		}
	}
	return string(out)
}
