package nodecmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"yamato/demo"
	"yamato/internal/cli/buildcmd"
	"yamato/internal/cli/runcmd"
	"yamato/internal/cli/suitecmd"
	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/plan"
	"yamato/internal/core/script"
	"yamato/internal/host/handset"
)

func (a *App) DemoCommand() *cobra.Command {
	var c stackConfig
	var once, verbose bool
	var seed int64
	cmd := &cobra.Command{
		Use: "demo", Short: "Show it: everything on this machine, with a sample app, suites, devices and runs",
		Args:    ui.None,
		Example: "  yamato demo --once",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var err error
			if c.dir == "" {
				if c.dir, err = dataDir("demo"); err != nil {
					return err
				}
			}
			if c.dir, err = filepath.Abs(c.dir); err != nil {
				return err
			}
			for _, name := range c.without {
				if !slices.Contains(demo.Sites, name) {
					return ui.WrongCall{Title: fmt.Sprintf("the demo has no site %q", name),
						Hint: "it has " + listed(demo.Sites)}
				}
			}
			c.anyway, c.log = !cmd.Flags().Changed("listen"), a.logger(verbose)
			return a.demo(cmd.Context(), c, once, seed)
		},
	}
	f := cmd.Flags()
	f.StringVar(&c.dir, "dir", "", "data folder (default: /var/lib/yamato/demo for root, else "+
		"~/.local/share/yamato/demo)")
	f.StringVar(&c.listen, "listen", defaultListen, "address to listen on; any free port where this one is taken")
	f.BoolVar(&once, "once", false, "show it once, stop everything, and exit 0 if the outcome is what "+
		"docs/demo.md says")
	f.Int64Var(&seed, "seed", demo.Seed, "seed of all chance in the sample runs")
	f.StringSliceVar(&c.without, "without", nil, "sites to leave out: "+strings.Join(demo.Sites, ", "))
	_ = cmd.RegisterFlagCompletionFunc("without", cobra.FixedCompletions(demo.Sites,
		cobra.ShellCompDirectiveNoFileComp))
	f.BoolVar(&verbose, "verbose", false, "log more")
	return cmd
}

// demo starts everything, shows the sample runs, and goes on serving unless it
// is to show them once.
func (a *App) demo(ctx context.Context, c stackConfig, once bool, seed int64) error {
	began := time.Now()
	s, err := openStack(ctx, c)
	if err != nil {
		return err
	}
	paths, err := writeSamples(c.dir, sitesHere(c.without))
	if err != nil {
		return errors.Join(err, s.close())
	}
	sites, err := readSites(paths)
	if err != nil {
		return errors.Join(err, s.close())
	}
	path := a.keepConnection(ui.Connection{Service: s.node.url, Token: s.node.userToken, Project: s.node.project},
		filepath.Dir(s.node.hostToken))
	fmt.Fprintf(a.Out, "The service is at %s, with a PostgreSQL cluster of its own; data in %s.\n", s.node.url, c.dir)
	inner, stop := context.WithCancel(ctx)
	g, inner := errgroup.WithContext(inner)
	g.Go(func() error { return s.run(inner, sites) })
	var outcome error
	g.Go(func() error {
		outcome = a.showDemo(inner, s, sitesHere(c.without), began, seed)
		if outcome != nil && !once && inner.Err() == nil { // what there is can be looked at all the same
			if told := (ui.Exit{}); !errors.As(outcome, &told) {
				fmt.Fprintf(a.Err, "yamato: not all of the demo could be shown: %v\n", outcome)
			}
			fmt.Fprintln(a.Out, "What came of it until then can be looked at.")
			outcome = nil
		}
		if outcome == nil && !once {
			a.tellHowToGoOn(inner, s.node, c.dir, path)
			return nil
		}
		stop()
		return nil
	})
	err = errors.Join(g.Wait(), s.close())
	stop()
	if errors.Is(outcome, context.Canceled) {
		outcome = nil
	}
	if outcome == nil && once && ctx.Err() != nil { // it was to be shown whole, and was not
		outcome = ui.Exit{Code: ui.ExitNothing}
	}
	return errors.Join(outcome, err)
}

// writeSamples writes the packages, suites and the site file of the scenario, so
// that they can be used by hand, and gives the paths of the site files.
func writeSamples(dir string, names []string) ([]string, error) {
	files := map[string][]byte{}
	for _, versions := range []struct {
		of   []demo.Version
		pack func(demo.Version) ([]demo.Package, error)
	}{{append(slices.Clone(demo.Versions), demo.Newest), func(v demo.Version) ([]demo.Package, error) {
		return demo.Packages(v, time.Now())
	}}, {demo.CounterVersions, demo.CounterPackages}} {
		for _, v := range versions.of {
			packages, err := versions.pack(v)
			if err != nil {
				return nil, err
			}
			for _, p := range packages {
				files[filepath.Join("packages", p.File)] = p.Data
			}
		}
	}
	suites, err := demo.Suites()
	if err != nil {
		return nil, err
	}
	for name, text := range suites {
		files[filepath.Join("suites", name)] = []byte(text)
	}
	lineups, err := demo.Lineups()
	if err != nil {
		return nil, err
	}
	for name, text := range lineups {
		files[filepath.Join("lineups", name)] = []byte(text)
	}
	plans, err := demo.Plans()
	if err != nil {
		return nil, err
	}
	for name, text := range plans {
		files[filepath.Join("plans", name)] = []byte(text)
	}
	var sites []string
	for _, name := range names {
		if files[name+".yaml"], err = demo.Site(name); err != nil {
			return nil, err
		}
		sites = append(sites, filepath.Join(dir, name+".yaml"))
	}
	for name, data := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			return nil, err
		}
	}
	return sites, nil
}

