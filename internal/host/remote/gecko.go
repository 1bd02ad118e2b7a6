package remote

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/host/inpage"
	"yamato/internal/webdriver"
	"yamato/internal/webdriver/bidi"
)

// gecko is Firefox as Debian has it, driven over its own WebDriver BiDi. Each device has a process of its own: what is
// set for all of a browser is set for that device alone.
type gecko struct {
	*bidiPage
	keeps []string // command that starts a keeper
	path  string
	tells tells

	program *program
	proxy   string
	chrome  string // the context of the browser's own window, in which its settings are
	rooms   map[string]string
	scripts []string // preloaded in the page in front
	felt    feels
	hidden  string // the context that is in front while the app is away
}

var _ engine = (*gecko)(nil)

func newGecko(keeps []string, path string, t tells) *gecko {
	return &gecko{keeps: keeps, path: path, tells: t, rooms: map[string]string{}}
}

// geckoNames are what it is called where packages install it.
var geckoNames = []string{"firefox-esr", "firefox"}

// findProgram gives the path of the first of some programs that is there.
func findProgram(path string, names []string, what, packages string) (string, error) {
	if path != "" {
		if _, err := os.Stat(path); err != nil {
			return "", &device.Trouble{Why: what + " " + path + ", which the site file names, is not there",
				Remedy: "install it, or name another in the site file"}
		}
		return path, nil
	}
	for _, n := range names {
		if path, err := exec.LookPath(n); err == nil {
			return path, nil
		}
	}
	return "", missing(what, packages)
}

// geckoSettings are those of a profile: a browser that shows apps and asks nobody for anything, and has a touch screen.
// What it would ask for by itself goes to a port that nobody listens on; apps have the device's proxy (room).
func geckoSettings() string {
	const host, port = `"127.0.0.1"`, "9"
	var b strings.Builder
	for _, s := range [][2]string{
		{"network.proxy.type", "1"}, {"network.proxy.http", host}, {"network.proxy.http_port", port},
		{"network.proxy.ssl", host}, {"network.proxy.ssl_port", port},
		{"network.proxy.no_proxies_on", `""`}, {"network.proxy.allow_hijacking_localhost", "true"},
		{"network.proxy.failover_direct", "false"}, {"network.proxy.socks_remote_dns", "true"},
		{"media.peerconnection.ice.proxy_only", "true"}, {"network.trr.mode", "5"}, {"network.dns.disablePrefetch", "true"},
		{"network.prefetch-next", "false"}, {"network.http.speculative-parallel-limit", "0"},
		{"network.captive-portal-service.enabled", "false"}, {"network.connectivity-service.enabled", "false"},
		{"dom.w3c_touch_events.enabled", "1"}, {"ui.primaryPointerCapabilities", "1"}, {"ui.allPointerCapabilities", "1"},
		{"ui.useOverlayScrollbars", "1"}, {"layout.css.prefers-color-scheme.content-override", "1"},
		{"dom.security.https_first", "false"}, {"dom.security.https_only_mode", "false"},
		{"browser.shell.checkDefaultBrowser", "false"}, {"browser.startup.page", "0"},
		{"browser.startup.homepage_override.mstone", `"ignore"`}, {"browser.aboutwelcome.enabled", "false"},
		{"datareporting.policy.dataSubmissionEnabled", "false"}, {"toolkit.telemetry.enabled", "false"},
		{"app.update.enabled", "false"}, {"extensions.update.enabled", "false"}, {"browser.safebrowsing.malware.enabled", "false"},
		{"browser.safebrowsing.phishing.enabled", "false"}, {"browser.safebrowsing.downloads.enabled", "false"},
		{"dom.push.connection.enabled", "false"}, {"services.settings.server", `"data:,#remote-settings-dummy/v1"`},
		{"browser.translations.enable", "false"}, {"browser.download.alwaysOpenPanel", "false"},
		{"dom.disable_open_during_load", "false"}, {"full-screen-api.warning.timeout", "0"},
		{"dom.ipc.processPrelaunch.enabled", "false"}, {"dom.min_background_timeout_value", "4"},
		{"browser.sessionstore.resume_from_crash", "false"}, {"media.navigator.streams.fake", "true"},
		{"media.autoplay.default", "5"}, {"intl.accept_languages", `"en-GB"`}, {"general.smoothScroll", "false"},
		{"gfx.color_management.mode", "0"},
		{"geo.provider.network.url", `""`}, {"geo.provider.use_geoclue", "false"}, {"geo.provider.testing", "false"},
	} {
		fmt.Fprintf(&b, "user_pref(%q, %s);\n", s[0], s[1])
	}
	return b.String()
}

