package runcmd

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/cli/buildcmd"
	"yamato/internal/cli/sessioncmd"
	"yamato/internal/cli/suitecmd"
	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/evidence"
	"yamato/internal/core/plain"
	"yamato/internal/report"
)

func (a *App) RunCommand() *cobra.Command {
	c := &cobra.Command{Use: "run", Short: "Start runs, follow them, and see what they found"}
	c.AddCommand(a.runStart(), a.runFollow(), a.runShow(), a.runReport(), a.runFetch(), a.runLs(), a.runAgain(),
		a.runCancel(),
		a.runSummary(), a.runCopy(), a.runPin(true), a.runPin(false), a.runRetention())
	return c
}

func (a *App) runAgain() *cobra.Command {
	var failed, wait, sameSeed, realTime bool
	var junit string
	var timeout time.Duration
	var keep ui.KeepRules
	cmd := &cobra.Command{
		Use: "again RUN", Short: "Start a run of what a run ran: all of it, or what failed",
		Example:           "  yamato run again 2 --failed --wait",
		Args:              ui.Exactly(1, "name the run: yamato run again 2 --failed"),
		ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			if err := errors.Join(writable(junit), ui.NotNegative("timeout", timeout)); err != nil {
				return err
			}
			in := contract.Again{Which: "all", SameSeed: &sameSeed, RealTime: &realTime, Keep: keep.Given()}
			if failed {
				in.Which = "failed"
			}
			key := client.NewKey()
			r, err := client.As[contract.Run](s.RunAgain(cmd.Context(), s.Project, n,
				&contract.RunAgainParams{IdempotencyKey: key}, in))
			if err != nil {
				return err
			}
			if !wait && junit == "" && timeout == 0 {
				return a.Write(r, func() {
					fmt.Fprintf(a.Out, "Run %d is on its way: what run %d ran, %s, seed %d\nFollow it: yamato "+
						"run follow %d\n",
						r.Number, n, ui.Plural(r.Legs, "leg"), r.Seed, r.Number)
				})
			}
			if err := a.Await(cmd.Context(), s, r, Watch{Cancels: true, timeout: timeout}); err != nil {
				return err
			}
			return a.conclude(cmd.Context(), s, r.Number, junit)
		},
	}
	f := cmd.Flags()
	keep.Bind(cmd)
	f.DurationVar(&timeout, "timeout", 0, "stop waiting after so long, as in 30m; the run goes on")
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
	lineup, asked                   string
	order                           string
	fromLine                        int
	leave                           bool
	seed                            int64
	repeat                          int
	keep                            ui.KeepRules
	wait, realTime                  bool
	timeout                         time.Duration
}

func (f *runFlags) bind(a *App, cmd *cobra.Command) {
	g := cmd.Flags()
	g.StringArrayVar(&f.builds, "build", nil, "build, by number or version, or package files to hand in")
	g.StringArrayVar(&f.on, "on", nil, `model, OS version, kind or several of these, or one device by its name ("Kaede 7", "Kaede 7 Android 14", android, real, kaede-7-1); may be repeated; default: all`)
	g.StringVar(&f.lineup, "lineup", "", "saved lineup: only devices that it takes now")
	g.BoolVar(&f.leave, "leave-installed", false, "leave the app on the devices, for a person to go on with")
	_ = cmd.RegisterFlagCompletionFunc("lineup", a.Complete(ui.CompleteLineups))
	g.StringArrayVar(&f.cases, "case", nil, "only the case of this name; may be repeated")
	g.StringArrayVar(&f.tags, "tag", nil, `only cases with this tag; "not slow": none with that one; may be repeated`)
	g.IntVar(&f.fromLine, "from-line", 0, "only the case on this line of the suite")
	g.StringVar(&f.order, "order", "written", "of the cases: written, or random by the seed, which is told")
	_ = cmd.RegisterFlagCompletionFunc("order", cobra.FixedCompletions([]string{"written", "random"},
		cobra.ShellCompDirectiveNoFileComp))
	g.StringVar(&f.app, "app", "", "app, by name or application id, where a build's name does not tell")
	g.StringVar(&f.language, "language", "", "language of the devices, as in BCP 47 (default en-GB)")
	g.StringVar(&f.junit, "junit", "", "write the results as JUnit XML to this file")
	g.Int64Var(&f.seed, "seed", 0, "seed of all chance, to repeat a run (default: a new one)")
	g.IntVar(&f.repeat, "repeat-failed", 0, "how often failed cases run again in the same combination")
	g.DurationVar(&f.timeout, "timeout", 0, "stop waiting after so long, as in 30m; the run goes on")
	f.keep.Bind(cmd)
	g.BoolVar(&f.realTime, "real-time", false, "tie the clocks of stand-ins to the wall")
	_ = cmd.RegisterFlagCompletionFunc("build", a.Complete(ui.CompleteBuilds))
	_ = cmd.RegisterFlagCompletionFunc("on", a.Complete(ui.CompletePicks))
	_ = cmd.RegisterFlagCompletionFunc("case", a.Complete(ui.CompleteCases))
	_ = cmd.RegisterFlagCompletionFunc("tag", a.Complete(ui.CompleteTags))
	_ = cmd.RegisterFlagCompletionFunc("app", a.Complete(ui.CompleteApps))
}

