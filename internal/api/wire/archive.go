package wire

import (
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/service/archive"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Crash tells of a crash.
func Crash(c store.Crash) contract.Crash {
	return contract.Crash{Id: c.ID, App: c.App, Title: c.Title, Stack: append([]string{}, c.Stack.V...), Met: c.Met,
		Runs:         c.Runs,
		Combinations: c.Combinations, FirstAt: c.First, LastAt: c.Last, FirstBuild: c.FirstBuild,
		LastBuild:   c.LastBuild,
		FirstNumber: c.FirstNumber, LastNumber: c.LastNumber, LastRun: c.LastRun}
}

// Crashes tells of several.
func Crashes(list []store.Crash) []contract.Crash {
	out := []contract.Crash{}
	for _, c := range list {
		out = append(out, Crash(c))
	}
	return out
}

// Meeting tells where a crash was met.
func Meeting(m store.Meeting) contract.CrashMet {
	return contract.CrashMet{Run: m.Run, Leg: m.Leg, CaseIndex: m.Case, Attempt: m.Attempt, Case: m.Name,
		Suite: m.Suite, Build: m.Build,
		Device: m.Device, Model: m.Model, Os: m.OS, At: m.At, Levels: levels(m.Levels.V)}
}

// Kept tells how long, and how much, evidence stays.
func Kept(k archive.Kept) contract.EvidenceRetention {
	out := contract.EvidenceRetention{PassedDays: k.PassedDays, Days: k.Days, Bytes: k.Bytes, Pieces: k.Pieces,
		Size: k.Size}
	if k.ChangedBy != "" {
		out.ChangedBy, out.ChangedAt = &k.ChangedBy, &k.ChangedAt
	}
	return out
}

// Covered tells what was covered.
func Covered(list []store.Covered) []contract.Covered {
	out := []contract.Covered{}
	for _, c := range list {
		out = append(out, contract.Covered{App: c.App, Build: c.Build, Version: c.Version, Kind: c.Kind, Model: c.Model,
			Platform: c.Platform,
			Os:       c.OS, Language: c.Language, Runs: c.Runs, Cases: c.Cases, Passed: c.Passed, Failed: c.Failed,
			Errors:  c.Errors,
			LastRun: c.LastRun, LastAt: c.LastAt})
	}
	return out
}

// Pictures tells of named pictures.
func Pictures(names []store.PictureName, list []store.NamedPicture) contract.Pictures {
	out := contract.Pictures{Names: []contract.PictureName{}, Items: []contract.NamedPicture{}}
	for _, n := range names {
		out.Names = append(out.Names, contract.PictureName{Name: n.Name, Legs: n.In})
	}
	for _, p := range list {
		c := fleet.Combination{Class: fleet.Class{Kind: p.Kind, Model: p.Model, Platform: p.Plat, OS: p.OS},
			Levels: p.Levels.V}
		out.Items = append(out.Items, contract.NamedPicture{Evidence: p.ID, Leg: p.Leg, CaseIndex: p.Case,
			Attempt: p.Attempt, Device: p.Device,
			Combination: Combination(c), Verdict: p.Verdict, Case: p.Of, Gone: base.Stated(p.Gone)})
	}
	return out
}
