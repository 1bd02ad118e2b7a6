package phone

import (
	"context"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"time"
)

// Troubles are what befalls a phone by chance, which a seed makes: the chance with each command, 0 for never.
type Troubles struct {
	Seed    uint64
	Cable   float64       // its cable is pulled, in the middle of what it says
	Cut     float64       // what it says ends in the middle of a line
	Restart float64       // it starts anew by itself
	Dump    float64       // a look at its screen fails, since that keeps moving
	Refuse  float64       // an install is refused: its person says no
	Room    float64       // or there is no room
	Flood   int           // lines that others write to its log with every command
	Slow    time.Duration // that each command takes more
}

// fate throws the dice.
type fate struct {
	mu    sync.Mutex
	dice  *rand.Rand
	conns map[net.Conn]bool
}

func (f *fate) befalls(chance float64) bool {
	if chance <= 0 {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.dice.Float64() < chance
}

func (f *fate) number(n int) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.dice.IntN(n)
}

func (f *fate) hold(c net.Conn, held bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if held {
		f.conns[c] = true
	} else {
		delete(f.conns, c)
	}
}

// Pull breaks every connection that the phone has, as a cable does that is pulled.
func (p *Phone) Pull() {
	p.fate.mu.Lock()
	defer p.fate.mu.Unlock()
	for c := range p.fate.conns {
		_ = c.Close()
	}
}

// Restart has the phone start anew: nothing runs on it, and nobody is connected. It may be called by who uses it.
func (p *Phone) Restart() {
	p.restarts.Store(true)
	p.Pull()
}

// lock takes what lies behind the phone's programs, after it has started anew where it was to.
func (p *Phone) lock() {
	p.using.Lock()
	if !p.restarts.Swap(false) {
		return
	}
	for id, a := range p.body.apps {
		if a.pid != 0 {
			a.pid = 0
			_ = p.body.device.Stop(context.Background(), id) // a stand-in stops at once
		}
	}
	p.front, p.bootID = "", newID()
}

// breaking gives what a command writes to, which breaks in the middle of it where that befalls.
func (p *Phone) breaking(out io.Writer) io.Writer {
	t := p.config.Troubles
	switch {
	case p.fate.befalls(t.Cable):
		return &breaks{out, p.fate.number(2000), p.Pull}
	case p.fate.befalls(t.Restart):
		return &breaks{out, p.fate.number(2000), p.Restart}
	}
	return out
}

// breaks is an output that ends after some bytes, at the latest with the command.
type breaks struct {
	to    io.Writer
	after int
	do    func()
}

func (b *breaks) Write(data []byte) (int, error) {
	if b.after < 0 {
		return 0, io.ErrClosedPipe
	}
	n := min(len(data), b.after)
	_, _ = b.to.Write(data[:n])
	if b.after -= n; b.after > 0 && n == len(data) {
		return n, nil
	}
	b.now()
	return n, io.ErrClosedPipe
}

func (b *breaks) now() {
	if b.after = -1; b.do != nil {
		b.do()
		b.do = nil
	}
}

// befall has what befalls the phone with a command befall it, before the command begins.
func (p *Phone) befall(ctx context.Context) {
	t := p.config.Troubles
	if t.Slow > 0 {
		timer := time.NewTimer(t.Slow)
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-ctx.Done():
		}
	}
	if t.Flood > 0 {
		p.lock()
		defer p.using.Unlock()
		at := float64(p.clock().UnixMilli()) / 1e3
		for range t.Flood {
			p.write(logged{at: at, uid: "1000", pid: 1432, level: "D", tag: "chatty", text: "a service of the system says what nobody asked"})
		}
	}
}
