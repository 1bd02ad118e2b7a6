package runcmd

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/evidence"
	"yamato/internal/core/near"
)

// wanted chooses what of a run is fetched.
type wanted struct {
	sorts, cases []string
	picture      string
	failed       bool
}

func (w *wanted) bind(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringSliceVar(&w.sorts, "only", nil, "only these sorts: "+strings.Join(fetched(), ", ")+"; may be repeated")
	f.StringArrayVar(&w.cases, "case", nil, "only the case of this name; may be repeated")
	f.StringVar(&w.picture, "picture", "", "only the picture of this name, over all combinations")
	f.BoolVar(&w.failed, "failed", false, "only of attempts that did not pass")
	_ = cmd.RegisterFlagCompletionFunc("only", cobra.FixedCompletions(fetched(), cobra.ShellCompDirectiveNoFileComp))
}

// fetched are the sorts that there are files of.
func fetched() []string {
	return slices.DeleteFunc(slices.Clone(evidence.Sorts), func(s string) bool { return s == evidence.Bodies.Rule })
}

func (w *wanted) check() error {
	for _, sort := range w.sorts {
		if !slices.Contains(fetched(), sort) {
			hint := "there are " + strings.Join(fetched(), ", ")
			if m := near.Word(sort, fetched()); m != "" {
				hint = "did you mean `" + m + "`?"
			}
			return ui.WrongCall{Title: fmt.Sprintf("%q is no sort of evidence", sort), Hint: hint}
		}
	}
	return nil
}

func (w *wanted) wants(e contract.Evidence, l contract.Leg) bool {
	if len(w.sorts) > 0 && !slices.Contains(w.sorts, evidence.RuleOf(e.Sort)) || w.picture != "" &&
		(e.Sort != evidence.Picture.Name || e.Name != w.picture) {
		return false
	}
	if len(w.cases) == 0 && !w.failed {
		return true
	}
	for _, c := range l.Cases {
		if c.Index != e.CaseIndex {
			continue
		}
		if len(w.cases) > 0 && !slices.Contains(w.cases, c.Name) {
			return false
		}
		return !w.failed || slices.ContainsFunc(c.Results,
			func(r contract.Result) bool { return r.Attempt == e.Attempt && r.Verdict != "pass" })
	}
	return false
}

func (a *App) runFetch() *cobra.Command {
	w := &wanted{}
	cmd := &cobra.Command{
		Use: "fetch RUN DIR", Short: "Fetch what is kept of a run into a folder: all of it, or some",
		Example: "  yamato run fetch 12 evidence/\n  yamato run fetch 12 evidence/ --only video,log --failed\n" +
			"  yamato run fetch 12 evidence/ --picture \"total for three\"",
		Args:              ui.Exactly(2, "name the run and the folder: yamato run fetch 12 evidence/"),
		ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := w.check(); err != nil {
				return err
			}
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			files, err := a.fetch(cmd.Context(), s, number, args[1], w)
			if err != nil {
				return err
			}
			return a.Write(files, func() { fmt.Fprintf(a.Out, "%s in %s\n", ui.Plural(len(files), "file"), args[1]) })
		},
	}
	w.bind(cmd)
	return cmd
}

// fetch writes every piece of evidence that is wanted to a file of its own below dir, and the results
// as results.xml beside them. What is there whole already is not fetched again. It gives the paths.
func (a *App) fetch(ctx context.Context, s *client.Service, number int64, dir string, w *wanted) ([]string, error) {
	d, list, gone, err := a.pieces(ctx, s, number, w)
	if err != nil {
		return nil, err
	}
	var out, failed []string
	beside := besides{}
	for i, e := range list {
		path := filepath.Join(dir, e.path)
		if err := SaveEvidence(ctx, s, number, e.Evidence, path); ctx.Err() != nil {
			return out, err
		} else if err != nil { // it costs itself alone
			failed = append(failed, fmt.Sprintf("%s: %v", path, err))
			continue
		}
		out = append(out, path)
		beside.add(e)
		if a.Animated() {
			fmt.Fprintf(a.Err, "\r\x1b[K%d of %d", i+1, len(list))
		}
	}
	if a.Animated() {
		fmt.Fprint(a.Err, "\r\x1b[K")
	}
	if gone > 0 {
		fmt.Fprintf(a.Err, "%s gone: retention has let the content go\n", map[bool]string{true: "1 piece is",
			false: fmt.Sprint(gone, " pieces are")}[gone == 1])
	}
	if len(out)+len(failed) == 0 {
		fmt.Fprintln(a.Err, "Nothing of that is kept of this run; `yamato run show "+fmt.Sprint(number)+
			"` says by which rules.")
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return out, err
	}
	junit := filepath.Join(dir, "results.xml")
	if err := writeJUnit(junit, d, beside.of); err != nil {
		return out, err
	}
	return append(out, junit), missing(failed, len(list))
}

