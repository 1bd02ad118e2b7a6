package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/require"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/host/handset"
	"yamato/internal/store/pg"
)

// quay is an app that crashes where it is told that it may not know where it is.
const quay = `
let name = "", where = "unknown";
os.show(() => ui.column({pad: 20, gap: 12, ground: "#ffffff"},
  ui.text({role: "heading", text: "Quay"}),
  ui.field({id: "name", name: "Name", value: name, onInput: (v) => { name = v; }}),
  ui.text({id: "said", text: "Hello " + name}),
  ui.text({id: "where", text: where}),
  ui.button({id: "find", text: "Where am I", onTap: () => os.ask("location", (a) => {
    os.log("info", "quay", "answered " + a);
    if (a === "deny") throw new Error("no place to berth");
    where = a;
  })})));
os.log("info", "quay", "ready");`

// openSession opens one by command, and gives its number.
func (r *rig) openSession(args ...string) int64 {
	r.t.Helper()
	out, _ := r.must(0, append([]string{"session", "open", "--print", "--output", "json"}, args...)...)
	var in struct{ Session contract.Session }
	require.NoError(r.t, json.Unmarshal([]byte(out), &in))
	require.Equal(r.t, "open", in.Session.State)
	return in.Session.Number
}

func (r *rig) entries(number int64) []contract.SessionEntry {
	r.t.Helper()
	list, err := client.As[[]contract.SessionEntry](r.client.ListEntries(context.Background(), "default", number))
	require.NoError(r.t, err)
	return list
}

// awaitEntry waits until something stays of a session.
func (r *rig) awaitEntry(number int64, kind, text string) contract.SessionEntry {
	r.t.Helper()
	var found contract.SessionEntry
	require.Eventually(r.t, func() bool {
		for _, e := range r.entries(number) {
			if e.Kind == kind && strings.Contains(e.Text, text) {
				found = e
				return true
			}
		}
		return false
	}, patience, 50*time.Millisecond, "nothing of %s %q stays", kind, text)
	return found
}

func (r *rig) order(number int64, o contract.SessionOrder) contract.SessionAnswer {
	r.t.Helper()
	a, err := client.As[contract.SessionAnswer](r.client.OrderSession(context.Background(), "default", number, o))
	require.NoError(r.t, err)
	return a
}

func (r *rig) awaitSession(number int64, state string) contract.Session {
	r.t.Helper()
	var s contract.Session
	require.Eventually(r.t, func() bool {
		var err error
		s, err = client.As[contract.Session](r.client.GetSession(context.Background(), "default", number, nil))
		return err == nil && s.State == state
	}, patience, 50*time.Millisecond, "session %d does not come to be %s", number, state)
	return s
}

