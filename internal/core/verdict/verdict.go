// Package verdict holds the verdicts of results and folds them, from the inside
// out: results into a case in a combination, those into a case, and those into
// a run. It also decides what a leg still has to run. The rules are tables.
package verdict

import "yamato/internal/core/states"

// Verdict is the outcome of a case, and of what cases fold into.
type Verdict string

// The verdicts; see docs/vocabulary.md.
const (
	None  Verdict = "none"  // not decided yet
	Pass  Verdict = "pass"  // the app did what the case expects
	Fail  Verdict = "fail"  // the app did not do what the case expects
	Error Verdict = "error" // device, host, site or script trouble; says nothing of the app
	Skip  Verdict = "skip"  // not run, with the reason
)

// rule says what a verdict does in each folding. weight orders them where
// several fold into one: the heaviest wins. decides tells whether a result of
// this verdict settles its case in its combination.
var rules = map[Verdict]struct {
	weight  int
	decides bool
}{
	None:  {0, false},
	Skip:  {1, true},
	Pass:  {2, true},
	Error: {3, false},
	Fail:  {4, true},
}

// Known reports whether v is one of the verdicts.
func (v Verdict) Known() bool { _, ok := rules[v]; return ok }

// Decided reports whether v settles a case in its combination.
func (v Verdict) Decided() bool { return rules[v].decides }

// Crossing is a case in a combination.
type Crossing struct {
	Verdict   Verdict `json:"verdict"`
	Flaky     bool    `json:"flaky"`     // the same build both passed and failed here
	Recovered bool    `json:"recovered"` // it passed after an attempt that ended in an error
	Final     bool    `json:"-"`         // an error that is the same on any device: trying again does not help
}

// OfCrossing folds the results of one case in one combination, oldest first:
// the last decided one, and error only if none decided it.
func OfCrossing(results []Verdict) Crossing {
	c := Crossing{Verdict: None}
	var passed, failed, erred bool
	for _, v := range results {
		passed, failed, erred = passed || v == Pass, failed || v == Fail, erred || v == Error
		c.Recovered = c.Recovered || erred && v == Pass
		if v.Decided() || !c.Verdict.Decided() && rules[v].weight > rules[c.Verdict].weight {
			c.Verdict = v
		}
	}
	c.Flaky = passed && failed
	c.Recovered = c.Recovered && c.Verdict == Pass
	return c
}

// Outcome is what came of a leg: the results of each of its cases, by position, oldest
// first. State is the leg's.
type Outcome struct {
	Suite   int64 // whose cases these are
	State   states.Leg
	Cases   []int
	Results map[int][]Verdict
}

// Crossing folds the results of one case of the leg. What nobody decided in a leg that
// has finished is an error: it was asked for.
func (l Outcome) Crossing(index int) Crossing {
	c := OfCrossing(l.Results[index])
	if l.State == "finished" && c.Verdict == None {
		c.Verdict = Error
	}
	return c
}

// OfRun folds every crossing that a run was asked for into its verdict. What a
// cancelled leg leaves undecided is none, and does not count.
func OfRun(legs []Outcome) Verdict {
	type one struct {
		suite int64
		index int
	}
	cases := map[one][]Verdict{}
	for _, l := range legs {
		for _, i := range l.Cases {
			k := one{l.Suite, i}
			cases[k] = append(cases[k], l.Crossing(i).Verdict)
		}
	}
	var folded []Verdict
	for _, list := range cases {
		folded = append(folded, Fold(list))
	}
	return Fold(folded)
}

// Fold folds verdicts of equal rank: cases from combinations, a run from cases.
// The heaviest wins: fail, else error, else pass, else skip, else none.
func Fold(verdicts []Verdict) Verdict {
	folded := None
	for _, v := range verdicts {
		if rules[v].weight > rules[folded].weight {
			folded = v
		}
	}
	return folded
}

// Retry says how often a leg may go again.
type Retry struct {
	AfterError int // further attempts, elsewhere, for cases that no attempt decided
	AfterFail  int // further attempts for cases whose last verdict is fail
}

// Used counts the further attempts that a leg has had.
type Used struct {
	AfterError int
	AfterFail  int
}

// Next is what a leg still has to run. No Cases means that it is finished.
type Next struct {
	Cases     []int // positions in the leg's suite, rising
	Elsewhere bool  // the attempt before met trouble: not on the devices it was tried on
	Used      Used
}

// After decides what a leg runs next, given the verdict of each of its cases so
// far by position. A decided result stands: only undecided cases go again, and
// failed ones where the retry rule asks for it.
func After(cases []int, so map[int]Crossing, retry Retry, used Used) Next {
	next := Next{Used: used}
	mayError, mayFail := used.AfterError < retry.AfterError, used.AfterFail < retry.AfterFail
	var again, repeated bool
	for _, c := range cases {
		crossing, seen := so[c]
		switch {
		case !seen || !crossing.Verdict.Decided() && !crossing.Final:
			if mayError {
				next.Cases, again = append(next.Cases, c), true
			}
		case crossing.Verdict == Fail && mayFail:
			next.Cases, repeated = append(next.Cases, c), true
		}
	}
	if again {
		next.Used.AfterError++
		next.Elsewhere = true
	}
	if repeated {
		next.Used.AfterFail++
	}
	return next
}
