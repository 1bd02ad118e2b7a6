package e2e

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"yamato/internal/blob/bucket/buckettest"
	"yamato/internal/contract"
	"yamato/internal/core/readings"
	"yamato/internal/host/handset"
)

// kept gives the path of the one piece of evidence that ends so, "" where there is none.
func kept(t *testing.T, dir, ends string) string {
	t.Helper()
	found := ""
	require.NoError(t, filepath.Walk(dir, func(path string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() && strings.HasSuffix(path, ends) {
			found = path
		}
		return err
	}))
	return found
}

// flash is when the screen is red, in milliseconds of the device's time since the case began, as each
// sort of evidence has it; the log and the network have a moment, pictures and video the first that shows it.
type flash struct{ log, call, film, video float64 }

func red(img image.Image) bool {
	b := img.Bounds()
	r, g, bl, _ := img.At(b.Min.X+b.Dx()/2, b.Min.Y+b.Dy()*2/3).RGBA()
	return r > 0xa000 && g < 0x6000 && bl < 0x6000
}

// flashed reads all clocks of a case's evidence.
func flashed(t *testing.T, dir string) flash {
	t.Helper()
	out := flash{-1, -1, -1, -1}
	log, err := os.ReadFile(kept(t, dir, "-log.txt"))
	require.NoError(t, err)
	m := regexp.MustCompile(`(?m)^\s*(\d+\.\d+) \S+\s+[^:]*: .*red now`).FindSubmatch(log)
	require.NotNil(t, m, "%s", log)
	at, err := strconv.ParseFloat(string(m[1]), 64)
	require.NoError(t, err)
	out.log = at * 1000

	body, err := os.ReadFile(kept(t, dir, ".har"))
	require.NoError(t, err)
	requireHAR(t, body)
	var archive struct {
		Log struct {
			Entries []struct {
				At      float64 `json:"_at_ms"`
				Request struct{ URL string }
			}
		}
	}
	require.NoError(t, json.Unmarshal(body, &archive))
	for _, e := range archive.Log.Entries {
		if strings.Contains(e.Request.URL, "red") {
			out.call = e.At
		}
	}
	z, err := zip.OpenReader(kept(t, dir, ".zip"))
	require.NoError(t, err)
	defer z.Close()
	var list []struct {
		File string  `json:"file"`
		AtMS float64 `json:"at_ms"`
	}
	text, err := z.Open("film.json")
	require.NoError(t, err)
	require.NoError(t, json.NewDecoder(text).Decode(&list))
	for _, f := range list {
		p, err := z.Open(f.File)
		require.NoError(t, err)
		img, _, err := image.Decode(p)
		require.NoError(t, err)
		if red(img) && out.film < 0 {
			out.film = f.AtMS
		}
	}
	video := kept(t, dir, ".webm")
	frames := t.TempDir()
	told, err := exec.Command("ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "frame=pts_time",
		"-of", "csv=p=0", video).Output()
	require.NoError(t, err)
	require.NoError(t, exec.Command("ffmpeg", "-v", "error", "-i", video, "-vsync", "0",
		filepath.Join(frames, "%05d.png")).Run())
	for i, line := range strings.Fields(string(told)) {
		f, err := os.Open(filepath.Join(frames, fmt.Sprintf("%05d.png", i+1)))
		require.NoError(t, err)
		img, _, err := image.Decode(f)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		if red(img) {
			s, err := strconv.ParseFloat(strings.Trim(line, ","), 64)
			require.NoError(t, err)
			out.video = s * 1000
			break
		}
	}
	return out
}

// foreign takes out of a schema what is of another dialect: its name, and expressions that Go does not know.
func foreign(v any) {
	switch v := v.(type) {
	case map[string]any:
		for _, k := range []string{"$id", "$schema", "pattern"} {
			delete(v, k)
		}
		for _, one := range v {
			foreign(one)
		}
	case []any:
		for _, one := range v {
			foreign(one)
		}
	}
}

