package report

import (
	"crypto/rand"
	"fmt"
	"io"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"yamato/internal/contract"
	"yamato/internal/core/script"
)

// Ink writes text for a terminal: in colour where On, and folded at Width columns unless
// that is 0. The zero value leaves it plain.
type Ink struct {
	On    bool
	Width int
}

// lines writes a text folded, what follows the first line as far in as indent.
func (i Ink) lines(w io.Writer, indent int, format string, args ...any) {
	for _, l := range Indented(fmt.Sprintf(format, args...), indent, i.Width) {
		fmt.Fprintln(w, strings.TrimRight(l, " "))
	}
}

func (i Ink) paint(code, s string) string {
	if !i.On || s == "" {
		return s
	}
	return "\x1b" + sign + "[" + code + "m" + s + "\x1b" + sign + "[0m"
}

// sign stands in colours of our own, so that none that came from outside is taken for one: nobody else knows it. Reveal
// takes it out where text goes to a terminal.
var sign = rand.Text()

var own = regexp.MustCompile(`^\x1b` + sign + `(\[[0-9;]{1,20}m)`)

// Reveal gives the colour that a text begins with, as terminals read it (ECMA-48, 8.3.117), and how many bytes of the
// text it is; none for one that is not ours.
func Reveal(b []byte) (colour []byte, n int) {
	m := own.FindSubmatch(b)
	if m == nil {
		return nil, 0
	}
	return append([]byte{0x1b}, m[1]...), len(m[0])
}

// Vermilion, Petrol, Faint and Strong are the roles that colour has.
func (i Ink) Vermilion(s string) string { return i.paint("38;5;166", s) }

// Ochre is for what both passed and failed.
func (i Ink) Ochre(s string) string { return i.paint("38;5;136", s) }

// Petrol is for errors.
func (i Ink) Petrol(s string) string { return i.paint("38;5;30", s) }

// Faint is for what matters less.
func (i Ink) Faint(s string) string { return i.paint("2", s) }

// Strong is for headings.
func (i Ink) Strong(s string) string { return i.paint("1", s) }

// Shape gives a verdict's shape: colour never speaks alone.
func Shape(x contract.Crossing) string {
	verdict := x.Verdict
	switch {
	case x.Flaky:
		return "◐"
	case recovered(x):
		return "◎"
	case verdict == "pass":
		return "○"
	case verdict == "fail":
		return "■"
	case verdict == "error":
		return "▲"
	case verdict == "skip":
		return "–"
	}
	return "·"
}

// recovered reports whether a crossing passed after an attempt that ended in an error.
func recovered(x contract.Crossing) bool { return x.Recovered != nil && *x.Recovered }

// Shape is a verdict's shape in its colour.
func (i Ink) Shape(x contract.Crossing) string {
	s, verdict := Shape(x), x.Verdict
	switch {
	case x.Flaky:
		return i.Ochre(s)
	case verdict == "fail":
		return i.Vermilion(s)
	case verdict == "error" || recovered(x):
		return i.Petrol(s)
	case verdict == "skip" || verdict == "none":
		return i.Faint(s)
	}
	return s
}

type row struct {
	suite, name string
	cells       map[string]contract.Crossing
	heavy       int
	recovered   bool
}