var geckoListens = regexp.MustCompile(`WebDriver BiDi listening on (ws://127\.0\.0\.1:[0-9]{1,5})`)

// startTime is how long a browser may take until it answers.
const startTime = 90 * time.Second

func (g *gecko) boot(ctx context.Context, proxy string) (string, error) {
	g.halt()
	path, err := findProgram(g.path, geckoNames, "the browser Firefox", "firefox-esr")
	if err != nil {
		return "", err
	}
	ctx, stop := context.WithTimeoutCause(ctx, startTime, fmt.Errorf("it did not answer within %s", startTime))
	defer stop()
	dir, err := folder()
	if err != nil {
		return "", err
	}
	profile := filepath.Join(dir, "profile")
	if err := errors.Join(os.Mkdir(profile, 0o700), os.WriteFile(filepath.Join(profile, "user.js"), []byte(geckoSettings()), 0o600)); err != nil {
		return "", errors.Join(err, os.RemoveAll(dir))
	}
	env := []string{"MOZ_CRASHREPORTER_DISABLE=1", "MOZ_HEADLESS=1", "TZ=UTC"}
	p, err := start(g.keeps, dir, env, path, "--headless", "--no-remote", "--profile", profile, "--remote-allow-system-access",
		"--remote-debugging-port", "0")
	if err != nil {
		return "", err
	}
	g.program, g.proxy = p, proxy
	address, err := p.await(ctx, func(text string) string {
		if m := geckoListens.FindStringSubmatch(text); m != nil {
			return m[1]
		}
		return ""
	})
	if err == nil {
		var conn *bidi.Conn
		// events come from here on; there is a page to hear them before the first
		page := newBidiPage(nil, p.pid(), g.tells)
		if conn, err = bidi.Dial(ctx, address+"/session", nil, nil, page.heard); err == nil {
			page.conn, g.bidiPage = conn, page
		}
	}
	if err != nil {
		g.halt()
		return "", err
	}
	version, err := g.greet(ctx)
	if err != nil {
		g.halt()
	}
	return version, err
}

// greet begins a session, and finds where the browser's settings are.
func (g *gecko) greet(ctx context.Context) (string, error) {
	var session struct {
		Capabilities struct{ BrowserVersion string }
	}
	if err := g.conn.Call(ctx, "session.new", map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{
		"acceptInsecureCerts":     false,
		"unhandledPromptBehavior": map[string]string{"default": "ignore", "file": "ignore", "beforeUnload": "ignore"}}}}, &session); err != nil {
		return "", err
	}
	var tree struct {
		Contexts []struct{ Context string }
	}
	if err := g.conn.Call(ctx, "browsingContext.getTree", map[string]any{"moz:scope": "chrome"}, &tree); err != nil {
		return "", err
	}
	if len(tree.Contexts) == 0 {
		return "", &webdriver.Broken{Why: "the browser has no window"}
	}
	g.chrome = tree.Contexts[0].Context
	if err := g.conn.Call(ctx, "browser.setDownloadBehavior", map[string]any{"downloadBehavior": map[string]string{"type": "denied"}}, nil); err != nil {
		return "", err
	}
	return session.Capabilities.BrowserVersion, g.conn.Call(ctx, "session.subscribe", map[string]any{"events": []string{
		"browsingContext", "log.entryAdded", "network", "script.message", "input.fileDialogOpened"}}, nil)
}

func (g *gecko) halt() {
	if g.bidiPage != nil && g.conn != nil {
		g.conn.Close()
	}
	g.program.end()
	g.program, g.bidiPage, g.chrome, g.hidden = nil, nil, "", ""
	g.rooms, g.scripts, g.felt = map[string]string{}, nil, feels{}
}

func (g *gecko) lost() error {
	if g.program.dead() || g.bidiPage == nil {
		return died("the browser")
	}
	return g.bidiPage.lost()
}

func (g *gecko) keeper() int { return g.program.pid() }

// room is the part of the browser in which an app stores what it stores (BiDi, user context).
func (g *gecko) room(ctx context.Context, app string) (string, error) {
	if r := g.rooms[app]; r != "" {
		return r, nil
	}
	var out struct{ UserContext string }
	if err := g.conn.Call(ctx, "browser.createUserContext", map[string]any{"proxy": map[string]string{"proxyType": "manual",
		"httpProxy": g.proxy, "sslProxy": g.proxy}}, &out); err != nil {
		return "", g.told(err)
	}
	g.rooms[app] = out.UserContext
	return out.UserContext, nil
}

