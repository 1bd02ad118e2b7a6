package report

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
	"yamato/internal/core/script"
)

// hostile is a run in which every text from outside tries to be something else.
func hostile() contract.RunDetail {
	d := sample()
	bad := "</td><script>alert(1)</script> # SKIP ok 9 \\ \x1b[31m\x00 ]]> \u202e\n  ...\nnot ok 77 - x\nBail out!"
	d.Run.App, d.Run.VersionName = bad, bad
	for i := range d.Legs {
		d.Legs[i].Suite = bad
		d.Legs[i].Combination.Model = fmt.Sprint(i, bad)
		for j := range d.Legs[i].Cases {
			x := &d.Legs[i].Cases[j]
			x.Name = fmt.Sprint(j, bad)
			for k := range x.Results {
				if x.Results[k].Failure != nil {
					x.Results[k].Sentence = &bad
					(*x.Results[k].Failure)["actual"] = bad
					(*x.Results[k].Failure)["report"] = bad
				}
			}
		}
	}
	d.LeftOut[0].Reasons[0].Why = bad
	return d
}

func TestTAPIsReadAsItWasMeant(t *testing.T) {
	for name, d := range map[string]contract.RunDetail{"sample": sample(), "hostile": hostile()} {
		var out bytes.Buffer
		require.NoError(t, TAP(&out, d))
		lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
		require.Equal(t, []string{"TAP version 14", "1..9"}, lines[:2], name)
		test := regexp.MustCompile(`^(not )?ok (\d+) - (.*)$`)
		directive := regexp.MustCompile(`(^|[^\\])(\\\\)*#`)
		var verdicts, block []string
		inside := false
		for _, l := range lines[2:] {
			require.NotRegexp(t, `[\x00-\x08\x1b]`, l)
			switch {
			case l == "  ---":
				inside, block = true, nil
			case l == "  ...":
				inside = false
				var said map[string]any
				require.NoError(t, yaml.Unmarshal([]byte(strings.Join(block, "\n")), &said), "%s",
					strings.Join(block, "\n"))
				require.NotEmpty(t, said)
			case inside:
				block = append(block, strings.TrimPrefix(l, "  "))
			default:
				m := test.FindStringSubmatch(l)
				require.NotNil(t, m, "%s: %q", name, l)
				require.Equal(t, fmt.Sprint(len(verdicts)+1), m[2])
				text, _, skipped := strings.Cut(m[3], " # SKIP")
				require.NotRegexp(t, directive, text)
				verdicts = append(verdicts, fmt.Sprintf("%sok skip=%v", m[1], skipped))
			}
		}
		require.False(t, inside)
		require.Equal(t, []string{"ok skip=false", "ok skip=false", "not ok skip=false", "ok skip=false",
			"ok skip=false",
			"not ok skip=false", "not ok skip=false", "ok skip=true", "not ok skip=false"}, verdicts, name)
	}
	var out bytes.Buffer
	require.NoError(t, TAP(&out, contract.RunDetail{}))
	require.Equal(t, "TAP version 14\n1..0 # SKIP nothing was run\n", out.String())
}

func TestTheDocumentKeepsItsSchema(t *testing.T) {
	kept, err := os.ReadFile("run-report.schema.json")
	require.NoError(t, err)
	told, err := os.ReadFile("../../docs/run-report.schema.json")
	require.NoError(t, err)
	require.Equal(t, string(kept), string(told), "docs/ has it as it is")
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(kept))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("run-report.json", schema))
	compiled, err := c.Compile("run-report.json")
	require.NoError(t, err)
	causes := []contract.Cause{{Expected: "#total to be shown", Actual: "it is not there", Combinations: 2, Of: 3,
		Verdict: "fail"}}
	for name, d := range map[string]contract.RunDetail{"sample": sample(), "hostile": hostile(),
		"empty": {Run: contract.Run{State: "running", Verdict: "none"}}} {
		var out bytes.Buffer
		require.NoError(t, JSON(&out, d, causes))
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(out.Bytes()))
		require.NoError(t, err, name)
		require.NoError(t, compiled.Validate(v), name)
	}
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"run": 7}`))
	require.NoError(t, err)
	require.Error(t, compiled.Validate(v), "it refuses what is none")
}

func TestThePageHoldsNothingThatRunsAndNothingFromElsewhere(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, HTML(&out, hostile(), []contract.Cause{{Expected: "</p><script>x</script>",
		Actual: "\"><img src=x onerror=y>", Of: 3}}, nil, nil))
	page := out.String()
	require.NotContains(t, page, "<script")
	require.NotContains(t, page, "<img src=x")
	require.Contains(t, page, "&lt;script&gt;alert(1)")
	require.Contains(t, page, "default-src 'none'")
	require.NotRegexp(t, `(src|href)="(https?:)?//`, page)
}

func TestFindingsAsSARIF(t *testing.T) {
	var out bytes.Buffer
	_, findings := script.Read("suite \"s\"\ncase \"c\"\n  tpa \"é\"\nend\n")
	var placed []Placed
	for _, f := range findings {
		placed = append(placed, Placed{"a b/tickets.yamato", f})
	}
	require.NoError(t, SARIF(&out, "1", placed))
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID    string
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndColumn int }
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &log))
	require.Equal(t, "2.1.0", log.Version)
	run := log.Runs[0]
	require.Len(t, run.Results, len(findings))
	first := run.Results[0]
	require.Equal(t, "error", first.Level)
	require.Equal(t, "form", first.RuleID)
	require.Contains(t, first.Message.Text, "did you mean `tap`?")
	require.Equal(t, "a%20b/tickets.yamato", first.Locations[0].PhysicalLocation.ArtifactLocation.URI)
	region := first.Locations[0].PhysicalLocation.Region
	require.Equal(t, [3]int{3, 3, 6}, [3]int{region.StartLine, region.StartColumn, region.EndColumn})
	for _, r := range run.Results {
		var known bool
		for _, rule := range run.Tool.Driver.Rules {
			known = known || rule.ID == r.RuleID
		}
		require.True(t, known, r.RuleID)
	}
}

func TestANoteIsNoMarkup(t *testing.T) {
	got := note("It fails:\n- <script>alert(1)</script>\n1. [click](javascript:x)\n\n> quoted\n====\n**loud** &amp; ![x](y)")
	require.NotRegexp(t, `(^|[^\\])<script`, got)
	for _, never := range []string{"\n- ", "\n1. ", "\n> ", "\n====", "**loud", "[click]("} {
		require.NotContains(t, got, never)
	}
	require.Contains(t, got, "It fails:\\\n\\- ")
	require.Equal(t, 2, len(strings.Split(got, "\n\n")), "paragraphs stay")
}
