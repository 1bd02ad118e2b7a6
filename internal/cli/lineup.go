package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
)

func completeLineups(ctx context.Context, s *client.Service) (out []string) {
	if r, err := s.ListLineupsWithResponse(ctx, s.Project); err == nil && r.JSON200 != nil {
		for _, l := range *r.JSON200 {
			out = append(out, l.Name+"\t"+deref(l.About))
		}
	}
	return out
}

func (a *app) lineupCommand() *cobra.Command {
	c := &cobra.Command{Use: "lineup", Short: "Save rules that choose devices, and try them"}
	save := &cobra.Command{
		Use: "save FILE", Short: "Keep a lineup under the name that stands in it", Example: "  yamato lineup save crossing-phones.yaml", Args: exactly(1, "name the file: yamato lineup save FILE"), ValidArgsFunction: files("yaml", "yml"),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := readSmall(args[0])
			if err != nil {
				return wrongCall{"the lineup cannot be read: " + err.Error(), ""}
			}
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.SaveLineupWithResponse(cmd.Context(), s.Project, contract.NewLineup{Text: string(text)})
			if err != nil {
				return reach(s, err)
			}
			l, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(l, func() {
				fmt.Fprintf(a.out, "The lineup %s is saved. Try it: yamato lineup try %q\n", a.ink().Strong(l.Name), l.Name)
			})
		},
	}
	ls := &cobra.Command{
		Use: "ls", Short: "List lineups", Example: "  yamato lineup ls", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.ListLineupsWithResponse(cmd.Context(), s.Project)
			if err != nil {
				return reach(s, err)
			}
			list, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.out, "No lineups yet. Keep one: yamato lineup save FILE (docs/lineups.md says how they are written)")
					return
				}
				var rows [][]string
				for _, l := range list {
					rows = append(rows, []string{l.Name, deref(l.About), l.SavedBy, ago(l.SavedAt)})
				}
				a.table([]string{"LINEUP", "ABOUT", "SAVED BY", "SAVED"}, rows)
			})
		},
	}
	show := &cobra.Command{
		Use: "show LINEUP", Short: "Show a lineup as it was written", Example: "  yamato lineup show \"crossing phones\"", Args: exactly(1, "name the lineup"), ValidArgsFunction: a.complete(completeLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.GetLineupWithResponse(cmd.Context(), s.Project, args[0])
			if err != nil {
				return reach(s, err)
			}
			l, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(l, func() { fmt.Fprintln(a.out, strings.TrimRight(l.Text, "\n")) })
		},
	}
	try := &cobra.Command{
		Use: "try LINEUP|FILE", Short: "Say what a lineup takes now, and why each other device is passed over", Example: "  yamato lineup try \"crossing phones\"\n  yamato lineup try crossing-phones.yaml", Args: exactly(1, "name a saved lineup, or a file with one"), ValidArgsFunction: a.complete(completeLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			in := contract.TryLineup{Name: &args[0]}
			if text, err := readSmall(args[0]); err == nil {
				written := string(text)
				in = contract.TryLineup{Text: &written}
			}
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.TryLineupWithResponse(cmd.Context(), s.Project, in)
			if err != nil {
				return reach(s, err)
			}
			c, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(c, func() { a.showChoice(c) })
		},
	}
	remove := &cobra.Command{
		Use: "remove LINEUP", Short: "Forget a lineup", Example: "  yamato lineup remove \"crossing phones\"", Args: exactly(1, "name the lineup"), ValidArgsFunction: a.complete(completeLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.RemoveLineupWithResponse(cmd.Context(), s.Project, args[0])
			if err != nil {
				return reach(s, err)
			}
			if r.StatusCode() != 204 {
				_, err = client.Take[struct{}](s, nil, r.Body, r.HTTPResponse, nil)
				return err
			}
			return a.write(map[string]string{"removed": args[0]}, func() { fmt.Fprintln(a.out, "The lineup", args[0], "is gone.") })
		},
	}
	c.AddCommand(save, ls, show, try, remove)
	return c
}

func (a *app) showChoice(c contract.Choice) {
	fmt.Fprintf(a.out, "%s takes %s now.\n", a.ink().Strong(c.Name), plural(len(c.Taken), "device"))
	rows := func(list []contract.Chosen) (out [][]string) {
		for _, d := range list {
			out = append(out, []string{"  " + d.Device, d.Model + ", " + fleet.PlatformName(d.Platform) + " " + d.Os + ", " + d.Kind, d.State, d.Why})
		}
		return out
	}
	if len(c.Taken) > 0 {
		a.table([]string{"  TAKEN", "WHAT IT IS", "STATE", "WHY"}, rows(c.Taken))
	}
	if len(c.Passed) > 0 {
		fmt.Fprintln(a.out)
		a.table([]string{"  PASSED OVER", "WHAT IT IS", "STATE", "WHY"}, rows(c.Passed))
	}
}
