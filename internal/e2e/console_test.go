package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/browser"
	"yamato/internal/client"
	"yamato/internal/contract"
)

// desk is a person at the console: a browser that is signed in to a rig.
type desk struct {
	*rig
	browser *browser.Browser
	tab     *browser.Tab
}

func newDesk(t *testing.T, r *rig) *desk { return newDeskWith(t, r, "of 4 devices") }

// newDeskWith is a desk whose fleet strip says something else.
func newDeskWith(t *testing.T, r *rig, strip string) *desk {
	t.Helper()
	b, err := browser.Open(context.Background())
	require.NoError(t, err)
	t.Cleanup(b.Close)
	d := &desk{rig: r, browser: b}
	d.tab = d.open(d.signInLink())
	d.await(`location.pathname === "/"`)
	d.see(strip)
	return d
}

func (d *desk) signInLink() string {
	d.t.Helper()
	out, errOut, code := d.yamato("console", "--print")
	require.Zero(d.t, code, errOut)
	return strings.TrimSpace(out)
}

// open opens an address in a tab of its own. What its page complains of fails the test.
func (d *desk) open(url string) *browser.Tab {
	d.t.Helper()
	tab, err := d.browser.Tab()
	require.NoError(d.t, err)
	tab.Patience(patience)
	d.t.Cleanup(func() {
		if d.t.Failed() {
			if png, err := tab.Picture(); err == nil {
				path := filepath.Join(os.TempDir(), d.t.Name()+".png")
				_ = os.WriteFile(path, png, 0o600)
				d.t.Log("what the page showed is in", path)
			}
		}
		require.Empty(d.t, tab.Troubles(), "what a page complains of")
		tab.Close()
	})
	require.NoError(d.t, tab.Go(url))
	return tab
}

func (d *desk) visit(path string)       { d.t.Helper(); require.NoError(d.t, d.tab.Go(d.serviceURL()+path)) }
func (d *desk) see(text string)         { d.t.Helper(); require.NoError(d.t, d.tab.See(text)) }
func (d *desk) await(expression string) { d.t.Helper(); require.NoError(d.t, d.tab.Await(expression)) }
func (d *desk) click(name string)       { d.t.Helper(); require.NoError(d.t, d.tab.Click(name)) }
func (d *desk) press(keys string)       { d.t.Helper(); require.NoError(d.t, d.tab.Press(keys)) }

func (d *desk) ask(expression string) (out string) {
	d.t.Helper()
	require.NoError(d.t, d.tab.Ask("String("+expression+")", &out))
	return out
}

func (d *desk) push(files ...string) {
	d.t.Helper()
	_, errOut, code := d.yamato(append([]string{"build", "push"}, files...)...)
	require.Zero(d.t, code, errOut)
}

// wake boots every device, in no time: in real time that takes as long as it takes.
func (r *rig) wake() {
	r.t.Helper()
	for _, one := range r.awaitIdle() {
		_, errOut, code := r.yamato("device", "look", one.Name, "--to", r.t.TempDir())
		require.Zero(r.t, code, errOut)
	}
}

// crossings are the verdicts that the weave shows.
const crossings = `[...document.querySelectorAll("[role=gridcell]")].map((e) => e.dataset.verdict)`

func TestARunIsStartedOfTheBuildThatWasMeant(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	dir := samples(t)
	other, err := demo.PackAndroid(demo.App{ID: "example.elsewhere", Name: "Elsewhere",
		Version: demo.Version{Name: "1.0", Code: 1}, MinimumAPI: 30,
		Texts: map[string]map[string]string{"app_name": {"": "Elsewhere"}}})
	require.NoError(t, err)
	path := filepath.Join(dir, "elsewhere.apk")
	require.NoError(t, os.WriteFile(path, other, 0o600))
	r.awaitIdle()
	for _, args := range [][]string{{"build", "push", filepath.Join(dir, "tideline-3.1.4.apk")},
		{"build", "push", path},
		{"suite", "push", filepath.Join(dir, "suites")}} {
		_, errOut, code := r.yamato(args...)
		require.Zero(t, code, errOut)
	}
	d := newDesk(t, r)
	d.visit("/builds")
	chosen := func(words string) string {
		return fmt.Sprintf(`document.querySelector("[role=dialog] [aria-label=Build]")?.innerText.trim() === %q`, words)
	}
	d.click("Start a run of Tideline 3.1.4") // its number is that of the other app's build too
	d.await(chosen("Tideline 3.1.4 (58)"))
	d.click("Close")
	d.await(`!document.querySelector("[role=dialog]")`)
	d.click("Start a run of Elsewhere 1.0")
	d.await(chosen("Elsewhere 1.0 (1)"))
}

