package script

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/verdict"
)

func reads(t *testing.T, text string, files Files) *Suite {
	t.Helper()
	s, findings := ReadWith(text, files)
	require.Zero(t, Faults(findings), "%+v", findings)
	return s
}

const around = `suite "s"
patience 1s
before all
  let shared = 3
  note "first"
end
before each
  note "each {shared}"
end
after each
  note "after"
end
after all
  note "last"
end
case "good"
  let own = 1
  expect #total
end
case "bad"
  expect #nothing
end
case "good again"
  expect $shared = 3
end
`

// played gives the notes of all cases, a line each, with their verdicts.
func played(t *testing.T, text string, d device.Device) (lines []string, results []Result) {
	t.Helper()
	s := reads(t, text, nil)
	p := NewPlay(s, d, sampleOptions())
	for i, c := range s.Cases {
		r := p.Case(context.Background(), c, i == len(s.Cases)-1, nobody{})
		var notes []string
		for _, st := range r.Steps {
			if strings.HasPrefix(st.Text, "note") {
				notes = append(notes, fmt.Sprintf("%s:%s", st.Phase, st.Note))
			}
		}
		lines = append(lines, fmt.Sprintf("%s %s %s", c.Name, r.Verdict, strings.Join(notes, ", ")))
		results = append(results, r)
	}
	return lines, results
}

func TestWhatComesAroundCasesComesOnceOrWithEach(t *testing.T) {
	lines, _ := played(t, around, sample())
	require.Equal(t, []string{
		"good pass before all:first, before each:each 3, after each:after",
		"bad fail before each:each 3, after each:after",
		"good again pass before each:each 3, after each:after, after all:last",
	}, lines)
}

func TestWhereWhatComesBeforeAllFailsNoCaseRuns(t *testing.T) {
	lines, results := played(t, strings.Replace(around, `note "first"`, "expect #nothing", 1), sample())
	require.Equal(t, []string{"good fail ", "bad fail ", "good again fail after all:last"}, lines)
	for _, r := range results {
		require.Equal(t, BeforeAll, r.Failure.Phase)
		require.Contains(t, r.Failure.Sentence(), "before all, line 5")
	}
}

func TestWhatFailsAfterwardsIsTheCasesOnlyWhereItHadNoFailure(t *testing.T) {
	lines, results := played(t, strings.Replace(around, `note "after"`, "expect #nothing", 1), sample())
	require.Equal(t, "good fail before all:first, before each:each 3", lines[0])
	require.Equal(t, AfterEach, results[0].Failure.Phase)
	require.Equal(t, Phase(""), results[1].Failure.Phase, "its own failure stands")
	require.Len(t, results[1].Failure.After, 1)
	require.Contains(t, results[1].Failure.After[0], "after each, line 11")
}

func TestWhatADeviceIsMadeToFeelIsUndoneAfterTheCase(t *testing.T) {
	d := sample()
	s := reads(t, "suite \"s\"\ncase \"c\"\nnetwork none\nrotate to landscape\nnetwork slow\ndeny location\nexpect #total\nend\n", nil)
	r := RunCase(context.Background(), s, s.Cases[0], d, sampleOptions(), nobody{})
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	require.Equal(t, []string{"ask location", "rotate portrait", "network none=false delay=0s"}, d.did[len(d.did)-3:],
		"each once, the last first")

	// What a case changes goes back to what the run has the device feel, else to the usual, else to what it felt
	// before.
	d = sample()
	s = reads(t, "suite \"s\"\ncase \"c\"\nappearance dark\nappearance light\nlanguage \"de-DE\"\ntext size 200%\n"+
		"time zone \"Asia/Tokyo\"\ntime zone \"Asia/Tokyo\"\nexpect #total\nend\n", nil)
	o := sampleOptions()
	o.Felt = []Felt{{Kind: "language", Do: func(ctx context.Context) error { return d.SetLanguage(ctx, "fr-FR") }}}
	r = RunCase(context.Background(), s, s.Cases[0], d, o, nobody{})
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	require.Equal(t, []string{"zone Europe/Lisbon", "text 100", "language fr-FR", "dark false"}, d.did[len(d.did)-4:])

	d = sample()
	d.zone = "" // nobody knows it
	s = reads(t, "suite \"s\"\ncase \"c\"\ntime zone \"Asia/Tokyo\"\nexpect #total\nend\n", nil)
	r = RunCase(context.Background(), s, s.Cases[0], d, sampleOptions(), nobody{})
	require.Equal(t, verdict.Error, r.Verdict)
	require.Contains(t, r.Failure.Actual, "could not be undone")
}

