package remote

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/host/inpage"
	"yamato/internal/webdriver"
)

// webkit is WebKitGTK as Debian has it: its WebDriver, the browser that comes with it, and a screen that nobody sees.
// What an app stores is gone with its browser; each app, and each fresh start, has a browser of its own. Language,
// time zone, appearance and size of text are what that is started with.
type webkit struct {
	*classicPage
	keeps []string
	path  string // of the driver
	tells tells

	proxy   string
	display *program
	at      string   // the display's number
	due     string   // the name by which pages are asked what is due, and what they log
	scripts sync.Map // by app: what its documents find before their own
	rooms   map[string]*webkitRoom
	now     *webkitRoom
	spare   *webkitSpare
}

// webkitSpare is a browser that is being started for who comes next: to start one takes longer than most apps take.
type webkitSpare struct {
	felt feels
	room *webkitRoom
	err  error
	stop context.CancelFunc
	done chan struct{} // closed once room and err are there
}

// prepare has a browser be started that feels what f says.
func (w *webkit) prepare(f *feels) {
	if w.spare != nil {
		return
	}
	ctx, stop := context.WithCancel(context.Background())
	s := &webkitSpare{felt: *f, room: &webkitRoom{}, stop: stop, done: make(chan struct{})}
	w.spare = s
	go func() { // ends with begin, which take and halt wait for
		defer close(s.done)
		s.err = contain.Do("a browser that is prepared", func() error { return w.begin(ctx, s.room, &s.felt) })
	}()
}

// take gives the browser that was prepared, where it feels what f says; else it is ended, and there is none.
func (w *webkit) take(f *feels) *webkitRoom {
	s := w.spare
	if s == nil {
		return nil
	}
	w.spare = nil
	if f == nil || !s.felt.same(f) {
		s.stop()
	}
	<-s.done
	s.stop()
	if f == nil || !s.felt.same(f) || s.err != nil || s.room.driver.dead() {
		s.room.driver.end()
		return nil
	}
	return s.room
}

// webkitRoom is a browser that an app is in.
type webkitRoom struct {
	app     appPage
	driver  *program
	session *webdriver.Session
	felt    feels
	kept    store
	holds   bool // kept is not in the browser yet
}

var _ engine = (*webkit)(nil)

func newWebKit(keeps []string, path string, t tells) *webkit {
	w := &webkit{keeps: keeps, path: path, tells: t, rooms: map[string]*webkitRoom{}, due: rand.Text()}
	w.classicPage = &classicPage{tell: t, proc: w.keeper, look: inpage.LookTouching(w.due)}
	return w
}

const webkitPackages = "webkit2gtk-driver xvfb"

// webkitBrowsers are where packages install the browser that WebKit's driver drives.
const webkitBrowsers = "/usr/lib/*/webkit2gtk-4.*/MiniBrowser"

// findWebKit gives the paths of the driver and of its browser.
func findWebKit(path string) (driver, browser string, err error) {
	if driver, err = findProgram(path, []string{"WebKitWebDriver"}, "WebKit's driver", webkitPackages); err != nil {
		return "", "", err
	}
	found, _ := filepath.Glob(webkitBrowsers)
	if len(found) == 0 {
		return "", "", missing("WebKit's browser", webkitPackages)
	}
	if _, err := exec.LookPath("Xvfb"); err != nil {
		return "", "", missing("Xvfb, on whose screen WebKit draws,", webkitPackages)
	}
	return driver, found[len(found)-1], nil
}

var displayNumber = regexp.MustCompile(`^([0-9]{1,5})\n`)

