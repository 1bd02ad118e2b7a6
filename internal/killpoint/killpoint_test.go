package killpoint

import (
	"os"
	"os/exec"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// The test program can be a process that passes two points again and again.
func TestMain(m *testing.M) {
	if os.Getenv("YAMATO_TEST_PASSING") == "" {
		os.Exit(m.Run())
	}
	for n := range 10 {
		Pass("other")
		_, _ = os.Stdout.Write([]byte{byte('0' + n)})
		Pass("here")
	}
}

func passing(t *testing.T, at string) (string, *exec.ExitError) {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "YAMATO_TEST_PASSING=1", Variable+"="+at)
	out, err := cmd.Output()
	if err == nil {
		return string(out), nil
	}
	var died *exec.ExitError
	require.ErrorAs(t, err, &died)
	return string(out), died
}

func TestAProcessDiesWhereAndWhenItIsToldTo(t *testing.T) {
	for at, wrote := range map[string]string{"here:1": "0", "here:3": "012", "other:3": "01"} {
		out, died := passing(t, at)
		require.NotNil(t, died, at)
		require.Equal(t, syscall.SIGKILL, died.Sys().(syscall.WaitStatus).Signal())
		require.Equal(t, wrote, out, at)
	}
}

func TestNobodyDiesUntold(t *testing.T) {
	for _, at := range []string{"", "here", "here:x", "here:99", "nowhere:1"} {
		out, died := passing(t, at)
		require.Nil(t, died, at)
		require.Equal(t, "0123456789", out, at)
	}
}
