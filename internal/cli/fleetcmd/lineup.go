package fleetcmd

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
)

func (a *App) LineupCommand() *cobra.Command {
	c := &cobra.Command{Use: "lineup", Short: "Save rules that choose devices, and try them"}
	c.AddCommand(a.lineupSave(), a.lineupLs(), a.lineupShow(), a.lineupTry(), ui.Yes(a.lineupRemove()))
	return c
}

func (a *App) lineupSave() *cobra.Command {
	return &cobra.Command{
		Use: "save FILE", Short: "Keep a lineup under the name that stands in it",
		Example:           "  yamato lineup save crossing-phones.yaml",
		Args:              ui.Exactly(1, "name the file: yamato lineup save FILE"),
		ValidArgsFunction: ui.Files("yaml", "yml"),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := ui.ReadSmall(args[0])
			if err != nil {
				return ui.WrongCall{Title: "the lineup cannot be read: " + err.Error(), Hint: ""}
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			l, err := client.As[contract.Lineup](s.SaveLineup(cmd.Context(), s.Project,
				contract.NewLineup{Text: string(text)}))
			if err != nil {
				return err
			}
			return a.Write(l, func() {
				fmt.Fprintf(a.Out, "The lineup %s is saved. Try it: yamato lineup try %q\n", a.Ink().Strong(l.Name),
					l.Name)
			})
		},
	}
}

func (a *App) lineupLs() *cobra.Command {
	return &cobra.Command{
		Use: "ls", Short: "List lineups", Example: "  yamato lineup ls", Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.Lineup](s.ListLineups(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "No lineups yet. Keep one: yamato lineup save FILE (docs/lineups.md "+
						"says how they are "+
						"written)")
					return
				}
				var rows [][]string
				for _, l := range list {
					rows = append(rows, []string{l.Name, ui.Deref(l.About), l.SavedBy, ui.Ago(l.SavedAt)})
				}
				a.Table([]string{"LINEUP", "ABOUT", "SAVED BY", "SAVED"}, rows)
			})
		},
	}
}

func (a *App) lineupShow() *cobra.Command {
	return &cobra.Command{
		Use: "show LINEUP", Short: "Show a lineup as it was written",
		Example: "  yamato lineup show \"crossing phones\"",
		Args:    ui.Exactly(1, "name the lineup"), ValidArgsFunction: a.Complete(ui.CompleteLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			l, err := client.As[contract.Lineup](s.GetLineup(cmd.Context(), s.Project, args[0]))
			if err != nil {
				return err
			}
			return a.Write(l, func() { fmt.Fprintln(a.Out, strings.TrimRight(l.Text, "\n")) })
		},
	}
}

func (a *App) lineupTry() *cobra.Command {
	var build, appName string
	try := &cobra.Command{
		Use: "try LINEUP|FILE", Short: "Say what a lineup takes now, and why each other device is passed over",
		Example: "  yamato lineup try \"crossing phones\"\n  yamato lineup try crossing-phones.yaml\n  yamato lineup " +
			"try \"crossing phones\" --build 3.2.0", Args: ui.Exactly(1, "name a saved lineup, or a file with one"),
		ValidArgsFunction: a.Complete(ui.CompleteLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			in := contract.TryLineup{Name: &args[0]}
			if text, err := ui.ReadSmall(args[0]); err == nil {
				written := string(text)
				in = contract.TryLineup{Text: &written}
			}
			in.Build, in.App = ui.Optional(build), ui.Optional(appName)
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			c, err := client.As[contract.Choice](s.TryLineup(cmd.Context(), s.Project, in))
			if err != nil {
				return err
			}
			return a.Write(c, func() { a.showChoice(c) })
		},
	}
	try.Flags().StringVar(&build, "build", "", "say of what is taken whether this build runs on it: a number, a "+
		"version, or labels")
	try.Flags().StringVar(&appName, "app", "", "app, by name or application id")
	_ = try.RegisterFlagCompletionFunc("build", a.Complete(ui.CompleteBuilds))
	_ = try.RegisterFlagCompletionFunc("app", a.Complete(ui.CompleteApps))
	return try
}

func (a *App) lineupRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove LINEUP", Short: "Forget a lineup", Example: "  yamato lineup remove \"crossing phones\"",
		Args: ui.Exactly(1, "name the lineup"), ValidArgsFunction: a.Complete(ui.CompleteLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			needs, err := ui.NeededBy(cmd.Context(), s, contract.GetNeedsParamsKindLineup, args[0])
			if err == nil {
				err = a.Sure(cmd, "Forget the lineup "+args[0], needs...)
			}
			if err == nil {
				_, err = client.As[struct{}](s.RemoveLineup(cmd.Context(), s.Project, args[0],
					&contract.RemoveLineupParams{Anyway: new(true)}))
			}
			if err != nil {
				return err
			}
			return a.Write(map[string]string{"removed": args[0]}, func() {
				fmt.Fprintln(a.Out, "The lineup", args[0], "is gone.")
			})
		},
	}
}

func (a *App) showChoice(c contract.Choice) {
	fmt.Fprintf(a.Out, "%s takes %s now.\n", a.Ink().Strong(c.Name), ui.Plural(len(c.Taken), "device"))
	rows := func(list []contract.Chosen) (out [][]string) {
		for _, d := range list {
			out = append(out, []string{"  " + d.Device,
				d.Model + ", " + fleet.SystemName(d.Platform, d.Os) + ", " + d.Kind, d.State, d.Why})
		}
		return out
	}
	if len(c.Taken) > 0 {
		a.Table([]string{"  TAKEN", "WHAT IT IS", "STATE", "WHY"}, rows(c.Taken))
	}
	if len(c.Passed) > 0 {
		fmt.Fprintln(a.Out)
		a.Table([]string{"  PASSED OVER", "WHAT IT IS", "STATE", "WHY"}, rows(c.Passed))
	}
}
