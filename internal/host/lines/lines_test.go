package lines

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestALogIsBoundedInBytesAndSaysWhatItDropped(t *testing.T) {
	var l Log
	l.Write(time.Second, "example.app", "warn", "console", "one\ntwo \x00 \xff")
	lines := l.Take(0)
	require.Len(t, lines, 2)
	require.Equal(t, []any{int64(1000), "warn", "console", "example.app", "one"},
		[]any{lines[0].AtMS, lines[0].Level, lines[0].Tag, lines[0].App, lines[0].Text})
	require.NotContains(t, lines[1].Text, "\x00")
	require.Empty(t, l.Take(0), "a line is given once")
	for range 1100 {
		l.Write(0, "", "info", "console", strings.Repeat("x", 9_000))
	}
	lines = l.Take(0)
	size := 0
	for _, one := range lines {
		size += len(one.Text)
	}
	require.LessOrEqual(t, size, maxBytes)
	require.Contains(t, lines[len(lines)-1].Text, "more lines were dropped")
	for range maxLines + 10 {
		l.Write(0, "", "info", "console", "")
	}
	require.LessOrEqual(t, len(l.Take(0)), maxLines+1)
}
