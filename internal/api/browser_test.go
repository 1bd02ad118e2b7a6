package api_test

import (
	"bufio"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// as makes a call as a browser would, with headers of the caller's choice.
func (r *rig) as(method, path, body string, headers map[string]string) (*http.Response, string) {
	r.t.Helper()
	req, err := http.NewRequest(method, r.url+path, strings.NewReader(body))
	require.NoError(r.t, err)
	for k, v := range headers {
		if k == "Host" {
			req.Host = v
		} else {
			req.Header.Set(k, v)
		}
	}
	response, err := http.DefaultClient.Do(req)
	require.NoError(r.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(r.t, err)
	return response, string(text)
}

// code gives a code that signs a browser in.
func (r *rig) code() string {
	r.t.Helper()
	_, response, text := r.call("POST", "/api/v1/sign-ins", userToken, "", nil)
	require.Equal(r.t, 200, response.StatusCode, string(text))
	var in struct{ Code string }
	require.NoError(r.t, json.Unmarshal(text, &in))
	return in.Code
}

func (r *rig) signedIn() *http.Cookie {
	r.t.Helper()
	response, text := r.as("POST", "/api/v1/session", `{"code":"`+r.code()+`"}`, map[string]string{"Origin": r.url})
	require.Equal(r.t, 200, response.StatusCode, text)
	require.Len(r.t, response.Cookies(), 1)
	return response.Cookies()[0]
}

func TestACodeSignsOneBrowserInOnce(t *testing.T) {
	r := newRig(t)
	code := r.code()
	response, text := r.as("POST", "/api/v1/session", `{"code":"`+code+`"}`, map[string]string{"Origin": r.url})
	require.Equal(t, 200, response.StatusCode, text)
	c := response.Cookies()[0]
	require.True(t, c.HttpOnly)
	require.Equal(t, http.SameSiteStrictMode, c.SameSite)

	response, text = r.as("POST", "/api/v1/session", `{"code":"`+code+`"}`, map[string]string{"Origin": r.url})
	require.Equal(t, http.StatusGone, response.StatusCode)
	require.Contains(t, text, "yamato console")
	for _, wrong := range []string{`{"code":""}`, `{"code":"` + strings.Repeat("x", 5000) + `"}`, `{}`} {
		response, _ = r.as("POST", "/api/v1/session", wrong, map[string]string{"Origin": r.url})
		require.Equal(t, http.StatusGone, response.StatusCode)
	}

	response, text = r.as("GET", "/api/v1/about", "", map[string]string{"Cookie": c.Name + "=" + c.Value})
	require.Equal(t, 200, response.StatusCode)
	require.Contains(t, text, "Aya Torrent")
	response, _ = r.as("DELETE", "/api/v1/session", "", map[string]string{"Cookie": c.Name + "=" + c.Value,
		"Origin": r.url})
	require.Equal(t, http.StatusNoContent, response.StatusCode)
	response, _ = r.as("GET", "/api/v1/about", "", map[string]string{"Cookie": c.Name + "=" + c.Value})
	require.Equal(t, http.StatusUnauthorized, response.StatusCode, "signed out at once")
}

func TestABrowsersCallsCountOnlyFromOurOwnPages(t *testing.T) {
	r := newRig(t)
	c := r.signedIn()
	cookie := c.Name + "=" + c.Value
	at := strings.TrimPrefix(r.url, "http://")
	port := at[strings.LastIndex(at, ":"):]
	for _, one := range []struct {
		method  string
		headers map[string]string
		status  int
	}{
		{"GET", map[string]string{"Cookie": cookie}, 200},
		{"GET", map[string]string{"Cookie": cookie, "Sec-Fetch-Site": "same-origin"}, 200},
		{"GET", map[string]string{"Cookie": cookie, "Sec-Fetch-Site": "cross-site"}, 403},
		{"GET", map[string]string{"Cookie": cookie, "Origin": "http://elsewhere.example"}, 403},
		// a name that was made to lead here
		{"GET", map[string]string{"Cookie": cookie, "Host": "elsewhere.example" + port}, 403},
		{"GET", map[string]string{"Cookie": cookie, "Host": "yamato.example" + port}, 200},
		{"GET", map[string]string{"Cookie": cookie, "Host": "localhost" + port}, 200},
		{"POST", map[string]string{"Cookie": cookie, "Origin": r.url}, 404}, // it is heard, and there is no such device
		{"POST", map[string]string{"Cookie": cookie, "Origin": "null"}, 403},
		{"POST", map[string]string{"Cookie": cookie}, 403},
		{"POST", map[string]string{"Cookie": cookie, "Sec-Fetch-Site": "same-site"}, 403},
		{"GET", map[string]string{"Cookie": c.Name + "=" + strings.Repeat("x", 43)}, 401},
		{"GET", map[string]string{"Cookie": "yamato_1=" + c.Value}, 401}, // another service's
		{"GET", map[string]string{}, 401},
	} {
		path := "/api/v1/projects/default/runs"
		if one.method == "POST" {
			path = "/api/v1/projects/default/devices/nowhere/screens"
		}
		response, text := r.as(one.method, path, "", one.headers)
		require.Equal(t, one.status, response.StatusCode, "%s %v: %s", one.method, one.headers, text)
	}
	response, _ := r.as("GET", "/api/v1/link", "", map[string]string{"Cookie": cookie})
	require.Equal(t, 403, response.StatusCode, "a browser is no host")
}

func TestTheConsoleIsServedSoThatOnlyItsOwnFilesRun(t *testing.T) {
	r := newRig(t)
	for _, path := range []string{"/", "/runs/7?leg=1", "/fleet/kaede-7-1", "/sign-in", "/builds/v1.2"} {
		response, text := r.as("GET", path, "", nil)
		require.Equal(t, 200, response.StatusCode, path)
		require.Contains(t, text, "<title>Yamato</title>")
		require.Contains(t, response.Header.Get("Content-Security-Policy"), "script-src 'self'")
		require.Contains(t, response.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'")
		require.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"))
		require.Equal(t, "no-cache", response.Header.Get("Cache-Control"))
	}
	response, text := r.as("GET", "/assets/main-1.js", "", nil)
	require.Equal(t, "let x = 1", text)
	require.Contains(t, response.Header.Get("Cache-Control"), "immutable")
	response, _ = r.as("GET", "/assets/gone.js", "", nil)
	require.Equal(t, 404, response.StatusCode, "a file of an older version is no page")
	response, _ = r.as("GET", "/api/v2/about", "", map[string]string{"Authorization": "Bearer " + userToken})
	require.Equal(t, 404, response.StatusCode)
	require.Equal(t, "application/problem+json", response.Header.Get("Content-Type"))
	response, _ = r.as("POST", "/runs", "", nil)
	require.Equal(t, 405, response.StatusCode)
}

func TestABrowsersStreamBeginsWithHowThingsAre(t *testing.T) {
	r := newRig(t)
	c := r.signedIn()
	for _, wrong := range []string{"watch=everything", "run=x", "run=0:0", "run=1:-1", "run=1:" + strings.Repeat("9",
		40), strings.Repeat("run=1:0&", 21)} {
		response, _ := r.as("GET", "/api/v1/projects/default/stream?"+wrong, "",
			map[string]string{"Cookie": c.Name + "=" + c.Value})
		require.Equal(t, 400, response.StatusCode, wrong)
	}
	req, err := http.NewRequest("GET", r.url+
		"/api/v1/projects/default/stream?watch=fleet&watch=runs&watch=library&run=4:0", nil)
	require.NoError(t, err)
	req.AddCookie(c)
	response, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer response.Body.Close()
	require.Equal(t, "text/event-stream", response.Header.Get("Content-Type"))
	lines := bufio.NewScanner(response.Body)
	kinds := map[string]string{}
	for kind := ""; kind != "pulse" && lines.Scan(); {
		if k, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			kind = k
		} else if d, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			kinds[kind] = d
		}
	}
	require.Contains(t, kinds["fleet"], `"whole":true`)
	require.Contains(t, kinds["fleet"], `"name":"kaede-7-1"`)
	require.Contains(t, kinds, "runs")
	require.Contains(t, kinds, "library")
}

func TestAnAddressThatIsNoneIsNotFound(t *testing.T) {
	r := newRig(t)
	people := map[string]string{"Accept": "text/html,*/*"}
	for _, place := range []string{"/", "/runs", "/runs/", "/runs/1", "/plans/Small%20plan", "/suites/a%2Fb",
		"/by-hand/3/sheet", "/sign-in?to=%2Fruns"} {
		response, text := r.as("GET", place, "", people)
		require.Equal(t, 200, response.StatusCode, place)
		require.Contains(t, text, "<title>Yamato", place)
	}
	for _, none := range []string{"/healtz", "/run/1", "/runs/1/2/3", "/runs//pictures", "/admin", "/.env"} {
		response, text := r.as("GET", none, "", people)
		require.Equal(t, 404, response.StatusCode, none)
		require.Contains(t, text, "<title>Yamato", "its page says so to people")
		response, text = r.as("GET", none, "", nil)
		require.Equal(t, 404, response.StatusCode, none)
		require.Contains(t, text, "there is nothing at")
	}
	response, text := r.as("GET", "/healthz", "", nil)
	require.Equal(t, 200, response.StatusCode, text)
	require.Contains(t, text, `"well":true`)
	require.NoError(t, r.store.Close())
	response, text = r.as("GET", "/healthz", "", nil)
	require.Equal(t, 503, response.StatusCode, text)
	require.Contains(t, text, `"database":"it does not answer"`)
}

func TestThePlacesAreThoseOfTheConsole(t *testing.T) {
	router, err := os.ReadFile("../../web/src/routes.tsx")
	require.NoError(t, err)
	list, err := os.ReadFile("console.go")
	require.NoError(t, err)
	routes := regexp.MustCompile(`\{\s*path: "(/[^"]*)"`).FindAllSubmatch(router, -1)
	require.Greater(t, len(routes), 20)
	for _, m := range routes {
		require.Contains(t, string(list), `"`+string(m[1])+`"`)
	}
}

// Who has not signed in has no more read of it than a sign-in takes, and no longer.
func TestNobodyKeepsTheServiceReading(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	large := strings.Repeat("x", 64<<10)
	for _, path := range []string{"/install/x", "/feed/x", "/api/v1/relay/1", "/nothing", "/api/v1/session"} {
		response, _ := r.as("POST", path, large, nil)
		require.GreaterOrEqual(t, response.StatusCode, 400, path)
		require.Less(t, response.StatusCode, 500, path)
	}
	conn, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	_, err = io.WriteString(conn, "POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Length: 1000\r\n\r\n{")
	require.NoError(t, err)
	answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	require.Equal(t, 422, answer.StatusCode, string(text))
	require.Contains(t, string(text), "did not come within 5s")
}
