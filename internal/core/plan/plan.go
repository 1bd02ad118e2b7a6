// Package plan reads plans: saved recipes that say which builds are tested, with which suites, in
// which combinations, in which shares, and when. It decides nothing of devices or time; core/matrix
// and core/plan/when do.
package plan

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"yamato/internal/core/document"
	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/near"
	"yamato/internal/core/plan/when"
)

// Plan is one as people write it.
type Plan struct {
	Name  string `yaml:"plan" json:"plan"`
	About string `yaml:"about,omitempty" json:"about,omitempty"`
	App   string `yaml:"app" json:"app"`
	// newest, arriving, or a number or version
	Build       string      `yaml:"build,omitempty" json:"build,omitempty"`
	Labels      fleet.Words `yaml:"labels,omitempty" json:"labels,omitempty"` // key=value, that the build has
	Suites      fleet.Words `yaml:"suites,omitempty" json:"suites,omitempty"` // by name; none for all
	Tags        fleet.Words `yaml:"tags,omitempty" json:"tags,omitempty"`
	Cases       fleet.Words `yaml:"cases,omitempty" json:"cases,omitempty"`
	Checklist   string      `yaml:"checklist,omitempty" json:"checklist,omitempty"`
	Lineup      string      `yaml:"lineup,omitempty" json:"lineup,omitempty"`
	Devices     fleet.Words `yaml:"devices,omitempty" json:"devices,omitempty"` // picks: models, or devices by name
	matrix.Grid `yaml:",inline"`
	// combinations that ran so lately count as covered
	Recent Span           `yaml:"recent,omitempty" json:"recent,omitempty"`
	Shard  Span           `yaml:"shard,omitempty" json:"shard,omitempty"` // at most so long a leg
	Repeat Repeat         `yaml:"repeat,omitempty" json:"repeat,omitzero"`
	Stop   Stop           `yaml:"stop,omitempty" json:"stop,omitzero"`
	Limits Limits         `yaml:"limits,omitempty" json:"limits,omitzero"`
	Order  string         `yaml:"order,omitempty" json:"order,omitempty"`
	Keep   evidence.Rules `yaml:"keep,omitempty" json:"keep,omitempty"` // what is kept of its runs, by sort
	When   when.When      `yaml:"when,omitempty" json:"when,omitzero"`
}

// Repeat is how often a case is tried again by what became of it.
type Repeat struct {
	Fail  int  `yaml:"fail,omitempty" json:"fail,omitempty"`
	Error *int `yaml:"error,omitempty" json:"error,omitempty"` // once where nil
}

// Stop ends a run early.
type Stop struct {
	Failures int  `yaml:"failures,omitempty" json:"failures,omitempty"` // once so many results failed
	Certain  bool `yaml:"certain,omitempty" json:"certain,omitempty"`   // once the verdict of the run is certain
}

// Limits bound what takes long; 0 for what is usual.
type Limits struct {
	Step Span `yaml:"step,omitempty" json:"step,omitempty"` // patience, where neither step nor suite says otherwise
	Case Span `yaml:"case,omitempty" json:"case,omitempty"`
	Leg  Span `yaml:"leg,omitempty" json:"leg,omitempty"`
	Run  Span `yaml:"run,omitempty" json:"run,omitempty"`
}

// Which builds a plan is for, beside one by its number or version.
const (
	Newest   = "newest"
	Arriving = "arriving" // each that comes in starts the plan
)

// Orders of cases.
const (
	Written     = "written"
	Random      = "random"
	FailedFirst = "failed first"
)

// Span is a time as people write it: 90s, 5m, 2h, 3d.
type Span time.Duration

var spanForm = regexp.MustCompile(`^(\d{1,6})(s|m|h|d)$`)

var units = map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour, "d": 24 * time.Hour}

// UnmarshalYAML reads it.
func (s *Span) UnmarshalYAML(decode func(any) error) error {
	var text string
	if err := decode(&text); err != nil {
		return err
	}
	parts := spanForm.FindStringSubmatch(strings.ReplaceAll(text, " ", ""))
	if parts == nil {
		return errors.New("a time is needed here, as in 90s, 5m, 2h or 3d")
	}
	n, _ := strconv.Atoi(parts[1]) // the form has it digits
	if *s = Span(time.Duration(n) * units[parts[2]]); *s <= 0 {
		return errors.New("a time over 0 is needed here")
	}
	return nil
}

func (s Span) String() string {
	d := time.Duration(s)
	for _, u := range []string{"d", "h", "m"} {
		if d >= units[u] && d%units[u] == 0 {
			return fmt.Sprintf("%d%s", d/units[u], u)
		}
	}
	return fmt.Sprintf("%ds", d/time.Second)
}

// MarshalText writes it as people do.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Bounds on a plan.
const (
	MaxText   = 256 << 10 // bytes
	maxName   = 100
	maxListed = 500
	maxRepeat = 20
)

// Read reads a plan from its text. Its error says what is wrong, with the line and a suggestion.
func Read(text string) (*Plan, *when.Moments, error) {
	if len(text) > MaxText {
		return nil, nil, fmt.Errorf("a plan has at most %d kB", MaxText>>10)
	}
	var p Plan
	if err := document.Read([]byte(text), &p); err != nil {
		return nil, nil, fmt.Errorf("the plan cannot be read: %w", err)
	}
	m, fault := p.check()
	if fault != nil {
		return nil, nil, fault.In([]byte(text))
	}
	return &p, m, nil
}

