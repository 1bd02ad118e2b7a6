package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"
)

func TestEveryCommandWritesJSONForPrograms(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	apk := filepath.Join(dir, "tideline-3.2.0.apk")
	suites := filepath.Join(dir, "suites")
	contract, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	plan, list := filepath.Join(dir, "pairs.yaml"), filepath.Join(dir, "quay.md")
	require.NoError(t, os.WriteFile(plan, []byte("plan: Pairs\nbuild: newest\napp: Tideline\nsuites: [Buying a ticket]\nfactors: {language: [en-GB, de-DE]}\ncover: pairs\n"), 0o600))
	require.NoError(t, os.WriteFile(list, []byte("# At the quay\n- [ ] The pier is shown\n"), 0o600))
	for _, c := range []struct {
		args []string
		code int
		has  []string // fields of the object, or of the first in the list
		as   string   // its schema in api/openapi.yaml, or that of what the list holds
	}{
		{[]string{"build", "push", apk}, 0, []string{"app", "number", "packages"}, "Build"},
		{[]string{"build", "ls"}, 0, []string{"items"}, "BuildList"},
		{[]string{"build", "show", "3.2.0"}, 0, []string{"version_code"}, "Build"},
		{[]string{"device", "ls"}, 0, []string{"name", "state", "memory_mb"}, "Device"},
		{[]string{"suite", "push", suites}, 0, []string{"name", "revision", "cases"}, "Suite"},
		{[]string{"suite", "ls"}, 0, []string{"digest"}, "Suite"},
		{[]string{"run", "start", "--build", "3.2.0", "--suite", "Buying a ticket", "--on", "Kaede 7"}, 0,
			[]string{"number", "seed"}, ""},
		{[]string{"try", filepath.Join(suites, "tickets.yamato"), "--build", "3.2.0", "--on", "Kaede 7"}, 1,
			[]string{"run", "legs", "left_out"}, ""},
		{[]string{"run", "ls"}, 0, []string{"items"}, "RunList"},
		{[]string{"run", "show", "2"}, 1, []string{"legs"}, "RunDetail"},
		{[]string{"run", "start", "--build", "3.2.0", "--suite", "Buying a ticket", "--preview"}, 0,
			[]string{"combinations", "left_out"}, ""},
		{[]string{"run", "ls", "--verdict", "fail", "--limit", "1"}, 0, []string{"items"}, ""},
		{[]string{"device", "ls", "--find", "kaede-7-1"}, 0, []string{"name"}, ""},
		{[]string{"suite", "show", "Buying a ticket"}, 0, []string{"suite", "text", "last"}, "SuiteDetail"},
		{[]string{"standin", "ls"}, 0, []string{"name", "does", "to"}, ""},
		{[]string{"run", "summary", "2"}, 0, []string{"run"}, "Summary"},
		{[]string{"run", "retention"}, 0, nil, "EvidenceRetention"},
		{[]string{"crash", "ls"}, 0, []string{"items"}, "CrashList"},
		{[]string{"covered", "--app", "Tideline"}, 0, nil, "CoveredDevices"},
		{[]string{"plan", "save", plan}, 0, []string{"revision"}, "Plan"},
		{[]string{"plan", "ls"}, 0, nil, "Plan"},
		{[]string{"plan", "show", "Pairs"}, 0, nil, "Plan"},
		{[]string{"plan", "show", "Pairs", "--revision", "1"}, 0, nil, "PlanRevision"},
		{[]string{"plan", "try", "Pairs"}, 0, nil, "PlanTrial"},
		{[]string{"plan", "start", "Pairs"}, 0, nil, "Run"},
		{[]string{"plan", "history", "Pairs"}, 0, nil, "PlanStartList"},
		{[]string{"checklist", "save", list}, 0, nil, "Checklist"},
		{[]string{"checklist", "ls"}, 0, []string{"checklists", "runs"}, ""},
		{[]string{"session", "ls"}, 0, nil, "SessionList"},
		{[]string{"finding", "ls"}, 0, nil, "FindingList"},
		{[]string{"host", "token", "ls"}, 0, nil, "HostToken"},
		{[]string{"suite", "format", suites}, 0, nil, ""},
		{[]string{"run", "fetch", "2", filepath.Join(dir, "evidence")}, 0, nil, ""},
		{[]string{"device", "look", "kaede-7-1", "--build", "3.2.0", "--to", dir}, 0, []string{"picture", "tree"}, ""},
	} {
		out, errOut, code := r.yamato(append(c.args, "--output", "json")...)
		require.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		var got any
		require.NoError(t, json.Unmarshal([]byte(out), &got), "%v: %s", c.args, out)
		if list, ok := got.([]any); ok && (c.has != nil || c.as != "") {
			require.NotEmpty(t, list, c.args)
			got = list[0]
		}
		if c.as != "" {
			one := contract.Components.Schemas[c.as]
			require.NotNil(t, one, c.as)
			require.NoError(t, one.Value.VisitJSON(got), "%v: %s", c.args, out)
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
