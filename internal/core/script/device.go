package script

import (
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// Recorder takes what a case leaves behind, in order.
type Recorder interface {
	// Step is called after each step.
	Step(StepRecord)
	// Picture is called for each picture that the script, or a failure, asks for.
	Picture(name string, p device.Picture, tree *screen.Tree, marks []screen.Rect, crop screen.Rect)
}

// StepRecord is one step as it went.
type StepRecord struct {
	File    string `json:"file,omitempty"`
	Line    int    `json:"line"`
	Depth   int    `json:"depth,omitempty"` // of the actions that it stands in
	Phase   Phase  `json:"phase,omitempty"`
	Text    string `json:"text"`
	AtMS    int64  `json:"at_ms"` // device time since the case began
	TookMS  int64  `json:"took_ms"`
	Verdict string `json:"verdict"`
	Note    string `json:"note,omitempty"`
	// a locator whose absence the step passed by, and that nothing had ever matched
	Absent string `json:"absent,omitempty"`
	// the locators that it looked for, in canonical form
	Locators []string `json:"locators,omitempty"`
}

// Phase is what of a suite a step belongs to; "" is the case itself.
type Phase string

// The phases.
const (
	BeforeAll  Phase = "before all"
	BeforeEach Phase = "before each"
	AfterEach  Phase = "after each"
	AfterAll   Phase = "after all"
)
