package nodecmd

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
)

func (a *App) ConsoleCommand() *cobra.Command {
	var stay bool
	cmd := &cobra.Command{
		Use: "console", Short: "Open the console in a browser, signed in; or print the link that signs one in",
		Args:    ui.None,
		Example: "  yamato console\n  yamato console --print",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			link, err := ui.SignInLink(cmd.Context(), s, "")
			if err != nil {
				return err
			}
			opened := !stay && ui.OpenBrowser(link)
			return a.Write(map[string]any{"link": link, "opened": opened}, func() {
				fmt.Fprintln(a.Out, link)
				if opened {
					fmt.Fprintln(a.Err, "Opened in your browser.")
				} else {
					fmt.Fprintln(a.Err, "Open it in a browser: it signs that browser in, once, within 15 minutes.")
				}
			})
		},
	}
	cmd.Flags().BoolVar(&stay, "print", false, "print the link only")
	return cmd
}

// serveAndTell serves, and tells where the console is once somebody answers.
func (a *App) serveAndTell(ctx context.Context, n *node, serve func(context.Context) error) error {
	g, inner := errgroup.WithContext(ctx)
	g.Go(func() error { return serve(inner) })
	g.Go(func() error { a.tellConsole(inner, n); return nil })
	return g.Wait()
}

// tellConsole prints where the console is, with a link that signs a browser in.
func (a *App) tellConsole(ctx context.Context, n *node) {
	c, err := client.Open(n.url, n.userToken, n.project)
	if err != nil {
		return
	}
	if link, err := ui.SignInLink(ctx, c, ""); err == nil {
		fmt.Fprintf(a.Out, "\nThe console, signed in once by this link (`yamato console` makes another):\n\n  %s\n",
			link)
	}
}
