package e2e

import (
	"archive/zip"
	"encoding/json"
	"encoding/xml"
	"image/png"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/contract"
)

func TestTheChainFromPackagesToEvidenceByCommand(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()

	out, errOut, code := r.yamato("build", "push", filepath.Join(dir, "tideline-3.2.0.apk"),
		filepath.Join(dir, "tideline-3.2.0-simulator.zip"))
	require.Zero(t, code, errOut)
	require.Contains(t, out, "Build 1  Tideline 3.2.0 (61)")
	require.Contains(t, out, "example.tideline")

	out, _, code = r.yamato("device", "ls")
	require.Zero(t, code)
	require.Contains(t, out, "kaede-7-lite-1")

	out, errOut, code = r.yamato("suite", "push", filepath.Join(dir, "suites"))
	require.Zero(t, code, errOut)
	require.Contains(t, out, "three passengers pay three single fares")

	junit := filepath.Join(dir, "results.xml")
	out, errOut, code = r.yamato("run", "start", "--build", "3.2.0", "--suite", "Buying a ticket", "--on", "Kaede 7",
		"--wait", "--junit", junit)
	require.Equal(t, 1, code, "a run that fails exits 1: %s", errOut)
	require.Contains(t, out, "expected number in #total = 9.45")
	require.Contains(t, out, "but      it is 6.3")
	requireJUnit(t, junit, 8, 1)

	out, _, code = r.yamato("run", "follow", "1")
	require.Equal(t, 1, code)
	require.Contains(t, out, "the run is finished: fail")

	out, _, code = r.yamato("run", "show", "1", "--output", "json")
	require.Equal(t, 1, code, "it exits by the verdict, as follow does")
	var d contract.RunDetail
	require.NoError(t, json.Unmarshal([]byte(out), &d))
	require.Equal(t, "fail", d.Run.Verdict)

	to := filepath.Join(dir, "evidence")
	_, errOut, code = r.yamato("run", "fetch", "1", to)
	require.Zero(t, code, errOut)
	failure := filepath.Join(to, "Kaede-7-Android-14", "Buying-a-ticket", "three-passengers-pay-three-single-fares",
		"1-failure.png")
	f, err := os.Open(failure)
	require.NoError(t, err)
	defer f.Close()
	picture, err := png.Decode(f)
	require.NoError(t, err)
	require.Equal(t, 408, picture.Bounds().Dx())
	log, err := os.ReadFile(filepath.Join(filepath.Dir(failure), "1-log.txt"))
	require.NoError(t, err)
	require.Contains(t, string(log), "tideline: started in en-GB")
	film, err := zip.OpenReader(filepath.Join(filepath.Dir(failure), "1-film.zip"))
	require.NoError(t, err)
	defer film.Close()
	require.Greater(t, len(film.File), 3, "a picture at each change, and their list")
}