func TestAStepInAnActionIsToldWithTheWayThere(t *testing.T) {
	files := FileMap{"steps/a.yamato": "use \"b.yamato\"\naction go to $place\n  do look for $place\nend\n",
		"steps/b.yamato": "action look for $what\n  let seen = 1\n  expect \"{what}\"\nend\n"}
	s := reads(t, "suite \"s\"\npatience 1s\nuse \"steps/a.yamato\"\ncase \"c\"\n  do go to \"Haruka\"\nend\n", files)
	r := RunCase(context.Background(), s, s.Cases[0], sample(), sampleOptions(), nobody{})
	require.Equal(t, "steps/b.yamato", r.Failure.File)
	require.Equal(t, 3, r.Failure.Line)
	require.Equal(t, []Place{{"", 5, `do go to "Haruka"`}, {"steps/a.yamato", 3, "do look for $place"}}, r.Failure.Way)
	require.Equal(t, []Named{{"seen", "1"}, {"what", `"Haruka"`}}, r.Failure.Values, "an action knows its own values")
	require.Contains(t, r.Failure.Sentence(), "steps/b.yamato, line 3")
	var depths []int
	for _, st := range r.Steps {
		depths = append(depths, st.Depth)
	}
	require.Equal(t, []int{0, 1, 2, 2}, depths, "what an action does stands after the step that calls it")
}

func TestActionsThatCallEachOtherWithoutEndEnd(t *testing.T) {
	s := reads(t, "suite \"s\"\naction a\n  do b\nend\naction b\n  do a\nend\ncase \"c\"\n  do a\n  expect #total\nend\n", nil)
	r := RunCase(context.Background(), s, s.Cases[0], sample(), sampleOptions(), nobody{})
	require.Equal(t, OutOfTime, r.Failure.Cause)
	require.Contains(t, r.Failure.Actual, "more than 30 deep")
}

func TestRowsOfDataAreCasesOfTheirOwn(t *testing.T) {
	s := reads(t, "suite \"s\"\ncase \"{who} pays {fare}\" tags x\n  each who, fare\n    \"Aya\", 3.15\n    \"Bo\", -2\n  end\n  expect \"{who} {fare}\" = \"{who} {fare}\"\nend\n", nil)
	require.Len(t, s.Cases, 2)
	require.Equal(t, "Aya pays 3.15", s.Cases[0].Name)
	require.Equal(t, "Bo pays -2", s.Cases[1].Name)
	require.Equal(t, 4, s.Cases[0].Row.Line)
	for _, c := range s.Cases {
		require.Equal(t, verdict.Pass, RunCase(context.Background(), s, c, sample(), sampleOptions(), nobody{}).Verdict)
	}
}

func TestPicturesThatOnlyMatterWhereACaseFails(t *testing.T) {
	for verdict, kept := range map[string]int{"expect #total": 0, "expect #nothing": 2} { // with the failure's own
		d := &photographed{able: sample()}
		rec := &album{}
		s := reads(t, "suite \"s\"\npatience 1s\ncase \"c\"\npicture as \"p\" unless passed\n"+verdict+"\nend\n", nil)
		RunCase(context.Background(), s, s.Cases[0], d, sampleOptions(), rec)
		require.Equal(t, kept, rec.n, verdict)
	}
}

