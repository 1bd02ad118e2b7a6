package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"strconv"
	"time"

	"github.com/goccy/go-yaml"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/report"
)

// patience is how long a follower tries to take up a lost connection again.
const patience = 2 * time.Minute

func (a *app) runCommand() *cobra.Command {
	c := &cobra.Command{Use: "run", Short: "Start runs, follow them, and see what they found"}
	c.AddCommand(a.runStart(), a.runFollow(), a.runShow(), a.runFetch(), a.runLs(), a.runAgain(), a.runCancel())
	return c
}

func (a *app) runAgain() *cobra.Command {
	var failed, wait, sameSeed, realTime bool
	var junit string
	cmd := &cobra.Command{
		Use: "again RUN", Short: "Start a run of what a run ran: all of it, or what failed", Example: "  yamato run again 2 --failed --wait",
		Args: exactly(1, "name the run: yamato run again 2 --failed"), ValidArgsFunction: a.complete(completeRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			in := contract.Again{Which: "all", SameSeed: &sameSeed, RealTime: &realTime}
			if failed {
				in.Which = "failed"
			}
			key := uuid.NewString()
			response, err := s.RunAgainWithResponse(cmd.Context(), s.Project, n, &contract.RunAgainParams{IdempotencyKey: &key}, in)
			if err != nil {
				return reach(s, err)
			}
			r, err := client.Take(s, response.JSON200, response.Body, response.HTTPResponse, err)
			if err != nil {
				return err
			}
			if !wait && junit == "" {
				return a.write(r, func() {
					fmt.Fprintf(a.out, "Run %d is on its way: what run %d ran, %s, seed %d\nFollow it: yamato run follow %d\n", r.Number, n, plural(r.Legs, "leg"), r.Seed, r.Number)
				})
			}
			if err := a.waitFor(cmd.Context(), s, r.Number); err != nil {
				return err
			}
			return a.conclude(cmd.Context(), s, r.Number, junit)
		},
	}
	f := cmd.Flags()
	f.BoolVar(&failed, "failed", false, "only what failed, met trouble, was flaky, or was never decided")
	f.BoolVar(&sameSeed, "same-seed", false, "let chance fall as it did")
	f.BoolVar(&realTime, "real-time", false, "tie the clocks of stand-ins to the wall")
	f.BoolVar(&wait, "wait", false, "wait for the end, print the results, and exit by the verdict")
	f.StringVar(&junit, "junit", "", "write the results as JUnit XML to this file")
	return cmd
}

// runFlags are what starting a run asks for.
type runFlags struct {
	builds, suites, cases, tags, on []string
	app, language, junit            string
	lineup, plan                    string
	leave                           bool
	seed                            int64
	repeat                          int
	wait, realTime                  bool
}

func (f *runFlags) bind(a *app, cmd *cobra.Command) {
	g := cmd.Flags()
	g.StringArrayVar(&f.builds, "build", nil, "build, by number or version, or package files to hand in")
	g.StringArrayVar(&f.on, "on", nil, `model, or model with OS version ("Kaede 7", "Kaede 7 Android 14"); may be repeated; default: all`)
	g.StringVar(&f.lineup, "lineup", "", "saved lineup: only devices that it takes now")
	g.BoolVar(&f.leave, "leave-installed", false, "leave the app on the devices, for a person to go on with")
	_ = cmd.RegisterFlagCompletionFunc("lineup", a.complete(completeLineups))
	g.StringArrayVar(&f.cases, "case", nil, "only the case of this name; may be repeated")
	g.StringArrayVar(&f.tags, "tag", nil, "only cases with this tag; may be repeated")
	g.StringVar(&f.app, "app", "", "app, by name or application id, where a build's name does not tell")
	g.StringVar(&f.language, "language", "", "language of the devices, as in BCP 47 (default en-GB)")
	g.StringVar(&f.junit, "junit", "", "write the results as JUnit XML to this file")
	g.Int64Var(&f.seed, "seed", 0, "seed of all chance, to repeat a run (default: a new one)")
	g.IntVar(&f.repeat, "repeat-failed", 0, "how often failed cases run again in the same combination")
	g.BoolVar(&f.realTime, "real-time", false, "tie the clocks of stand-ins to the wall")
	_ = cmd.RegisterFlagCompletionFunc("build", a.complete(completeBuilds))
	_ = cmd.RegisterFlagCompletionFunc("on", a.complete(completeModels))
}

