package webdriver_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"image/png"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
	"yamato/internal/webdriver"
	"yamato/internal/webdriver/bidi"
)

// page is what the drivers are tried on.
const page = `<!doctype html><html lang=en><title>Quay</title><body style="margin:0">
<h1 id=h style="color:rgb(29, 78, 107)">Crossing</h1><a id=a href="#tickets" aria-label="All tickets">Tickets</a>
<input id=f value=Aya data-of=name><input type=checkbox id=c checked><button id=b onclick="h.textContent = prompt('Who?', 'Bo')">Ask</button><button id=off disabled>Off</button>
<div id=host></div><iframe id=frame srcdoc="<p id=in>In the frame</p>"></iframe><div id=long style="height:3000px"></div>
<script>host.attachShadow({mode: 'open'}).innerHTML = '<p id=deep>In the shadow</p>'; f.addEventListener('keydown', (e) => { document.title += e.key; });</script>`

// process starts a program and ends it, and all that it has started, with the test.
func process(t *testing.T, env []string, name string, args ...string) *bufio.Reader {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("%s is not installed", name)
	}
	dir := t.TempDir()
	cmd := exec.Command(name, args...)
	cmd.Env = append(append(os.Environ(), "HOME="+dir, "XDG_CONFIG_HOME="+dir, "XDG_CACHE_HOME="+dir), env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
	})
	return bufio.NewReader(out)
}

// drivers are Debian's: each begins a session.
var drivers = map[string]func(t *testing.T, more webdriver.Capabilities) *webdriver.Session{
	"chromedriver": func(t *testing.T, more webdriver.Capabilities) *webdriver.Session {
		out := process(t, nil, "chromedriver", "--port=0")
		for listens := regexp.MustCompile(`on port ([0-9]+)\.`); ; {
			line, err := out.ReadString('\n')
			require.NoError(t, err)
			if m := listens.FindStringSubmatch(line); m != nil {
				return begun(t, m[1], more, webdriver.Capabilities{"goog:chromeOptions": map[string]any{"args": []string{"--headless",
					"--no-sandbox", "--disable-gpu", "--disable-background-networking", "--window-size=500,700"}}})
			}
		}
	},
	"WebKitWebDriver": func(t *testing.T, more webdriver.Capabilities) *webdriver.Session {
		browsers, _ := filepath.Glob("/usr/lib/*/webkit2gtk-4.*/MiniBrowser")
		if len(browsers) == 0 {
			t.Skip("WebKit's browser is not installed")
		}
		display, err := process(t, nil, "Xvfb", "-displayfd", "1", "-screen", "0", "1200x1200x24", "-nolisten", "tcp").ReadString('\n')
		require.NoError(t, err)
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		port := strconv.Itoa(l.Addr().(*net.TCPAddr).Port)
		require.NoError(t, l.Close())
		process(t, []string{"DISPLAY=:" + strings.TrimSpace(display), "GDK_BACKEND=x11", "DBUS_SESSION_BUS_ADDRESS=disabled:"},
			"WebKitWebDriver", "--host=127.0.0.1", "--port="+port)
		return begun(t, port, more, webdriver.Capabilities{"webkitgtk:browserOptions": map[string]any{"binary": browsers[0],
			"args": []string{"--automation"}}})
	},
}

func begun(t *testing.T, port string, more, own webdriver.Capabilities) *webdriver.Session {
	t.Helper()
	c, err := webdriver.NewClient("http://127.0.0.1:"+port, webdriver.Options{})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		ready, _, err := c.Status(t.Context())
		return err == nil && ready
	}, 30*time.Second, 20*time.Millisecond)
	for name, value := range more {
		own[name] = value
	}
	s, err := c.New(t.Context(), own)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Delete(context.WithoutCancel(t.Context())) })
	return s
}