type photographed struct{ *able }

func (p *photographed) Picture(context.Context) (device.Picture, error) { return nil, nil }

type album struct {
	nobody
	n int
}

func (a *album) Picture(string, device.Picture, *screen.Tree, []screen.Rect, screen.Rect) { a.n++ }

func TestNothingOfASecretIsLeftHoweverItIsWritten(t *testing.T) {
	secret := `tide "4" & more`
	m := NewMask(map[string]string{"s": secret}, map[string]map[string]string{"payer": {"user": "aya@sorane.example",
		"password": "k j-7711"}})
	for _, shown := range []string{secret, "said: " + secret + ".", fmt.Sprintf("%q", secret),
		"https://x.example/?q=tide+%224%22+%26+more",
		"https://x.example/tide%20%224%22%20&%20more", "&lt; tide &#34;4&#34; &amp; more",
		`{"a":"tide \"4\" \u0026 more"}`} {
		got := m.Text(shown)
		require.NotContains(t, got, "tide", shown)
		require.Contains(t, got, `[secret "s"]`, shown)
	}
	require.Equal(t, `it was [secret "s"]… and`, m.Text(`it was tide "4… and`), "what is cut off is hidden, too")
	require.Equal(t, `aya@sorane.example [password of "payer"]`, m.Text("aya@sorane.example k j-7711"))
	require.Equal(t, "plain", (*Mask)(nil).Text("plain"))
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringN(4, 12, 40).Filter(func(s string) bool { return len(s) >= MinSecret }).Draw(t, "secret")
		text := rapid.String().Draw(t, "before") + value + rapid.String().Draw(t, "after")
		got := NewMask(map[string]string{"": value}, nil).Text(text)
		require.NotContains(t, strings.ReplaceAll(got, `[secret ""]`, "\x00"), value)
	})
}

func TestADifferenceHoldsBothTexts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.SliceOfN(rapid.SampledFrom([]string{"Sora", "Minami", "3.15", "€", "pays", ","}), 1, 8)
		a, b := strings.Join(words.Draw(t, "a"), " "), strings.Join(words.Draw(t, "b"), " ")
		list := difference(a, b)
		if list == nil {
			return
		}
		was, is := "", ""
		for _, p := range list {
			if p.Of != OfActual {
				was += p.Text
			}
			if p.Of != OfExpected {
				is += p.Text
			}
		}
		require.Equal(t, a, was)
		require.Equal(t, b, is)
	})
}

func TestTheCheckKnowsWhatTheServiceHasSeen(t *testing.T) {
	s := reads(t, "suite \"s\"\ncase \"c\"\naccount \"payer\" as $p\nset #pasengers to secret \"pin\"\ntap \"Contineu\"\nrotate to landscape\nexpect word(total)\n"+
		"expect word(buy)\nupdate app to build \"9\"\nexpect #total\nend\n", nil)
	found := s.Against(Against{App: "Tideline", Known: func(l string) bool { return l != `"Contineu"` },
		Seen: []Seen{{ID: "passengers", Role: "textbox", Screen: "Buy a ticket"}, {ID: "total"},
			{Text: "Continue", Role: "button", Screen: "Buy a ticket"}},
		Texts:   Texts{"total": {"": "Total"}, "buy": {"en-GB": "Buy", "de-DE": "Kaufen"}, "pay": {"pt-PT": "Pagar"}},
		Secrets: []string{"word"}, Accounts: []string{"player"}, Builds: func(string) bool { return false },
		Devices: []Able{{Name: "a", Abilities: []string{"rotation"}}, {Name: "b"}}})
	var all []string
	for _, f := range found {
		all = append(all, fmt.Sprintf("%d:%d %s; %s", f.Pos.Line, f.Pos.Column, f.Message, f.Hint))
	}
	require.Equal(t, []string{
		"3:1 the project has no account \"payer\"; did you mean `player`?",
		"4:5 no screen of Tideline ever had #pasengers; the nearest is #passengers, on \"Buy a ticket\"",
		"4:19 the project has no secret \"pin\"; `yamato secret set pin` gives it one",
		"5:5 no screen of Tideline ever had \"Contineu\"; the nearest is \"Continue\", on \"Buy a ticket\"",
		"6:1 b cannot do this: it takes the ability rotation; its case is skipped there",
		"8:8 this build has no text `buy` in pt-PT; the app needs it in each of its languages",
		"9:1 Tideline has no build \"9\"; `yamato build ls` lists them",
	}, all)
	require.Empty(t, s.Against(Against{}), "what is not known is not told of")
}

