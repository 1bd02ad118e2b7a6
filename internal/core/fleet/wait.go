package fleet

import (
	"fmt"
	"strings"
	"time"

	"yamato/internal/core/states"
)

// WaitsFor says what keeps a leg of somebody's from being given a device of its
// combination: the state of the device that is nearest to it, and what a person can
// do where it is theirs to do. The list holds the devices that it may be given.
func WaitsFor(c Class, list []Standing, who string, now time.Time) string {
	by := map[states.Device][]Standing{}
	var closed Reason
	only, matching := "", 0 // the one device that there is, if there is but one
	for _, d := range list {
		if !c.Matches(d.Device) {
			continue
		}
		if matching++; matching == 1 {
			only = d.Name
		} else {
			only = ""
		}
		if r, ok := d.Admits(who, now); !ok {
			if closed.Why == "" {
				closed = Reason{d.Name + ": " + r.Why, r.Remedy}
			}
			continue
		}
		by[d.State] = append(by[d.State], d)
	}
	busy := len(by["leased"]) + len(by["resetting"])
	some := func(state states.Device) (d Standing, n int) {
		if n = len(by[state]); n > 0 {
			d = by[state][0]
		}
		return d, n
	}
	if _, n := some("idle"); n > 0 {
		return "its turn"
	}
	if busy > 0 && only != "" {
		return only + ", which is in use"
	}
	if busy > 0 {
		return fmt.Sprintf("%s: %d in use", article(c.Model), busy)
	}
	if d, n := some("booting"); n > 0 {
		return d.Name + ", which boots" + more(n)
	}
	if d, n := some("halted"); n > 0 {
		return d.Name + ", which is off: it is booted as soon as its host has room" + more(n)
	}
	if d, n := some("unready"); n > 0 {
		return d.Name + " to be made ready: " + d.Reason + "; `yamato device check " + d.Name + "` says what to do" +
			more(n)
	}
	if closed.Why != "" {
		return closed.Why + "; " + closed.Remedy.String()
	}
	if d, n := some("sidelined"); n > 0 {
		return d.Name + ", which is sidelined: " + d.Reason + "; `yamato device restore " + d.Name +
			"` once it is mended" +
			more(n)
	}
	if _, n := some("offline"); n > 0 && only != "" {
		return only + ", which is offline; start the host of its site"
	} else if n > 0 {
		return fmt.Sprintf("%s: %d offline; start the host of their site", article(c.Model), n)
	}
	return article(c.Label()) + ": there is none any more that takes it"
}

func more(n int) string {
	switch n {
	case 1:
		return ""
	case 2:
		return "; or for one more like it"
	}
	return fmt.Sprintf("; or for %d more like it", n-1)
}

// article puts the article before a name.
func article(name string) string {
	if name != "" && strings.ContainsRune("AEIOUaeiou", rune(name[0])) {
		return "an " + name
	}
	return "a " + name
}
