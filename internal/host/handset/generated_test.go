package handset

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
	"yamato/internal/host/devicetest"
	"yamato/internal/testbin"
)

// way is a way to draw what is in it, or not: how it is written about that, and whether a person sees it.
type way struct {
	before, after string
	seen          bool
}

func styled(style string, seen bool) way { return way{`<div style="` + style + `">`, `</div>`, seen} }

// ways are what generated pages are made of. Each is about one row of a page, 20 dp high.
var ways = []way{
	styled("", true), styled("padding-left:4px", true), styled("opacity:.7", true), styled("clip-path:inset(0 5% 0 0)",
		true), styled("filter:grayscale(1)", true),
	styled("transform:translateX(6px)", true), styled("display:flex", true), styled("overflow:hidden", true),
	styled("display:contents", true), {`<section aria-hidden="true">`, `</section>`, true},
	{`<div role="presentation">`, `</div>`, true}, {`<details open><summary style="display:none"></summary>`,
		`</details>`, true},
	{`<div style="position:relative">`, `<i style="position:absolute;inset:0;background:rgba(0,0,0,.2)"></i></div>`,
		true},
	{`<div style="position:relative">`, `<i style="position:absolute;inset:0;background:#fff;opacity:0"></i></div>`,
		true},
	{`<div style="position:relative">`, `<i style="position:absolute;inset:0;visibility:hidden;background:#fff"></i></div>`, true},
	styled("opacity:0", false), styled("opacity:.04", false), styled("visibility:hidden", false),
	styled("display:none", false), styled("clip-path:inset(50%)", false),
	styled("clip-path:circle(0)", false), styled("position:absolute;left:-9999px", false),
	styled("filter:opacity(0)", false), styled("content-visibility:hidden", false),
	styled("transform:scale(0)", false), styled("max-height:0;overflow:hidden", false),
	styled("position:absolute;width:1px;height:1px;overflow:hidden", false),
	styled("position:absolute;clip:rect(0 0 0 0)", false), {`<details>`, `</details>`, false},
	{`<div hidden>`, `</div>`, false},
	{`<div style="position:relative">`, `<i style="position:absolute;inset:0;background:#fff"></i></div>`, false},
	{`<div style="position:relative">`, `<i style="position:absolute;inset:0;background:#fff;pointer-events:none"></i></div>`, false},
}

// texts are ways for words alone: nothing else of them is drawn.
var texts = []way{{`<p style="margin:0" id="%[1]s">`, `</p>`, true}, {`<span id="%[1]s">`, `</span>`, true},
	{`<p style="margin:0;color:#fff" id="%[1]s">`, `</p>`, false},
	{`<p style="margin:0;color:transparent" id="%[1]s">`, `</p>`, false},
	{`<p style="margin:0;font-size:0" id="%[1]s">`, `</p>`, false},
	{`<p style="margin:0;text-indent:-9999px" id="%[1]s">`, `</p>`, false},
	{`<button style="height:20px;padding:0 4px" id="%[1]s">`, `</button>`, true},
	{`<div role="checkbox" aria-checked="true" id="%[1]s">`, `</div>`, true},
	{`<a href="#" id="%[1]s">`, `</a>`, true}, {`<h2 style="margin:0;font-size:14px" id="%[1]s">`, `</h2>`, true},
	{`<svg width="90" height="18"><text y="14" id="%[1]s">`, `</text></svg>`, true},
	{`<p style="margin:0" aria-label="other" id="%[1]s">`, `</p>`, true}}

const rowsOfPage = 40

// generated gives a page, and what of it is seen, by id: a function of its seed.
func generated(seed uint64) (body string, seen map[string]bool) {
	r := rand.New(rand.NewPCG(seed, 23))
	seen = map[string]bool{}
	var b strings.Builder
	for i := range rowsOfPage {
		id := fmt.Sprintf("w%d", i)
		text := texts[r.IntN(len(texts))]
		truth, before, after := text.seen, fmt.Sprintf(text.before, id), text.after
		for range r.IntN(4) {
			w := ways[r.IntN(len(ways))]
			if r.IntN(2) == 0 { // half of what is about it leaves it as it is
				w = ways[r.IntN(15)]
			}
			truth = truth && w.seen
			before, after = w.before+before, after+w.after
		}
		seen[id] = truth
		fmt.Fprintf(&b, `<div style="height:20px;line-height:18px;overflow:hidden">%sword%d%s</div>`, before, i, after)
	}
	return b.String(), seen
}

func TestWhatIsSeenOfGeneratedPages(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	pages := devicetest.Enough(10)
	bodies, truths := map[string]string{}, map[string]map[string]bool{}
	for i := range pages {
		name := fmt.Sprintf("g%d", i)
		bodies[name], truths[name] = generated(uint64(i))
	}
	d := kaede(t)
	ctx := opened(t, d, pagesOf(t, bodies))
	trials := 0
	for i := range pages {
		trials += holdGenerated(t, ctx, d, fmt.Sprintf("g%d", i), bodies, truths)
	}
	t.Logf("%d trials", trials)
}

func holdGenerated(t *testing.T, ctx context.Context, d *Device, name string, bodies map[string]string,
	truths map[string]map[string]bool) (trials int) {
	t.Helper()
	tree := visited(t, ctx, d, name)
	for id, truth := range truths[name] {
		nodes := screen.Locator{ID: id}.Find(tree)
		shown := len(tree.Shown(nodes)) > 0
		trials++
		if shown != truth {
			at := strings.Index(bodies[name], `id="`+id+`"`)
			t.Errorf("%s #%s: seen by a person %v, by the handset %v:\n%s", name, id, truth, shown,
				bodies[name][max(0, at-400):min(len(bodies[name]), at+200)])
		}
	}
	require.Positive(t, trials)
	return trials
}