// TestASessionOnAStandInFromTheConsole is a person's whole session, by pointer and keyboard, in a real browser.
func TestASessionOnAStandInFromTheConsole(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{lease: "20s"})
	r.awaitIdle()
	r.wake()
	apk, _ := handIn(t, "quay", quay, `expect "Quay"`)
	d := newDesk(t, r)
	d.push(apk)
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	check := func(what string) {
		t.Helper()
		for _, theme := range []string{"day", "night"} {
			require.NoError(t, d.tab.Theme(theme))
			require.NoError(t, d.tab.Run(string(axe)))
			require.Empty(t, d.ask(`await axe.run(document, {resultTypes: ["violations"]}).then((r) => r.violations.map((v) => v.id + ": " + v.help + "\n" + v.nodes.slice(0, 4).map((n) => n.html.slice(0, 200)).join("\n")).join("\n\n"))`), "%s, %s", what, theme)
		}
	}
	d.visit("/by-hand")
	d.see("kaede-7-1")
	check("By hand")
	require.NoError(t, d.tab.Run(`[...document.querySelectorAll("li")].find((l) => l.textContent.includes("kaede-7-1")).querySelector("button:last-child").click()`))
	d.await(`location.pathname === "/by-hand/1"`)
	d.await(`document.querySelector("canvas")?.width > 100`)

	// The app, from the builds that are there.
	d.click("Apps")
	d.click("Build")
	d.click("quay 1.0")
	d.click("Install")
	d.see("in front")

	// Typing goes where the focus is: a touch at the field first, by the pointer at its place on the picture.
	touch := func(locator string) {
		t.Helper()
		a := r.order(1, contract.SessionOrder{Do: "line", Text: &locator})
		require.Nil(t, a.Trouble, "%v", a.Trouble)
	}
	touch("tap #name")
	require.NoError(t, d.tab.Run(`document.querySelector("textarea[aria-label^='Type into']").focus()`))
	d.press("Sora")
	require.NoError(t, d.tab.Run(`document.querySelector("textarea[aria-label^='Type into']").dispatchEvent(Object.assign(new ClipboardEvent("paste", {bubbles: true, cancelable: true, clipboardData: (() => { const d = new DataTransfer(); d.setData("text", " é漢😀"); return d; })()})))`))
	said := `expect #said shows "Hello Sora é漢😀"`
	require.Nil(t, r.order(1, contract.SessionOrder{Do: "line", Text: &said}).Trouble)
	check("a session that is open")

	// What is there: the card of an element, the tree walked by keys.
	d.click("Inside")
	d.click("Show the whole tree")
	d.await(`document.querySelectorAll("[role=treeitem]").length > 5`)
	require.NoError(t, d.tab.Run(`document.querySelector("[role=tree]").focus()`))
	d.await(`document.activeElement.getAttribute("role") === "tree"`)
	check("looking inside")

	// Surroundings, turned and put back.
	d.click("Surroundings")
	d.click("across")
	d.see("It is held across.")
	d.await(`(() => { const c = document.querySelector("canvas"); return c.width > c.height; })()`)
	check("surroundings")
	d.click("Undo all")
	d.await(`(() => { const c = document.querySelector("canvas"); return c.width < c.height; })()`)

	// By the one-line prompt, as who has no pointer does: ask, deny, and see it crash in the log.
	d.click("Kept")
	require.NoError(t, d.tab.Run(`document.getElementById("line").focus()`))
	d.press("tap #find")
	require.NoError(t, d.tab.Key("Enter"))
	d.see("tap #find")
	require.NoError(t, d.tab.Run(`document.getElementById("line").focus()`))
	d.press(`tap button called /Don.t allow/`)
	require.NoError(t, d.tab.Key("Enter"))
	crash := r.awaitEntry(1, "crash", "no place to berth")
	d.see("no place to berth")
	d.await(`[...document.querySelectorAll("section[aria-label=Log] button")].some((b) => b.textContent.includes("error"))`)

	// A video from now until stop.
	d.click("Video")
	d.see("Stop the video")
	home := "home"
	r.order(1, contract.SessionOrder{Do: "press", Text: &home})
	d.click("Stop the video")
	film := r.awaitEntry(1, "video", "video of")
	body, err := r.client.KeptOfSession(context.Background(), 1, film.Lease, film.Seq)
	require.NoError(t, err)
	video, err := io.ReadAll(body)
	require.NoError(t, errors.Join(err, body.Close()))
	require.True(t, bytes.HasPrefix(video, []byte{0x1a, 0x45, 0xdf, 0xa3}), "it is a WebM (RFC 8794)")
	d.await(`document.querySelector("video")`)

	// The service dies: the page goes on by itself, and what was kept before is still there.
	r.services[0].kill(syscall.SIGKILL)
	r.awaitService()
	after := "after the kill"
	require.Eventually(t, func() bool {
		a, err := client.As[contract.SessionAnswer](r.client.OrderSession(context.Background(), "default", 1,
			contract.SessionOrder{Do: "mark",
				Text: &after}))
		return err == nil && a.Trouble == nil
	}, patience, 50*time.Millisecond)
	d.see("after the kill")
	d.await(`![...document.querySelectorAll("[role=status]")].some((e) => e.textContent.includes("connection was lost"))`)

	// What it leaves: a mark, a finding with something drawn, and its file.
	require.NoError(t, d.tab.Run(`document.activeElement.blur()`))
	d.press("m")
	d.see("Mark this moment")
	d.press("it died")
	require.NoError(t, d.tab.Key("Enter"))
	mark := r.awaitEntry(1, "mark", "it died")
	require.Greater(t, mark.Seq, crash.Seq)
	d.await(`[...document.querySelectorAll("li")].some((l) => l.textContent.includes("it died") && l.textContent.includes("Make a finding of it"))`)
	require.NoError(t, d.tab.Run(`[...document.querySelectorAll("li")].find((l) => l.textContent.includes("it died")).querySelectorAll("button")[0].click()`))
	d.see("In a few words")
	d.press("It crashes where no place is given")
	d.click("Keep the finding")
	d.await(`location.pathname === "/findings/1"`)
	d.await(`document.querySelector("section[aria-label=Picture] img")?.naturalWidth > 0`)
	d.see("tap #find")
	d.see("no place to berth")
	for _, at := range []string{`"pointerdown", 0.2, 0.2`, `"pointermove", 0.5, 0.4`, `"pointerup", 0.5, 0.4`} {
		require.NoError(t, d.tab.Run(`{ const s = document.querySelector("section[aria-label=Picture] svg"), r = s.getBoundingClientRect(); s.setPointerCapture = () => {};
			const [type, x, y] = [`+at+`]; s.dispatchEvent(new PointerEvent(type, {bubbles: true, pointerId: 1, clientX: r.x + x * r.width, clientY: r.y + y * r.height})); }`))
	}
	require.Eventually(t, func() bool {
		f, err := client.As[contract.SeenFault](r.client.GetFinding(context.Background(), "default", 1))
		return err == nil && len(f.Marks) == 1 && f.Marks[0].Kind == "arrow"
	}, patience, 50*time.Millisecond, "what was drawn is kept")
	check("a finding")
	file := filepath.Join(t.TempDir(), "finding.zip")
	r.must(0, "finding", "fetch", "1", "--to", file)
	z, err := zip.OpenReader(file)
	require.NoError(t, err)
	defer z.Close()
	names := []string{}
	for _, f := range z.File {
		names = append(names, f.Name)
	}
	require.ElementsMatch(t, []string{"finding-1/finding-1.md", "finding-1/marked.png", "finding-1/plain.png"}, names)
	d.visit("/findings")
	d.see("It crashes where no place is given")
	check("findings")

	// The end, and the page afterwards.
	d.visit("/by-hand/1")
	d.await(`document.querySelector("canvas")?.width > 100`)
	d.click("End")
	d.click("End it")
	d.see("What happened")
	d.see("the device was cleaned")
	d.see("quay and its data")
	d.see("answered deny")
	check("a closed session")
	r.awaitDevice("kaede-7-1", in("idle"))
}

