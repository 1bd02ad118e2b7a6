package dispatch

import (
	"encoding/json"
	"fmt"
	"slices"

	"yamato/internal/core/plain"
	"yamato/internal/core/schedule"
	"yamato/internal/link"
	"yamato/internal/store/pg"
	"yamato/internal/store/sessions"
)

// entryKinds are what hosts may say of sessions.
var entryKinds = []string{link.EntryPrepared, link.EntryOpen, link.EntryDid, link.EntryApp, link.EntryFelt,
	link.EntryPicture,
	link.EntryVideo, link.EntryMark, link.EntryLog, link.EntryNetwork, link.EntryReadings, link.EntryCrash,
	link.EntryTrouble}

// Bounds of one entry: what stays of a session is read whole by its page.
const (
	maxDetail     = 32 << 10 // bytes
	maxEntry      = 4000     // bytes of its text, and of a line
	maxEntryLines = 10
)

// note takes in what stays of a session.
func (w *work) note(t *tally, ev link.Event) (refusal string) {
	e := ev.Entry
	if t.SessionID == 0 || !slices.Contains(entryKinds, e.Kind) {
		return fmt.Sprintf("an entry that cannot be: %q", plain.Clip(e.Kind, 40))
	}
	kept := sessions.Entry{Lease: t.Lease, Seq: ev.Seq, Session: t.SessionID, Project: t.ProjectID,
		AtMS: max(0, e.AtMS),
		Kind: e.Kind, Text: e.Text, Lines: pg.JSON[[]string]{V: e.Lines}}
	if n := len(e.Detail); n > 0 && n <= maxDetail {
		kept.Detail = &e.Detail
	}
	kept.Text = plain.Clip(kept.Text, maxEntry)
	if len(kept.Lines.V) > maxEntryLines {
		kept.Lines.V = kept.Lines.V[:maxEntryLines]
	}
	for i, l := range kept.Lines.V {
		kept.Lines.V[i] = plain.Clip(l, maxEntry)
	}
	if b := e.Blob; b != nil {
		kept.Digest, kept.MediaType, kept.Size = b.Digest, b.MediaType, b.Size
	}
	w.entries = append(w.entries, kept)
	switch e.Kind {
	case link.EntryOpen:
		t.session.Opened = true
	case link.EntryLog:
		var of struct{ Lines, Errors int64 }
		if json.Unmarshal(e.Detail, &of) == nil {
			t.session.Lines, t.session.Errors = t.session.Lines+max(0, of.Lines), t.session.Errors+max(0, of.Errors)
		}
	}
	return ""
}

// tellClean keeps what was undone on a device that a person had, item by item.
func (w *work) tellClean(t *tally, e link.Event) {
	if t.SessionID == 0 {
		return
	}
	kept := sessions.Entry{Lease: t.Lease, Seq: e.Seq, Session: t.SessionID, Project: t.ProjectID, AtMS: -1,
		Kind: "cleaned",
		Text: "the device was cleaned"}
	switch c := e.Clean; {
	case c.Trouble != "":
		kept.Text = "the device could not be cleaned, and is out of use: " + c.Trouble
	case c.Later:
		kept.Text = "the device is out of reach; it is cleaned as soon as it is back, and not used before"
	case len(c.Items) > 0:
		body, _ := json.Marshal(map[string][]string{"items": c.Items}) // texts can always be written
		raw := json.RawMessage(body)
		kept.Detail = &raw
	}
	w.entries = append(w.entries, kept)
}

// sessions gives what has happened to sessions, by their ids.
func (w *work) sessions() []sessions.Change {
	var list []sessions.Change
	for _, one := range w.order {
		if one.SessionID == 0 || !one.touched {
			continue
		}
		c := one.session
		c.Session, c.Lease, c.Ended, c.Why = one.SessionID, one.Lease, one.closing, one.change.Trouble
		list = append(list, c)
	}
	return list
}

// sessionOut is a session's lease as its host is told of it.
func sessionOut(a sessions.Assignment) link.Lease {
	s := &link.Session{Number: a.Number, SinceMS: a.SinceMS, Name: a.Name, Language: a.Language, Cleaning: a.Cleaning,
		App:   a.App,
		Lines: a.Lines.V}
	l := link.Lease{Number: a.Lease, Device: a.Device, Holder: fmt.Sprintf("session %d of %s", a.Number, a.AskedBy),
		LastSeq: a.LastSeq, TTLMS: a.TTLMS, Session: s}
	if a.Pack != nil {
		s.Package, s.PackageBlob = &a.Pack.V, a.Package
		l.Apps = []string{a.Pack.V.ApplicationID}
	}
	return l
}

// sessionLeg is a session in the scheduler's queue: a person goes before runs, as none of them has to be done by
// a time. Its number there is below zero, so that it is no leg's.
func sessionLeg(s sessions.Waiting) schedule.Leg {
	return schedule.Leg{ID: -s.ID, Order: schedule.Order{Run: 0, Leg: s.ID}, Waiting: s.Waits,
		Demand: schedule.Demand{Device: s.DeviceID, Among: s.Among, Who: s.AskedBy,
			Class: schedule.Class{Project: s.ProjectID}}}
}

// isSession tells a session in the queue from a leg.
func isSession(leg int64) bool { return leg < 0 }
