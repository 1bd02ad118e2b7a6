package nodecmd

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"runtime"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
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
			link, err := signInLink(cmd.Context(), s)
			if err != nil {
				return err
			}
			opened := !stay && openBrowser(link)
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

// signInLink makes a link that signs one browser in. The code is in the fragment,
// which browsers send to nobody: no log and no referrer gets to see it.
func signInLink(ctx context.Context, s *client.Service) (string, error) {
	in, err := client.As[contract.SignIn](s.MakeSignIn(ctx))
	return s.Base() + "/sign-in#" + in.Code, err
}

// openBrowser opens a link in the browser of whoever sits at this machine, if
// somebody does.
func openBrowser(link string) bool {
	var opener string
	switch {
	case os.Getenv("BROWSER") != "":
		opener = os.Getenv("BROWSER")
	case runtime.GOOS == "darwin":
		opener = "open"
	case os.Getenv("DISPLAY") != "" || os.Getenv("WAYLAND_DISPLAY") != "":
		opener = "xdg-open"
	default:
		return false
	}
	return exec.Command(opener, link).Start() == nil // it lives on by itself
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
	if link, err := signInLink(ctx, c); err == nil {
		fmt.Fprintf(a.Out, "\nThe console, signed in once by this link (`yamato console` makes another):\n\n  %s\n",
			link)
	}
}
