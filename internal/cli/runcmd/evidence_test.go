package runcmd

import (
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
	"yamato/internal/report"
)

func TestPathsOfEvidenceStayBelowTheirFolder(t *testing.T) {
	taken := map[string]bool{}
	leg := contract.Leg{Suite: "../../up", Combination: contract.Combination{Model: "Kaede/7", Platform: "android",
		Os: "14"}, Cases: []contract.Crossing{{Index: 0, Name: `a\b:"c"`}}}
	e := contract.Evidence{Attempt: 1, Name: "../../../etc/passwd", Sort: "picture", MediaType: "image/png"}
	first := evidencePath(e, leg, taken)
	require.Equal(t, filepath.Join("Kaede-7-Android-14", "up", "a-b-c", "1-etc-passwd.png"), first)
	second := evidencePath(e, leg, taken)
	require.NotEqual(t, first, second, "two of one name are two files")
	for _, name := range []string{"", "...", "/", "\x00", strings.Repeat("long", 100)} {
		got := report.Plain(name)
		require.NotEmpty(t, got)
		require.True(t, filepath.IsLocal(got), got)
		require.LessOrEqual(t, len(got), 120)
	}
}

func TestNamesOfFilesAreBoundedInBytesAndReadOneWay(t *testing.T) {
	long := report.Plain(strings.Repeat("漂流木", 100))
	require.LessOrEqual(t, len(long), 120)
	require.True(t, utf8.ValidString(long))
	require.Equal(t, "fare-gpj.exe", report.Plain("fare\u202egpj.exe"))
	require.Equal(t, "a-b", report.Plain("a\u2028\u200f\u00a0b"))
	require.Equal(t, "Größe-漂流木", report.Plain("Größe 漂流木"))
}