func TestTheConsoleFromSignInToAFailure(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	d := newDesk(t, r)

	// A package that is none is refused in words; those of one version make one build.
	broken := filepath.Join(dir, "broken.apk")
	require.NoError(t, os.WriteFile(broken, []byte("this is no package"), 0o600))
	require.NoError(t, d.tab.Drop(filepath.Join(dir, "tideline-3.2.0.apk"),
		filepath.Join(dir, "tideline-3.2.0-simulator.zip"), broken))
	d.await(`location.pathname === "/builds"`)
	d.see("in build 1, Tideline 3.2.0 (61), 2 packages")
	d.await(`document.querySelector("[data-state=refused]").innerText.includes("broken.apk")`)
	require.Contains(t, d.ask(`document.querySelector("[data-state=refused]").innerText`), "hand in an Android package")
	d.await(`document.querySelectorAll("tbody tr").length === 1`)

	// The service fetches from an address; what is missing there is told in words.
	address := offered(t, dir)
	d.click("From an address…")
	d.await(`document.activeElement.tagName === "TEXTAREA"`)
	d.press(address + "/tideline-3.2.0.ipa " + address + "/nothing.apk")
	d.click("Fetch 2 packages")
	d.see("in build 1, Tideline 3.2.0 (61), 3 packages")
	d.see("answers 404")
	d.await(`document.querySelectorAll("tbody tr").length === 1`)

	// What is handed in by command appears by itself.
	d.click("Suites")
	d.see("No suites yet.")
	_, errOut, code := r.yamato("suite", "push", filepath.Join(dir, "suites", "tickets.yamato"),
		filepath.Join(dir, "suites", "timetable.yamato"))
	require.Zero(t, code, errOut)
	d.see("Looking up a crossing")

	r.wake()
	// A run is started from the page, which says before what runs; and it is seen live.
	d.press("s")
	d.see("6 legs")
	d.click("Looking up a crossing")
	d.click("Kaede 7 Android 14")
	d.see("1 leg: 8 cases in 1 combination")
	d.click("Stand-ins at the pace of a person")
	d.click("Start the run")
	d.await(`location.pathname === "/runs/1"`)
	d.await(crossings + `.includes("running")`)
	d.see("1 under way")
	d.await(`document.querySelector("footer .unit-leased")`)

	// An attempt that lies open fills by itself.
	require.NoError(t, d.tab.Run(`document.querySelector("[role=gridcell][data-verdict=running]").click()`))
	d.see("See the screen of kaede-7")
	d.await(`document.querySelector("aside [role=option]")`)
	require.NoError(t, d.tab.Key("Escape"))
	d.await(`!document.querySelector("aside[aria-label=Attempt]")`)
	d.await(crossings + `.includes("pass") && document.querySelector("[role=progressbar]").ariaValueNow < 100`)
	d.await(crossings + `.sort().join() === "fail,pass,pass,pass,pass,pass,pass,pass"`)
	d.see("1 cause, 1 crossing")
	d.await(`document.querySelector("[aria-label='Verdict of the run']").innerText === "fail"`)

	// The failure opens where it failed, with its picture, the film and the log.
	d.click("expected number in #total = 9.45, but it is 6.3")
	d.see("nothing had changed for")
	d.await(`document.querySelector("[role=option][aria-selected=true]").innerText.includes("expect number in #total")`)
	d.see("tideline started in en-GB")
	d.await(`[...document.querySelectorAll("aside img")].length > 3 && [...document.querySelectorAll("aside img")].every((i) => i.complete && i.naturalWidth > 0)`)
	require.Contains(t, d.ask(`document.querySelector("aside img").alt`), "the place marked")
	require.Equal(t, "200 image/png", d.ask(`await fetch([...document.querySelectorAll("aside footer a")].find((a) => a.innerText === "picture failure").href).then((r) => r.status + " " + r.headers.get("content-type"))`))
	require.Equal(t, "200 application/zip", d.ask(`await fetch([...document.querySelectorAll("aside footer a")].find((a) => a.innerText === "all of it").href).then((r) => r.status + " " + r.headers.get("content-type"))`))

	// A link to it opens the same view elsewhere.
	link := d.ask(`location.href`)
	other := d.open(link)
	require.NoError(t, other.See("nothing had changed for"))
	require.NoError(t, other.Await(`document.querySelector("[role=gridcell][aria-selected=true]").dataset.verdict === "fail"`))
	require.NoError(t, other.Await(`[...document.querySelectorAll("aside img")].some((i) => i.naturalWidth > 0)`))

	// One case runs again, and the case's past is told with its suite.
	d.click("Run this again")
	d.await(`location.pathname === "/runs/2"`)
	d.await(crossings + `.join() === "fail"`)
	d.visit("/suites/Buying%20a%20ticket?case=three%20passengers%20pay%20three%20single%20fares")
	d.await(`document.querySelectorAll("a[aria-label='Run 2 of 3.2.0: fail']").length === 1`)
	d.await(`document.querySelector(".cm-here").innerText.includes("three passengers")`)
}