func TestTheCheckTellsOfWhatAPersonMaySeeOtherwise(t *testing.T) {
	s := reads(t, "suite \"s\"\ncase \"c\"\nexpect #map\nexpect \"Quay\"\nexpect img called \"Chart\"\nend\n", nil)
	var all []string
	for _, f := range s.Against(Against{App: "Tideline", Seen: []Seen{{ID: "map", Unsure: "it is faint"},
		{Text: "Quay", Role: "text", Unsure: "it is faint"},
		{Text: "Quay", Role: "heading"}, {Text: "Chart", Role: "img", Unsure: "it is drawn"}}}) {
		require.True(t, f.Advice)
		all = append(all, fmt.Sprintf("%d:%d %s", f.Pos.Line, f.Pos.Column, f.Message))
	}
	require.Equal(t, []string{"3:8 a person may see #map otherwise: it is faint",
		`5:8 a person may see "Chart" otherwise: it is drawn`}, all)
}

// What checks clean never panics the runner, whatever a device shows.
func FuzzWhatChecksCleanRuns(f *testing.F) {
	for _, e := range eachForm {
		f.Add(e.passes, uint64(1))
		f.Add(e.fails, uint64(2))
	}
	f.Fuzz(func(t *testing.T, steps string, seed uint64) {
		s, findings := Read("suite \"s\"\npatience 100ms\ncase \"c\"\n" + steps + "\nexpect #total\nend\n")
		if Faults(findings) > 0 || strings.Count(steps, "times") > 1 {
			return
		}
		chance := rand.New(rand.NewPCG(seed, 1))
		d := sample()
		if chance.IntN(3) == 0 {
			d.faultAt, d.later = time.Duration(chance.IntN(900))*time.Millisecond+1, &device.Crash{Reason: "boom"}
		} else if chance.IntN(3) == 0 {
			d.faultAt, d.later = time.Duration(chance.IntN(900))*time.Millisecond+1, errors.New("the cable dropped")
		}
		o := sampleOptions()
		o.CaseLimit = 5 * time.Second
		for _, c := range s.Cases[:min(len(s.Cases), 3)] {
			r := RunCase(t.Context(), s, c, d, o, nobody{})
			require.True(t, r.Verdict.Known())
		}
	})
}

// timed does nothing for who has no time left.
type timed struct{ *able }

func (d timed) Rotate(ctx context.Context, to string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return d.able.Rotate(ctx, to)
}

func (d timed) SetNetwork(ctx context.Context, n device.Network) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return d.able.SetNetwork(ctx, n)
}

