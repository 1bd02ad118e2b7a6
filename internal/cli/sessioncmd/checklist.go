package sessioncmd

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/cli/buildcmd"
	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/report"
)

// ChecklistCommand has lists of things for people to look at.
func (a *App) ChecklistCommand() *cobra.Command {
	c := &cobra.Command{Use: "checklist", Short: "Things for people to look at by hand, with a verdict on each"}
	c.AddCommand(a.saveChecklist(), a.checklists(), a.startChecklist(), a.markChecklist())
	return c
}

func (a *App) saveChecklist() *cobra.Command {
	return &cobra.Command{
		Use: "save FILE", Short: "Keep a checklist: Markdown with a title and task lists; another text is another version",
		Example:           "  yamato checklist save before-release.md",
		Args:              ui.Exactly(1, "name the file: yamato checklist save before-release.md"),
		ValidArgsFunction: ui.Files("md"),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := ui.ReadSmall(args[0])
			if err != nil {
				return err
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			l, err := client.As[contract.Checklist](s.SaveChecklist(cmd.Context(), s.Project,
				contract.ChecklistText{Text: string(text)}))
			if err != nil {
				return err
			}
			return a.Write(l, func() {
				fmt.Fprintf(a.Out, "%s, version %d: %s\n", l.Name, l.Version, ui.Plural(len(l.Items), "thing"))
			})
		},
	}
}

func (a *App) checklists() *cobra.Command {
	return &cobra.Command{
		Use: "ls", Short: "List checklists, and the runs of them that people go through now", Args: ui.None,
		Example: "  yamato checklist ls",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.Checklist](s.ListChecklists(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			going, err := client.As[[]contract.Run](s.ListChecklistRuns(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			return a.Write(map[string]any{"checklists": list, "runs": going}, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "No checklists yet. Keep one: yamato checklist save FILE")
					return
				}
				var rows [][]string
				for _, l := range list {
					rows = append(rows, []string{l.Name, strconv.FormatInt(l.Version, 10), strconv.Itoa(len(l.Items)),
						l.SavedBy, ui.Ago(l.SavedAt)})
				}
				a.Table([]string{"CHECKLIST", "VERSION", "THINGS", "SAVED BY", "WHEN"}, rows)
				for _, r := range going {
					fmt.Fprintf(a.Out, "Run %d: %s, %s %s, %d of %d said\n", r.Number, ui.Deref(r.Checklist), r.App,
						r.VersionName, r.Results, r.Expected)
				}
			})
		},
	}
}

func completeChecklists(ctx context.Context, s *client.Service) (out []string) {
	list, err := client.As[[]contract.Checklist](s.ListChecklists(ctx, s.Project))
	if err != nil {
		return nil
	}
	for _, l := range list {
		out = append(out, l.Name)
	}
	return out
}

