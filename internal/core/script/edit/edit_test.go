package edit_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/script"
	"yamato/internal/core/script/edit"
)

var shared = script.FileMap{"steps/about.yamato": "action open the map\n  tap #map\nend\n\naction pay for $ticket at $desk\n  tap \"{ticket}\"\n  tap \"{desk}\"\nend\n"}

// document reads a text in which ‸ marks the place that is asked about.
func document(t *testing.T, marked string) (edit.Document, int, int) {
	t.Helper()
	before, after, found := strings.Cut(marked, "‸")
	require.True(t, found)
	text := before + after
	suite, _ := script.ReadWith(text, shared)
	lines := strings.Split(before, "\n")
	return edit.Document{Suite: suite, Lines: strings.Split(text, "\n"), Seen: []script.Seen{
		{ID: "total", Text: "€3.15", Role: "text", Screen: "#fares"},
		{ID: "pay", Text: "Pay", Role: "button", Screen: "#fares"},
	}}, len(lines), len([]rune(lines[len(lines)-1])) + 1
}

func TestWhatMayStandAtAPlace(t *testing.T) {
	head := "suite \"s\"\nuse \"steps/about.yamato\"\n"
	for name, c := range map[string]struct {
		text  string
		has   []string
		lacks []string
	}{
		"a step":                 {head + "case \"c\"\n  t‸\nend\n", []string{"tap", "tilt"}, []string{"case"}},
		"a case, outside of one": {head + "c‸\n", []string{"case"}, []string{"tap"}},
		"an action": {head + "case \"c\"\n  do ‸\nend\n",
			[]string{"open the map", "pay for $ticket at $desk"}, nil},
		"an id that was seen":  {head + "case \"c\"\n  tap #‸\nend\n", []string{"#total", "#pay"}, nil},
		"a text that was seen": {head + "case \"c\"\n  tap \"P‸\nend\n", []string{"Pay"}, nil},
		"a value of this case": {head + "case \"c\"\n  let fare = 1\n  expect $‸\nend\n", []string{"$fare"},
			[]string{"$other"}},
		"an action's own": {head + "action a $who\n  tap $‸\nend\ncase \"c\"\n  let other = 1\n  do a \"x\"\n  expect #a\nend\n", []string{"$who"}, []string{"$other"}},
		"a value runs may give": {head + "given traveller = \"adult\"\ncase \"c\"\n  expect $‸\nend\n",
			[]string{"$traveller"}, nil},
		"the same within a text": {head + "given traveller = \"adult\"\ncase \"c\"\n  expect \"{‸\nend\n",
			[]string{"traveller}"}, nil},
		"after what is cut off":   {"suite \"s\"\ncase \"c\"\n  tap #‸", []string{"#pay"}, nil},
		"beyond the end of lines": {"suite \"s\"‸", nil, []string{"tap"}},
	} {
		t.Run(name, func(t *testing.T) {
			d, line, column := document(t, c.text)
			var offered []string
			for _, i := range d.Complete(line, column) {
				require.LessOrEqual(t, i.From, column)
				offered = append(offered, i.Text)
			}
			for _, want := range c.has {
				require.True(t, slices.ContainsFunc(offered, func(o string) bool { return strings.HasPrefix(o, want) }),
					"%s is not in %q", want, offered)
			}
			for _, not := range c.lacks {
				require.NotContains(t, offered, not)
			}
			d.Complete(line+10_000, 3) // no such line
			d.Hover(line+10_000, 3)
			d.Definition(-1, -1)
		})
	}
}

// renamed does what Renames says, in the suite's own text and in the files that it uses.
func renamed(t *testing.T, d edit.Document, line, column int, to string) (own string, others script.FileMap) {
	t.Helper()
	changes, err := d.Renames(line, column, to)
	require.NoError(t, err)
	by := map[string][]string{"": slices.Clone(d.Lines)}
	for name, text := range shared {
		by[name] = strings.Split(text, "\n")
	}
	slices.SortFunc(changes, func(a, b edit.Change) int { return b.Column - a.Column }) // from the end on
	for _, c := range changes {
		r := []rune(by[c.File][c.Line-1])
		by[c.File][c.Line-1] = string(r[:c.Column-1]) + c.Text + string(r[c.Column-1+c.Length:])
	}
	others = script.FileMap{}
	for name, lines := range by {
		others[name] = strings.Join(lines, "\n")
	}
	return others[""], others
}

func TestAnActionIsCalledOtherwise(t *testing.T) {
	d, line, column := document(t, "suite \"s\"\nuse \"steps/about.yamato\"\ncase \"c\"\n  let desk = \"d\"\n  let y = \"y\"\n  do open the map\n  do pa‸y for \"two, in öre\" at $desk\n  if #a\n    do pay for \"x\" at $y\n  end\n  expect #a\nend\n")
	own, others := renamed(t, d, line, column, "at $desk settle $ticket")
	require.Contains(t, own, "do at \"two, in öre\" settle $desk")
	require.Contains(t, own, "    do at \"x\" settle $y")
	require.Contains(t, own, "do open the map")
	require.Contains(t, others["steps/about.yamato"], "action at $ticket settle $desk",
		"values keep their order: it is where they stand that changes")
	_, findings := script.ReadWith(own, others)
	require.Zero(t, script.Faults(findings), "%v", findings)

	for to, why := range map[string]string{"pay": "takes 2 values", "$a $b": "begins with a word",
		"pay \"x\" $a $b": "made of words"} {
		_, err := d.Renames(line, column, to)
		require.ErrorContains(t, err, why)
	}
}

func TestAValueIsCalledOtherwiseWhereItIsInSight(t *testing.T) {
	text := "suite \"s\"\ncase \"c\"\n  let fare‸ = 1\n  expect number in #a = $fare + 1\n  tap \"{fare} for {fare}\"\nend\ncase \"d\"\n  let fare = 2\n  expect $fare = 2\nend\n"
	d, line, column := document(t, text)
	own, _ := renamed(t, d, line, column, "$price")
	require.Equal(t, strings.NewReplacer("let fare‸ = 1", "let price = 1", "$fare + 1", "$price + 1",
		"{fare} for {fare}", "{price} for {price}").Replace(text), own,
		"the case beside it has a value of its own")
	_, err := d.Renames(line, column, "two words")
	require.ErrorContains(t, err, "letters, digits and _")
	_, err = d.Renames(1, 1, "x")
	require.ErrorContains(t, err, "nothing here that can be renamed")
}

func TestWhereAnActionStandsAndWhatAWordMeans(t *testing.T) {
	d, line, column := document(t, "suite \"s\"\nuse \"steps/about.yamato\"\ncase \"c\"\n  do open the‸ map\n  expect #a\nend\n")
	at, ok := d.Definition(line, column)
	require.True(t, ok)
	require.Equal(t, "steps/about.yamato", at.File)
	require.Equal(t, 1, at.Line)
	require.Contains(t, d.Hover(5, 4), "expect")
	require.Contains(t, d.Hover(line, column), "open the map")
}

// What runs give is every case's: renamed in one, it is renamed in all, and where it is given.
func TestWhatRunsGiveIsRenamedInEveryCase(t *testing.T) {
	text := "suite \"s\"\ngiven travellers = 3\ncase \"a\"\n  expect number in #a = $travel‸lers\n  expect \"{travellers}\"\nend\ncase \"b\"\n  expect number in #a = $travellers\nend\n"
	d, line, column := document(t, text)
	all, _ := renamed(t, d, line, column, "passengers")
	require.Equal(t, strings.ReplaceAll(strings.ReplaceAll(text, "‸", ""), "travellers", "passengers"), all)
}
