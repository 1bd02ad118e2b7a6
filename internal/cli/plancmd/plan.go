package plancmd

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/report"
)

// CompletePlans offers the saved plans.
func CompletePlans(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[[]contract.Plan](s.ListPlans(ctx, s.Project)); err == nil {
		for _, p := range r {
			out = append(out, p.Name+"\t"+p.About)
		}
	}
	return out
}

// PlanCommand has the commands on plans.
func (a *App) PlanCommand() *cobra.Command {
	c := &cobra.Command{Use: "plan", Short: "Save plans, try them, and have them start by themselves"}
	c.AddCommand(a.save(), a.ls(), a.show(), a.try(), a.start(), a.pause(), a.resume(), a.remove(), a.history(),
		a.calendar())
	return c
}

// named makes a command on a saved plan.
func (a *App) named(use, short, example string, do func(cmd *cobra.Command, s *client.Service,
	name string) error) *cobra.Command {
	return &cobra.Command{Use: use + " PLAN", Short: short, Example: "  " + example,
		Args: ui.Exactly(1, "name the plan: "+example), ValidArgsFunction: a.Complete(CompletePlans),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			return do(cmd, s, args[0])
		}}
}

func (a *App) save() *cobra.Command {
	return &cobra.Command{
		Use: "save FILE", Short: "Keep a plan under the name that stands in it",
		Example: "  yamato plan save nightly.plan.yaml",
		Args:    ui.Exactly(1, "name the file: yamato plan save FILE"), ValidArgsFunction: ui.Files("yaml", "yml"),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := ui.ReadSmall(args[0])
			if err != nil {
				return ui.WrongCall{Title: "the plan cannot be read: " + err.Error()}
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			p, err := client.As[contract.Plan](s.SavePlan(cmd.Context(), s.Project,
				contract.NewPlan{Text: string(text)}))
			if err != nil {
				return err
			}
			return a.Write(p, func() {
				fmt.Fprintf(a.Out, "The plan %s is saved, revision %d; %s. What it comes to: yamato plan try %q\n",
					a.Ink().Strong(p.Name), p.Revision, nextOf(p), p.Name)
			})
		},
	}
}

// nextOf says when a plan starts next.
func nextOf(p contract.Plan) string {
	switch {
	case p.Broken != "":
		return "it cannot be read"
	case p.Paused:
		return "it is paused"
	case p.Next != nil:
		return "next start " + moment(*p.Next)
	case len(p.Starts) > 0:
		return "it starts with " + strings.Join(p.Starts, ", ")
	}
	return "it starts when you start it"
}

func moment(t time.Time) string { return t.Local().Format("Mon 2006-01-02 15:04 MST") }

// shapes are how a plan's runs went, the newest last.
func shapes(late []contract.PlanStart) string {
	var out strings.Builder
	for i := len(late) - 1; i >= 0; i-- {
		s := late[i]
		switch {
		case s.Run == nil:
			out.WriteString("·")
		case s.RunState != nil && (*s.RunState == "queued" || *s.RunState == "running"):
			out.WriteString("…")
		default:
			out.WriteString(report.Shape(contract.Crossing{Verdict: ui.Deref(s.Verdict)}))
		}
	}
	return out.String()
}

func (a *App) ls() *cobra.Command {
	return &cobra.Command{
		Use: "ls", Short: "List plans, with their next starts and how they went lately", Example: "  yamato plan ls",
		Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.Plan](s.ListPlans(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "No plans yet. Keep one: yamato plan save FILE (docs/plans.md says how they are written)")
					return
				}
				var rows [][]string
				for _, p := range list {
					last := "never"
					if len(p.Late) > 0 {
						last = lastOf(p.Late[0])
					}
					next := "-"
					if p.Next != nil {
						next = moment(*p.Next)
					} else if p.Paused {
						next = "paused"
					}
					rows = append(rows, []string{p.Name, strings.Join(p.Starts, "; "), next, shapes(p.Late), last})
				}
				a.Table([]string{"PLAN", "STARTS", "NEXT", "LATELY", "LAST"}, rows)
				for _, p := range list {
					if p.Lacks != "" {
						fmt.Fprintf(a.Out, "%s could not be started now: %s\n", p.Name, p.Lacks)
					}
				}
			})
		},
	}
}

func lastOf(s contract.PlanStart) string {
	if s.Run != nil {
		return fmt.Sprintf("run %d, %s", *s.Run, ui.Ago(s.Due))
	}
	return s.State + ": " + s.Told
}

