package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What is handed on is Markdown, whatever stands in it: nothing that was seen or written becomes a heading, a link, a
// list or the end of a fence.
func TestAFindingIsHandedOnAsMarkdown(t *testing.T) {
	f := Found{Number: 2, Session: 7, Title: "The sum [is](x) cut # off", State: "open", FoundBy: "Aya Torrent",
		At: time.Date(2026, 3, 1, 8, 30, 0, 0, time.UTC), Note: "# no heading\n- no list\n\nA second paragraph",
		Build: "3.2.0", Device: "kaede-7-1", Surroundings: []string{"is dark", "is held across"}, Marked: true,
		Way: []string{`tap "Tickets"`, "```", `expect #total`}, Log: []string{"error: no fare"}}
	text := Finding(f)
	for _, want := range []string{"Finding 2, open, found by Aya Torrent on 2026-03-01 08:30 UTC.", "- Build: 3.2.0",
		"- Surroundings: is dark; is held across", "- Session: 7", "(marked.png)", "\n````\ntap \"Tickets\"\n```\nexpect #total\n````\n",
		"error: no fare", "A second paragraph"} {
		require.Contains(t, text, want)
	}
	for _, never := range []string{"\n# no heading", "\n- no list", "[is](x)", "- Run:", "- OS:"} {
		require.NotContains(t, text, never)
	}
	f.State, f.Mended, f.Marked, f.Run = "mended", "3.2.1", false, 4
	text = Finding(f)
	require.Contains(t, text, "mended in build 3.2.1")
	require.Contains(t, text, "- Run: 4")
	require.NotContains(t, text, "marked.png")
}