func (a *App) showDemo(ctx context.Context, s *stack, sites []string, began time.Time, seed int64) error {
	c, err := client.Open(s.node.url, s.node.userToken, s.node.project)
	if err != nil {
		return err
	}
	devices, err := awaitDevices(ctx, c, sites)
	if err != nil {
		return err
	}
	if err := handset.Available(); err != nil && !slices.Contains(sites, demo.Desk) {
		fmt.Fprintf(a.Out, "The site desk is left out: %s.\n", err)
	}
	fmt.Fprintf(a.Out, "The hosts of the sites %s are linked, with %s. Ready after %.1f s.\n", listed(sites),
		ui.Plural(len(devices), "device"), time.Since(began).Seconds())
	var names []string
	suites, err := suitecmd.SuiteFiles([]string{filepath.Join(s.dir, "suites")})
	if err != nil {
		return err
	}
	if err := a.keepSamples(ctx, c); err != nil {
		return err
	}
	for _, path := range suites {
		if text, err := ui.ReadSmall(path); err == nil && script.IsShared(string(text)) {
			continue // it goes along with the suites that use it
		}
		one, err := suitecmd.Of(a.App).PushSuite(ctx, c, path, false)
		if err != nil {
			return err
		}
		names = append(names, one.Name)
	}
	if err := a.saveLineups(ctx, c); err != nil {
		return err
	}
	var details []contract.RunDetail
	tell := func(r contract.Run) error {
		if err := runcmd.Of(a.App).Await(ctx, c, r, runcmd.Watch{}); err != nil {
			return err
		}
		d, err := runcmd.Of(a.App).Detail(ctx, c, r.Number)
		if err != nil {
			return err
		}
		fmt.Fprintln(a.Out)
		runcmd.Of(a.App).TellRun(ctx, c, d)
		details = append(details, d)
		return nil
	}
	appName, shown := "", ""
	for _, v := range demo.Versions {
		b, err := a.pushSample(ctx, c, s.dir, "tideline", v, "release")
		if err != nil {
			return err
		}
		appName, shown = b.App, fmt.Sprint(b.Number)
		repeat := 3
		r, err := runcmd.Of(a.App).Start(ctx, c, contract.NewRun{Build: fmt.Sprint(b.Number), App: &b.App,
			Suites: names, On: &demo.Leaping,
			Seed: &seed, RepeatFailed: &repeat})
		if err != nil {
			return err
		}
		if err := tell(r); err != nil {
			return err
		}
	}
	if err := a.savePlans(ctx, c, demo.Pairs); err != nil {
		return err
	}
	// What an earlier showing in this folder has handed in is newer than what the plan is to show.
	changed := contract.PlanChanges{}
	if _, err := client.As[contract.Build](c.GetBuild(ctx, c.Project, demo.Newest.Name,
		&contract.GetBuildParams{App: &appName})); err == nil {
		changed.Build = &demo.Versions[len(demo.Versions)-1].Name
	}
	r, err := client.As[contract.Run](c.StartPlan(ctx, c.Project, demo.Pairs, &contract.StartPlanParams{}, changed))
	if err != nil {
		return err
	}
	var byHandsets *contract.Run
	if slices.Contains(sites, demo.Desk) { // beside the other: they wait for the wall's clock
		one, err := runcmd.Of(a.App).Start(ctx, c, contract.NewRun{Build: shown, App: &appName, Suites: names,
			On: &demo.Walled, Tags: &demo.Telling, Seed: &seed})
		if err != nil {
			return err
		}
		byHandsets = &one
	}
	if err := tell(r); err != nil {
		return err
	}
	if byHandsets != nil {
		if err := tell(*byHandsets); err != nil {
			return err
		}
	}
	for _, v := range demo.CounterVersions {
		if _, err := a.pushSample(ctx, c, s.dir, "counter", v, "counter"); err != nil {
			return err
		}
	}
	if _, err := a.pushSample(ctx, c, s.dir, "tideline", demo.Newest, "main"); err != nil {
		return err
	}
	if err := a.savePlans(ctx, c, ""); err != nil { // what starts by itself does from now on
		return err
	}
	fmt.Fprintf(a.Out, "\nShown after %.1f s.\n", time.Since(began).Seconds())
	if wrong := demo.Check(details, seed); len(wrong) > 0 {
		fmt.Fprintf(a.Err, "yamato: the outcome is not what docs/demo.md says\n        %s\n",
			strings.Join(wrong, "\n        "))
		return ui.Exit{Code: ui.ExitFail}
	}
	fmt.Fprintln(a.Out, "The outcome is what docs/demo.md says.")
	return nil
}

