package webdriver

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// end is a remote end that answers as a test says.
func end(t *testing.T, answer http.HandlerFunc, o Options) *Client {
	t.Helper()
	server := httptest.NewServer(answer)
	t.Cleanup(server.Close)
	c, err := NewClient(server.URL+"/wd", o)
	require.NoError(t, err)
	return c
}

func says(status int, body string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}
}

func TestEveryCodeOfTheStandardIsSomebodysTrouble(t *testing.T) {
	for code, kind := range Kinds {
		require.Contains(t, []Fault{OfApp, OfScript, OfDevice, OfSite}, kind.Fault, code)
		c := end(t, says(kind.Status, fmt.Sprintf(`{"value": {"error": %q, "message": "why", "stacktrace": ""}}`, code)), Options{})
		err := c.Do(t.Context(), http.MethodGet, "/status", nil, nil)
		require.True(t, Is(err, code), "%v", err)
		require.Equal(t, kind.Fault, FaultOf(err))
		require.ErrorContains(t, err, "why")
	}
	require.Equal(t, OfSite, (&Error{Code: "made up"}).Fault(), "what no standard knows is none of the app's")
	require.Equal(t, OfSite, FaultOf(io.ErrUnexpectedEOF))
}

// What a remote end may answer that is none of WebDriver's, and what comes of it: an error that says so, soon.
func TestWhatIsNoAnswerIsTheSitesTrouble(t *testing.T) {
	elsewhere := httptest.NewServer(says(200, `{"value": {"ready": true, "message": ""}}`))
	t.Cleanup(elsewhere.Close)
	for name, try := range map[string]struct {
		answer http.HandlerFunc
		says   string
	}{
		"no JSON":                 {says(200, "<html>Welcome"), "no JSON object"},
		"nothing":                 {says(200, ""), "no JSON object"},
		"a list":                  {says(200, `[1, 2]`), "no JSON object"},
		"of another type":         {says(200, `{"value": {"ready": "perhaps"}}`), "of another type"},
		"a proxy's page":          {says(502, "<h1>Bad gateway"), "it answers 502"},
		"too many":                {says(429, `{"title": "slow down"}`), "it answers 429"},
		"an error with no code":   {says(500, `{"value": null}`), "it answers 500"},
		"a code that is a number": {says(500, `{"value": {"error": 7}}`), "it answers 500"},
		"elsewhere": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
		}, "sends us elsewhere"},
		"endless": {func(w http.ResponseWriter, _ *http.Request) {
			for block := []byte(strings.Repeat("x", 64<<10)); ; {
				if _, err := w.Write(block); err != nil {
					return
				}
			}
		}, "longer than 1 MB"},
		"deep": {says(200, `{"value": `+strings.Repeat("[", 100_000)+strings.Repeat("]", 100_000)+`}`), "no JSON object"},
		"broken off": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "1000")
			_, _ = io.WriteString(w, `{"value":`)
		}, "breaks off"},
	} {
		t.Run(name, func(t *testing.T) {
			c := end(t, try.answer, Options{MaxAnswer: 1 << 20})
			_, _, err := c.Status(t.Context())
			var b *Broken
			require.ErrorAs(t, err, &b)
			require.ErrorContains(t, err, try.says)
			require.Equal(t, OfSite, FaultOf(err))
			require.NotContains(t, err.Error(), "127.0.0.1", "where it is, and with what key, stands in no error")
		})
	}
}

func TestACallEndsWithItsContextAndSaysWhy(t *testing.T) {
	hangs := make(chan struct{})
	c := end(t, func(http.ResponseWriter, *http.Request) { <-hangs }, Options{})
	defer close(hangs)
	why := fmt.Errorf("the lease is over")
	ctx, stop := context.WithTimeoutCause(t.Context(), 50*time.Millisecond, why)
	defer stop()
	_, _, err := c.Status(ctx)
	require.ErrorIs(t, err, why)
}

func TestASessionIsCalledByAnIDAndAsksAsTheStandardSays(t *testing.T) {
	for _, id := range []string{"", "../status", "a/b", "x?y", strings.Repeat("x", 400), "a b"} {
		c := end(t, says(200, fmt.Sprintf(`{"value": {"sessionId": %q, "capabilities": {}}}`, id)), Options{})
		_, err := c.New(t.Context(), nil)
		require.ErrorContains(t, err, "no id", id)
	}
	var asked []string
	c := end(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		asked = append(asked, r.Method+" "+r.URL.Path+" "+string(body)+" "+r.Header.Get("Authorization"))
		says(200, `{"value": {"sessionId": "s-1", "capabilities": {"browserName": "kelp", "setWindowRect": true}}}`)(w, r)
	}, Options{Sign: func(r *http.Request) { r.Header.Set("Authorization", "Bearer key") }})
	s, err := c.New(t.Context(), Capabilities{"acceptInsecureCerts": true}, Capabilities{"browserName": "kelp"})
	require.NoError(t, err)
	require.Equal(t, "kelp", s.Matched.Text("browserName"))
	require.Empty(t, s.Matched.Text("setWindowRect"), "it is no text")
	require.NoError(t, s.Go(t.Context(), "https://board.sorane.example/"))
	require.NoError(t, s.Delete(t.Context()))
	require.Equal(t, []string{
		`POST /wd/session {"capabilities":{"alwaysMatch":{"acceptInsecureCerts":true},"firstMatch":[{"browserName":"kelp"}]}} Bearer key`,
		`POST /wd/session/s-1/url {"url":"https://board.sorane.example/"} Bearer key`,
		`DELETE /wd/session/s-1  Bearer key`}, asked)
	for _, wrong := range []string{"", "farm.example", "ftp://farm.example", "https://key@farm.example", "https://farm.example/?a=b", "https://"} {
		_, err := NewClient(wrong, Options{})
		require.Error(t, err, wrong)
	}
}
