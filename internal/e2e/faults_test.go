package e2e

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/testbin"
)

// handIn writes a package of a program of its own, and a script, and gives their paths.
func handIn(t *testing.T, name, program, steps string) (apk, suite string) {
	t.Helper()
	data, err := demo.PackAndroid(demo.App{ID: "example." + name, Name: name, Version: demo.Version{Name: "1.0",
		Code: 1}, MinimumAPI: 30, Program: []byte(program), Permissions: []string{"android.permission.ACCESS_FINE_LOCATION"},
		Texts: map[string]map[string]string{"app_name": {"": name}}})
	require.NoError(t, err)
	dir := t.TempDir()
	apk, suite = filepath.Join(dir, name+".apk"), filepath.Join(dir, name+".yamato")
	require.NoError(t, os.WriteFile(apk, data, 0o600))
	require.NoError(t, os.WriteFile(suite, []byte(fmt.Sprintf("suite %q\ncase \"c\"\n%s\nend\n", name, steps)), 0o600))
	return apk, suite
}

func TestAnAppsOddErrorIsItsOwnFailureAndStopsNobody(t *testing.T) {
	r := newRig(t, rigConfig{})
	r.awaitDevice("kaede-7-1", in("idle"))
	apk, suite := handIn(t, "odd", `os.show(() => ui.button({id: 'go', text: 'Go', onTap: () => { throw new Error("bad\u0000thing"); }}))`, "tap #go")
	out, errOut, code := r.yamato("try", suite, "--build", apk, "--on", "Kaede 7")
	require.Equal(t, 1, code, "%s%s", out, errOut)
	require.Contains(t, out, "bad\uFFFDthing")
	apk, suite = handIn(t, "calm", `os.show(() => ui.text({text: 'Calm'}))`, `expect "Calm"`)
	out, errOut, code = r.yamato("try", suite, "--build", apk, "--on", "Kaede 7")
	require.Zero(t, code, "%s%s", out, errOut)
}

func TestAnAppThatShowsNothingFailsAndItsDevicesStay(t *testing.T) {
	r := newRig(t, rigConfig{})
	r.awaitDevice("kaede-7-1", in("idle"))
	apk, suite := handIn(t, "blank", `os.after(1000, () => {});`, `expect "Go"`)
	for range 3 {
		_, _, code := r.yamato("try", suite, "--build", apk, "--on", "Kaede 7")
		require.Equal(t, 4, code, "nothing has ever matched")
	}
	r.awaitDevice("kaede-7-1", in("idle"))
	r.awaitDevice("kaede-7-2", in("idle"))
}

func TestARunWhoseDevicesHaveNoRoomIsAnError(t *testing.T) {
	r := newRig(t, rigConfig{})
	r.awaitDevice("kaede-7-lite-1", in("idle"))
	_, errOut, code := r.yamato("standin", "trouble", "kaede-7-lite-1", "space", "--always")
	require.Zero(t, code, errOut)
	apk, suite := handIn(t, "calm", `os.show(() => ui.text({text: 'Calm'}))`, `expect "Calm"`)
	junit := filepath.Join(t.TempDir(), "results.xml")
	out, errOut, code := r.yamato("try", suite, "--build", apk, "--junit", junit)
	require.Equal(t, 4, code, "%s%s", out, errOut)
	require.Contains(t, out, "there is no room for it")
	text, err := os.ReadFile(junit)
	require.NoError(t, err)
	require.Contains(t, string(text), `errors="1"`)
}

func TestAScriptThatIsAllBracketsIsRefusedAtOnce(t *testing.T) {
	r := newRig(t, rigConfig{})
	path := filepath.Join(t.TempDir(), "deep.yamato")
	require.NoError(t, os.WriteFile(path, []byte("suite \"s\"\ncase \"c\"\nlet a = "+strings.Repeat("(",
		480_000)+"\nend\n"), 0o600))
	for _, do := range []string{"check", "push"} {
		out, errOut, code := r.yamato("suite", do, path)
		require.NotZero(t, code)
		require.Contains(t, out+errOut, "longer than the 4000 characters")
		require.Less(t, len(out+errOut), 4000)
	}
}

// up starts everything in a folder named relative to where it is started, and waits until
// it says that it is up.
func up(t *testing.T, dir string, args ...string) (*exec.Cmd, *bufio.Reader) {
	t.Helper()
	cmd := exec.Command(testbin.Program(t), append([]string{"up", "--dir", "data", "--listen", "127.0.0.1:0"},
		args...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "YAMATO_CONNECTION="+filepath.Join(dir, "connection.json"))
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	return cmd, bufio.NewReader(out)
}

func TestAllStartsInARelativeFolderAloneAndEndsWithItsTerminal(t *testing.T) {
	dir, err := os.MkdirTemp("", "yamato-up-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	first, said := up(t, dir)
	line, err := said.ReadString('\n')
	require.NoError(t, err)
	require.Contains(t, line, "Yamato is up")

	second := exec.Command(testbin.Program(t), "up", "--dir", "data", "--listen", "127.0.0.1:0")
	second.Dir = dir
	text, err := second.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(text), fmt.Sprintf("is in use by process %d", first.Process.Pid))

	server, err := os.ReadFile(filepath.Join(dir, "data", "postgres", "data", "postmaster.pid"))
	require.NoError(t, err)
	var pid int
	_, err = fmt.Sscan(string(server), &pid)
	require.NoError(t, err)
	hangUp := syscall.SIGHUP
	if signal.Ignored(hangUp) { // the tests themselves were started so as to outlive their terminal
		hangUp = syscall.SIGTERM
	}
	require.NoError(t, first.Process.Signal(hangUp))
	require.NoError(t, first.Wait())
	require.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "no database is left running")
}

func TestAnEmptyAddressIsNotEveryAddress(t *testing.T) {
	for _, command := range [][]string{{"up"}, {"demo"}, {"serve", "--database", "postgres://nowhere"}} {
		cmd := exec.Command(testbin.Program(t), append(command, "--dir", t.TempDir(), "--listen", "")...)
		text, err := cmd.CombinedOutput()
		require.Error(t, err)
		require.Equal(t, 2, cmd.ProcessState.ExitCode())
		require.Contains(t, string(text), "--listen needs an address")
	}
}

func TestADemoThatIsInterruptedDoesNotCountAsShown(t *testing.T) {
	dir, err := os.MkdirTemp("", "yamato-demo-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	cmd := exec.Command(testbin.Program(t), "demo", "--once", "--dir", dir, "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "YAMATO_CONNECTION="+filepath.Join(dir, "connection.json"))
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	_, err = bufio.NewReader(out).ReadString('\n') // the service is at …
	require.NoError(t, err)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.Error(t, cmd.Wait())
	require.Equal(t, 5, cmd.ProcessState.ExitCode())
}
