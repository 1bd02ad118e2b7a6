package base

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/plain"
	"yamato/internal/core/plan"
	"yamato/internal/core/remedy"
)

// The kinds of what plans, and suites, may need.
const (
	NeedsLineup = "lineup"
	NeedsSuite  = "suite"
	NeedsSecret = "secret"
	NeedsPlan   = "plan"
)

// NeededBy tells in words what needs a lineup, suite, secret or plan of that name, plans by name first.
func (s *Base) NeededBy(ctx context.Context, c Caller, kind, name string) ([]string, error) {
	list, err := s.Store.AllPlans(ctx, c.ProjectID)
	if err != nil {
		return nil, err
	}
	var wanting []string // suites that want a secret
	if kind == NeedsSecret {
		suites, err := s.Store.Suites(ctx, c.ProjectID)
		if err != nil {
			return nil, err
		}
		for _, one := range suites {
			if slices.Contains(one.Asks.V.Secrets, name) {
				wanting = append(wanting, one.Name)
			}
		}
	}
	out := []string{}
	for _, one := range list {
		p, _, err := plan.Read(one.Text)
		if err != nil {
			continue // it cannot start with or without it
		}
		same := func(n string) bool { return strings.EqualFold(n, name) }
		needs := false
		switch kind {
		case NeedsLineup:
			needs = same(p.Lineup)
		case NeedsSuite:
			needs = slices.ContainsFunc(p.Suites, same)
		case NeedsSecret:
			needs = len(wanting) > 0 && len(p.Suites) == 0 || slices.ContainsFunc(p.Suites,
				func(n string) bool { return slices.Contains(wanting, n) })
		case NeedsPlan:
			needs = p.When.After != nil && same(p.When.After.Plan)
		}
		if needs {
			out = append(out, "the plan "+p.Name)
		}
	}
	for _, name := range wanting {
		out = append(out, "the suite "+name)
	}
	return out, nil
}

// Spare refuses to remove what something needs, unless it is to go anyway.
func (s *Base) Spare(ctx context.Context, c Caller, kind, name string, anyway bool) error {
	if anyway {
		return nil
	}
	by, err := s.NeededBy(ctx, c, kind, name)
	if err != nil || len(by) == 0 {
		return err
	}
	return Refuse(Needed, fmt.Sprintf("the %s %s stays: %s", kind, name, plain.Need(by)),
		remedy.Say("change those first, or remove it anyway (%s)", remedy.Anyway))
}
