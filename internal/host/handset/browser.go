package handset

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/target"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/device"
	"yamato/internal/host/handset/pipe"
	"yamato/internal/host/keeper"
)

// startTime is how long a browser may take until it answers.
const startTime = 60 * time.Second

// heapMB bounds what the scripts of one page may hold, in megabytes.
const heapMB = 512

// Browser is the one browser of a host. It is started when a device first needs it, and anew
// when it has died. It may be used by several goroutines.
type Browser struct {
	Path   string   // of Chromium; looked for where ""
	Keeper []string // command that starts a keeper: this program and keeper.Argument
	// Authority is a PEM file with certificates that are trusted beside the browser's own, "" for none.
	Authority string
	Dir       string // for profiles; the system's folder for what is temporary where ""
	swept     sync.Once
	Log       *slog.Logger

	mu    sync.Mutex
	now   *running
	users int
	major string // version
}

// running is a browser's process, and the pipe to it.
type running struct {
	pipe.Session // with the browser itself
	version      string
	sandbox      bool
	keeper       *exec.Cmd
	alive        io.Closer // the keeper's standard input
	over         sync.WaitGroup

	mu        sync.Mutex
	created   map[target.ID]func(target.Info) // what opens in the pages of whom
	destroyed map[target.ID]func()            // who is told that a page is no more
}

// names are what Chromium is called where packages install it.
var names = []string{"chromium", "chromium-browser"}

// find gives the browser's path.
func (b *Browser) find() (string, error) {
	if b.Path != "" {
		if _, err := os.Stat(b.Path); err != nil {
			return "", &device.Trouble{Why: "the browser " + b.Path + ", which the site file names, is not there",
				Remedy: "install it, or name another in the site file"}
		}
		return b.Path, nil
	}
	for _, n := range names {
		if path, err := exec.LookPath(n); err == nil {
			return path, nil
		}
	}
	return "", &device.Trouble{Why: "no Chromium is installed on this host",
		Remedy: "as root: apt-get install -y chromium"}
}

// installed gives the version of the browser as far as people name it, without starting it.
func (b *Browser) installed() (string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.major != "" {
		return b.major, nil
	}
	path, err := b.find()
	if err != nil {
		return "", err
	}
	ctx, stop := context.WithTimeout(context.Background(), startTime)
	defer stop()
	said, err := exec.CommandContext(ctx, path, "--version").Output()
	if err != nil {
		return "", fmt.Errorf("%s does not say its version: %w", path, err)
	}
	v := versionForm.FindSubmatch(said)
	if v == nil {
		return "", fmt.Errorf("%s says that its version is %.60q", path, said)
	}
	b.major = string(v[1])
	return b.major, nil
}

var versionForm = regexp.MustCompile(`([0-9]{1,4})\.[0-9.]+`)

// up gives the browser, which is started if it does not run.
func (b *Browser) up(ctx context.Context) (*running, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.now != nil {
		select {
		case <-b.now.Gone:
			b.now.end()
			b.now = nil
		default:
			return b.now, nil
		}
	}
	r, err := b.start(ctx)
	if err != nil {
		var t *device.Trouble
		if errors.As(err, &t) {
			return nil, err
		}
		return nil, &device.Trouble{Why: "the browser cannot be started: " + err.Error(),
			Remedy: "start it by hand on the host, and see what it says"}
	}
	b.now = r
	return r, nil
}

func (b *Browser) start(ctx context.Context) (*running, error) {
	path, err := b.find()
	if err != nil {
		return nil, err
	}
	b.swept.Do(func() { keeper.Sweep(b.Dir, time.Now()) })
	profile, err := os.MkdirTemp(b.Dir, keeper.Prefix)
	if err != nil {
		return nil, err
	}
	if b.Authority != "" {
		if err := trust(ctx, profile, b.Authority); err != nil {
			return nil, errors.Join(err, os.RemoveAll(profile))
		}
	}
	r := &running{sandbox: os.Geteuid() != 0, created: map[target.ID]func(target.Info){},
		destroyed: map[target.ID]func(){}}
	var stderr head
	args := append(append([]string{}, b.Keeper[1:]...), profile, path)
	r.keeper = exec.Command(b.Keeper[0], append(args, options(profile, r.sandbox)...)...)
	r.keeper.Stderr = &stderr
	r.keeper.Env = append(os.Environ(), "HOME="+profile, "XDG_CONFIG_HOME="+profile, "XDG_CACHE_HOME="+profile)
	r.keeper.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	toBrowser, in, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	out, fromBrowser, err := os.Pipe()
	if err != nil {
		_, _ = toBrowser.Close(), in.Close()
		return nil, err
	}
	r.keeper.ExtraFiles = []*os.File{toBrowser, fromBrowser}
	if r.alive, err = r.keeper.StdinPipe(); err == nil {
		err = r.keeper.Start()
	}
	_, _ = toBrowser.Close(), fromBrowser.Close()
	if err != nil {
		return nil, errors.Join(err, in.Close(), out.Close(), os.RemoveAll(profile))
	}
	r.Pipe = pipe.New(in, out)
	r.over.Go(r.Read)
	r.Listen("", r.heard)
	ctx, stop := context.WithTimeoutCause(ctx, startTime, fmt.Errorf("it did not answer within %s", startTime))
	defer stop()
	if err := r.greet(ctx); err != nil {
		r.end()
		return nil, errors.Join(err, stderr.said())
	}
	if b.Log != nil {
		b.Log.Info("the browser is up", "version", r.version, "sandbox", r.sandbox)
		if !r.sandbox {
			b.Log.Warn("the browser runs without its sandbox, because this host runs as root; run it as another user")
		}
	}
	return r, nil
}

