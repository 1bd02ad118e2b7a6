package verdict

import "fmt"

// Machine is a table of states and the states each may change to.
type Machine struct {
	name string
	ways map[string][]string
}

// Check gives nil where from may change to to, else an error that names both.
func (m Machine) Check(from, to string) error {
	for _, s := range m.ways[from] {
		if s == to {
			return nil
		}
	}
	return fmt.Errorf("a %s cannot change from %q to %q", m.name, from, to)
}

// The machines of what Yamato keeps; see docs/vocabulary.md, States.
var (
	Run = Machine{"run", map[string][]string{
		"queued":  {"running", "finished", "cancelled"},
		"running": {"finished", "cancelled"},
	}}
	Leg = Machine{"leg", map[string][]string{
		"waiting": {"placed", "cancelled"},
		"placed":  {"running", "waiting", "finished", "cancelled"},
		"running": {"waiting", "finished", "cancelled"},
	}}
	Device = Machine{"device", map[string][]string{
		"offline":   {"idle", "unready", "resetting", "sidelined", "halted", "booting"},
		"unready":   {"idle", "offline", "sidelined", "halted", "booting"},
		"idle":      {"leased", "offline", "unready", "sidelined", "halted", "booting"},
		"leased":    {"resetting"},
		"resetting": {"idle", "offline", "unready", "sidelined", "halted", "booting"},
		"sidelined": {"idle", "offline", "unready", "halted", "booting"},
		"halted":    {"booting", "offline", "idle", "unready", "sidelined"},
		"booting":   {"idle", "halted", "offline", "unready", "sidelined"},
	}}
)
