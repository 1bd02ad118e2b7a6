// Package report writes what a run found in forms that other tools and people
// read: JUnit XML, and text for a terminal.
package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
)

type junitSuites struct {
	XMLName  xml.Name     `xml:"testsuites"`
	Name     string       `xml:"name,attr"`
	Tests    int          `xml:"tests,attr"`
	Failures int          `xml:"failures,attr"`
	Errors   int          `xml:"errors,attr"`
	Skipped  int          `xml:"skipped,attr"`
	Time     string       `xml:"time,attr"`
	Suites   []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name       string          `xml:"name,attr"`
	Tests      int             `xml:"tests,attr"`
	Failures   int             `xml:"failures,attr"`
	Errors     int             `xml:"errors,attr"`
	Skipped    int             `xml:"skipped,attr"`
	Time       string          `xml:"time,attr"`
	Timestamp  string          `xml:"timestamp,attr,omitempty"` // when its first attempt began, UTC
	Hostname   string          `xml:"hostname,attr,omitempty"`  // the device of its last attempt
	Properties []junitProperty `xml:"properties>property"`
	Cases      []junitCase     `xml:"testcase"`
}

type junitProperty struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value,attr"`
}

type junitCase struct {
	Name       string           `xml:"name,attr"`
	Class      string           `xml:"classname,attr"`
	Time       string           `xml:"time,attr"`
	File       string           `xml:"file,attr,omitempty"` // where it failed, if not in the suite's own file
	Line       int              `xml:"line,attr,omitempty"`
	Properties *junitProperties `xml:"properties"` // the files of its evidence, where they are beside
	Failure    *junitFault      `xml:"failure"`
	Error      *junitFault      `xml:"error"`
	Skipped    *junitFault      `xml:"skipped"`
	SystemOut  string           `xml:"system-out,omitempty"`
}

type junitProperties struct {
	List []junitProperty `xml:"property"`
}

type junitFault struct {
	Message string `xml:"message,attr,omitempty"`
	Type    string `xml:"type,attr,omitempty"` // the failure's cause: docs/script.md
	Text    string `xml:",chardata"`
}

// JUnit writes a run as JUnit XML: one testsuite for each suite in each
// combination, one testcase for each case in it.
func JUnit(w io.Writer, d contract.RunDetail) error { return JUnitBeside(w, d, nil) }

