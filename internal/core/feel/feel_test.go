package feel_test

import (
	"cmp"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/feel"
)

// Every row of the table is whole: what it needs is an ability, what it offers are levels, and the
// level that it calls usual is one.
func TestTheTableIsWhole(t *testing.T) {
	abilities := map[string]bool{}
	for _, a := range device.Abilities {
		abilities[a.Name] = true
	}
	seen := map[string]bool{}
	for _, s := range feel.All {
		require.False(t, seen[s.Name], "%s stands there twice", s.Name)
		seen[s.Name] = true
		require.True(t, abilities[s.Ability], "%s needs %q, which is no ability", s.Name, s.Ability)
		levels := []string{s.Usual}
		for _, c := range s.Choices {
			levels = append(levels, c.Level)
		}
		if s.Open {
			levels = append(levels, s.Example)
		}
		for _, l := range levels {
			if l == "" && (s.Open || !s.Passing) {
				continue
			}
			canonical, err := s.Read(l)
			require.NoError(t, err, "%s %q", s.Name, l)
			again, err := s.Read(canonical)
			require.NoError(t, err)
			require.Equal(t, canonical, again, "%s: a canonical level stays as it is", s.Name)
			require.NotEmpty(t, s.Told(l))
		}
		if i := slices.IndexFunc(s.Choices, func(c feel.Choice) bool { return c.Level == s.Usual }); len(s.Choices) > 1 && s.Usual != "" {
			require.Zero(t, i, "%s: the usual level is the first to choose", s.Name)
		}
	}
}

func TestLevelsAreReadInTheirCanonicalForm(t *testing.T) {
	for _, c := range []struct{ name, level, canonical string }{
		{"text size", "130 %", "130%"}, {"text size", "0130%", "130%"}, {"battery", "15%charging", "15% charging"},
		{"place", "35.10,139.2", "35.1, 139.2"}, {"place", "35.1, 139.2 within 5 m", "35.1, 139.2"},
		{"place", "35.1, 139.2 within 40m", "35.1, 139.2 within 40 m"}, {"place", "nowhere", "nowhere"},
		{"network", "50000 B/s down, 200 ms delay", "200 ms delay, 50000 B/s down"},
		{"network", "400 ms delay, 20000 B/s up, 50000 B/s down", "slow"}, {"network", "0 ms delay", "normal"},
		{"tilt", "20,0,0", "20, 0, 0"}, {"language", "de-DE", "de-DE"}, {"permission camera", "deny", "deny"},
	} {
		got, err := feel.Named(c.name).Read(c.level)
		require.NoError(t, err, "%s %s", c.name, c.level)
		require.Equal(t, c.canonical, got)
	}
	for name, wrong := range map[string][]string{
		"text size": {"", "130", "49%", "301%", "-100%", "1e2%", "99999999999999999999%"},
		"battery":   {"", "101%", "x% charging", "charging"},
		"place": {"", "91, 0", "0, 181", "1", "1, 2, 3", "NaN, 0", "1e400, 0", "35.1, 139.2 within -1 m",
			"35.1, 139.2 within x m"},
		"network": {"", "fast", "200 ms", "-1 ms delay", "1 ms delay, 2 ms delay", "101 % lost", "1e300 B/s down",
			"NaN % lost"},
		"tilt": {"", "1, 2", "1, 2, 3, 4", "0, 90, 0", "Inf, 0, 0"}, "language": {"", "x-y-z-1234567890",
			"und", "german"},
		"time zone": {"", "../etc/passwd", "Europe Lisbon"}, "rotation": {"", "Portrait"}, "shake": {"hard"},
	} {
		for _, l := range wrong {
			_, err := feel.Named(name).Read(l)
			require.Error(t, err, "%s %q", name, l)
		}
	}
}

func TestTheFormsTellHowTheyAreWritten(t *testing.T) {
	words, usage := feel.Usages()
	require.Equal(t, []string{"language", "rotate", "appearance", "text", "time", "network", "place", "battery", "tilt",
		"shake",
		"deliver", "allow", "deny"}, words)
	require.Equal(t, map[string]string{"language": `language "de-DE"`, "rotate": "rotate to landscape|portrait",
		"appearance": "appearance light|dark", "text": "text size 130%", "time": `time zone "Europe/Lisbon"`,
		"network": `network none|slow|normal · network "200 ms delay, 50000 B/s down, 20000 B/s up, 1 % lost"`,
		"place":   "place device at 35.1, 139.2 · place device nowhere",
		"battery": "battery 15% [charging]", "tilt": "tilt device 20, 0, 0", "shake": "shake device",
		"deliver": `deliver push "title", "body"`, "allow": "allow camera|location|microphone|motion|notifications",
		"deny": "deny camera|location|microphone|motion|notifications"}, usage)
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"130%", "15% charging", "35.1, 139.2 within 5 m", "200 ms delay, 1 % lost", "20, 0, 0",
		"de-DE"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, level string) {
		for _, s := range feel.All {
			canonical, err := s.Read(level)
			if err != nil {
				continue
			}
			again, err := s.Read(canonical)
			require.NoError(t, err, "%s %q", s.Name, canonical)
			require.Equal(t, canonical, again, "%s", s.Name)
			s.Told(canonical)
			s.Words(canonical)
		}
	})
}

var update = flag.Bool("update", false, "write the table of docs/surroundings.md anew")

// The table in docs/surroundings.md is made of this one.
func TestTheDocumentsTableIsThisOne(t *testing.T) {
	const begin, end = "<!-- table -->\n", "<!-- end -->\n"
	code := func(s string) string { return "`" + strings.ReplaceAll(s, "|", "` `") + "`" }
	var b strings.Builder
	b.WriteString("| name | levels | usual | ability | in a script | plans |\n|---|---|---|---|---|---|\n")
	for _, s := range feel.All {
		if s.Name == feel.Files {
			continue // its levels are the host's own; scripts and sessions name the files
		}
		levels := s.About
		if s.Open {
			levels += ", as in " + code(s.Example)
		} else {
			var choices []string
			for _, c := range s.Choices {
				if c.Level != "" {
					choices = append(choices, code(c.Level))
				}
			}
			levels = cmp.Or(strings.Join(choices, ", "), levels)
		}
		usual, varied, usages := "", "", []string{}
		if s.Usual != "" {
			usual = code(s.Usual)
		}
		if s.Varied {
			varied = "a factor"
		}
		for _, u := range s.Usage() {
			usages = append(usages, code(strings.ReplaceAll(u, " · ", "` · `")))
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | `%s` | %s | %s |\n", s.Name, levels, usual, s.Ability,
			strings.Join(usages, ", "), varied)
	}
	path := filepath.Join("..", "..", "..", "docs", "surroundings.md")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(text), begin)
	require.True(t, ok)
	table, tail, ok := strings.Cut(rest, end)
	require.True(t, ok)
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(head+begin+b.String()+end+tail), 0o644))
		return
	}
	require.Equal(t, b.String(), table, "go test ./internal/core/feel -update writes it anew")
}