// requireJUnit reads a JUnit file as any reader of that form would.
func requireJUnit(t *testing.T, path string, tests, failures int) {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	var suites struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suites   []struct {
			Cases []struct {
				Name    string `xml:"name,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal(text, &suites))
	require.Equal(t, tests, suites.Tests)
	require.Equal(t, failures, suites.Failures)
	seen := 0
	for _, s := range suites.Suites {
		for _, c := range s.Cases {
			if c.Failure != nil {
				seen++
				require.Contains(t, c.Failure.Message, "expected number in #total")
			}
		}
	}
	require.Equal(t, failures, seen)
}

func TestTryGoesFromLocalFilesToAVerdict(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	args := []string{"try", filepath.Join(dir, "suites", "tickets.yamato"), "--on", "Kaede 7", "--case",
		"three passengers pay three single fares"}

	out, errOut, code := r.yamato(append(args, "--build", filepath.Join(dir, "tideline-3.1.4.apk"))...)
	require.Zero(t, code, errOut+out)
	out, _, code = r.yamato(append(args, "--build", filepath.Join(dir, "tideline-3.2.0.apk"))...)
	require.Equal(t, 1, code)
	require.Contains(t, out, "■  Kaede 7, Android 14")
}

func TestABuildThatLacksThePackageForADeviceIsToldBeforeTheRunStarts(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	_, errOut, code := r.yamato("try", filepath.Join(dir, "suites", "tickets.yamato"), "--on", "Aster Petit", "--build",
		filepath.Join(dir, "tideline-3.1.4.apk"))
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "the build holds no simulator zip, which Aster Petit (simulator) needs")
	require.Contains(t, errOut, "push the simulator zip")

	out, _, code := r.yamato("try", filepath.Join(dir, "suites", "tickets.yamato"), "--build", "1", "--case",
		"one passenger pays the single fare")
	require.Zero(t, code, "the others run, and what is left out is told: %s", out)
	require.Contains(t, out, "Left out: 1 combination\n  Aster Petit, iOS 17")
}

func TestALookShowsThePictureAndTheTree(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	out, errOut, code := r.yamato("device", "look", "kaede-7-1", "--build", filepath.Join(dir, "tideline-3.1.4.apk"),
		"--to", dir, "--language", "de-DE")
	require.Zero(t, code, errOut)
	require.Contains(t, out, filepath.Join(dir, "kaede-7-1.png"))
	require.Regexp(t, `textbox +Insel +#island +\d+,\d+ \d+x\d+`, out)
	require.Regexp(t, `tab +Tickets`, out)
	require.FileExists(t, filepath.Join(dir, "kaede-7-1.png"))

	out, _, _ = r.yamato("run", "ls")
	require.Contains(t, out, "No runs yet", "a look is no run of a suite")
}

func TestAForeignPackageInstallsButStartingItIsAnError(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	foreign, err := demo.PackAndroid(demo.App{ID: "example.elsewhere", Name: "Elsewhere",
		Version: demo.Version{Name: "1.0", Code: 1}, MinimumAPI: 30,
		Texts: map[string]map[string]string{"app_name": {"": "Elsewhere"}}})
	require.NoError(t, err)
	path := filepath.Join(dir, "elsewhere.apk")
	require.NoError(t, os.WriteFile(path, foreign, 0o600))
	out, _, code := r.yamato("try", filepath.Join(dir, "suites", "timetable.yamato"), "--on", "Kaede 7", "--build",
		path)
	require.Equal(t, 4, code, out)
	require.Contains(t, out, "holds no program for stand-ins")
}

func TestWrongCallsSayWhatToDoNext(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	damaged := filepath.Join(dir, "damaged.apk")
	require.NoError(t, os.WriteFile(damaged, []byte("PK\x03\x04 and then nothing of use, for some length"), 0o600))
	_, _, code := r.yamato("build", "push", filepath.Join(dir, "tideline-3.1.4.apk"))
	require.Zero(t, code)
	_, _, code = r.yamato("suite", "push", filepath.Join(dir, "suites"))
	require.Zero(t, code)
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"build", "push", damaged}, 2, "the file is cut short"},
		{[]string{"build", "push", filepath.Join(dir, "tideline-3.1.4.apk"),
			filepath.Join(dir, "tideline-3.2.0.apk")}, 2,
			"a build holds packages of one version"},
		{[]string{"build", "push", "/nowhere.apk"}, 2, "no such file"},
		{[]string{"build", "show", "9.9.9"}, 2, "yamato build ls"},
		{[]string{"run", "start", "--build", "3.1.4", "--suite", "Nothing"}, 2, "yamato suite ls"},
		{[]string{"run", "start", "--build", "3.1.4", "--suite", "Buying a ticket", "--on", "Kaede 9"}, 2,
			"Kaede 7 Lite"},
		{[]string{"run", "start", "--build", "3.1.4", "--suite", "Buying a ticket", "--language", "deutsch!"}, 2,
			"BCP 47"},
		{[]string{"run", "start", "--build", "3.1.4"}, 2, "--suite"},
		{[]string{"run", "show", "99"}, 2, "there is no run 99"},
		{[]string{"run", "show", "x"}, 2, "no run's number"},
		{[]string{"run", "fetch", "1"}, 2, "yamato run fetch 12 evidence/"},
		{[]string{"device", "look", "nowhere", "--build", "3.1.4"}, 2, "yamato device ls"},
		{[]string{"device", "ls", "--output", "xml"}, 2, "table or json"},
		{[]string{"device", "ls", "--nonsense"}, 2, "--help"},
	} {
		_, errOut, code := r.yamato(c.args...)
		require.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		require.Contains(t, errOut, c.says, "%v", c.args)
	}
}

