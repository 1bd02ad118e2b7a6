package script

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/script/token"
	"yamato/internal/core/verdict"
)

// told gives what the check says, a line each.
func told(text string) []string {
	_, findings := Read(text)
	out := []string{}
	for _, f := range findings {
		out = append(out, fmt.Sprintf("%d:%d %s; %s", f.Pos.Line, f.Pos.Column, f.Message, f.Hint))
	}
	return out
}

func inCase(steps ...string) string {
	return "suite \"s\"\ncase \"c\"\n" + strings.Join(steps, "\n") + "\nexpect #a\nend\n"
}

func TestOneSlipIsOneFinding(t *testing.T) {
	for name, text := range map[string]string{
		"a value that cannot be read, used later": inCase(`let single = nmber in #single`,
			`expect number in #total = 3 * $single`, `set #x to $single`),
		"a text without end":      inCase(`let a = "x`, `expect #b shows $a`),
		"the only expectation":    "suite \"s\"\ncase \"c\"\nexpct #a\nend\n",
		"a case that is misspelt": "suite \"s\"\ncsae \"c\"\ntap #a\nset #b to 3\nexpect #a\nend\n",
		"a case by another name":  "suite \"s\"\ntest \"c\"\ntap #a\nexpect #a\nend\n",
		"a case without a name":   "suite \"s\"\ncase c\ntap #a\nexpect #a\nend\n",
		"before each, misspelt":   "suite \"s\"\nbefore eahc\ntap #a\nend\ncase \"c\"\nexpect #a\nend\n",
		"before, misspelt":        "suite \"s\"\nbefroe each\ntap #a\nend\ncase \"c\"\nexpect #a\nend\n",
		"an end that is misspelt": "suite \"s\"\ncase \"c\"\nexpect #a\nedn\ncase \"d\"\nexpect #a\nend\n",
		"an end that is missing": "suite \"s\"\ncase \"c\"\n3 times\nexpect #a\nend\ncase " +
			"\"d\"\nexpect #a\nend\n",
		"steps outside of a case": "suite \"s\"\ntap #a\nset #b to 3\nexpect #a\ncase \"d\"\nexpect " +
			"#a\nend\n",
		"an end too many":              "suite \"s\"\ncase \"c\"\nexpect #a\nend\nend\n",
		"a suite without quotes":       "suite s\ncase \"c\"\nexpect #a\nend\n",
		"a sign that there is none of": inCase(`expect number in #a == 3`),
		"an id without its mark":       inCase(`tap continue`),
		"a pattern without end":        inCase(`expect /abc`),
		"plain quotes":                 inCase(`tap 'Continue now'`),
	} {
		t.Run(name, func(t *testing.T) { require.Len(t, told(text), 1, "%s", strings.Join(told(text), "\n")) })
	}
}

func TestWhatIsWrittenOtherwiseElsewhereIsToldHowItIsWrittenHere(t *testing.T) {
	for line, says := range map[string]string{
		`expect number in #a == 3`:             "one `=` compares",
		`expect number in #a => 3`:             "write >=",
		`expect #a = 3`:                        "expect number in #a = …",
		`expect = 3`:                           "expect number in #total = 5",
		`expect #a equals "x"`:                 `write: expect #a shows "…"`,
		`expect number in #a = total`:          "a variable is written $total, a text \"total\"",
		`expect number in #a = ${total}`:       "write $total",
		`tap "{1+2}"`:                          "let sum = …, then {sum}",
		`tap "{$x}"`:                           "write {x}",
		`click #a`:                             "tap E",
		`wait 5s`:                              "steps wait by themselves",
		`assert #a`:                            "expect …",
		`fill #passengers with 3 * 2`:          "write: set #passengers to 3 * 2",
		`fill textbox called "A b" with "x y"`: `write: set textbox called "A b" to "x y"`,
		`put 3 into #a`:                        "write: set E to V",
		`press "Continue"`:                     "tap E",
		`tap 1rd button`:                       "write 1st, or 3rd",
		`tap 12nd button`:                      "write 12th, or 22nd",
		`expect #a within 15`:                  "`15` needs a unit",
		`expect #a within`:                     "a duration after `within` is missing before the end of the line",
		`expect #a ; expect #b`:                "a statement ends with its line",
		`Tpa #a`:                               "unknown word `Tpa`; did you mean `tap`?",
		`tap Buton`:                            "`Buton` is no role that an element can have; did you mean `button`?",
		`let Total = 3 +`:                      "a value is missing before the end of the line",
	} {
		require.Contains(t, strings.Join(told(inCase(line)), "\n"), says, line)
	}
}

