package report

import (
	"encoding/json"
	"io"
	"net/url"
	"path/filepath"
	"strings"

	"yamato/internal/core/script"
	"yamato/internal/core/script/token"
)

// Placed is a finding in a file.
type Placed struct {
	File    string
	Finding script.Finding
}

// SARIF writes findings as a log of the Static Analysis Results Interchange Format (OASIS, 2.1.0),
// which editors and CI servers read. Columns count characters.
func SARIF(w io.Writer, version string, list []Placed) error {
	rules, results := []sarifRule{}, []sarifResult{}
	for _, r := range token.Rules { // all, so that what a file no longer has is known to be mended
		rules = append(rules, sarifRule{r.Rule, sarifText{r.Words}})
	}
	for _, p := range list {
		f := p.Finding
		level, text := "error", f.Message
		if f.Advice {
			level = "note"
		}
		if f.Hint != "" {
			text += "; " + f.Hint
		}
		results = append(results, sarifResult{RuleID: f.Rule, Level: level, Message: sarifText{text},
			Locations: []sarifLocation{{sarifPhysical{sarifArtifact{uri(p.File)},
				sarifRegion{f.Pos.Line, f.Pos.Column, f.Pos.Column + max(1, f.Length)}}}}})
	}
	log := sarifLog{Schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		Version: "2.1.0", Runs: []sarifRun{{Tool: sarifTool{sarifDriver{"yamato", version, rules}},
			ColumnKind: "unicodeCodePoints",
			Results:    results}}}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(log)
}

type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID    token.Rule `json:"id"`
		Short sarifText  `json:"shortDescription"`
	}
	sarifResult struct {
		RuleID    token.Rule      `json:"ruleId"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn"`
		EndColumn   int `json:"endColumn"`
	}
)

// uri gives a path as a relative reference (RFC 3986).
func uri(path string) string {
	parts := strings.Split(filepath.ToSlash(path), "/")
	for i, p := range parts {
		parts[i] = url.PathEscape(p)
	}
	return strings.Join(parts, "/")
}
