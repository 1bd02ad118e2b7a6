package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/contract"
)

// troubledSite has an emulator whose screen stays black beside one that works, two
// phones of which one loses its cable, and one that nobody has prepared.
const troubledSite = `
site: bench
driver: standin
capacity: {memory_mb: 8192}
images:
  - {platform: android, os: "14", size_mb: 40}
models:
  - {model: Kaede 7, platform: android, form: phone, width: 408, height: 896, cutout: hole, memory_mb: 8192, takes_mb: 2048}
  - {model: Kaede Mini, platform: android, form: phone, width: 316, height: 632, cutout: none, memory_mb: 4096}
devices:
  - {name: kaede-7-1, model: Kaede 7, kind: emulator, os: "14", standin: {troubles: [{name: black, count: -1}]}}
  - {name: kaede-7-2, model: Kaede 7, kind: emulator, os: "14", standin: {troubles: [{name: sleep, count: -1}]}}
  - {name: kaede-7-r1, model: Kaede 7, kind: real, os: "14", standin: {troubles: [{name: cable, count: 1}]}}
  - {name: kaede-7-r2, model: Kaede 7, kind: real, os: "14"}
  - {name: kaede-mini-r1, model: Kaede Mini, kind: real, os: "13", standin: {developer: "off", debugging: never, discharging: true, charge: 4}}
`

// awaitDevice waits until a device is as wanted.
func (r *rig) awaitDevice(name string, ok func(contract.Device) bool) contract.Device {
	r.t.Helper()
	var got contract.Device
	require.Eventually(r.t, func() bool {
		d, err := r.client.GetDeviceWithResponse(context.Background(), "default", name)
		if err != nil || d.JSON200 == nil {
			return false
		}
		got = d.JSON200.Device
		return ok(got)
	}, patience, 20*time.Millisecond, "%s does not get there", name)
	return got
}

func in(state string) func(contract.Device) bool {
	return func(d contract.Device) bool { return d.State == state }
}

func TestTroubleOfDevicesIsNeverAFailureAndRunsGoElsewhere(t *testing.T) {
	r := newRig(t, rigConfig{site: troubledSite})
	dir := samples(t)
	black := r.awaitDevice("kaede-7-1", in("sidelined"))
	require.Contains(t, *black.Sideline.Diagnosis,
		"boot: its screen stays black; boot from power-off: its screen stays black; boot emptied: its screen "+
			"stays black")
	require.NotEmpty(t, *black.Sideline.Picture)
	out, _, _ := r.yamato("device", "show", "kaede-7-1")
	require.Contains(t, out, "sidelined    by Yamato")
	r.awaitDevice("kaede-7-2", in("idle"))
	r.awaitDevice("kaede-7-r1", in("idle"))
	r.awaitDevice("kaede-7-r2", in("idle"))
	r.awaitDevice("kaede-mini-r1", in("unready"))

	_, errOut, code := r.yamato("build", "push", filepath.Join(dir, "tideline-3.1.4.apk"))
	require.Zero(t, code, errOut)
	_, errOut, code = r.yamato("suite", "push", filepath.Join(dir, "suites"))
	require.Zero(t, code, errOut)
	for range 2 { // the phone with the loose cable is given a leg sooner or later
		out, errOut, code = r.yamato("run", "start", "--build", "3.1.4", "--suite", "Buying a ticket", "--suite",
			"Looking up a crossing", "--wait")
		require.Zero(t, code, "%s %s", out, errOut)
		require.NotContains(t, strings.ReplaceAll(out, "■ fail", ""), "■",
			"nothing is marked as a failure of the app")
		require.Contains(t, out, "Left out: 1 combination\n  Kaede Mini, Android 13, real")
	}
	loose := r.awaitDevice("kaede-7-r1", in("unready"))
	require.Equal(t, "it does not answer on its cable", *loose.Reason)
	require.Equal(t, "1", r.query(`select count(*) from lease where ended_by = 'device' and trouble like '%cable%'`),
		"its leg went elsewhere")
	out, _, code = r.yamato("standin", "do", "kaede-7-r1", "plug-in")
	require.Zero(t, code)
	require.Contains(t, out, "kaede-7-r1 is idle")

	out, errOut, code = r.yamato("device", "make", "Kaede 7", "--boot")
	require.Zero(t, code, errOut)
	require.Contains(t, out, "kaede-7-3 was made: Kaede 7, Android 14")
	_, errOut, code = r.yamato("device", "make", "Kaede 7", "--boot", "--count", "3")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "8.0 GB in all): kaede-7-2 takes 2.0 GB")
	_, errOut, code = r.yamato("device", "remove", "kaede-7-3", "--yes")
	require.Zero(t, code, errOut)
	_, errOut, _ = r.yamato("device", "show", "kaede-7-3")
	require.Contains(t, errOut, `there is no device "kaede-7-3"`)
	r.host.kill(syscall.SIGKILL) // what was made and removed outlives the host
	r.awaitDevice("kaede-7-2", in("idle"))
	_, errOut, _ = r.yamato("device", "show", "kaede-7-3")
	require.Contains(t, errOut, "there is no device")
}