// TestASessionOnAHandsetFromTheConsole does what handsets are for.
func TestASessionOnAHandsetFromTheConsole(t *testing.T) {
	t.Parallel() // it mostly waits
	require.NoError(t, handset.Available(), "make browser installs Chromium")
	r := newRig(t, rigConfig{site: handsetSite, lease: "20s"})
	dir := samples(t)
	r.awaitIdle()
	r.must(0, "build", "push", filepath.Join(dir, "tideline-3.1.4-web.zip"))
	d := newDeskWith(t, r, "of 1 device")
	n := r.openSession("kaede-7-h1", "--build", "3.1.4")
	d.visit(fmt.Sprintf("/by-hand/%d", n))
	d.await(`document.querySelector("canvas")?.width > 100`)
	at := strings.Split(d.ask(`(() => { const r = document.querySelector("canvas").getBoundingClientRect(); return [r.x, r.y, r.width, r.height].join(" "); })()`), " ")
	require.Len(t, at, 4)
	tab := "tab called word(tickets)" // as the build that is in hand calls it
	for _, line := range []string{"tap " + tab, "set #passengers to 3",
		"expect number in #total = 3 * number in #single-fare"} {
		out, _ := r.must(0, "session", "do", fmt.Sprint(n), line)
		require.Contains(t, out, "ok  "+line)
	}
	console := "document.querySelector('#passengers').value + ' on board'"
	a := r.order(n, contract.SessionOrder{Do: "evaluate", Text: &console})
	require.Contains(t, *a.Text, "3 on board")
	d.see("set #passengers to 3")
	out, _, code := r.yamato("session", "do", fmt.Sprint(n), `expect "Nowhere" within 1s`)
	require.Equal(t, 1, code)
	require.Contains(t, out, `expected "Nowhere"`)
	picture := filepath.Join(t.TempDir(), "total.png")
	r.must(0, "session", "picture", fmt.Sprint(n), "--to", picture, "--name", "three on board")
	content, err := os.ReadFile(picture)
	require.NoError(t, err)
	require.True(t, bytes.HasPrefix(content, []byte("\x89PNG")))
	// A debugger of one's own reaches the app, and only while the session lasts.
	tool, err := r.client.Port(context.Background(), n)
	require.NoError(t, err)
	_, err = io.WriteString(tool, "GET /json/version HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
	require.NoError(t, err)
	answer := make([]byte, 512)
	_, err = tool.Read(answer)
	require.NoError(t, err)
	require.Contains(t, string(answer), "HTTP/1.1 200")
	r.must(0, "session", "end", fmt.Sprint(n), "--yes")
	_, err = io.Copy(io.Discard, tool)
	_ = err // it has ended, one way or the other
	_, err = r.client.Port(context.Background(), n)
	if err == nil {
		t.Log("the socket opens, and is closed with the reason")
	}
	d.see("What happened")
	out, _ = r.must(0, "session", "show", fmt.Sprint(n))
	require.Contains(t, out, "Tideline and its data")
	r.awaitIdle()
}

// as gives the service to another person of the project, by a token of their own.
func (r *rig) as(name string) *client.Service {
	r.t.Helper()
	r.query(`insert into access_token (project_id, kind, name, digest) select id, 'user', $1, $2 from project limit 1 returning name`, name,
		pg.Digest("a-long-token-of-"+name))
	c, err := client.Open(r.serviceURL(), "a-long-token-of-"+name, "default")
	require.NoError(r.t, err)
	return c
}

// watch opens the socket of somebody who looks on, and gives the status code where that is refused.
func (r *rig) watch(number int64, token string) (*websocket.Conn, int) {
	r.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	c, answer, err := websocket.Dial(ctx, fmt.Sprintf("%s/api/v1/projects/default/sessions/%d/live", r.serviceURL(),
		number),
		&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + token}}})
	code := 0
	if answer != nil {
		code = answer.StatusCode
	}
	if err != nil {
		return nil, code
	}
	c.SetReadLimit(8 << 20)
	r.t.Cleanup(func() { _ = c.CloseNow() })
	return c, code
}