func (a *App) show() *cobra.Command {
	var revision int
	cmd := a.named("show", "Show a plan as it was written, and how it stands",
		"yamato plan show \"Tideline every night\"",
		func(cmd *cobra.Command, s *client.Service, name string) error {
			p, err := client.As[contract.Plan](s.GetPlan(cmd.Context(), s.Project, name))
			if err != nil {
				return err
			}
			if revision > 0 {
				list, err := client.As[[]contract.PlanRevision](s.ListPlanRevisions(cmd.Context(), s.Project, name))
				if err != nil {
					return err
				}
				for _, r := range list {
					if r.Revision == revision {
						return a.Write(r, func() { fmt.Fprintln(a.Out, strings.TrimRight(r.Text, "\n")) })
					}
				}
				return ui.WrongCall{Title: fmt.Sprintf("%s has no revision %d", name, revision),
					Hint: fmt.Sprintf("its newest is %d",
						p.Revision)}
			}
			return a.Write(p, func() {
				fmt.Fprintln(a.Out, strings.TrimRight(p.Text, "\n"))
				fmt.Fprintln(a.Out, a.Ink().Faint(fmt.Sprintf("\n# revision %d, saved by %s, %s; %s", p.Revision,
					p.SavedBy,
					ui.Ago(p.SavedAt), nextOf(p))))
			})
		})
	cmd.Flags().IntVar(&revision, "revision", 0, "as it was then")
	return cmd
}

// changes gives a command the flags of what is other for one run, and what they say once they are read.
func (a *App) changes(cmd *cobra.Command) func() contract.PlanChanges {
	var build, lineup, cover string
	var devices, suites, tags []string
	var combinations, minutes int
	var seed int64
	f := cmd.Flags()
	f.StringVar(&build, "build", "", "this build, for this one run: a number, a version, or labels")
	f.StringVar(&lineup, "lineup", "", "these devices: a saved lineup")
	f.StringArrayVar(&devices, "on", nil, "these devices: a model, or a device's name; may be given again")
	f.StringArrayVar(&suites, "suite", nil, "these suites; may be given again")
	f.StringArrayVar(&tags, "tag", nil, "cases with this tag; may be given again")
	f.StringVar(&cover, "cover", "", "all, each, pairs or triples")
	f.IntVar(&combinations, "combinations", 0, "at most so many combinations")
	f.IntVar(&minutes, "minutes", 0, "at most so many device-minutes")
	f.Int64Var(&seed, "seed", 0, "the seed of chance, and of the choice of combinations")
	_ = cmd.RegisterFlagCompletionFunc("build", a.Complete(ui.CompleteBuilds))
	_ = cmd.RegisterFlagCompletionFunc("lineup", a.Complete(ui.CompleteLineups))
	_ = cmd.RegisterFlagCompletionFunc("on", a.Complete(ui.CompletePicks))
	_ = cmd.RegisterFlagCompletionFunc("suite", a.Complete(ui.CompleteSuites))
	_ = cmd.RegisterFlagCompletionFunc("tag", a.Complete(ui.CompleteTags))
	var keep ui.KeepRules
	keep.Bind(cmd)
	return func() contract.PlanChanges {
		return contract.PlanChanges{Build: ui.Optional(build), Lineup: ui.Optional(lineup),
			Devices: ui.Several(devices),
			Suites:  ui.Several(suites), Tags: ui.Several(tags), Cover: ui.Optional(cover),
			Combinations: number(combinations),
			Minutes:      number(minutes), Seed: number(seed), Keep: keep.Given()}
	}
}

func number[T int | int64](n T) *T {
	if n == 0 {
		return nil
	}
	return &n
}

func (a *App) try() *cobra.Command {
	cmd := &cobra.Command{
		Use: "try PLAN|FILE", Short: "Say what a plan comes to now: combinations, legs, minutes and starts; nothing is started",
		Example: "  yamato plan try \"Tideline every night\"\n  yamato plan try nightly.plan.yaml --minutes 60",
		Args:    ui.Exactly(1, "name a saved plan, or a file with one"), ValidArgsFunction: a.Complete(CompletePlans),
	}
	in := a.changes(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		changed := in()
		call := contract.TryPlan{Name: &args[0], Changes: &changed}
		if text, err := ui.ReadSmall(args[0]); err == nil {
			written := string(text)
			call.Name, call.Text = nil, &written
		}
		s, err := a.Connect(cmd.Context())
		if err != nil {
			return err
		}
		t, err := client.As[contract.PlanTrial](s.TryPlan(cmd.Context(), s.Project, call))
		if err != nil {
			return err
		}
		return a.Write(t, func() { a.showTrial(t) })
	}
	return cmd
}

