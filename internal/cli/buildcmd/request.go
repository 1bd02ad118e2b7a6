package buildcmd

import (
	"yamato/internal/cli/ui"
	"yamato/internal/contract"
	"yamato/internal/core/document"
	"yamato/internal/core/evidence"
)

// request is a run as a file asks for it; its fields are those of the call that starts one.
type request struct {
	Build          string         `yaml:"build"`
	App            *string        `yaml:"app"`
	Suites         []string       `yaml:"suites"`
	Cases          []string       `yaml:"cases"`
	Tags           []string       `yaml:"tags"`
	On             []string       `yaml:"on"`
	Lineup         *string        `yaml:"lineup"`
	LeaveInstalled *bool          `yaml:"leave_installed"`
	Language       *string        `yaml:"language"`
	Seed           *int64         `yaml:"seed"`
	RepeatFailed   *int           `yaml:"repeat_failed"`
	RealTime       *bool          `yaml:"real_time"`
	Order          *string        `yaml:"order"`
	Keep           evidence.Rules `yaml:"keep"`
}

// ReadRequest reads a request to run something, in YAML or JSON; its errors say in words what is wrong, and where.
func ReadRequest(text []byte) (contract.NewRun, error) {
	var p request
	if err := document.Read(text, &p); err != nil {
		return contract.NewRun{}, err
	}
	if err := p.Keep.Check(); err != nil {
		return contract.NewRun{}, err
	}
	var keep *contract.Keep
	if len(p.Keep) > 0 {
		keep = (*contract.Keep)(&p.Keep)
	}
	return contract.NewRun{Build: p.Build, Keep: keep, App: p.App, Suites: p.Suites, Cases: ui.Several(p.Cases),
		Tags: ui.Several(p.Tags),
		On:   ui.Several(p.On), Lineup: p.Lineup,
		LeaveInstalled: p.LeaveInstalled, Language: p.Language, Seed: p.Seed, RepeatFailed: p.RepeatFailed,
		RealTime: p.RealTime, Order: p.Order}, nil
}