func wrong(path, hint, format string, args ...any) *matrix.Fault {
	return &matrix.Fault{Path: path, Message: fmt.Sprintf(format, args...), Hint: hint}
}

// odd tells of characters that steer what shows them.
func odd(s string) bool { return strings.ContainsFunc(s, unicode.IsControl) }

func (p *Plan) check() (*when.Moments, *matrix.Fault) {
	if p.Name = strings.TrimSpace(p.Name); p.Name == "" || len(p.Name) > maxName || odd(p.Name) ||
		strings.Contains(p.Name, "/") {
		return nil, wrong("$.plan", "write `plan: Tideline every night`",
			"a plan begins with its name, of at most %d characters", maxName)
	}
	if len(p.About) > 1000 || odd(p.About) {
		return nil, wrong("$.about", "", "`about` is one line of at most 1000 characters")
	}
	for field, list := range map[string][]string{"app": {p.App}, "build": {p.Build}, "lineup": {p.Lineup},
		"checklist": {p.Checklist},
		"labels":    p.Labels, "suites": p.Suites, "tags": p.Tags, "cases": p.Cases, "devices": p.Devices} {
		for _, text := range list {
			if len(text) > 300 || odd(text) {
				return nil, wrong("$."+field, "", "`%s` holds a text of over 300 characters, or one that cannot be shown", field)
			}
		}
	}
	if strings.TrimSpace(p.App) == "" {
		return nil, wrong("$.app", "write `app: Tideline`", "it is not said which app is tested")
	}
	p.Build = cmp.Or(p.Build, Newest)
	for i, l := range p.Labels {
		if key, value, ok := strings.Cut(l, "="); !ok || key == "" || value == "" || strings.Contains(l, ",") {
			return nil, wrong(fmt.Sprintf("$.labels[%d]", i), "write `labels: [branch=main]`", "%q is no label", l)
		}
	}
	if p.Build != Newest && p.Build != Arriving && len(p.Labels) > 0 {
		return nil, wrong("$.labels", "leave the labels out, or write `build: newest`", "one build is named already")
	}
	for field, list := range map[string]fleet.Words{"suites": p.Suites, "tags": p.Tags, "cases": p.Cases,
		"devices": p.Devices} {
		if len(list) > maxListed {
			return nil, wrong("$."+field, "", "at most %d %s are named", maxListed, field)
		}
	}
	if p.Checklist != "" && len(p.Suites)+len(p.Tags)+len(p.Cases) > 0 {
		return nil, wrong("$.checklist", "make a plan of each",
			"a plan is for suites, or for a checklist, and not for both")
	}
	if !slices.Contains([]string{"", Written, Random, FailedFirst}, p.Order) {
		hint := ""
		if m := near.Word(p.Order, []string{Written, Random, FailedFirst}); m != "" {
			hint = "did you mean `" + m + "`?"
		}
		return nil, wrong("$.order", hint, "`order` is written, random or failed first, not %q", p.Order)
	}
	if p.Repeat.Fail < 0 || p.Repeat.Fail > maxRepeat || p.Repeat.Error != nil &&
		(*p.Repeat.Error < 0 || *p.Repeat.Error > maxRepeat) {
		return nil, wrong("$.repeat", "", "a case is repeated 0 to %d times", maxRepeat)
	}
	if p.Stop.Failures < 0 {
		return nil, wrong("$.stop", "", "a run stops after 1 failure or more")
	}
	for field, l := range map[string]struct{ is, most Span }{
		"limits.step": {p.Limits.Step, Span(10 * time.Minute)}, "limits.case": {p.Limits.Case, Span(2 * time.Hour)},
		"limits.leg": {p.Limits.Leg, Span(24 * time.Hour)}, "limits.run": {p.Limits.Run, Span(7 * 24 * time.Hour)},
		"shard": {p.Shard, Span(24 * time.Hour)}, "recent": {p.Recent, Span(365 * 24 * time.Hour)},
	} {
		if l.is > l.most {
			return nil, wrong("$."+field, "", "`%s` is at most %s", field, l.most)
		}
	}
	if err := p.Keep.Check(); err != nil {
		return nil, wrong("$.keep", "write `keep: {video: always}`", "%s", err)
	}
	if f := p.Grid.Check(); f != nil {
		return nil, f
	}
	m, f := p.When.Read()
	if f != nil {
		return nil, wrong("$.when."+f.Field, f.Hint, "%s", f.Message)
	}
	if p.When.After != nil && strings.EqualFold(p.When.After.Plan, p.Name) {
		return nil, wrong("$.when.after", "name another plan", "a plan cannot start after itself")
	}
	return m, nil
}

// Starts says in words what starts a plan.
func (p *Plan) Starts(m *when.Moments) []string {
	var out []string
	if words := m.Words(p.When); words != "" {
		out = append(out, words)
	}
	if p.Build == Arriving {
		words := "each build that arrives"
		if len(p.Labels) > 0 {
			words += " with " + strings.Join(p.Labels, ", ")
		}
		out = append(out, words)
	}
	if a := p.When.After; a != nil {
		words := "after " + a.Plan
		if len(a.Verdict) > 0 {
			words += " ended with " + strings.Join(a.Verdict, " or ")
		}
		out = append(out, words)
	}
	return out
}