func (w *webkit) boot(ctx context.Context, proxy string) (string, error) {
	w.halt()
	_, browser, err := findWebKit(w.path)
	if err != nil {
		return "", err
	}
	ctx, stop := context.WithTimeoutCause(ctx, startTime, fmt.Errorf("it did not answer within %s", startTime))
	defer stop()
	dir, err := folder()
	if err != nil {
		return "", err
	}
	// It is as large as any screen that a handset may have, held either way.
	w.display, err = start(w.keeps, dir, nil, "Xvfb", "-displayfd", "4", "-screen", "0", "4096x8192x24", "-nolisten", "tcp", "-noreset")
	if err != nil {
		return "", err
	}
	number, from := make(chan string, 1), w.display.from
	w.display.over.Go(func() {
		text, _ := bufio.NewReaderSize(io.LimitReader(from, 64), 64).ReadString('\n')
		number <- text
	})
	select {
	case text := <-number:
		m := displayNumber.FindStringSubmatch(text)
		if m == nil {
			said := strings.TrimSpace(w.display.said.text())
			w.halt()
			return "", errors.New("the screen that nobody sees cannot be had: " + said)
		}
		w.at = ":" + m[1]
	case <-ctx.Done():
		w.halt()
		return "", context.Cause(ctx)
	}
	said, err := exec.CommandContext(ctx, browser, "--version", "--display="+w.at).Output()
	if err != nil {
		w.halt()
		return "", fmt.Errorf("the browser does not say its version: %w", err)
	}
	w.proxy = proxy
	_, version, _ := strings.Cut(strings.TrimSpace(string(said)), " ")
	return version, nil
}

// first is what the documents of an app find before their own: a script, which takes itself out of the document. It is
// called by the device's proxy.
func (w *webkit) first(app string) string {
	script, _ := w.scripts.Load(app)
	text, _ := script.(string)
	return "<script>" + strings.ReplaceAll(inpage.Due(w.due)+inpage.Told(w.due)+text, "</", "<\\/") + "document.currentScript.remove()</script>"
}

// gather takes in what the page in front has logged.
func (w *webkit) gather(ctx context.Context) {
	if w.now == nil || w.alive() != nil || w.dialog != nil {
		return
	}
	said, err := w.AskAt(ctx, inpage.Place{}, "yamatoLogged()")
	var lines [][4]any
	if err != nil || json.Unmarshal([]byte(said), &lines) != nil {
		return
	}
	for _, l := range lines {
		level, _ := l[1].(string)
		tag, _ := l[2].(string)
		text, _ := l[3].(string)
		if slices.Contains([]string{"debug", "info", "warn", "error"}, level) && slices.Contains([]string{"console", "uncaught"}, tag) {
			w.tells.logged(level, tag, text)
		}
	}
}

func (w *webkit) halt() {
	w.take(nil)
	for app := range w.rooms {
		w.end(app)
	}
	w.display.end()
	w.display, w.at, w.now = nil, "", nil
	w.empty()
}

// empty has nothing be in front.
func (w *webkit) empty() {
	w.session, w.known, w.classicPage.at, w.ended, w.dialog = nil, nil, "", nil, nil
	w.pending.Clear()
	w.pending.Afresh()
}

// end ends the browser that an app is in.
func (w *webkit) end(app string) {
	r := w.rooms[app]
	delete(w.rooms, app)
	if r == nil {
		return
	}
	r.driver.end()
	if w.now == r {
		w.now = nil
		w.empty()
	}
}

func (w *webkit) lost() error {
	if w.display.dead() {
		return died("the screen that the browser draws on")
	}
	return nil
}

func (w *webkit) keeper() int {
	if w.now == nil {
		return 0
	}
	return w.now.driver.pid()
}

// same tells whether a browser that was started so can feel what f says without being started anew.
func (was feels) same(f *feels) bool {
	return was.language == f.language && was.zone == f.zone && was.dark == f.dark && was.text == f.text
}