// Weave writes a run's cases as rows and its combinations as columns, with a
// shape at each crossing. Rows and columns sort so that failures come together. More
// columns than fit stand below each other.
func Weave(w io.Writer, d contract.RunDetail, ink Ink) {
	rows, columns := crossings(d)
	r := d.Run
	ink.lines(w, 2, "%s  %s %s (%s), build %d  %s  %s", ink.Strong(fmt.Sprintf("Run %d", r.Number)), r.App,
		r.VersionName, r.VersionCode, r.Build, verdictWord(r, ink), ink.Faint(fmt.Sprintf("seed %d", r.Seed)))
	fmt.Fprintln(w)
	width := 0
	for _, one := range rows {
		width = max(width, utf8.RuneCountInString(one.name)+2)
	}
	width = min(max(width, 20), 62)
	if ink.Width > 0 {
		width = max(16, min(width, ink.Width-3*min(len(columns), 6)-2))
	}
	fit := len(columns)
	if ink.Width > 0 {
		fit = max(1, (ink.Width-width-1)/3)
	}
	for from := 0; from < len(columns) || from == 0; from += max(1, fit) {
		to := min(len(columns), from+fit)
		if from > 0 {
			fmt.Fprintln(w)
		}
		head := strings.Repeat(" ", width+1)
		for i := from; i < to; i++ {
			head += fmt.Sprintf("%3d", i+1)
		}
		fmt.Fprintln(w, ink.Faint(strings.TrimRight(head, " ")))
		weaveRows(w, rows, columns[from:to], width, ink)
	}
	fmt.Fprintln(w)
	for i, c := range columns {
		ink.lines(w, 5, "  %s %s", ink.Faint(fmt.Sprintf("%2d", i+1)), c)
	}
	legend := "○ pass   ■ fail   ▲ error   – skip   ◐ flaky   · not decided"
	if slices.ContainsFunc(rows, func(r *row) bool { return r.recovered }) {
		legend += "   ◎ after an error"
	}
	fmt.Fprintln(w)
	ink.lines(w, 2, "  %s", ink.Faint(legend))
}

