package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
)

func yamato(t *testing.T, args ...string) (out, errOut string, code int) {
	t.Helper()
	t.Setenv("YAMATO_CONNECTION", filepath.Join(t.TempDir(), "none.json"))
	var o, e bytes.Buffer
	code = Run(context.Background(), args, strings.NewReader(""), &o, &e)
	return o.String(), e.String(), code
}

func write(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func TestACheckNeedsNoService(t *testing.T) {
	good := write(t, "good.yamato", "suite \"G\"\ncase \"a\"\nexpect #x\nend\n")
	bad := write(t, "bad.yamato", "suite \"B\"\ncase \"a\"\ntpa #x\nexpect #x\nend\n")
	out, _, code := yamato(t, "suite", "check", good)
	require.Zero(t, code)
	require.Equal(t, "1 suite, 1 case: 0 faults, no advice\n", out)
	out, _, code = yamato(t, "suite", "check", good, bad)
	require.Equal(t, 1, code)
	require.Contains(t, out, bad+":3:1: fault: unknown word `tpa`; did you mean `tap`?\n    tpa #x\n    ^^^\n")
	out, _, code = yamato(t, "suite", "check", bad, "--output", "json")
	require.Equal(t, 1, code)
	var list []struct{ Pos struct{ Line int } }
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	require.Equal(t, 3, list[0].Pos.Line)
	out, _, code = yamato(t, "suite", "check", good,
		write(t, "twin.yamato", "suite \"G\"\ncase \"a\"\nexpect #x\nend\n"))
	require.Equal(t, 1, code)
	require.Contains(t, out, "has the same name")
	_, errOut, code := yamato(t, "suite", "check", t.TempDir())
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "there is no script in")
}

func TestWithoutAServiceACommandSaysHowToStartOne(t *testing.T) {
	_, errOut, code := yamato(t, "device", "ls")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "no service is known")
	require.Contains(t, errOut, "yamato up")
	t.Setenv("YAMATO_TOKEN", strings.Repeat("x", 30))
	_, errOut, code = yamato(t, "device", "ls", "--service", "http://127.0.0.1:1", "--project", "default")
	require.Equal(t, 3, code)
	require.Contains(t, errOut, "no service answers at http://127.0.0.1:1")
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	a := &app{&ui.App{Out: &bytes.Buffer{}, Err: &bytes.Buffer{}}}
	n := 0
	for _, c := range a.root().Commands() {
		all := c.Commands()
		if len(all) == 0 {
			all = append(all, c)
		}
		for _, one := range all {
			if one.Name() == "help" || one.Parent().Name() == "completion" || one.Name() == "completion" {
				continue
			}
			n++
			require.NotEmpty(t, one.Short, one.CommandPath())
			require.Contains(t, one.Example, "yamato "+strings.TrimPrefix(one.CommandPath(), "yamato "),
				"the example of %s shows it", one.CommandPath())
		}
	}
	require.Greater(t, n, 15)
	out, _, code := yamato(t, "completion", "bash")
	require.Zero(t, code)
	require.Contains(t, out, "__start_yamato")
}

func TestExitCodesTellTheOutcome(t *testing.T) {
	for _, c := range []struct {
		state, verdict string
		code           int
	}{
		{"finished", "pass", 0}, {"finished", "fail", 1}, {"finished", "error", 4}, {"finished", "skip", 5},
		{"finished", "none", 5}, {"cancelled", "pass", 5},
	} {
		err := ui.ExitFor(contract.Run{State: c.state, Verdict: c.verdict})
		var e ui.Exit
		if errors.As(err, &e) {
			require.Equal(t, c.code, e.Code, c)
		} else {
			require.Zero(t, c.code, c)
		}
	}
	hint := "do this"
	for _, c := range []struct {
		err  error
		code int
	}{
		{nil, 0}, {ui.WrongCall{Title: "no", Hint: "so"}, 2}, {&client.Unreachable{URL: "x"}, 3}, {context.Canceled, 5},
		{&client.ProblemError{Problem: contract.Problem{Title: "not there", Status: 404, Hint: &hint}}, 2},
		{&client.ProblemError{Problem: contract.Problem{Title: "broken", Status: 500}}, 3},
		{&client.ProblemError{Problem: contract.Problem{Title: "who are you", Status: 401}}, 3},
	} {
		var errOut bytes.Buffer
		require.Equal(t, c.code, (&app{&ui.App{Err: &errOut}}).tell(c.err), "%v", c.err)
	}
}