func TestReadinessTicksOffAsAPersonMendsThePhone(t *testing.T) {
	r := newRig(t, rigConfig{site: troubledSite})
	r.awaitDevice("kaede-7-1", in("sidelined"))
	r.awaitDevice("kaede-mini-r1", in("unready"))
	out, _, code := r.yamato("device", "check", "kaede-mini-r1")
	require.Equal(t, 4, code, "a script can tell by the exit code")
	require.Contains(t, out, "tap the build number seven times")
	d := newDeskWith(t, r, "of 5 devices")
	d.visit("/fleet/kaede-mini-r1")
	check := func(id string, ok bool) {
		t.Helper()
		d.await(fmt.Sprintf(`document.querySelector("[data-check=%s]")?.dataset.ok === "%v"`, id, ok))
	}
	check("connected", true)
	check("developer", false)
	check("debugging", false)
	check("charge", false)
	d.see("3 to do")
	do := func(deed string) {
		t.Helper()
		_, errOut, code := r.yamato("standin", "do", "kaede-mini-r1", deed)
		require.Zero(t, code, errOut)
	}
	do("developer-mode")
	check("developer", true)
	do("plug-in")
	d.see("it asks whether this computer may debug it")
	do("allow-always")
	check("debugging", true)
	check("charge", false)
	do("charge")
	check("charge", true)
	d.see("free, since")

	d.visit("/fleet/kaede-7-1")
	d.see("boot emptied: its screen stays black")
	d.await(`document.querySelector("figure img").naturalWidth > 100`)
	d.click("Restore it")
	d.see("Now halted")
	d.click("Boot it")
	d.see("its screen stays black")
}

func TestALineupIsWrittenWithItsPreviewAndSaved(t *testing.T) {
	r := newRig(t, rigConfig{})
	r.awaitIdle()
	d := newDesk(t, r)
	d.visit("/lineups")
	d.see("Takes 4 devices now") // the example
	d.ask(`sessionStorage.setItem("yamato.lineup.", "lineup: two\nfirst: [spread]\npick:\n  - platform: android\ntake: 2\n")`)
	d.visit("/lineups?new")
	d.see("Takes 2 devices now")
	d.see("2 are enough, and others go first")
	d.see("its platform is ios")
	d.click("Save")
	d.await(`location.search === "?lineup=two"`)
	out, _, code := r.yamato("lineup", "try", "two")
	require.Zero(t, code)
	require.Contains(t, out, "two takes 2 devices now")
	_, errOut, code := r.yamato("device", "sideline", "kaede-7-1", "--reason", "odd")
	require.Zero(t, code, errOut)
	d.see("it is sidelined: odd") // the preview is live
}

// slow is a file that is read in small pieces, and counts what was read of it.
type slow struct {
	data []byte
	read atomic.Int64
	at   func(read int64)
}