func (g *gecko) forget(ctx context.Context, app string) error {
	room := g.rooms[app]
	delete(g.rooms, app)
	if room == "" || g.lost() != nil {
		return nil
	}
	return g.told(g.conn.Call(ctx, "browser.removeUserContext", map[string]any{"userContext": room}, nil))
}

func (g *gecko) open(ctx context.Context, app appPage, fresh bool, f *feels) error {
	g.shut(ctx)
	if fresh {
		if err := g.forget(ctx, app.id); err != nil {
			return err
		}
	}
	room, err := g.room(ctx, app.id)
	if err != nil {
		return err
	}
	var out struct{ Context string }
	if err := g.conn.Call(ctx, "browsingContext.create", map[string]any{"type": "tab", "userContext": room}, &out); err != nil {
		return g.told(err)
	}
	g.mu.Lock()
	g.contexts, g.ended, g.questions, g.closing, g.files = []string{out.Context}, "", nil, true, nil
	g.dialogs = map[string]*dialog{}
	g.mu.Unlock()
	g.pending.Clear()
	g.pending.Afresh()
	g.felt = feels{}
	if err := g.preload(ctx, room, app); err != nil {
		return err
	}
	return g.feel(ctx, f)
}

// preload has the documents of an app find our scripts before their own.
func (g *gecko) preload(ctx context.Context, room string, app appPage) error {
	due := rand.Text()
	add := func(sandbox, function, channel string) error {
		in := map[string]any{"functionDeclaration": function, "userContexts": []string{room}}
		if sandbox != "" {
			in["sandbox"] = sandbox
		}
		if channel != "" {
			in["arguments"] = []any{map[string]any{"type": "channel", "value": map[string]any{"channel": channel,
				"ownership": "none"}}}
		}
		var out struct{ Script string }
		err := g.conn.Call(ctx, "script.addPreloadScript", in, &out)
		g.scripts = append(g.scripts, out.Script)
		return g.told(err)
	}
	clip := "globalThis.yamatoCopied = " + inScript(app.clip) + ";"
	return errors.Join(
		add("", "() => {"+inpage.Due(due)+app.script+clip+"}", ""),
		add("", "(tell) => { globalThis.yamatoAsk = tell;\n"+inpage.Ask+"}", askedChannel),
		add(sandbox, "(tell) => { globalThis.yamatoChanged = tell;\n"+inpage.Look(due)+"}", changedChannel))
}

// inScript writes a text as scripts do.
func inScript(text string) string {
	out, _ := json.Marshal(text) // a text can always be written
	return string(out)
}

func (g *gecko) shut(ctx context.Context) {
	if g.bidiPage == nil || g.lost() != nil {
		return
	}
	g.mu.Lock()
	g.closing = true
	contexts := g.contexts
	g.contexts = nil
	g.mu.Unlock()
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer stop()
	for _, c := range contexts {
		_ = g.conn.Call(ctx, "browsingContext.close", map[string]any{"context": c, "promptUnload": false}, nil)
	}
	for _, s := range g.scripts {
		if s != "" {
			_ = g.conn.Call(ctx, "script.removePreloadScript", map[string]string{"script": s}, nil)
		}
	}
	g.scripts = nil
	g.mu.Lock()
	g.dialogs, g.questions, g.files, g.ended = map[string]*dialog{}, nil, nil, ""
	g.mu.Unlock()
}

// set changes settings of the browser itself.
func (g *gecko) set(ctx context.Context, script string) error {
	_, err := g.conn.Evaluate(ctx, g.chrome, "", script, false)
	return g.told(err)
}

// groups are the groups of languages whose size of text is a setting of its own.
var groups = []string{"x-western", "x-unicode", "x-cyrillic", "el", "ja", "ko", "zh-CN", "zh-TW", "zh-HK", "ar", "he", "th",
	"x-devanagari", "x-math"}

