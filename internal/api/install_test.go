package api_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"howett.net/plist"

	"yamato/demo"
	"yamato/demo/demotest"
	"yamato/internal/client"
	"yamato/internal/contract"
)

// tus makes a call of the upload protocol and gives the answer with its body read.
func (r *rig) tus(method, address, token string, body []byte, headers map[string]string) (*http.Response, string) {
	r.t.Helper()
	if !strings.HasPrefix(address, "http") {
		address = r.url + address
	}
	call, err := http.NewRequestWithContext(r.t.Context(), method, address, bytes.NewReader(body))
	require.NoError(r.t, err)
	call.Header.Set("Authorization", "Bearer "+token)
	call.Header.Set("Tus-Resumable", "1.0.0")
	for k, v := range headers {
		call.Header.Set(k, v)
	}
	answer, err := http.DefaultClient.Do(call)
	require.NoError(r.t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(r.t, err)
	return answer, string(text)
}

const uploadsPath = "/api/v1/projects/default/uploads"

// begin begins an upload and gives its address.
func (r *rig) begin(size int) string {
	r.t.Helper()
	answer, body := r.tus("POST", uploadsPath, userToken, nil, map[string]string{"Upload-Length": strconv.Itoa(size),
		"Upload-Metadata": "filename dGlkZWxpbmUuYXBr"})
	require.Equal(r.t, 201, answer.StatusCode, body)
	return answer.Header.Get("Location")
}

func (r *rig) piece(address string, offset int, data []byte) *http.Response {
	answer, _ := r.tus("PATCH", address, userToken, data, map[string]string{"Upload-Offset": strconv.Itoa(offset),
		"Content-Type": "application/offset+octet-stream"})
	return answer
}

func TestAPackageArrivesInPieces(t *testing.T) {
	r := newRig(t)
	packages := demotest.Packages(t, demo.Versions[0])
	data := packages[0].Data
	at := r.begin(len(data))
	require.Equal(t, 204, r.piece(at, 0, data[:1000]).StatusCode)
	require.Equal(t, 409, r.piece(at, 500, data[500:]).StatusCode, "a piece that does not follow is refused")
	answer, _ := r.tus("HEAD", at, userToken, nil, nil)
	require.Equal(t, "1000", answer.Header.Get("Upload-Offset"), "and nothing is lost by it")
	take := strings.TrimPrefix(at, r.url) + "/package"
	answer, body := r.tus("POST", take, userToken, nil, nil)
	require.Equal(t, 422, answer.StatusCode)
	require.Contains(t, body, "1000 of "+strconv.Itoa(len(data))+" bytes have arrived")
	require.Equal(t, 204, r.piece(at, 1000, data[1000:]).StatusCode)
	answer, body = r.tus("POST", take, userToken, nil, nil)
	require.Equal(t, 200, answer.StatusCode, body)
	var p contract.Package
	require.NoError(t, json.Unmarshal([]byte(body), &p))
	require.Equal(t, "tideline.apk", p.FileName)
	require.NotNil(t, p.Signing)
	answer, _ = r.tus("HEAD", at, userToken, nil, nil)
	require.Equal(t, 404, answer.StatusCode, "what was taken in is tidied away")
}

func TestUploadsAreOnesOwnAndBounded(t *testing.T) {
	r := newRig(t)
	at := r.begin(10)
	answer, _ := r.tus("HEAD", at, hostToken, nil, nil)
	require.Equal(t, 403, answer.StatusCode)
	for _, id := range []string{"../../../etc/passwd", "..%2f..%2fetc", strings.Repeat("0", 36)} {
		answer, _ := r.tus("HEAD", uploadsPath+"/"+id, userToken, nil, nil)
		require.Contains(t, []int{404, 405}, answer.StatusCode, id)
	}
	answer, _ = r.tus("POST", uploadsPath, userToken, nil, map[string]string{"Upload-Length": "99999999999999"})
	require.Equal(t, 413, answer.StatusCode)
	require.Equal(t, 204, r.piece(at, 0, []byte("0123456789")).StatusCode)
	answer, body := r.tus("POST", strings.TrimPrefix(at, r.url)+"/package", userToken, nil, nil)
	require.Equal(t, 422, answer.StatusCode)
	require.Contains(t, body, "too short to be a package")
	answer, _ = r.tus("HEAD", at, userToken, nil, nil)
	require.Equal(t, 404, answer.StatusCode, "nothing is kept of what is refused")
}

func TestWhatIsBegunToUploadIsBounded(t *testing.T) {
	r := newRig(t)
	begin := func(headers map[string]string) (int, string, string) {
		answer, body := r.tus("POST", uploadsPath, userToken, nil, headers)
		return answer.StatusCode, body, answer.Header.Get("Location")
	}
	for _, unsaid := range []map[string]string{{}, {"Upload-Defer-Length": "1"}, {"Upload-Length": "-1"},
		{"Upload-Length": "10", "Upload-Defer-Length": "1"}, {"Upload-Length": "99999999999999999999"}} {
		code, body, _ := begin(unsaid)
		require.Equal(t, 422, code, body)
		require.Contains(t, body, "says how large it will be", unsaid)
	}
	before, last := "", ""
	for range 200 {
		code, body, at := begin(map[string]string{"Upload-Length": "1"})
		require.Equal(t, 201, code, body)
		before, last = last, at
	}
	code, body, _ := begin(map[string]string{"Upload-Length": "1"})
	require.Equal(t, 429, code)
	require.Contains(t, body, "has begun as much as one may")
	answer, _ := r.tus("DELETE", last, userToken, nil, nil)
	require.Equal(t, 204, answer.StatusCode)
	code, body, _ = begin(map[string]string{"Upload-Length": "1"})
	require.Equal(t, 201, code, body, "what was given up no longer counts")

	code, _, at := begin(map[string]string{"Upload-Length": "1"})
	require.Equal(t, 429, code)
	require.Empty(t, at)
	require.Equal(t, 204, r.piece(before, 0, []byte("x")).StatusCode)
	answer, body = r.tus("POST", strings.TrimPrefix(before, r.url)+"/package", userToken, nil, nil)
	require.Equal(t, 422, answer.StatusCode, body)
	code, body, _ = begin(map[string]string{"Upload-Length": "1"})
	require.Equal(t, 201, code, body, "nor does what was refused")
}

func TestAFetchTellsHowFarItIs(t *testing.T) {
	r := newRig(t)
	packages := demotest.Packages(t, demo.Versions[0])
	data := packages[0].Data
	mux := http.NewServeMux()
	mux.HandleFunc("/tideline.apk", func(a http.ResponseWriter, _ *http.Request) {
		a.Header().Set("Content-Length", strconv.Itoa(len(data)))
		_, _ = a.Write(data)
	})
	mux.HandleFunc("/words.apk", func(a http.ResponseWriter, _ *http.Request) {
		_, _ = a.Write([]byte(strings.Repeat("words ", 99)))
	})
	server := httptest.NewServer(mux)
	defer server.Close()
	from := strings.Replace(server.URL, "127.0.0.1", "localhost", 1)
	c, err := client.Open(r.url, userToken, "default")
	require.NoError(t, err)
	var of []int64
	p, err := c.Fetch(t.Context(), from+"/tideline.apk", func(_, all int64) { of = append(of, all) })
	require.NoError(t, err)
	require.Equal(t, int64(len(data)), p.Size)
	require.Equal(t, int64(len(data)), of[0])
	_, err = c.Fetch(t.Context(), from+"/words.apk", func(int64, int64) {})
	var refused *client.ProblemError
	require.ErrorAs(t, err, &refused, "what is refused in the end is told as a problem")
	require.Contains(t, refused.Title, "not a zip archive")
	_, err = c.Fetch(t.Context(), server.URL+"/tideline.apk", func(int64, int64) {})
	require.ErrorAs(t, err, &refused, "and so is what is refused at once")
	require.Equal(t, 403, refused.Status)
}

func TestAPhoneInstallsFromAPageThatNeedsNoSignIn(t *testing.T) {
	r := newRig(t)
	packages := demotest.Packages(t, demo.Versions[1])
	var digests []string
	for _, p := range packages {
		at := r.begin(len(p.Data))
		require.Equal(t, 204, r.piece(at, 0, p.Data).StatusCode)
		_, body := r.tus("POST", strings.TrimPrefix(at, r.url)+"/package", userToken, nil, nil)
		var got contract.Package
		require.NoError(t, json.Unmarshal([]byte(body), &got), body)
		digests = append(digests, got.Digest)
	}
	body, err := json.Marshal(contract.NewBuild{Packages: digests})
	require.NoError(t, err)
	answer, text := r.tus("POST", "/api/v1/projects/default/builds", userToken, body,
		map[string]string{"Content-Type": "application/json"})
	require.Equal(t, 200, answer.StatusCode, text)
	answer, text = r.tus("POST", "/api/v1/projects/default/builds/1/handovers", userToken, []byte(`{"minutes": 5}`),
		map[string]string{"Content-Type": "application/json"})
	require.Equal(t, 200, answer.StatusCode, text)
	var page contract.Handover
	require.NoError(t, json.Unmarshal([]byte(text), &page))
	require.Contains(t, string(page.Qr), "PNG")

	get := func(path string) (*http.Response, string) {
		call, err := http.NewRequestWithContext(t.Context(), "GET", page.Url+path, nil)
		require.NoError(t, err)
		answer, err := http.DefaultClient.Do(call)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer, string(text)
	}
	answer, text = get("")
	require.Equal(t, 200, answer.StatusCode)
	require.Contains(t, text, "Install on Android")
	require.Contains(t, text, "iOS installs over HTTPS only")
	require.Contains(t, answer.Header.Get("Content-Security-Policy"), "default-src 'none'")
	answer, text = get("/android_package")
	require.Equal(t, "application/vnd.android.package-archive", answer.Header.Get("Content-Type"))
	require.Equal(t, packages[0].Data, []byte(text))
	_, text = get("/icon")
	require.Contains(t, text, "PNG")
	_, text = get("/manifest.plist")
	var manifest struct {
		Items []struct {
			Metadata map[string]string `plist:"metadata"`
		} `plist:"items"`
	}
	_, err = plist.Unmarshal([]byte(text), &manifest)
	require.NoError(t, err)
	require.Equal(t, demo.ApplicationID, manifest.Items[0].Metadata["bundle-identifier"])
	answer, _ = get("/ios_simulator")
	require.Equal(t, 404, answer.StatusCode)
	page.Url += "x"
	answer, text = get("")
	require.Equal(t, 404, answer.StatusCode)
	require.Contains(t, text, "Nothing to install")
}