func (f *runFlags) request(cmd *cobra.Command, build string, suites []string) contract.NewRun {
	in := contract.NewRun{Build: build, App: optional(f.app), Suites: suites, Cases: several(f.cases), Tags: several(f.tags), On: several(f.on), Language: optional(f.language), Lineup: optional(f.lineup)}
	if f.leave {
		in.LeaveInstalled = &f.leave
	}
	if cmd.Flags().Changed("seed") {
		in.Seed = &f.seed
	}
	if f.repeat > 0 {
		in.RepeatFailed = &f.repeat
	}
	if f.realTime {
		in.RealTime = &f.realTime
	}
	return in
}

// newRun reads what to run from the flags, over what a plan says.
func (a *app) newRun(cmd *cobra.Command, s *client.Service, f *runFlags) (contract.NewRun, error) {
	var in contract.NewRun
	if f.plan != "" {
		text, err := readSmall(f.plan)
		if err != nil {
			return in, wrongCall{"the plan cannot be read: " + err.Error(), ""}
		}
		body, err := yaml.YAMLToJSON(text)
		if err != nil {
			return in, wrongCall{f.plan + " is no YAML: " + err.Error(), ""}
		}
		strict := json.NewDecoder(bytes.NewReader(body))
		strict.DisallowUnknownFields()
		if err := strict.Decode(&in); err != nil {
			return in, wrongCall{f.plan + " is no plan: " + err.Error(), "`yamato build settings BUILD --form plan` writes one"}
		}
	}
	if len(f.builds) > 0 {
		var err error
		if in.Build, err = a.buildRef(cmd.Context(), s, f.builds, &f.app); err != nil {
			return in, err
		}
	}
	over := f.request(cmd, in.Build, in.Suites)
	if len(f.suites) > 0 {
		over.Suites = f.suites
	}
	for _, of := range []struct{ into, from any }{{&over.App, in.App}, {&over.Cases, in.Cases}, {&over.Tags, in.Tags}, {&over.On, in.On}, {&over.Language, in.Language}, {&over.Lineup, in.Lineup},
		{&over.Seed, in.Seed}, {&over.RepeatFailed, in.RepeatFailed}, {&over.RealTime, in.RealTime}, {&over.LeaveInstalled, in.LeaveInstalled}} {
		if into := reflect.ValueOf(of.into).Elem(); into.IsNil() {
			into.Set(reflect.ValueOf(of.from))
		}
	}
	switch {
	case over.Build == "":
		return in, wrongCall{"a run needs a build", "name it with --build: a number, a version, labels of the newest, or package files"}
	case len(over.Suites) == 0:
		return in, wrongCall{"a run needs a suite", "name it with --suite; `yamato suite ls` lists them"}
	}
	return over, nil
}

func (a *app) runStart() *cobra.Command {
	f := &runFlags{}
	cmd := &cobra.Command{
		Use:     "start",
		Short:   "Start a run",
		Example: "  yamato run start --build 3.2.0 --suite \"Buying a ticket\" --on \"Kaede 7\" --wait --junit results.xml",
		Args:    none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			in, err := a.newRun(cmd, s, f)
			if err != nil {
				return err
			}
			r, err := a.start(cmd.Context(), s, in)
			if err != nil {
				return err
			}
			if !f.wait && f.junit == "" {
				return a.write(r, func() {
					fmt.Fprintf(a.out, "Run %d is on its way: %s %s (%s), %s, seed %d\nFollow it: yamato run follow %d\n", r.Number, r.App, r.VersionName, r.VersionCode, plural(r.Legs, "leg"), r.Seed, r.Number)
				})
			}
			if err := a.waitFor(cmd.Context(), s, r.Number); err != nil {
				return err
			}
			return a.conclude(cmd.Context(), s, r.Number, f.junit)
		},
	}
	f.bind(a, cmd)
	cmd.Flags().StringArrayVar(&f.suites, "suite", nil, "suite, by name; may be repeated")
	cmd.Flags().StringVar(&f.plan, "plan", "", "file with a plan, as `yamato build settings --form plan` writes one; flags come before what it says")
	cmd.Flags().BoolVar(&f.wait, "wait", false, "wait for the end, print the results, and exit by the verdict")
	_ = cmd.RegisterFlagCompletionFunc("suite", a.complete(completeSuites))
	return cmd
}

func (a *app) start(ctx context.Context, s *client.Service, in contract.NewRun) (contract.Run, error) {
	key := uuid.NewString()
	r, err := s.StartRunWithResponse(ctx, s.Project, &contract.StartRunParams{IdempotencyKey: &key}, in)
	if err != nil {
		return contract.Run{}, reach(s, err)
	}
	return client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
}

