package e2e

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEveryCommandWritesJSONForPrograms(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	apk := filepath.Join(dir, "tideline-3.2.0.apk")
	suites := filepath.Join(dir, "suites")
	for _, c := range []struct {
		args []string
		code int
		has  []string // fields of the object, or of the first in the list
	}{
		{[]string{"build", "push", apk}, 0, []string{"app", "number", "packages"}},
		{[]string{"build", "ls"}, 0, []string{"items"}},
		{[]string{"build", "show", "3.2.0"}, 0, []string{"version_code"}},
		{[]string{"device", "ls"}, 0, []string{"name", "state", "memory_mb"}},
		{[]string{"suite", "push", suites}, 0, []string{"name", "revision", "cases"}},
		{[]string{"suite", "ls"}, 0, []string{"digest"}},
		{[]string{"run", "start", "--build", "3.2.0", "--suite", "Buying a ticket", "--on", "Kaede 7"}, 0,
			[]string{"number", "seed"}},
		{[]string{"try", filepath.Join(suites, "tickets.suite"), "--build", "3.2.0", "--on", "Kaede 7"}, 1,
			[]string{"run", "legs", "left_out"}},
		{[]string{"run", "ls"}, 0, []string{"items"}},
		{[]string{"run", "show", "2"}, 1, []string{"legs"}},
		{[]string{"run", "start", "--build", "3.2.0", "--suite", "Buying a ticket", "--preview"}, 0,
			[]string{"combinations", "left_out"}},
		{[]string{"run", "ls", "--verdict", "fail", "--limit", "1"}, 0, []string{"items"}},
		{[]string{"device", "ls", "--find", "kaede-7-1"}, 0, []string{"name"}},
		{[]string{"suite", "show", "Buying a ticket"}, 0, []string{"suite", "text", "last"}},
		{[]string{"standin", "ls"}, 0, []string{"name", "does", "to"}},
		{[]string{"suite", "format", suites}, 0, nil},
		{[]string{"run", "fetch", "2", filepath.Join(dir, "evidence")}, 0, nil},
		{[]string{"device", "look", "kaede-7-1", "--build", "3.2.0", "--to", dir}, 0, []string{"picture", "tree"}},
	} {
		out, errOut, code := r.yamato(append(c.args, "--output", "json")...)
		require.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		var got any
		require.NoError(t, json.Unmarshal([]byte(out), &got), "%v: %s", c.args, out)
		if list, ok := got.([]any); ok && c.has != nil {
			require.NotEmpty(t, list, c.args)
			got = list[0]
		}
		for _, field := range c.has {
			require.Contains(t, got, field, "%v", c.args)
		}
	}
	out, _, code := r.yamato("run", "follow", "2", "--output", "json")
	require.Equal(t, 1, code)
	for i, line := range strings.Split(strings.TrimSpace(out), "\n") {
		var e struct {
			Number int64
			Event  struct{ Kind string }
		}
		require.NoError(t, json.Unmarshal([]byte(line), &e), line)
		require.Equal(t, int64(i+1), e.Number, "one event a line, without gaps")
		require.NotEmpty(t, e.Event.Kind)
	}
}
