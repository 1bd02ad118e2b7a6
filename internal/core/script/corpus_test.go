package script

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/verdict"
)

// With -update the corpus is written anew; read what has changed.
var update = flag.Bool("update", false, "write the expected reports and findings anew")

// golden compares with what stands in a file of testdata.
func golden(t *testing.T, name, got string) {
	t.Helper()
	path := filepath.Join("testdata", name)
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, string(want), got)
}

// able is a device on paper that does whatever it is told.
type able struct {
	*paper
	memory float64
	zone   string
	log    []device.LogLine
}

func (a *able) note(what string, args ...any) error {
	a.did = append(a.did, fmt.Sprintf(what, args...))
	return nil
}

func (a *able) Stop(context.Context, string) error {
	a.moments[a.at].tree.App = ""
	a.revision++
	return a.note("stop")
}

func (a *able) Start(ctx context.Context, app string, how device.Start) error {
	a.moments[a.at].tree.App = app
	a.revision++
	return a.paper.Start(ctx, app, how)
}

func (a *able) Perform(_ context.Context, fingers ...device.Finger) error {
	return a.note("gesture of %d", len(fingers))
}
func (a *able) Press(_ context.Context, key string) error        { return a.note("press %s", key) }
func (a *able) SendAway(context.Context) error                   { return a.note("away") }
func (a *able) OpenLink(_ context.Context, _, link string) error { return a.note("link %s", link) }
func (a *able) Rotate(_ context.Context, to string) error        { return a.note("rotate %s", to) }
func (a *able) SetAppearance(_ context.Context, dark bool) error { return a.note("dark %v", dark) }
func (a *able) SetTextSize(_ context.Context, percent int) error { return a.note("text %d", percent) }
func (a *able) SetLanguage(_ context.Context, tag string) error  { return a.note("language %s", tag) }
func (a *able) SetTimeZone(_ context.Context, name string) error {
	a.zone = name
	return a.note("zone %s", name)
}
func (a *able) Feels(context.Context, string) (device.Feels, error) {
	return device.Feels{Zone: a.zone}, nil
}
func (a *able) SetPlace(_ context.Context, p *device.Place) error {
	return a.note("place %v", p != nil)
}
func (a *able) Tilt(_ context.Context, x, y, z float64) error {
	return a.note("tilt %v %v %v", x, y, z)
}
func (a *able) Shake(context.Context) error { return a.note("shake") }
func (a *able) SetNetwork(_ context.Context, n device.Network) error {
	return a.note("network none=%v delay=%v", n.None, n.Delay)
}
func (a *able) SetBattery(_ context.Context, p int, c bool) error {
	return a.note("battery %d %v", p, c)
}
func (a *able) SetPermission(_ context.Context, _, what, answer string) error {
	return a.note("%s %s", answer, what)
}
func (a *able) Push(_ context.Context, _, message string) error   { return a.note("push %q", message) }
func (a *able) PutFiles(_ context.Context, paths ...string) error { return a.note("files %v", paths) }
func (a *able) Log(context.Context) ([]device.LogLine, error)     { l := a.log; a.log = nil; return l, nil }
func (a *able) Readings(context.Context) ([]device.Reading, error) {
	return []device.Reading{{Name: "memory", Value: a.memory}}, nil
}
func (a *able) Abilities() []string { return append(device.Names(a), "back", "home") }

// sample is a device with a screen on which each form has something to find, and something not.
func sample() *able {
	at := func(role, id, text string, x, y, w, h float64) *screen.Node {
		r := screen.Rect{X: x, Y: y, W: w, H: h}
		return &screen.Node{Role: role, ID: id, Text: text, Bounds: r, Visible: r, Touch: role != "", Opaque: true}
	}
	field := at("textbox", "passengers", "", 200, 100, 60, 30)
	field.Name, field.Value, field.Focused = "Passengers", "3", true
	off := at("button", "pay", "Pay", 10, 400, 100, 40)
	off.Disabled = true
	on := at("switch", "late", "Late news", 10, 460, 200, 40)
	on.Checked = "true"
	plain := at("checkbox", "terms", "I agree", 10, 510, 200, 40)
	plain.Checked = "false"
	tab := at("tab", "tickets", "Tickets", 10, 740, 100, 50)
	tab.Selected = true
	list := at("list", "crossings", "", 10, 560, 300, 100)
	for i, name := range []string{"Sora 09:10", "Minami 09:40", "Kujira 10:05"} {
		row := at("listitem", "", name, 10, 560+50*float64(i), 300, 50)
		row.Visible = row.Bounds.Intersect(list.Visible)
		list.Children = append(list.Children, row)
	}
	choice := at("combobox", "island", "Sora", 10, 200, 150, 40)
	cover := at("dialog", "sheet", "", 100, 460, 300, 40)
	tree := shows(at("heading", "title", "Buy a ticket", 10, 10, 300, 30), at("", "label", "Passengers today",
		10, 100, 150, 30), field,
		at("", "fare", "€3.15", 10, 150, 80, 24), at("", "total", "€9.45", 200, 150, 80, 24), choice,
		at("option", "", "Minami", 170, 200, 100, 40),
		at("button", "go", "Continue", 10, 300, 100, 40), at("button", "", "Close", 150, 300, 20, 20),
		at("button", "", "Close", 200, 300, 60, 40),
		off, on, plain, tab, list, cover)
	tree.App = "example.tideline"
	d := &able{zone: "Europe/Lisbon", paper: &paper{moments: []moment{{0, tree}}}, memory: 250e6}
	d.log = []device.LogLine{{AtMS: 5, Level: "info", Tag: "net", Text: "20 crossings fetched", App: tree.App},
		{AtMS: 9, Level: "error", Tag: "net", Text: "no answer for " + hiddenWord, App: tree.App}}
	return d
}

