package handset

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/testbin"
)

// run judges the cases of a suite on one device, one after the other, as a leg does.
func runAll(t *testing.T, d *Device, text string) map[string]script.Result {
	t.Helper()
	s, findings := script.Read(text)
	require.Zero(t, script.Faults(findings), "%+v", findings)
	p := script.NewPlay(s, d, script.Options{App: "example.eye", Known: func(string) bool { return true },
		Opened: func(ctx context.Context) error { _, err := d.Feels(ctx, "example.eye"); return err }})
	out := map[string]script.Result{}
	for i, c := range s.Cases {
		out[c.Name] = p.Case(context.Background(), c, i == len(s.Cases)-1, unseen{})
	}
	return out
}

func passes(t *testing.T, results map[string]script.Result) {
	t.Helper()
	for name, r := range results {
		require.Equal(t, verdict.Pass, r.Verdict, "%s: %+v %v", name, r.Failure, r.Err)
	}
}

func TestWhatAPageDoesStaysInItsCase(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	d := kaede(t)
	opened(t, d, pagesOf(t, map[string]string{
		"crash": `<button id=go onclick="for(;;);">Go</button>`,
		"empty": ``, "later": `<script>setTimeout(() => { document.body.innerHTML = '<p id=come>Come</p>' }, 1500)</script>`,
		"index": `<p id=begin>Begin</p><a href="later.html" id=on>On</a><button id=back onclick="history.back()">Back</button><div id=pad style="height:300px;background:#eee">pad</div>`,
		"ask": `<button id=a onclick="this.textContent = confirm('Sure?') ? 'yes' : 'no'">Ask</button><button id=b onclick="alert('Told'); document.title = 'after'; this.textContent='told'">Tell</button>
			<button id=c onclick="this.textContent = prompt('Name?', 'Aya')">Name</button><script>addEventListener('beforeunload', (e) => { if (window.edited) e.preventDefault() })</script><input id=f oninput="edited = true"><a id=leave href="index.html">Leave</a>`,
	}))
	results := runAll(t, d, `suite "s"
patience 6s
case "an empty page is a page"
  start app
  follow link "/empty.html"
  expect no "anything"
  follow link "/later.html"
  expect #come shows "Come"
end
case "a question is no crash"
  start app
  follow link "/ask.html"
  tap #a
  expect alertdialog
  pause 3s
  tap button called "OK"
  expect #a shows "yes"
  tap #b
  expect "Told"
  pause 2s
  tap button called "OK"
  expect #b shows "told"
  tap #c
  expect textbox shows "Aya"
  tap button called "Cancel"
  expect #b
end
case "leaving is asked of the script"
  start app
  follow link "/ask.html"
  set #f to "x"
  tap #leave
  expect "Leave this page? What was entered may not be kept."
  tap button called "Cancel"
  expect #f shows "x"
  tap #leave
  tap button called "Leave"
  expect #begin
end
case "the way back ends at the first page"
  start app
  tap #back
  expect #begin for 1s
  swipe right
  expect #begin for 1s
  tap #on
  expect #come
end
`)
	passes(t, results)
}

func TestFieldsAndListsAsTheyCome(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	var many strings.Builder
	for i := range 60 {
		many.WriteString("<option>Pier " + string(rune('A'+i%26)) + string(rune('0'+i/26)) + "</option>")
	}
	d := kaede(t)
	opened(t, d, pagesOf(t, map[string]string{"index": `<p><select id=island onchange="said.textContent = this.value"><option>Sora</option><optgroup label="South"><option>Minami</option><option disabled>Tobi</option></optgroup></select></p>
		<p><select id=pier>` + many.String() + `</select></p><p id=said>-</p>
		<p><select id=several multiple size=4 onchange="picked.textContent = [...selectedOptions].map((o) => o.value).join('+')"><option>One</option><option>Two</option><option>Three</option></select></p><p id=picked>-</p>
		<p><input type=date id=day oninput="got.textContent = value" max="2030-01-01"></p><p><input type=time id=at></p><p><input type=month id=month></p><p><input type=color id=colour></p>
		<p><input type=range id=level min=0 max=200 oninput="got.textContent = value"></p><p><input type=datetime-local id=both></p><p id=got>-</p>
		<style>.sw input{opacity:0;position:absolute}.sw span{display:inline-block;width:50px;height:26px;background:#999}</style><label class=sw><input type=checkbox id=sw onchange="got.textContent = checked"><span></span></label>`}))
	results := runAll(t, d, `suite "s"
patience 5s
case "a list of the browser's own"
  start app
  choose "Minami" in #island
  expect #island shows "Minami"
  expect #said shows "Minami"
  choose "Pier C2" in #pier
  expect #pier shows "Pier C2"
end
case "a list of several"
  start app
  choose "One" in #several
  choose "Three" in #several
  expect #picked shows "One+Three"
  choose "One" in #several
  expect #picked shows "Three"
end
case "dates and the like"
  start app
  set #day to "2026-05-31"
  expect #got shows "2026-05-31"
  set #day to "01/06/2026"
  expect #day shows "2026-06-01"
  set #at to "9:40 pm"
  expect #at shows "21:40"
  set #month to "2026-05"
  expect #month shows "2026-05"
  set #colour to "#1d4e6b"
  expect #colour shows "#1d4e6b"
  set #level to 120
  expect #got shows 120
  set #both to "2026-05-31 09:40"
  expect #both shows "2026-05-31T09:40"
end
case "a switch that is drawn by others"
  start app
  expect #sw is unchecked
  tap #sw
  expect #sw is checked
  expect #got shows "true"
end
`)
	passes(t, results)
	r := runAll(t, d, "suite \"s\"\ncase \"c\"\nstart app\nset #day to \"soon\"\nend\ncase \"d\"\nstart app\nset #level to 500\nend\ncase \"e\"\nstart app\nchoose \"Tobi\" in #island\nend\n")
	require.Equal(t, verdict.Fail, r["c"].Verdict)
	require.Equal(t, script.Unusable, r["c"].Failure.Cause)
	require.Contains(t, r["c"].Failure.Actual, "it takes a date such as 2026-05-31")
	require.Contains(t, r["d"].Failure.Actual, "from 0 to 200")
	require.Contains(t, r["e"].Failure.Actual, "is disabled")
}

