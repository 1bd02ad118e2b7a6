package nodecmd

import (
	"fmt"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
)

// hostTokens are the commands for the tokens of hosts.
func (a *App) hostTokens() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Make, list and withdraw the tokens of hosts, each of which speaks for one host"}
	c.AddCommand(a.tokenMake(), a.tokenLs(), a.tokenWithdraw())
	return c
}

func (a *App) tokenMake() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use: "make HOST", Short: "Make a token for a host; it is shown this once, or written to a file",
		Example: "  yamato host token make harbour --file harbour-token",
		Args:    ui.Exactly(1, "name the host: yamato host token make HOST"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var out *os.File
			if file != "" { // before there is a token that would be lost
				var err error
				if out, err = os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err != nil {
					return ui.WrongCall{Title: "the token cannot be kept: " + err.Error(),
						Hint: "name a file that is not there yet"}
				}
				defer out.Close()
			}
			s, err := a.Connect(cmd.Context())
			if err == nil {
				var made contract.NewHostToken
				made, err = client.As[contract.NewHostToken](s.MakeHostToken(cmd.Context(), s.Project,
					contract.MakeHostTokenJSONRequestBody{Host: args[0]}))
				if err == nil {
					return a.tellToken(made, out)
				}
			}
			if out != nil {
				_ = os.Remove(file)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "file to write it to, which must not be there yet")
	return cmd
}

func (a *App) tellToken(made contract.NewHostToken, file *os.File) error {
	if file == nil {
		return a.Write(made, func() {
			fmt.Fprintf(a.Out, "%s\n", made.Token)
			fmt.Fprintf(a.Err, "This is the token of the host %s, shown this once: write it to a file, and name that with `yamato host --token-file FILE`.\n", made.Host)
		})
	}
	if _, err := fmt.Fprintln(file, made.Token); err != nil {
		return err
	}
	if err := file.Sync(); err != nil {
		return err
	}
	return a.Write(map[string]any{"id": made.Id, "host": made.Host, "file": file.Name()}, func() {
		fmt.Fprintf(a.Out, "The token of the host %s is in %s: yamato host --token-file %s\n", made.Host, file.Name(),
			file.Name())
	})
}

func (a *App) tokenLs() *cobra.Command {
	return &cobra.Command{
		Use: "ls", Short: "List the tokens of hosts, without the tokens themselves", Example: "  yamato host token ls",
		Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.HostToken](s.ListHostTokens(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				var rows [][]string
				for _, t := range list {
					host, by, used := "any, once", "the service", "not yet"
					if t.Host != nil {
						host = *t.Host
					}
					if t.MadeBy != nil {
						by = *t.MadeBy
					}
					if t.UsedAt != nil {
						used = ui.Ago(*t.UsedAt)
					} else if t.Shared {
						used = ""
					}
					state := ""
					if t.WithdrawnAt != nil {
						state = "withdrawn " + ui.Ago(*t.WithdrawnAt)
					}
					rows = append(rows, []string{strconv.FormatInt(t.Id, 10), host, ui.Ago(t.MadeAt), by, used, state})
				}
				a.Table([]string{"TOKEN", "HOST", "MADE", "BY", "FIRST USED", ""}, rows)
			})
		},
	}
}

func (a *App) tokenWithdraw() *cobra.Command {
	return ui.Yes(&cobra.Command{
		Use: "withdraw TOKEN", Short: "Withdraw a host's token by its number: its link is cut, and it cannot come with that again",
		Example: "  yamato host token withdraw 4", Args: ui.Exactly(1, "say which by its number: yamato host token ls"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return ui.WrongCall{Title: fmt.Sprintf("%q is no token's number", args[0]),
					Hint: "list them: yamato host token ls"}
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if err := a.Sure(cmd, fmt.Sprintf("Withdraw token %d; its host is cut off", id)); err != nil {
				return err
			}
			t, err := client.As[contract.HostToken](s.WithdrawHostToken(cmd.Context(), s.Project, id))
			if err != nil {
				return err
			}
			return a.Write(t, func() {
				if t.Host == nil {
					fmt.Fprintln(a.Out, "The token that hosts share is withdrawn. Hosts that have one of their own go on; for others make one: yamato host token make HOST")
					return
				}
				fmt.Fprintf(a.Out, "The token is withdrawn, and the link of %s is cut. To let it in again: yamato host token make %s\n", *t.Host, *t.Host)
			})
		},
	})
}
