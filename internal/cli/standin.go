package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/contract"
)

func (a *app) standinCommand() *cobra.Command {
	c := &cobra.Command{Use: "standin", Short: "Be the hands, or the fate, of a simulated device"}
	deed := func(cmd *cobra.Command, device, what string, count int) error {
		s, err := a.connect(cmd.Context())
		if err != nil {
			return err
		}
		if _, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: "deed", Device: &device, Deed: &what, Count: &count}); err != nil {
			return err
		}
		d, err := a.deviceDetail(cmd.Context(), s, device)
		if err != nil {
			return err
		}
		return a.write(d.Device, func() {
			fmt.Fprintf(a.out, "%s is %s\n", device, strings.TrimSuffix(d.Device.State+": "+deref(d.Device.Reason), ": "))
		})
	}
	do := &cobra.Command{
		Use: "do DEVICE DEED", Short: "Do to a stand-in what hands do to a phone: plug-in, unlock, allow-always …", Example: "  yamato standin do kaede-mini-r1 plug-in\n  yamato standin do kaede-7-lite-r1 \"remove-app example.tideline\"",
		Args: exactly(2, "name the device and the deed; docs/stand-ins.md lists the deeds"), ValidArgsFunction: a.complete(completeDevices),
		RunE: func(cmd *cobra.Command, args []string) error { return deed(cmd, args[0], args[1], 0) },
	}
	var times int
	var always, never bool
	trouble := &cobra.Command{
		Use: "trouble DEVICE TROUBLE", Short: "Switch a trouble of a stand-in on or off: black, hang, cable, dialog …", Example: "  yamato standin trouble kaede-7-2 black --always\n  yamato standin trouble kaede-7-r1 cable",
		Args: exactly(2, "name the device and the trouble; docs/stand-ins.md lists the troubles"), ValidArgsFunction: a.complete(completeDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			if always {
				times = -1
			}
			if never {
				times = 0
			}
			return deed(cmd, args[0], "trouble "+args[1], times)
		},
	}
	trouble.Flags().IntVar(&times, "times", 1, "how often it happens from now on")
	trouble.Flags().BoolVar(&always, "always", false, "it happens every time")
	trouble.Flags().BoolVar(&never, "never", false, "it happens no more")
	c.AddCommand(do, trouble)
	return c
}