const hiddenWord = "evening-tide"

func sampleOptions() Options {
	return Options{App: "example.tideline", Known: func(l string) bool { return !strings.Contains(l, "never") },
		Words: func(key, language string) (string, bool) {
			text, ok := map[string]string{"buy": "Buy a ticket", "seats": "%d seats", "agree": "I agree"}[key]
			return text, ok
		},
		Secrets:  map[string]string{"harbour word": hiddenWord},
		Accounts: map[string]map[string]string{"payer": {"user": "aya", "password": "kujira-7711"}},
		Update: func(_ context.Context, build string) error {
			if build != "3.2.1" {
				return fmt.Errorf("there is no such build")
			}
			return nil
		},
		File: func(path string) (string, error) {
			if path != "files/a.png" {
				return "", fmt.Errorf("the suite was handed in without the file %s", path)
			}
			return "/tmp/a.png", nil
		},
		Ask: func(_ context.Context, what string, _ time.Duration) (string, error) {
			if strings.Contains(what, "fly") {
				return "it cannot be done", nil
			}
			return "", nil
		},
	}
}

// eachForm is, for each form of the language, a step that passes on the sample screen and one that
// does not.
var eachForm = []struct{ name, passes, fails string }{
	{"text", `expect "Continue"`, `expect "Contniue"`},
	{"pattern", `expect /Buy.*/`, `expect /Sell.*/`},
	{"id", `expect #total`, `expect #totl`},
	{"role", `expect heading`, `expect slider`},
	{"called", `expect button called "Continue"`, `expect button called "Close" is enabled`},
	{"key", `expect heading called word(buy)`, `expect word(sell)`},
	{"key with room for values", `expect no word(seats)`, `let x = word(seats)`},
	{"in", `expect "Sora 09:10" in #crossings`, `expect "Sora" in #crossings`},
	{"near", `expect textbox near "Passengers today"`, `expect textbox near "Close"`},
	{"above", `expect #title above #label`, `expect #total above #title`},
	{"below", `expect #fare below #label`, `expect #title below #fare`},
	{"left of", `expect #fare left of #total`, `expect #total left of #fare`},
	{"right of", `expect #passengers right of #label`, `expect #label right of #passengers`},
	{"ordinal", `expect 2nd listitem in #crossings`, `expect 9th listitem in #crossings`},
	{"last", `expect last listitem in #crossings`, `expect last slider`},
	{"xpath", `expect xpath "//list/listitem[2]"`, `expect xpath "//list/listitem[7]"`},
	{"tap", `tap #go`, `tap #pay`},
	{"tap, covered", `tap "Continue"`, `tap #late`},
	{"tap, several", `tap 2nd button called "Close"`, `tap "Close"`},
	{"tap, out of sight", `tap 1st listitem in #crossings`, `tap "Kujira 10:05"`},
	{"double tap", `double tap #go`, `double tap #nothing`},
	{"hold", `hold #go for 1500ms`, `hold #pay`},
	{"set", `set #passengers to 4`, `set #fare to 4`},
	{"type", `type "x" into #passengers`, `type "x" into #pay`},
	{"clear", `clear #passengers`, `clear #nothing`},
	{"choose", `choose "Minami" in #island`, `choose "Tobi" in #island`},
	{"press", `press back`, `tap #nothing`},
	{"swipe", `swipe up on #crossings`, `swipe left on #nothing`},
	{"scroll", `scroll to #total`, `scroll to "Tobi 12:00" in #crossings`},
	{"drag", `drag #fare onto #total`, `drag #pay onto #total`},
	{"pinch", `pinch #go`, `pinch #pay`},
	{"spread", `spread #go`, `spread #nothing`},
	{"start, stop", "stop app\nstart app", "stop app\nexpect app is running"},
	{"away", `send app away for 1s`, "send app away for 1s\nexpect #nothing"},
	{"link", `follow link "tideline://map"`, "follow link \"tideline://map\"\nexpect #map"},
	{"update", `update app to build "3.2.1"`, `update app to build "9"`},
	{"rotate", `rotate to landscape`, "rotate to landscape\nexpect #nothing"},
	{"permission", `deny location`, "allow camera\nexpect #nothing"},
	{"place", `place device at 34.7, 139.1`, `place device at "x", 1`},
	{"tilt", `tilt device 1, 2, 3`, `tilt device 1, text in #fare, 3`},
	{"shake", `shake device`, "shake device\nexpect #nothing"},
	{"network", `network slow`, "network none\nexpect #nothing"},
	{"battery", `battery 15% charging`, "battery 15%\nexpect #nothing"},
	{"language", `language "pt-PT"`, "let n = number in #total\nlanguage \"x{n}\""},
	{"appearance", `appearance dark`, "appearance dark\nexpect #nothing"},
	{"text size", `text size 130%`, "text size 200%\nexpect #nothing"},
	{"time zone", `time zone "Asia/Tokyo"`, "time zone \"Asia/Tokyo\"\nexpect #nothing"},
	{"push", `deliver push "a", "b"`, "deliver push \"a\"\nexpect \"a\""},
	{"file", `give file "files/a.png"`, `give file "files/b.png"`},
	{"number in", "let n = number in #total\nexpect $n = 9.45", `let n = number in #title`},
	{"text in", "let t = text in #title\nexpect $t = \"Buy a ticket\"",
		"let t = text in #title\nexpect $t = \"Buy tickets\""},
	{"number matching", "let h = number matching /(\\d\\d):/ in 2nd listitem in #crossings\nexpect $h = 9",
		`let h = number matching /x(\d)/ in #total`},
	{"count of", "let c = count of listitem in #crossings\nexpect $c = 2", "let c = count of button\nexpect $c > 9"},
	{"secret", `type secret "harbour word"`, `type secret "another"`},
	{"secret, told", `expect no "x{n}"`, "let w = secret \"harbour word\"\nexpect $w = \"other\""},
	{"account", "account \"payer\" as $who\nexpect \"{who.user}\" = \"aya\"",
		"account \"payer\" as $who\nexpect $who.pin = \"1\""},
	{"sum", `expect 2 + 3 * 4 = 14`, `expect number in #fare * 3 = 9.4`},
	{"shows", `expect #total shows "€9.45"`, `expect #title shows "Buy tickets"`},
	{"contains", `expect #title contains "a tick"`, `expect #title contains "boat"`},
	{"matches", `expect #total matches /€\d/`, `expect #title matches /^\d/`},
	{"no", `expect no slider`, `expect no #total`},
	{"came up", `expect #total came up`, `expect "Saved" came up`},
	{"enabled", `expect #go is enabled`, `expect #pay is enabled`},
	{"disabled", `expect #pay is disabled`, `expect #go is disabled`},
	{"checked", `expect #late is checked`, `expect #terms is checked`},
	{"unchecked", `expect #terms is unchecked`, `expect #go is unchecked`},
	{"focused", `expect #passengers is focused`, `expect #go is focused`},
	{"selected", `expect tab is selected`, `expect #go is selected`},
	{"whole", `expect #total is whole`, `expect #late is whole`},
	{"cut-outs", `expect #total is clear of cut-outs`, `expect #nothing is clear of cut-outs`},
	{"clear of", `expect #fare is clear of #total`, `expect #late is clear of #sheet`},
	{"is left of", `expect #fare is left of #total`, `expect #total is left of #fare`},
	{"inside", `expect 1st listitem in #crossings is inside #crossings`, `expect #fare is inside #crossings`},
	{"as wide as", `expect #fare is as wide as #total`, `expect #fare is as wide as #title`},
	{"counted", `expect 2 listitem in #crossings`, `expect at least 5 listitem in #crossings`},
	{"counted by a value", "let c = 2\nexpect $c /(Sora|Minami) 0.*/", "let c = 7\nexpect at most ($c - 6) button"},
	{"unequal", `expect number in #fare != number in #total`, `expect text in #fare != "€3.15"`},
	{"for", `expect #total for 1s`, `expect no #total for 1s`},
	{"app in front", `expect app in front`, "stop app\nexpect app in front\nexpect #nothing"},
	{"log", `expect log matches /crossings fetched/`, `expect log matches /paid/`},
	{"no errors", `expect no log matches /paid/`, `expect no errors in log`},
	{"start within", "start app\nexpect start within 2s", "tap #go\nexpect start within 2s"},
	{"memory", `expect memory below 300MB`, `expect memory below 200MB`},
	{"accessible", "if no \"Close\"\nexpect screen is accessible\nend", `expect screen is accessible`},
	{"if", "if #total\nnote \"here\"\nelse\ntap #nothing\nend",
		"if no #total\nnote \"here\"\nelse\nexpect #nothing\nend"},
	{"times", "2 times\ntap #go\nend", "2 times\nexpect #nothing\nend"},
	{"ask", `ask "walk ten steps"`, `ask "fly" within 1m`},
	{"a value that there is none of", "if no #total\nlet x = 1\nend\nnote \"so\"",
		"if no #total\nlet x = 1\nend\nexpect \"{x}\""},
	{"action", "do wave 2", "do fall from 3"},
}