func TestPlacesAreRightWhateverStandsBefore(t *testing.T) {
	for text, at := range map[string]string{
		inCase(`tap "a\`, `tpa #a`):                       "4:1 ",
		inCase(`expect /a\`, `tpa #a`):                    "4:1 ",
		inCase(`tap "日本 {nobody}"`):                       "3:9 nothing is called `nobody` here",
		inCase(`tap "\"{nobody}"`):                        "3:8 nothing is called `nobody` here",
		inCase(`let Total = 1`, `tap "{total} {nobody}"`): "4:14 nothing is called `nobody` here",
	} {
		require.Contains(t, strings.Join(told(text), "\n"), at, text)
	}
}

func TestAVariableIsTheSameHoweverItsCapitalsAreWritten(t *testing.T) {
	require.Empty(t, told(inCase(`let Total = 1`, `expect $total = 1`, `expect $TOTAL = 1`, `tap "{Total} {total}"`)))
	d := still(el("heading", "a", "Island 3", 10))
	r := judge(t, d, "", `let Nr = 1 + 2`, `expect #a shows "Island {nR}"`, `expect $NR = 3`)
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
}

func TestNamesSayWhatIsWrittenInThem(t *testing.T) {
	s, findings := Read("suite \"The \\\"Sora\\\" suite\"\ncase \"the \\\"Buy\\\" button \\\\ \\{x\\}\"\nexpect " +
		"#a\nend\n")
	require.Empty(t, findings)
	require.Equal(t, `The "Sora" suite`, s.Name)
	require.Equal(t, `the "Buy" button \ {x}`, s.Cases[0].Name)
	require.Empty(t, told("suite \""+strings.Repeat("船", 200)+"\"\ncase \"c\"\nexpect #a\nend\n"),
		"characters count, not bytes")
	require.Len(t, told("suite \""+strings.Repeat("船", 201)+"\"\ncase \"c\"\nexpect #a\nend\n"), 1)
}

func TestAStepIsRecordedAsItWasWritten(t *testing.T) {
	s, findings := Read(inCase(`  Tap   “https://x”  // a note`, `tap "a // b"`, `tap “the "Buy" button”`,
		`tap "the “Buy” button"`))
	require.Zero(t, Faults(findings))
	var texts []string
	for _, st := range s.Cases[0].Body.Steps[:4] {
		texts = append(texts, st.base().Text)
	}
	require.Equal(t, []string{`Tap “https://x”`, `tap "a // b"`, `tap “the "Buy" button”`,
		`tap "the “Buy” button"`},
		texts)
	require.Equal(t, `the “Buy” button`, s.Cases[0].Body.Steps[3].(*Tap).Element.Label.Text.source())
	require.Equal(t, `the "Buy" button`, s.Cases[0].Body.Steps[2].(*Tap).Element.Label.Text.source())
}

func TestABadPatternIsToldBesideOtherFaults(t *testing.T) {
	all := strings.Join(told(inCase(`tpa #a`, `expect /(/`, `tap "x`)), "\n")
	for _, says := range []string{"unknown word `tpa`", "this pattern cannot be read", "has no end"} {
		require.Contains(t, all, says)
	}
}

func TestAFileThatIsNoTextIsOneFinding(t *testing.T) {
	chance := rand.New(rand.NewPCG(1, 2))
	content := make([]byte, 900_000)
	for i := range content {
		content[i] = byte(chance.UintN(256))
	}
	require.Equal(t, []string{"1:1 this file is no text; a suite is a text file in UTF-8, with lines such as case " +
		"\"…\""}, told(string(content)))
}

func TestABlockIsRepeated(t *testing.T) {
	d := still(el("button", "a", "Go", 10))
	s, findings := Read("suite \"s\"\ncase \"c\"\n2 times\n  tap #a\n  3 times\n    press tab\n  end\nend\nexpect " +
		"#a\nend\n")
	require.Empty(t, findings)
	before := fmt.Sprintf("%#v", s.Cases[0].Body.Steps[0])
	for range 2 { // what was read is not changed by running it
		d.did = nil
		r := RunCase(t.Context(), s, s.Cases[0], d, Options{}, nobody{})
		require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
		require.Equal(t, "start,tap a,keys \uE004,keys \uE004,keys \uE004,tap a,keys \uE004,keys \uE004,keys \uE004",
			strings.Join(d.did, ","))
		require.Len(t, r.Steps, 9)
		require.Equal(t, before, fmt.Sprintf("%#v", s.Cases[0].Body.Steps[0]))
	}
	require.Contains(t, strings.Join(told(inCase("0 times", "tap #a", "end")), ""), "1 to 1000 times")
	deep := inCase(strings.Repeat("2 times\n", 60) + "tap #a\n" + strings.Repeat("end\n", 60))
	require.Contains(t, strings.Join(told(deep), ""), "nested more than 40 deep")
	long := inCase(strings.Repeat("1000 times\n", 3) + "press tab\n" + strings.Repeat("end\n", 3))
	s, findings = Read(long)
	require.Empty(t, findings)
	r := RunCase(t.Context(), s, s.Cases[0], still(el("button", "a", "Go", 10)), Options{}, nobody{})
	require.Equal(t, OutOfTime, r.Failure.Cause, "a case ends, whatever it repeats")
}

// everyForm is a suite with each form of the language.
const everyForm = `suite "Every form"
tags one, two
patience 8s
keep app between cases
use "steps/shared.yamato"

before all
  account "payer" as $who
end

// before
before each
  start app fresh
  tap 2nd button called "Go \"now\"" in #list within 15s  // why
end

after each
  stop app
end

after all
  note "over"
end

action choose $a to $b
  choose $a in #from
  give back number in #x
end

case "all of {it} {n}" tags three needs camera, text size
  each it, n
    "a", 1
    "b", -2.5
  end
  start app
  tap last /a\/b/ in dialog
  set #field to "é \{x\}"
  set #c to number in #a in #b
  let n = (1 + 2) * 3 - (-4) / (5 - 6)
  type $n into textbox called /x/
  type "abc"
  press back
  picture as "whole {n}"
  picture of #a as "part" unless passed
  2 times
    expect no #b
    3 times
      expect at least 3 listitem in #c within 1500ms
    end
  end
  send app away for 90s
  send app away for 5s
  expect #a shows "x"
  expect 2 listitem
  expect at most 3 button
  expect number in #a >= $n
  double tap "Continue"
  hold #a
  hold #a for 2s
  clear #a
  choose "Sora" in #from
  swipe up
  swipe left on #a
  scroll to "Kujira" in #list
  drag #a onto #b
  pinch #a
  spread #a
  follow link "tideline://map"
  update app to build "3.2.1"
  rotate to landscape
  allow location
  deny camera
  place device at 35.1, -139.2
  place device nowhere
  tilt device 10, $n, -5
  shake device
  network none
  network "50 ms delay"
  battery 15% charging
  language "pt-{n}"
  appearance dark
  text size 130%
  time zone "Asia/Tokyo"
  deliver push "title", "body {n}"
  give file "files/a.png"
  let x = text matching /[A-Z]+/ in #a
  let y = number matching /of (\d+)/ in #a
  let z = count of listitem in #c
  let w = word(buy_ticket, $n)
  let s = do choose "Sora" to -3
  do choose "Sora" to (number in #a)
  do choose secret "pin" to word(island) within 3s
  if no #b
    note "it is {n}"
  else if $n != 3
    ask "walk ten steps" within 2m
  else
    pause 2s
  end
  expect #a contains "x" for 2s within 10s
  expect #a matches /x/
  expect "Saved" came up
  expect #a is enabled
  expect #a is clear of cut-outs
  expect #a is left of #b
  expect #a is as wide as #b
  expect #a is clear of #b
  expect $n listitem in #c
  expect at least ($n + 1) listitem
  expect 3 /Sora.*/
  expect app in front
  expect app is running
  expect log matches /paid/
  expect no log matches /boom/
  expect no errors in log
  expect start within 2s
  expect memory below 200MB
  expect screen is accessible
  expect word(buy_ticket) near button
  expect word(island) != "x"
  expect 50% = number in #b
  expect textbox called word(island) above #a in #b
  expect xpath "//list[@id='rows']/listitem[2]"
  expect "{who.user}"
end
`

var wave = FileMap{"steps/shared.yamato": "action wave\n  tap #hand\nend\n"}

func TestTheCanonicalLayoutIsOneAndMeansTheSame(t *testing.T) {
	out, findings := FormatWith(everyForm, wave)
	require.Zero(t, Faults(findings), "%+v", findings)
	require.Equal(t, everyForm, out, "what is laid out stays as it is")
	messy := strings.NewReplacer("\n  ", "\n\t \t", "case ", "CASE  ", "tap ", "Tap   ", ", ", " ,", "\n\n",
		"\n\n\n\n").Replace(everyForm)
	out, findings = FormatWith(messy, wave)
	require.Zero(t, Faults(findings), "%+v", findings)
	require.Equal(t, everyForm, out)
	used := map[string]bool{}
	s, _ := ReadWith(everyForm, wave)
	Inspect(s, func(n Node) bool {
		if st, ok := n.(Statement); ok {
			used[strings.Fields(st.words())[0]] = true
		}
		return true
	})
	for _, w := range stepWords() {
		require.True(t, used[w] || w == "end", "the suite above has no `%s`", w)
	}
	out, findings = Format("suite \"x\"\ntpa")
	require.Equal(t, "suite \"x\"\ntpa", out, "what has faults is left as it is")
	require.NotZero(t, Faults(findings))
}

// TestStepsAreWalkedToTheirEnds sees that whatever a step names is found by the one walk.
func TestStepsAreWalkedToTheirEnds(t *testing.T) {
	s, _ := ReadWith(everyForm, wave)
	require.Subset(t, s.Locators(), []string{`2nd button called "Go \"now\"" in #list`, "#list", "last /a/b/ in dialog",
		"dialog",
		"#field", "#a in #b", "#b", "#c", "textbox called /x/", "#a", "listitem in #c", "listitem", "button",
		"word(buy_ticket) near button", "textbox called word(island) above #a in #b",
		`xpath "//list[@id='rows']/listitem[2]"`})
	require.Equal(t, []string{"appearance", "away", "back", "battery", "camera", "files", "gestures", "language",
		"links", "log", "motion",
		"network", "permissions", "place", "push", "readings", "rotation", "text size",
		"time zone"}, s.Needs(s.Cases[0]))
}

// What examples say in quotes is none of the language's words.
func TestTheLanguagesWordsAreItsOwn(t *testing.T) {
	l := Language()
	for _, w := range []string{"appearance", "zone", "size", "dark", "landscape", "charging", "set", "to"} {
		require.Contains(t, l.Words, w)
	}
	for _, w := range []string{"urope", "isbon", "de-", "body", "title", "put", "fill"} {
		require.NotContains(t, l.Words, w)
	}
}

// What was written before is read, with one piece of advice a file, and laid out as it is written now.
func TestWhatWasWrittenBeforeIsReadAndMended(t *testing.T) {
	old := "suite \"s\"\nuse \"steps/paying.suite\"\ncase \"c\"\n  put 3 in #passengers\n  put (number in #a in #b) in #c\n" +
		"  do pay with \"1\"\n  expect #total\nend\n"
	mended := "suite \"s\"\nuse \"steps/paying.yamato\"\ncase \"c\"\n  set #passengers to 3\n  set #c to number in #a in #b\n" +
		"  do pay with \"1\"\n  expect #total\nend\n"
	shared := "action pay with $card\n  put $card in #card\n  put \"x\" in #owner\nend\n"
	for name, files := range map[string]FileMap{"as before": {"steps/paying.suite": shared},
		"renamed": {"steps/paying.yamato": shared}} {
		s, findings := ReadWith(old, files)
		require.Zero(t, Faults(findings), "%s: %v", name, findings)
		require.Len(t, findings, 2, "%s: one a file: %v", name, findings)
		for _, f := range findings {
			require.Equal(t, token.AsBefore, f.Rule)
			require.Contains(t, f.Hint, "suite format --write")
		}
		laid, _ := FormatWith(old, files)
		require.Equal(t, mended, laid, name)
		again, findings := ReadWith(laid, files)
		require.Zero(t, Faults(findings), "%s: %v", name, findings)
		require.Equal(t, s.Locators(), again.Locators())
		require.Equal(t, s.Uses[0].File, again.Uses[0].File, "the file that there is")
	}
	require.Equal(t, "a/b.yamato", Renamed("a/b.suite"))
	require.Equal(t, "a/b.yamato", Renamed("a/b.yamato"))
	require.Len(t, Ended("a.suite", nil), 1)
	require.Empty(t, Ended("a.yamato", nil))
}

func FuzzFormatIsStableAndKeepsTheMeaning(f *testing.F) {
	f.Add(strings.Replace(everyForm, "use \"steps/shared.yamato\"\n", "", 1))
	for _, e := range eachForm {
		f.Add("suite \"s\"\naction wave $n\ntap #x\nend\ncase \"c\"\n" + e.passes + "\nend\n")
	}
	f.Add("suite \"a\"\ncase \"b\"\nlet x = -(1 - (2 - 3)) / (4 * 5)\nset #c to (number in #a in #b) + 1\nend // x\n")
	f.Fuzz(func(t *testing.T, text string) {
		once, findings := Format(text)
		if Faults(findings) > 0 {
			return
		}
		twice, findings := Format(once)
		require.Zero(t, Faults(findings), "%s", once)
		require.Equal(t, once, twice)
		before, _ := Read(text)
		after, _ := Read(once)
		require.Equal(t, before.Locators(), after.Locators())
		require.Equal(t, len(before.Cases), len(after.Cases))
	})
}

// Programs that keep findings know them again by their rules' names: more may come, none of these goes.
func TestRulesKeepTheirNames(t *testing.T) {
	names := map[token.Rule]bool{}
	for _, r := range token.Rules {
		require.False(t, names[r.Rule], r.Rule)
		names[r.Rule] = true
		require.Regexp(t, `^[A-Z].*\.$`, r.Words)
	}
	for _, name := range strings.Fields(`signs form too-many-findings suite-without-name suite-without-case suite-name-twice case-name-twice
		case-without-expect unknown-action action-not-called action-gives-nothing unknown-name text-like-an-id step-amiss unknown-build
		element-never-seen element-seen-otherwise unknown-text not-in-project ability-missing`) {
		require.True(t, names[token.Rule(name)], name)
	}
	for text, rule := range map[string]token.Rule{
		"suite \"s\"\ncase \"c\"\n  tap \"a\n  expect \"b\"\nend\n":                       token.Signs,
		"suite \"s\"\ncase \"c\"\n  tpa \"a\"\n  expect \"b\"\nend\n":                     token.Form,
		"case \"c\"\n  expect \"b\"\nend\n":                                               token.NoName,
		"suite \"s\"\n":                                                                   token.NoCase,
		"suite \"s\"\ncase \"c\"\n  expect \"b\"\nend\ncase \"c\"\n  expect \"b\"\nend\n": token.TwiceCase,
		"suite \"s\"\ncase \"c\"\n  tap \"a\"\nend\n":                                     token.NoExpect,
		"suite \"s\"\ncase \"c\"\n  do something else\n  expect \"b\"\nend\n":             token.NoAction,
		"suite \"s\"\naction go\n  tap \"a\"\nend\ncase \"c\"\n  expect \"b\"\nend\n":     token.IdleAction,
		"suite \"s\"\ncase \"c\"\n  tap \"{x}\"\n  expect \"b\"\nend\n":                   token.NoValue,
	} {
		_, findings := Read(text)
		require.NotEmpty(t, findings, text)
		require.Equal(t, rule, findings[0].Rule, "%s: %s", text, findings[0].Message)
	}
}
