package main

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/matrix/cover"
)

// Efforts of the search: one that takes seconds, and what `yamato matrix` takes by itself.
const longEffort = 10 * cover.Usual

func shapeOf(spec ...int) (levels []int, words string) {
	for i := 0; i < len(spec); i += 2 {
		words += fmt.Sprintf(" %d^%d", spec[i], spec[i+1])
		for range spec[i+1] {
			levels = append(levels, spec[i])
		}
	}
	return levels, strings.TrimSpace(words)
}

// ruled is a space with rules that name two or three factors each, by a seed.
func ruled(factors, rules int) cover.Space {
	state := uint64(factors*1000 + rules)
	next := func(n int) int {
		state = state*6364136223846793005 + 1442695040888963407
		return int(state>>33) % n
	}
	s := cover.Space{}
	for range factors {
		s.Levels = append(s.Levels, 2+next(4))
	}
	for range rules {
		var n cover.Nogood
		at := next(factors)
		for range 2 + next(2) {
			n = append(n, cover.Term{Factor: at, Levels: []int{next(s.Levels[at])}})
			at = (at + 1 + next(factors-1)) % factors
		}
		s.Never = append(s.Never, n)
	}
	return s
}

// planFigures measures the choice of combinations, and plans on a large fleet.
func (r *rig) planFigures(ctx context.Context, page *strings.Builder) error {
	fmt.Fprintf(page, `## M: combinations and plans

Rows of covering arrays beside the fewest that are published. Seed 1 with a long effort, and the best of ten
seeds with the effort that %s has by itself; no table of answers is kept.

| levels^factors | strength | published | seed 1 | ratio | took | best of 10 seeds | ratio | took, all ten |
|---|---|---|---|---|---|---|---|---|
`, "`yamato matrix`")
	for _, c := range []struct {
		spec         []int
		strength, at int
	}{
		{[]int{3, 4}, 2, 9}, {[]int{3, 13}, 2, 15}, {[]int{4, 15, 3, 17, 2, 29}, 2, 32}, {[]int{4, 1, 3, 39, 2, 35},
			2, 21},
		{[]int{2, 100}, 2, 10}, {[]int{10, 20}, 2, 180}, {[]int{3, 6}, 3, 33}, {[]int{5, 7}, 3, 185},
		{[]int{6, 6}, 3, 260},
	} {
		levels, words := shapeOf(c.spec...)
		rows := func(seed uint64, effort int) (int, error) {
			a, err := cover.Make(cover.Space{Levels: levels}, cover.Wish{Strength: c.strength,
				Seed: seed, Effort: effort})
			if err == nil && len(a.Coverage.Missing) > 0 {
				err = fmt.Errorf("%s: %d tuples are missing", words, len(a.Coverage.Missing))
			}
			return len(a.Rows), err
		}
		began := time.Now()
		one, err := rows(1, longEffort)
		if err != nil {
			return err
		}
		took := time.Since(began)
		began = time.Now()
		var ten []int
		for seed := uint64(1); seed <= 10; seed++ {
			n, err := rows(seed, cover.Usual)
			if err != nil {
				return err
			}
			ten = append(ten, n)
		}
		best := slices.Min(ten)
		fmt.Fprintf(page, "| %s | %d | %d | **%d** | %.2f | %.1f s | %d | %.2f | %.1f s |\n", words, c.strength, c.at,
			one,
			float64(one)/float64(c.at), took.Seconds(), best, float64(best)/float64(c.at), time.Since(began).Seconds())
	}
	page.WriteString("\nAim: pairs within 1.1 times each, and at or below on four of six, within 10 s; triples within 1.2 times, within 60 s.\n\n" +
		"With rules (two or three factors each), pairs:\n\n| factors | rules | pairs possible | forbidden | rows | took |\n|---|---|---|---|---|---|\n")
	for _, c := range [][2]int{{20, 20}, {40, 60}} {
		s := ruled(c[0], c[1])
		began := time.Now()
		a, err := cover.Make(s, cover.Wish{Strength: 2, Seed: 1})
		if err != nil {
			return err
		}
		fmt.Fprintf(page, "| %d | %d | %d | %d | %d | %.2f s |\n", c[0], c[1], a.Coverage.Possible,
			a.Coverage.Forbidden, len(a.Rows),
			time.Since(began).Seconds())
	}
	made, memory, err := tenThousand()
	if err != nil {
		return err
	}
	tried, started, legs, err := r.planOnManyDevices(ctx)
	if err != nil {
		return err
	}
	fmt.Fprintf(page, `
| | |
|---|---|
| the legs of 10,000 combinations are made in | **%.2f s** (aim: under 2) |
| and take, beside what was there | **%.0f MB** (aim: under 200) |
| a plan on %d devices is tried in (median of 9, over HTTP) | **%.0f ms** (aim: under 300) |
| a run of %d combinations is started in, over HTTP, with its legs committed | %.2f s |

`, made, memory, pageDevices, tried*1000, legs, started)
	return nil
}