func (f *runFlags) request(cmd *cobra.Command, build string, suites []string) contract.NewRun {
	in := contract.NewRun{Build: build, App: ui.Optional(f.app), Suites: suites, Cases: ui.Several(f.cases),
		Tags: ui.Several(f.tags), On: ui.Several(f.on), Language: ui.Optional(f.language),
		Lineup: ui.Optional(f.lineup), Keep: f.keep.Given()}
	if f.leave {
		in.LeaveInstalled = &f.leave
	}
	if cmd.Flags().Changed("seed") {
		in.Seed = &f.seed
	}
	if cmd.Flags().Changed("repeat-failed") {
		in.RepeatFailed = &f.repeat
	}
	if f.realTime {
		in.RealTime = &f.realTime
	}
	if f.fromLine > 0 {
		in.FromLine = &f.fromLine
	}
	if f.order != "written" {
		in.Order = &f.order
	}
	return in
}

// newRun reads what to run from the flags, over what a request says.
func (a *App) newRun(cmd *cobra.Command, s *client.Service, f *runFlags) (contract.NewRun, error) {
	var in contract.NewRun
	if f.asked != "" {
		text, err := ui.ReadSmall(f.asked)
		if err != nil {
			return in, ui.WrongCall{Title: "the request cannot be read: " + err.Error(), Hint: ""}
		}
		if in, err = buildcmd.ReadRequest(text); err != nil {
			return in, ui.WrongCall{Title: f.asked + " is no request: " + err.Error(),
				Hint: "`yamato build settings BUILD --form document` writes one"}
		}
	}
	if len(f.builds) > 0 {
		var err error
		if in.Build, err = buildcmd.Of(a.App).BuildRef(cmd.Context(), s, f.builds, &f.app); err != nil {
			return in, err
		}
	}
	over := f.request(cmd, in.Build, in.Suites)
	if len(f.suites) > 0 {
		over.Suites = f.suites
	}
	for _, of := range []struct{ into, from any }{{&over.App, in.App}, {&over.Cases, in.Cases}, {&over.Tags, in.Tags},
		{&over.On, in.On}, {&over.Language, in.Language}, {&over.Lineup, in.Lineup},
		{&over.Seed, in.Seed}, {&over.RepeatFailed, in.RepeatFailed}, {&over.RealTime, in.RealTime},
		{&over.LeaveInstalled, in.LeaveInstalled}, {&over.Order, in.Order}, {&over.Keep, in.Keep}} {
		if into := reflect.ValueOf(of.into).Elem(); into.IsNil() {
			into.Set(reflect.ValueOf(of.from))
		}
	}
	switch {
	case over.Build == "":
		return in, ui.WrongCall{Title: "a run needs a build",
			Hint: "name it with --build: a number, a version, labels of the newest, or package files"}
	case len(over.Suites) == 0:
		return in, ui.WrongCall{Title: "a run needs a suite",
			Hint: "name it with --suite; `yamato suite ls` lists them"}
	}
	return over, nil
}

