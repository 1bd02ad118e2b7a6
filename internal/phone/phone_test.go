package phone

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/bridge"
)

// desk is a phone and Debian's own client, with a server of its own.
type desk struct {
	t      *testing.T
	phone  *Phone
	at     string // where the phone listens
	server string // port of the bridge's server
	home   string
}

func newDesk(t *testing.T, allow func(context.Context, string) (bool, bool)) *desk {
	t.Helper()
	p, err := New(Config{Serial: "KAEDE7R1", Model: "Kaede_7", Maker: "Kaede", Release: "15", API: 35, ABI: "x86_64",
		Width: 1080, Height: 2400, Density: 420, Dir: t.TempDir(), Allow: allow})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- p.Serve(ctx, l) }()
	t.Cleanup(func() { stop(); require.NoError(t, <-done) })
	return &desk{t: t, phone: p, at: l.Addr().String(), home: t.TempDir()}
}

// client starts the bridge's server, and connects the phone.
func (d *desk) client() {
	d.t.Helper()
	if _, err := exec.LookPath("adb"); err != nil {
		d.t.Skip("adb is not here: make test installs it")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(d.t, err)
	_, d.server, _ = net.SplitHostPort(l.Addr().String())
	require.NoError(d.t, l.Close())
	d.t.Cleanup(func() { _, _ = d.adb(nil, "kill-server") })
	out, err := d.adb(nil, "start-server")
	require.NoError(d.t, err, out)
	_, _ = d.adb(nil, "connect", d.at)
}

func (d *desk) adb(in io.Reader, args ...string) (string, error) {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	c := exec.CommandContext(ctx, "adb", append([]string{"-P", d.server}, args...)...)
	c.Env = append(os.Environ(), "HOME="+d.home, "ANDROID_SERIAL="+d.at)
	c.Stdin = in
	out, err := c.CombinedOutput()
	return string(out), err
}

func (d *desk) awaitDevice() {
	d.t.Helper()
	var said string
	require.Eventually(d.t, func() bool {
		said, _ = d.adb(nil, "get-state")
		return strings.TrimSpace(said) == "device"
	}, 30*time.Second, 50*time.Millisecond, "the client does not see the phone: %s", said)
}

// again has the client let go of the phone, and connect it anew, until it sees it: one that was turned away it may keep for a
// while as one that does not answer.
func (d *desk) again() {
	d.t.Helper()
	var said string
	require.Eventually(d.t, func() bool {
		_, _ = d.adb(nil, "disconnect", d.at)
		_, _ = d.adb(nil, "connect", d.at)
		said, _ = d.adb(nil, "get-state")
		return strings.TrimSpace(said) == "device"
	}, 60*time.Second, 200*time.Millisecond, "the client does not see the phone: %s", said)
}

func code(err error) int {
	if e, ok := err.(*exec.ExitError); ok {
		return e.ExitCode()
	}
	return 0
}

// What Debian's client is asked of the phone, and what comes of it: what it does with a phone.
func TestDebiansClientDoesWithThisPhoneWhatItDoesWithOne(t *testing.T) {
	d := newDesk(t, nil)
	d.client()
	d.awaitDevice()
	here := t.TempDir()
	big := make([]byte, 16<<20+7)
	chance := rand.NewChaCha8([32]byte{7})
	_, _ = chance.Read(big)
	require.NoError(t, os.WriteFile(filepath.Join(here, "big"), big, 0o640))
	require.NoError(t, os.WriteFile(filepath.Join(here, "empty"), nil, 0o600))
	for _, c := range []struct {
		args string
		in   string
		code int
		says string
	}{
		{"shell echo hi", "", 0, "hi\n"},
		{"shell getprop ro.product.model", "", 0, "Kaede_7\n"},
		{"shell false", "", 1, ""},
		{"shell exit 42", "", 42, ""},
		{"shell nosuch", "", 127, "nosuch: inaccessible or not found\n"},
		{"shell false || echo so; echo $?", "", 0, "so\n0\n"},
		{"shell true && wm size", "", 0, "Physical size: 1080x2400\n"},
		{"shell echo 'a  b' | wc -c", "", 0, "5\n"},
		{"shell cat", "what came in\n", 0, "what came in\n"},
		{"exec-out cat /sdcard/none", "", 0, "cat: /sdcard/none: No such file or directory\n"},
		{"push " + here + "/big /sdcard/Download/big", "", 0, "1 file pushed"},
		{"shell wc -c /sdcard/Download/big", "", 0, "16777223 /sdcard/Download/big\n"},
		{"pull /sdcard/Download/big " + here + "/back", "", 0, "1 file pulled"},
		{"push " + here + "/empty /storage/emulated/0/empty", "", 0, "1 file pushed"},
		{"shell ls /sdcard", "", 0, "Download\nempty\n"},
		{"push " + here + "/empty /system/bin/sh", "", 1, "Read-only file system"},
		{"pull /sdcard/none " + here + "/none", "", 1, "No such file or directory"},
		{"shell rm /system/bin", "", 1, "Read-only file system\n"},
		{"shell rm -rf /sdcard/../sdcard/empty && ls /sdcard", "", 0, "Download\n"},
		{"shell settings put system user_rotation 1; settings get system user_rotation", "", 0, "1\n"},
		{"shell echo 'unterminated", "", 1, "syntax error"},
	} {
		verb, rest, _ := strings.Cut(c.args, " ")
		args := []string{verb, rest}
		if verb == "push" || verb == "pull" {
			args = append([]string{verb}, strings.Fields(rest)...)
		}
		out, err := d.adb(strings.NewReader(c.in), args...)
		require.Equal(t, c.code, code(err), "%s: %s", c.args, out)
		require.Contains(t, out, c.says, c.args)
	}
	back, err := os.ReadFile(filepath.Join(here, "back"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(big, back), "byte for byte")
	listed, err := d.adb(nil, "devices", "-l")
	require.NoError(t, err)
	require.Contains(t, listed, "product:Kaede_7 model:Kaede_7 device:Kaede_7")

	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "from the phone") }))
	defer server.Close()
	port := server.Listener.Addr().(*net.TCPAddr).Port
	forward, err := d.adb(nil, "forward", "tcp:0", fmt.Sprintf("tcp:%d", port))
	require.NoError(t, err, forward)
	answer, err := http.Get("http://127.0.0.1:" + strings.TrimSpace(forward))
	require.NoError(t, err)
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	require.Equal(t, "from the phone", string(body))

	// And a port of the phone's leads back to the bridge's machine.
	reverse, err := d.adb(nil, "reverse", "tcp:0", fmt.Sprintf("tcp:%d", port))
	require.NoError(t, err, reverse)
	reverse = strings.TrimSpace(reverse)
	for range 3 {
		answer, err := http.Get("http://127.0.0.1:" + reverse)
		require.NoError(t, err)
		said, err := io.ReadAll(answer.Body)
		require.NoError(t, errors.Join(err, answer.Body.Close()))
		require.Equal(t, "from the phone", string(said))
	}
	list, err := d.adb(nil, "reverse", "--list")
	require.NoError(t, err)
	require.Contains(t, list, fmt.Sprintf("tcp:%s tcp:%d", reverse, port))
	_, err = d.adb(nil, "reverse", "--remove", "tcp:"+reverse)
	require.NoError(t, err)
	_, err = d.adb(nil, "reverse", "--remove", "tcp:"+reverse)
	require.Error(t, err, "it is gone")
	_, err = net.Dial("tcp", "127.0.0.1:"+reverse)
	require.Error(t, err)
}