// tenThousand makes the legs of 10,000 combinations: 50 models, 200 combinations of levels each.
func tenThousand() (seconds, megabytes float64, err error) {
	var groups []matrix.Group
	for m := range 50 {
		groups = append(groups, matrix.Group{Device: fleet.Device{Kind: "emulator", Model: fmt.Sprintf("Kaede %d", 100+m), Platform: "android",
			OS: "14", Form: "phone"}, Leg: matrix.Leg{Combination: fleet.Combination{Class: fleet.Class{Kind: "emulator",
			Model: fmt.Sprintf("Kaede %d", 100+m), Platform: "android", OS: "14"}}},
			Members: []matrix.Member{{ID: int64(m), Abilities: []string{"rotation", "appearance", "text size"}}}})
	}
	g := matrix.Grid{Cover: "all", Factors: matrix.Factors{{Name: "device", From: matrix.FromDevices},
		{Name: "language", Levels: []string{"en-GB", "de-DE", "pt-PT", "fr-FR", "es-ES"}},
		{Name: "rotation", Levels: []string{"portrait", "landscape"}},
		{Name: "appearance", Levels: []string{"light", "dark"}},
		{Name: "text size", Levels: []string{"85%", "100%", "115%", "130%", "150%", "175%", "200%", "225%", "250%",
			"300%"}}}}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	began := time.Now()
	sel, err := matrix.Choose(&g, matrix.Wanted{Groups: groups})
	if err != nil {
		return 0, 0, err
	}
	legs := make([]matrix.Leg, 0, len(sel.Picked))
	for _, p := range sel.Picked {
		leg, ok := sel.LegOf(p, groups)
		if ok {
			legs = append(legs, leg)
		}
	}
	seconds = time.Since(began).Seconds()
	runtime.ReadMemStats(&after)
	if len(legs) != 10_000 {
		return 0, 0, fmt.Errorf("%d legs instead of 10000", len(legs))
	}
	return seconds, float64(after.TotalAlloc-before.TotalAlloc) / (1 << 20), nil
}

// planOnManyDevices tries a plan on a large fleet, and starts one of many combinations.
func (r *rig) planOnManyDevices(ctx context.Context) (tried, started float64, legs int, err error) {
	if err = r.serve(ctx, "plans"); err != nil {
		return 0, 0, 0, err
	}
	defer r.close()
	if err = r.attach(ctx, "plans", nullSite(pageDevices), pageDevices); err != nil {
		return 0, 0, 0, err
	}
	names, err := r.push(ctx, []string{"suite \"nothing\"\ncase \"nothing\"\n  press tab\nend\n"})
	if err != nil {
		return 0, 0, 0, err
	}
	text := func(more string) string {
		return "plan: Many\napp: Tideline\nsuites: [" + names[0] +
			"]\nfactors:\n  model: from devices\n  language: [en-GB, de-DE, pt-PT]\n" +
			"  traveller: [adult, child, islander]\n  day: [monday, saturday, sunday, holiday]\nrules:\n" +
			"  - skip: {traveller: islander, language: pt-PT}\n  - if: {day: holiday}\n    then: {traveller: adult}\n" +
			more
	}
	var all []float64
	for range 9 {
		began := time.Now()
		written := text("cover: pairs\n")
		t, err := client.As[contract.PlanTrial](r.client.TryPlan(ctx, r.client.Project,
			contract.TryPlan{Text: &written}))
		if err != nil {
			return 0, 0, 0, err
		}
		if len(t.Combinations) == 0 {
			return 0, 0, 0, fmt.Errorf("the plan comes to nothing")
		}
		all = append(all, time.Since(began).Seconds())
	}
	slices.Sort(all)
	tried = all[len(all)/2]
	whole := strings.Replace(text("cover: all\n"), "  day: [monday, saturday, sunday, holiday]\n",
		"  day: ["+numbers(30)+", holiday]\n", 1)
	if _, err = client.As[contract.Plan](r.client.SavePlan(ctx, r.client.Project,
		contract.NewPlan{Text: whole})); err != nil {
		return 0, 0, 0, err
	}
	began := time.Now()
	run, err := client.As[contract.Run](r.client.StartPlan(ctx, r.client.Project, "Many", &contract.StartPlanParams{},
		contract.PlanChanges{}))
	if err != nil {
		return 0, 0, 0, err
	}
	return tried, time.Since(began).Seconds(), run.Legs, nil
}

func numbers(n int) string {
	var out []string
	for i := range n {
		out = append(out, fmt.Sprintf("day%d", i))
	}
	return strings.Join(out, ", ")
}