// beside serves what pages of another origin, streams and polls need.
func beside(t *testing.T) *httptest.Server {
	t.Helper()
	done := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Access-Control-Allow-Origin", "*")
		hold := func() {
			select {
			case <-r.Context().Done():
			case <-done:
			}
		}
		switch r.URL.Path {
		case "/frame":
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte(`<!doctype html><body style="margin:0"><p id=there>Of elsewhere</p><button id=pay onclick="this.textContent='Paid'">Pay</button>`))
		case "/stream":
			w.Header().Set("Content-Type", "text/plain")
			_, _ = w.Write([]byte("begin"))
			w.(http.Flusher).Flush()
			hold()
		case "/wait", "/picture", "/updates/poll":
			hold()
		}
	}))
	t.Cleanup(func() { close(done); s.Close() })
	return s
}

func TestWhatIsElsewhereIsSeenAndKeepsNothingBusy(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	s := beside(t)
	host := strings.TrimPrefix(s.URL, "http://")
	d := kaede(t, host)
	opened(t, d, pagesOf(t, map[string]string{
		"frame":   `<p>Before</p><iframe id=f src="` + s.URL + `/frame" width=300 height=120></iframe>`,
		"sandbox": `<iframe sandbox srcdoc="<p id=in>Boxed in</p>" width=300 height=60></iframe>`,
		"stream": `<p id=p>Here</p><script>fetch('` + s.URL +
			`/stream').then((r) => r.body.getReader().read()); fetch('` + s.URL + `/updates/poll')</script>`,
		"picture": `<p id=p>Here</p><img src="` + s.URL + `/picture" width=20 height=20>`,
		"worker": `<p id=p>Here</p><script>const w = new Worker(URL.createObjectURL(new Blob(["fetch('` + s.URL +
			`/wait'); postMessage('up')"]))); w.onmessage = (e) => { p.textContent = e.data }; navigator.sendBeacon('` +
			s.URL + `/wait', 'x')</script>`,
		"said": `<p id=p>Here</p><script>document.body.setAttribute('aria-busy', 'false'); fetch('` + s.URL +
			`/wait')</script>`,
		"waits": `<p id=p>Here</p><script>fetch('` + s.URL + `/wait')</script>`,
	}))
	results := runAll(t, d, `suite "s"
patience 4s
case "a frame of another origin"
  start app
  follow link "/frame.html"
  expect "Of elsewhere"
  expect #there is inside #f
  tap #pay
  expect #pay shows "Paid"
end
case "a frame in a sandbox"
  start app
  follow link "/sandbox.html"
  expect #in shows "Boxed in"
end
case "a stream and a poll"
  start app
  follow link "/stream.html"
  expect #p shows "Here"
  expect no "Wrong"
end
case "a picture that never comes"
  start app
  follow link "/picture.html"
  expect no "Wrong"
end
case "a worker and a beacon"
  start app
  follow link "/worker.html"
  expect #p shows "up"
  expect no "Wrong"
end
case "the app says that nobody waits"
  start app
  follow link "/said.html"
  expect no "Wrong"
end
`)
	passes(t, results)
	r := runAll(t, d, "suite \"s\"\npatience 2s\ncase \"c\"\nstart app\nfollow link \"/waits.html\"\nexpect no \"Wrong\"\nend\n")["c"]
	require.Equal(t, script.Awaited, r.Failure.Cause)
	require.Contains(t, r.Failure.Actual, "GET /wait")
	other := kaede(t, host)
	other.config.Overlook = []string{host + "/wait"}
	opened(t, other, pagesOf(t, map[string]string{"index": `<p id=p>Here</p><script>fetch('` + s.URL +
		`/wait')</script>`}))
	passes(t, runAll(t, other, "suite \"s\"\npatience 2s\ncase \"c\"\nexpect no \"Wrong\"\nend\n"))
}