// hears reads a socket until something is said on it.
func hears(t *testing.T, c *websocket.Conn, text string) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	for {
		sort, body, err := c.Read(ctx)
		require.NoError(t, err, "nobody said %q", text)
		if sort == websocket.MessageText && strings.Contains(string(body), text) {
			return
		}
	}
}

// TestASessionIsItsOwnersAndOutlivesServices goes through two services, kills one, and then the host.
func TestASessionIsItsOwnersAndOutlivesServices(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{services: 2})
	r.awaitIdle()
	r.wake()
	apk, _ := handIn(t, "quay", quay, `expect "Quay"`)
	r.must(0, "build", "push", apk)
	n := r.openSession("kaede-7-1", "--build", "1.0")
	ctx := context.Background()

	// Another person neither reads, nor steers, nor watches what is not shared.
	mira := r.as("mira")
	line := `expect "Quay"`
	for what, err := range map[string]error{
		"read": second(client.As[contract.Session](mira.GetSession(ctx, "default", n, nil))),
		"list": second(client.As[[]contract.SessionEntry](mira.ListEntries(ctx, "default", n))),
		"steer": second(client.As[contract.SessionAnswer](mira.OrderSession(ctx, "default", n,
			contract.SessionOrder{Do: "line", Text: &line}))),
		"end": second(client.As[contract.Session](mira.EndSession(ctx, "default", n))),
		"log": second(mira.SessionLog(ctx, n, "text")),
	} {
		var p *client.ProblemError
		require.ErrorAs(t, err, &p, what)
		require.Equal(t, http.StatusNotFound, p.Status, what)
	}
	_, code := r.watch(n, "a-long-token-of-mira")
	require.Equal(t, http.StatusNotFound, code)
	require.Equal(t, "[]", strings.TrimSpace(r.query(`select coalesce(json_agg(number), '[]')::text from session where asked_by = 'mira'`)))

	// Shared, she watches along and does not touch.
	yes := true
	_, err := client.As[contract.Session](r.client.ChangeSession(ctx, "default", n,
		contract.SessionPatch{Shared: &yes}))
	require.NoError(t, err)
	hers, _ := r.watch(n, "a-long-token-of-mira")
	require.NotNil(t, hers)
	hears(t, hers, `"stage":"open"`)
	require.NoError(t, hers.Write(ctx, websocket.MessageText, []byte(`{"order":{"id":7,"do":"press","text":"home"}}`)))
	hears(t, hers, "nothing was touched")
	require.NoError(t, hers.Write(ctx, websocket.MessageText, []byte(`not JSON`)))
	_, err = client.As[contract.SessionAnswer](mira.OrderSession(ctx, "default", n, contract.SessionOrder{Do: "line",
		Text: &line}))
	var p *client.ProblemError
	require.ErrorAs(t, err, &p)
	require.Equal(t, http.StatusForbidden, p.Status)

	// On either service it is the same session.
	token, err := os.ReadFile(filepath.Join(r.dir, "service", "user-token"))
	require.NoError(t, err)
	for _, s := range r.services {
		for i, a := range s.args {
			if a == "--listen" {
				other, err := client.Open("http://"+s.args[i+1], strings.TrimSpace(string(token)), "default")
				require.NoError(t, err)
				a, err := client.As[contract.SessionAnswer](other.OrderSession(ctx, "default", n,
					contract.SessionOrder{Do: "line", Text: &line}))
				require.NoError(t, err)
				require.Nil(t, a.Trouble)
			}
		}
	}
	note := "before the kill"
	r.order(n, contract.SessionOrder{Do: "mark", Text: &note})
	r.awaitEntry(n, "mark", note)

	// A service dies: the session goes on, and nothing that was kept is lost.
	r.services[0].kill(syscall.SIGKILL)
	r.awaitService()
	require.Eventually(t, func() bool {
		a, err := client.As[contract.SessionAnswer](r.client.OrderSession(ctx, "default", n,
			contract.SessionOrder{Do: "line", Text: &line}))
		return err == nil && a.Trouble == nil
	}, patience, 50*time.Millisecond, "it does not go on")
	r.awaitEntry(n, "mark", note)
	require.Equal(t, "open", r.awaitSession(n, "open").State)

	// The host dies: it is said, and the device comes back clean.
	r.host.kill(syscall.SIGKILL)
	closed := r.awaitSession(n, "closed")
	require.NotNil(t, closed.Why)
	require.Contains(t, *closed.Why, "restarted")
	r.awaitEntry(n, "mark", note)
	r.awaitDevice("kaede-7-1", in("idle"))
	next := r.openSession("kaede-7-1")
	a := r.order(next, contract.SessionOrder{Do: "tree"})
	body, err := json.Marshal(a.Tree)
	require.NoError(t, err)
	require.NotContains(t, string(body), "quay", "nothing is left of the app")
	r.must(0, "session", "end", fmt.Sprint(next), "--yes")
}

