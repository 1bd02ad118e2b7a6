// Package journal keeps on disk what a host must not lose with its process: what the service
// has not committed yet, and which devices are not clean.
package journal

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yamato/internal/link"
)

// Journal keeps what a host has to say until the service has committed it: in
// memory, and on disk so that a killed host loses nothing. It is one file of
// lines; it starts over when nothing is left to say.
//
// Where the disk has no room it waits for some, and says so; nothing that it has taken
// is lost, and no line is left half written.
type Journal struct {
	path   string
	log    *slog.Logger
	closed chan struct{}
	once   sync.Once
	Turned chan struct{} // rings when its disk fails it, and when it no longer does

	mu      sync.Mutex
	file    *os.File
	size    int64
	limit   int64 // the size at which it is written anew
	stale   bool  // the file lacks something that memory has
	trouble error // why it could not be written, nil while it can
	leases  map[int64]*ledger
	queue   []queued // not acknowledged, in the order in which they came
	sent    int      // how many of the queue this link has been sent
	waiting chan struct{}
}

// queued is an event with the bytes that it takes, as encoded.
type queued struct {
	link.Event
	size int
}

// ledger is one lease in the journal.
type ledger struct {
	device   string
	apps     []string
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
	Lease  int64    `json:"lease"`
	Device string   `json:"device"`
	Apps   []string `json:"apps,omitempty"`
	Seq    int64    `json:"seq"`
}

const (
	rewriteAt  = 8 << 20                // bytes at which the file is written anew with what is left
	roomEvery  = 500 * time.Millisecond // between two tries to write to a disk without room
	maxJournal = 64 << 20               // bytes of one line of the file; no event comes near it
)

var errClosed = errors.New("the host stops")

func Open(dir string, log *slog.Logger) (*Journal, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("opening the host's directory: %w", err)
	}
	j := &Journal{path: filepath.Join(dir, "journal"), log: log, closed: make(chan struct{}),
		Turned: make(chan struct{},
			1), limit: rewriteAt,
		leases: map[int64]*ledger{}, waiting: make(chan struct{}, 1)}
	if err := j.load(); err != nil {
		return nil, err
	}
	err := j.rewrite()
	if err != nil && j.file == nil { // the old file goes on until there is room for a new one
		if j.file, err = os.OpenFile(j.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err == nil {
			j.size, err = j.file.Seek(0, io.SeekEnd)
			j.stale = true
		}
	}
	return j, err
}

// load reads the file of an earlier host. A line that was cut short, by its death or by
// a full disk, was never acknowledged to anybody and is passed over.
func (j *Journal) load() error {
	f, err := os.Open(j.path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 0, 64<<10), maxJournal)
	damaged := 0
	for lines.Scan() {
		var l line
		if err := json.Unmarshal(lines.Bytes(), &l); err != nil {
			damaged++
			continue
		}
		size := len(lines.Bytes())
		if l.Event != nil {
			if size, err = l.Event.Fit(); err != nil {
				damaged++
				continue
			}
		}
		j.apply(l, size)
	}
	if damaged > 0 {
		j.log.Warn("lines of the journal cannot be read and are passed over", "journal", j.path, "lines", damaged)
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("reading the journal: %w", err)
	}
	return nil
}

// apply takes a line in. size is what its event takes.
func (j *Journal) apply(l line, size int) {
	switch {
	case l.Begin != nil:
		j.leases[l.Begin.Lease] = &ledger{device: l.Begin.Device, apps: l.Begin.Apps, seq: l.Begin.Seq}
	case l.Event != nil:
		if g := j.leases[l.Event.Lease]; g != nil {
			g.seq = l.Event.Seq
			g.finished, g.cleaned = g.finished || l.Event.Finished != nil, g.cleaned || l.Event.Clean != nil
			j.queue = append(j.queue, queued{*l.Event, size})
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
		if g := j.leases[l.Refuse]; g != nil && g.cleaned && !slices.ContainsFunc(j.queue, func(e queued) bool {
			return e.Lease == l.Refuse
		}) {
			delete(j.leases, l.Refuse)
		}
	}
}

// drop takes events out of the queue and keeps count of which were sent.
func (j *Journal) drop(gone func(link.Event) bool) {
	kept, sent := j.queue[:0], j.sent
	for i, e := range j.queue {
		if !gone(e.Event) {
			kept = append(kept, e)
		} else if i < sent {
			j.sent--
		}
	}
	clear(j.queue[len(kept):])
	j.queue = kept
}

// record writes lines and then applies them; j.mu is held. What could not be written
// whole is taken back and not applied.
func (j *Journal) record(lines ...line) error {
	var out []byte
	sizes := make([]int, len(lines))
	for i, l := range lines {
		text, err := json.Marshal(l)
		if err != nil {
			return err
		}
		out, sizes[i] = append(append(out, text...), '\n'), len(text)
	}
	n, err := j.file.Write(out)
	if err != nil {
		if n > 0 {
			if cut := j.file.Truncate(j.size); cut != nil { // then a new file is written as soon as there is room
				j.stale = true
				_, _ = j.file.WriteString("\n")
			}
		}
		return fmt.Errorf("writing the journal: %w", err)
	}
	j.size += int64(n)
	for i, l := range lines {
		j.apply(l, sizes[i])
	}
	j.well()
	if j.stale || j.size > j.limit || j.size > 64<<10 && len(j.leases) == 0 {
		if err := j.rewrite(); err != nil { // what there is goes on growing
			j.log.Warn("the journal could not be written anew", "error", err)
			j.limit = j.size + rewriteAt
		}
	}
	return nil
}

// fail notes that the journal cannot be written; j.mu is held.
func (j *Journal) fail(err error) {
	if j.trouble == nil {
		j.log.Error("the host's disk takes no more; waiting for room", "journal", j.path, "error", err)
	}
	j.trouble = err
	j.turn()
}

func (j *Journal) turn() {
	select {
	case j.Turned <- struct{}{}:
	default:
	}
}

// Failing gives why the journal cannot be written, nil while it can.
func (j *Journal) Failing() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.trouble
}