// requireHAR holds an archive to the schema of HAR 1.2, as others publish it.
func requireHAR(t *testing.T, body []byte) {
	t.Helper()
	files, err := filepath.Glob("../../web/node_modules/har-schema/lib/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files, "make test installs it")
	c := jsonschema.NewCompiler()
	for _, path := range files {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		foreign(doc)
		require.NoError(t, c.AddResource("http://har/"+filepath.Base(path), doc))
	}
	s, err := c.Compile("http://har/har.json")
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	require.NoError(t, err)
	require.NoError(t, s.Validate(doc))
}

// frameMS is how far apart clocks may be: a frame of a video of 25 a second.
const frameMS = 40

// The clocks of all sorts of evidence are one: a screen that flashes red, and says so, does so at the same time in all.
func TestEverySortOfEvidenceHasTheCasesTimeOnAStandIn(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	apk, suite := handIn(t, "flasher", `
let red = false;
os.show(() => ui.column({grow: 1, ground: red ? '#d00000' : '#f0f0f0'}, ui.text({id: 'now', text: red ? 'red' : 'pale', ink: '#000000'})));
os.after(1230, () => { red = true; os.log('info', 'flasher', 'red now');
  os.request({ms: 200, method: 'POST', address: 'https://sorane.example/red?from=Sora', headers: {Authorization: 'Bearer not-to-be-kept'}, body: {hello: 'sea'}, answer: {ok: true}, status: 201}, () => {}); });
os.after(2230, () => { red = false; });
`, `  expect #now shows "red" within 5s
  expect #now shows "pale" within 5s
  pause 2s`)
	r.awaitIdle()
	r.must(0, "build", "push", apk)
	r.must(0, "suite", "push", suite)
	r.must(0, "run", "start", "--build", "1.0", "--suite", "flasher", "--on", "Kaede 7", "--keep", "everything always",
		"--wait")
	dir := filepath.Join(r.dir, "evidence")
	r.must(0, "run", "fetch", "1", dir)
	f := flashed(t, dir)
	require.Positive(t, f.log)
	for name, at := range map[string]float64{"the call": f.call, "the film": f.film, "the video": f.video} {
		require.InDelta(t, f.log, at, frameMS, "%s beside the log: %+v", name, f)
	}
	body, err := os.ReadFile(kept(t, dir, ".har"))
	require.NoError(t, err)
	require.NotContains(t, string(body), "not-to-be-kept")
	require.Contains(t, string(body), `{\"hello\":\"sea\"}`)

	z, err := os.Open(kept(t, dir, ".csv.gz"))
	require.NoError(t, err)
	defer z.Close()
	plain, err := gzip.NewReader(z)
	require.NoError(t, err)
	s, err := readings.Read(plain)
	require.NoError(t, err)
	require.Greater(t, len(s.At), 5)
	for i := 1; i < len(s.At); i++ {
		require.LessOrEqual(t, s.At[i]-s.At[i-1], int64(800), "one in half a second: %v", s.At)
	}
	require.Contains(t, s.Names, "memory")

	seek, err := exec.Command("ffprobe", "-v", "error", "-show_entries",
		"format=format_name,duration:stream=codec_name", "-of", "json", kept(t, dir, ".webm")).Output()
	require.NoError(t, err)
	var probed struct {
		Streams []struct {
			Codec string `json:"codec_name"`
		}
		Format struct {
			Name     string `json:"format_name"`
			Duration string `json:"duration"`
		}
	}
	require.NoError(t, json.Unmarshal(seek, &probed))
	require.Equal(t, "vp8", probed.Streams[0].Codec)
	require.Contains(t, probed.Format.Name, "webm")
	lasts, err := strconv.ParseFloat(probed.Format.Duration, 64)
	require.NoError(t, err)
	require.Greater(t, lasts, 4.0, "its time is the case's")
}

func TestEverySortOfEvidenceHasTheCasesTimeOnAHandset(t *testing.T) {
	t.Parallel() // it mostly waits
	require.NoError(t, handset.Available(), "make browser installs Chromium")
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/site.webmanifest":
			_, _ = io.WriteString(w, `{"name": "Flasher", "start_url": "/flash", "display": "standalone"}`)
		case "/red":
			w.Header().Set("Content-Type", "application/json")
			w.Header().Set("Set-Cookie", "who=not-to-be-kept")
			_, _ = io.WriteString(w, `{"answer":"from the sea"}`)
		default:
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = io.WriteString(w, `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width"><link rel="manifest" href="/site.webmanifest">
<title>Flasher</title><body style="background: #f0f0f0; height: 100vh"><p id="now">pale</p><script>
const show = (red) => { document.body.style.background = red ? "#d00000" : "#f0f0f0"; document.getElementById("now").textContent = red ? "red" : "pale" };
setTimeout(() => { console.log("red now"); fetch("/red?from=Sora", {method: "POST", body: JSON.stringify({hello: "sea"}), headers: {"Content-Type": "application/json"}}); show(true) }, 1500);
setTimeout(() => show(false), 3000);
</script>`)
		}
	}))
	t.Cleanup(app.Close)
	at := strings.TrimPrefix(app.URL, "http://")
	r := newRig(t, rigConfig{site: strings.Replace(handsetSite, "kind: emulator}",
		`kind: emulator, handset: {reach: ["`+at+`"]}}`, 1)})
	r.awaitIdle()
	r.must(0, "build", "push", app.URL+"/")
	suite := filepath.Join(r.dir, "flasher.yamato")
	require.NoError(t, os.WriteFile(suite, []byte("suite \"flasher\"\nkeep everything always\ncase \"c\"\n  expect #now shows \"red\" within 10s\n  expect #now shows \"pale\" within 10s\nend\n"), 0o600))
	r.must(0, "suite", "push", suite)
	var dir string
	var f flash
	// A clock that is off is off each time; a machine that has other things to do is late now and then.
	for n := 1; n <= 4; n++ {
		r.must(0, "run", "start", "--build", "1", "--suite", "flasher", "--wait")
		dir = filepath.Join(r.dir, fmt.Sprintf("evidence-%d", n))
		r.must(0, "run", "fetch", fmt.Sprint(n), dir)
		f = flashed(t, dir)
		if math.Abs(f.log-f.call) <= frameMS && math.Abs(f.log-f.video) <= 3*frameMS {
			break
		}
	}
	require.InDelta(t, f.log, f.call, frameMS, "%+v", f)
	require.InDelta(t, f.log, f.video, 3*frameMS, "the video has what the browser painted next: %+v", f)
	require.GreaterOrEqual(t, f.film, f.log-1, "a picture is taken once the change was noticed")
	body, err := os.ReadFile(kept(t, dir, ".har"))
	require.NoError(t, err)
	require.Contains(t, string(body), "from the sea")
	require.Contains(t, string(body), `{\"hello\":\"sea\"}`)
	require.NotContains(t, string(body), "not-to-be-kept")
	require.NotEmpty(t, kept(t, dir, ".csv.gz"))
}

