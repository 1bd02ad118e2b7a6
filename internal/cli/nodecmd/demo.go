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
	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/host/android"
	"yamato/internal/host/handset"
	"yamato/internal/host/remote"
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
	cable, err := prepareCable(c.dir, sitesHere(c.without))
	if err != nil {
		return errors.Join(err, s.close())
	}
	paths, err := writeSamples(c.dir, sitesHere(c.without), cable.at())
	if err != nil {
		return errors.Join(err, s.close())
	}
	sites, err := readSites(paths)
	if err != nil {
		return errors.Join(err, s.close())
	}
	cable.tell(sites)
	path := a.keepConnection(ui.Connection{Service: s.node.url, Token: s.node.userToken, Project: s.node.project},
		filepath.Dir(s.node.hostToken))
	fmt.Fprintf(a.Out, "The service is at %s, with a PostgreSQL cluster of its own; data in %s.\n", s.node.url, c.dir)
	inner, stop := context.WithCancel(ctx)
	g, inner := errgroup.WithContext(inner)
	g.Go(func() error { return s.run(inner, sites) })
	g.Go(func() error { return cable.run(inner, c.log) })
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
func writeSamples(dir string, names, phones []string) ([]string, error) {
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
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	var sites []string
	for _, name := range names {
		if files[name+".yaml"], err = demo.Site(name, demo.Here{Program: program, Phones: phones, Lacks: enginesMissing()}); err != nil {
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
	if slices.Contains(sites, demo.Desk) {
		for _, engine := range enginesMissing() {
			fmt.Fprintf(a.Out, "The handset with %s is left out: %s.\n", engine, remote.Available(engine))
		}
	}
	if err := android.Available(); err != nil && !slices.Contains(sites, demo.Cable) {
		fmt.Fprintf(a.Out, "The site cable is left out: %s.\n", err)
	}
	fmt.Fprintf(a.Out, "The hosts of the sites %s are linked, with %s. Ready after %.1f s.\n", listed(sites),
		ui.Plural(len(devices), "device"), time.Since(began).Seconds())
	show := &showing{App: a.App, c: c, dir: s.dir, seed: seed}
	if err := show.handIn(ctx); err != nil {
		return err
	}
	last, err := show.versions(ctx)
	if err != nil {
		return err
	}
	if err := show.together(ctx, last, sites); err != nil {
		return err
	}
	if err := show.rest(ctx); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "\nShown after %.1f s.\n", time.Since(began).Seconds())
	if wrong := demo.Check(show.details, seed); len(wrong) > 0 {
		fmt.Fprintf(a.Err, "yamato: the outcome is not what docs/demo.md says\n        %s\n",
			strings.Join(wrong, "\n        "))
		return ui.Exit{Code: ui.ExitFail}
	}
	fmt.Fprintln(a.Out, "The outcome is what docs/demo.md says.")
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
		if err == nil && allKnown(list, sites) {
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

// allKnown tells whether all hosts are linked, what is on a cable has been found, and each device has come to rest.
func allKnown(list []contract.Device, sites []string) bool {
	found := map[string]int{}
	for _, d := range list {
		if d.State == "offline" || d.State == "booting" {
			return false
		}
		found[d.Site]++
	}
	if slices.Contains(sites, demo.Cable) && found[demo.Cable] < len(demo.Phones)+1 { // and the emulator
		return false
	}
	return len(found) == len(sites)
}

// sitesHere are the scenario's sites that this machine can have and that are wanted.
// enginesMissing are the engines of browsers, beside Chromium's, that this machine has not.
func enginesMissing() []string {
	return slices.DeleteFunc([]string{fleet.Gecko, fleet.WebKit}, func(engine string) bool { return remote.Available(engine) == nil })
}

func sitesHere(without []string) []string {
	return slices.DeleteFunc(slices.Clone(demo.Sites), func(name string) bool {
		return slices.Contains(without, name) || name == demo.Desk && handset.Available() != nil ||
			name == demo.Cable && android.Available() != nil
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
