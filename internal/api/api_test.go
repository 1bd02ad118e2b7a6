package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/api"
	"yamato/internal/blob"
	"yamato/internal/core/fleet"
	"yamato/internal/pgbox/pgtest"
	"yamato/internal/service"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

const (
	userToken = "a-token-for-a-person-in-tests"
	hostToken = "a-token-for-a-host-in-tests-1"
)

// rig is the interface on a database of its own, with one device in the records.
type rig struct {
	t       *testing.T
	url     string
	store   *store.Store
	project int64
}

func newRig(t *testing.T) *rig {
	t.Helper()
	ctx := context.Background()
	st := pgtest.Store(t)
	dir := t.TempDir()
	blobs, err := blob.OpenDir(dir)
	require.NoError(t, err)
	project, err := st.AddProject(ctx, "default")
	require.NoError(t, err)
	require.NoError(t, st.AddToken(ctx, project, "user", "Aya Torrent", userToken))
	require.NoError(t, st.AddToken(ctx, project, "host", "bench", hostToken))
	require.NoError(t, st.InTx(ctx, func(tx *store.Tx) error {
		host, _, _, err := tx.Hosts.OpenLink(ctx, store.Linking{Project: project, Name: "bench", Site: "bench",
			Version:  "test",
			Instance: "00000000-0000-0000-0000-000000000001"})
		if err != nil {
			return err
		}
		_, err = tx.Devices.PutDevice(ctx, project, host, fleet.Device{Name: "kaede-7-1", Site: "bench", Kind: "emulator",
			Platform: "android", Model: "Kaede 7", Form: "phone", OS: "14",
			Width: 408, Height: 896, MemoryMB: 8192, Traits: []string{"location"},
			Abilities: []string{"back"}}, fleet.Condition{}, "idle", "")
		return err
	}))
	server := httptest.NewServer(api.New(service.New(st, blobs, base.Config{MayFetch: []string{"localhost"}}),
		api.Config{Program: "test", Uploads: filepath.Join(dir, "staging"), Names: []string{"yamato.example"},
			Console: fstest.MapFS{
				"index.html":       {Data: []byte("<!doctype html><title>Yamato</title>")},
				"assets/main-1.js": {Data: []byte("let x = 1")},
			}}))
	t.Cleanup(server.Close)
	return &rig{t, server.URL, st, project}
}