func TestEachFormPassesAndFailsWithItsReport(t *testing.T) {
	var report strings.Builder
	run := func(steps string) (Result, *able) {
		text := "suite \"s\"\npatience 2s\naction wave $n\n$n times\nend\ncase \"c\"\nlet n = 1\n" + steps + "\nend\n"
		text = strings.Replace(text, "$n times\nend", "tap #go\nend", 1)
		text += "action fall from $floor\nlet under = $floor - 1\nexpect #ground\nend\n"
		s, findings := Read(text)
		require.Zero(t, Faults(findings), "%s: %+v", steps, findings)
		d := sample()
		return RunCase(context.Background(), s, s.Cases[0], d, sampleOptions(), nobody{}), d
	}
	for _, f := range eachForm {
		r, _ := run(f.passes)
		assert.Equal(t, verdict.Pass, r.Verdict, "%s: %s: %+v", f.name, f.passes, r.Failure)
		r, _ = run(f.fails)
		if !assert.NotEqual(t, verdict.Pass, r.Verdict, "%s: %s", f.name, f.fails) {
			continue
		}
		x := r.Failure
		fmt.Fprintf(&report, "%s: %s\n    %s, %s\n    expected %s\n    but %s\n", f.name, strings.ReplaceAll(f.fails,
			"\n", "; "), r.Verdict, x.Cause,
			x.Expected, x.Actual)
		for _, w := range x.Way {
			fmt.Fprintf(&report, "    called on line %d: %s\n", w.Line, w.Text)
		}
		if len(x.Difference) > 0 {
			fmt.Fprintf(&report, "    differs %v\n", x.Difference)
		}
		if len(x.Values) > 1 {
			fmt.Fprintf(&report, "    values %v\n", x.Values)
		}
		require.NotContains(t, fmt.Sprintf("%+v %+v", r, *x), hiddenWord, "what is secret is told nowhere")
		require.NotContains(t, fmt.Sprintf("%+v %+v", r, *x), "kujira-7711")
	}
	golden(t, "reports.txt", report.String())
}