func (g *gecko) feel(ctx context.Context, f *feels) error {
	front := g.front()
	if front == "" {
		return nil
	}
	call := func(method string, params map[string]any) error {
		params["contexts"] = []string{front}
		return g.told(g.conn.Call(ctx, method, params, nil))
	}
	was := g.felt
	var errs []error
	if was.language != f.language {
		errs = append(errs, call("emulation.setLocaleOverride", map[string]any{"locale": f.language}))
		if was.language != "" {
			_, err := g.evaluate(ctx, "(dispatchEvent(new Event('languagechange')), '')")
			errs = append(errs, err)
		}
	}
	if was.zone != f.zone && f.zone != "" {
		errs = append(errs, call("emulation.setTimezoneOverride", map[string]any{"timezone": f.zone}))
	}
	if was.width != f.width || was.height != f.height {
		kind, natural := "portrait-primary", "portrait"
		if f.across {
			kind = "landscape-primary"
		}
		errs = append(errs,
			call("emulation.setScreenSettingsOverride", map[string]any{"screenArea": map[string]int{"width": f.width, "height": f.height}}),
			call("emulation.setScreenOrientationOverride", map[string]any{"screenOrientation": map[string]string{"natural": natural, "type": kind}}),
			g.told(g.conn.Call(ctx, "browsingContext.setViewport", map[string]any{"context": front,
				"viewport": map[string]int{"width": f.width, "height": f.height}, "devicePixelRatio": f.density}, nil)))
	}
	if was.width == 0 || was.place != f.place {
		params := map[string]any{"coordinates": nil} // it looks for itself, and finds nothing (settings, geo.provider)
		if f.place != nil {
			params = map[string]any{"coordinates": map[string]float64{"latitude": f.place.Latitude, "longitude": f.place.Longitude,
				"accuracy": max(f.place.Accuracy, 1)}}
		}
		errs = append(errs, call("emulation.setGeolocationOverride", params))
	}
	if was.width == 0 || was.network.None != f.network.None {
		var conditions any
		if f.network.None {
			conditions = map[string]string{"type": "offline"}
		}
		errs = append(errs, call("emulation.setNetworkConditions", map[string]any{"networkConditions": conditions}))
	}
	if was.width == 0 || was.dark != f.dark || was.text != f.text {
		scheme := 1
		if f.dark {
			scheme = 0
		}
		script := fmt.Sprintf("Services.prefs.setIntPref('layout.css.prefers-color-scheme.content-override', %d);", scheme)
		for _, group := range groups {
			script += fmt.Sprintf("Services.prefs.setIntPref('font.size.variable.%s', %d); Services.prefs.setIntPref('font.size.monospace.%s', %d);",
				group, sizeOfText*f.text/100, group, 13*f.text/100)
		}
		// Sizes of text are looked at anew when the factor of the system's changes, and not by themselves.
		errs = append(errs, g.set(ctx, script+"Services.prefs.setIntPref('ui.textScaleFactor', 101); Services.prefs.setIntPref('ui.textScaleFactor', 100); 1"))
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	g.felt = *f
	return nil
}

// askedOf are the permissions that apps ask for, as the browser calls them.
var askedOf = map[string][]string{"location": {"geolocation"}, "notifications": {"notifications"}, "camera": {"camera"},
	"microphone": {"microphone"}}

var stateOf = map[string]string{device.Allow: "granted", device.Deny: "denied", device.Ask: "prompt"}

func (g *gecko) permit(ctx context.Context, app appPage, permission, answer string) error {
	room, err := g.room(ctx, app.id)
	if err != nil {
		return err
	}
	for _, name := range askedOf[permission] {
		err := g.conn.Call(ctx, "permissions.setPermission", map[string]any{"descriptor": map[string]string{"name": name},
			"state": stateOf[answer], "origin": app.origin, "userContext": room}, nil)
		if err != nil && !webdriver.Is(err, webdriver.UnsupportedOp, webdriver.InvalidArgument) {
			return g.told(err)
		}
	}
	if answer != device.Ask {
		g.settled(permission)
	}
	return nil
}

// hide has another tab be in front of the app's, or the app's again.
func (g *gecko) hide(ctx context.Context, yes bool) error {
	if !yes {
		return g.told(g.conn.Call(ctx, "browsingContext.activate", map[string]any{"context": g.front()}, nil))
	}
	if g.hidden == "" {
		var out struct{ Context string }
		if err := g.conn.Call(ctx, "browsingContext.create", map[string]any{"type": "tab"}, &out); err != nil {
			return g.told(err)
		}
		g.hidden = out.Context
	}
	return g.told(g.conn.Call(ctx, "browsingContext.activate", map[string]any{"context": g.hidden}, nil))
}