// What comes before all holds for all cases: what a case makes the device feel beside that is undone
// to it, and it itself after the last.
func TestWhatIsFeltBeforeAllLastsUntilTheLastCase(t *testing.T) {
	s := reads(t, "suite \"s\"\nbefore all\nrotate to landscape\nnetwork slow\nend\ncase \"a\"\nnetwork none\nexpect #total\nend\ncase \"b\"\nexpect #total\nend\n", nil)
	d := &able{paper: still(el("text", "total", "1", 0))}
	p := NewPlay(s, timed{d}, Options{Known: func(string) bool { return true }})
	first, ended := context.WithCancel(context.Background())
	require.Equal(t, verdict.Pass, p.Case(first, s.Cases[0], false, nobody{}).Verdict)
	ended() // each case has a time of its own
	felt := func() (out []string) {
		for _, did := range d.did {
			if strings.HasPrefix(did, "rotate") || strings.HasPrefix(did, "network") {
				out = append(out, did)
			}
		}
		d.did = nil
		return out
	}
	before := felt()
	require.Len(t, before, 4)
	require.Equal(t, before[1], before[3], "the case's own is undone to what came before all")
	last := p.Case(context.Background(), s.Cases[1], true, nobody{})
	require.Equal(t, verdict.Pass, last.Verdict, "%+v", last.Failure)
	after := felt()
	require.Len(t, after, 2, "nothing before the last case has ended")
	require.Equal(t, "rotate portrait", after[1])
}

// What a run has the device feel holds in every case, whatever a case changes of it; and a run gives
// the values of variables that a suite says it is given.
func TestLevelsOfARunHoldInEveryCase(t *testing.T) {
	s := reads(t, "suite \"s\"\ngiven traveller = \"adult\"\ngiven people = 1\ncase \"a\"\nexpect $traveller = \"child\"\n"+
		"network none\nexpect #total\nend\ncase \"b\"\nexpect $people + 1 = 4\nend\n", nil)
	d := &able{paper: still(el("text", "total", "1", 0))}
	opened := 0
	p := NewPlay(s, timed{d}, Options{Known: func(string) bool { return true },
		Given:  map[string]string{"traveller": "child", "people": "3", "unheard of": "x"},
		Opened: func(context.Context) error { opened++; return nil },
		Felt: []Felt{{Kind: "network", Do: func(ctx context.Context) error {
			return timed{d}.SetNetwork(ctx,
				device.Slow)
		}},
			{Kind: "rotation", Do: func(ctx context.Context) error { return timed{d}.Rotate(ctx, device.Landscape) }}}})
	first, ended := context.WithCancel(context.Background())
	r := p.Case(first, s.Cases[0], false, nobody{})
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	ended()
	var felt []string
	for _, did := range d.did {
		if strings.HasPrefix(did, "network") || strings.HasPrefix(did, "rotate") {
			felt = append(felt, did)
		}
	}
	require.Len(t, felt, 4)
	require.Equal(t, "rotate landscape", felt[1])
	require.NotEqual(t, felt[0], felt[2], "the case's own")
	require.Equal(t, felt[0], felt[3], "and undone to the run's")
	r = p.Case(context.Background(), s.Cases[1], true, nobody{})
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	require.Equal(t, 2, opened)

	trouble := NewPlay(s, timed{d}, Options{Felt: []Felt{{Kind: "network", Do: func(context.Context) error {
		return &device.Trouble{Why: "the antenna is off"}
	}}}})
	r = trouble.Case(context.Background(), s.Cases[0], true, nobody{})
	require.Equal(t, verdict.Error, r.Verdict, "what the device cannot be made to feel is its trouble")
	require.Contains(t, r.Failure.Actual, "the antenna is off")
}

func TestWhatASuiteIsGivenIsNamedOnceWithItsUsualValue(t *testing.T) {
	for text, says := range map[string]string{
		"given = 3":                "the variable's name is missing",
		"given x 3":                "`=` is missing",
		"given x = #total":         "a text or a number",
		"given x = 1\ngiven x = 2": "is given already",
	} {
		_, findings := Read("suite \"s\"\n" + text + "\ncase \"a\"\nexpect #total\nend\n")
		require.NotEmpty(t, findings, text)
		require.Contains(t, findings[0].Message, says, text)
	}
	formatted, findings := Format("suite \"s\"\ngiven   traveller=\"adult\"\ncase \"a\"\nexpect $traveller = \"adult\"\nend\n")
	require.Zero(t, Faults(findings))
	require.Contains(t, formatted, "given traveller = \"adult\"\n")
}
