package api

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Every hint of the service that names a command names the call that does the same, for
// those who call over HTTP.
func TestEveryCommandThatAHintNamesHasItsCall(t *testing.T) {
	named := regexp.MustCompile("`yamato [^`]*`")
	seen := 0
	for _, root := range []string{"../service", "../core/matrix", "../core/fleet"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") || filepath.Ext(path) != ".go" {
				return err
			}
			text, err := os.ReadFile(path)
			for _, line := range strings.Split(string(text), "\n") {
				if strings.HasPrefix(strings.TrimSpace(line), "//") {
					continue
				}
				for _, command := range named.FindAllString(line, -1) {
					command = regexp.MustCompile(`" \+ .*? \+ "|%[sd]`).ReplaceAllString(command, "kaede-7-1")
					command = regexp.MustCompile(`%q`).ReplaceAllString(command, `"Kaede 7"`)
					if strings.HasPrefix(command, "`yamato host ") {
						continue // a host is started where its devices are, and by no call
					}
					require.NotContains(t, forPrograms(command), "yamato", "%s: %s", path, command)
					seen++
				}
			}
			return err
		}))
	}
	require.Greater(t, seen, 15)
}

func TestFlagsOfCommandsAreFieldsOfCalls(t *testing.T) {
	require.Equal(t, "say which app is meant with app", forPrograms("say which app is meant with --app"))
	require.Equal(t, "raise repeat_failed", forPrograms("raise --repeat-failed"))
	require.Equal(t, "`DELETE …/devices/kaede-7-1/sideline` once it is mended",
		forPrograms("`yamato device restore kaede-7-1` once it is mended"))
}