// The commands of the standard, each against two drivers that nobody here wrote.
func TestTheCommandsOfTheStandardAgainstDebiansDrivers(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte(page))
	}))
	t.Cleanup(server.Close)
	for name, session := range drivers {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx := t.Context()
			s := session(t, webdriver.Capabilities{"unhandledPromptBehavior": "ignore"})
			require.NotEmpty(t, s.Matched.Text("browserVersion"))
			require.NoError(t, s.Timeouts(ctx, 2*time.Second, 20*time.Second))
			require.NoError(t, s.Go(ctx, server.URL+"/"))
			is := func(want any) func(got any, err error) {
				return func(got any, err error) {
					t.Helper()
					require.NoError(t, err)
					require.Equal(t, want, got)
				}
			}
			find := func(css string) webdriver.Element {
				e, err := s.Find(ctx, "css selector", css)
				require.NoError(t, err, css)
				return e
			}
			is(server.URL + "/")(s.Address(ctx))
			is("Quay")(s.Title(ctx))
			h, f, b := find("#h"), find("#f"), find("#b")
			is("Crossing")(s.Text(ctx, h))
			is("h1")(s.Tag(ctx, h))
			is("name")(func() (any, error) { a, err := s.Attribute(ctx, f, "data-of"); return *a, err }())
			none, err := s.Attribute(ctx, f, "nothing")
			require.NoError(t, err)
			require.Nil(t, none)
			is("Aya")(s.Property(ctx, f, "value"))
			style, err := s.Style(ctx, h, "color")
			require.NoError(t, err)
			require.Contains(t, style, "29, 78, 107")
			is(true)(s.Enabled(ctx, f))
			is(false)(s.Enabled(ctx, find("#off")))
			is(true)(s.Selected(ctx, find("#c")))
			is("link")(s.Role(ctx, find("#a")))
			is("All tickets")(s.Label(ctx, find("#a")))
			rect, err := s.Lies(ctx, find("#long"))
			require.NoError(t, err)
			require.Equal(t, 3000, rect.Height)

			require.NoError(t, s.Clear(ctx, f))
			require.NoError(t, s.Click(ctx, f))
			require.NoError(t, s.Perform(ctx, webdriver.Typed("Bo")))
			require.NoError(t, s.Release(ctx))
			require.NoError(t, s.Type(ctx, f, "!"))
			is("Bo!")(s.Property(ctx, f, "value"))
			active, err := s.Active(ctx)
			require.NoError(t, err)
			require.Equal(t, f, active)
			all, err := s.FindAll(ctx, "tag name", "button")
			require.NoError(t, err)
			require.Len(t, all, 2)
			_, err = s.Find(ctx, "xpath", "//h1")
			require.NoError(t, err)
			_, err = s.FindIn(ctx, h, "css selector", "p")
			require.True(t, webdriver.Is(err, webdriver.NoSuchElement), "%v", err)
			_, err = s.Find(ctx, "css selector", "::::")
			require.True(t, webdriver.Is(err, webdriver.InvalidSelector), "%v", err)
			_, err = s.Text(ctx, webdriver.Element{ID: "never-there"})
			require.True(t, webdriver.Is(err, webdriver.NoSuchElement, webdriver.StaleElement), "%v", err)

			root, err := s.Shadow(ctx, find("#host"))
			require.NoError(t, err)
			deep, err := s.FindInShadow(ctx, root, "css selector", "#deep")
			require.NoError(t, err)
			is("In the shadow")(s.Text(ctx, deep))
			_, err = s.Shadow(ctx, h)
			require.True(t, webdriver.Is(err, webdriver.NoSuchShadowRoot), "%v", err)

			require.NoError(t, s.ToFrame(ctx, find("#frame")))
			is("In the frame")(s.Text(ctx, find("#in")))
			require.NoError(t, s.ToParent(ctx))
			require.NoError(t, s.ToFrame(ctx, nil))
			require.True(t, webdriver.Is(s.ToFrame(ctx, 9), webdriver.NoSuchFrame))

			var sum int
			require.NoError(t, s.Run(ctx, "return arguments[0] + arguments[1]", &sum, 40, 2))
			require.Equal(t, 42, sum)
			require.NoError(t, s.RunAsync(ctx, "arguments[arguments.length - 1](7)", &sum))
			require.Equal(t, 7, sum)
			require.True(t, webdriver.Is(s.Run(ctx, "throw new Error('mine')", nil), webdriver.JavaScriptError))
			require.True(t, webdriver.Is(s.RunAsync(ctx, "", nil), webdriver.ScriptTimeout))

			for _, picture := range []func() ([]byte, error){func() ([]byte, error) { return s.Picture(ctx) },
				func() ([]byte, error) { return s.PictureOf(ctx, h) }} {
				data, err := picture()
				require.NoError(t, err)
				_, err = png.Decode(bytes.NewReader(data))
				require.NoError(t, err)
			}
			source, err := s.Source(ctx)
			require.NoError(t, err)
			require.Contains(t, source, "In the frame")

			require.NoError(t, s.AddCookie(ctx, webdriver.Cookie{Name: "crew", Value: "Ines", Path: "/"}))
			cookie, err := s.Cookie(ctx, "crew")
			require.NoError(t, err)
			require.Equal(t, "Ines", cookie.Value)
			cookies, err := s.Cookies(ctx)
			require.NoError(t, err)
			require.Len(t, cookies, 1)
			require.NoError(t, s.DeleteCookie(ctx, "crew"))
			_, err = s.Cookie(ctx, "crew")
			require.True(t, webdriver.Is(err, webdriver.NoSuchCookie), "%v", err)
			require.NoError(t, s.DeleteCookies(ctx))

			require.NoError(t, s.Perform(ctx, webdriver.Wheel(screen.Point{X: 100, Y: 300}, 0, 400)))
			var scrolled float64
			require.Eventually(t, func() bool {
				return s.Run(ctx, "return scrollY", &scrolled) == nil && scrolled > 100
			}, 10*time.Second, 20*time.Millisecond)

			_, err = s.AlertText(ctx)
			require.True(t, webdriver.Is(err, webdriver.NoSuchAlert), "%v", err)
			require.NoError(t, s.Click(ctx, b))
			is("Who?")(s.AlertText(ctx))
			_, err = s.Title(ctx)
			require.True(t, webdriver.Is(err, webdriver.UnexpectedAlert), "%v", err)
			require.NoError(t, s.Answer(ctx, true, "Ines"))
			is("Ines")(s.Text(ctx, h))

			first, err := s.InFront(ctx)
			require.NoError(t, err)
			second, err := s.Open(ctx, "tab")
			require.NoError(t, err)
			require.NoError(t, s.To(ctx, second))
			windows, err := s.Windows(ctx)
			require.NoError(t, err)
			require.ElementsMatch(t, []webdriver.Window{first, second}, windows)
			left, err := s.CloseWindow(ctx)
			require.NoError(t, err)
			require.Equal(t, []webdriver.Window{first}, left)
			require.NoError(t, s.To(ctx, first))
			require.True(t, webdriver.Is(s.To(ctx, "nowhere"), webdriver.NoSuchWindow))
			_, err = s.SetRect(ctx, webdriver.Rect{Width: 640, Height: 720})
			require.NoError(t, err)
			now, err := s.RectNow(ctx)
			require.NoError(t, err)
			require.Equal(t, []int{640, 720}, []int{now.Width, now.Height})

			require.NoError(t, s.Reload(ctx))
			_, err = s.Text(ctx, h)
			require.True(t, webdriver.Is(err, webdriver.StaleElement), "%v", err)
			require.NoError(t, s.Go(ctx, server.URL+"/other"))
			require.NoError(t, s.Back(ctx))
			is(server.URL + "/")(s.Address(ctx))
			require.NoError(t, s.Forward(ctx))
			is(server.URL + "/other")(s.Address(ctx))
			if pdf, err := s.Print(ctx); name == "chromedriver" { // the other knows no such command
				require.NoError(t, err)
				require.True(t, bytes.HasPrefix(pdf, []byte("%PDF-")))
			} else {
				require.True(t, webdriver.Is(err, webdriver.UnknownCommand, webdriver.UnsupportedOp), "%v", err)
			}
			require.NoError(t, s.Delete(ctx))
			require.NoError(t, s.Delete(ctx), "one that has ended has ended")
			_, err = s.Title(ctx)
			require.True(t, webdriver.Is(err, webdriver.InvalidSession), "%v", err)
			require.Equal(t, webdriver.OfDevice, webdriver.FaultOf(err))
		})
	}
}