func TestServeAndHostSayWhatTheyNeed(t *testing.T) {
	t.Setenv("YAMATO_DATABASE", "")
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"serve"}, "serve needs a database"},
		{[]string{"serve", "--database", "postgres://x"}, "serve needs a folder"},
		{[]string{"host"}, "needs a site file"},
		{[]string{"host", "--site", write(t, "s.yaml", "site: x\ndriver: cloud\n"), "--dir", t.TempDir(),
			"--token-file",
			write(t, "t", "x")}, `there is no driver "cloud"`},
		{[]string{"host", "--site", write(t, "s.yaml", "site: x\ndriver: standin\n"), "--dir", t.TempDir()}, "a host needs a token"},
		{[]string{"up", "--site", write(t, "s.yaml", "site: x\nmodles: []\n"), "--dir", t.TempDir()},
			"did you mean `models`?"},
		{[]string{"up", "--site", write(t, "s.yaml", "site: x\ndriver: cloud\n"), "--dir", t.TempDir()},
			`there is no driver "cloud"`},
		{[]string{"up", "--site", write(t, "s.yaml", "site: x\ndriver: \"null\"\n"), "--site",
			write(t, "again.yaml", "site: x\ndriver: \"null\"\n"),
			"--dir",
			t.TempDir()}, "describes the site x already"},
	} {
		_, errOut, code := yamato(t, c.args...)
		require.Equal(t, 2, code, c.args)
		require.Contains(t, errOut, c.says)
	}
}

func TestAMisspeltCommandIsAWrongCallWithTheNearestWord(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"biuld"}, "`yamato build`"}, {[]string{"build", "psh"}, "`yamato build push`"},
		{[]string{"suite", "chekc"}, "`yamato suite check`"},
		{[]string{"run", "strat", "--build", "3.2.0", "--nonsense"}, "`yamato run start`"}, {[]string{"help", "rnu"},
			"`yamato run`"}, {[]string{"device", "weather"}, "yamato device --help"},
	} {
		out, errOut, code := yamato(t, c.args...)
		require.Equal(t, 2, code, "%v", c.args)
		require.Empty(t, out, "%v", c.args)
		require.Contains(t, errOut, "there is no command", "%v", c.args)
		if !strings.Contains(c.says, "--help") {
			require.Contains(t, errOut, "did you mean "+c.says, "%v", c.args)
		}
	}
}

func TestAnErrorIsADocumentForPrograms(t *testing.T) {
	out, errOut, code := yamato(t, "build", "psh", "--output", "json")
	require.Equal(t, 2, code)
	require.Empty(t, out, "results alone are on standard output")
	var c complaint
	require.NoError(t, json.Unmarshal([]byte(errOut), &c), errOut)
	require.Equal(t, 2, c.Exit)
	require.Equal(t, "there is no command `yamato build psh`", c.Title)
	require.Contains(t, c.Hint, "yamato build push")

	hint := "do <this>"
	var o, e bytes.Buffer
	a := &app{&ui.App{Out: &o, Err: &e, Output: "json"}}
	code = a.tell(&client.ProblemError{Problem: contract.Problem{Type: "yamato:gone", Title: "it is gone", Status: 503,
		Hint: &hint, Findings: &[]contract.Finding{{Line: 3, Column: 1, Message: "unknown word"}}}})
	require.Equal(t, 3, code)
	c = complaint{}
	require.NoError(t, json.Unmarshal(e.Bytes(), &c))
	require.Equal(t, []any{"it is gone", "do <this>", 3, 503, "yamato:gone", 3}, []any{c.Title, c.Hint, c.Exit,
		c.Status,
		c.Type, c.Findings[0].Line})
	require.Contains(t, e.String(), "<this>", "as it was written")
}

func TestScriptsAreLaidOutInPlaceAndOnlyWhereTheyAreWhole(t *testing.T) {
	odd := write(t, "odd.yamato", "suite \"O\"\ncase \"a\"\ntap   #x // why\nend\n")
	good := write(t, "good.yamato", "suite \"G\"\n\ncase \"a\"\n  expect #x\nend\n")
	out, _, code := yamato(t, "suite", "format", "--check", odd, good)
	require.Equal(t, 1, code)
	require.Contains(t, out, odd)
	require.NotContains(t, out, good)
	before, err := os.ReadFile(odd)
	require.NoError(t, err)
	require.Contains(t, string(before), "tap   #x", "a check changes nothing")
	_, _, code = yamato(t, "suite", "format", odd, good)
	require.Zero(t, code)
	after, err := os.ReadFile(odd)
	require.NoError(t, err)
	require.Equal(t, "suite \"O\"\ncase \"a\"\n  tap #x  // why\nend\n", string(after))
	_, _, code = yamato(t, "suite", "format", "--check", odd, good)
	require.Zero(t, code, "once is enough")

	bad := write(t, "bad.yamato", "suite \"B\"\ncase \"a\"\ntpa #x\n")
	_, errOut, code := yamato(t, "suite", "format", bad)
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "left as it is")
	text, err := os.ReadFile(bad)
	require.NoError(t, err)
	require.Equal(t, "suite \"B\"\ncase \"a\"\ntpa #x\n", string(text), "nothing of it is lost")
}

