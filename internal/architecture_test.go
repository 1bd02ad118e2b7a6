// Package internal_test asserts what docs/architecture.md says of the layers.
package internal_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// packagesOf gives what each of our packages imports, itself and through others.
func packagesOf(t *testing.T) map[string][]string {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Deps", "yamato/...").Output()
	require.NoError(t, err)
	deps := map[string][]string{}
	for d := json.NewDecoder(bytes.NewReader(out)); d.More(); {
		var p struct {
			ImportPath string
			Deps       []string
		}
		require.NoError(t, d.Decode(&p))
		deps[p.ImportPath] = p.Deps
	}
	return deps
}

func TestImportsPointOneWay(t *testing.T) {
	all := packagesOf(t)
	forbidden := map[string][]string{ // whose dependencies may hold none of these
		"yamato/internal/core/": {"net/http", "database/sql", "os/exec", "yamato/internal/link",
			"yamato/internal/store", "yamato/internal/service", "yamato/internal/host"},
		"yamato/internal/link": {"database/sql", "yamato/internal/store", "yamato/internal/service",
			"yamato/internal/host", "yamato/internal/api"},
		"yamato/internal/store": {"yamato/internal/service", "yamato/internal/api", "yamato/internal/host",
			"yamato/internal/contract"},
		"yamato/internal/blob": {"yamato/internal/store", "yamato/internal/service"},
		"yamato/internal/service": {"yamato/internal/host", "yamato/internal/api", "yamato/internal/cli",
			"yamato/internal/client", "yamato/demo"},
		"yamato/internal/service/base": {"yamato/internal/contract"},
		"yamato/internal/service/dispatch": {"yamato/internal/contract", "yamato/internal/service/builds",
			"yamato/internal/service/runs", "yamato/internal/service/care", "yamato/internal/service/watch"},
		"yamato/internal/service/builds": {"yamato/internal/contract", "yamato/internal/service/runs",
			"yamato/internal/service/care",
			"yamato/internal/service/watch", "yamato/internal/service/dispatch"},
		"yamato/internal/service/runs": {"yamato/internal/contract", "yamato/internal/service/care",
			"yamato/internal/service/watch"},
		"yamato/internal/service/care": {"yamato/internal/contract", "yamato/internal/service/runs",
			"yamato/internal/service/watch"},
		"yamato/internal/service/watch": {"yamato/internal/service/care", "yamato/internal/service/views"},
		"yamato/internal/host": {"database/sql", "yamato/internal/store", "yamato/internal/service",
			"yamato/internal/api", "yamato/demo"},
		"yamato/internal/client": {"database/sql", "yamato/internal/store", "yamato/internal/service",
			"yamato/internal/host"},
		"yamato/internal/contract": {"yamato/internal/core/screen", "yamato/internal/service"},
	}
	seen := 0
	for name, deps := range all {
		for prefix, never := range forbidden {
			if name != prefix && !strings.HasPrefix(name, strings.TrimSuffix(prefix, "/")+"/") {
				continue
			}
			seen++
			for _, d := range deps {
				for _, n := range never {
					require.NotEqual(t, n, d, "%s depends on %s", name, d)
				}
			}
		}
	}
	require.Greater(t, seen, 12)
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
