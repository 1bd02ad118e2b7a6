// Package pages tries what README and docs tell people to type.
package pages

import (
	"bytes"
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"yamato/internal/cli"
	"yamato/internal/testbin"
)

// pages are the README and docs/, what builds on a fresh demo first.
func pages(t *testing.T) []string {
	t.Helper()
	docs, err := filepath.Glob("../../../docs/*.md")
	require.NoError(t, err)
	require.Greater(t, len(docs), 8)
	out := []string{"../../../docs/demo.md", "../../../README.md"}
	for _, page := range docs {
		if page != out[0] {
			out = append(out, page)
		}
	}
	return out
}

// commandLine is a line of a page that is to be typed as it stands.
var commandLine = regexp.MustCompile(`(?m)^    ((?:(?:[a-z-]+ \| )?yamato|curl) [-a-z].*)$`)

// endless are those that serve until they are stopped: the tests start them themselves.
var endless = regexp.MustCompile(`^yamato ((up|serve|host|demo|console) |suite serve$|standin phone)`)

// outcomes are the exit codes of lines that do not end in 0, and what they are to say.
var outcomes = map[string]struct {
	code int
	says string
}{
	`yamato run start --build 3.2.0 --suite "Buying a ticket" --on "Kaede 7" --wait --junit results.xml`: {1,
		"three passengers pay three single fares"},
	`yamato try /var/lib/yamato/demo/suites/tickets.yamato --build 3.2.0 --on "Kaede 7"`: {1,
		"three passengers pay three single fares"},
	`yamato build ls --label branch=main --find "fare"`: {0, "3.2.0"},
	`yamato device show kaede-7-2 --boot-log`:           {0, "boot"},
	`yamato run show 2`:                                 {1, "three passengers pay three single fares"},
	`yamato device check kaede-mini-r1`:                 {4, "allow"},
	`yamato device boot kaede-7-2`:                      {4, "black"},
	// reserved for examples (RFC 2606): nobody is there
	`yamato build push https://builds.example/tideline-3.2.0.apk`: {2, "builds.example"},
	`yamato build push https://board.sorane.example/`:             {2, "board.sorane.example"},
}

// A page that tells people what to type is tried as they would: on the demo, in a folder
// with what the lines name.
func TestEveryCommandOfThePagesRunsAsWritten(t *testing.T) {
	t.Parallel()
	home, here := t.TempDir(), t.TempDir()
	// not below a folder that only root may enter: the database's user is another
	data, err := os.MkdirTemp("", "yamato-pages-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(data) })
	require.NoError(t, os.Chmod(data, 0o755))
	bin := filepath.Join(home, "bin")
	require.NoError(t, os.MkdirAll(bin, 0o755))
	program, err := filepath.Abs(testbin.Program(t))
	require.NoError(t, err)
	require.NoError(t, os.Symlink(program, filepath.Join(bin, "yamato")))
	env := append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+filepath.Join(home, ".config"),
		"PATH="+bin+":"+os.Getenv("PATH"), "BROWSER=true", "NO_COLOR=1")

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	demo := exec.Command(program, "demo", "--dir", data, "--listen", address, "--without", "desk,cable")
	demo.Env = env
	demo.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := os.Create(filepath.Join(home, "shown"))
	require.NoError(t, err)
	demo.Stdout, demo.Stderr = out, out
	require.NoError(t, demo.Start())
	ended := make(chan error, 1)
	go func() { ended <- demo.Wait() }()
	t.Cleanup(func() {
		_ = demo.Process.Signal(os.Interrupt)
		select {
		case <-ended:
		case <-time.After(30 * time.Second):
			_ = syscall.Kill(-demo.Process.Pid, syscall.SIGKILL)
		}
		_ = out.Close()
	})
	require.Eventually(t, func() bool {
		text, err := os.ReadFile(out.Name())
		return err == nil && bytes.Contains(text, []byte("Serving until Ctrl-C."))
	}, 12*time.Minute, 50*time.Millisecond, "the demo does not come up")

	furnish(t, here, data, bin)
	// what starts at an hour of the night is not to start while the lines are gone through
	pause := exec.Command(program, "plan", "pause", "Tideline every night")
	pause.Env = env
	require.NoError(t, pause.Run())
	ran := 0
	for _, page := range pages(t) {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range commandLine.FindAllStringSubmatch(string(text), -1) {
			line, _, _ := strings.Cut(m[1], "  #")
			line, _, _ = strings.Cut(line, " # ")
			line = strings.TrimSpace(line)
			if endless.MatchString(line) {
				continue
			}
			ran++
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
			line = strings.ReplaceAll(line, "127.0.0.1:7420", address)
			typed := strings.NewReplacer("/var/lib/yamato/demo", data, "127.0.0.1:7420", address).Replace(m[1])
			if strings.HasPrefix(line, "curl ") {
				if _, err := exec.LookPath("curl"); err != nil {
					t.Log("curl is not here: ", line)
					cancel()
					continue
				}
				typed = "TOKEN=$(cat '" + filepath.Join(data, "service", "user-token") + "') && " +
					strings.Replace(typed, "curl ", "curl --fail-with-body ", 1)
			}
			c := exec.CommandContext(ctx, "sh", "-c", typed)
			c.Dir, c.Env = here, env
			began := time.Now()
			said, _ := c.CombinedOutput()
			cancel()
			t.Logf("%5.1f s  %s", time.Since(began).Seconds(), line)
			want := outcomes[line]
			require.Equal(t, want.code, c.ProcessState.ExitCode(), "%s: %s\n%s", page, line, said)
			require.NotEmpty(t, strings.TrimSpace(string(said)), "%s: %s says nothing", page, line)
			require.Contains(t, string(said), want.says, "%s: %s", page, line)
		}
	}
	require.Greater(t, ran, 45, "the lines are found in the pages")
}

