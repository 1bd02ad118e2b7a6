package plan

import (
	"cmp"
	"slices"
	"time"
)

// Guess is how long a case is taken to last that has never run.
const Guess = 20 * time.Second

// Shards share cases out: as few shares as keep each under most (a case that is longer alone has one
// of its own), and as even as longest first makes them (Graham, "Bounds on multiprocessing timing
// anomalies", SIAM J. Appl. Math. 17, 1969). Within a share the cases keep their order. took gives how
// long a case lasts.
func Shards(cases []int, took func(i int) time.Duration, most time.Duration) [][]int {
	if most <= 0 || len(cases) == 0 {
		return [][]int{cases}
	}
	order := slices.Clone(cases)
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(took(b), took(a)) })
	var sum time.Duration
	for _, c := range cases {
		sum += took(c)
	}
	for n := max(1, min(len(cases), int((sum+most-1)/most))); ; n++ {
		load := make([]time.Duration, n)
		of := map[int]int{}
		fits := true
		for _, c := range order {
			least := 0
			for i := range load {
				if load[i] < load[least] {
					least = i
				}
			}
			alone := load[least] == 0
			load[least] += took(c)
			of[c] = least
			fits = fits && (load[least] <= most || alone)
		}
		if !fits && n < len(cases) {
			continue
		}
		out := make([][]int, n)
		for _, c := range cases {
			out[of[c]] = append(out[of[c]], c)
		}
		return slices.DeleteFunc(out, func(s []int) bool { return len(s) == 0 })
	}
}