func (a *App) runStart() *cobra.Command {
	f := &runFlags{}
	var preview bool
	cmd := &cobra.Command{
		Use:   "start",
		Short: "Start a run",
		Example: "  yamato run start --build 3.2.0 --suite \"Buying a ticket\" --on \"Kaede 7\" --wait --junit " +
			"results.xml\n  yamato run start --build branch=main --suite \"Buying a ticket\" --on kaede-7-1 --preview",
		Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if err := errors.Join(writable(f.junit), ui.NotNegative("timeout", f.timeout), ui.Within("repeat-failed",
				f.repeat,
				0,
				20)); err != nil {
				return err
			}
			in, err := a.newRun(cmd, s, f)
			if err != nil {
				return err
			}
			if preview {
				return a.preview(cmd.Context(), s, in)
			}
			r, err := a.Start(cmd.Context(), s, in)
			if err != nil {
				return err
			}
			if !f.wait && f.junit == "" && f.timeout == 0 {
				return a.Write(r, func() {
					fmt.Fprintf(a.Out, "Run %d is on its way: %s %s (%s), %s, seed %d\nFollow it: yamato run "+
						"follow %d\n", r.Number,
						r.App, r.VersionName, r.VersionCode, ui.Plural(r.Legs, "leg"), r.Seed, r.Number)
				})
			}
			if err := a.Await(cmd.Context(), s, r, Watch{Cancels: true, timeout: f.timeout}); err != nil {
				return err
			}
			return a.conclude(cmd.Context(), s, r.Number, f.junit)
		},
	}
	f.bind(a, cmd)
	cmd.Flags().BoolVar(&preview, "preview", false, "say what would run and what is left out, and start nothing")
	cmd.Flags().StringArrayVar(&f.suites, "suite", nil, "suite, by name; may be repeated")
	cmd.Flags().StringVar(&f.asked, "request", "", "`file` that says what to run, as yamato build settings --form document writes "+
		"one; flags come before what it says")
	cmd.Flags().BoolVar(&f.wait, "wait", false, "wait for the end, print the results, and exit by the verdict")
	_ = cmd.RegisterFlagCompletionFunc("suite", a.Complete(ui.CompleteSuites))
	return cmd
}

func (a *App) Start(ctx context.Context, s *client.Service, in contract.NewRun) (contract.Run, error) {
	key := client.NewKey()
	return client.As[contract.Run](s.StartRun(ctx, s.Project, &contract.StartRunParams{IdempotencyKey: key}, in))
}

func (a *App) Detail(ctx context.Context, s *client.Service, number int64) (contract.RunDetail, error) {
	return client.As[contract.RunDetail](s.GetRun(ctx, s.Project, number, nil))
}

// conclude prints what a run found, writes its JUnit XML, and ends by its verdict.
func (a *App) conclude(ctx context.Context, s *client.Service, number int64, junit string) error {
	d, err := a.Detail(ctx, s, number)
	if err != nil {
		return err
	}
	if junit != "" {
		if err := writeJUnit(junit, d, nil); err != nil {
			return err
		}
	}
	if err := a.Write(d, func() {
		fmt.Fprintln(a.Out)
		a.TellRun(ctx, s, d)
	}); err != nil {
		return err
	}
	return ui.ExitFor(d.Run)
}

// TellRun writes all that a run found, in the order in which people ask.
func (a *App) TellRun(ctx context.Context, s *client.Service, d contract.RunDetail) {
	ink := a.Ink()
	report.Weave(a.Out, d, ink)
	report.Failures(a.Out, d, ink)
	if d.Run.Fails+d.Run.Errors > 0 {
		// else the rest is told all the same
		if causes, err := client.As[[]contract.Cause](s.ListCauses(ctx, s.Project, d.Run.Number)); err == nil {
			report.Causes(a.Out, causes, ink)
		}
	}
	report.Doubts(a.Out, d, ink)
	report.LeftOut(a.Out, d.LeftOut, ink, false)
	for i, w := range waits(d) {
		if i == 0 {
			fmt.Fprintln(a.Out)
		}
		a.Say(2, "· %s", w.text())
	}
	report.Kept(a.Out, d, ink)
	a.tellEvidence(d.Run)
}

// tellEvidence says how to get at what proves a run's failures.
func (a *App) tellEvidence(r contract.Run) {
	if r.Verdict == "fail" || r.Verdict == "error" {
		fmt.Fprintln(a.Out, a.Ink().Faint(fmt.Sprintf("\nPictures, screen trees and logs: yamato run fetch %d DIR",
			r.Number)))
	}
}

// preview says what a run would cover.
func (a *App) preview(ctx context.Context, s *client.Service, in contract.NewRun) error {
	p, err := client.As[contract.RunPreview](s.PreviewRun(ctx, s.Project, in))
	if err != nil {
		return err
	}
	return a.Write(p, func() {
		fmt.Fprintf(a.Out, "This would run %s in %s; nothing was started.\n\n", ui.Plural(p.Cases, "case"),
			ui.Plural(p.Legs, "leg"))
		var rows [][]string
		for _, c := range p.Combinations {
			rows = append(rows, []string{report.Label(c.Combination), c.Combination.Kind, c.Package,
				strconv.Itoa(c.Devices),
				strconv.Itoa(c.Idle)})
		}
		a.Table([]string{"COMBINATION", "KIND", "PACKAGE", "DEVICES", "IDLE"}, rows)
		report.LeftOut(a.Out, p.LeftOut, a.Ink(), true)
	})
}