func (j *Journal) well() {
	if j.trouble != nil {
		j.trouble = nil
		j.log.Info("the host's disk has room again", "journal", j.path)
		j.turn()
	}
}

// rewrite writes the file anew with what is left. The old one is replaced only by one
// that is whole.
func (j *Journal) rewrite() error {
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
		err = errors.Join(err, encoder.Encode(line{Begin: &beginLine{n, g.device, g.apps, seq}}))
	}
	for i := range j.queue {
		err = errors.Join(err, encoder.Encode(line{Event: &j.queue[i].Event}))
	}
	if err = errors.Join(err, w.Flush()); err == nil {
		err = os.Rename(j.path+".new", j.path)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("rewriting the journal: %w", err), fresh.Close(), os.RemoveAll(j.path+".new"))
	}
	info, err := fresh.Stat()
	if err != nil {
		return err
	}
	if j.file != nil {
		_ = j.file.Close()
	}
	j.file, j.size, j.stale, j.limit = fresh, info.Size(), false, max(rewriteAt, 2*info.Size())
	return nil
}

// Stop has those give up who wait for room.
func (j *Journal) Stop() { j.once.Do(func() { close(j.closed) }) }

func (j *Journal) Close() {
	j.Stop()
	j.mu.Lock()
	defer j.mu.Unlock()
	_ = j.file.Close()
}

// Begin notes a lease, whose events so far number seq. It does not wait for room: a
// lease is not taken then.
func (j *Journal) Begin(lease int64, device string, apps []string, seq int64) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	err := j.record(line{Begin: &beginLine{lease, device, apps, seq}})
	if err != nil {
		j.fail(err)
	}
	return err
}

// Append numbers events and keeps them, cut to what a link takes. It waits until there
// is room for them. Events of a lease that has been refused are dropped, but for Clean.
func (j *Journal) Append(events ...link.Event) error {
	for i := range events {
		if _, err := events[i].Fit(); err != nil {
			return err
		}
	}
	for {
		err := j.tryAppend(events)
		if err == nil {
			return nil
		}
		t := time.NewTimer(roomEvery)
		select {
		case <-t.C:
		case <-j.closed:
			t.Stop()
			return errors.Join(errClosed, err)
		}
	}
}

func (j *Journal) tryAppend(events []link.Event) error {
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
	if err := j.record(lines...); err != nil {
		j.fail(err)
		return err
	}
	select {
	case j.waiting <- struct{}{}:
	default:
	}
	return nil
}

// Acknowledge drops what the service has committed. A disk without room keeps nobody
// from that: what is sent again after a restart does no harm.
func (j *Journal) Acknowledge(acks []link.Ack) {
	if len(acks) > 0 {
		j.settle(line{Acks: acks})
	}
}

// Refuse drops what was to be said of a lease, but for the word that its device
// is clean.
func (j *Journal) Refuse(lease int64) { j.settle(line{Refuse: lease}) }

func (j *Journal) settle(l line) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if err := j.record(l); err != nil {
		j.fail(err)
		j.apply(l, 0)
		j.stale = true
	}
}

// Rewind makes the next link send everything that was not acknowledged.
func (j *Journal) Rewind() {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.sent = 0
	select {
	case j.waiting <- struct{}{}:
	default:
	}
}

// Next waits for events that this link has not been sent, and gives as many as take at
// most the given bytes, one at least.
func (j *Journal) Next(ctx context.Context, bytes int) ([]link.Event, error) {
	for {
		j.mu.Lock()
		if j.sent < len(j.queue) {
			var out []link.Event
			for size := 0; j.sent < len(j.queue); j.sent++ {
				e := j.queue[j.sent]
				if size += e.size + 1; size > bytes && len(out) > 0 || len(out) == maxEvents {
					break
				}
				out = append(out, e.Event)
			}
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

// maxEvents bounds the events of one message.
const maxEvents = 500

func (j *Journal) Knows(lease int64) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.leases[lease] != nil
}

// Lease is one that was begun and whose device has not been cleaned of it.
type Lease struct {
	Number   int64
	Device   string
	Apps     []string
	Finished bool
}

// Unfinished gives them, in order.
func (j *Journal) Unfinished() (out []Lease) {
	numbers := j.where(func(g *ledger) bool { return !g.finished || !g.cleaned })
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, n := range numbers {
		g := j.leases[n]
		out = append(out, Lease{n, g.device, g.apps, g.finished})
	}
	return out
}

// Uncleaned gives the leases whose Clean the service has not acknowledged.
func (j *Journal) Uncleaned() []int64 { return j.where(func(*ledger) bool { return true }) }

func (j *Journal) where(ok func(*ledger) bool) []int64 {
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

func (j *Journal) Device(lease int64) (string, bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	g := j.leases[lease]
	if g == nil {
		return "", false
	}
	return g.device, true
}
