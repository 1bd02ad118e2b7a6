// Package dispatch brings legs to devices and takes in what comes of it: it leads (places legs),
// serves the links of hosts, and keeps what they report.
package dispatch

import (
	"context"
	"sync"
	"sync/atomic"
	"yamato/internal/service/base"
)

// Part is these use cases, and what they keep while they work.
type Part struct {
	*base.Base
	inbox    chan *inbound
	sessions sync.WaitGroup // hosts' links that are being served
	taken    atomic.Int64   // from the table of what is dirty, since it was tidied
}

// New gives them; Loops make them work.
func New(b *base.Base) *Part { return &Part{Base: b, inbox: make(chan *inbound, 256)} }

// Loops are what has to run for as long as the service does.
func (s *Part) Loops() []func(context.Context) {
	return []func(context.Context){s.lead, s.takeIn}
}

// Wait waits until every host's link has ended, and its end has been recorded.
func (s *Part) Wait() { s.sessions.Wait() }

// Tidy tidies up behind the scheduler, where there is enough to tidy.
func (s *Part) Tidy(ctx context.Context) error {
	if s.taken.Load() <= tidyAfter {
		return nil
	}
	s.taken.Store(0)
	return s.Store.TidyDirty(ctx)
}