func TestAWindowThatAPageOpensIsASecondScreen(t *testing.T) {
	t.Parallel()
	d := kaede(t)
	ctx := opened(t, d, pagesOf(t, map[string]string{
		"index": `<p id=main>Main</p><button id=open onclick="window.open('sign.html')">Sign in</button><a id=blank href="sign.html" target=_blank>Terms</a><p id=who>-</p><script>onmessage = (e) => { who.textContent = e.data }</script>`,
		"sign":  `<p id=sign>Sign in here</p><button id=done onclick="opener && opener.postMessage('Aya'); window.close()">Done</button>`}))
	passes(t, runAll(t, d, `suite "s"
patience 5s
case "a window"
  start app
  tap #open
  expect #sign
  expect no #main
  tap #done
  expect #who shows "Aya"
end
case "a link that opens one"
  start app
  tap #blank
  expect #sign
  press back
  expect #main
end
case "and it is gone with its case"
  start app
  expect #main
end
`))
	require.NoError(t, d.Stop(ctx, "example.eye"))
	require.Empty(t, d.behind)
	require.NoError(t, d.Start(ctx, "example.eye", device.Fresh))
	_, err := d.Readings(ctx)
	require.NoError(t, err)
}

func TestWhatAPersonMaySeeOtherwiseIsSaidToBeUnsure(t *testing.T) {
	t.Parallel()
	d := kaede(t)
	opened(t, d, pagesOf(t, map[string]string{"index": `<canvas id=c width=80 height=40 aria-label="Tide 2.1 m"></canvas><p id=faint style="opacity:.3">Faint</p><p id=plain>Plain</p>
		<div style="position:relative"><p id=half>Half</p><i style="position:absolute;inset:0;background:rgba(0,0,0,.4)"></i></div>`}))
	r := runAll(t, d, "suite \"s\"\ncase \"c\"\nexpect \"Tide 2.1 m\"\nexpect #faint\nexpect #plain\nexpect #half\nend\n")["c"]
	require.Equal(t, verdict.Pass, r.Verdict, "%+v", r.Failure)
	notes := map[string]string{}
	for _, s := range r.Steps {
		notes[s.Text] = s.Note
	}
	require.Contains(t, notes[`expect "Tide 2.1 m"`], "not sure: img #c")
	require.Contains(t, notes["expect #faint"], "faint")
	require.Empty(t, notes["expect #plain"])
	require.Contains(t, notes["expect #half"], "half clear")
}

func TestWhatThePlatformDoesBesideThePage(t *testing.T) {
	t.Parallel()
	app := pagesOf(t, map[string]string{"index": `<div id=from draggable=true style="width:120px;height:50px;background:#cde" ondragstart="event.dataTransfer.setData('text/plain', 'Sora')">Drag me</div>
		<div id=to style="width:200px;height:80px;margin-top:60px;background:#eee" ondragover="event.preventDefault()" ondrop="event.preventDefault(); said.textContent = 'dropped ' + event.dataTransfer.getData('text/plain')">Here</div>
		<div id=hold style="width:200px;height:50px;margin-top:20px;background:#fed" oncontextmenu="said.textContent = 'menu'; event.preventDefault()">Hold</div><p id=said>-</p>
		<button id=copy onclick="navigator.clipboard.writeText('quay 3').then(() => { said.textContent = 'copied' })">Copy</button><button id=paste onclick="navigator.clipboard.readText().then((s) => { said.textContent = '[' + s + ']' })">Paste</button>
		<button id=cam onclick="navigator.mediaDevices.getUserMedia({video: true, audio: true}).then((s) => { said.textContent = s.getTracks().length + ' tracks' }, (e) => { said.textContent = e.name })">Camera</button>
		<button id=note onclick="new Notification('Late'); print(); said.textContent = 'noted'">Note</button><a id=get href="data:application/octet-stream,abc" download="x.bin">Get</a>`})
	d, other := kaede(t), kaede(t)
	opened(t, d, app)
	opened(t, other, app)
	passes(t, runAll(t, d, `suite "s"
patience 6s
case "a drag of the platform's"
  start app
  drag #from onto #to
  expect #said shows "dropped Sora"
end
case "a long press"
  start app
  hold #hold
  expect #said shows "menu"
end
case "a copy"
  start app
  tap #copy
  expect #said shows "copied"
  tap #paste
  expect #said shows "[quay 3]"
end
case "and the next case finds nothing of it"
  start app
  tap #paste
  expect #said shows "[]"
  tap #copy
  expect #said shows "copied"
end
case "a camera that is made up"
  allow camera
  allow microphone
  start app
  tap #cam
  expect #said shows "2 tracks"
end
case "what nobody draws is said"
  allow notifications
  start app
  tap #note
  tap #get
  expect #said shows "noted"
  expect log matches /shows a notification.*Late/
  expect log matches /asks to print/
end
`))
	passes(t, runAll(t, other, "suite \"s\"\npatience 6s\ncase \"another handset has a clipboard of its own\"\nstart app\ntap #paste\nexpect #said shows \"[]\"\nend\n"))
}