func second[T any](v T, err error) error {
	if c, ok := any(v).(io.Closer); ok && err == nil {
		_ = c.Close()
	}
	return err
}

// TestCleaningUndoesAllThatASessionChanged fills every kind of state that a device has, ends, and looks with a next
// session.
func TestCleaningUndoesAllThatASessionChanged(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	r.awaitIdle()
	r.wake()
	apk, _ := handIn(t, "keeps", `
let seen = os.store.get("seen") || "nothing";
os.store.set("seen", "somebody was here");
os.show(() => ui.column({}, ui.text({id: "seen", text: seen}),
  ui.text({id: "felt", text: [os.device.language, os.device.dark, os.device.across, os.device.text_size, os.device.zone, os.device.offline].join(" ")})));
os.onChange(() => {});`, `expect "nothing"`)
	r.must(0, "build", "push", apk)
	state := func(n int64) string {
		a := r.order(n, contract.SessionOrder{Do: "tree"})
		body, err := json.Marshal(a.Tree)
		require.NoError(t, err)
		return string(body)
	}
	n := r.openSession("kaede-7-1", "--build", "1.0")
	require.Contains(t, state(n), `"nothing"`)
	before := state(n)
	for name, level := range map[string]string{
		"appearance": "dark", "rotation": "landscape", "text size": "130%", "language": "de-DE",
		"time zone": "Asia/Tokyo",
		"network":   "none", "battery": "5%", "place": "1, 2", "clipboard": "secret", "permission location": "allow",
		"tilt": "0, 20, 0",
	} {
		a := r.order(n, contract.SessionOrder{Do: "feel", Name: &name, Text: &level})
		require.Nil(t, a.Trouble, "%s: %v", name, a.Trouble)
	}
	line := `text size 200%` // a line of script is as an order is
	require.Nil(t, r.order(n, contract.SessionOrder{Do: "line", Text: &line}).Trouble)
	felt := state(n)
	for _, want := range []string{"de-DE", "true", "200", "Asia/Tokyo"} {
		require.Contains(t, felt, want)
	}
	wrong, odd := "place", "100, 0"
	require.NotNil(t, r.order(n, contract.SessionOrder{Do: "feel", Name: &wrong, Text: &odd}).Trouble)
	r.must(0, "session", "end", fmt.Sprint(n), "--yes")
	clean := r.awaitEntry(n, "cleaned", "cleaned")
	items := fmt.Sprint((*clean.Detail)["items"])
	for _, want := range []string{"keeps and its data", "held across", "dark", "Asia/Tokyo", "no network", "5 %", "text at 200 %"} {
		require.Contains(t, items, want)
	}
	next := r.openSession("kaede-7-1", "--build", "1.0")
	require.Equal(t, revisionless(before), revisionless(state(next)), "the next one finds the device as this one did")
	r.must(0, "session", "end", fmt.Sprint(next), "--yes")
}