func writeJUnit(path string, d contract.RunDetail, files func(leg int64, index int) []string) error {
	f, err := os.Create(path)
	if err != nil {
		return ui.WrongCall{Title: "the JUnit file cannot be written: " + err.Error(), Hint: ""}
	}
	return errors.Join(report.JUnitBeside(f, d, files), f.Close())
}

func (a *App) runFollow() *cobra.Command {
	var after int64
	var timeout time.Duration
	cmd := &cobra.Command{
		Use: "follow RUN", Short: "Follow a run live, until it ends", Example: "  yamato run follow 12",
		Args: ui.Exactly(1, "name the run: yamato run follow 12"), ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			if after < 0 {
				return ui.WrongCall{Title: "--after is the number of an event, 0 for all", Hint: ""}
			}
			if err := ui.NotNegative("timeout", timeout); err != nil {
				return err
			}
			d, err := a.Detail(cmd.Context(), s, number)
			if err != nil {
				return err
			}
			if err := a.Await(cmd.Context(), s, d.Run, Watch{events: true, after: after,
				timeout: timeout}); err != nil {
				return err
			}
			if d, err = a.Detail(cmd.Context(), s, number); err != nil {
				return err
			}
			return ui.ExitFor(d.Run)
		},
	}
	cmd.Flags().Int64Var(&after, "after", 0, "go on after the event of this number")
	cmd.Flags().DurationVar(&timeout, "timeout", 0, "stop following after so long, as in 30m; the run goes on")
	return cmd
}

// connectRun connects, and reads the run's number that a command was given.
func (a *App) connectRun(ctx context.Context, args []string) (*client.Service, int64, error) {
	number, err := ui.RunNumber(args)
	if err != nil {
		return nil, 0, err
	}
	s, err := a.Connect(ctx)
	return s, number, err
}

func eventLine(e client.Event, legs map[int64]contract.Leg, ink report.Ink) string {
	leg := legs[ui.Deref(e.Leg)]
	where := fmt.Sprintf("%-26s", report.Where(leg))
	name := ""
	for _, c := range leg.Cases {
		if e.CaseIndex != nil && c.Index == *e.CaseIndex {
			name = c.Name
		}
	}
	switch e.Kind {
	case "attempt":
		return ink.Faint(fmt.Sprintf("·  %s  attempt %d on %s", where, ui.Deref(e.Attempt), ui.Deref(e.Device)))
	case "result":
		line := fmt.Sprintf("%s  %s  %s  %s", report.Shape(contract.Crossing{Verdict: ui.Deref(e.Verdict)}), where,
			name,
			ink.Faint(fmt.Sprintf("%.1f s", float64(ui.Deref(e.TookMs))/1000)))
		if s := ui.Deref(e.Sentence); s != "" {
			line += "\n     " + s
		}
		switch ui.Deref(e.Verdict) {
		case "fail":
			return ink.Vermilion(line)
		case "error":
			return ink.Petrol(line)
		}
		return line
	case "again":
		why := ui.Deref(e.Trouble)
		if why == "" {
			why = "failed cases are repeated"
		}
		return ink.Faint(fmt.Sprintf("·  %s  goes again: %s", where, why))
	case "leg":
		if t := ui.Deref(e.Trouble); t != "" {
			return ink.Petrol(fmt.Sprintf("▲  %s  ended: %s", where, t))
		}
	case "cancelled":
		return "–  the run was cancelled"
	case "run":
		return ink.Strong(fmt.Sprintf("%s  the run is %s: %s",
			report.Shape(contract.Crossing{Verdict: ui.Deref(e.Verdict)}),
			ui.Deref(e.State), ui.Deref(e.Verdict)))
	}
	return ""
}

