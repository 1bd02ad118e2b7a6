package fleetcmd

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/host/android"
	"yamato/internal/retry"
)

// connected is what `device connect` writes for programs.
type connected struct {
	Address string `json:"address"`
	State   string `json:"state"` // as the bridge has it: device, unauthorized, offline
}

// deviceConnect has this machine's bridge connect to a phone over the network, and waits until its person has allowed it.
func (a *App) deviceConnect() *cobra.Command {
	var limit time.Duration
	cmd := &cobra.Command{
		Use: "connect HOST:PORT", Short: "Have this machine's debug bridge connect to an Android phone over the network",
		Long: "Have this machine's debug bridge connect to an Android phone over the network, and wait until its person has allowed it.\n" +
			"Run it where the host runs that has the phones (yamato up --phones). To have a phone connected again whenever it is lost, list\n" +
			"it in the site file: `android: {connect: [HOST:PORT]}`.",
		Example: "  yamato device connect 192.0.2.7:5555", Args: ui.Exactly(1, "give the phone's address: yamato device connect HOST:PORT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at := args[0]
			if err := android.CheckAddress(at); err != nil {
				return ui.WrongCall{Title: err.Error(), Hint: "the phone shows its address in Settings, Developer options, Wireless debugging"}
			}
			ctx, stop := context.WithTimeout(cmd.Context(), limit)
			defer stop()
			state, err := a.connectPhone(ctx, at)
			if err != nil {
				return err
			}
			return a.Write(connected{at, state}, func() {
				fmt.Fprintf(a.Out, "%s is connected. A host of this machine's phones finds it by itself: yamato device ls\n", at)
			})
		},
	}
	cmd.Flags().DurationVar(&limit, "timeout", time.Minute, "how long to wait for it, and for its person")
	return cmd
}

func (a *App) connectPhone(ctx context.Context, at string) (state string, err error) {
	var s android.Server
	if err := s.Start(ctx); err != nil {
		return "", err
	}
	if err := s.Connect(ctx, at); err != nil {
		return "", ui.Failed{Title: "the phone cannot be reached: " + err.Error(),
			Hint: "see that it is on, in this network, and that wireless debugging is switched on in its developer options"}
	}
	pause, told := retry.From(100*time.Millisecond, time.Second), false
	for {
		list, err := s.Devices(ctx)
		if err != nil {
			return "", err
		}
		if i := slices.IndexFunc(list, func(d android.Seen) bool { return d.Serial == at }); i >= 0 {
			if state = list[i].State; state == "device" {
				return state, nil
			}
			if state == "unauthorized" && !told {
				told = true
				a.Say(0, "The phone asks on its screen whether this computer may debug it: say yes there.")
			}
		}
		if retry.For(ctx, pause.Next()) != nil {
			return state, ui.Failed{Title: fmt.Sprintf("the phone at %s is not ready: the bridge sees it as %q", at, state),
				Hint: "say yes on its screen, or take it off and connect it again; --timeout waits longer"}
		}
	}
}
