package nodecmd

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"yamato/demo"
	"yamato/internal/cli/buildcmd"
	"yamato/internal/cli/runcmd"
	"yamato/internal/cli/suitecmd"
	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/plan"
	"yamato/internal/core/script"
)

// showing is the demo while it shows its runs.
type showing struct {
	*ui.App
	c       *client.Service
	dir     string // with the samples
	seed    int64
	suites  []string // by name
	details []contract.RunDetail
}

// handIn hands in what the runs need: secrets, accounts, suites, lineups.
func (s *showing) handIn(ctx context.Context) error {
	if err := s.keepSamples(ctx); err != nil {
		return err
	}
	files, err := suitecmd.SuiteFiles([]string{filepath.Join(s.dir, "suites")})
	if err != nil {
		return err
	}
	for _, path := range files {
		if text, err := ui.ReadSmall(path); err == nil && script.IsShared(string(text)) {
			continue // it goes along with the suites that use it
		}
		one, err := suitecmd.Of(s.App).PushSuite(ctx, s.c, path, false)
		if err != nil {
			return err
		}
		s.suites = append(s.suites, one.Name)
	}
	return s.saveLineups(ctx)
}

// versions runs every suite of each version of the sample, one after the other, and gives the last build.
func (s *showing) versions(ctx context.Context) (last contract.Build, err error) {
	repeat := 3
	for _, v := range demo.Versions {
		if last, err = s.pushSample(ctx, "tideline", v, "release"); err != nil {
			return last, err
		}
		r, err := s.start(ctx, last, contract.NewRun{Lineup: ui.Optional(demo.Bench), RepeatFailed: &repeat})
		if err != nil {
			return last, err
		}
		if err := s.tell(ctx, r); err != nil {
			return last, err
		}
	}
	return last, nil
}

// together runs a build by the plan that has every pair, and on the handsets where there are any: these wait for the
// wall's clock.
func (s *showing) together(ctx context.Context, last contract.Build, sites []string) error {
	if err := s.savePlans(ctx, demo.Pairs); err != nil {
		return err
	}
	// What an earlier showing in this folder has handed in is newer than what the plan is to show.
	changed := contract.PlanChanges{}
	if _, err := client.As[contract.Build](s.c.GetBuild(ctx, s.c.Project, demo.Newest.Name,
		&contract.GetBuildParams{App: &last.App})); err == nil {
		changed.Build = &last.VersionName
	}
	r, err := client.As[contract.Run](s.c.StartPlan(ctx, s.c.Project, demo.Pairs, &contract.StartPlanParams{}, changed))
	if err != nil {
		return err
	}
	runs := []contract.Run{r}
	if slices.Contains(sites, demo.Desk) {
		r, err := s.start(ctx, last, contract.NewRun{On: &demo.WebPlatforms, Tags: &demo.HandsetTags})
		if err != nil {
			return err
		}
		runs = append(runs, r)
	}
	if slices.Contains(sites, demo.Cable) {
		on, err := s.onCable(ctx)
		if err != nil {
			return err
		}
		r, err := s.start(ctx, last, contract.NewRun{On: &on, Tags: &demo.CableTags})
		if err != nil {
			return err
		}
		runs = append(runs, r)
	}
	for _, r := range runs {
		if err := s.tell(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

// onCable are the names of what is on a cable.
func (s *showing) onCable(ctx context.Context) (names []string, err error) {
	list, err := client.As[[]contract.Device](s.c.ListDevices(ctx, s.c.Project, nil))
	for _, d := range list {
		if d.Site == demo.Cable {
			names = append(names, d.Name)
		}
	}
	return names, err
}

// rest hands in what is not run, and saves the plans: what starts by itself does from then on.
func (s *showing) rest(ctx context.Context) error {
	for _, v := range demo.CounterVersions {
		if _, err := s.pushSample(ctx, "counter", v, "counter"); err != nil {
			return err
		}
	}
	if _, err := s.pushSample(ctx, "tideline", demo.Newest, "main"); err != nil {
		return err
	}
	return s.savePlans(ctx, "")
}

// start starts a run of every suite of a build.
func (s *showing) start(ctx context.Context, b contract.Build, r contract.NewRun) (contract.Run, error) {
	r.Build, r.App, r.Suites, r.Seed = fmt.Sprint(b.Number), &b.App, s.suites, &s.seed
	return runcmd.Of(s.App).Start(ctx, s.c, r)
}

// tell waits for a run and prints what came of it.
func (s *showing) tell(ctx context.Context, r contract.Run) error {
	if err := runcmd.Of(s.App).Await(ctx, s.c, r, runcmd.Watch{}); err != nil {
		return err
	}
	d, err := runcmd.Of(s.App).Detail(ctx, s.c, r.Number)
	if err != nil {
		return err
	}
	fmt.Fprintln(s.Out)
	runcmd.Of(s.App).TellRun(ctx, s.c, d)
	s.details = append(s.details, d)
	return nil
}

// keepSamples keeps the secret and the test accounts that the sample suites use.
func (s *showing) keepSamples(ctx context.Context) error {
	for name, value := range demo.Secrets {
		if _, err := client.As[struct{}](s.c.SetSecret(ctx, s.c.Project, name,
			contract.SecretValue{Value: value})); err != nil {
			return err
		}
	}
	had, err := client.As[[]contract.Account](s.c.ListAccounts(ctx, s.c.Project))
	if err != nil {
		return err
	}
	for _, one := range demo.Accounts {
		if slices.ContainsFunc(had, func(h contract.Account) bool { return h.User == one.User }) {
			continue
		}
		fields := map[string]string{"password": one.Password}
		if _, err := client.As[contract.Account](s.c.AddAccount(ctx, s.c.Project, contract.NewAccount{Name: one.Name,
			User:   one.User,
			Fields: &fields})); err != nil {
			return err
		}
	}
	return nil
}

// pushSample hands a version of a sample app in, with the labels that a pipeline
// would give it.
func (s *showing) pushSample(ctx context.Context, app string, v demo.Version,
	branch string) (contract.Build, error) {
	packages, _ := filepath.Glob(filepath.Join(s.dir, "packages", app+"-"+v.Name+"*"))
	b, err := buildcmd.Of(s.App).Push(ctx, s.c, packages)
	if err != nil {
		return b, err
	}
	labels := map[string]string{"branch": branch, "commit": fmt.Sprintf("%07x", v.Code*77777)}
	return buildcmd.Of(s.App).ChangeBuild(ctx, s.c, fmt.Sprint(b.Number), b.App, contract.BuildPatch{Labels: &labels})
}

// savePlans keeps the sample plans, or one of them.
func (s *showing) savePlans(ctx context.Context, name string) error {
	plans, err := demo.Plans()
	if err != nil {
		return err
	}
	for _, text := range plans {
		p, _, err := plan.Read(text)
		if err != nil { // a matrix beside them
			continue
		}
		if name != "" && p.Name != name {
			continue
		}
		if _, err := client.As[contract.Plan](s.c.SavePlan(ctx, s.c.Project, contract.NewPlan{Text: text})); err != nil {
			return err
		}
	}
	return nil
}

func (s *showing) saveLineups(ctx context.Context) error {
	lineups, err := demo.Lineups()
	if err != nil {
		return err
	}
	for _, text := range lineups {
		if _, err := client.As[contract.Lineup](s.c.SaveLineup(ctx, s.c.Project,
			contract.NewLineup{Text: text})); err != nil {
			return err
		}
	}
	return nil
}