func (a *App) runShow() *cobra.Command {
	var junit string
	cmd := &cobra.Command{
		Use: "show RUN", Short: "Show a run's verdicts, and for each failure what was expected and what was there",
		Example: "  yamato run show 12",
		Args:    ui.Exactly(1, "name the run: yamato run show 12"), ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			if err := writable(junit); err != nil {
				return err
			}
			d, err := a.Detail(cmd.Context(), s, number)
			if err != nil {
				return err
			}
			if junit != "" {
				if err := writeJUnit(junit, d, nil); err != nil {
					return err
				}
			}
			if err := a.Write(d, func() { a.TellRun(cmd.Context(), s, d) }); err != nil {
				return err
			}
			return ui.ExitFor(d.Run)
		},
	}
	cmd.Flags().StringVar(&junit, "junit", "", "write the results as JUnit XML to this file")
	return cmd
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
	base := filepath.Join(report.Plain(report.Label(leg.Combination)), report.Plain(leg.Suite), report.Plain(name),
		fmt.Sprintf("%d-%s", e.Attempt, report.Plain(e.Name)))
	if e.Sort == evidence.Tree.Name {
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

// SaveEvidence writes a piece of evidence to a file, unless it is there already.
func SaveEvidence(ctx context.Context, s *client.Service, run int64, e contract.Evidence, path string) error {
	if info, err := os.Stat(path); err == nil && info.Size() == e.Size && same(path, e.Digest) {
		return nil
	}
	content, err := s.EvidenceContent(ctx, run, e.Id)
	if err != nil {
		return err
	}
	defer content.Close()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return ui.WrongCall{Title: "the folder cannot be made: " + err.Error(), Hint: ""}
	}
	return saveTo(path, content, e.Size, e.Digest)
}

// same tells whether a file has a digest.
func same(path, digest string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	hash := sha256.New()
	_, err = io.Copy(hash, f)
	return err == nil && hex.EncodeToString(hash.Sum(nil)) == digest
}

// saveTo writes content to a file, which has its name once it is whole. -1 is for any size, "" for any digest.
func saveTo(path string, content io.Reader, size int64, digest string) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".fetched-*")
	if err != nil {
		return ui.WrongCall{Title: "the file cannot be written: " + err.Error(), Hint: ""}
	}
	defer os.Remove(f.Name()) // it has its own name by then, or is of no use
	hash := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, hash), content)
	if err := errors.Join(err, f.Chmod(0o644), f.Close()); err != nil {
		return err
	}
	switch sum := hex.EncodeToString(hash.Sum(nil)); {
	case size >= 0 && n != size:
		return fmt.Errorf("it came as %d bytes instead of %d", n, size)
	case digest != "" && sum != digest:
		return fmt.Errorf("it came damaged: its digest is %.12s instead of %.12s", sum, digest)
	}
	return os.Rename(f.Name(), path)
}