func TestADeviceIsLookedAt(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	d := newDesk(t, r)
	d.push(filepath.Join(dir, "tideline-3.2.0.apk"))
	d.visit("/fleet")
	d.click("kaede-7-1")
	d.click("Look at its screen")
	d.see("as it was at") // the home screen of a device with nothing to do
	d.click("and look")
	d.see("just started")
	d.await(`document.querySelector("[role=tree]").innerText.includes("#departures")`)

	// Pointing at the picture marks the element in the tree, and the card tells its lines.
	var at struct{ X, Y float64 }
	require.NoError(t, d.tab.Ask(`(() => { const r = document.querySelector("main img").getBoundingClientRect(); return {X: r.x + r.width * 0.46, Y: r.y + r.height - 30} })()`, &at))
	require.NoError(t, d.tab.Point(at.X, at.Y))
	d.see(`tap tab called "Tickets"`)
	d.await(`document.querySelector("[role=treeitem][aria-selected=true]").innerText.includes("Tickets")`)

	// And the other way round, by keyboard.
	require.NoError(t, d.tab.Ask(`document.querySelector("[role=tree]").focus()`, nil))
	require.NoError(t, d.tab.Key("Home"))
	for range 3 {
		require.NoError(t, d.tab.Key("ArrowDown"))
	}
	d.await(`document.querySelector("main img + span")`)
	require.NoError(t, d.tab.Key("Enter"))
	d.await(`document.querySelector("[aria-label='The element'] button")`)

	// It is told on the device's page; and the command shows the same screen.
	d.see("a look")
	out, errOut, code := r.yamato("device", "look", "kaede-7-1", "--to", filepath.Join(dir, "look"))
	require.Zero(t, code, errOut)
	require.Contains(t, out, "Monday 1 June")
}

func TestTheConsoleGoesOnAfterTheServiceWasLost(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{lease: "30s"})
	dir := samples(t)
	r.awaitIdle()
	d := newDesk(t, r)
	d.push(filepath.Join(dir, "tideline-3.2.0.apk"), filepath.Join(dir, "tideline-3.2.0-simulator.zip"))
	_, errOut, code := r.yamato("suite", "push", filepath.Join(dir, "suites", "tickets.yamato"),
		filepath.Join(dir, "suites", "timetable.yamato"))
	require.Zero(t, code, errOut)
	r.wake()
	_, errOut, code = r.yamato("run", "start", "--build", "3.2.0", "--suite", "Buying a ticket", "--real-time",
		"--case",
		"one passenger pays the single fare", "--case", "a ticket from Sora to Kujira can be paid")
	require.Zero(t, code, errOut)
	d.visit("/runs/1")
	d.await(crossings + `.includes("running")`)
	require.NoError(t, d.tab.Ask(`window.neverLeft = true`, nil))

	goOn := r.services[0].halt()
	d.see("The connection was lost at")
	d.see("nothing is lost, and it goes on by itself")
	goOn()
	r.awaitService()
	d.await(`!document.body.innerText.includes("The connection was lost")`)
	d.await(`document.querySelector("[aria-label='Verdict of the run']").innerText === "pass"`)

	// Without a gap, and without having been loaded anew.
	got, err := client.As[contract.RunDetail](r.client.GetRun(context.Background(), "default", 1, nil))
	require.NoError(t, err)
	var want []string
	for _, l := range got.Legs {
		for _, x := range l.Cases {
			want = append(want, x.Verdict)
		}
	}
	require.Len(t, want, 6)
	require.Equal(t, "true", d.ask(`window.neverLeft`))
	require.ElementsMatch(t, want, strings.Split(d.ask(crossings), ","))
}