func (w *webkit) open(ctx context.Context, app appPage, fresh bool, f *feels) error {
	r := w.rooms[app.id]
	if r != nil && !fresh && w.now == r && r.session != nil && !r.felt.same(f) { // it is opened anew where it was
		w.hold(ctx)
	}
	switch {
	case r == nil:
		r = &webkitRoom{}
	case fresh:
		w.end(app.id)
		r = &webkitRoom{}
	case !r.felt.same(f) || r.driver.dead():
		kept := r.kept
		w.end(app.id)
		r = &webkitRoom{kept: kept, holds: true}
	}
	if r.session == nil {
		if spare := w.take(f); spare != nil {
			spare.kept, spare.holds = r.kept, r.holds
			r = spare
		} else if err := w.begin(ctx, r, f); err != nil {
			return err
		}
	}
	r.app = app
	w.scripts.Store(app.id, app.script)
	defer w.prepare(f)
	w.rooms[app.id], w.now = r, r
	w.empty()
	w.session = r.session
	if _, err := w.window(ctx); err != nil {
		return err
	}
	if err := w.feel(ctx, f); err != nil {
		return err
	}
	if !r.holds {
		return nil
	}
	r.holds = false
	if err := w.visit(ctx, app.origin+"/yamato-nothing-here"); err != nil {
		return err
	}
	return w.put(ctx, r.kept)
}

// style has the window be as narrow as phones are: what is about the page in it takes no room.
const style = "* { min-width: 0; min-height: 0; padding: 0; margin: 0; border: none; font-size: 1px; box-shadow: none; -gtk-icon-transform: scale(0); }\n"

// begin starts a browser that feels what f says.
func (w *webkit) begin(ctx context.Context, r *webkitRoom, f *feels) error {
	driver, browser, err := findWebKit(w.path)
	if err != nil {
		return err
	}
	dir, err := folder()
	if err != nil {
		return err
	}
	locale := strings.ReplaceAll(f.language, "-", "_") + ".UTF-8"
	config := fmt.Sprintf("[websettings]\ndefault-font-size=%d\ndefault-monospace-font-size=%d\nenable-smooth-scrolling=false\nenable-back-forward-navigation-gestures=false\n",
		sizeOfText*f.text/100, 13*f.text/100)
	err = errors.Join(os.MkdirAll(filepath.Join(dir, "gtk-3.0"), 0o700),
		os.WriteFile(filepath.Join(dir, "gtk-3.0", "gtk.css"), []byte(style), 0o600),
		os.WriteFile(filepath.Join(dir, "settings"), []byte(config), 0o600), ownLocale(dir, locale))
	if err != nil {
		return errors.Join(err, os.RemoveAll(dir))
	}
	port, err := freePort()
	if err != nil {
		return errors.Join(err, os.RemoveAll(dir))
	}
	env := []string{"DISPLAY=" + w.at, "WAYLAND_DISPLAY=", "GDK_BACKEND=x11", "LOCPATH=" + dir, "LC_ALL=" + locale, "LANG=" + locale,
		"LANGUAGE=", "TZ=" + f.zone, "NO_AT_BRIDGE=1", "GTK_THEME=Adwaita", "GSETTINGS_BACKEND=memory", "LIBGL_ALWAYS_SOFTWARE=1"}
	if r.driver, err = start(w.keeps, dir, env, driver, "--host=127.0.0.1", "--port="+strconv.Itoa(port)); err != nil {
		return err
	}
	ctx, stop := context.WithTimeoutCause(ctx, startTime, fmt.Errorf("it did not answer within %s", startTime))
	defer stop()
	client, err := webdriver.NewClient("http://127.0.0.1:"+strconv.Itoa(port), webdriver.Options{})
	if err == nil {
		err = w.answers(ctx, r.driver, client)
	}
	if err == nil {
		args := []string{"--automation", "--config=" + filepath.Join(dir, "settings")}
		if f.dark {
			args = append(args, "--dark-mode")
		}
		r.session, err = client.New(ctx, webdriver.Capabilities{
			"proxy":                    map[string]any{"proxyType": "manual", "httpProxy": w.proxy, "sslProxy": w.proxy},
			"unhandledPromptBehavior":  "ignore",
			"webkitgtk:browserOptions": map[string]any{"binary": browser, "args": args}})
	}
	if err == nil {
		err = r.session.Timeouts(ctx, scriptTime, loadTime)
	}
	if err != nil {
		said := strings.TrimSpace(r.driver.said.text())
		r.driver.end()
		r.driver, r.session = nil, nil
		return &device.Trouble{Why: fmt.Sprintf("the browser cannot be started: %v %s", err, said), Remedy: "start it by hand on the host, and see what it says"}
	}
	r.felt = *f
	r.felt.width = 0
	return nil
}