func (r *running) greet(ctx context.Context) error {
	_, product, _, _, _, err := browser.GetVersion().Do(r.On(ctx))
	if err != nil {
		return err
	}
	_, r.version, _ = strings.Cut(product, "/")
	return target.SetDiscoverTargets(true).Do(r.On(ctx))
}

// heard takes in what the browser says of targets: which page has opened another.
func (r *running) heard(method string, params jsontext.Value) {
	if method == "Target.targetDestroyed" {
		var e target.EventTargetDestroyed
		if json.Unmarshal(params, &e, pipe.Reads) != nil {
			return
		}
		r.mu.Lock()
		told := r.destroyed[e.TargetID]
		r.mu.Unlock()
		if told != nil {
			told()
		}
		return
	}
	if method != "Target.targetCreated" {
		return
	}
	var e target.EventTargetCreated
	if json.Unmarshal(params, &e, pipe.Reads) != nil || e.TargetInfo == nil || e.TargetInfo.OpenerID == "" {
		return
	}
	r.mu.Lock()
	told := r.created[e.TargetInfo.OpenerID]
	r.mu.Unlock()
	if told != nil {
		told(*e.TargetInfo)
	}
}

// watch has a page be told of what it opens, and that it is no more; forget ends that.
func (r *running) watch(page target.ID, opens func(target.Info), gone func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.created[page], r.destroyed[page] = opens, gone
}

func (r *running) forget(page target.ID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.created, page)
	delete(r.destroyed, page)
}

// end ends the browser's process, and waits until its profile is gone.
func (r *running) end() {
	_ = r.alive.Close()
	if r.Pipe != nil {
		_, _ = r.CloseIn(), r.keeper.Wait()
		_ = r.CloseOut()
		r.over.Wait()
	}
}

// use counts a device in; done counts it out, and ends the browser with the last.
func (b *Browser) use() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.users++
}

func (b *Browser) done() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.users--; b.users <= 0 && b.now != nil {
		b.now.end()
		b.now = nil
	}
}

// options are how the browser is started.
func options(profile string, sandbox bool) []string {
	out := []string{"--headless", "--remote-debugging-pipe", "--user-data-dir=" + filepath.Clean(profile),
		"--disable-gpu", "--no-first-run", "--no-default-browser-check", "--mute-audio", "--hide-scrollbars",
		"--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-quic",
		"--disable-breakpad", "--disable-dev-shm-usage", "--disable-domain-reliability", "--disable-default-apps",
		"--disable-extensions", "--disable-client-side-phishing-detection", "--disable-prompt-on-repost",
		// A page is treated alike whether or not another is in front of it.
		"--disable-renderer-backgrounding", "--disable-background-timer-throttling",
		"--disable-backgrounding-occluded-windows", "--disable-ipc-flooding-protection",
		// A camera and a microphone that are made up, where an app may use them: a picture and a tone.
		"--use-fake-device-for-media-stream",
		"--force-color-profile=srgb", "--autoplay-policy=user-gesture-required",
		"--disable-features=AutofillServerCommunication,Translate,MediaRouter,OptimizationHints,PaintHolding,HttpsUpgrades",
		// Nothing but the handset's proxy is reached: no name is looked up, no packet is sent past it.
		"--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.0.0.1",
		"--webrtc-ip-handling-policy=disable_non_proxied_udp", "--force-webrtc-ip-handling-policy",
		// Roles and names as the browser's accessibility tree has them, element by element.
		"--enable-blink-features=ComputedAccessibilityInfo",
		"--js-flags=--max-old-space-size=" + strconv.Itoa(heapMB), "--lang=en-GB"}
	if !sandbox {
		out = append(out, "--no-sandbox")
	}
	return append(out, "about:blank")
}

// head keeps the first of what a process writes to its standard error.
type head struct {
	mu   sync.Mutex
	kept bytes.Buffer
}

func (h *head) Write(b []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if room := 2000 - h.kept.Len(); room > 0 {
		h.kept.Write(b[:min(room, len(b))])
	}
	return len(b), nil
}

func (h *head) said() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if text := strings.TrimSpace(h.kept.String()); text != "" {
		return errors.New(text)
	}
	return nil
}
