package phone

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/driver"
)

// Console serves the console of the emulator that the phone is in on l, as the OS's emulators do: who says the token that lies
// in the home folder may end it, and make its network slow. kill is called where somebody ends it.
func (p *Phone) Console(ctx context.Context, l net.Listener, token string, kill func()) error {
	var open sync.WaitGroup
	defer open.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer context.AfterFunc(ctx, func() { _ = l.Close() })()
	for {
		c, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		open.Go(func() {
			defer c.Close()
			defer context.AfterFunc(ctx, func() { _ = c.Close() })()
			p.console(ctx, c, token, kill)
		})
	}
}

func (p *Phone) console(ctx context.Context, c net.Conn, token string, kill func()) {
	known := token == ""
	fmt.Fprint(c, "Android Console: Authentication required\r\nAndroid Console: type 'auth <auth_token>' to authenticate\r\nOK\r\n")
	for in := bufio.NewScanner(io.LimitReader(c, maxCat)); in.Scan(); {
		word, rest, _ := strings.Cut(strings.TrimSpace(in.Text()), " ")
		switch {
		case word == "auth" && rest == token, word == "auth" && known:
			known = true
			fmt.Fprint(c, "Android Console: type 'help' for a list of commands\r\nOK\r\n")
		case word == "auth":
			fmt.Fprint(c, "KO: authentication token does not match\r\n")
		case word == "quit" || word == "exit":
			return
		case word == "kill" && known:
			fmt.Fprint(c, "OK: killing emulator, bye bye\r\n")
			kill()
			return
		case word == "network" && known:
			fmt.Fprint(c, p.network(ctx, strings.Fields(rest)))
		default:
			fmt.Fprint(c, "KO: unknown command, try 'help'\r\n")
		}
	}
}

// speeds are the networks that a console knows by names, in bits a second up and down.
var speeds = map[string][2]int{"full": {}, "gsm": {14_400, 14_400}, "edge": {118_400, 473_600}, "umts": {384_000, 384_000},
	"hsdpa": {5_760_000, 13_980_000}, "lte": {58_000_000, 173_000_000}}

// network has the phone's network be as its console is told, and gives the answer.
func (p *Phone) network(ctx context.Context, words []string) string {
	p.mu.Lock()
	set := p.limits
	p.mu.Unlock()
	bad := "KO: bad network command, try 'help network'\r\n"
	pair := func(text string, times int) (a, b int, ok bool) {
		first, second, both := strings.Cut(text, ":")
		if !both {
			second = first
		}
		a, err := strconv.Atoi(first)
		b, err2 := strconv.Atoi(second)
		return a * times, b * times, err == nil && err2 == nil && a >= 0 && b >= 0 && a <= 1e9 && b <= 1e9
	}
	switch {
	case len(words) == 1 && words[0] == "status":
		return fmt.Sprintf("Current network status:\r\n  download speed:   %8d bits/s (%.1f KB/s)\r\n  upload speed:     %8d bits/s (%.1f KB/s)\r\n"+
			"  minimum latency:  %d ms\r\n  maximum latency:  %d ms\r\nOK\r\n", set.down, float64(set.down)/8192, set.up, float64(set.up)/8192, set.least, set.most)
	case len(words) == 2 && words[0] == "speed":
		if known, ok := speeds[words[1]]; ok {
			set.up, set.down = known[0], known[1]
		} else if up, down, ok := pair(words[1], 1000); ok {
			set.up, set.down = up, down
		} else {
			return bad
		}
	case len(words) == 2 && words[0] == "delay" && words[1] == "none":
		set.least, set.most = 0, 0
	case len(words) == 2 && words[0] == "delay":
		least, most, ok := pair(words[1], 1)
		if !ok || most > 60_000 {
			return bad
		}
		set.least, set.most = least, most
	default:
		return bad
	}
	p.mu.Lock()
	p.limits = set
	p.mu.Unlock()
	if err := p.with(ctx, func(d driver.Device) error {
		return able(d, func(n device.Networked) error { return n.SetNetwork(ctx, p.reach()) })
	}); err != nil {
		return "KO: " + plain.Clip(plain.Text(err.Error(), 300), 200) + "\r\n"
	}
	return "OK\r\n"
}

// limits are what an emulator's console has made of its network: bits a second, and what an answer takes more, in milliseconds.
type limits struct{ up, down, least, most int }

// reach is what the phone's network is like: none where its settings have it so, else as its console has made it.
func (p *Phone) reach() device.Network {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.settings["global/airplane_mode_on"] == "1" || p.settings["global/wifi_on"] == "0" && p.settings["global/mobile_data"] == "0" {
		return device.Network{None: true}
	}
	return device.Network{Upload: p.limits.up / 8, Download: p.limits.down / 8, Delay: time.Duration(p.limits.least) * time.Millisecond}
}
