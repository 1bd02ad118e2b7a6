package host

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"yamato/internal/link"
)

// journal keeps what a host has to say until the service has committed it: in
// memory, and on disk so that a killed host loses nothing. It is one file of
// lines; it starts over when nothing is left to say.
type journal struct {
	path string

	mu      sync.Mutex
	file    *os.File
	size    int64
	leases  map[int64]*ledger
	queue   []link.Event // not acknowledged, in the order in which they came
	sent    int          // how many of the queue this link has been sent
	waiting chan struct{}
}

// ledger is one lease in the journal.
type ledger struct {
	device   string
	seq      int64 // of the last event
	finished bool
	cleaned  bool
}

// line is one line of the file.
type line struct {
	Begin  *beginLine  `json:"begin,omitempty"`
	Event  *link.Event `json:"event,omitempty"`
	Acks   []link.Ack  `json:"acks,omitempty"`
	Refuse int64       `json:"refuse,omitempty"`
}

type beginLine struct {
	Lease  int64  `json:"lease"`
	Device string `json:"device"`
	Seq    int64  `json:"seq"`
}

// rewriteAt is the size at which the file is written anew with what is left.
const rewriteAt = 8 << 20

func openJournal(dir string) (*journal, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("opening the host's directory: %w", err)
	}
	j := &journal{path: filepath.Join(dir, "journal"), leases: map[int64]*ledger{}, waiting: make(chan struct{}, 1)}
	if err := j.load(); err != nil {
		return nil, err
	}
	return j, j.rewrite()
}

// load reads the file of an earlier host. A last line that was cut short by its
// death was never acknowledged to anybody and is passed over.
func (j *journal) load() error {
	f, err := os.Open(j.path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	r := bufio.NewReader(f)
	for {
		text, err := r.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("reading the journal: %w", err)
		}
		var l line
		if err := json.Unmarshal(text, &l); err != nil {
			return fmt.Errorf("the journal %s is damaged: %w", j.path, err)
		}
		j.apply(l)
	}
}

func (j *journal) apply(l line) {
	switch {
	case l.Begin != nil:
		j.leases[l.Begin.Lease] = &ledger{device: l.Begin.Device, seq: l.Begin.Seq}
	case l.Event != nil:
		if g := j.leases[l.Event.Lease]; g != nil {
			g.seq = l.Event.Seq
			g.finished, g.cleaned = g.finished || l.Event.Finished != nil, g.cleaned || l.Event.Clean != nil
			j.queue = append(j.queue, *l.Event)
		}
	case l.Acks != nil:
		upTo := make(map[int64]int64, len(l.Acks))
		for _, a := range l.Acks {
			upTo[a.Lease] = max(upTo[a.Lease], a.Seq)
			if g := j.leases[a.Lease]; g != nil && g.cleaned && g.seq <= a.Seq {
				delete(j.leases, a.Lease)
			}
		}
		j.drop(func(e link.Event) bool { return e.Seq <= upTo[e.Lease] })
	case l.Refuse != 0:
		j.drop(func(e link.Event) bool { return e.Lease == l.Refuse && e.Clean == nil })
		if g := j.leases[l.Refuse]; g != nil && g.cleaned && !slices.ContainsFunc(j.queue, func(e link.Event) bool { return e.Lease == l.Refuse }) {
			delete(j.leases, l.Refuse)
		}
	}
}

// drop takes events out of the queue and keeps count of which were sent.
func (j *journal) drop(gone func(link.Event) bool) {
	kept, sent := j.queue[:0], j.sent
	for i, e := range j.queue {
		if !gone(e) {
			kept = append(kept, e)
		} else if i < sent {
			j.sent--
		}
	}
	clear(j.queue[len(kept):])
	j.queue = kept
}

// record applies lines and writes them; j.mu is held.
func (j *journal) record(lines ...line) error {
	var out []byte
	for _, l := range lines {
		text, err := json.Marshal(l)
		if err != nil {
			return err
		}
		out = append(append(out, text...), '\n')
	}
	n, err := j.file.Write(out)
	if err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	j.size += int64(n)
	for _, l := range lines {
		j.apply(l)
	}
	if j.size > rewriteAt || j.size > 64<<10 && len(j.leases) == 0 {
		return j.rewrite()
	}
	return nil
}

