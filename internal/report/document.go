package report

import (
	_ "embed"
	"encoding/json"
	"io"
	"time"

	"yamato/internal/contract"
	"yamato/internal/core/script"
)

// Schema is the JSON Schema (draft 2020-12) of what JSON writes; docs/run-report.schema.json is a
// copy of it for readers.
//
//go:embed run-report.schema.json
var Schema []byte

// Document is a run as JSON of its own: what ran where, and how it went.
type Document struct {
	Format  string        `json:"format"` // "yamato run report 1"
	Run     DocumentRun   `json:"run"`
	Causes  []DocumentWhy `json:"causes"`
	Cases   []DocumentOne `json:"cases"`
	LeftOut []DocumentOut `json:"left_out"`
}

// The parts of a document.
type (
	DocumentRun struct {
		Number     int64      `json:"number"`
		App        string     `json:"app"`
		Build      int64      `json:"build"`
		Version    string     `json:"version"`
		Code       string     `json:"version_code"`
		State      string     `json:"state"`
		Verdict    string     `json:"verdict"`
		Seed       int64      `json:"seed"`
		Order      string     `json:"order"`
		AskedBy    string     `json:"asked_by"`
		CreatedAt  time.Time  `json:"created_at"`
		FinishedAt *time.Time `json:"finished_at,omitempty"`
	}
	DocumentWhy struct {
		Verdict      string   `json:"verdict"`
		Expected     string   `json:"expected"`
		Actual       string   `json:"actual"`
		Cases        []string `json:"cases"`
		Combinations int      `json:"combinations"`
		Shared       string   `json:"shared,omitempty"`
		Since        string   `json:"since,omitempty"`
		Bearing      []string `json:"bearing,omitempty"`
	}
	DocumentOne struct {
		Suite       string           `json:"suite"`
		Case        string           `json:"case"`
		Combination string           `json:"combination"`
		Verdict     string           `json:"verdict"`
		Flaky       bool             `json:"flaky,omitempty"`
		Attempts    []DocumentResult `json:"attempts"`
	}
	DocumentResult struct {
		Attempt  int             `json:"attempt"`
		Device   string          `json:"device"`
		Verdict  string          `json:"verdict"`
		TookMS   int64           `json:"took_ms"`
		Sentence string          `json:"sentence,omitempty"`
		Failure  *script.Failure `json:"failure,omitempty"`
		Steps    []contract.Step `json:"steps,omitempty"`
	}
	DocumentOut struct {
		Combination string   `json:"combination"`
		Why         []string `json:"why"`
	}
)

// DocumentFormat names the form of a document, and its version.
const DocumentFormat = "yamato run report 1"

// DocumentOf makes a document of a run and its causes.
func DocumentOf(d contract.RunDetail, causes []contract.Cause) Document {
	r := d.Run
	order := deref(r.Order)
	if order == "" {
		order = "written"
	}
	out := Document{Format: DocumentFormat, Causes: []DocumentWhy{}, Cases: []DocumentOne{}, LeftOut: []DocumentOut{},
		Run: DocumentRun{Number: r.Number, App: r.App, Build: r.Build, Version: r.VersionName, Code: r.VersionCode,
			State:   r.State,
			Verdict: r.Verdict, Seed: r.Seed, Order: order, AskedBy: r.AskedBy, CreatedAt: r.CreatedAt,
			FinishedAt: r.FinishedAt}}
	for _, c := range causes {
		out.Causes = append(out.Causes, DocumentWhy{Verdict: c.Verdict, Expected: c.Expected, Actual: c.Actual,
			Cases:        append([]string{}, c.Cases...),
			Combinations: c.Combinations, Shared: c.Shared, Since: deref(c.Since), Bearing: bearing(c.Bearing)})
	}
	for _, leg := range d.Legs {
		for _, x := range leg.Cases {
			one := DocumentOne{Suite: leg.Suite, Case: x.Name, Combination: whole(leg), Verdict: x.Verdict,
				Flaky:    x.Flaky,
				Attempts: []DocumentResult{}}
			for _, res := range x.Results {
				result := DocumentResult{Attempt: res.Attempt, Device: res.Device, Verdict: res.Verdict,
					TookMS:   res.TookMs,
					Sentence: deref(res.Sentence), Steps: deref(res.Steps)}
				if f, ok := FailureOf(res); ok {
					result.Failure = &f.Failure
				}
				one.Attempts = append(one.Attempts, result)
			}
			out.Cases = append(out.Cases, one)
		}
	}
	for _, l := range d.LeftOut {
		one := DocumentOut{Combination: wholeOf(l.Combination), Why: []string{}}
		for _, why := range l.Reasons {
			one.Why = append(one.Why, why.Why)
		}
		out.LeftOut = append(out.LeftOut, one)
	}
	return out
}

// JSON writes a run as a document.
func JSON(w io.Writer, d contract.RunDetail, causes []contract.Cause) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(DocumentOf(d, causes))
}