func weaveRows(w io.Writer, rows []*row, columns []string, width int, ink Ink) {
	suite := ""
	for _, one := range rows {
		if one.suite != suite {
			suite = one.suite
			ink.lines(w, 2, "%s", ink.Strong(suite))
		}
		line := "  " + pad(one.name, width-1)
		for _, c := range columns {
			s := " "
			if x, ok := one.cells[c]; ok {
				s = ink.Shape(x)
			}
			line += "  " + s
		}
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// maxLeftOut is how many reasons for combinations that are left out are told with a run.
const maxLeftOut = 8

// LeftOut writes which combinations a run leaves out, and why: those of one reason once.
// It comes after what failed. all tells every reason, whatever there is of them.
func LeftOut(w io.Writer, list []contract.LeftOut, ink Ink, all bool) {
	if len(list) == 0 {
		return
	}
	where := map[string][]string{}
	var order []string
	for _, l := range list {
		why := []string{}
		for _, r := range l.Reasons {
			why = append(why, strings.TrimSuffix(r.Why+": "+r.Remedy, ": "))
		}
		k := strings.Join(why, "\n")
		if where[k] == nil {
			order = append(order, k)
		}
		where[k] = append(where[k], wholeOf(l.Combination))
	}
	combinations := "combinations"
	if len(list) == 1 {
		combinations = "combination"
	}
	fmt.Fprintln(w)
	ink.lines(w, 2, "%s", ink.Strong(fmt.Sprintf("Left out: %d %s", len(list), combinations)))
	for i, k := range order {
		if i == maxLeftOut && !all {
			ink.lines(w, 2, "  %s", ink.Faint(fmt.Sprintf("%d more reasons; --output json lists them all",
				len(order)-i)))
			break
		}
		ink.lines(w, 4, "  %s", strings.Join(where[k], "; "))
		for _, line := range strings.Split(k, "\n") {
			ink.lines(w, 6, "    %s", ink.Faint(line))
		}
	}
}

func verdictWord(r contract.Run, ink Ink) string {
	word := r.Verdict
	if r.FinishedAt == nil {
		word = fmt.Sprintf("%s, %d of %d legs to go", r.State, r.OpenLegs, r.Legs)
	} else if r.State == "cancelled" {
		word = "cancelled; so far " + r.Verdict
	}
	switch r.Verdict {
	case "fail":
		return ink.Vermilion(word)
	case "error":
		return ink.Petrol(word)
	}
	return ink.Strong(word)
}

func crossings(d contract.RunDetail) ([]*row, []string) {
	at := map[[2]string]*row{}
	weight := map[string]int{}
	var rows []*row
	var columns, suites []string
	for _, leg := range d.Legs {
		label := whole(leg)
		if _, ok := weight[label]; !ok {
			weight[label] = 0
			columns = append(columns, label)
		}
		if !slices.Contains(suites, leg.Suite) {
			suites = append(suites, leg.Suite)
		}
		for _, x := range leg.Cases {
			k := [2]string{leg.Suite, x.Name}
			if at[k] == nil {
				at[k] = &row{suite: leg.Suite, name: x.Name, cells: map[string]contract.Crossing{}}
				rows = append(rows, at[k])
			}
			at[k].cells[label] = x
			at[k].recovered = at[k].recovered || recovered(x)
			if x.Verdict == "fail" || x.Verdict == "error" {
				at[k].heavy += 2
				weight[label] += 2
			} else if x.Flaky {
				at[k].heavy++
				weight[label]++
			}
		}
	}
	sort.SliceStable(rows, func(i, j int) bool {
		if a, b := slices.Index(suites, rows[i].suite), slices.Index(suites, rows[j].suite); a != b {
			return a < b
		}
		return rows[i].heavy > rows[j].heavy
	})
	sort.SliceStable(columns, func(i, j int) bool { return weight[columns[i]] > weight[columns[j]] })
	return rows, columns
}

func pad(s string, width int) string {
	runes := []rune(s)
	if len(runes) > width {
		return string(runes[:width-1]) + "…"
	}
	return s + strings.Repeat(" ", width-len(runes))
}

// Failures writes what failed and why, in words: each failure once, with the
// combinations that share it.
func Failures(w io.Writer, d contract.RunDetail, ink Ink) {
	type group struct {
		suite, name, verdict, sentence string
		flaky, recovered               bool
		example                        contract.Result
		where                          []string
	}
	at := map[string]*group{}
	var groups []*group
	crossingsOf := map[string]int{}
	for _, leg := range d.Legs {
		for _, x := range leg.Cases {
			crossingsOf[leg.Suite+"\x00"+x.Name]++
			bad := x.Flaky || recovered(x) || x.Verdict == "fail" || x.Verdict == "error" || x.Verdict == "skip"
			if !bad {
				continue
			}
			sentence, example := lastSentence(x), contract.Result{}
			if sentence == "" {
				sentence = troubleOf(leg)
			}
			for _, r := range x.Results {
				if r.Sentence != nil && *r.Sentence == sentence {
					example = r
				}
			}
			k := strings.Join([]string{leg.Suite, x.Name, x.Verdict, fmt.Sprint(x.Flaky, recovered(x)), sentence},
				"\x00")
			if at[k] == nil {
				at[k] = &group{suite: leg.Suite, name: x.Name, verdict: x.Verdict, flaky: x.Flaky,
					recovered: recovered(x),
					sentence:  sentence, example: example}
				groups = append(groups, at[k])
			}
			at[k].where = append(at[k].where, Where(leg))
		}
	}
	for _, g := range groups {
		word := g.verdict
		if g.flaky {
			word = "flaky, now " + g.verdict
		} else if g.recovered {
			word = "passed, after an attempt that ended in an error"
		}
		fmt.Fprintln(w)
		ink.lines(w, 2, "%s %s  %s", ink.Shape(contract.Crossing{Verdict: g.verdict, Flaky: g.flaky,
			Recovered: &g.recovered}), ink.Strong(g.name), ink.Faint(word))
		where := strings.Join(g.where, "; ")
		if n := crossingsOf[g.suite+"\x00"+g.name]; len(g.where) == n && n > 1 {
			where = fmt.Sprintf("all %d combinations", n)
			if n == 2 {
				where = "both combinations"
			}
		}
		ink.lines(w, 11, "  on       %s", where)
		writeFailure(w, g.sentence, g.example, ink)
	}
}

// writeFailure tells a failure in the order in which people ask.
func writeFailure(w io.Writer, sentence string, r contract.Result, ink Ink) {
	f, ok := FailureOf(r)
	if !ok {
		ink.lines(w, 11, "  because  %s", sentence)
		return
	}
	for _, l := range f.Lines() {
		switch text := l.Text; {
		case l.Label == "differs":
			for i, p := range f.Difference {
				switch p.Of {
				case script.OfExpected:
					text = ink.mark(text, i, ink.Petrol("[-"+p.Text+"-]"))
				case script.OfActual:
					text = ink.mark(text, i, ink.Vermilion("{+"+p.Text+"+}"))
				default:
					text = ink.mark(text, i, p.Text)
				}
			}
			ink.lines(w, 11, "  %-8s %s", l.Label, text)
		case l.Faint:
			ink.lines(w, 13, "  %-8s %s", l.Label, ink.Faint(text))
		default:
			ink.lines(w, 11, "  %-8s %s", l.Label, text)
		}
	}
}

// mark gathers the parts of a difference.
func (i Ink) mark(text string, at int, part string) string {
	if at == 0 {
		return part
	}
	return text + part
}

// Causes writes what the service has found out about what failed: where it failed and
// nowhere else, and since which build.
func Causes(w io.Writer, causes []contract.Cause, ink Ink) {
	first := true
	for _, c := range causes {
		var said []string
		for _, p := range []*string{&c.Shared, c.Since} {
			if p != nil && *p != "" {
				said = append(said, *p)
			}
		}
		said = append(said, bearing(c.Bearing)...)
		if len(said) == 0 {
			continue
		}
		if first {
			fmt.Fprintln(w)
			fmt.Fprintln(w, ink.Strong("What the failures have in common"))
			first = false
		}
		ink.lines(w, 4, "  %s: %s", strings.Join(c.Cases, ", "), strings.Join(said, "; "))
	}
}

// bearing says what else is known of a step that failed, in words.
func bearing(b *contract.Bearing) []string {
	var out []string
	if b == nil {
		return nil
	}
	if list := deref(b.Touched); len(list) > 0 {
		words := fmt.Sprintf("%q looked for the same here and passed", list[0])
		if more := len(list) - 1; more > 0 {
			cases := "cases"
			if more == 1 {
				cases = "case"
			}
			words = fmt.Sprintf("%q and %d more %s looked for the same here and passed", list[0], more, cases)
		}
		out = append(out, words)
	}
	if b.LastPassed != nil {
		out = append(out, "this step last passed in "+*b.LastPassed)
	}
	return out
}

// Doubts writes which steps passed and prove little, once each, with where they stand.
func Doubts(w io.Writer, d contract.RunDetail, ink Ink) {
	seen := map[string]bool{}
	for _, leg := range d.Legs {
		for _, x := range leg.Cases {
			for _, r := range x.Results {
				if r.Steps == nil {
					continue
				}
				for _, s := range *r.Steps {
					if s.Note == nil || s.Absent == nil {
						continue
					}
					line := fmt.Sprintf("%s, line %d: %s: %s", leg.Suite, s.Line, s.Text, *s.Note)
					if !seen[line] {
						if len(seen) == 0 {
							fmt.Fprintln(w, "\n"+ink.Strong("Passed, and worth a look"))
						}
						seen[line] = true
						ink.lines(w, 4, "  %s", line)
					}
				}
			}
		}
	}
}

func lastSentence(x contract.Crossing) string {
	sentence := ""
	for _, r := range x.Results {
		if r.Sentence != nil && *r.Sentence != "" {
			sentence = *r.Sentence
		}
	}
	return sentence
}

// Whole is where a leg runs, as the weave prints it: with the kind, which the label tells of real devices only.
func Whole(l contract.Leg) string { return whole(l) }

func whole(l contract.Leg) string {
	if l.Device != nil {
		return wholeOf(l.Combination) + ", " + *l.Device
	}
	return wholeOf(l.Combination)
}

func wholeOf(c contract.Combination) string {
	if c.Kind == "" || c.Kind == "real" {
		return Label(c)
	}
	return Label(c) + ", " + c.Kind
}