// furnish puts what the lines of the pages name into a folder.
func furnish(t *testing.T, here, data, bin string) {
	t.Helper()
	link := func(from, to string) {
		t.Helper()
		from, err := filepath.Abs(from)
		require.NoError(t, err)
		require.FileExists(t, from)
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(here, to)), 0o755))
		require.NoError(t, os.Symlink(from, filepath.Join(here, to)))
	}
	packages, err := filepath.Glob(filepath.Join(data, "packages", "*"))
	require.NoError(t, err)
	for _, p := range packages {
		link(p, filepath.Base(p))
	}
	require.NoError(t, os.CopyFS(filepath.Join(here, "suites"), os.DirFS(filepath.Join(data, "suites"))))
	require.NoError(t, os.CopyFS(filepath.Join(here, "steps"), os.DirFS(filepath.Join(data, "suites", "steps"))))
	link(filepath.Join(data, "packages", "tideline-3.1.4.apk"), "app.apk")
	link(filepath.Join(data, "suites", "tickets.yamato"), "tickets.yamato")
	page, err := os.ReadFile("../../../docs/first-suite.md")
	require.NoError(t, err)
	_, suite, _ := strings.Cut(string(page), "```\n")
	suite, _, _ = strings.Cut(suite, "```")
	require.NoError(t, os.WriteFile(filepath.Join(here, "first.yamato"), []byte(suite), 0o600))
	link("../../../demo/lineups/crossing.yaml", "crossing.yaml")
	for _, f := range []string{"every-night.yaml", "crossing.matrix.yaml"} {
		link("../../../demo/plans/"+f, f)
	}
	for _, f := range []string{"app.yaml", "app.js", "texts.yaml", "bell.yamato"} {
		link(filepath.Join("../../../demo/bell", f), filepath.Join("demo/bell", f))
	}
	make := "#!/bin/sh\nexec cat '" + filepath.Join(data, "packages", "tideline-3.2.1.apk") + "'\n"
	require.NoError(t, os.WriteFile(filepath.Join(bin, "make-package"), []byte(make), 0o755))
}

// pattern is a command in running text or in a table, with words in capitals for what is
// to be filled in.
var pattern = regexp.MustCompile("`(yamato [a-z][^`]*)`")

// What tables and texts name is there: each command, and each of its options.
func TestEveryCommandThatThePagesNameIsThere(t *testing.T) {
	seen := 0
	for _, page := range pages(t) {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range pattern.FindAllStringSubmatch(string(text), -1) {
			fields := strings.Fields(strings.NewReplacer("[", " ", "]", " ").Replace(m[1]))
			words, options := []string{}, []string{}
			for i, f := range fields[1:] {
				switch {
				case strings.HasPrefix(f, "--"):
					name, _, _ := strings.Cut(strings.TrimPrefix(f, "--"), "=")
					options = append(options, name)
				case len(words) == i && regexp.MustCompile(`^[a-z]+$`).MatchString(f):
					words = append(words, f)
				}
			}
			at, rest, err := cli.Commands().Find(words)
			require.NoError(t, err, "%s names `%s`", page, m[1])
			if at.HasSubCommands() {
				require.Empty(t, rest, "%s names `%s`", page, m[1])
			}
			for _, o := range options {
				require.True(t, o == "help" || at.Flags().Lookup(o) != nil || persistent(at, o),
					"%s names `%s`, and %s has no --%s", page, m[1], at.CommandPath(), o)
			}
			seen++
		}
	}
	require.Greater(t, seen, 40)
}

func persistent(c *cobra.Command, name string) bool {
	return c.InheritedFlags().Lookup(name) != nil
}