func TestTheConsoleByKeyboardAlone(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	d := newDesk(t, r)
	d.push(filepath.Join(dir, "tideline-3.2.0.apk"))
	_, errOut, code := r.yamato("suite", "push", filepath.Join(dir, "suites", "tickets.yamato"),
		filepath.Join(dir, "suites", "timetable.yamato"))
	require.Zero(t, code, errOut)

	d.press("?")
	d.see("move over the weave")
	require.NoError(t, d.tab.Key("Escape"))
	d.await(`!document.querySelector("[role=dialog]")`)
	d.press("/")
	d.await(`document.activeElement.getAttribute("aria-label") === "Find"`)
	d.press("3.2.0")
	d.await(`document.querySelector("[role=option][aria-selected=true]")`)
	require.NoError(t, d.tab.Key("Enter"))
	d.await(`location.pathname === "/builds/1"`)
	d.see("of 4 devices can run it")

	d.press("s")
	d.see("4 legs")
	d.tabTo(`document.activeElement.innerText === "Start the run"`)
	require.NoError(t, d.tab.Key("Enter"))
	d.await(`location.pathname === "/runs/1"`)
	d.await(`document.querySelector("[aria-label='Verdict of the run']").innerText === "fail"`)
	d.tabTo(`document.activeElement.getAttribute("role") === "grid"`)
	d.press("j") // the first failure
	d.await(`document.getElementById(document.activeElement.getAttribute("aria-activedescendant")).dataset.verdict !== "pass"`)
	require.NoError(t, d.tab.Key("Enter"))
	d.await(`document.querySelector("aside[aria-label=Attempt] [role=group][aria-label='The failure']")`)
	require.NoError(t, d.tab.Key("Escape"))
	d.await(`!document.querySelector("aside[aria-label=Attempt]") && document.activeElement.getAttribute("role") === "grid"`)
	d.press("g")
	d.press("f")
	d.await(`location.pathname === "/fleet"`)
	d.tabTo(`document.activeElement.innerText === "kaede-7-1"`)
	require.NoError(t, d.tab.Key("Enter"))
	d.await(`location.pathname === "/fleet/kaede-7-1"`)
	d.press("t")
	d.await(`document.documentElement.dataset.theme === "night"`)
}

// tabTo presses Tab until the focus is where it is meant to be.
func (d *desk) tabTo(expression string) {
	d.t.Helper()
	for range 120 {
		if d.ask(`(() => { try { return !!(`+expression+`) } catch { return false } })()`) == "true" {
			return
		}
		require.NoError(d.t, d.tab.Key("Tab"))
	}
	require.Fail(d.t, "the focus never gets there", "%s; it is at %s", expression,
		d.ask(`document.activeElement.outerHTML.slice(0, 200)`))
}

// besideOf is the address of two attempts of the first run, side by side.
func besideOf(r *rig) string {
	at := func(offset int) string {
		return r.query(`select '1.' || r.leg_id || '.' || r.case_index || '.1' from result r join run w on w.id = r.run_id where w.number = 1
			and r.case_index = 0 order by r.leg_id offset $1 limit 1`, offset)
	}
	return "/beside?a=" + at(0) + "&b=" + at(1)
}