func (a *App) showTrial(t contract.PlanTrial) {
	ink := a.Ink()
	fmt.Fprintf(a.Out, "%s would run %s %s (%s): %s in %s, %s; nothing was started.\n", ink.Strong(t.Plan), t.App,
		t.VersionName,
		t.VersionCode, ui.Plural(t.Chosen, "combination"), ui.Plural(t.Legs, "leg"), deviceMinutes(t.Minutes))
	if len(t.Changed) > 0 {
		fmt.Fprintln(a.Out, "Other than in the plan: "+strings.Join(t.Changed, "; "))
	}
	fmt.Fprintln(a.Out)
	head := []string{""}
	var shown []int
	for i, f := range t.Factors {
		shown = append(shown, i)
		head = append(head, strings.ToUpper(f.Name))
	}
	head = append(head, "DEVICES", "LEGS", "MINUTES")
	var rows [][]string
	for i, c := range t.Combinations {
		row := []string{strconv.Itoa(i + 1)}
		for _, at := range shown {
			row = append(row, c.Levels[at])
		}
		rows = append(rows, append(row, strconv.Itoa(c.Devices), strconv.Itoa(c.Legs), fmt.Sprintf("%.1f", c.Minutes)))
	}
	a.Table(head, rows)
	if more := t.Chosen - len(t.Combinations); more > 0 {
		fmt.Fprintf(a.Out, "and %d more\n", more)
	}
	fmt.Fprintln(a.Out)
	for _, c := range t.Coverage {
		a.tellCoverage(strengthName(c.Strength), c.Covered, c.Possible, c.Forbidden)
	}
	for _, c := range t.Coverage {
		if c.Strength == 2 || len(t.Coverage) == 1 {
			var list []string
			for _, m := range c.Missing {
				list = append(list, contractLevels(m))
			}
			a.tellMissing(list, c.Possible-c.Covered)
		}
	}
	var never []string
	for _, n := range t.Forbidden {
		never = append(never, contractLevels(n.Levels)+": "+strings.Join(n.Why, "; "))
	}
	a.tellRuled("Never together", never)
	report.LeftOut(a.Out, t.LeftOut, ink, false)
	if len(t.Shares) > 1 {
		fmt.Fprintln(a.Out)
		var shares [][]string
		for _, sh := range t.Shares {
			shares = append(shares, []string{"  " + sh.Suite, ui.Plural(len(sh.Cases), "case"),
				fmt.Sprintf("%.1f", sh.Minutes)})
		}
		a.Table([]string{"  LEGS OF EACH COMBINATION", "CASES", "MINUTES"}, shares)
	}
	if len(t.Starts)+len(t.Next) > 0 {
		fmt.Fprintf(a.Out, "\nStarts: %s\n", strings.Join(t.Starts, "; "))
		for _, at := range t.Next {
			a.Say(2, "%s", moment(at))
		}
	}
	for i, f := range t.Findings {
		if i == 0 {
			fmt.Fprintln(a.Out)
		}
		fmt.Fprintln(a.Out, ink.Ochre("· "+f))
	}
}

func contractLevels(list []contract.Level) string {
	levels := []fleet.Level{}
	for _, l := range list {
		levels = append(levels, fleet.Level{Factor: l.Factor, Value: l.Value})
	}
	return levelsLine(levels)
}

func (a *App) start() *cobra.Command {
	var in func() contract.PlanChanges
	cmd := a.named("start", "Start a plan now, with changes for this one run",
		"yamato plan start \"Tideline every night\" --build 3.2.0",
		func(cmd *cobra.Command, s *client.Service, name string) error {
			key := client.NewKey()
			r, err := client.As[contract.Run](s.StartPlan(cmd.Context(), s.Project, name,
				&contract.StartPlanParams{IdempotencyKey: key}, in()))
			if err != nil {
				return err
			}
			return a.Write(r, func() {
				fmt.Fprintf(a.Out, "Run %d of %s: %s %s, %s. Follow it: yamato run follow %d\n", r.Number,
					a.Ink().Strong(name), r.App,
					r.VersionName, ui.Plural(r.Legs, "leg"), r.Number)
				if c := ui.Deref(r.Changed); len(c) > 0 {
					fmt.Fprintln(a.Out, "Other than in the plan, for this run alone: "+strings.Join(c, "; "))
				}
			})
		})
	in = a.changes(cmd)
	return cmd
}

func (a *App) setPaused(use, short string, paused bool) *cobra.Command {
	return a.named(use, short, "yamato plan "+use+" \"Tideline every night\"",
		func(cmd *cobra.Command, s *client.Service, name string) error {
			p, err := client.As[contract.Plan](s.PausePlan(cmd.Context(), s.Project, name,
				contract.PlanState{Paused: paused}))
			if err != nil {
				return err
			}
			return a.Write(p, func() { fmt.Fprintf(a.Out, "The plan %s: %s.\n", a.Ink().Strong(p.Name), nextOf(p)) })
		})
}

func (a *App) pause() *cobra.Command {
	return a.setPaused("pause", "Have a plan start nothing by itself", true)
}

