package views

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"yamato/internal/contract"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// maxBearings bounds the causes of a run of which is told what else is known of them.
const maxBearings = 20

// bearing tells of a step that failed what may say whether it is the test or the app: which other
// cases looked for the same there and passed, and in which other build the step last passed.
func (s *Part) bearing(ctx context.Context, c base.Caller, r store.Run, l *contract.Leg, x contract.Crossing,
	failure map[string]any) (*contract.Bearing, error) {
	var f script.Failure
	if body, err := json.Marshal(failure); err != nil || json.Unmarshal(body, &f) != nil || f.Step == "" {
		return nil, nil // of an attempt that judged nothing
	}
	out := &contract.Bearing{}
	if len(f.Locators) > 0 {
		passed, err := s.Store.LegSteps(ctx, l.Id)
		if err != nil {
			return nil, err
		}
		touched := []string{}
		for _, one := range passed {
			i := slices.IndexFunc(l.Cases, func(k contract.Crossing) bool { return k.Index == one.Case })
			if one.Case != x.Index && i >= 0 && looksFor(one.Steps, f.Locators) && !slices.Contains(touched,
				l.Cases[i].Name) {
				touched = append(touched, l.Cases[i].Name)
			}
		}
		if len(touched) > 0 {
			out.Touched = &touched
		}
	}
	history, err := s.Store.StepHistory(ctx, c.ProjectID, r.AppID, l.Suite, x.Name, r.Number, 40)
	if err != nil {
		return nil, err
	}
	for _, h := range history {
		if h.BuildID != r.BuildID && passes(h.Steps, f.Step) {
			out.LastPassed = base.Ptr(fmt.Sprintf("%s (%s)", h.VersionName, h.VersionCode))
			out.LastPassedBuild, out.LastPassedRun = &h.Build, &h.Run
			break
		}
	}
	if out.Touched == nil && out.LastPassed == nil {
		return nil, nil
	}
	return out, nil
}

// bearingOf is bearing for a crossing of a run, by its last result that failed.
func (s *Part) bearingOf(ctx context.Context, c base.Caller, d contract.RunDetail, leg int64,
	index int) (*contract.Bearing, error) {
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, d.Run.Number)
	if err != nil {
		return nil, err
	}
	for i := range d.Legs {
		if d.Legs[i].Id != leg {
			continue
		}
		for _, x := range d.Legs[i].Cases {
			for _, one := range slices.Backward(x.Results) {
				if x.Index == index && one.Failure != nil {
					return s.bearing(ctx, c, r, &d.Legs[i], x, *one.Failure)
				}
			}
		}
	}
	return nil, nil
}

func stepsOf(raw json.RawMessage) []script.StepRecord {
	var steps []script.StepRecord
	if json.Unmarshal(raw, &steps) != nil { // of an older version
		return nil
	}
	return steps
}

// looksFor tells whether a step that passed looked for one of some locators.
func looksFor(raw json.RawMessage, locators []string) bool {
	return slices.ContainsFunc(stepsOf(raw), func(st script.StepRecord) bool {
		return st.Verdict == string(verdict.Pass) && slices.ContainsFunc(st.Locators, func(l string) bool {
			return slices.Contains(locators, l)
		})
	})
}

// passes tells whether a step of that text passed.
func passes(raw json.RawMessage, text string) bool {
	return slices.ContainsFunc(stepsOf(raw), func(st script.StepRecord) bool {
		return st.Verdict == string(verdict.Pass) && screen.Fold(st.Text) == screen.Fold(text)
	})
}