// What is kept is what the nearest rule says, and what is not says so where one would look for it.
func TestWhatIsKeptIsWhatTheNearestRuleSays(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	apk, _ := handIn(t, "keeper", `
os.show(() => ui.column({}, ui.button({id: 'go', text: 'Go', onTap: () => os.request({ms: 50, address: 'https://sorane.example/'}, () => {})}), ui.text({id: 'calm', text: 'Calm'})));`, "")
	suite := filepath.Join(t.TempDir(), "keeper.yamato")
	require.NoError(t, os.WriteFile(suite, []byte(`suite "keeper"
keep log never
keep network always
case "passes"
  tap #go
  picture as "always here"
  picture as "only when it failed" unless passed
  expect "Calm"
end
case "fails"
  tap #go
  picture as "always here"
  picture as "only when it failed" unless passed
  expect "Storm" within 1s
end
`), 0o600))
	r.awaitIdle()
	r.must(0, "build", "push", apk)
	r.must(0, "suite", "push", suite)
	start := func(more ...string) contract.RunDetail {
		out, _, _ := r.yamato(append([]string{"run", "start", "--build", "1.0", "--suite", "keeper", "--on",
			"kaede-7-1", "--output", "json"}, more...)...)
		var run contract.Run
		require.NoError(t, json.Unmarshal([]byte(out), &run), out)
		r.yamato("run", "follow", fmt.Sprint(run.Number))
		return r.run(int(run.Number))
	}
	sorts := func(run int64) map[int]map[string]int {
		list, err := r.client.ListEvidence(context.Background(), "default", run)
		require.NoError(t, err)
		defer list.Body.Close()
		var pieces []contract.Evidence
		require.NoError(t, json.NewDecoder(list.Body).Decode(&pieces))
		out := map[int]map[string]int{0: {}, 1: {}}
		for _, e := range pieces {
			out[e.CaseIndex][e.Sort]++
		}
		return out
	}
	whys := func(d contract.RunDetail, index int) map[string]string {
		out := map[string]string{}
		for _, n := range *d.Legs[0].Cases[index].Results[0].NotKept {
			out[n.Sort] = n.Why
		}
		return out
	}
	d := start()
	got := sorts(d.Run.Number)
	require.Equal(t, 1, got[0]["picture"], "of what passed: %v", got[0])
	require.Equal(t, 1, got[0]["network"])
	require.Zero(t, got[0]["video"])
	require.Zero(t, got[0]["log"])
	require.Equal(t, "its suite’s rule is `log never`", whys(d, 0)["log"])
	require.Equal(t, "the usual rule is `video unless passed`", whys(d, 0)["video"])
	require.Equal(t, 1, got[1]["video"], "of what failed: %v", got[1])
	require.GreaterOrEqual(t, got[1]["picture"], 3)

	d = start("--keep", "everything never", "--keep", "log=always")
	got = sorts(d.Run.Number)
	require.Equal(t, map[int]map[string]int{0: {"log": 1}, 1: {"log": 1}}, got)
	require.Equal(t, "the run’s own rule is `video never`", whys(d, 1)["video"])
	require.Equal(t, contract.Keep{"everything": "never", "log": "always"}, *d.Run.Keep.Run, "and the run says so")

	out, _ := r.must(0, "run", "again", fmt.Sprint(d.Run.Number), "--output", "json")
	var again contract.Run
	require.NoError(t, json.Unmarshal([]byte(out), &again))
	require.Nil(t, again.Keep, "an override ends with its run")
	_, errOut := r.must(2, "run", "start", "--build", "1.0", "--suite", "keeper", "--keep", "vidoe always")
	require.Contains(t, errOut, "did you mean `video`?")
}

