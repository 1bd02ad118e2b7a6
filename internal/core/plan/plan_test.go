package plan

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const nightly = `# every night, in all languages
plan: Tideline every night
about: what is on main, as passengers have it
app: Tideline
build: newest
labels: [branch=main]
suites: [Buying a ticket, Settings]
tags: [smoke, not slow]
lineup: crossing phones
factors:
  language: from build
  rotation: [portrait, landscape]
  text size: [100%, 200%]
  traveller: [adult, child]
rules:
  - skip: {text size: 200%, rotation: landscape}
    why: nobody reads so
  - if: {language: de-DE}
    then: {traveller: adult}
cover: pairs
weights:
  rotation: {portrait: 4, landscape: 1}
must:
  - {language: de-DE, rotation: portrait}
budget: {combinations: 40, minutes: 90}
shard: 5m
repeat: {fail: 1, error: 2}
stop: {failures: 10}
limits: {step: 8s, case: 5m, leg: 30m, run: 2h}
order: failed first
seed: 7
when:
  repeat: FREQ=DAILY;BYHOUR=2
  zone: Europe/Lisbon
  never: ["Sun"]
  busy: wait
  missed: once
`

func TestAPlanIsReadAsItIsWritten(t *testing.T) {
	p, m, err := Read(nightly)
	require.NoError(t, err)
	require.Equal(t, "language rotation text size traveller", fmt.Sprintf("%s %s %s %s",
		p.Factors[0].Name, p.Factors[1].Name,
		p.Factors[2].Name, p.Factors[3].Name), "in the order in which they are written")
	require.Equal(t, "build", p.Factors[0].From)
	require.Equal(t, []string{"100%", "200%"}, p.Factors[2].Levels)
	require.Equal(t, 5*time.Minute, time.Duration(p.Shard))
	require.Equal(t, 2, *p.Repeat.Error)
	require.Equal(t, []string{"every day at 02:00, Lisbon"}, p.Starts(m))
	require.Equal(t, "2026-03-29T23:00:00Z", m.Next(time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC)).Format(time.RFC3339),
		"not on the Sunday, but when it is over")
}

func TestWhatIsWrongInAPlanIsSaidWithItsLineAndASuggestion(t *testing.T) {
	replace := func(from, to string) string {
		require.Contains(t, nightly, from)
		return string(slices.Concat([]byte(nightly[:index(nightly, from)]), []byte(to),
			[]byte(nightly[index(nightly, from)+len(from):])))
	}
	for says, text := range map[string]string{
		"line 4: there is no `ap`":                        replace("app: Tideline\n", "ap: Tideline\n"),
		"it is not said which app is tested":              replace("app: Tideline\n", ""),
		"line 6: \"main\" is no label; write `labels: [b": replace("[branch=main]", "[main]"),
		"line 6: one build is named already":              replace("build: newest", "build: 3.2.0"),
		"line 12: \"sideways\" is none of portrait":       replace("[portrait, landscape]", "[portrait, sideways]"),
		"line 13: \"20%\" is no text size":                replace("[100%, 200%]", "[100%, 20%]"),
		"line 12: \"rotaton\" is no factor":               replace("  rotation: [p", "  rotaton: [p"),
		"line 16: text size has no level 300%": replace("{text size: 200%, rotation",
			"{text size: 300%, rotation"),
		"line 18: langage is not varied; did you mean `l": replace("if: {language", "if: {langage"),
		"line 20: `cover` is all, each, pairs or triples": replace("cover: pairs", "cover: quadruples"),
		"line 22: rotatio is not varied, so it has no": replace("  rotation: {portrait: 4",
			"  rotatio: {portrait: 4"),
		"a time is needed here, as in 90s":                replace("shard: 5m", "shard: five"),
		"line 30: `order` is written, random or failed f": replace("failed first", "failed frist"),
		"`limits.run` is at most 7d":                      replace("run: 2h", "run: 20d"),
		"line 33: the recurrence cannot be":               replace("FREQ=DAILY;BYHOUR=2", "every night"),
		"line 34: there is no time zone":                  replace("Europe/Lisbon", "Europe/Lisboa"),
		"line 36: `busy` is leave out, wait, take over":   replace("busy: wait", "busy: waits"),
		"a plan begins with its name":                     replace("plan: Tideline every night", "plan: ''"),
		"rotation has the level portrait twice":           replace("[portrait, landscape]", "[portrait, portrait]"),
		"a rule says what to skip, or if":                 replace("then: {traveller: adult}", "why: x"),
		"a plan is for suites, or for a checklist":        replace("cover: pairs", "checklist: Boarding"),
		"line 2: a plan begins with its name": replace("plan: Tideline every night",
			`plan: "a\x1b[31mred"`),
		"`about` is one line":                  replace("about: what is", `about: "a\0b" #`),
		"a level has 1 to 200 characters that": replace("[adult, child]", `[adult, "\a"]`),
		"a plan cannot start after itself":     replace("busy: wait", "after: {plan: Tideline every night}"),
	} {
		_, _, err := Read(text)
		require.ErrorContains(t, err, says)
	}
}

func index(s, part string) int {
	for i := range s {
		if len(s)-i >= len(part) && s[i:i+len(part)] == part {
			return i
		}
	}
	return -1
}

func TestSharesHoldEveryCaseOnceAndAreAsLongAsTheyMayBe(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		took := rapid.SliceOfN(rapid.IntRange(1, 300), 1, 40).Draw(t, "seconds")
		most := time.Duration(rapid.IntRange(0, 400).Draw(t, "most")) * time.Second
		cases := make([]int, len(took))
		for i := range cases {
			cases[i] = i
		}
		last := func(i int) time.Duration { return time.Duration(took[i]) * time.Second }
		shares := Shards(cases, last, most)
		var all []int
		for _, s := range shares {
			require.NotEmpty(t, s)
			require.True(t, slices.IsSorted(s), "in their order")
			var sum time.Duration
			for _, c := range s {
				sum += last(c)
			}
			require.True(t, most == 0 || sum <= most || len(s) == 1, "%v takes %s", s, sum)
			all = append(all, s...)
		}
		slices.Sort(all)
		require.Equal(t, cases, all)
	})
	even := Shards([]int{0, 1, 2, 3}, func(int) time.Duration { return time.Minute }, 2*time.Minute)
	require.Len(t, even, 2)
}

func ExampleShards() {
	took := []time.Duration{50, 10, 40, 20}
	fmt.Println(Shards([]int{0, 1, 2, 3}, func(i int) time.Duration { return took[i] * time.Second }, time.Minute))
	// Output: [[0 1] [2 3]]
}