func (a *App) runLs() *cobra.Command {
	var state, verdict, build, find, by string
	var limit int
	cmd := &cobra.Command{
		Use: "ls", Short: "List runs, newest first",
		Example: "  yamato run ls\n  yamato run ls --verdict fail --build 3.2.0\n  yamato run ls --find Buying " +
			"--limit 10",
		Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if err := ui.Within("limit", limit, 1, 200); err != nil {
				return err
			}
			list, err := client.As[contract.RunList](s.ListRuns(cmd.Context(), s.Project,
				&contract.ListRunsParams{State: ui.Optional(state), Verdict: ui.Optional(verdict),
					Build: ui.Optional(build),
					Q:     ui.Optional(find), AskedBy: ui.Optional(by), Limit: &limit}))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list.Items) == 0 && state+verdict+build+find+by != "" {
					fmt.Fprintln(a.Out, "No runs are like that.")
					return
				}
				if len(list.Items) == 0 {
					fmt.Fprintln(a.Out, "No runs yet. Start one: yamato run start --build … --suite …")
					return
				}
				var rows [][]string
				for _, one := range list.Items {
					verdict := report.Shape(contract.Crossing{Verdict: one.Verdict}) + " " + one.Verdict
					if one.FinishedAt == nil {
						verdict = "·"
					}
					rows = append(rows, []string{strconv.FormatInt(one.Number, 10), verdict, one.State,
						fmt.Sprintf("%s %s, build %d", one.App, one.VersionName, one.Build), strconv.Itoa(one.Legs),
						one.AskedBy,
						ui.Ago(one.CreatedAt)})
				}
				a.Table([]string{"RUN", "VERDICT", "STATE", "BUILD", "LEGS", "ASKED BY", "STARTED"}, rows)
				if list.Next != nil {
					fmt.Fprintln(a.Out, a.Ink().Faint(
						"There are older ones: --limit, --find and the other filters choose."))
				}
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&state, "state", "", "only queued, running, finished or cancelled ones")
	f.StringVar(&verdict, "verdict", "", "only those of a verdict: pass, fail, error, skip, none")
	f.StringVar(&build, "build", "", "only of a build, by number or version")
	f.StringVar(&find, "find", "", "part of an app's name, a version, a suite, or who asked")
	f.StringVar(&by, "asked-by", "", "only those that somebody asked for")
	f.IntVar(&limit, "limit", 50, "how many at most")
	_ = cmd.RegisterFlagCompletionFunc("state", cobra.FixedCompletions([]string{"queued", "running", "finished",
		"cancelled"}, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("verdict", cobra.FixedCompletions([]string{"pass", "fail", "error", "skip",
		"none"}, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("build", a.Complete(ui.CompleteBuilds))
	return cmd
}

func (a *App) runCancel() *cobra.Command {
	return ui.Yes(&cobra.Command{
		Use: "cancel RUN…", Short: "Cancel runs; what was decided is kept",
		Example: "  yamato run cancel 12\n  yamato run cancel 12 13 14 --yes",
		Args:    ui.AtLeast(1, "name the runs: yamato run cancel 12"), ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			var numbers []int64
			var s *client.Service
			for _, arg := range args {
				var number int64
				var err error
				if s, number, err = a.connectRun(cmd.Context(), []string{arg}); err != nil {
					return err
				}
				numbers = append(numbers, number)
			}
			if err := a.Sure(cmd, fmt.Sprintf("Cancel %s (%s); what is not decided yet is left out",
				ui.Plural(len(numbers), "run"), plain.Some(args, 10))); err != nil {
				return err
			}
			var done []contract.Run
			for _, number := range numbers {
				run, err := client.As[contract.Run](s.CancelRun(cmd.Context(), s.Project, number))
				if err != nil {
					if len(done) > 0 {
						fmt.Fprintf(a.Err, "yamato: %s cancelled before run %d\n", ui.Plural(len(done), "run"), number)
					}
					return err
				}
				done = append(done, run)
			}
			if len(done) == 1 {
				return a.Write(done[0], func() { fmt.Fprintf(a.Out, "Run %d is cancelled\n", done[0].Number) })
			}
			return a.Write(done, func() { fmt.Fprintf(a.Out, "%s are cancelled\n", ui.Plural(len(done), "run")) })
		},
	})
}

func (a *App) TryCommand() *cobra.Command {
	f := &runFlags{}
	var byHand bool
	cmd := &cobra.Command{
		Use:   "try FILE",
		Short: "From local files to a verdict in one go",
		Long: "try checks a script, hands in the packages and the script, runs it, follows it\nand " +
			"prints the verdict. With --by-hand FILE is a package: it is handed in, installed on a\ndevice, and that is yours.",
		Example: "  yamato try --by-hand app.apk --on kaede-7-1\n  yamato try tickets.yamato --build app.apk --on \"Kaede 7\" --case \"one passenger pays " +
			"the single fare\"",
		Args:              ui.Exactly(1, "name the script: yamato try tickets.yamato --build app.apk"),
		ValidArgsFunction: ui.Files("yamato", "suite", "apk", "ipa", "zip"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if err := errors.Join(writable(f.junit), ui.NotNegative("timeout", f.timeout), ui.Within("repeat-failed",
				f.repeat,
				0,
				20)); err != nil {
				return err
			}
			if byHand {
				return sessioncmd.Of(a.App).ByHand(cmd.Context(), s, append([]string{args[0]}, f.builds...), f.on,
					f.lineup)
			}
			if len(f.builds) == 0 {
				return ui.WrongCall{Title: "try needs a build",
					Hint: "name it with --build: package files, a number, a version, or labels " +
						"of the newest"}
			}
			suite, err := suitecmd.Of(a.App).PushSuite(cmd.Context(), s, args[0], true)
			if err != nil {
				return err
			}
			build, err := buildcmd.Of(a.App).BuildRef(cmd.Context(), s, f.builds, &f.app)
			if err != nil {
				return err
			}
			r, err := a.Start(cmd.Context(), s, f.request(cmd, build, []string{suite.Digest}))
			if err != nil {
				return err
			}
			if err := a.Await(cmd.Context(), s, r, Watch{events: a.Output != "json", Cancels: true,
				timeout: f.timeout}); err != nil {
				return err
			}
			return a.conclude(cmd.Context(), s, r.Number, f.junit)
		},
	}
	f.bind(a, cmd)
	cmd.Flags().BoolVar(&byHand, "by-hand", false, "FILE is a package: install it on a device and be at that by hand")
	return cmd
}
