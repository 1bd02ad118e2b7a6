package sessioncmd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
)

// FindingCommand has what was found and should be mended.
func (a *App) FindingCommand() *cobra.Command {
	c := &cobra.Command{Use: "finding", Short: "What was found and should be mended"}
	c.AddCommand(a.findings(), a.finding(), a.fetchFinding(), a.closeFinding())
	return c
}

func (a *App) findings() *cobra.Command {
	var find, state string
	cmd := &cobra.Command{
		Use: "ls", Short: "List findings, newest first", Args: ui.None,
		Example: "  yamato finding ls\n  yamato finding ls --state open --find wallet",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[contract.FindingList](s.ListFindings(cmd.Context(), s.Project,
				&contract.ListFindingsParams{Q: ui.Optional(find), State: ui.Optional(state)}))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list.Findings) == 0 {
					fmt.Fprintln(a.Out, "Nothing has been found. In a session, keep a mark or a picture and make a finding of it.")
					return
				}
				var rows [][]string
				for _, f := range list.Findings {
					rows = append(rows, []string{strconv.FormatInt(f.Number, 10), f.Title, f.Build,
						f.Model + " " + f.Os, f.FoundBy, ui.Ago(f.At),
						stateOf(f)})
				}
				a.Table([]string{"FINDING", "WHAT", "BUILD", "ON", "WHO", "WHEN", "STATE"}, rows)
			})
		},
	}
	cmd.Flags().StringVar(&find, "find", "", "part of a title, a note, a device, a build, or who found it")
	cmd.Flags().StringVar(&state, "state", "", "only those in a state: open, mended, no fault")
	_ = cmd.RegisterFlagCompletionFunc("state", cobra.FixedCompletions([]string{"open", "mended", "no fault"},
		cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func stateOf(f contract.SeenFault) string {
	if f.MendedIn != nil {
		return "mended in " + *f.MendedIn
	}
	return f.State
}

// toFinding gives the service and a finding's number.
func (a *App) toFinding(ctx context.Context, arg string) (*client.Service, int64, error) {
	n, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || n < 1 {
		return nil, 0, ui.WrongCall{Title: fmt.Sprintf("%q is no finding's number", arg),
			Hint: "`yamato finding ls` lists them"}
	}
	s, err := a.Connect(ctx)
	return s, n, err
}

const findingHint = "name the finding by its number: `yamato finding ls` lists them"

func (a *App) finding() *cobra.Command {
	return &cobra.Command{
		Use: "show FINDING", Short: "One finding: where it was seen, and the way there",
		Example: "  yamato finding show 2",
		Args:    ui.Exactly(1, findingHint),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.toFinding(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			f, err := client.As[contract.SeenFault](s.GetFinding(cmd.Context(), s.Project, n))
			if err != nil {
				return err
			}
			return a.Write(f, func() {
				fmt.Fprintf(a.Out, "Finding %d, %s: %s\n", f.Number, stateOf(f), f.Title)
				if f.Note != "" {
					a.Say(0, "%s", f.Note)
				}
				fmt.Fprintf(a.Out, "%s on %s (%s %s), found by %s\n", f.Build, f.Device, f.Model, f.Os, f.FoundBy)
				if len(f.Surroundings) > 0 {
					a.Say(0, "%s", strings.Join(f.Surroundings, "; "))
				}
				for title, lines := range map[string][]string{"The way there": f.Way} {
					if len(lines) > 0 {
						fmt.Fprintf(a.Out, "\n%s\n  %s\n", title, strings.Join(lines, "\n  "))
					}
				}
				if len(f.Log) > 0 {
					fmt.Fprintf(a.Out, "\nLog around it\n%s\n", strings.Join(f.Log, "\n"))
				}
			})
		},
	}
}

func (a *App) fetchFinding() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use: "fetch FINDING", Short: "Write a finding as Markdown with its pictures, in a zip",
		Example: "  yamato finding fetch 2 --to finding.zip",
		Args:    ui.Exactly(1, findingHint),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.toFinding(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			body, err := s.FindingFile(cmd.Context(), n)
			if err != nil {
				return err
			}
			defer body.Close()
			if to == "" {
				to = fmt.Sprintf("finding-%d.zip", n)
			}
			f, err := os.Create(to)
			if err != nil {
				return err
			}
			_, err = io.Copy(f, body)
			if err = errors.Join(err, f.Close()); err != nil {
				return err
			}
			path, _ := filepath.Abs(to)
			return a.Write(map[string]string{"file": path}, func() { fmt.Fprintln(a.Out, path) })
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "file (default: one named after the finding, here)")
	return cmd
}

func (a *App) closeFinding() *cobra.Command {
	var mended string
	var noFault bool
	cmd := &cobra.Command{
		Use: "settle FINDING", Short: "Say that a finding was mended in a build, or is no fault; with neither it is open again",
		Example: "  yamato finding settle 2 --mended-in 3.2.1\n  yamato finding settle 3 --no-fault",
		Args:    ui.Exactly(1, findingHint),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.toFinding(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if mended != "" && noFault {
				return ui.WrongCall{Title: "either it was mended or it is no fault", Hint: "leave one of them out"}
			}
			state := "open"
			if noFault {
				state = "no fault"
			}
			in := contract.FindingPatch{State: &state}
			if mended != "" {
				in = contract.FindingPatch{MendedIn: &mended}
			}
			f, err := client.As[contract.SeenFault](s.ChangeFinding(cmd.Context(), s.Project, n, in))
			if err != nil {
				return err
			}
			return a.Write(f, func() { fmt.Fprintf(a.Out, "Finding %d is %s.\n", n, stateOf(f)) })
		},
	}
	cmd.Flags().StringVar(&mended, "mended-in", "", "the build that it was mended in, by number or version")
	cmd.Flags().BoolVar(&noFault, "no-fault", false, "it is meant to be so")
	return cmd
}
