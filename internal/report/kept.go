package report

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"yamato/internal/contract"
)

// Kept tells by which rules of its own a run kept evidence, and what was not kept of how many results, by
// the reason.
func Kept(w io.Writer, d contract.RunDetail, ink interface{ Faint(string) string }) {
	if k := d.Run.Keep; k != nil && k.Run != nil {
		fmt.Fprintf(w, "\nKept of this run alone: %s\n", ruled(*k.Run))
	}
	counts, sorts := map[string]int{}, map[string]string{}
	for _, l := range d.Legs {
		for _, x := range l.Cases {
			for _, r := range x.Results {
				for _, n := range deref(r.NotKept) {
					counts[n.Why]++
					sorts[n.Why] = n.Sort
				}
			}
		}
	}
	for i, why := range slices.SortedFunc(maps.Keys(counts),
		func(a, b string) int { return cmp.Or(counts[b]-counts[a], strings.Compare(a, b)) }) {
		if i == 0 {
			fmt.Fprintln(w)
		}
		results := "results"
		if counts[why] == 1 {
			results = "result"
		}
		fmt.Fprintln(w, ink.Faint(fmt.Sprintf("No %s of %d %s: %s", sorts[why], counts[why], results, why)))
	}
}

func ruled(k contract.Keep) string {
	var out []string
	for _, sort := range slices.Sorted(maps.Keys(k)) {
		out = append(out, sort+" "+k[sort])
	}
	return strings.Join(out, ", ")
}