func (a *App) resume() *cobra.Command {
	return a.setPaused("resume", "Have a plan start by itself again, from now on", false)
}

func (a *App) remove() *cobra.Command {
	return ui.Yes(a.named("remove", "Take a plan off the list; its runs stay",
		"yamato plan remove \"Tideline every night\"",
		func(cmd *cobra.Command, s *client.Service, name string) error {
			needs, err := ui.NeededBy(cmd.Context(), s, contract.GetNeedsParamsKindPlan, name)
			if err == nil {
				err = a.Sure(cmd, "Remove the plan "+name+"; its coming starts and its versions go with it", needs...)
			}
			if err == nil {
				_, err = client.As[struct{}](s.RemovePlan(cmd.Context(), s.Project, name,
					&contract.RemovePlanParams{Anyway: new(true)}))
			}
			if err != nil {
				return err
			}
			return a.Write(map[string]string{"removed": name},
				func() { fmt.Fprintln(a.Out, "The plan", name, "is gone; its runs stay.") })
		}))
}

func (a *App) history() *cobra.Command {
	var limit int
	cmd := a.named("history", "What started a plan, or did not and why, and what came of it",
		"yamato plan history \"Tideline every night\"",
		func(cmd *cobra.Command, s *client.Service, name string) error {
			r, err := client.As[contract.PlanStartList](s.ListPlanStarts(cmd.Context(), s.Project, name,
				&contract.ListPlanStartsParams{Limit: &limit}))
			if err != nil {
				return err
			}
			return a.Write(r, func() {
				if len(r.Items) == 0 {
					fmt.Fprintf(a.Out, "Nothing has started %s yet. Start it: yamato plan start %q\n", name, name)
					return
				}
				var rows [][]string
				for _, st := range r.Items {
					run, went := "-", st.Told
					if st.Run != nil {
						run = strconv.FormatInt(*st.Run, 10)
						went = report.Shape(contract.Crossing{Verdict: ui.Deref(st.Verdict)}) + " " +
							ui.Deref(st.Verdict)
						if state := ui.Deref(st.RunState); state != "finished" {
							went = state
						}
					}
					if len(st.Changed) > 0 {
						went += "; changed: " + strings.Join(st.Changed, ", ")
					}
					rows = append(rows, []string{moment(st.Due), reasons[st.Reason], st.State, run, went})
				}
				a.Table([]string{"DUE", "WHY", "STATE", "RUN", "WHAT CAME OF IT"}, rows)
				if r.Next != nil {
					fmt.Fprintln(a.Out, a.Ink().Faint("\nThere is more: --limit"))
				}
			})
		})
	cmd.Flags().IntVar(&limit, "limit", 20, "how many, 1 to 200")
	return cmd
}

var reasons = map[string]string{"time": "its time", "arrival": "a build arrived", "after": "after a plan",
	"hand": "by hand"}

func (a *App) calendar() *cobra.Command {
	var feed bool
	var days int
	cmd := &cobra.Command{
		Use: "calendar", Short: "What plans started and will start, and an address for calendars to read it at",
		Example: "  yamato plan calendar --days 7\n  yamato plan calendar --feed", Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if feed {
				f, err := client.As[contract.Feed](s.MakeFeed(cmd.Context(), s.Project))
				if err != nil {
					return err
				}
				return a.Write(f, func() {
					fmt.Fprintf(a.Out, "%s\nWhoever has this address reads the calendar (iCalendar); the one before is no longer read.\n", f.Address)
				})
			}
			if days < 1 || days > 180 {
				return ui.WrongCall{Title: "--days is 1 to 180"}
			}
			now := time.Now()
			span := time.Duration(days) * 24 * time.Hour
			list, err := client.As[[]contract.CalendarEntry](s.GetCalendar(cmd.Context(), s.Project,
				&contract.GetCalendarParams{From: now.Add(-span), Until: now.Add(span)}))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "Nothing started, and nothing will. Keep a plan: yamato plan save FILE")
					return
				}
				var rows [][]string
				for _, e := range list {
					went := e.State
					switch {
					case e.Coming:
						went = "will start"
					case e.Run != nil:
						went = fmt.Sprintf("run %d, %s", *e.Run, ui.Deref(e.Verdict))
					case e.Told != "":
						went += ": " + e.Told
					}
					rows = append(rows, []string{moment(e.At), e.Plan, strings.Join(e.Sites, ", "), went})
				}
				a.Table([]string{"WHEN", "PLAN", "SITES", "WHAT"}, rows)
			})
		},
	}
	cmd.Flags().BoolVar(&feed, "feed", false, "make an address at which calendars read it")
	cmd.Flags().IntVar(&days, "days", 7, "how far back and ahead")
	return cmd
}
