package handset

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/runtime"
	"github.com/stretchr/testify/require"

	"yamato/internal/host/inpage"
	"yamato/internal/testbin"
)

// named gives what a script of its own, among the page's, finds on the screen: role, id and name of each element.
// Whether the roles and names are the browser's or the script's own is the caller's.
func named(t *testing.T, d *Device, script string) (out []string) {
	t.Helper()
	text := fmt.Sprintf("(() => { const was = [globalThis.yamatoLook]; delete globalThis.yamatoLook; %s; yamatoAsks(); const out = yamatoLook(true); delete globalThis.yamatoLook; return out; })()", script)
	value, wrong, err := runtime.Evaluate(text).WithReturnByValue(true).Do(d.tab.On(t.Context()))
	require.NoError(t, err)
	require.Nil(t, wrong)
	var said string
	require.NoError(t, json.Unmarshal(value.Value, &said))
	var in struct {
		Elements [][]any `json:"elements"`
	}
	require.NoError(t, json.Unmarshal([]byte(said), &in))
	for _, e := range in.Elements {
		out = append(out, fmt.Sprintf("%s #%s %q", e[1], e[2], e[3]))
	}
	return out
}

// differences are the elements that either finds and the other does not.
func differences(t *testing.T, d *Device, page string) (of int, out []string) {
	browsers, ours := named(t, d, inpage.Look("x")), named(t, d, inpage.LookNaming("x"))
	have := map[string]int{}
	for _, line := range ours {
		have[line]++
	}
	for _, line := range browsers {
		if have[line]--; have[line] < 0 {
			out = append(out, page+": the browser alone has "+line)
		}
	}
	for line, n := range have {
		if n > 0 {
			out = append(out, fmt.Sprintf("%s: we alone have %s, %d times", page, line, n))
		}
	}
	return max(len(browsers), len(ours)), out
}

// Roles and names that are computed for browsers which do not tell theirs are those that a browser tells.
func TestRolesAndNamesAreTheBrowsersOwn(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	elements, wrong := 0, []string{}
	d := kaede(t)
	ctx := opened(t, d, corpusApp(t))
	for _, p := range corpus {
		visited(t, ctx, d, fileOf(p.name))
		of, lines := differences(t, d, p.name)
		elements += of
		wrong = append(wrong, lines...)
	}
	t.Logf("%d of %d elements differ", len(wrong), elements)
	require.Greater(t, elements, 500)
	require.LessOrEqual(t, len(wrong), elements/50, "%s", strings.Join(wrong, "\n"))
}