// rewrite writes the file anew with what is left. The old one is replaced whole.
func (j *journal) rewrite() error {
	fresh, err := os.OpenFile(j.path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(fresh)
	encoder := json.NewEncoder(w)
	oldest := map[int64]int64{}
	for _, e := range j.queue {
		if _, ok := oldest[e.Lease]; !ok {
			oldest[e.Lease] = e.Seq - 1
		}
	}
	for n, g := range j.leases {
		seq, ok := oldest[n]
		if !ok {
			seq = g.seq
		}
		err = errors.Join(err, encoder.Encode(line{Begin: &beginLine{n, g.device, seq}}))
	}
	for i := range j.queue {
		err = errors.Join(err, encoder.Encode(line{Event: &j.queue[i]}))
	}
	if err = errors.Join(err, w.Flush(), os.Rename(j.path+".new", j.path)); err != nil {
		return errors.Join(fmt.Errorf("rewriting the journal: %w", err), fresh.Close())
	}
	info, err := fresh.Stat()
	if err != nil {
		return err
	}
	if j.file != nil {
		_ = j.file.Close()
	}
	j.file, j.size = fresh, info.Size()
	return nil
}

func (j *journal) close() {
	j.mu.Lock()
	defer j.mu.Unlock()
	_ = j.file.Close()
}

// begin notes a lease, whose events so far number seq.
func (j *journal) begin(lease int64, device string, seq int64) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.record(line{Begin: &beginLine{lease, device, seq}})
}

// append numbers events and keeps them. Events of a lease that has been refused
// are dropped, but for Clean.
func (j *journal) append(events ...link.Event) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var lines []line
	next := map[int64]int64{}
	for i := range events {
		e := &events[i]
		g := j.leases[e.Lease]
		if g == nil {
			continue
		}
		if next[e.Lease] == 0 {
			next[e.Lease] = g.seq
		}
		next[e.Lease]++
		e.Seq = next[e.Lease]
		lines = append(lines, line{Event: e})
	}
	if len(lines) == 0 {
		return nil
	}
	select {
	case j.waiting <- struct{}{}:
	default:
	}
	return j.record(lines...)
}

// acknowledge drops what the service has committed.
func (j *journal) acknowledge(acks []link.Ack) error {
	if len(acks) == 0 {
		return nil
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.record(line{Acks: acks})
}

// refuse drops what was to be said of a lease, but for the word that its device
// is clean.
func (j *journal) refuse(lease int64) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.record(line{Refuse: lease})
}

// rewind makes the next link send everything that was not acknowledged.
func (j *journal) rewind() {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.sent = 0
	select {
	case j.waiting <- struct{}{}:
	default:
	}
}

// next waits for events that this link has not been sent, and gives at most n.
func (j *journal) next(ctx context.Context, n int) ([]link.Event, error) {
	for {
		j.mu.Lock()
		if j.sent < len(j.queue) {
			out := slices.Clone(j.queue[j.sent:min(len(j.queue), j.sent+n)])
			j.sent += len(out)
			j.mu.Unlock()
			return out, nil
		}
		j.mu.Unlock()
		select {
		case <-j.waiting:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (j *journal) knows(lease int64) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.leases[lease] != nil
}

// open gives the leases that were begun and not finished.
func (j *journal) open() []int64 {
	return j.where(func(g *ledger) bool { return !g.finished || !g.cleaned })
}

// uncleaned gives the leases whose Clean the service has not acknowledged.
func (j *journal) uncleaned() []int64 { return j.where(func(*ledger) bool { return true }) }

func (j *journal) where(ok func(*ledger) bool) []int64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	var out []int64
	for n, g := range j.leases {
		if ok(g) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

func (j *journal) device(lease int64) (string, bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	g := j.leases[lease]
	if g == nil {
		return "", false
	}
	return g.device, true
}