// besides are the files of cases' evidence, by their paths from the folder on.
type besides map[[2]int64][]string

func (b besides) add(e piece) {
	k := [2]int64{e.Leg, int64(e.CaseIndex)}
	b[k] = append(b[k], filepath.ToSlash(e.path))
}

func (b besides) of(leg int64, index int) []string { return b[[2]int64{leg, int64(index)}] }

// missing tells what could not be fetched, once all else is there.
func missing(failed []string, of int) error {
	if len(failed) == 0 {
		return nil
	}
	return ui.Failed{Title: fmt.Sprintf("%d of %s could not be fetched, and all else is there:\n  %s", len(failed),
		ui.Plural(of, "piece"),
		strings.Join(failed[:min(len(failed), 20)], "\n  ")), Hint: "run the same again: what is there is not fetched twice. What stays damaged is so where it is kept"}
}

// piece is a piece of evidence with a readable path for it.
type piece struct {
	contract.Evidence
	path string
}

// pieces gives what is wanted of a run and still there, and how many of those are gone.
func (a *App) pieces(ctx context.Context, s *client.Service, number int64, w *wanted) (d contract.RunDetail,
	out []piece, gone int, err error) {
	if d, err = a.Detail(ctx, s, number); err != nil {
		return
	}
	list, err := client.As[[]contract.Evidence](s.ListEvidence(ctx, s.Project, number))
	if err != nil {
		return
	}
	legs := map[int64]contract.Leg{}
	for _, l := range d.Legs {
		legs[l.Id] = l
	}
	taken := map[string]bool{}
	for _, e := range list {
		path := evidencePath(e, legs[e.Leg], taken) // of all, so that each has the same path whatever is wanted
		switch {
		case !w.wants(e, legs[e.Leg]):
		case e.Gone != nil:
			gone++
		default:
			out = append(out, piece{e, path})
		}
	}
	return d, out, gone, nil
}

func (a *App) runPin(pinned bool) *cobra.Command {
	use, short := "pin RUN", "Pin a run: retention lets nothing of it go"
	if !pinned {
		use, short = "unpin RUN", "Let retention take what a run kept again"
	}
	word := strings.Fields(use)[0]
	return &cobra.Command{Use: use, Short: short, Example: "  yamato run " + word + " 12",
		Args: ui.Exactly(1, "name the run: yamato run "+word+" 12"), ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			r, err := client.As[contract.Run](s.PinRun(cmd.Context(), s.Project, number, contract.Pin{Pinned: pinned}))
			if err != nil {
				return err
			}
			return a.Write(r, func() {
				if pinned {
					fmt.Fprintf(a.Out, "What is kept of run %d stays, whatever retention says\n", number)
				} else {
					fmt.Fprintf(a.Out, "Retention may take what is kept of run %d\n", number)
				}
			})
		}}
}

