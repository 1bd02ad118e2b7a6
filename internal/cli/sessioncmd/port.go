package sessioncmd

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net"
	"slices"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
)

func (a *App) port() *cobra.Command {
	var listen string
	cmd := &cobra.Command{
		Use: "join SESSION", Short: "Let your own debugger reach the app in a session's device, until Ctrl-C or its end",
		Long: "join listens on this machine and passes each connection on to the debug port of the app\nin front. It is closed with the " +
			"session's lease. Handsets have such a port.",
		Example: "  yamato session join 3 --listen 127.0.0.1:9333", Args: ui.Exactly(1, sessionHint),
		ValidArgsFunction: a.Complete(completeSessions),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connect(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := hasPort(cmd.Context(), s, n); err != nil {
				return err
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return ui.WrongCall{Title: err.Error(), Hint: "choose another address with --listen"}
			}
			fmt.Fprintf(a.Out, "The app's debug port is at %s until Ctrl-C.\n", l.Addr())
			return a.passOn(cmd.Context(), s, n, l)
		},
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "address to listen on; on loopback it is yours alone")
	return cmd
}

// debugPort is the ability to let a debugger in (docs/abilities.md).
const debugPort = "debug port"

// hasPort refuses a session whose device lets no debugger in, before anybody comes.
func hasPort(ctx context.Context, s *client.Service, n int64) error {
	one, err := client.As[contract.Session](s.GetSession(ctx, s.Project, n, nil))
	if err != nil || one.Device == nil || one.State != "open" {
		return cmp.Or(err, error(ui.WrongCall{Title: fmt.Sprintf("session %d has no device now", n),
			Hint: "wait until it is open: `yamato session ls`"}))
	}
	d, err := client.As[contract.DeviceDetail](s.GetDevice(ctx, s.Project, *one.Device))
	if err != nil {
		return err
	}
	if !slices.Contains(d.Device.Abilities, debugPort) {
		return ui.WrongCall{Title: *one.Device + " has no port for debuggers",
			Hint: "handsets have one (docs/handsets.md); here `yamato session do` and the session's page see into the app"}
	}
	return nil
}

// passOn passes connections on until ctx ends.
func (a *App) passOn(ctx context.Context, s *client.Service, n int64, l net.Listener) error {
	g, ctx := errgroup.WithContext(ctx)
	defer context.AfterFunc(ctx, func() { _ = l.Close() })()
	g.Go(func() error {
		for {
			c, err := l.Accept()
			if err != nil {
				return ctx.Err() // it was closed
			}
			g.Go(func() error {
				if err := passOne(ctx, s, n, c); err != nil && ctx.Err() == nil {
					fmt.Fprintf(a.Err, "A connection was not joined: %v\n", err)
				}
				return nil
			})
		}
	})
	return g.Wait()
}

func passOne(ctx context.Context, s *client.Service, n int64, mine net.Conn) error {
	defer mine.Close()
	there, err := s.Port(ctx, n)
	if err != nil {
		return err
	}
	defer there.Close()
	defer context.AfterFunc(ctx, func() { _ = mine.Close(); _ = there.Close() })()
	var g errgroup.Group
	for _, way := range [][2]net.Conn{{mine, there}, {there, mine}} {
		g.Go(func() error {
			_, err := io.Copy(way[0], way[1])
			_, _ = mine.Close(), there.Close() // what one end has closed is over for both
			return err
		})
	}
	_ = g.Wait() // how an end closed is of no use to anybody
	return nil
}