// revisionless is a tree without what counts up.
func revisionless(tree string) string {
	from := strings.Index(tree, `"revision":`)
	if from < 0 {
		return tree
	}
	to := strings.IndexAny(tree[from:], ",}")
	return tree[:from] + tree[from+to:]
}

// TestAPersonWaitsInTheRunsQueueAndGoesFirst has two sessions and a run want one device.
func TestAPersonWaitsInTheRunsQueueAndGoesFirst(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	r.awaitIdle()
	r.wake()
	apk, suite := handIn(t, "quay", quay, `expect "Quay"`)
	r.must(0, "build", "push", apk)
	ctx := context.Background()
	first := r.openSession("aster-petit-1")
	d := "aster-petit-1"
	runs := make(chan int, 1)
	go func() {
		_, _, code := r.yamato("try", suite, "--build", apk, "--on", "kaede-7-lite-1")
		runs <- code
	}()
	require.Zero(t, <-runs, "other devices are not held up")
	waiting, err := client.As[contract.Session](r.client.OpenSession(ctx, "default", nil, contract.NewSession{Device: &d}))
	require.NoError(t, err)
	require.Equal(t, "opening", waiting.State)
	third, err := client.As[contract.Session](r.client.OpenSession(ctx, "default", nil, contract.NewSession{Device: &d}))
	require.NoError(t, err)
	_, err = client.As[contract.Session](r.client.EndSession(ctx, "default", third.Number))
	require.NoError(t, err)
	require.Equal(t, "closed", r.awaitSession(third.Number, "closed").State,
		"who waits and does not want it any more is out of the queue")
	devices, err := client.As[[]contract.Device](r.client.ListDevices(ctx, "default", nil))
	require.NoError(t, err)
	for _, one := range devices {
		if one.Name == d {
			require.Contains(t, *one.AtHand, fmt.Sprintf("session %d", first), "it is said who has it")
		}
	}
	// It goes on elsewhere meanwhile, and takes its name along.
	out, _ := r.must(0, "session", "move", fmt.Sprint(first), "kaede-7-2")
	require.Contains(t, out, "goes on on kaede-7-2")
	require.Equal(t, "aster-petit-1", *r.awaitSession(waiting.Number, "open").Device, "whoever waits is next")
	r.must(0, "session", "end", fmt.Sprint(waiting.Number), "--yes")
	r.must(0, "session", "end", fmt.Sprint(first), "--yes")
	r.awaitIdle()
}

// TestASessionThatIsLeftAloneSaysSoAndEnds leaves one, and finds its device free.
func TestASessionThatIsLeftAloneSaysSoAndEnds(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	r.awaitIdle()
	r.wake()
	idle, away, d := int64(10_000), int64(1000), "kaede-7-1"
	s, err := client.As[contract.Session](r.client.OpenSession(context.Background(), "default", nil,
		contract.NewSession{Device: &d, IdleMs: &idle,
			AwayMs: &away}))
	require.NoError(t, err)
	r.awaitSession(s.Number, "open")
	token, err := os.ReadFile(filepath.Join(r.dir, "service", "user-token"))
	require.NoError(t, err)
	c, _ := r.watch(s.Number, strings.TrimSpace(string(token)))
	require.NotNil(t, c)
	hears(t, c, `"ends_in_ms":`)
	hears(t, c, "the device was not used for 10 s")
	closed := r.awaitSession(s.Number, "closed")
	require.Contains(t, *closed.Why, "not used")
	r.awaitIdle()
}