func (a *App) runRetention() *cobra.Command {
	var passed, days int
	var size ui.Size
	cmd := &cobra.Command{Use: "retention", Short: "See or change how long, and how much, of what runs kept stays",
		Args:    ui.None,
		Example: "  yamato run retention\n  yamato run retention --passed-days 7 --days 90 --size 200GB",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			now, err := client.As[contract.EvidenceRetention](s.GetEvidenceRetention(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			f := cmd.Flags()
			if f.Changed("passed-days") || f.Changed("days") || f.Changed("size") {
				in := contract.NewEvidenceRetention{PassedDays: now.PassedDays, Days: now.Days, Bytes: now.Bytes}
				if f.Changed("passed-days") {
					in.PassedDays = passed
				}
				if f.Changed("days") {
					in.Days = days
				}
				if f.Changed("size") {
					in.Bytes = int64(size)
				}
				if now, err = client.As[contract.EvidenceRetention](s.SetEvidenceRetention(cmd.Context(), s.Project,
					in)); err != nil {
					return err
				}
			}
			return a.Write(now, func() { a.showEvidenceRetention(now) })
		}}
	cmd.Flags().IntVar(&passed, "passed-days", 0, "days that evidence of what passed stays; 0 for ever")
	cmd.Flags().IntVar(&days, "days", 0, "days that any evidence stays; 0 for ever")
	cmd.Flags().Var(&size, "size", "of all evidence together, as in 200GB; the oldest of what passed goes first; 0 for no bound")
	return cmd
}

func (a *App) showEvidenceRetention(r contract.EvidenceRetention) {
	fmt.Fprintf(a.Out, "%s of evidence, %s\n", ui.Plural(r.Pieces, "piece"), ui.Size(r.Size).String())
	says := func(n int) string {
		if n == 0 {
			return "for ever"
		}
		return "for " + ui.Plural(n, "day")
	}
	fmt.Fprintf(a.Out, "What passed stays %s, everything else %s", says(r.PassedDays), says(r.Days))
	if r.Bytes > 0 {
		fmt.Fprintf(a.Out, ", %s at most", ui.Size(r.Bytes).String())
	}
	fmt.Fprintln(a.Out, "; pinned runs and those with findings stay whole.")
	if r.ChangedBy != nil {
		fmt.Fprintf(a.Out, "Set by %s %s. What the rule takes goes within the hour.\n", *r.ChangedBy,
			ui.Ago(*r.ChangedAt))
	}
}

func (a *App) runSummary() *cobra.Command {
	return &cobra.Command{Use: "summary RUN", Short: "A run in brief: by device and by case, what took longest, what is flaky, crashes",
		Example: "  yamato run summary 12", Args: ui.Exactly(1, "name the run: yamato run summary 12"),
		ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, number, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			out, err := client.As[contract.Summary](s.GetSummary(cmd.Context(), s.Project, number))
			if err != nil {
				return err
			}
			return a.Write(out, func() { a.showSummary(out) })
		}}
}

func (a *App) showSummary(s contract.Summary) {
	fmt.Fprintf(a.Out, "Run %d, %s %s: %s\n", s.Run.Number, s.Run.App, s.Run.VersionName, s.Run.Verdict)
	table := func(what string, list []contract.Tally) {
		fmt.Fprintln(a.Out)
		rows := [][]string{}
		for _, t := range list {
			row := []string{t.Name}
			for _, n := range []int{t.Pass, t.Fail, t.Error, t.Skip, t.Flaky} {
				row = append(row, map[bool]string{true: "", false: fmt.Sprint(n)}[n == 0])
			}
			rows = append(rows, row)
		}
		a.Table([]string{what, "PASS", "FAIL", "ERROR", "SKIP", "FLAKY"}, rows)
	}
	table("DEVICE", s.Devices)
	table("CASE", s.Cases)
	fmt.Fprintln(a.Out)
	var rows [][]string
	for _, l := range s.Slowest {
		rows = append(rows, []string{fmt.Sprintf("%.1f s", float64(l.TookMs)/1000), l.Case, l.Combination})
	}
	a.Table([]string{"SLOWEST", "CASE", "ON"}, rows)
	if len(s.Crashes) > 0 {
		fmt.Fprintln(a.Out)
		a.showCrashes(s.Crashes)
	}
}

func (a *App) showCrashes(list []contract.Crash) {
	var rows [][]string
	for _, c := range list {
		at := "?"
		if len(c.Stack) > 0 {
			at = c.Stack[0]
		}
		rows = append(rows, []string{fmt.Sprint(c.Id), ui.Short(c.Title, 60), ui.Short(at, 30), fmt.Sprint(c.Met),
			fmt.Sprint(c.Combinations), c.FirstBuild, c.LastBuild,
			ui.Ago(c.LastAt)})
	}
	a.Table([]string{"CRASH", "WHAT", "IN", "MET", "ON", "FIRST IN", "LAST IN", "LAST"}, rows)
}

// CrashCommand has the commands on crashes.
func (a *App) CrashCommand() *cobra.Command {
	c := &cobra.Command{Use: "crash", Short: "See which crashes apps have met, by their stacks"}
	c.AddCommand(a.crashLs(), a.crashShow())
	return c
}

func (a *App) crashLs() *cobra.Command {
	var app string
	var run int64
	cmd := &cobra.Command{Use: "ls", Short: "List crashes, those met last first",
		Example: "  yamato crash ls\n  yamato crash ls --run 2", Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			p := &contract.ListCrashesParams{App: ui.Optional(app)}
			if run > 0 {
				p.Run = &run
			}
			out, err := client.As[contract.CrashList](s.ListCrashes(cmd.Context(), s.Project, p))
			if err != nil {
				return err
			}
			return a.Write(out, func() {
				if len(out.Items) == 0 {
					fmt.Fprintln(a.Out, "No crash has been met.")
					return
				}
				a.showCrashes(out.Items)
			})
		}}
	cmd.Flags().StringVar(&app, "app", "", "only of this app")
	cmd.Flags().Int64Var(&run, "run", 0, "only what this run met")
	_ = cmd.RegisterFlagCompletionFunc("app", a.Complete(ui.CompleteApps))
	return cmd
}