var brokenCase = regexp.MustCompile(`(?m)^=== (.*)\n`)

// Each script of testdata/broken.txt has something wrong with it; what the check says of each
// stands in testdata/findings.txt.
func TestBrokenScriptsAreToldExactly(t *testing.T) {
	all, err := os.ReadFile("testdata/broken.txt")
	require.NoError(t, err)
	heads := brokenCase.FindAllStringSubmatchIndex(string(all), -1)
	require.GreaterOrEqual(t, len(heads), 100)
	var out strings.Builder
	for i, h := range heads {
		end := len(all)
		if i+1 < len(heads) {
			end = heads[i+1][0]
		}
		name, text := string(all[h[2]:h[3]]), string(all[h[1]:end])
		_, findings := ReadWith(text, FileMap{"steps/fine.yamato": "action wave\n  tap #hand\nend\n",
			"steps/circle.yamato": "use \"circle.yamato\"\naction a\n  tap #b\nend\n",
			"steps/suite.yamato":  "suite \"x\"\ncase \"y\"\n  expect #z\nend\n",
			"steps/faults.yamato": "action b\n  tpa #b\nend\n"})
		require.NotEmpty(t, findings, "%s", name)
		fmt.Fprintf(&out, "=== %s\n", name)
		for _, f := range findings {
			out.WriteString(f.Format("s.yamato"))
		}
	}
	golden(t, "findings.txt", out.String())
}