func TestAComputerIsAllowedByAPersonOnceOrAlways(t *testing.T) {
	var asked atomic.Int64
	var allow atomic.Bool
	d := newDesk(t, func(context.Context, string) (bool, bool) { asked.Add(1); return allow.Load(), true })
	d.client()
	require.Eventually(t, func() bool { return asked.Load() > 0 }, 30*time.Second, 20*time.Millisecond, "it is asked on the phone")
	said, err := d.adb(nil, "shell", "echo", "in")
	require.Error(t, err)
	require.NotContains(t, said, "in\n")
	allow.Store(true)
	d.again()
	before := asked.Load()
	d.again()
	require.Equal(t, before, asked.Load(), "what was allowed always is not asked again: its signature is known")
}

// dial connects as a bridge does, by hand.
func (d *desk) dial() net.Conn {
	d.t.Helper()
	c, err := net.Dial("tcp", d.at)
	require.NoError(d.t, err)
	d.t.Cleanup(func() { _ = c.Close() })
	require.NoError(d.t, c.SetDeadline(time.Now().Add(30*time.Second)))
	return c
}

func (d *desk) greeted() net.Conn {
	d.t.Helper()
	c := d.dial()
	say(d.t, c, bridge.Packet{Command: bridge.Connect, Arg0: bridge.Unchecked, Arg1: bridge.MaxData, Data: []byte("host::features=shell_v2\x00")})
	p, err := bridge.ReadPacket(c, bridge.MaxData)
	require.NoError(d.t, err)
	require.Equal(d.t, bridge.Connect, p.Command)
	return c
}

func say(t *testing.T, c net.Conn, list ...bridge.Packet) {
	t.Helper()
	for _, p := range list {
		_, err := c.Write(p.Append(nil))
		require.NoError(t, err)
	}
}

