package android

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
)

// An emulator has a console beside the bridge ("Send emulator console commands" of the OS's documentation). It can make a
// network slow, which no line of a phone's shell can.

// console says lines to an emulator's console, as the user whose token lies in the home folder, and gives what it answers.
func console(ctx context.Context, port int, lines ...string) (said string, err error) {
	if port < firstConsole || port > lastConsole {
		return "", nil
	}
	var dial net.Dialer
	c, err := dial.DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return "", fmt.Errorf("the emulator's console does not answer: %w", err)
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.Close() })()
	in := bufio.NewReader(io.LimitReader(c, maxConfig))
	answer := func() error {
		for {
			line, err := in.ReadString('\n')
			switch {
			case strings.HasPrefix(line, "OK"):
				return nil
			case strings.HasPrefix(line, "KO"):
				return fmt.Errorf("the emulator's console refuses: %s", clipped(strings.TrimSpace(line), 200))
			case err != nil:
				return fmt.Errorf("the emulator's console broke off: %w", err)
			}
			said += line
		}
	}
	if err := answer(); err != nil {
		return "", err
	}
	home, _ := os.UserHomeDir()
	if token, err := os.ReadFile(filepath.Join(home, ".emulator_console_auth_token")); err == nil && len(bytes.TrimSpace(token)) > 0 {
		lines = append([]string{"auth " + clipped(string(bytes.TrimSpace(token)), 200)}, lines...)
	}
	for _, l := range lines {
		said = ""
		if _, err := fmt.Fprintf(c, "%s\r\n", l); err != nil {
			return "", err
		}
		if err := answer(); err != nil && !(l == "kill" && errors.Is(err, io.EOF)) {
			return "", err
		}
	}
	return said, nil
}

// consoleLimit is how long a console may take: it is on this machine.
const consoleLimit = 5 * time.Second

// shape has its console make the network so. One that nobody here has made worse may have been by a host that was killed, and
// is put back where its console lets it be: one that somebody else has started may be nobody's here to talk to.
func (e *emulator) shape(ctx context.Context, n device.Network) error {
	usual := n == device.Network{}
	e.mu.Lock()
	was := e.shaped
	e.shaped = was || !usual
	e.mu.Unlock()
	_, err := e.says(ctx, networkLines(n)...)
	if err != nil && (was || !usual) {
		return err
	}
	e.mu.Lock()
	e.shaped = !usual
	e.mu.Unlock()
	return nil
}

// says gives what the console answers to the last of lines.
func (e *emulator) says(ctx context.Context, lines ...string) (string, error) {
	e.mu.Lock()
	serial := e.serial
	e.mu.Unlock()
	port, _ := strconv.Atoi(strings.TrimPrefix(serial, "emulator-"))
	ctx, stop := context.WithTimeout(ctx, consoleLimit)
	defer stop()
	said, err := console(ctx, port, lines...)
	if err != nil {
		return "", &device.Trouble{Why: err.Error(), Remedy: "halt it, and boot it again"}
	}
	return said, nil
}

// networkLines have a console make the network so: rates in thousands of bits a second, up and down, and what an answer takes
// more in milliseconds.
func networkLines(n device.Network) []string {
	rates, delay := "full", "none"
	kilobits := func(bytes int) int { return max(1, bytes*8/1000) }
	if n.Download > 0 || n.Upload > 0 {
		const unbound = 1_000_000 // kbit/s
		up, down := unbound, unbound
		if n.Upload > 0 {
			up = kilobits(n.Upload)
		}
		if n.Download > 0 {
			down = kilobits(n.Download)
		}
		rates = fmt.Sprintf("%d:%d", up, down)
	}
	if n.Delay > 0 {
		delay = fmt.Sprintf("%d:%d", n.Delay.Milliseconds(), n.Delay.Milliseconds())
	}
	return []string{"network speed " + rates, "network delay " + delay}
}

var (
	_ device.Networked = (*emulator)(nil)
	_ device.Aware     = (*emulator)(nil)
)

// SetNetwork has its console make the network slow; that it has none is the system's own doing.
func (e *emulator) SetNetwork(ctx context.Context, n device.Network) error {
	if err := n.Check(); err != nil {
		return err
	}
	if n.Loss > 0 {
		return fmt.Errorf("%w: an emulator's network loses nothing", device.ErrNoAbility)
	}
	d, err := e.on()
	if err != nil {
		return err
	}
	inner, ok := device.As[device.Networked](d)
	if !ok {
		return device.ErrNoAbility
	}
	if err := inner.SetNetwork(ctx, device.Network{None: n.None}); err != nil {
		return err
	}
	n.None = false
	return e.shape(ctx, n)
}

var (
	downloadLine = regexp.MustCompile(`download speed:\s+(\d{1,12}) bits/s`)
	uploadLine   = regexp.MustCompile(`upload speed:\s+(\d{1,12}) bits/s`)
	delayLine    = regexp.MustCompile(`minimum latency:\s+(\d{1,6}) ms`)
)

// Feels tells what it feels: the network as its console has it, where the system has one.
func (e *emulator) Feels(ctx context.Context, app string) (f device.Feels, err error) {
	d, err := e.on()
	if err != nil {
		return f, err
	}
	inner, ok := device.As[device.Aware](d)
	if !ok {
		return f, device.ErrNoAbility
	}
	if f, err = inner.Feels(ctx, app); err != nil || f.Network == "none" {
		return f, err
	}
	said, err := e.says(ctx, "network status")
	if err != nil {
		e.mu.Lock()
		defer e.mu.Unlock()
		if e.shaped {
			return f, err
		}
		return f, nil // as the system in it has it
	}
	value := func(of *regexp.Regexp) int { n, _ := strconv.Atoi(first(of, []byte(said))); return n }
	f.Network = device.Network{Download: value(downloadLine) / 8, Upload: value(uploadLine) / 8,
		Delay: time.Duration(value(delayLine)) * time.Millisecond}.Kind()
	return f, nil
}