func (a *app) detail(ctx context.Context, s *client.Service, number int64) (contract.RunDetail, error) {
	r, err := s.GetRunWithResponse(ctx, s.Project, number, nil)
	if err != nil {
		return contract.RunDetail{}, reach(s, err)
	}
	return client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
}

// conclude prints what a run found, writes its JUnit XML, and ends by its verdict.
func (a *app) conclude(ctx context.Context, s *client.Service, number int64, junit string) error {
	d, err := a.detail(ctx, s, number)
	if err != nil {
		return err
	}
	if junit != "" {
		if err := writeJUnit(junit, d); err != nil {
			return err
		}
	}
	if err := a.write(d, func() {
		fmt.Fprintln(a.out)
		report.Weave(a.out, d, a.ink())
		report.Failures(a.out, d, a.ink())
		report.Doubts(a.out, d, a.ink())
		a.tellEvidence(d.Run)
	}); err != nil {
		return err
	}
	return exitFor(d.Run)
}

// tellEvidence says how to get at what proves a run's failures.
func (a *app) tellEvidence(r contract.Run) {
	if r.Verdict == "fail" || r.Verdict == "error" {
		fmt.Fprintln(a.out, a.ink().Faint(fmt.Sprintf("\nPictures, screen trees and logs: yamato run fetch %d DIR", r.Number)))
	}
}

func writeJUnit(path string, d contract.RunDetail) error {
	f, err := os.Create(path)
	if err != nil {
		return wrongCall{"the JUnit file cannot be written: " + err.Error(), ""}
	}
	return errors.Join(report.JUnit(f, d), f.Close())
}

// waitFor follows a run without a word, but for progress where it can be drawn.
func (a *app) waitFor(ctx context.Context, s *client.Service, number int64) error {
	judged, failed := 0, 0
	err := s.Follow(ctx, number, 0, patience, a.lost, func(e client.Event) error {
		if e.Kind == "result" {
			judged++
			if deref(e.Verdict) == "fail" || deref(e.Verdict) == "error" {
				failed++
			}
			if a.animated() {
				fmt.Fprintf(a.err, "\r\x1b[KRun %d: %d judged, %d of them not as expected", number, judged, failed)
			}
		}
		return nil
	})
	if a.animated() {
		fmt.Fprint(a.err, "\r\x1b[K")
	}
	return err
}

func (a *app) lost(err error) {
	fmt.Fprintf(a.err, "yamato: the connection was lost (%v); taking it up again\n", err)
}

func (a *app) runFollow() *cobra.Command {
	var after int64
	cmd := &cobra.Command{
		Use: "follow RUN", Short: "Follow a run live, until it ends", Example: "  yamato run follow 12",
		Args: exactly(1, "name the run: yamato run follow 12"), ValidArgsFunction: a.complete(completeRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			if err := a.follow(cmd.Context(), s, number, after); err != nil {
				return err
			}
			d, err := a.detail(cmd.Context(), s, number)
			if err != nil {
				return err
			}
			return exitFor(d.Run)
		},
	}
	cmd.Flags().Int64Var(&after, "after", 0, "go on after the event of this number")
	return cmd
}

// connectRun connects, and reads the run's number that a command was given.
func (a *app) connectRun(ctx context.Context, args []string) (*client.Service, int64, error) {
	number, err := runNumber(args)
	if err != nil {
		return nil, 0, err
	}
	s, err := a.connect(ctx)
	return s, number, err
}

// follow prints a line for each event of a run.
func (a *app) follow(ctx context.Context, s *client.Service, number, after int64) error {
	d, err := a.detail(ctx, s, number)
	if err != nil {
		return err
	}
	legs := map[int64]contract.Leg{}
	for _, l := range d.Legs {
		legs[l.Id] = l
	}
	ink := a.ink()
	return s.Follow(ctx, number, after, patience, a.lost, func(e client.Event) error {
		if a.output == "json" {
			return a.writeLine(map[string]any{"number": e.Number, "event": e.RunEvent})
		}
		if line := eventLine(e, legs, ink); line != "" {
			fmt.Fprintln(a.out, line)
		}
		return nil
	})
}

