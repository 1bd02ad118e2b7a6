package main

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
)

// paper is a device that costs nothing: one screen, which every action changes, and a clock of its own.
type paper struct {
	tree screen.Tree
	now  time.Duration
}

func (p *paper) Tree(context.Context) (*screen.Tree, error) {
	t := p.tree
	return &t, nil
}

func (p *paper) AwaitChange(_ context.Context, _ uint64, until time.Duration) error {
	p.now = max(p.now, until)
	return nil
}
func (p *paper) Now() time.Duration                                { return p.now }
func (p *paper) Picture(context.Context) (device.Picture, error)   { return nil, fmt.Errorf("none") }
func (p *paper) Tap(context.Context, screen.Point) error           { p.tree.Revision++; return nil }
func (p *paper) Keys(context.Context, string) error                { p.tree.Revision++; return nil }
func (p *paper) Start(context.Context, string, device.Start) error { p.tree.Revision++; return nil }
func (p *paper) Stop(context.Context, string) error                { return nil }
func (p *paper) Abilities() []string                               { return nil }

// listOf is a screen with n elements: a list of rows of which each has a label, a button and a figure.
func listOf(n int) screen.Tree {
	whole := screen.Rect{W: 400, H: float64(n) * 10}
	root := &screen.Node{Role: "application", Bounds: whole, Visible: whole}
	list := &screen.Node{Role: "list", ID: "rows", Bounds: whole, Visible: whole}
	root.Children = []*screen.Node{list}
	for i := 0; 2+4*i+4 <= n; i++ {
		at := func(x, w float64) screen.Rect { return screen.Rect{X: x, Y: float64(i) * 30, W: w, H: 30} }
		one := func(role, id, text string, r screen.Rect) *screen.Node {
			return &screen.Node{Role: role, ID: id, Text: text, Bounds: r, Visible: r, Touch: role == "button"}
		}
		row := one("listitem", "", "", at(0, 400))
		row.Children = []*screen.Node{one("text", fmt.Sprintf("island-%d", i), fmt.Sprintf("Island %d", i), at(0, 200)),
			one("button", fmt.Sprintf("book-%d", i), "Book", at(200, 100)), one("text", "", fmt.Sprintf("€%d.50", i),
				at(300, 100))}
		list.Children = append(list.Children, row)
	}
	return screen.Tree{Root: root, Width: 400, Height: whole.H, Revision: 1, Language: "en-GB"}
}

// scriptOf has about n lines, of many forms.
func scriptOf(n int) string {
	var b strings.Builder
	b.WriteString("suite \"Many\"\n\naction book $island\n  tap button near \"{island}\"\n  give back number in #total\nend\n")
	for k := range (n - 7) / 11 {
		fmt.Fprintf(&b, "\ncase \"number %d\" tags t%d\n  let fare = number in #single-fare\n  tap #book-%d\n  set textbox called \"From\" to \"Sora %d\"\n"+
			"  if \"Offer\"\n    tap 1st button in #offers within 2s\n  end\n  let total = do book \"Minami\"\n  expect $total = $fare * 3 + %d.25\nend\n", k, k%9, k, k, k)
	}
	return b.String()
}

func medianOf(n int, one func()) float64 {
	var all []float64
	for range n {
		began := time.Now()
		one()
		all = append(all, time.Since(began).Seconds())
	}
	slices.Sort(all)
	return all[len(all)/2]
}

// scriptFigures measures what the language costs.
func scriptFigures(ctx context.Context, page *strings.Builder) error {
	text := scriptOf(10_000)
	lines := strings.Count(text, "\n")
	if _, findings := script.Read(text); script.Faults(findings) > 0 {
		return fmt.Errorf("the sample script has faults: %+v", findings[0])
	}
	checked := medianOf(15, func() { script.Read(text) })
	fields := medianOf(15, func() {
		for _, l := range strings.Split(text, "\n") {
			strings.Fields(l)
		}
	})

	const steps = 1000
	var many strings.Builder
	many.WriteString("suite \"s\"\ncase \"c\"\n")
	for i := range steps / 2 {
		fmt.Fprintf(&many, "  tap #book-%d\n  expect number in #island-%d = %d\n", i%12, i%12, i%12)
	}
	many.WriteString("end\n")
	s, findings := script.Read(many.String())
	if script.Faults(findings) > 0 {
		return fmt.Errorf("the sample script has faults: %+v", findings[0])
	}
	var odd error
	ran := medianOf(9, func() {
		got := script.RunCase(ctx, s, s.Cases[0], &paper{tree: listOf(52)}, script.Options{App: "example.paper"},
			nothing{})
		if got.Verdict != verdict.Pass {
			odd = fmt.Errorf("the sample case does not pass: %+v", got.Failure)
		}
	})
	if odd != nil {
		return odd
	}

	fmt.Fprintf(page, `## L: scripts

| | |
|---|---|
| a script of %d lines is read and checked in | **%.1f ms** (aim: under 100): %.0f lines a second |
| beside cutting the same text into words, and nothing else | %.1f times as long |
| what the runner itself costs a step, on a device that costs nothing (52 elements) | **%.1f µs** (aim: under 50) |

Finding elements on a screen of 5,000, each form (aim: under 1 ms):

| locator | median | beside one walk over the tree |
|---|---|---|
`, lines, checked*1000, float64(lines)/checked, checked/fields, ran/steps*1e6)
	tree := listOf(5000)
	walked := medianOf(50, func() { tree.Walk(func(*screen.Node, int) bool { return true }) })
	match := func(text string) screen.Match { return screen.Match{Text: text} }
	path := func(source string) *screen.XPath {
		x, err := screen.NewXPath(source)
		if err != nil {
			odd = err
		}
		return x
	}
	for _, l := range []screen.Locator{
		{ID: "book-1200"}, {Label: match("Island 1200")}, {Role: "button", Called: match("Book")},
		{Role: "text", Called: screen.Match{Pattern: regexp.MustCompile(`^Island 12\d\d$`)}},
		{Role: "button", Ordinal: 600}, {Role: "listitem", Ordinal: screen.Last},
		{Role: "button", Relation: screen.In, Of: &screen.Locator{Role: "listitem", Ordinal: 900}},
		{Role: "button", Relation: screen.Near, Of: &screen.Locator{Label: match("Island 1200")}},
		{Role: "button", Relation: screen.RightOf, Of: &screen.Locator{ID: "island-1200"}},
		{Role: "text", Relation: screen.Above, Of: &screen.Locator{ID: "island-1200"}, Ordinal: screen.Last},
		{XPath: path(`//*[@id="book-1200"]`)}, {XPath: path(`//listitem[text[@text="Island 1200"]]/button`)},
	} {
		if odd != nil {
			return odd
		}
		if len(l.Find(&tree)) == 0 {
			return fmt.Errorf("%s finds nothing", l)
		}
		took := medianOf(30, func() { l.Find(&tree) })
		fmt.Fprintf(page, "| `%s` | %.3f ms | %.1f |\n", l, took*1000, took/walked)
	}
	page.WriteString("\n")
	return nil
}
