package wire

import (
	"encoding/json"

	"yamato/internal/contract"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store/sessions"
)

// Session tells of a session to somebody.
func Session(s sessions.Session, who string) contract.Session {
	out := contract.Session{Number: s.Number, Name: s.Name, Purpose: s.Purpose, AskedBy: s.AskedBy,
		Mine:  s.AskedBy == who,
		State: contract.SessionState(s.State), Shared: s.Shared, Device: base.Stated(s.Device), Wanted: base.Stated(s.Wanted),
		Lineup: base.Stated(s.Lineup), Build: base.Stated(s.Build), Language: base.Stated(s.Language),
		Cleaning:  s.Cleaning,
		CreatedAt: s.CreatedAt, OpenedAt: s.OpenedAt, ClosedAt: s.ClosedAt, Why: base.Stated(s.Why),
		Ending: base.Stated(s.EndAsked), LogLines: s.LogLines, LogErrors: s.LogErrors, Findings: s.Findings,
		IdleMs: s.IdleMS,
		AwayMs: s.AwayMS}
	if s.Facts != nil {
		f := s.Facts.V
		out.Site, out.Model, out.Os, out.Kind = base.Stated(f.Site), base.Stated(f.Model), base.Stated(f.OS),
			base.Stated(f.Kind)
	}
	if o := s.Origin; o != nil {
		out.Origin = &contract.SessionOrigin{Run: o.V.Run, Suite: o.V.Suite, Case: o.V.Case, Line: o.V.Line,
			Step: o.V.Step}
	}
	return out
}

// Entry tells of something that stays of a session.
func Entry(e sessions.Entry) contract.SessionEntry {
	out := contract.SessionEntry{Lease: e.Lease, Seq: e.Seq, AtMs: e.AtMS, Kind: e.Kind, Text: e.Text,
		Lines: append([]string{}, e.Lines.V...), MediaType: base.Stated(e.MediaType), Size: base.Stated(e.Size)}
	if e.Detail != nil {
		var d map[string]any
		if json.Unmarshal(*e.Detail, &d) == nil && d != nil {
			out.Detail = &d
		}
	}
	return out
}

// Answer tells how an order went.
func Answer(a link.Answer) contract.SessionAnswer {
	out := contract.SessionAnswer{Trouble: base.Stated(a.Trouble), Remedy: base.Stated(a.Remedy),
		Text:  base.Stated(a.Text),
		Lines: base.Listed(a.Lines), TookMs: a.Took}
	if c := a.Card; c != nil {
		out.Card = &contract.ElementCard{Role: c.Role, Id: base.Stated(c.ID), Label: c.Label, States: c.States,
			Locators: c.Locators,
			Lines:    c.Lines, Path: c.Path, Bounds: contract.Rect{X: float32(c.Bounds.X), Y: float32(c.Bounds.Y),
				W: float32(c.Bounds.W),
				H: float32(c.Bounds.H)}}
	}
	if len(a.Tree) > 0 {
		var t map[string]any
		if json.Unmarshal(a.Tree, &t) == nil {
			out.Tree = &t
		}
	}
	return out
}

// SeenFault tells of a finding.
func SeenFault(f sessions.Finding) contract.SeenFault {
	v := f.Facts.V
	out := contract.SeenFault{Number: f.Number, Title: f.Title, Note: f.Note, State: contract.FindingState(f.State),
		MendedIn: base.Stated(f.Mended),
		FoundBy:  f.FoundBy, At: f.At, Session: base.Stated(f.Session), Run: base.Stated(f.Run), Build: v.Build,
		App:    base.Stated(v.App),
		Device: v.Device, Model: v.Model, Os: v.OS, Language: base.Stated(v.Language), Surroundings: append([]string{},
			v.Surroundings...),
		Way: append([]string{}, v.Way...), Log: append([]string{}, v.Log...), Marks: []contract.DrawnMark{},
		Picture: f.Picture != ""}
	var c map[string]any
	if json.Unmarshal(v.Circumstances, &c) == nil && c != nil {
		out.Circumstances = &c
	}
	for _, m := range f.Marks.V {
		out.Marks = append(out.Marks, contract.DrawnMark{Kind: contract.DrawnMarkKind(m.Kind), X: float32(m.X),
			Y:   float32(m.Y),
			ToX: float32(m.ToX), ToY: float32(m.ToY), Text: base.Stated(m.Text)})
	}
	return out
}