func (a *App) crashShow() *cobra.Command {
	return &cobra.Command{Use: "show CRASH", Short: "Show a crash: its stack, and where it was met",
		Example: "  yamato crash show 1",
		Args:    ui.Exactly(1, "name the crash by its number: yamato crash show 1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := ui.CrashNumber(args)
			if err != nil {
				return err
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			out, err := client.As[contract.CrashDetail](s.GetCrash(cmd.Context(), s.Project, id))
			if err != nil {
				return err
			}
			return a.Write(out, func() {
				c := out.Crash
				fmt.Fprintf(a.Out, "%s\n", c.Title)
				for _, f := range c.Stack {
					fmt.Fprintf(a.Out, "    %s\n", f)
				}
				fmt.Fprintf(a.Out, "Met %s in %s, on %s; first in %s, last in %s\n\n", map[bool]string{true: "once",
					false: fmt.Sprint(c.Met, " times")}[c.Met == 1],
					ui.Plural(c.Runs, "run"), ui.Plural(c.Combinations, "combination"), c.FirstBuild, c.LastBuild)
				var rows [][]string
				for _, m := range out.Met {
					rows = append(rows, []string{fmt.Sprint(m.Run), m.Build, m.Case, m.Model + " " + m.Os, m.Device,
						ui.Ago(m.At)})
				}
				a.Table([]string{"RUN", "BUILD", "CASE", "ON", "DEVICE", "WHEN"}, rows)
			})
		}}
}

// CoveredCommand tells what was covered.
func (a *App) CoveredCommand() *cobra.Command {
	var app, from, to, csv, html string
	cmd := &cobra.Command{Use: "covered", Short: "See which devices, OS versions and languages were covered by which builds", Args: ui.None,
		Example: "  yamato covered --from 2026-03-01 --to 2026-03-31\n  yamato covered --csv covered.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if csv != "" || html != "" {
				var err error
				if csv != "" {
					err = a.saveCovered(cmd.Context(), s, "csv", csv, app, from, to)
				}
				if html != "" && err == nil {
					err = a.saveCovered(cmd.Context(), s, "html", html, app, from, to)
				}
				return err
			}
			out, err := client.As[contract.CoveredDevices](s.GetCovered(cmd.Context(), s.Project,
				&contract.GetCoveredParams{App: ui.Optional(app), From: ui.Optional(from),
					To: ui.Optional(to)}))
			if err != nil {
				return err
			}
			return a.Write(out, func() {
				if len(out.Items) == 0 {
					fmt.Fprintf(a.Out, "Nothing was run from %s to %s.\n", out.From.Format("2 January 2006"),
						out.To.Format("2 January 2006"))
					return
				}
				var rows [][]string
				for _, c := range out.Items {
					rows = append(rows, []string{c.App + " " + c.Version, c.Model, c.Os, c.Kind, c.Language,
						fmt.Sprint(c.Runs), fmt.Sprint(c.Cases), fmt.Sprint(c.Passed),
						map[bool]string{true: "", false: fmt.Sprint(c.Failed)}[c.Failed == 0],
						map[bool]string{true: "", false: fmt.Sprint(c.Errors)}[c.Errors == 0]})
				}
				a.Table([]string{"BUILD", "MODEL", "OS", "KIND", "LANGUAGE", "RUNS", "CASES", "PASS", "FAIL", "ERROR"},
					rows)
			})
		}}
	f := cmd.Flags()
	f.StringVar(&app, "app", "", "only of this app")
	f.StringVar(&from, "from", "", "the first day, as in 2026-03-01 (default: 30 days before the last)")
	f.StringVar(&to, "to", "", "the last day (default: today)")
	f.StringVar(&csv, "csv", "", "write it as a table to this file")
	f.StringVar(&html, "html", "", "write it as one page without script to this file")
	_ = cmd.RegisterFlagCompletionFunc("app", a.Complete(ui.CompleteApps))
	return cmd
}

func (a *App) saveCovered(ctx context.Context, s *client.Service, form, path, app, from, to string) error {
	content, err := s.CoveredAs(ctx, form, app, from, to)
	if err != nil {
		return err
	}
	defer content.Close()
	if err := saveTo(path, content, -1, ""); err != nil {
		return err
	}
	fmt.Fprintln(a.Err, path)
	return nil
}