func TestOldScriptsAreMendedWithTheirNames(t *testing.T) {
	old := write(t, "old.suite", "suite \"O\"\ncase \"a\"\n  put 3 in #x\n  expect #x\nend\n")
	out, _, code := yamato(t, "suite", "check", old)
	require.Zero(t, code, out)
	require.Contains(t, out, "written as it was before")
	renamed := strings.TrimSuffix(old, ".suite") + ".yamato"
	require.NoError(t, os.WriteFile(renamed, []byte("mine"), 0o600))
	_, errOut, code := yamato(t, "suite", "format", "--write", old)
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "cannot be renamed")
	require.NoError(t, os.Remove(renamed))
	out, _, code = yamato(t, "suite", "format", "--write", old)
	require.Zero(t, code)
	require.Equal(t, renamed+"\n", out)
	text, err := os.ReadFile(renamed)
	require.NoError(t, err)
	require.Contains(t, string(text), "  set #x to 3\n")
	require.NoFileExists(t, old)
}

func TestAnAppForStandInsIsPackedByCommand(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"app.yaml": "id: example.quaybell\nname: Quay Bell\n",
		"app.js": "os.show(() => ui.text({text: 'hi'}))"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	out, errOut, code := yamato(t, "standin", "pack", dir, "--to", filepath.Join(dir, "out"), "--output", "json")
	require.Zero(t, code, errOut)
	var paths []string
	require.NoError(t, json.Unmarshal([]byte(out), &paths))
	require.Len(t, paths, 4)
	for _, p := range paths {
		out, errOut, code := yamato(t, "build", "inspect", p)
		require.Zero(t, code, errOut)
		require.Contains(t, out, "1.0")
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "app.yaml"), []byte("id: example.quaybell\nnaem: Quay Bell\n"),
		0o600))
	_, errOut, code = yamato(t, "standin", "pack", dir)
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "did you mean `name`?")
	_, errOut, code = yamato(t, "standin", "pack", filepath.Join(dir, "nowhere"))
	require.Equal(t, 2, code)
	require.NotEmpty(t, errOut)
}

// What programs read is described for every command that writes something for them: docs/commands.md names its schema.
func TestEveryCommandsDocumentIsDescribed(t *testing.T) {
	text, err := os.ReadFile("../../docs/commands.md")
	require.NoError(t, err)
	_, table, ok := strings.Cut(string(text), "## JSON")
	require.True(t, ok)
	table, _, _ = strings.Cut(table, "\n## ")
	told := map[string]bool{}
	for _, row := range strings.Split(table, "\n") {
		cells := strings.Split(row, "|")
		if len(cells) < 4 {
			continue
		}
		for _, group := range strings.Split(cells[1], "·") {
			parent := ""
			for _, name := range regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(group, -1) {
				words := strings.Fields(name[1])
				if len(words) > 1 {
					parent = strings.Join(words[:len(words)-1], " ") + " "
					told[name[1]] = true
					continue
				}
				told[name[1]], told[parent+name[1]] = true, true
			}
		}
	}
	// these write nothing for programs: they serve, or write files and texts that have forms of their own
	silent := map[string]bool{"up": true, "serve": true, "host": true, "demo": true, "suite serve": true, "standin phone": true, "standin emulator": true,
		"session join": true, "session log": true, "help": true}
	var walk func(path string, c *cobra.Command)
	walk = func(path string, c *cobra.Command) {
		if c.Hidden || c.Name() == "completion" || silent[path] {
			return
		}
		if len(c.Commands()) == 0 {
			last := path[strings.LastIndex(path, " ")+1:]
			require.True(t, told[path] || told[last], "docs/commands.md, JSON: `%s` is not described", path)
		}
		for _, sub := range c.Commands() {
			walk(strings.TrimSpace(path+" "+sub.Name()), sub)
		}
	}
	walk("", (&app{&ui.App{Out: &bytes.Buffer{}, Err: &bytes.Buffer{}}}).root())

	// and what a matrix comes to has a schema of its own
	schema, err := os.ReadFile("../../docs/matrix.schema.json")
	require.NoError(t, err)
	read, err := jsonschema.UnmarshalJSON(bytes.NewReader(schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("matrix.json", read))
	compiled, err := c.Compile("matrix.json")
	require.NoError(t, err)
	for _, more := range [][]string{nil, {"--cover", "all"}, {"--cover", "triples", "--combinations", "3"}} {
		out, errOut, code := yamato(t, append([]string{"matrix", "../../demo/plans/crossing.matrix.yaml", "--output",
			"json"}, more...)...)
		require.Zero(t, code, errOut)
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
		require.NoError(t, err)
		require.NoError(t, compiled.Validate(v), out)
	}
}