// call makes a call and gives its answer's status, headers and body.
func (r *rig) call(method, path, token, kind string, body []byte) (*http.Request, *http.Response, []byte) {
	r.t.Helper()
	req, err := http.NewRequest(method, r.url+path, bytes.NewReader(body))
	require.NoError(r.t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	response, err := http.DefaultClient.Do(req)
	require.NoError(r.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(r.t, err)
	return req, response, text
}

func TestEveryAnswerIsWhatTheContractSays(t *testing.T) {
	r := newRig(t)
	doc, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	require.NoError(t, doc.Validate(context.Background()))
	doc.Servers = openapi3.Servers{{URL: r.url}}
	router, err := gorillamux.NewRouter(doc)
	require.NoError(t, err)
	packages := demotest.Packages(t, demo.Versions[0])
	openapi3filter.RegisterBodyDecoder("application/problem+json", openapi3filter.JSONBodyDecoder)
	digest := ""
	asJSON := func(v any) []byte { text, err := json.Marshal(v); require.NoError(t, err); return text }
	const base = "/api/v1/projects/default"
	for _, c := range []struct {
		method, path string
		body         func() []byte
		kind         string
		status       int
	}{
		{"GET", "/api/v1/about", nil, "", 200},
		{"GET", base + "/builds", nil, "", 200},
		{"POST", base + "/packages?file_name=a.apk", func() []byte {
			return packages[0].Data
		}, "application/octet-stream", 200},
		{"POST", base + "/packages?file_name=a.apk", func() []byte {
			return []byte("this is no package at all, is it")
		}, "application/octet-stream", 422},
		{"POST", base + "/builds", func() []byte {
			return asJSON(map[string]any{"packages": []string{digest}})
		}, "application/json", 200},
		{"POST", base + "/builds", func() []byte {
			return asJSON(map[string]any{"packages": []string{strings.Repeat("0", 64)}})
		}, "application/json", 404},
		{"POST", base + "/builds", func() []byte { return []byte(`{"packages":`) }, "application/json", 400},
		{"GET", base + "/builds?limit=1", nil, "", 200},
		{"GET", base + "/builds?limit=9999", nil, "", 422},
		{"GET", base + "/builds/3.1.4", nil, "", 200},
		{"GET", base + "/builds/9", nil, "", 404},
		{"POST", base + "/suites", func() []byte {
			return asJSON(map[string]string{"file_name": "a.yamato",
				"text": "suite \"A\"\ncase \"one\"\nexpect #x\nend\n"})
		}, "application/json", 200},
		{"POST", base + "/suites", func() []byte {
			return asJSON(map[string]string{"file_name": "a.yamato", "text": "suite"})
		}, "application/json", 422},
		{"GET", base + "/suites", nil, "", 200},
		{"GET", base + "/devices", nil, "", 200},
		{"POST", base + "/runs", func() []byte {
			return asJSON(map[string]any{"build": "3.1.4", "suites": []string{"A"}, "seed": 7})
		}, "application/json", 200},
		{"POST", base + "/runs", func() []byte {
			return asJSON(map[string]any{"build": "3.1.4", "suites": []string{"A"}, "on": []string{"Aster 12"}})
		}, "application/json", 404},
		{"POST", base + "/runs", func() []byte {
			return asJSON(map[string]any{"build": "3.1.4", "suites": []string{"A"}, "repeat_failed": 99})
		}, "application/json", 422},
		{"POST", base + "/devices/kaede-7-1/looks", func() []byte {
			return asJSON(map[string]any{"build": "1"})
		}, "application/json", 200},
		{"POST", base + "/devices/nowhere/looks", func() []byte {
			return asJSON(map[string]any{"build": "1"})
		}, "application/json", 404},
		{"GET", base + "/runs", nil, "", 200},
		{"GET", base + "/runs/1", nil, "", 200},
		{"GET", base + "/runs/77", nil, "", 404},
		{"GET", base + "/runs/1/evidence", nil, "", 200},
		{"GET", base + "/runs?q=a&state=queued&verdict=none&build=1", nil, "", 200},
		{"GET", base + "/runs/1?brief=true", nil, "", 200},
		{"GET", base + "/runs/1/causes", nil, "", 200},
		{"GET", base + "/runs/1/legs/1/cases/0", nil, "", 200},
		{"GET", base + "/runs/1/legs/9/cases/0", nil, "", 404},
		{"GET", base + "/runs/1/evidence/5/elements", nil, "", 404},
		{"POST", base + "/run-previews", func() []byte {
			return asJSON(map[string]any{"build": "3.1.4", "suites": []string{"A"}})
		}, "application/json", 200},
		{"POST", base + "/run-previews", func() []byte {
			return asJSON(map[string]any{"build": "9", "suites": []string{"A"}})
		}, "application/json", 404},
		{"GET", base + "/now", nil, "", 200},
		{"GET", base + "/search?q=tide", nil, "", 200},
		{"GET", base + "/search", nil, "", 400},
		{"GET", base + "/suites/A", nil, "", 200},
		{"GET", base + "/suites/B", nil, "", 404},
		{"GET", base + "/devices/kaede-7-1", nil, "", 200},
		{"GET", base + "/devices/nowhere", nil, "", 404},
		{"POST", base + "/devices/nowhere/screens", nil, "", 404},
		{"POST", base + "/runs/1/again", func() []byte {
			return asJSON(map[string]any{"which": "all"})
		}, "application/json", 200},
		{"POST", base + "/runs/1/again", func() []byte {
			return asJSON(map[string]any{"which": "some"})
		}, "application/json", 422},
		{"POST", "/api/v1/sign-ins", nil, "", 200},
		{"PATCH", base + "/builds/1", func() []byte {
			return asJSON(map[string]any{"note": "odd", "pinned": true, "labels": map[string]string{"branch": "main"}})
		}, "application/json", 200},
		{"PATCH", base + "/builds/1", func() []byte {
			return asJSON(map[string]any{"labels": map[string]string{"Two Words": "x"}})
		}, "application/json", 422},
		{"GET", base + "/builds/branch=main", nil, "", 200},
		{"GET", base + "/builds/branch=other", nil, "", 404},
		{"GET", base + "/builds?label=branch%3Dmain", nil, "", 200},
		{"GET", base + "/builds?label=main", nil, "", 422},
		{"GET", base + "/builds/1/fit", nil, "", 200},
		{"GET", base + "/builds/1/changes", nil, "", 200},
		{"GET", base + "/builds/1/changes?against=9", nil, "", 404},
		{"GET", base + "/builds/1/texts", nil, "", 200},
		{"GET", base + "/builds/1/settings?device=kaede-7-1", nil, "", 200},
		{"GET", base + "/builds/1/settings?device=nowhere", nil, "", 404},
		{"POST", base + "/builds/1/handovers", func() []byte {
			return asJSON(map[string]any{"minutes": 5})
		}, "application/json", 200},
		{"POST", base + "/builds/1/handovers", func() []byte {
			return asJSON(map[string]any{"minutes": 999999})
		}, "application/json", 422},
		{"GET", base + "/retention", nil, "", 200},
		{"PUT", base + "/retention", func() []byte {
			return asJSON(map[string]any{"keep": 3, "days": 9})
		}, "application/json", 200},
		{"PUT", base + "/retention", func() []byte {
			return asJSON(map[string]any{"keep": -1, "days": 9})
		}, "application/json", 422},
		{"POST", base + "/packages/fetched", func() []byte {
			return asJSON(map[string]any{"url": "http://127.0.0.1:1/a.apk"})
		}, "application/json", 403},
		{"POST", base + "/packages/fetched", func() []byte {
			return asJSON(map[string]any{"url": "a.apk"})
		}, "application/json", 422},
		{"POST", base + "/uploads/nothing/package", nil, "", 404},
		{"PUT", base + "/devices/kaede-7-1/sideline", func() []byte {
			return asJSON(map[string]any{"reason": "cracked"})
		}, "application/json", 200},
		{"GET", base + "/devices/kaede-7-1", nil, "", 200},
		{"DELETE", base + "/devices/kaede-7-1/sideline", nil, "", 200},
		{"DELETE", base + "/devices/kaede-7-1/sideline", nil, "", 422},
		{"POST", base + "/errands", func() []byte {
			return asJSON(map[string]any{"what": "check", "device": "kaede-7-1"})
		}, "application/json", 200},
		{"POST", base + "/errands", func() []byte {
			return asJSON(map[string]any{"what": "halt", "device": "nowhere"})
		}, "application/json", 404},
		{"GET", base + "/errands/1", nil, "", 200},
		{"GET", base + "/errands/1?wait_ms=1", nil, "", 200},
		{"GET", base + "/errands/99", nil, "", 404},
		{"GET", base + "/sites", nil, "", 200},
		{"PUT", base + "/licences/none/acceptance", nil, "", 404},
		{"PUT", base + "/lineups", func() []byte {
			return asJSON(map[string]any{"text": "lineup: all\n"})
		}, "application/json", 200},
		{"PUT", base + "/lineups", func() []byte {
			return asJSON(map[string]any{"text": "lineup: [\n"})
		}, "application/json", 422},
		{"GET", base + "/lineups", nil, "", 200},
		{"GET", base + "/lineups/all", nil, "", 200},
		{"POST", base + "/lineups/choice", func() []byte {
			return asJSON(map[string]any{"name": "all"})
		}, "application/json", 200},
		{"POST", base + "/lineups/choice", func() []byte {
			return asJSON(map[string]any{"text": "take: 3"})
		}, "application/json", 422},
		{"DELETE", base + "/lineups/all", nil, "", 204},
		{"DELETE", base + "/lineups/all", nil, "", 404},
		{"POST", base + "/runs/1/cancel", nil, "", 200},
		{"POST", base + "/runs/1/cancel", nil, "", 422},
	} {
		var body []byte
		if c.body != nil {
			body = c.body()
		}
		req, response, text := r.call(c.method, c.path, userToken, c.kind, body)
		require.Equal(t, c.status, response.StatusCode, "%s %s: %s", c.method, c.path, text)
		route, params, err := router.FindRoute(req)
		require.NoError(t, err, c.path)
		input := &openapi3filter.ResponseValidationInput{
			RequestValidationInput: &openapi3filter.RequestValidationInput{Request: req, PathParams: params,
				Route: route},
			Status: response.StatusCode, Header: response.Header,
			Options: &openapi3filter.Options{IncludeResponseStatus: true},
		}
		input.SetBodyBytes(text)
		require.NoError(t, openapi3filter.ValidateResponse(context.Background(), input), "%s %s: %s", c.method,
			c.path, text)
		if strings.Contains(c.path, "/packages") && c.status == 200 {
			var p struct{ Digest string }
			require.NoError(t, json.Unmarshal(text, &p))
			digest = p.Digest
		}
		if c.status >= 400 {
			var p struct{ Type, Title string }
			require.NoError(t, json.Unmarshal(text, &p))
			require.True(t, strings.HasPrefix(p.Type, "yamato:"), "a stable name: %s", text)
			require.NotEmpty(t, p.Title)
		}
	}
}

func TestEventsAreStreamedFromWhereOneLeftOff(t *testing.T) {
	r := newRig(t)
	ctx := context.Background()
	packages := demotest.Packages(t, demo.Versions[0])
	_, _, text := r.call("POST", "/api/v1/projects/default/packages?file_name=a.apk", userToken,
		"application/octet-stream", packages[0].Data)
	var p struct{ Digest string }
	require.NoError(t, json.Unmarshal(text, &p))
	r.call("POST", "/api/v1/projects/default/builds", userToken, "application/json",
		[]byte(`{"packages":["`+p.Digest+`"]}`))
	r.call("POST", "/api/v1/projects/default/suites", userToken, "application/json",
		[]byte(`{"file_name":"a.yamato","text":"suite \"A\"\ncase \"one\"\nexpect #x\nend\n"}`))
	_, response, text := r.call("POST", "/api/v1/projects/default/runs", userToken, "application/json",
		[]byte(`{"build":"3.1.4","suites":["A"]}`))
	require.Equal(t, 200, response.StatusCode, string(text))
	run, err := r.store.RunNumbered(ctx, r.project, 1)
	require.NoError(t, err)
	for range 3 { // in batches of two
		require.NoError(t, r.store.InTx(ctx, func(tx *store.Tx) error {
			_, err := tx.Runs.Append(ctx, map[int64]int64{run.ID: r.project},
				[]store.RunEvents{{Run: run.ID, Events: []any{map[string]string{"kind": "a"},
					map[string]string{"kind": "b"}}}})
			return err
		}))
	}
	require.NoError(t, r.store.InTx(ctx, func(tx *store.Tx) error {
		_, err := tx.Runs.Finish(ctx, run.ID, "pass")
		return err
	}))

	_, response, text = r.call("GET", "/api/v1/projects/default/runs/1/events", userToken, "", nil)
	require.Equal(t, "text/event-stream", response.Header.Get("Content-Type"))
	require.Equal(t, 6, strings.Count(string(text), "\nid: ")+1)
	require.True(t, strings.HasSuffix(string(text), "event: end\ndata: {}\n\n"))
	_, _, text = r.call("GET", "/api/v1/projects/default/runs/1/events?after=3", userToken, "", nil)
	require.True(t, strings.HasPrefix(string(text), "id: 4\ndata: {\"kind\": \"b\"}\n\nid: 5\n"),
		"in the middle of a batch: %s", text)
	_, response, _ = r.call("GET", "/api/v1/projects/default/runs/1/events?after=x", userToken, "", nil)
	require.Equal(t, 400, response.StatusCode)
}

func TestABodyThatIsTooLargeIsRefused(t *testing.T) {
	r := newRig(t)
	_, response, text := r.call("POST", "/api/v1/projects/default/suites", userToken, "application/json",
		bytes.Repeat([]byte(" "), 9<<20))
	require.Equal(t, http.StatusRequestEntityTooLarge, response.StatusCode, string(text))
}

func TestUploadsOfHostsKeepToTheirDigest(t *testing.T) {
	r := newRig(t)
	wrong := strings.Repeat("a", 64)
	_, response, _ := r.call("PUT", "/api/v1/blobs/"+wrong, hostToken, "application/octet-stream", []byte("x"))
	require.Equal(t, http.StatusUnprocessableEntity, response.StatusCode)
	_, response, _ = r.call("PUT", "/api/v1/blobs/..%2f..%2fetc", hostToken, "application/octet-stream", []byte("x"))
	require.NotEqual(t, http.StatusNoContent, response.StatusCode)
	_, response, _ = r.call("DELETE", "/api/v1/about", userToken, "", nil)
	require.Equal(t, http.StatusMethodNotAllowed, response.StatusCode)
}