// JUnitBeside is JUnit for a folder in which the files of each case's evidence lie: files gives them, by leg and by the
// case's position in its suite.
func JUnitBeside(w io.Writer, d contract.RunDetail, files func(leg int64, index int) []string) error {
	all := junitSuites{Name: printable(fmt.Sprintf("run %d: %s %s (%s), build %d", d.Run.Number, d.Run.App,
		d.Run.VersionName, d.Run.VersionCode, d.Run.Build))}
	var total int64
	for _, leg := range d.Legs {
		label := Where(leg)
		suite := junitSuite{Name: printable(leg.Suite + " on " + label)}
		if n := len(leg.Attempts); n > 0 {
			suite.Timestamp, suite.Hostname = leg.Attempts[0].Began.UTC().Format("2006-01-02T15:04:05"),
				printable(leg.Attempts[n-1].Device)
		}
		c := leg.Combination
		for _, p := range [][2]string{{"model", c.Model}, {"kind", c.Kind}, {"platform", c.Platform}, {"os", c.Os},
			{"seed", fmt.Sprint(d.Run.Seed)}, {"build", fmt.Sprint(d.Run.Build)},
			{"version", d.Run.VersionName + " (" + d.Run.VersionCode + ")"}} {
			suite.Properties = append(suite.Properties, junitProperty{p[0], printable(p[1])})
		}
		for _, l := range c.Levels {
			suite.Properties = append(suite.Properties, junitProperty{printable(l.Factor), printable(l.Value)})
		}
		for _, key := range slices.Sorted(maps.Keys(deref(d.Run.Labels))) {
			suite.Properties = append(suite.Properties, junitProperty{printable("label." + key),
				printable((*d.Run.Labels)[key])})
		}
		var took int64
		for _, x := range leg.Cases {
			one, ms := junitOf(x, leg, label)
			if files != nil {
				one.Properties = attached(files(leg.Id, x.Index))
			}
			took += ms
			suite.Tests++
			suite.Failures += count(one.Failure)
			suite.Errors += count(one.Error)
			suite.Skipped += count(one.Skipped)
			suite.Cases = append(suite.Cases, one)
		}
		suite.Time = seconds(took)
		total += took
		all.Tests += suite.Tests
		all.Failures += suite.Failures
		all.Errors += suite.Errors
		all.Skipped += suite.Skipped
		all.Suites = append(all.Suites, suite)
	}
	for _, suite := range leftOutSuites(d) {
		all.Tests += suite.Tests
		all.Skipped += suite.Skipped
		all.Suites = append(all.Suites, suite)
	}
	all.Time = seconds(total)
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// leftOutSuites gives a testsuite of skipped cases for each suite in each combination that
// was left out.
func leftOutSuites(d contract.RunDetail) (out []junitSuite) {
	cases := map[string][]string{}
	var suites []string
	for _, leg := range d.Legs {
		if cases[leg.Suite] == nil {
			suites = append(suites, leg.Suite)
			for _, x := range leg.Cases {
				cases[leg.Suite] = append(cases[leg.Suite], x.Name)
			}
		}
	}
	for _, l := range d.LeftOut {
		label := Label(l.Combination)
		why := "left out"
		if len(l.Reasons) > 0 {
			why += ": " + l.Reasons[0].Why
		}
		for _, name := range suites {
			suite := junitSuite{Name: printable(name + " on " + label), Time: seconds(0)}
			for _, c := range cases[name] {
				one := junitCase{Name: printable(c), Class: printable(name + " | " + label), Time: seconds(0),
					Skipped: &junitFault{Message: printable(why)}}
				suite.Cases = append(suite.Cases, one)
				suite.Tests++
				suite.Skipped++
			}
			out = append(out, suite)
		}
	}
	return out
}

func junitOf(x contract.Crossing, leg contract.Leg, label string) (junitCase, int64) {
	out := junitCase{Name: printable(x.Name), Class: printable(leg.Suite + " | " + label)}
	var took int64
	sentence := ""
	for _, r := range x.Results {
		took += r.TookMs
		if r.Sentence != nil {
			sentence = *r.Sentence
		}
	}
	out.Time = seconds(took)
	fault := &junitFault{Message: printable(sentence), Text: printable(history(x) + told(x))}
	if f, ok := lastFailure(x); ok {
		fault.Type, out.File, out.Line = printable(string(f.Cause)), printable(f.File), max(0, f.Line)
	}
	switch x.Verdict {
	case "fail":
		out.Failure = fault
	case "error":
		if sentence == "" {
			fault.Message = printable(troubleOf(leg))
		}
		out.Error = fault
	case "skip":
		out.Skipped = &junitFault{Message: fault.Message}
	case "none":
		out.Skipped = &junitFault{Message: "nothing was decided"}
	case "pass":
		if x.Flaky {
			out.SystemOut = printable("flaky: the same build both passed and failed here\n" + history(x))
		} else if recovered(x) {
			out.SystemOut = printable("it passed after an attempt that ended in an error\n" + history(x))
		}
	}
	return out, took
}

func troubleOf(leg contract.Leg) string {
	for i := len(leg.Attempts) - 1; i >= 0; i-- {
		if t := leg.Attempts[i].Trouble; t != nil {
			return *t
		}
	}
	return "no attempt judged it"
}

// told tells the last failure of a crossing as all reports do.
func told(x contract.Crossing) string {
	if f, ok := lastFailure(x); ok {
		return "\n" + f.Text()
	}
	return ""
}

func lastFailure(x contract.Crossing) (Failure, bool) {
	for i := len(x.Results) - 1; i >= 0; i-- {
		if f, ok := FailureOf(x.Results[i]); ok {
			return f, true
		}
	}
	return Failure{}, false
}

func attached(files []string) *junitProperties {
	if len(files) == 0 {
		return nil
	}
	out := &junitProperties{}
	for _, f := range files {
		out.List = append(out.List, junitProperty{"attachment", printable(f)})
	}
	return out
}

// history tells every result of a crossing, a line each.
func history(x contract.Crossing) string {
	var b strings.Builder
	for _, r := range x.Results {
		fmt.Fprintf(&b, "attempt %d on %s: %s", r.Attempt, r.Device, r.Verdict)
		if r.Sentence != nil && *r.Sentence != "" {
			fmt.Fprintf(&b, ": %s", *r.Sentence)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func count(f *junitFault) int {
	if f != nil {
		return 1
	}
	return 0
}

func seconds(ms int64) string { return fmt.Sprintf("%.3f", float64(ms)/1000) }

// printable drops what XML 1.0 cannot hold (section 2.2).
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' || r == '\n' || r == '\r' || r >= 0x20 && r <= 0xd7ff || r >= 0xe000 && r <= 0xfffd ||
			r >= 0x10000 {
			return r
		}
		return -1
	}, s)
}

// Label is how people read a combination.
func Label(c contract.Combination) string {
	levels := fleet.Levels{}
	for _, l := range c.Levels {
		levels = append(levels, fleet.Level{Factor: l.Factor, Value: l.Value})
	}
	return fleet.Combination{Class: fleet.Class{Kind: c.Kind, Model: c.Model, Platform: c.Platform, OS: c.Os},
		Levels: levels}.Label()
}

// Where is how people read where a leg runs: its combination, and the one device where
// that was named.
func Where(l contract.Leg) string {
	if l.Device != nil {
		return Label(l.Combination) + ", " + *l.Device
	}
	return Label(l.Combination)
}

func deref[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}
