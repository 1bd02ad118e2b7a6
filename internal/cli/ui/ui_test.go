package ui

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/report"
)

func TestTheConnectionIsKeptForItsUserAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "connection.json")
	t.Setenv("YAMATO_CONNECTION", path)
	_, err := WriteConnection(Connection{"http://127.0.0.1:7420", "secret", "default"})
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	s, err := (&App{}).Connect(context.Background())
	require.NoError(t, err)
	require.Equal(t, "default", s.Project)
}

func TestWhatPackagesAndAppsSayDoesNotSteerTheTerminal(t *testing.T) {
	var out bytes.Buffer
	ours := report.Ink{On: true}.Strong("strong")
	text := ours + "\x1b[31mnot ours\x1b[0m\ttab\n\x1b]0;title\x07 \x1b[2J\r \u009b31m \u202eflipped 漂流木 \xff"
	n, err := Printable{&out}.Write([]byte(text))
	require.NoError(t, err)
	require.Equal(t, len(text), n)
	require.Equal(t, "\x1b[1mstrong\x1b[0m�[31mnot ours�[0m\ttab\n�]0;title� �[2J� �31m �flipped 漂流木 \xff",
		out.String())
}

// written runs something and gives what it wrote, in so many columns.
func written(t *testing.T, columns string, do func(*App)) string {
	t.Helper()
	t.Setenv("COLUMNS", columns)
	var out bytes.Buffer
	do(&App{Out: &out, Err: &out})
	return out.String()
}

func TestATableFoldsItsWidestCellsAndLosesNothing(t *testing.T) {
	head := []string{"DEVICE", "STATE", "N"}
	rows := [][]string{{"kaede-7-1", "idle", "1"},
		{"kaede-7-2", "sidelined: its screen has a crack from corner to corner", "22"}}
	table := func(a *App) { a.Table(head, rows) }
	require.Equal(t, "DEVICE     STATE                                                    N\n"+
		"kaede-7-1  idle                                                     1\n"+
		"kaede-7-2  sidelined: its screen has a crack from corner to corner  22\n", written(t, "80", table))
	narrow := written(t, "40", table)
	for _, line := range strings.Split(narrow, "\n") {
		require.LessOrEqual(t, len(line), 40)
		require.Equal(t, strings.TrimRight(line, " "), line)
	}
	require.Contains(t, strings.Join(strings.Fields(narrow), " "), "sidelined: its screen")
	for _, word := range strings.Fields(rows[1][1]) {
		require.Contains(t, narrow, word)
	}
	require.Equal(t, written(t, "", table), written(t, "500", table), "what goes to a file is not folded")
}

func TestNamesInATableStayWholeWhereThereIsRoomForThem(t *testing.T) {
	narrow := written(t, "34", func(a *App) {
		a.Table([]string{"DEVICE", "FILE", "STATE"}, [][]string{
			{"kaede-7-lite-s1", "a.apk", "unready: nobody has said yes"}, {"aster-12-1", "b.apk", "idle"}})
	})
	require.Contains(t, narrow, "kaede-7-lite-s1", "a name is there to be copied")
	for _, line := range strings.Split(narrow, "\n") {
		require.LessOrEqual(t, len(line), 34)
	}
	tight := written(t, "20", func(a *App) {
		a.Table([]string{"DEVICE", "STATE"}, [][]string{{"kaede-7-lite-s1", "unready"}})
	})
	require.Equal(t, "DEVICE       STATE\nkaede-7-lit  unready\ne-s1\n", tight,
		"where there is none, all is there all the same")
}

func TestSayFoldsAndIndentsWhatFollows(t *testing.T) {
	got := written(t, "30", func(a *App) { a.Say(4, "    %s", "a reason that is longer than the line has room for") })
	for _, line := range strings.Split(strings.TrimSuffix(got, "\n"), "\n") {
		require.True(t, strings.HasPrefix(line, "    "), "%q", line)
		require.LessOrEqual(t, len(line), 30)
	}
}

func TestNumbersAndTimesOfOptionsAreBounded(t *testing.T) {
	require.NoError(t, Within("count", 1, 1, 20))
	require.NoError(t, Within("count", 20, 1, 20))
	require.EqualError(t, Within("count", 0, 1, 20), "--count is 1 to 20, not 0")
	require.EqualError(t, Within("count", -3, 1, 20), "--count is 1 to 20, not -3")
	require.NoError(t, NotNegative("timeout", 0))
	require.ErrorContains(t, NotNegative("timeout", -time.Second), "--timeout cannot be -1s")
	require.ErrorContains(t, Positive("for", 0), "--for has to be longer than nothing")
	require.NoError(t, Positive("for", time.Nanosecond))
	for _, word := range []string{"", "x", "0", "-1", "99999999999999999999"} {
		_, err := RunNumber([]string{word})
		require.ErrorContains(t, err, "is no run's number", word)
	}
	n, err := RunNumber([]string{"12"})
	require.NoError(t, err)
	require.EqualValues(t, 12, n)
}

func TestUploadsThatWereBegunAreRememberedForADay(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", dir)
	m := OpenMemory()
	require.Empty(t, m.Recall("a"))
	m.Remember("a", "/uploads/1")
	m.Remember("b", "/uploads/2")
	require.Equal(t, "/uploads/1", OpenMemory().Recall("a"), "by another process too")
	m.Forget("a")
	require.Empty(t, OpenMemory().Recall("a"))
	require.Equal(t, "/uploads/2", OpenMemory().Recall("b"))

	path := filepath.Join(dir, "yamato", "uploads.json")
	old, err := json.Marshal(map[string]begunUpload{"old": {"/uploads/0", time.Now().Add(-2 * uploadsKept)}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, old, 0o600))
	require.Empty(t, OpenMemory().Recall("old"), "no service has it any more")
	require.NoError(t, os.WriteFile(path, []byte("{ no JSON"), 0o600))
	require.Empty(t, OpenMemory().Recall("b"), "a damaged file costs no more than beginning anew")
	OpenMemory().Remember("c", "/uploads/3")
	require.Equal(t, "/uploads/3", OpenMemory().Recall("c"))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestWordsForNumbersAndTimes(t *testing.T) {
	require.Equal(t, []string{"0 legs", "1 leg", "2 legs"}, []string{Plural(0, "leg"), Plural(1, "leg"),
		Plural(2, "leg")})
	require.Equal(t, "just now", Ago(time.Now()))
	require.Equal(t, "5 min ago", Ago(time.Now().Add(-5*time.Minute-time.Second)))
	require.Equal(t, "3 h ago", Ago(time.Now().Add(-3*time.Hour-time.Second)))
	require.Equal(t, "a b…", Short("a  b\n c d", 4))
	require.Equal(t, "a b", Short("a \t b", 4))
}