// BiDi beside a classic session, with the driver that has it.
func TestBiDiTellsWhatAPageLogsAsksForAndOpens(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if r.URL.Path == "/missing" {
			w.WriteHeader(http.StatusNotFound)
		}
		_, _ = w.Write([]byte(`<title>Quay</title><script>console.warn('late', 3); fetch('/missing')</script>`))
	}))
	t.Cleanup(server.Close)
	ctx := t.Context()
	s := drivers["chromedriver"](t, webdriver.Capabilities{"webSocketUrl": true})
	heard := make(chan string, 1000)
	c, err := bidi.Dial(ctx, s.Matched.Text("webSocketUrl"), nil, nil, func(method string, params json.RawMessage) {
		select {
		case heard <- method + " " + string(params):
		default:
		}
	})
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.Call(ctx, "session.subscribe", map[string]any{"events": []string{"log.entryAdded", "network.responseCompleted", "browsingContext.load"}}, nil))
	require.NoError(t, s.Go(ctx, server.URL+"/"))
	window, err := s.InFront(ctx)
	require.NoError(t, err)
	for _, want := range []string{`log.entryAdded.*late`, `browsingContext.load`, `network.responseCompleted.*/missing.*404`} {
		form := regexp.MustCompile(want)
		late := time.After(20 * time.Second)
		for found := false; !found; {
			select {
			case said := <-heard:
				found = form.MatchString(said)
			case <-late:
				t.Fatalf("%s was not told", want)
			}
		}
	}
	v, err := c.Evaluate(ctx, string(window), "", "({of: [document.title, 3.5, null], at: new Map([['a', 1n]])})", true)
	require.NoError(t, err)
	text, err := v.Text()
	require.NoError(t, err)
	require.JSONEq(t, `{"of": ["Quay", 3.5, null], "at": {"a": "1"}}`, text)
	var thrown *bidi.Thrown
	_, err = c.Evaluate(ctx, string(window), "", "nowhere.to.be.found", true)
	require.ErrorAs(t, err, &thrown)
	err = c.Call(ctx, "never.heardOf", nil, nil)
	require.True(t, webdriver.Is(err, webdriver.UnknownCommand), "%v", err)
	err = c.Call(ctx, "browsingContext.navigate", map[string]any{"context": "nowhere", "url": "about:blank"}, nil)
	require.True(t, webdriver.Is(err, webdriver.NoSuchFrame), "%v", err)
	c.Close()
	require.ErrorIs(t, c.Call(ctx, "session.status", nil, nil), bidi.ErrGone)
}