// ownLocale has the C library know a locale of this name: the browser reads of it what its language is, and has its
// own words for all else.
func ownLocale(dir, name string) error {
	for _, neutral := range []string{"/usr/lib/locale/C.utf8", "/usr/lib/locale/C.UTF-8"} {
		if _, err := os.Stat(neutral); err == nil {
			return os.Symlink(neutral, filepath.Join(dir, name))
		}
	}
	return nil // the browser then speaks English
}

// answers waits until a driver answers.
func (w *webkit) answers(ctx context.Context, p *program, c *webdriver.Client) error {
	for {
		ready, _, err := c.Status(ctx)
		if err == nil && ready {
			return nil
		}
		if p.dead() {
			return errors.New("it has ended: " + strings.TrimSpace(p.said.text()))
		}
		if err := pause(ctx, time.Now().Add(15*time.Millisecond)); err != nil {
			return err
		}
	}
}

// hold keeps what the app in front has stored, so that it can be had in another browser.
func (w *webkit) hold(ctx context.Context) {
	if w.now == nil || w.alive() != nil || w.dialog != nil {
		return
	}
	if kept, err := w.keep(ctx); err == nil {
		w.now.kept = kept
	}
}

func (w *webkit) shut(ctx context.Context) {
	if w.now == nil {
		return
	}
	r := w.now
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer stop()
	if w.dialog != nil {
		_ = w.answer(ctx, false, "")
	}
	w.gather(ctx)
	w.hold(ctx)
	ok := w.alive() == nil
	for ok && len(w.known) > 1 {
		if err := w.leave(ctx); err != nil {
			ok = false
		}
		if _, err := w.window(ctx); err != nil {
			ok = false
		}
	}
	if ok {
		err := w.call(ctx, func(ctx context.Context) error { return w.session.Go(ctx, "about:blank") })
		if errors.Is(err, errDialog) { // whoever ends an app does not ask it whether it may be left
			err = w.answer(ctx, true, "")
		}
		ok = err == nil
	}
	if !ok {
		w.end(r.app.id)
	}
	w.now = nil
	w.empty()
}

// quit ends what is in front with all that it has stored, as it is started afresh.
func (w *webkit) quit(ctx context.Context) {
	if w.now == nil {
		return
	}
	w.gather(ctx)
	w.end(w.now.app.id)
}

func (w *webkit) forget(_ context.Context, app string) error {
	w.end(app)
	return nil
}

// feel has the window be as large as the screen is; what else there is only a new browser feels.
func (w *webkit) feel(ctx context.Context, f *feels) error {
	r := w.now
	if r == nil {
		return nil
	}
	if !r.felt.same(f) {
		w.hold(ctx)
		return errAgain
	}
	if r.felt.width == f.width && r.felt.height == f.height {
		return nil
	}
	var inner []float64
	size := webdriver.Rect{Width: f.width, Height: f.height}
	for range 6 { // what is about the page takes some room, and the window is made in its own time
		if err := w.call(ctx, func(ctx context.Context) error {
			if _, err := w.session.SetRect(ctx, size); err != nil {
				return err
			}
			return w.session.Run(ctx, "return [innerWidth, innerHeight]", &inner)
		}); err != nil {
			return err
		}
		if len(inner) != 2 {
			return &webdriver.Broken{Why: "it does not say how large its window is"}
		}
		dx, dy := f.width-int(inner[0]), f.height-int(inner[1])
		if dx == 0 && dy == 0 {
			r.felt.width, r.felt.height = f.width, f.height
			return nil
		}
		size.Width, size.Height = max(size.Width+dx, 50), max(size.Height+dy, 50)
	}
	return fmt.Errorf("the browser's window cannot be made %d by %d dp; it is %g by %g", f.width, f.height, inner[0], inner[1])
}