func (a *App) startChecklist() *cobra.Command {
	var builds, on []string
	var app, lineup, language string
	cmd := &cobra.Command{
		Use: "start NAME", Short: "Have people go through a checklist: a run beside the automated ones",
		Example:           "  yamato checklist start \"Before each release\" --build 3.2.0 --on \"Kaede 7\"",
		Args:              ui.Exactly(1, "name the checklist: `yamato checklist ls` lists them"),
		ValidArgsFunction: a.Complete(completeChecklists),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(builds) == 0 {
				return ui.WrongCall{Title: "a checklist is gone through for a build", Hint: "name it with --build"}
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			build, err := buildcmd.Of(a.App).BuildRef(cmd.Context(), s, builds, &app)
			if err != nil {
				return err
			}
			r, err := client.As[contract.Run](s.StartChecklist(cmd.Context(), s.Project, &contract.StartChecklistParams{IdempotencyKey: client.NewKey()},
				contract.NewChecklistRun{Checklist: args[0], Build: build,
					App: ui.Optional(app), On: ui.Several(on), Lineup: ui.Optional(lineup),
					Language: ui.Optional(language)}))
			if err != nil {
				return err
			}
			return a.Write(r, func() {
				fmt.Fprintf(a.Out, "Run %d: %s for %s %s, %s. In a session on one of those devices it stands beside the screen.\n", r.Number,
					ui.Deref(r.Checklist), r.App, r.VersionName, ui.Plural(r.Legs, "combination"))
			})
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&builds, "build", nil, "build, by number or version, or package files to hand in")
	f.StringArrayVar(&on, "on", nil, "model, OS version, kind or several of these, or one device by its name; may be repeated; default: all")
	f.StringVar(&app, "app", "", "app, by name or application id, where a build's name does not tell")
	f.StringVar(&lineup, "lineup", "", "saved lineup: only devices that it takes now")
	f.StringVar(&language, "language", "", "language of the devices, as in BCP 47 (default en-GB)")
	_ = cmd.RegisterFlagCompletionFunc("build", a.Complete(ui.CompleteBuilds))
	_ = cmd.RegisterFlagCompletionFunc("on", a.Complete(ui.CompletePicks))
	_ = cmd.RegisterFlagCompletionFunc("lineup", a.Complete(ui.CompleteLineups))
	return cmd
}

func (a *App) markChecklist() *cobra.Command {
	var note, on string
	cmd := &cobra.Command{
		Use: "mark RUN THING VERDICT", Short: "Say how one thing is: pass, fail or skip",
		Example: "  yamato checklist mark 4 \"Tickets: The total is under the fares\" pass\n  yamato checklist mark 4 \"Tickets: Paying\" skip --note \"no card here\"",
		Args:    ui.Exactly(3, "name the run, the thing and the verdict"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := ui.RunNumber(args[:1])
			if err != nil {
				return err
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			d, err := client.As[contract.RunDetail](s.GetRun(cmd.Context(), s.Project, n, nil))
			if err != nil {
				return err
			}
			leg, index, err := findThing(d, args[1], on)
			if err != nil {
				return err
			}
			if _, err := client.As[struct{}](s.MarkCase(cmd.Context(), s.Project, n, leg, index, contract.CaseMark{
				Verdict: contract.CaseMarkVerdict(args[2]), Note: ui.Optional(note)})); err != nil {
				return err
			}
			return a.Write(map[string]any{"run": n, "thing": args[1], "verdict": args[2]}, func() {
				fmt.Fprintf(a.Out, "%s: %s\n", args[1], args[2])
			})
		},
	}
	cmd.Flags().StringVar(&note, "note", "", "what you saw; what is skipped says why")
	cmd.Flags().StringVar(&on, "on", "", "the combination, where the run has several: part of its name")
	return cmd
}

// findThing finds the leg and the place of a thing by its words.
//
// on is part of where its leg runs, or all of it as `run show` prints it: that leg alone is meant then, and none that
// is named longer.
func findThing(d contract.RunDetail, thing, on string) (leg int64, index int, err error) {
	found := 0
	wholly := func(l contract.Leg) bool {
		return on != "" && slices.ContainsFunc([]string{report.Label(l.Combination), report.Where(l), report.Whole(l)},
			func(label string) bool {
				return strings.EqualFold(label, strings.TrimSpace(on))
			})
	}
	exact := slices.ContainsFunc(d.Legs, wholly)
	for _, l := range d.Legs {
		if exact && !wholly(l) || !exact && !strings.Contains(strings.ToLower(report.Whole(l)),
			strings.ToLower(strings.TrimSpace(on))) {
			continue
		}
		for _, c := range l.Cases {
			if strings.EqualFold(c.Name, thing) {
				leg, index = l.Id, c.Index
				found++
			}
		}
	}
	switch found {
	case 0:
		return 0, 0, ui.WrongCall{Title: fmt.Sprintf("run %d has no such thing: %s", d.Run.Number, thing),
			Hint: fmt.Sprintf("`yamato run show %d` lists them", d.Run.Number)}
	case 1:
		return leg, index, nil
	}
	return 0, 0, ui.WrongCall{Title: "the run has that thing on several combinations", Hint: "choose one with --on"}
}