// keepSamples keeps the secret and the test accounts that the sample suites use.
func (a *App) keepSamples(ctx context.Context, c *client.Service) error {
	for name, value := range demo.Secrets {
		if _, err := client.As[struct{}](c.SetSecret(ctx, c.Project, name,
			contract.SecretValue{Value: value})); err != nil {
			return err
		}
	}
	had, err := client.As[[]contract.Account](c.ListAccounts(ctx, c.Project))
	if err != nil {
		return err
	}
	for _, one := range demo.Accounts {
		if slices.ContainsFunc(had, func(h contract.Account) bool { return h.User == one.User }) {
			continue
		}
		fields := map[string]string{"password": one.Password}
		if _, err := client.As[contract.Account](c.AddAccount(ctx, c.Project, contract.NewAccount{Name: one.Name,
			User:   one.User,
			Fields: &fields})); err != nil {
			return err
		}
	}
	return nil
}

// pushSample hands a version of a sample app in, with the labels that a pipeline
// would give it.
func (a *App) pushSample(ctx context.Context, c *client.Service, dir, app string, v demo.Version,
	branch string) (contract.Build, error) {
	packages, _ := filepath.Glob(filepath.Join(dir, "packages", app+"-"+v.Name+"*"))
	b, err := buildcmd.Of(a.App).Push(ctx, c, packages)
	if err != nil {
		return b, err
	}
	labels := map[string]string{"branch": branch, "commit": fmt.Sprintf("%07x", v.Code*77777)}
	return buildcmd.Of(a.App).ChangeBuild(ctx, c, fmt.Sprint(b.Number), b.App, contract.BuildPatch{Labels: &labels})
}

// savePlans keeps the sample plans, or one of them.
func (a *App) savePlans(ctx context.Context, c *client.Service, name string) error {
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
		if _, err := client.As[contract.Plan](c.SavePlan(ctx, c.Project, contract.NewPlan{Text: text})); err != nil {
			return err
		}
	}
	return nil
}

func (a *App) saveLineups(ctx context.Context, c *client.Service) error {
	lineups, err := demo.Lineups()
	if err != nil {
		return err
	}
	for _, text := range lineups {
		if _, err := client.As[contract.Lineup](c.SaveLineup(ctx, c.Project,
			contract.NewLineup{Text: text})); err != nil {
			return err
		}
	}
	return nil
}

// awaitDevices waits until the host has linked and its devices are ready.
func awaitDevices(ctx context.Context, c *client.Service, sites []string) ([]contract.Device, error) {
	tick := time.NewTicker(30 * time.Millisecond)
	defer tick.Stop()
	for late := time.After(60 * time.Second); ; {
		list, err := client.As[[]contract.Device](c.ListDevices(ctx, c.Project, nil))
		// what an earlier showing had at a site that is left out now stays offline
		list = slices.DeleteFunc(list, func(d contract.Device) bool { return !slices.Contains(sites, d.Site) })
		if err == nil && allKnown(list, len(sites)) {
			return list, nil
		}
		select {
		case <-tick.C:
		case <-late:
			return nil, errors.New("the devices did not come to rest within 60 s: `yamato device ls` tells their state")
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// listed writes names as people do: a, b and c.
func listed(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// allKnown tells whether all hosts are linked and each device has come to rest.
func allKnown(list []contract.Device, wanted int) bool {
	sites := map[string]bool{}
	for _, d := range list {
		if d.State == "offline" || d.State == "booting" {
			return false
		}
		sites[d.Site] = true
	}
	return len(sites) == wanted
}

// sitesHere are the scenario's sites that this machine can have and that are wanted.
func sitesHere(without []string) []string {
	return slices.DeleteFunc(slices.Clone(demo.Sites), func(name string) bool {
		return slices.Contains(without, name) || name == demo.Desk && handset.Available() != nil
	})
}

func (a *App) tellHowToGoOn(ctx context.Context, n *node, dir, path string) {
	a.tellConsole(ctx, n)
	fmt.Fprintf(a.Out, `
Or by command, in another terminal (your token is in %s):

  yamato device ls
  yamato device check kaede-mini-r1
  yamato build fit 3.2.1
  yamato lineup try "crossing phones"
  yamato device look kaede-7-1 --build 3.2.0
  yamato try %s --build 3.2.0 --on "Kaede 7" --case "three passengers pay three single fares"
  yamato run show 2
  yamato run fetch 2 evidence/

Serving until Ctrl-C.
`, path, filepath.Join(dir, "suites", "tickets.yamato"))
}