func TestNobodyCallsWithoutTheRightToken(t *testing.T) {
	r := newRig(t, rigConfig{})
	hostToken, err := os.ReadFile(filepath.Join(r.dir, "service", "host-token"))
	require.NoError(t, err)
	userToken, err := os.ReadFile(filepath.Join(r.dir, "service", "user-token"))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(r.dir, "service", "user-token"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	for _, c := range []struct {
		path, token string
		status      int
	}{
		{"/api/v1/about", "", 401},
		{"/api/v1/about", "not-a-token-that-anybody-has-made", 401},
		{"/api/v1/about", string(userToken), 200},
		{"/api/v1/about", string(hostToken), 403},
		{"/api/v1/projects/default/devices", string(userToken), 200},
		{"/api/v1/projects/other/devices", string(userToken), 404},
		{"/api/v1/blobs/" + strings.Repeat("0", 64), string(userToken), 403},
		{"/api/v1/blobs/" + strings.Repeat("0", 64), string(hostToken), 404},
		{"/api/v1/nowhere", string(userToken), 404},
	} {
		req, err := http.NewRequest(http.MethodGet, r.serviceURL()+c.path, nil)
		require.NoError(t, err)
		if c.token != "" {
			req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(c.token))
		}
		response, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		require.Equal(t, c.status, response.StatusCode, c.path)
		require.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"))
		if c.status >= 400 {
			require.Equal(t, "application/problem+json", response.Header.Get("Content-Type"), c.path)
		}
	}
}

func TestTheSameSeedGivesTheSameVerdictsInEveryRepetition(t *testing.T) {
	t.Parallel() // on the devices' own clocks
	r := newRig(t, rigConfig{})
	first := r.finish(r.startSampleRun())
	seed, repeat := int64(7), 3
	for range 2 {
		a, err := r.client.StartRunWithResponse(t.Context(), "default", &contract.StartRunParams{}, contract.NewRun{
			Build: "3.2.0", Suites: []string{"Buying a ticket", "Looking up a crossing"}, Seed: &seed,
			RepeatFailed: &repeat})
		require.NoError(t, err)
		require.NotNil(t, a.JSON200)
		require.Equal(t, verdicts(first), verdicts(r.finish(*a.JSON200)))
	}
	flaky := 0
	for _, l := range first.Legs {
		for _, x := range l.Cases {
			if x.Flaky {
				flaky++
				require.Contains(t, []string{"Kaede 7 Lite", "Aster Petit"}, l.Combination.Model,
					"only devices with little memory are slow by chance")
			}
		}
	}
	require.Equal(t, 2, flaky)
}

// verdicts writes every result of every crossing, with its failure, in words.
func verdicts(d contract.RunDetail) []string {
	var out []string
	for _, l := range d.Legs {
		for _, x := range l.Cases {
			line := l.Combination.Model + " | " + x.Name + " |"
			for _, r := range x.Results {
				line += " " + r.Verdict
				if r.Sentence != nil {
					line += " (" + *r.Sentence + ")"
				}
			}
			out = append(out, line)
		}
	}
	return out
}

func TestACancelledRunKeepsWhatWasDecidedAndFreesItsDevices(t *testing.T) {
	r := newRig(t, rigConfig{})
	dir := samples(t)
	r.awaitIdle()
	_, errOut, code := r.yamato("build", "push", filepath.Join(dir, "tideline-3.1.4.apk"))
	require.Zero(t, code, errOut)
	_, errOut, code = r.yamato("suite", "push", filepath.Join(dir, "suites"))
	require.Zero(t, code, errOut)
	_, errOut, code = r.yamato("run", "start", "--build", "3.1.4", "--suite", "Buying a ticket", "--on", "Kaede 7",
		"--real-time")
	require.Zero(t, code, errOut)
	_, errOut, code = r.yamato("run", "cancel", "1", "--yes")
	require.Zero(t, code, errOut)
	out, _, code := r.yamato("run", "follow", "1")
	require.Equal(t, 5, code)
	require.Contains(t, out, "the run is cancelled")
	r.awaitIdle()
	_, errOut, code = r.yamato("run", "cancel", "1", "--yes")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "run 1 is cancelled already")
}
