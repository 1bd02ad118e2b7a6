package fleet

import (
	"cmp"
	"slices"
)

// Off is a virtual device that is switched off, with how many legs that wait could use it
// and how many devices of its class are about to serve them.
type Off struct {
	Running
	Class  Class
	Legs   int
	Coming int
}

// Power is what is to be done about the power of one host's devices.
type Power struct {
	Boot []string
	Halt []string // idle ones, to make room
	// Never are those for which there is no room even if nothing else were up, with why.
	Never map[string]Reason
}

// PlanPower decides which devices of a host are booted for legs that wait. Where one does
// not fit beside devices that are idle, those are halted, the largest first and as few as
// are enough: while a leg waits, no idle device is one that it could take. What waits
// for a host that is busy waits until it is less so. asked counts the devices of each
// class that other hosts were asked for, and is kept up to date.
func PlanPower(c Capacity, running []Running, off []Off, idle []string, asked map[Class]int) Power {
	p := Power{Never: map[string]Reason{}}
	up := slices.Clone(running)
	mayHalt := slices.Clone(idle)
	for _, d := range off {
		f := Device{Name: d.Name, TakesMB: d.TakesMB, TakesCPUs: d.TakesCPUs}
		if why, ok := Room(c, nil, f); !ok {
			p.Never[d.Name] = why
			continue
		}
		if d.Coming+asked[d.Class] >= d.Legs {
			continue
		}
		if _, ok := Room(c, up, f); ok {
			p.Boot = append(p.Boot, d.Name)
			up = append(up, d.Running)
			asked[d.Class]++
			continue
		}
		rest, halted := makeRoom(c, up, mayHalt, f)
		if halted == nil {
			continue
		}
		p.Halt = append(p.Halt, halted...)
		mayHalt = slices.DeleteFunc(mayHalt, func(n string) bool { return slices.Contains(halted, n) })
		up = append(rest, d.Running) // it is booted once they are off
		asked[d.Class]++
	}
	return p
}

// makeRoom gives which idle devices have to be halted for one more to fit, nil where that
// is not enough.
func makeRoom(c Capacity, up []Running, idle []string, d Device) (rest []Running, halted []string) {
	rest = slices.Clone(up)
	var may []Running
	for _, r := range up {
		if slices.Contains(idle, r.Name) {
			may = append(may, r)
		}
	}
	slices.SortStableFunc(may, func(a, b Running) int { return cmp.Compare(b.TakesMB, a.TakesMB) })
	for _, r := range may {
		rest = slices.DeleteFunc(rest, func(o Running) bool { return o.Name == r.Name })
		halted = append(halted, r.Name)
		if _, ok := Room(c, rest, d); ok {
			return rest, halted
		}
	}
	return up, nil
}