// TestAChecklistIsARunBesideTheAutomatedOnes has two people go through one on a device of each kind.
func TestAChecklistIsARunBesideTheAutomatedOnes(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	r.awaitIdle()
	apk, suite := handIn(t, "quay", quay, `expect "Quay"`)
	r.must(0, "build", "push", apk)
	file := filepath.Join(t.TempDir(), "before.md")
	require.NoError(t, os.WriteFile(file, []byte("# Before each release\n\n## Quay\n- [ ] It says where we are\n- [ ] Names are greeted\n"), 0o600))
	out, _ := r.must(0, "checklist", "save", file)
	require.Contains(t, out, "version 1: 2 things")
	out, _ = r.must(0, "checklist", "save", file)
	require.Contains(t, out, "version 1", "the same text is no other version")
	out, _ = r.must(0, "suite", "ls")
	require.NotContains(t, out, "Before each release", "it is no suite")
	out, _ = r.must(0, "checklist", "start", "before each release", "--build", "1.0", "--on", "Kaede 7", "--on",
		"Kaede 7 Lite")
	require.Contains(t, out, "Run 1: Before each release")
	require.Contains(t, out, "2 combinations")
	r.must(0, "try", suite, "--build", apk, "--on", "Kaede 7") // its devices are as free as before

	ctx := context.Background()
	mira := r.as("mira")
	detail := func() contract.RunDetail {
		d, err := client.As[contract.RunDetail](r.client.GetRun(ctx, "default", 1, nil))
		require.NoError(t, err)
		return d
	}
	legs := detail().Legs
	require.Len(t, legs, 2)
	note, none := "on the pier", ""
	for _, refused := range []contract.CaseMark{{Verdict: "skip", Note: &none}, {Verdict: "error"},
		{Verdict: "pass", Session: &legs[0].Id}} {
		_, err := client.As[struct{}](r.client.MarkCase(ctx, "default", 1, legs[0].Id, 0, refused))
		require.Error(t, err)
	}
	for _, mark := range []struct {
		by      *client.Service
		leg     int64
		index   int
		verdict contract.CaseMarkVerdict
	}{{r.client, legs[0].Id, 0, "fail"}, {mira, legs[0].Id, 0, "pass"}, {mira, legs[0].Id, 1, "pass"},
		{r.client, legs[1].Id, 0, "skip"}} {
		_, err := client.As[struct{}](mark.by.MarkCase(ctx, "default", 1, mark.leg, mark.index,
			contract.CaseMark{Verdict: mark.verdict, Note: &note}))
		require.NoError(t, err)
	}
	d := detail()
	require.Equal(t, []any{"running", 3, 0, 4}, []any{d.Run.State, d.Run.Results, d.Run.Fails, d.Run.Expected},
		"what was said again counts once")
	require.Equal(t, "finished", d.Legs[0].State)
	_, err := client.As[struct{}](r.client.MarkCase(ctx, "default", 1, legs[0].Id, 0, contract.CaseMark{Verdict: "fail",
		Note: &note}))
	require.Error(t, err, "what a finished leg says stands")
	r.must(0, "checklist", "mark", "1", "Quay: Names are greeted", "fail", "--on", "Lite", "--note", "nobody is")
	d = detail()
	require.Equal(t, []string{"finished", "fail"}, []string{d.Run.State, d.Run.Verdict})
	out, _, code := r.yamato("run", "show", "1")
	require.Equal(t, 1, code)
	require.Contains(t, out, "nobody is")

	// One that is given up ends, too.
	r.must(0, "checklist", "start", "Before each release", "--build", "1.0", "--on", "Kaede 7")
	r.must(0, "run", "cancel", "3", "--yes")
	require.Eventually(t, func() bool {
		d, err := client.As[contract.RunDetail](r.client.GetRun(ctx, "default", 3, nil))
		return err == nil && d.Run.FinishedAt != nil && d.Run.State == "cancelled"
	}, patience, 50*time.Millisecond)
}
