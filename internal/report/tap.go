package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/goccy/go-yaml"

	"yamato/internal/contract"
)

// TAP writes a run as TAP 14 (the Test Anything Protocol): a test for each case in each combination.
// What failed has a YAML block that tells it as all reports do.
func TAP(w io.Writer, d contract.RunDetail) error {
	var b strings.Builder
	n := 0
	for _, leg := range d.Legs {
		n += len(leg.Cases)
	}
	fmt.Fprintf(&b, "TAP version 14\n1..%d\n", n)
	if n == 0 {
		b.Reset()
		b.WriteString("TAP version 14\n1..0 # SKIP nothing was run\n")
	}
	n = 0
	for _, leg := range d.Legs {
		for _, x := range leg.Cases {
			n++
			ok := "ok"
			if x.Verdict == "fail" || x.Verdict == "error" || x.Verdict == "none" {
				ok = "not ok"
			}
			fmt.Fprintf(&b, "%s %d - %s", ok, n, tapText(leg.Suite+": "+x.Name+", "+Where(leg)))
			if x.Verdict == "skip" {
				fmt.Fprintf(&b, " # SKIP %s", tapText(lastSentence(x)))
			}
			b.WriteString("\n")
			if err := tapBlock(&b, leg, x); err != nil {
				return err
			}
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// tapBlock writes what there is to tell of a test, as YAML.
func tapBlock(b *strings.Builder, leg contract.Leg, x contract.Crossing) error {
	block := yaml.MapSlice{}
	add := func(key string, value any) { block = append(block, yaml.MapItem{Key: key, Value: value}) }
	var took int64
	for _, r := range x.Results {
		took += r.TookMs
	}
	if x.Verdict != "pass" || x.Flaky {
		add("verdict", x.Verdict)
	}
	if x.Flaky {
		add("flaky", true)
	}
	if x.Verdict == "fail" || x.Verdict == "error" {
		message := lastSentence(x)
		if message == "" {
			message = troubleOf(leg)
		}
		add("message", printable(message))
		if text := told(x); text != "" {
			add("told", printable(strings.TrimSpace(text)))
		}
	}
	if took > 0 {
		add("duration_ms", took)
	}
	if len(block) == 0 {
		return nil
	}
	text, err := yaml.MarshalWithOptions(block, yaml.UseLiteralStyleIfMultiline(true))
	if err != nil {
		return err
	}
	b.WriteString("  ---\n")
	for _, l := range strings.Split(strings.TrimRight(string(text), "\n"), "\n") {
		b.WriteString("  " + l + "\n")
	}
	b.WriteString("  ...\n")
	return nil
}

// tapText writes a text of one line in which nothing is a directive.
func tapText(s string) string {
	return strings.NewReplacer(`\`, `\\`, "#", `\#`).Replace(strings.Join(strings.Fields(printable(s)), " "))
}
