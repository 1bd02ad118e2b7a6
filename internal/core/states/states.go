// Package states says in which states the things can be that Yamato keeps, and which state may follow which. Each kind of
// thing has a type of its own for its states and one table; docs/vocabulary.md says what the states mean.
//
// Who decides on a state asks its table where another state may be there (Check, May). The tests' database asks it at
// every change, whichever statement makes it (pgtest), so that nothing gets round it.
package states

import (
	"fmt"
	"slices"
)

// Machine is a table of states: those that a thing begins in, and those that each may change to. A state that may change
// to none is an end.
type Machine[S ~string] struct {
	Name   string // of the thing, as in a sentence
	Begins []S
	Ways   map[S][]S
}

// Check gives nil where from may change to to, else an error that names both.
func (m Machine[S]) Check(from, to S) error {
	if slices.Contains(m.Ways[from], to) {
		return nil
	}
	return fmt.Errorf("a %s cannot change from %q to %q", m.Name, from, to)
}

// May reports whether from may change to to.
func (m Machine[S]) May(from, to S) bool { return m.Check(from, to) == nil }

// All gives every state, each once, in the order of the alphabet.
func (m Machine[S]) All() []S {
	all := slices.Clone(m.Begins)
	for from, to := range m.Ways {
		all = append(append(all, from), to...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// Run is the state of a run.
type Run string

// The states of a run.
const (
	RunQueued    Run = "queued"
	RunRunning   Run = "running"
	RunFinished  Run = "finished"
	RunCancelled Run = "cancelled"
)

// Runs is their table. A run that people go through begins as running.
var Runs = Machine[Run]{"run", []Run{RunQueued, RunRunning}, map[Run][]Run{
	RunQueued:  {RunRunning, RunFinished, RunCancelled},
	RunRunning: {RunFinished, RunCancelled},
}}

// Leg is the state of a leg.
type Leg string

// The states of a leg.
const (
	LegWaiting   Leg = "waiting"
	LegPlaced    Leg = "placed"
	LegRunning   Leg = "running"
	LegFinished  Leg = "finished"
	LegCancelled Leg = "cancelled"
)

// Legs is their table. A leg that waits finishes where nothing can take it, or its run stops early. A leg that people go
// through begins as running.
var Legs = Machine[Leg]{"leg", []Leg{LegWaiting, LegRunning}, map[Leg][]Leg{
	LegWaiting: {LegPlaced, LegFinished, LegCancelled},
	LegPlaced:  {LegRunning, LegWaiting, LegFinished, LegCancelled},
	LegRunning: {LegWaiting, LegFinished, LegCancelled},
}}

// Device is the state of a device.
type Device string

// The states of a device.
const (
	DeviceOffline   Device = "offline"
	DeviceUnready   Device = "unready"
	DeviceIdle      Device = "idle"
	DeviceLeased    Device = "leased"
	DeviceResetting Device = "resetting"
	DeviceSidelined Device = "sidelined"
	DeviceHalted    Device = "halted"
	DeviceBooting   Device = "booting"
)

// Devices is their table. A lease that ends leaves its device to be reset, never idle. Where nothing has a device, its
// host says how it is, so that any of these may follow any.
var Devices = func() Machine[Device] {
	free := []Device{DeviceOffline, DeviceUnready, DeviceIdle, DeviceSidelined, DeviceHalted, DeviceBooting}
	ways := map[Device][]Device{DeviceLeased: {DeviceResetting}, DeviceResetting: free}
	for _, s := range free {
		for _, to := range free {
			if to != s {
				ways[s] = append(ways[s], to)
			}
		}
	}
	ways[DeviceIdle] = append(ways[DeviceIdle], DeviceLeased)
	ways[DeviceOffline] = append(ways[DeviceOffline], DeviceResetting) // its host comes back and cleans it
	return Machine[Device]{"device", free, ways}
}()

// Session is the state of a person's session.
type Session string

// The states of a session.
const (
	SessionOpening Session = "opening"
	SessionOpen    Session = "open"
	SessionAway    Session = "away"
	SessionClosed  Session = "closed"
)

// Sessions is their table. A session that moves to another device opens again.
var Sessions = Machine[Session]{"session", []Session{SessionOpening}, map[Session][]Session{
	SessionOpening: {SessionOpen, SessionClosed},
	SessionOpen:    {SessionAway, SessionOpening, SessionClosed},
	SessionAway:    {SessionOpen, SessionOpening, SessionClosed},
}}

// Finding is the state of a finding.
type Finding string

// The states of a finding.
const (
	FindingOpen    Finding = "open"
	FindingMended  Finding = "mended"
	FindingNoFault Finding = "no fault"
)

// Findings is their table: people may think again.
var Findings = Machine[Finding]{"finding", []Finding{FindingOpen}, map[Finding][]Finding{
	FindingOpen:    {FindingMended, FindingNoFault},
	FindingMended:  {FindingOpen, FindingNoFault},
	FindingNoFault: {FindingOpen, FindingMended},
}}

// Start is the state of a plan's reason to start.
type Start string

// The states of a start.
const (
	StartDue     Start = "due"
	StartStarted Start = "started"
	StartLeftOut Start = "left out"
	StartMissed  Start = "missed"
	StartFailed  Start = "failed"
)

// Starts is their table. What is left out or was missed may be known as such when it is noted.
var Starts = Machine[Start]{"start", []Start{StartDue, StartLeftOut, StartMissed}, map[Start][]Start{
	StartDue: {StartStarted, StartLeftOut, StartMissed, StartFailed},
}}

// Errand is the state of an errand.
type Errand string

// The states of an errand. It has no column of its own: an errand is done once it has a time at which that was.
const (
	ErrandWanted Errand = "wanted"
	ErrandDone   Errand = "done"
)

// Errands is their table.
var Errands = Machine[Errand]{"errand", []Errand{ErrandWanted}, map[Errand][]Errand{ErrandWanted: {ErrandDone}}}

// Kept is a table as the records know it, by the name of theirs; a way is a pair of states.
type Kept struct {
	Table  string
	Begins []string
	Ways   [][2]string
}

// InRecords gives the tables of all states.
func InRecords() []Kept {
	devices := kept("device", Devices)
	for _, to := range Devices.Ways[DeviceResetting] {
		// A host may say in one breath that a lease is over and its device clean: both changes are one statement then.
		devices.Ways = append(devices.Ways, [2]string{string(DeviceLeased), string(to)})
	}
	return []Kept{devices, kept("run", Runs), kept("leg", Legs), kept("session", Sessions), kept("finding", Findings),
		kept("plan_start", Starts), kept("errand", Errands)}
}

func kept[S ~string](table string, m Machine[S]) Kept {
	k := Kept{Table: table}
	for _, s := range m.Begins {
		k.Begins = append(k.Begins, string(s))
	}
	for _, from := range m.All() {
		for _, to := range m.Ways[from] {
			k.Ways = append(k.Ways, [2]string{string(from), string(to)})
		}
	}
	return k
}
