package e2e

import (
	"encoding/json"
	"fmt"
	"image"
	_ "image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
	"yamato/internal/host/handset"
)

// feltPlan has one combination, in which every factor has a level that is not the usual one.
const feltPlan = `plan: Felt
app: %s
suites: [What is felt]
factors:
  device: from devices
  language: [de-DE]
  rotation: [landscape]
  appearance: [dark]
  text size: [150%%]
  time zone: Asia/Tokyo
  network: [slow]
  place: ["34.74, 139.12"]
  permission location: [allow]
  traveller: [child]
cover: all
`

// felt saves and runs the plan on the newest build, and gives the run with the folder of its evidence.
func (r *rig) felt(app, suite string) (contract.RunDetail, string) {
	r.t.Helper()
	dir := r.t.TempDir()
	require.NoError(r.t, os.WriteFile(filepath.Join(dir, "felt.yamato"), []byte(suite), 0o600))
	require.NoError(r.t, os.WriteFile(filepath.Join(dir, "felt.yaml"), fmt.Appendf(nil, feltPlan, app), 0o600))
	r.must(0, "suite", "push", filepath.Join(dir, "felt.yamato"))
	r.must(0, "plan", "save", filepath.Join(dir, "felt.yaml"))
	out, _ := r.must(0, "plan", "try", "Felt")
	require.Contains(r.t, out, "1 combination in 1 leg")
	out, _ = r.must(0, "plan", "start", "Felt", "--output", "json")
	var run contract.Run
	require.NoError(r.t, json.Unmarshal([]byte(out), &run))
	out, _, code := r.yamato("run", "follow", fmt.Sprint(run.Number))
	require.Zero(r.t, code, out)
	evidence := filepath.Join(dir, "evidence")
	r.must(0, "run", "fetch", fmt.Sprint(run.Number), evidence)
	return r.run(int(run.Number)), evidence
}

// picture finds a picture of the evidence by its name, and gives its size and how bright it is, 0 to 1.
func picture(t *testing.T, evidence, name string) (size image.Point, bright float64) {
	t.Helper()
	var found string
	require.NoError(t, filepath.Walk(evidence, func(path string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() && strings.HasSuffix(path, ".png") && strings.Contains(filepath.Base(path),
			name) {
			found = path
		}
		return err
	}))
	require.NotEmpty(t, found, "the picture %s is among the evidence", name)
	f, err := os.Open(found)
	require.NoError(t, err)
	defer f.Close()
	img, _, err := image.Decode(f)
	require.NoError(t, err)
	b := img.Bounds()
	sum, n := 0.0, 0.0
	for y := b.Min.Y; y < b.Max.Y; y += 7 {
		for x := b.Min.X; x < b.Max.X; x += 7 {
			r, g, bl, _ := img.At(x, y).RGBA()
			sum += float64(r+g+bl) / 3 / 0xffff
			n++
		}
	}
	return b.Size(), sum / n
}

// circumstances gives what the run's only attempt noted of what it was made under.
func (r *rig) circumstances(run int64) (c struct {
	Levels []contract.Level `json:"levels"`
}) {
	r.t.Helper()
	require.NoError(r.t, json.Unmarshal([]byte(r.query(`select l.circumstances::text from lease l join attempt a on a.lease_id = l.id join run r on r.id = a.run_id where r.number = $1`, run)), &c))
	return c
}

var feltLevels = map[string]string{"language": "de-DE", "rotation": "landscape", "appearance": "dark",
	"text size": "150%",
	"time zone": "Asia/Tokyo",
	"network":   "slow", "place": "34.74, 139.12", "permission location": "allow", "traveller": "child"}

func requireFelt(t *testing.T, levels []contract.Level) {
	t.Helper()
	got := map[string]string{}
	for _, l := range levels {
		got[l.Factor] = l.Value
	}
	require.Equal(t, feltLevels, got)
}

// On a stand-in each level of a run is what the app is told, what the screen shows, and what the
// attempt's circumstances say; the next lease finds nothing of it.
func TestEveryLevelIsFeltOnAStandIn(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{site: `
site: bench
driver: standin
models:
  - {model: Kaede 7, platform: android, form: phone, width: 408, height: 896, cutout: hole, memory_mb: 8192}
devices:
  - {name: kaede-7-1, model: Kaede 7, kind: emulator, os: "14"}
`})
	r.awaitIdle()
	r.must(0, "build", "push", filepath.Join(samples(t), "tideline-3.1.4.apk"))
	suite := `suite "What is felt"
given traveller = "adult"
case "all of it is told and shown"
  expect $traveller = "child"
  expect log matches /started in de-DE/
  tap tab called word(map)
  scroll to #here
  expect #here contains "Kujira"
  picture as "felt"
  rotate to portrait
end
case "it holds in the next case, whatever the case before changed"
  expect $traveller = "child"
  picture as "again"
end
`
	d, evidence := r.felt("Tideline", suite)
	require.Equal(t, "pass", d.Run.Verdict)
	requireFelt(t, d.Legs[0].Combination.Levels)
	requireFelt(t, r.circumstances(d.Run.Number).Levels)
	for _, name := range []string{"felt", "again"} {
		size, _ := picture(t, evidence, name)
		require.Greater(t, size.X, size.Y, "%s: it is held across", name)
	}
	usual := strings.ReplaceAll(strings.ReplaceAll(suite, `"child"`, `"adult"`), "de-DE", "en-GB")
	usual = strings.ReplaceAll(strings.Replace(usual, "  expect #here contains \"Kujira\"\n", "", 1),
		"  scroll to #here\n", "")
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, "usual.yamato"), []byte(usual), 0o600))
	out, _ := r.must(0, "try", filepath.Join(r.dir, "usual.yamato"), "--build", "3.1.4", "--on", "Kaede 7")
	require.Contains(t, out, "pass", "nothing of it is left on the device")
}