func (s *slow) ReadAt(p []byte, off int64) (int, error) {
	n := copy(p, s.data[off:])
	s.at(s.read.Add(int64(n)))
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

type shortMemory struct{ kept sync.Map }

func (m *shortMemory) Recall(key string) string {
	v, _ := m.kept.Load(key)
	s, _ := v.(string)
	return s
}
func (m *shortMemory) Remember(key, address string) { m.kept.Store(key, address) }
func (m *shortMemory) Forget(key string)            { m.kept.Delete(key) }

func TestAnUploadGoesOnWhereItStoppedWhenTheServiceIsKilled(t *testing.T) {
	r := newRig(t, rigConfig{})
	noise := make([]byte, 48<<20)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(noise)
	data, err := demo.PackAndroid(demo.App{ID: "example.large", Name: "Large", Version: demo.Version{Name: "1.0",
		Code: 1}, MinimumAPI: 30, Texts: map[string]map[string]string{"app_name": {"": "Large"}},
		Extra: map[string][]byte{"assets/noise": noise}})
	require.NoError(t, err)
	kill := sync.OnceFunc(func() { r.services[0].kill(syscall.SIGKILL) })
	f := &slow{data: data, at: func(read int64) {
		if read > 40<<20 {
			kill()
		}
	}}
	memory := &shortMemory{}
	p, err := r.client.Upload(context.Background(), f, int64(len(data)), "large.apk", "large", memory, time.Minute,
		func(int64) {})
	require.NoError(t, err)
	require.Equal(t, "example.large", p.ApplicationId)
	require.Equal(t, 1, r.services[0].died())
	require.Less(t, f.read.Load(), int64(len(data))+(20<<20), "what had arrived was not sent again")
	require.Empty(t, memory.Recall("large"))

	again := &slow{data: data, at: func(int64) {}}
	ctx, stop := context.WithCancel(context.Background())
	again.at = func(read int64) { // the command itself is killed, and given again
		if read > 36<<20 {
			stop()
		}
	}
	_, err = r.client.Upload(ctx, again, int64(len(data)), "large.apk", "large", memory, time.Minute, func(int64) {})
	require.ErrorIs(t, err, context.Canceled)
	require.NotEmpty(t, memory.Recall("large"))
	rest := &slow{data: data, at: func(int64) {}}
	same, err := r.client.Upload(context.Background(), rest, int64(len(data)), "large.apk", "large", memory,
		time.Minute,
		func(int64) {})
	require.NoError(t, err)
	require.Equal(t, p.Digest, same.Digest, "it is stored once, by its content")
	require.Less(t, rest.read.Load(), int64(20<<20))
	staged, err := filepath.Glob(filepath.Join(r.dir, "service", "blobs", "staging", "*"))
	require.NoError(t, err)
	require.Empty(t, staged, "nothing is left behind")
}

// offered serves a folder and gives its address.
func offered(t *testing.T, dir string) string {
	server := httptest.NewServer(http.FileServer(http.Dir(dir)))
	t.Cleanup(server.Close)
	return server.URL
}

func TestBuildsComeFromStandardInputAndAddressesAndRunsFromPlans(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	address := offered(t, dir)
	r.awaitIdle()
	apk, err := os.ReadFile(filepath.Join(dir, "tideline-3.1.4.apk"))
	require.NoError(t, err)
	_, errOut, code := r.yamatoWith(bytes.NewReader(apk), "build", "push", "-", "--as", "tideline.apk", "--label",
		"branch=main", "--note", "by pipe")
	require.Zero(t, code, errOut)
	out, _, code := r.yamato("build", "show", "branch=main")
	require.Zero(t, code)
	require.Contains(t, out, "by pipe")
	require.Contains(t, out, "tideline.apk")
	out, errOut, code = r.yamato("build", "push", address+"/tideline-3.2.0.apk")
	require.Zero(t, code, errOut)
	require.Contains(t, out, "3.2.0 (61)")
	_, errOut, code = r.yamato("build", "push", address+"/nothing.apk")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "answers 404")
	_, errOut, code = r.yamato("suite", "push", filepath.Join(dir, "suites"))
	require.Zero(t, code, errOut)
	plan, _, code := r.yamato("build", "settings", "1", "--device", "kaede-7-1", "--suite", "Looking up a crossing",
		"--form", "document")
	require.Zero(t, code)
	path := filepath.Join(dir, "plan.yaml")
	require.NoError(t, os.WriteFile(path, []byte(plan), 0o600))
	out, errOut, code = r.yamato("run", "start", "--request", path, "--wait")
	require.Zero(t, code, errOut)
	require.Contains(t, out, "Kaede 7, Android 14")
	require.NotContains(t, out, "Kaede 7 Lite")
	require.NoError(t, os.WriteFile(path, []byte(plan+"colour: red\n"), 0o600))
	_, errOut, code = r.yamato("run", "start", "--request", path)
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "colour")
	_, errOut, code = r.yamato("build", "inspect", filepath.Join(dir, "tideline-3.2.0.ipa"))
	require.Zero(t, code, errOut)
	_, errOut, code = r.yamato("build", "inspect", path)
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "not a zip archive")
	require.True(t, strings.Contains(errOut, "hand in an Android package"), errOut)
}
