package handset

import (
	"context"
	"time"

	"yamato/internal/host/inpage"

	"github.com/chromedp/cdproto/runtime"
	"github.com/shirou/gopsutil/v4/process"
)

// FirstLook reads the screen as if it had never been read, and tells how long that took.
func (d *Device) FirstLook(ctx context.Context) (time.Duration, error) {
	d.tree, d.Document = nil, inpage.Document{}
	if d.tab != nil {
		if _, err := d.tab.ask(ctx, "yamatoForget()"); err != nil {
			return 0, err
		}
	}
	began := time.Now()
	_, err := d.Tree(ctx)
	return time.Since(began), err
}

// RoundTrip asks the page for nothing: what is measured is the way.
func (d *Device) RoundTrip(ctx context.Context) error {
	if err := d.reach(ctx); err != nil || d.tab == nil {
		return err
	}
	_, _, err := runtime.Evaluate("1").Do(d.tab.On(ctx))
	return lost(err)
}

// MemoryMB is the resident memory of all of the browser's processes, in megabytes.
func (b *Browser) MemoryMB() float64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.now == nil {
		return 0
	}
	p, err := process.NewProcess(int32(b.now.keeper.Process.Pid))
	if err != nil {
		return 0
	}
	return resident(p)
}

// resident adds up a process and those that it has started.
func resident(p *process.Process) (mb float64) {
	if m, err := p.MemoryInfo(); err == nil {
		mb = float64(m.RSS) / (1 << 20)
	}
	kids, _ := p.Children() // none is an error too
	for _, k := range kids {
		mb += resident(k)
	}
	return mb
}