// On a handset a page says itself what it feels.
func TestEveryLevelIsFeltOnAHandset(t *testing.T) {
	t.Parallel() // it mostly waits
	require.NoError(t, handset.Available(), "make browser installs Chromium")
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/site.webmanifest" {
			_, _ = io.WriteString(w, `{"name": "Feeler", "start_url": "/feel", "display": "standalone"}`)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width">
<link rel="manifest" href="/site.webmanifest"><title>Feeler</title>
<style>@media (prefers-color-scheme: dark) { body { background: #101010; color: #f0f0f0 } }</style>
<p id="language"></p><p id="zone"></p><p id="held"></p><p id="look"></p><p id="text"></p><p id="place">asking</p><p id="answer"></p>
<script>
const say = (id, text) => { document.getElementById(id).textContent = text };
say("language", navigator.language);
addEventListener("languagechange", () => say("language", navigator.language));
say("zone", Intl.DateTimeFormat().resolvedOptions().timeZone);
say("held", innerWidth > innerHeight ? "across" : "upright");
const dark = matchMedia("(prefers-color-scheme: dark)"), look = () => say("look", dark.matches ? "dark" : "light");
dark.onchange = look;
look();
say("text", "text " + Math.round(parseFloat(getComputedStyle(document.documentElement).fontSize)));
navigator.geolocation.getCurrentPosition((p) => say("place", p.coords.latitude.toFixed(2) + " " + p.coords.longitude.toFixed(2)), (e) => say("place", e.message));
const began = performance.now();
fetch("/feel?again").then(() => say("answer", performance.now() - began > 300 ? "slow" : "fast"));
</script>`)
	}))
	t.Cleanup(app.Close)
	host := strings.TrimPrefix(app.URL, "http://")
	r := newRig(t, rigConfig{site: strings.Replace(handsetSite, "kind: emulator}",
		`kind: emulator, handset: {reach: ["`+host+`"]}}`, 1)})
	r.awaitIdle()
	r.must(0, "build", "push", app.URL+"/")
	d, evidence := r.felt("Feeler", `suite "What is felt"
given traveller = "adult"
case "all of it is told and shown"
  expect $traveller = "child"
  expect #language shows "de-DE"
  expect #held shows "across"
  expect #look shows "dark"
  expect #text shows "text 24"
  expect #place shows "34.74 139.12"
  expect #answer shows "slow"
  expect #zone shows "Asia/Tokyo"
  picture as "felt"
end
case "a case changes it while the app runs"
  appearance light
  expect #look shows "light"
  language "pt-PT"
  expect #language shows "pt-PT"
  text size 100%
  time zone "Europe/Lisbon"
  stop app
  start app
  expect #text shows "text 16"
  expect #zone shows "Europe/Lisbon"
  appearance dark
  expect #look shows "dark"
  appearance light
end
case "and the next case finds what the run has it feel"
  expect #look shows "dark"
  expect #language shows "de-DE"
  expect #text shows "text 24"
  expect #zone shows "Asia/Tokyo"
end
`)
	require.Equal(t, "pass", d.Run.Verdict)
	requireFelt(t, r.circumstances(d.Run.Number).Levels)
	size, bright := picture(t, evidence, "felt")
	require.Greater(t, size.X, size.Y, "it is held across")
	require.Less(t, bright, 0.3, "it is dark")
}

const smallPlan = `plan: Small plan
app: Tideline
suites: [Looking up a crossing]
factors:
  model: from devices
  language: [en-GB, de-DE]
  appearance: [light, dark]
cover: pairs
when:
  cron: "0 2 * * *"
`

// A plan is written in the console with what it comes to beside it, saved, started, seen in the
// calendar and moved there; and its run is put together by a factor.
func TestAPlanIsWrittenStartedAndMovedInTheConsole(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	d := newDesk(t, r)
	d.push(filepath.Join(dir, "tideline-3.1.4.apk"), filepath.Join(dir, "tideline-3.1.4-simulator.zip"))
	r.must(0, "suite", "push", filepath.Join(dir, "suites"))
	d.visit("/plans")
	d.see("No plans yet.")
	d.click("Write one here")
	d.await(`document.querySelector(".cm-content")`)
	write := func(text string) {
		d.ask(`document.querySelector(".cm-content").focus() ?? ""`)
		require.NoError(t, d.tab.Control("a"))
		require.NoError(t, d.tab.Insert(text))
	}
	write(strings.Replace(smallPlan, "cover: pairs", "cover: pears", 1))
	d.see("line 8: `cover` is all, each, pairs or triples")
	d.see("did you mean `pairs`?")
	write(smallPlan)
	d.see("of 12 combinations")
	d.await(`document.querySelectorAll("[role=rowgroup] [role=row]").length >= 6`)
	require.NoError(t, d.tab.Control("s"))
	d.await(`location.pathname === "/plans/Small%20plan"`)
	d.see("revision 1, saved by") // of the page that comes, and not of the one that goes
	d.click("Coverage")
	d.see("Choose a cell to read about it.")
	d.ask(`[...document.querySelectorAll("[role=gridcell] button")].find((b) => b.title.startsWith("model with language")).click() ?? ""`)
	d.see("model with language: 6 of 6 pairs covered")

	d.visit("/calendar")
	const monday = `(document.getElementById("page").innerText.match(/Mon, \w+ \d+/)?.[0] ?? "")` // in the head of the week
	d.await(monday)
	this := d.ask(monday)
	d.click("The week after") // of this one there may be nothing left, or all of it
	d.await(fmt.Sprintf(`%s !== %q && document.querySelectorAll("[role=group] button").length === 7 && `+
		`document.querySelector("[role=group] button").textContent.includes(%s)`, monday, this, monday))
	d.ask(`document.querySelector("[role=group] button").focus() ?? ""`)
	require.NoError(t, d.tab.Key("Enter"))
	d.see("Another time, for this one start")
	moved := d.ask(`(() => { const i = document.querySelector("input[type=datetime-local]"); const to = i.value.replace(/T..:../, "T05:30"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, to); i.dispatchEvent(new Event("input", {bubbles: true})); return to })()`)
	require.NotEmpty(t, moved)
	d.click("Move it")
	d.await(`[...document.querySelectorAll("[role=group] button")].some((b) => b.innerText.includes("05:30") && b.title.includes("will start, moved"))`)
	require.Equal(t, "1", r.query(`select count(*)::text from plan_start where state = 'due' and due > now()`))

	d.visit("/plans/Small%20plan")
	d.see("next start")
	d.click("Start now")
	d.await(`location.pathname === "/runs/1"`)
	r.must(0, "run", "follow", "1")
	d.visit("/runs/1?by=language")
	d.await(`document.querySelectorAll("[role=gridcell]").length > 6`)
	d.await(`[...document.querySelectorAll("[aria-expanded=true]")].some((b) => b.ariaLabel.startsWith("de-DE"))`)
	d.ask(`[...document.querySelectorAll("[aria-expanded=true]")].find((b) => b.ariaLabel.startsWith("de-DE")).click() ?? ""`)
	d.await(`new URLSearchParams(location.search).get("folded") === "de-DE"`)
	d.await(`[...document.querySelectorAll("[role=columnheader]")].some((h) => h.innerText.includes("de-DE, all "))`)
	d.see("of the plan")
	out, _ := r.must(0, "plan", "calendar", "--feed")
	feed, err := http.Get(strings.Fields(out)[0])
	require.NoError(t, err)
	defer feed.Body.Close()
	text, err := io.ReadAll(feed.Body)
	require.NoError(t, err)
	require.Contains(t, string(text), "SUMMARY:Small plan: pass", "whoever knows the address reads the calendar")
	d.visit("/plans")
	d.await(`document.querySelector("a[href='/runs/1']")`)
	d.see("run 1, pass")
}

// Two services, each of which is killed when it comes to the point: between noting that a plan is to
// start and starting it, or between starting it and saying so. A build that arrives is one run.
func TestAStartIsOneRunWhereverTheLeaderDies(t *testing.T) {
	t.Parallel() // it mostly waits
	dir := samples(t)
	for _, point := range []string{"starts-noted:1", "start-made:1"} {
		r := newRig(t, rigConfig{services: 2, killAt: map[string]string{"service-0": point, "service-1": point}})
		r.awaitIdle()
		r.must(0, "suite", "push", filepath.Join(dir, "suites"))
		plan := filepath.Join(t.TempDir(), "plan.yaml")
		require.NoError(t, os.WriteFile(plan, []byte("plan: Whatever comes in\napp: Tideline\nbuild: arriving\n"+
			"suites: [Looking up a crossing]\nfactors: {language: [en-GB]}\nwhen: {busy: wait}\n"), 0o600))
		r.must(0, "plan", "save", plan)
		r.must(0, "build", "push", filepath.Join(dir, "tideline-3.1.4.apk"))
		died := func() int { return r.services[0].died() + r.services[1].died() }
		require.Eventually(t, func() bool {
			return died() >= 1 && r.query(`select count(*)::text from plan_start where state = 'started'`) == "1"
		}, patience, 20*time.Millisecond, point)
		d := r.finish(r.run(1).Run)
		require.Equal(t, "finished", d.Run.State, point)
		require.Equal(t, "1 1", r.query(`select (select count(*) from plan_start) || ' ' || (select count(*) from run)`), point)
	}
}
