package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/contract"
)

const inProject = "/api/v1/projects/default"

// furnished is a rig with a build and a suite.
func furnished(t *testing.T) *rig {
	t.Helper()
	r := newRig(t)
	packages := demotest.Packages(t, demo.Versions[0])
	var p contract.Package
	r.json(http.StatusOK, "POST", "/packages?file_name=a.apk", packages[0].Data, &p)
	r.json(http.StatusOK, "POST", "/builds", []byte(`{"packages":["`+p.Digest+`"]}`), nil)
	r.json(http.StatusOK, "POST", "/suites", []byte(
		`{"file_name":"a.yamato","text":"suite \"A\"\ncase \"one\"\nexpect #x\nend\n"}`), nil)
	return r
}

// json makes a call that is to have a status, and reads its answer.
func (r *rig) json(status int, method, path string, body []byte, into any) string {
	r.t.Helper()
	kind := "application/json"
	if strings.HasPrefix(path, "/packages") {
		kind = "application/octet-stream"
	}
	if body == nil {
		kind = ""
	}
	_, response, text := r.call(method, inProject+path, userToken, kind, body)
	require.Equal(r.t, status, response.StatusCode, "%s %s: %s", method, path, text)
	if into != nil {
		require.NoError(r.t, json.Unmarshal(text, into))
	}
	return string(text)
}

func TestFieldsAndWordsThatThereAreNotAreRefusedWithTheOnesThatWereMeant(t *testing.T) {
	r := furnished(t)
	for _, c := range []struct {
		method, path, body, says string
	}{
		// or it would cover the whole fleet
		{"POST", "/runs", `{"build":"1","suites":["A"],"linup":"phones"}`, "lineup"},
		{"POST", "/runs", `{"build":"1","suites":["A"],"repeat_failed":-1}`, "repeat_failed"},
		{"POST", "/runs", `{"build":"1","suites":["A"],"language":"xx-nonsense"}`, "BCP 47"},
		{"POST", "/runs", `{"build":"1","suites":"A"}`, "suites"},
		{"POST", "/errands", `{"what":"dance","device":"kaede-7-1"}`, "boot"},
		{"POST", "/errands", `{"what":"boot","devise":"kaede-7-1"}`, "device"},
		{"PUT", "/devices/kaede-7-1/sideline", `{"reason":"x","minutes":-5}`, "minutes"},
		{"PUT", "/retention", `{"keep":-1,"days":3}`, "keep"},
	} {
		text := r.json(http.StatusUnprocessableEntity, c.method, c.path, []byte(c.body), nil)
		require.Contains(t, text, c.says, c.body)
		require.NotContains(t, text, "contract.", "no types of ours")
		require.NotContains(t, text, "struct", "no types of ours")
	}
	for path, says := range map[string]string{
		"/runs?sate=queued":           `did you mean \"state\"?`, // or it would list them all
		"/devices?nonsense=1&q=kaede": `there is no parameter \"nonsense\"`,
		"/lineups?limit=5":            "this call has none",
		"/runs?state=done":            "finished", "/runs?verdict=green": "pass", "/devices?state=free": "idle",
		"/devices?kind=phone": "emulator", "/runs?limit=0": "limit",
	} {
		require.Contains(t, r.json(http.StatusUnprocessableEntity, "GET", path, nil, nil), says, path)
	}
	var list contract.RunList
	r.json(http.StatusOK, "GET", "/runs", nil, &list)
	require.Empty(t, list.Items, "none of them began a run")
}

// keyed makes a call with an Idempotency-Key.
func (r *rig) keyed(key, body string) (status int, text string) {
	r.t.Helper()
	req, err := http.NewRequest("POST", r.url+inProject+"/runs", strings.NewReader(body))
	require.NoError(r.t, err)
	req.Header.Set("Authorization", "Bearer "+userToken)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Idempotency-Key", key)
	response, err := http.DefaultClient.Do(req)
	require.NoError(r.t, err)
	defer response.Body.Close()
	var out struct {
		Number int64  `json:"number"`
		Title  string `json:"title"`
	}
	require.NoError(r.t, json.NewDecoder(response.Body).Decode(&out))
	return response.StatusCode, out.Title
}

func TestAKeyMeansOneCallAndNoOther(t *testing.T) {
	r := furnished(t)
	status, _ := r.keyed("k1", `{"build":"1","suites":["A"],"seed":7}`)
	require.Equal(t, http.StatusOK, status)
	status, _ = r.keyed("k1", `{"build":"1","suites":["A"],"seed":7}`)
	require.Equal(t, http.StatusOK, status, "the same call again is answered as before")
	status, title := r.keyed("k1", `{"build":"1","suites":["A"],"seed":8}`)
	require.Equal(t, http.StatusConflict, status)
	require.NotEmpty(t, title)
	var list contract.RunList
	r.json(http.StatusOK, "GET", "/runs", nil, &list)
	require.Len(t, list.Items, 1)
}

func TestARunIsWaitedForWithinABoundAndItsJUnitIsThere(t *testing.T) {
	r := furnished(t)
	r.json(http.StatusOK, "POST", "/runs", []byte(`{"build":"1","suites":["A"]}`), nil)
	began := time.Now()
	var d contract.RunDetail
	r.json(http.StatusOK, "GET", "/runs/1?wait_ms=200", nil, &d)
	require.Equal(t, "queued", d.Run.State, "nobody carries it out, and it is told as it is")
	require.GreaterOrEqual(t, time.Since(began), 200*time.Millisecond)
	r.json(http.StatusUnprocessableEntity, "GET", "/runs/1?wait_ms=999999", nil, nil)

	ended := make(chan contract.RunDetail, 1)
	go func() {
		var d contract.RunDetail
		r.json(http.StatusOK, "GET", "/runs/1?wait_ms=30000", nil, &d)
		ended <- d
	}()
	r.json(http.StatusOK, "POST", "/runs/1/cancel", nil, nil)
	select {
	case d = <-ended:
		require.Equal(t, "cancelled", d.Run.State, "it answers when the run has ended")
	case <-time.After(15 * time.Second):
		require.FailNow(t, "it is not answered although the run has ended")
	}
	_, response, text := r.call("GET", inProject+"/runs/1/junit", userToken, "", nil)
	require.Equal(t, http.StatusOK, response.StatusCode)
	require.Contains(t, response.Header.Get("Content-Type"), "xml")
	require.Contains(t, string(text), "<testsuites")
}

func TestHintsSpeakHTTPToProgramsAndCommandsToPeople(t *testing.T) {
	r := furnished(t)
	var p contract.Problem
	r.json(http.StatusNotFound, "GET", "/builds/9.9", nil, &p)
	require.Contains(t, *p.Hint, "`GET …/builds`")
	require.NotContains(t, *p.Hint, "yamato build")

	req, err := http.NewRequest("GET", r.url+inProject+"/builds/9.9", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+userToken)
	req.Header.Set("User-Agent", "yamato/test")
	response, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer response.Body.Close()
	var forPeople contract.Problem
	require.NoError(t, json.NewDecoder(response.Body).Decode(&forPeople))
	require.Contains(t, *forPeople.Hint, "`yamato build ls`")
}

func TestABuildsNumberIsNotTakenForAVersion(t *testing.T) {
	r := furnished(t)
	var b contract.Build
	r.json(http.StatusOK, "GET", "/builds/%231", nil, &b)
	require.Equal(t, int64(1), b.Number)
	r.json(http.StatusNotFound, "GET", "/builds/%233.1.4", nil, nil)
}
