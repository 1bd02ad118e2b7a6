// Package internal_test asserts what docs/architecture.md says of the layers.
package internal_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are where the packages of the house stand, the lowest first: each imports what stands on floors below its
// own, and of its own floor only what lies in its own folder. A package is found by the longest name here that it
// begins with. docs/architecture.md tells what each is for.
var floors = [][]string{
	{"internal/contain", "internal/filelock", "internal/killpoint", "internal/mailbox", "internal/outside", "internal/retry",
		"api", "internal/contract", "internal/browser", "internal/testbin", "web"},

	// The core computes, and does nothing else.
	{"internal/core/near", "internal/core/plain", "internal/core/remedy", "internal/core/states", "internal/core/schedule"},
	{"internal/core/appfile", "internal/core/checklist", "internal/core/crash", "internal/core/document",
		"internal/core/evidence", "internal/core/screen", "internal/core/verdict"},
	{"internal/core/device"},
	{"internal/core/feel", "internal/core/har", "internal/core/readings"},
	{"internal/core/fleet"},
	{"internal/core/matrix", "internal/core/script", "internal/core/plan/when"},
	{"internal/core/plan"},

	// What is spoken and kept: no business in it.
	{"internal/link", "internal/bridge", "internal/webdriver", "internal/blob", "internal/store/pg", "internal/pgbox", "internal/client"},

	// Hosts know no service, and services no host: they meet over the link.
	{"internal/host", "internal/store", "internal/report"},
	{"demo"}, // the sample project, packed for stand-ins
	{"internal/phone"},

	{"internal/service/base"},
	{"internal/service/archive", "internal/service/builds", "internal/service/dispatch", "internal/service/vault"},
	{"internal/service/runs"},
	{"internal/service/care"},
	{"internal/service/checklists", "internal/service/plans"},
	{"internal/service/sessions"},
	{"internal/service"},

	// What people and programs meet.
	{"internal/api/wire", "internal/api/described"},
	{"internal/api/views", "internal/api/watch"},
	{"internal/api"},
	{"internal/cli"},
	{"cmd"},

	// What tries it: nothing that is shipped imports any of these.
	{"internal/pgbox/pgtest", "internal/host/devicetest", "demo/demotest", "internal/blob/bucket/buckettest",
		"internal/core/plan/when/recur/recurtest"},
	{"internal/bench", "internal/e2e", "internal/shots", "internal"},
}

// floorOf gives the floor of a package, and the folder on it that the package lies in.
func floorOf(name string) (floor int, folder string) {
	floor = -1
	for i, list := range floors {
		for _, f := range list {
			if (name == f || strings.HasPrefix(name, f+"/")) && len(f) > len(folder) &&
				(f != "internal" || name == f) {
				floor, folder = i, f
			}
		}
	}
	return floor, folder
}

// foreign are packages that are not of this house and that some of it may not rest on, whoever imports them.
var foreign = map[string][]string{
	"internal/core/":  {"net/http", "database/sql", "os/exec"},
	"internal/link":   {"database/sql"},
	"internal/host":   {"database/sql"},
	"internal/client": {"database/sql"},
	"internal/report": {"database/sql", "net/http"},
}

func TestEveryPackageStandsOnAFloorAndImportsNothingAbove(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "yamato/...").Output()
	require.NoError(t, err)
	seen := 0
	for d := json.NewDecoder(bytes.NewReader(out)); d.More(); {
		var p struct {
			ImportPath    string
			Imports, Deps []string
		}
		require.NoError(t, d.Decode(&p))
		name := strings.TrimPrefix(p.ImportPath, "yamato/")
		floor, folder := floorOf(name)
		if !assert.GreaterOrEqual(t, floor, 0, "%s stands on no floor: give it one in `floors`", name) {
			continue
		}
		for _, imported := range p.Imports {
			ours, ok := strings.CutPrefix(imported, "yamato/")
			if !ok {
				continue
			}
			seen++
			below, its := floorOf(ours)
			assert.True(t, below < floor || below == floor && its == folder, "%s (floor %d) imports %s (floor %d)", name,
				floor, ours, below)
		}
		if strings.HasPrefix(name, "internal/service") {
			assert.NotContains(t, p.Imports, "yamato/internal/contract", "%s: the interface's words are internal/api's", name)
		}
		for prefix, never := range foreign {
			if name != prefix && !strings.HasPrefix(name, strings.TrimSuffix(prefix, "/")+"/") {
				continue
			}
			for _, n := range never {
				assert.False(t, slices.Contains(p.Deps, n), "%s rests on %s", name, n)
			}
		}
	}
	require.Greater(t, seen, 300)
}

func TestTheCoreReadsNoClockAndNoFiles(t *testing.T) {
	err := filepath.WalkDir("core", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, never := range []string{"time.Now(", "time.Sleep(", "time.After(", "time.NewTimer(", "\t\"os\"\n",
			"\t\"math/rand"} {
			require.NotContains(t, string(text), never, path)
		}
		return err
	})
	require.NoError(t, err)
}

func TestSQLStandsInTheStoreAlone(t *testing.T) {
	err := filepath.WalkDir(".", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") || !strings.HasSuffix(path, ".go") ||
			strings.HasPrefix(path, "store/") || strings.HasPrefix(path, "pgbox/") ||
			strings.HasPrefix(path, "bench/") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, never := range []string{"select * from", "insert into", "update lease", "delete from"} {
			require.NotContains(t, string(text), never, path)
		}
		return err
	})
	require.NoError(t, err)
}

func TestGeneratedCodeIsWhatTheContractGives(t *testing.T) {
	for dir, config := range map[string]string{"contract": "models.yaml", "api": "server.yaml",
		"client": "client.yaml"} {
		committed, err := filepath.Glob(filepath.Join(dir, "*.gen.go"))
		require.NoError(t, err)
		require.Len(t, committed, 1)
		want, err := os.ReadFile(committed[0])
		require.NoError(t, err)
		fresh := filepath.Join(t.TempDir(), "fresh.go")
		text, err := os.ReadFile(filepath.Join(dir, config))
		require.NoError(t, err)
		elsewhere := filepath.Join(t.TempDir(), config)
		require.NoError(t, os.WriteFile(elsewhere, []byte(strings.Replace(string(text), filepath.Base(committed[0]),
			fresh,
			1)), 0o600))
		cmd := exec.Command("go", "tool", "oapi-codegen", "-config", elsewhere, "../../api/openapi.yaml")
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		got, err := os.ReadFile(fresh)
		require.NoError(t, err)
		require.Equal(t, string(want), string(got), "run `make generate`")
	}
}

// The service writes no command line into a text, where a program could not be told the call.
func TestTheServiceNamesNoCommandInAText(t *testing.T) {
	written := regexp.MustCompile("\"[^\"]*`yamato ")
	for _, root := range []string{"service", "api", "core/matrix"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") || filepath.Ext(path) != ".go" {
				return err
			}
			text, err := os.ReadFile(path)
			for i, line := range strings.Split(string(text), "\n") {
				if filepath.Base(path) != "tend.go" { // what a leg keeps is read by people
					require.NotRegexp(t, written, line, "%s:%d", path, i+1)
				}
			}
			return err
		}))
	}
}