func eventLine(e client.Event, legs map[int64]contract.Leg, ink report.Ink) string {
	leg := legs[deref(e.Leg)]
	where := fmt.Sprintf("%-26s", report.Label(leg.Combination))
	name := ""
	for _, c := range leg.Cases {
		if e.CaseIndex != nil && c.Index == *e.CaseIndex {
			name = c.Name
		}
	}
	switch e.Kind {
	case "attempt":
		return ink.Faint(fmt.Sprintf("·  %s  attempt %d on %s", where, deref(e.Attempt), deref(e.Device)))
	case "result":
		line := fmt.Sprintf("%s  %s  %s  %s", report.Shape(contract.Crossing{Verdict: deref(e.Verdict)}), where, name, ink.Faint(fmt.Sprintf("%.1f s", float64(deref(e.TookMs))/1000)))
		if s := deref(e.Sentence); s != "" {
			line += "\n     " + s
		}
		switch deref(e.Verdict) {
		case "fail":
			return ink.Vermilion(line)
		case "error":
			return ink.Petrol(line)
		}
		return line
	case "again":
		why := deref(e.Trouble)
		if why == "" {
			why = "failed cases are repeated"
		}
		return ink.Faint(fmt.Sprintf("·  %s  goes again: %s", where, why))
	case "leg":
		if t := deref(e.Trouble); t != "" {
			return ink.Petrol(fmt.Sprintf("▲  %s  ended: %s", where, t))
		}
	case "cancelled":
		return "–  the run was cancelled"
	case "run":
		return ink.Strong(fmt.Sprintf("%s  the run is %s: %s", report.Shape(contract.Crossing{Verdict: deref(e.Verdict)}), deref(e.State), deref(e.Verdict)))
	}
	return ""
}

func (a *app) runShow() *cobra.Command {
	var junit string
	cmd := &cobra.Command{
		Use: "show RUN", Short: "Show a run's verdicts, and for each failure what was expected and what was there", Example: "  yamato run show 12",
		Args: exactly(1, "name the run: yamato run show 12"), ValidArgsFunction: a.complete(completeRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			d, err := a.detail(cmd.Context(), s, number)
			if err != nil {
				return err
			}
			if junit != "" {
				if err := writeJUnit(junit, d); err != nil {
					return err
				}
			}
			return a.write(d, func() {
				report.Weave(a.out, d, a.ink())
				report.Failures(a.out, d, a.ink())
				report.Doubts(a.out, d, a.ink())
				a.tellEvidence(d.Run)
				told := map[string]bool{}
				for _, l := range d.Legs {
					if l.WaitsFor == nil {
						continue
					}
					line := fmt.Sprintf("· %s waits for %s", report.Label(l.Combination), *l.WaitsFor)
					if !told[line] { // suites share combinations
						fmt.Fprintln(a.out, "\n"+line)
					}
					told[line] = true
				}
			})
		},
	}
	cmd.Flags().StringVar(&junit, "junit", "", "write the results as JUnit XML to this file")
	return cmd
}

func (a *app) runFetch() *cobra.Command {
	return &cobra.Command{
		Use: "fetch RUN DIR", Short: "Fetch a run's logs, pictures and screen trees into a folder", Example: "  yamato run fetch 12 evidence/",
		Args: exactly(2, "name the run and the folder: yamato run fetch 12 evidence/"), ValidArgsFunction: a.complete(completeRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			files, err := a.fetch(cmd.Context(), s, number, args[1])
			if err != nil {
				return err
			}
			return a.write(files, func() { fmt.Fprintf(a.out, "%s in %s\n", plural(len(files), "file"), args[1]) })
		},
	}
}

// fetch writes every piece of evidence to a file of its own below dir, and the
// results as results.xml and results.json beside them. It gives the paths.
func (a *app) fetch(ctx context.Context, s *client.Service, number int64, dir string) ([]string, error) {
	d, err := a.detail(ctx, s, number)
	if err != nil {
		return nil, err
	}
	r, err := s.ListEvidenceWithResponse(ctx, s.Project, number)
	if err != nil {
		return nil, reach(s, err)
	}
	list, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
	if err != nil {
		return nil, err
	}
	legs := map[int64]contract.Leg{}
	for _, l := range d.Legs {
		legs[l.Id] = l
	}
	var out []string
	taken := map[string]bool{}
	for i, e := range list {
		path := filepath.Join(dir, evidencePath(e, legs[e.Leg], taken))
		if err := saveEvidence(ctx, s, number, e, path); err != nil {
			return out, err
		}
		out = append(out, path)
		if a.animated() {
			fmt.Fprintf(a.err, "\r\x1b[K%d of %d", i+1, len(list))
		}
	}
	if a.animated() {
		fmt.Fprint(a.err, "\r\x1b[K")
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return out, err
	}
	junit := filepath.Join(dir, "results.xml")
	return append(out, junit), writeJUnit(junit, d)
}