// Two services with folders of their own, and a host, share a bucket; it goes away in the middle, and a service and
// the host are killed: nothing of what was promised is lost, and the verdicts are the same.
func TestServicesShareABucketThatComesAndGoes(t *testing.T) {
	t.Parallel() // it mostly waits
	ctx := context.Background()
	objects, err := buckettest.Start(ctx, t.TempDir(), "sorane")
	require.NoError(t, err)
	t.Cleanup(objects.Stop)
	var away atomic.Bool
	var missed atomic.Int64
	front := httptest.NewServer(objects.Before(func(w http.ResponseWriter, r *http.Request) bool {
		if away.Load() {
			missed.Add(1)
			panic(http.ErrAbortHandler)
		}
		return false
	}))
	t.Cleanup(front.Close)
	keys := filepath.Join(t.TempDir(), "keys")
	require.NoError(t, os.WriteFile(keys, fmt.Appendf(nil,
		"[default]\naws_access_key_id = %s\naws_secret_access_key = %s\n", buckettest.Access,
		buckettest.Secret), 0o600))
	r := newRig(t, rigConfig{services: 2, apart: true, serve: []string{"--blobs",
		"s3://sorane/yamato?endpoint=" + url.QueryEscape(front.URL), "--blobs-keys", keys}})
	run := r.startSampleRun()
	require.Eventually(t, func() bool { return r.query(`select count(*)::text from evidence`) != "0" }, time.Minute,
		20*time.Millisecond)
	away.Store(true)
	r.services[1].kill(syscall.SIGKILL)
	r.host.kill(syscall.SIGKILL)
	require.Eventually(t, func() bool { return missed.Load() > 3 }, time.Minute, 20*time.Millisecond, "it is missed")
	away.Store(false)
	d := r.finish(run)
	requireSampleOutcome(t, d)
	r.requireEvidenceWhole(ctx, run.Number)
	for i, s := range []string{"service-0", "service-1"} {
		_ = filepath.Walk(filepath.Join(r.dir, s, "blobs"), func(path string, info os.FileInfo, err error) error {
			require.NoError(t, err)
			require.False(t, !info.IsDir() && len(info.Name()) == 64, "no blob stays on the disk of service %d: %s", i,
				path)
			return nil
		})
	}
}

// What somebody did at a device lies on the same time as its log, its calls and its readings.
func TestASessionKeepsItsCallsAndReadings(t *testing.T) {
	t.Parallel() // it mostly waits
	r := newRig(t, rigConfig{})
	apk, _ := handIn(t, "caller", `
os.show(() => ui.button({id: 'go', text: 'Go', onTap: () => { os.log('info', 'caller', 'asked'); os.request({ms: 50, address: 'https://sorane.example/crossings'}, () => {}); }}));`, "")
	r.awaitIdle()
	r.must(0, "session", "open", "kaede-7-1", "--build", apk, "--print")
	r.must(0, "session", "do", "1", "tap #go", `pause 2s`)
	r.must(0, "session", "end", "1", "--yes")
	require.Eventually(t, func() bool {
		return r.query(`select count(*)::text from session_entry where kind in ('network', 'readings')`) == "2"
	}, patience, 50*time.Millisecond)
	require.Equal(t, "1", r.query(`select (detail->>'calls') from session_entry where kind = 'network'`))
	require.Equal(t, "true", r.query(`select (jsonb_array_length(detail::jsonb->'sums') > 2)::text from session_entry where kind = 'readings'`))
	require.Equal(t, "t", r.query(`select (abs((select min(at_ms) from session_entry where kind = 'did') - (select at_ms from session_entry where kind = 'network')) < 60000)::text::char(1)`))
}
