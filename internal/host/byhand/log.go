package byhand

import (
	"bytes"
	"context"
	"encoding/json"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/link"
)

// logbook gathers the device's log into pieces that are kept, each as lines of JSON.
type logbook struct {
	keep    func(ctx context.Context, piece []byte, lines, errors int64, from, to int64) error
	piece   bytes.Buffer
	first   time.Time // when the oldest line of the piece came
	in      int64     // lines of the piece
	bad     int64     // errors of the piece
	from    int64     // the number of its first line
	lines   int64     // of the whole session
	errors  int64
	dropped int64
	size    int64 // of the whole session, in bytes
}

// Bounds of a session's log.
const (
	maxPiece   = 1 << 20
	pieceTime  = 2 * time.Second
	maxLog     = 256 << 20
	maxLogLine = 16 << 10
	maxTold    = 512 << 10 // of what is told at once
)

// readLog takes in what the device has written.
func (s *sitting) readLog(ctx context.Context) {
	lines := s.Log(ctx)
	if len(lines) == 0 {
		return
	}
	offset := s.now() - s.Device.Now().Milliseconds()
	told, size, from := []device.LogLine{}, 0, s.logged.lines
	for _, l := range lines {
		l.AtMS = max(0, l.AtMS+offset)
		if len(l.Text) > maxLogLine {
			l.Text = l.Text[:maxLogLine]
		}
		if !s.logged.add(l) {
			continue
		}
		if told, size = append(told, l), size+len(l.Text)+100; size > maxTold {
			s.out.tell(link.Told{Log: told, LogFrom: from})
			told, size, from = nil, 0, s.logged.lines
		}
	}
	if len(told) > 0 {
		s.out.tell(link.Told{Log: told, LogFrom: from})
	}
}

// keepLogSoFar keeps what was written until now: whoever makes a finding of this moment wants the log around it.
func (s *sitting) keepLogSoFar(ctx context.Context) {
	s.readLog(ctx)
	_ = s.logged.flush(ctx) // what cannot be kept now is kept with the next
}

// add takes a line in; it reports false where there is no room for it any more.
func (b *logbook) add(l device.LogLine) bool {
	if b.size > maxLog {
		b.dropped++
		return false
	}
	body, err := json.Marshal(l)
	if err != nil {
		return false
	}
	if b.in == 0 {
		b.first, b.from = time.Now(), b.lines
	}
	b.piece.Write(body)
	b.piece.WriteByte('\n')
	b.in, b.lines, b.size = b.in+1, b.lines+1, b.size+int64(len(body))
	if l.Level == "error" {
		b.bad++
		b.errors++
	}
	return true
}

// turn keeps the piece where it is large or old enough.
func (b *logbook) turn(ctx context.Context) {
	if b.piece.Len() > maxPiece || b.in > 0 && time.Since(b.first) > pieceTime {
		_ = b.flush(ctx) // what cannot be kept now is kept with the next
	}
}

func (b *logbook) flush(ctx context.Context) error {
	if b.in == 0 {
		return nil
	}
	if err := b.keep(ctx, b.piece.Bytes(), b.in, b.bad, b.from, b.lines); err != nil {
		return err
	}
	b.piece.Reset()
	b.in, b.bad = 0, 0
	return nil
}

func (s *sitting) keepLog(ctx context.Context, piece []byte, lines, bad, from, to int64) error {
	ctx, stop := context.WithTimeout(ctx, logTime)
	defer stop()
	ref, err := s.Upload(ctx, evidence.Log, "log", bytes.Clone(piece))
	if err != nil {
		return err
	}
	return s.note(link.Entry{Kind: link.EntryLog, Blob: &ref, Text: "log",
		Detail: encoded(map[string]int64{"lines": lines, "errors": bad, "from": from, "to": to})})
}

// logTime bounds how long keeping a piece of the log may keep the device waiting.
const logTime = 2 * time.Second