func TestAxeFindsNothingOnAnyPageInEitherTheme(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	d := newDesk(t, r)
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)

	check := func(what string) {
		t.Helper()
		// at night the page is the same, in other inks
		for theme, rules := range map[string]string{"day": "",
			"night": `, runOnly: {type: "rule", values: ["color-contrast"]}`} {
			require.NoError(t, d.tab.Theme(theme))
			require.NoError(t, d.tab.Run(string(axe)))
			found := d.ask(`await axe.run(document, {resultTypes: ["violations"]` + rules +
				`}).then((r) => r.violations.map((v) => v.id + ": " + v.help + "\n" + v.nodes.slice(0, 4).map((n) => n.html.slice(0, 200) + "\n  " + n.failureSummary).join("\n")).join("\n\n"))`)
			require.Empty(t, found, "%s, %s", what, theme)
		}
	}
	// A page is no wider than the window of a phone; what is wide in it scrolls by itself.
	fits := func(what string) {
		t.Helper()
		require.NoError(t, d.tab.Sized(375, 812))
		require.Equal(t, "", d.ask(`[document.documentElement, document.body, document.getElementById("page")].filter((e) => e && e.scrollWidth > 375).map((e) => e.tagName + " is " + e.scrollWidth + " wide").join(", ")`), what)
		require.NoError(t, d.tab.Sized(1280, 800))
	}
	check("Now, with nothing")
	for _, path := range []string{"/runs", "/suites", "/builds", "/nowhere"} {
		d.visit(path)
		d.await(`document.querySelector("h1, p.text-lg")`)
		check(path + ", empty")
	}
	d.push(filepath.Join(dir, "tideline-3.1.4.apk"), filepath.Join(dir, "tideline-3.1.4-simulator.zip"))
	d.push(filepath.Join(dir, "tideline-3.2.0.apk"))
	_, errOut, code := r.yamato("suite", "push", filepath.Join(dir, "suites", "tickets.yamato"),
		filepath.Join(dir, "suites", "timetable.yamato"))
	require.Zero(t, code, errOut)
	_, _, code = r.yamato("run", "start", "--build", "3.2.0", "--suite", "Buying a ticket", "--suite",
		"Looking up a crossing", "--repeat-failed", "1", "--wait")
	require.Equal(t, 1, code)
	plan := filepath.Join(t.TempDir(), "plan.yaml")
	require.NoError(t, os.WriteFile(plan, []byte(strings.Replace(smallPlan, "Small plan", "Every pair", 1)), 0o600))
	r.must(0, "plan", "save", plan)
	r.must(0, "plan", "start", "Every pair", "--combinations", "4")
	r.yamato("run", "follow", "2") // how it went depends on chance
	pages := []struct{ path, shows string }{
		{"/", "three passengers"}, {"/runs", "Run 1"}, {"/runs/1", "cause"}, {"/suites", "Buying a ticket"},
		{"/suites/Buying%20a%20ticket", "The check"}, {"/write", "Run the case"}, {"/write/Buying%20a%20ticket",
			"Buying a ticket"},
		{"/builds", "Tideline"}, {"/builds/1", "can run it"}, {"/builds/1?view=packages", "Application id"},
		{"/builds/2?view=changes", "build before"}, {"/builds/1?view=settings", "Request"}, {"/lineups?new", "Takes"},
		{"/fleet", "kaede-7-lite-1"}, {"/fleet/kaede-7-1", "What it did last"}, {"/fleet/kaede-7-1?look", "elements"},
		{"/runs?start=1", "cannot run"},
		{"/over-time", "Tideline"}, {"/over-time?tab=crashes", "No crash has been met"}, {"/runs/1/summary", "By case"},
		{"/runs/1/pictures?name=timetable", "timetable"}, {besideOf(r), "Steps"},
		{"/plans", "Every pair"}, {"/plans/Every%20pair", "combinations"}, {"/plans/Every%20pair?show=coverage",
			"Choose a cell"},
		{"/plans/Every%20pair?show=starts", "Revisions"}, {"/new-plan", "New plan"}, {"/calendar", "Every pair"},
		{"/runs/2?by=language", "by language"},
	}
	for _, p := range pages {
		d.visit(p.path)
		d.see(p.shows)
		check(p.path)
		fits(p.path)
	}
	d.visit("/runs/1")
	d.click("expected number in #total")
	d.await(`document.querySelector("aside img")`)
	check("a run with an attempt open")
	d.visit("/")
	d.see("three passengers")
	d.press("/")
	d.press("kaede")
	d.see("kaede-7-lite-1")
	check("search")
	require.NoError(t, d.tab.Key("Escape"))
	d.press("?")
	d.see("move over the weave")
	check("keys")
	require.NoError(t, d.tab.Ask(`fetch("/api/v1/session", {method: "DELETE"})`, nil))
	d.visit("/runs/1")
	d.see("This browser is not signed in")
	check("signed out")
}

func TestASignInLinkWorksOnceAndLeadsBack(t *testing.T) {
	r := newRig(t, rigConfig{})
	r.awaitIdle()
	d := newDesk(t, r)
	link := d.signInLink()
	require.NoError(t, d.tab.Ask(`fetch("/api/v1/session", {method: "DELETE"})`, nil))
	d.visit("/fleet?state=idle")
	d.see("This browser is not signed in")
	require.NoError(t, d.tab.Go(link))
	d.await(`location.pathname + location.search === "/fleet?state=idle"`)
	d.see("aster-petit-1")

	stranger, err := browser.Open(context.Background())
	require.NoError(t, err)
	defer stranger.Close()
	tab, err := stranger.Tab()
	require.NoError(t, err)
	require.NoError(t, tab.Go(link))
	require.NoError(t, tab.See("this sign-in link has been used or has run out"))
	require.NoError(t, tab.See("yamato console"))
	var code string
	require.NoError(t, tab.Ask(fmt.Sprintf(`String(await fetch(%q).then((r) => r.status))`, "/api/v1/about"), &code))
	require.Equal(t, "401", code)
}