// evidencePath gives a readable path for a piece of evidence, safe on every
// file system and different from all in taken.
func evidencePath(e contract.Evidence, leg contract.Leg, taken map[string]bool) string {
	name := "attempt"
	for _, c := range leg.Cases {
		if c.Index == e.CaseIndex {
			name = c.Name
		}
	}
	base := filepath.Join(report.Plain(report.Label(leg.Combination)), report.Plain(leg.Suite), report.Plain(name), fmt.Sprintf("%d-%s", e.Attempt, report.Plain(e.Name)))
	if e.Sort == "tree" {
		base += "-tree"
	}
	ext := report.Extension(e.MediaType)
	path := base + ext
	for n := 2; taken[path]; n++ {
		path = fmt.Sprintf("%s-%d%s", base, n, ext)
	}
	taken[path] = true
	return path
}

func saveEvidence(ctx context.Context, s *client.Service, run int64, e contract.Evidence, path string) error {
	content, err := s.EvidenceContent(ctx, run, e.Id)
	if err != nil {
		return err
	}
	defer content.Close()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return wrongCall{"the folder cannot be made: " + err.Error(), ""}
	}
	f, err := os.Create(path)
	if err != nil {
		return wrongCall{"the file cannot be written: " + err.Error(), ""}
	}
	n, err := io.Copy(f, content)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	if n != e.Size {
		return fmt.Errorf("%s is %d bytes long instead of %d: fetch it again", path, n, e.Size)
	}
	return nil
}

func (a *app) runLs() *cobra.Command {
	return &cobra.Command{
		Use: "ls", Short: "List runs, newest first", Example: "  yamato run ls", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.ListRunsWithResponse(cmd.Context(), s.Project, &contract.ListRunsParams{})
			if err != nil {
				return reach(s, err)
			}
			list, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(a.out, "No runs yet. Start one: yamato run start --build … --suite …")
					return
				}
				var rows [][]string
				for _, one := range list.Items {
					verdict := report.Shape(contract.Crossing{Verdict: one.Verdict}) + " " + one.Verdict
					if one.FinishedAt == nil {
						verdict = "·"
					}
					rows = append(rows, []string{strconv.FormatInt(one.Number, 10), verdict, one.State, one.App + " " + one.VersionName, plural(one.Legs, "leg"), one.AskedBy, ago(one.CreatedAt)})
				}
				a.table([]string{"RUN", "VERDICT", "STATE", "BUILD", "LEGS", "ASKED BY", "STARTED"}, rows)
			})
		},
	}
}

func (a *app) runCancel() *cobra.Command {
	return &cobra.Command{
		Use: "cancel RUN", Short: "Cancel a run; what was decided is kept", Example: "  yamato run cancel 12",
		Args: exactly(1, "name the run: yamato run cancel 12"), ValidArgsFunction: a.complete(completeRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			r, err := s.CancelRunWithResponse(cmd.Context(), s.Project, number)
			if err != nil {
				return reach(s, err)
			}
			run, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(run, func() { fmt.Fprintf(a.out, "Run %d is cancelled\n", run.Number) })
		},
	}
}

func (a *app) tryCommand() *cobra.Command {
	f := &runFlags{}
	cmd := &cobra.Command{
		Use:               "try FILE",
		Short:             "From local files to a verdict in one go",
		Long:              "try checks a script, hands in the packages and the script, runs it, follows it\nand prints the verdict.",
		Example:           "  yamato try tickets.suite --build app.apk --on \"Kaede 7\" --case \"one passenger pays the single fare\"",
		Args:              exactly(1, "name the script: yamato try tickets.suite --build app.apk"),
		ValidArgsFunction: files("suite"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			suite, err := a.pushSuite(cmd.Context(), s, args[0])
			if err != nil {
				return err
			}
			build, err := a.buildRef(cmd.Context(), s, f.builds, &f.app)
			if err != nil {
				return err
			}
			r, err := a.start(cmd.Context(), s, f.request(cmd, build, []string{suite.Digest}))
			if err != nil {
				return err
			}
			follow := a.follow
			if a.output == "json" {
				follow = func(ctx context.Context, s *client.Service, n, _ int64) error { return a.waitFor(ctx, s, n) }
			}
			if err := follow(cmd.Context(), s, r.Number, 0); err != nil {
				return err
			}
			return a.conclude(cmd.Context(), s, r.Number, f.junit)
		},
	}
	f.bind(a, cmd)
	return cmd
}