// closed waits until the phone has hung up.
func closed(t *testing.T, c net.Conn) {
	t.Helper()
	for {
		if _, err := bridge.ReadPacket(c, bridge.MaxData); err != nil {
			return
		}
	}
}

func TestAHostileBridgeIsHungUpOnAndTheOthersGoOn(t *testing.T) {
	d := newDesk(t, nil)
	good := d.greeted()
	open := bridge.Packet{Command: bridge.Open, Arg0: 1, Data: []byte("shell:cat\x00")}
	piece := bridge.Packet{Command: bridge.Write, Arg0: 1, Arg1: 1, Data: []byte("x")}
	for _, packets := range map[string][]bridge.Packet{
		"it goes on before it was heard":  {open, piece, piece, piece, piece},
		"it greets twice":                 {{Command: bridge.Connect, Arg0: bridge.Version, Arg1: bridge.MaxData}},
		"it says what nobody knows":       {{Command: 0x12345678}},
		"it says that it has much to say": {{Command: bridge.Write, Data: make([]byte, bridge.MaxData+1)}},
	} {
		bad := d.greeted()
		for _, p := range packets {
			if _, err := bad.Write(p.Append(nil)); err != nil {
				break // it was hung up on before it was done
			}
		}
		closed(t, bad)
	}
	for _, first := range [][]byte{{}, []byte("GET / HTTP/1.1\r\nHost: x\r\n\r\n"),
		bridge.Packet{Command: bridge.Connect, Arg0: bridge.Version, Arg1: 10}.Append(nil),
		bridge.Packet{Command: bridge.Open, Arg0: 1}.Append(nil)} {
		c := d.dial()
		_, err := c.Write(first)
		require.NoError(t, err)
		if len(first) == 0 {
			require.NoError(t, c.(*net.TCPConn).CloseWrite())
		}
		closed(t, c)
	}
	// A stream that is not there, and a service that is not there, are closed and nothing else.
	say(t, good, bridge.Packet{Command: bridge.Write, Arg0: 9, Arg1: 99, Data: []byte("x")},
		bridge.Packet{Command: bridge.Open, Arg0: 5, Data: []byte("framebuffer:\x00")})
	for range 2 {
		p, err := bridge.ReadPacket(good, bridge.MaxData)
		require.NoError(t, err)
		require.Equal(t, bridge.Close, p.Command)
	}
	say(t, good, bridge.Packet{Command: bridge.Open, Arg0: 6, Data: []byte("shell:echo still here\x00")})
	var said []byte
	for {
		p, err := bridge.ReadPacket(good, bridge.MaxData)
		require.NoError(t, err)
		if p.Command == bridge.Write {
			said = append(said, p.Data...)
			say(t, good, bridge.Packet{Command: bridge.Ready, Arg0: 6, Arg1: p.Arg0})
		}
		if p.Command == bridge.Close {
			break
		}
	}
	require.Equal(t, "still here\n", string(said))
}

func TestNoPathLeadsOutOfThePhonesFolder(t *testing.T) {
	d := newDesk(t, nil)
	outside := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(outside, []byte("secret"), 0o600))
	var out bytes.Buffer
	for _, line := range []string{"cat ../../../../.." + outside, "cat /sdcard/../.." + outside, "cat < " + outside,
		"ls /..", "echo x > /sdcard/../../../x", "mkdir /sdcard/../../y", "rm -rf /sdcard/../../" + filepath.Dir(outside)} {
		d.phone.run(context.Background(), line, strings.NewReader(""), &out, &out)
	}
	require.NotContains(t, out.String(), "secret\n")
	require.FileExists(t, outside)
	require.NoError(t, os.Symlink(outside, filepath.Join(d.phone.config.Dir, "sdcard", "way-out")))
	out.Reset()
	require.Equal(t, 1, d.phone.run(context.Background(), "cat /sdcard/way-out", strings.NewReader(""), &out, &out))
	require.NotContains(t, out.String(), "secret")
}

func FuzzLines(f *testing.F) {
	for _, s := range []string{"echo a", "a && b || c; d", `echo "x \" y" 'z'`, "cat < /x > /sdcard/y 2>&1", "a | b | c", "\x00", "2>"} {
		f.Add(s)
	}
	p, err := New(Config{Dir: f.TempDir()})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, line string) {
		if strings.Contains(line, "sleep") || len(line) > 2000 {
			return
		}
		p.run(context.Background(), line, strings.NewReader("in"), io.Discard, io.Discard)
	})
}

func FuzzKeys(f *testing.F) {
	f.Add("QAAAAA== nobody@nowhere")
	f.Fuzz(func(t *testing.T, text string) { _, _ = readKey(text) })
}
