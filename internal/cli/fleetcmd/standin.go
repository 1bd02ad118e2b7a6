package fleetcmd

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/pack"
)

func (a *App) StandinCommand() *cobra.Command {
	c := &cobra.Command{Use: "standin", Short: "Be the hands, or the fate, of a simulated device; pack apps for them",
		Example: "  yamato standin ls\n  yamato standin trouble kaede-7-2 black --always\n  yamato standin pack " +
			"my-app/"}
	do := &cobra.Command{
		Use: "do DEVICE DEED", Short: "Do to a stand-in what hands do to a phone: plug-in, unlock, allow-always …",
		Example: "  yamato standin do kaede-mini-r1 plug-in\n  yamato standin do kaede-7-lite-r1 " +
			"\"remove-app example.tideline\"",
		Args:              ui.Exactly(2, "name the device and the deed; `yamato standin ls` lists the deeds"),
		ValidArgsFunction: a.completeDeed(false),
		RunE:              func(cmd *cobra.Command, args []string) error { return a.deed(cmd, args[0], args[1], 0) },
	}
	var times int
	var always, never bool
	trouble := &cobra.Command{
		Use: "trouble DEVICE TROUBLE", Short: "Switch a trouble of a stand-in on or off: black, hang, cable, " +
			"dialog …",
		Example: "  yamato standin trouble kaede-7-2 black --always\n  yamato standin trouble kaede-7-2 " +
			"black --never\n  yamato standin trouble kaede-7-r1 cable",
		Args:              ui.Exactly(2, "name the device and the trouble; `yamato standin ls` lists the troubles"),
		ValidArgsFunction: a.completeDeed(true),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := ui.Within("times", times, 1, 1_000_000); err != nil {
				return err
			}
			if always && never || (always || never) && cmd.Flags().Changed("times") {
				return ui.WrongCall{Title: "--times, --always and --never exclude each other", Hint: "give one of them"}
			}
			n := times
			if always {
				n = -1
			}
			if never {
				n = 0
			}
			return a.deed(cmd, args[0], "trouble "+args[1], n)
		},
	}
	trouble.Flags().IntVar(&times, "times", 1, "how often it happens from now on")
	trouble.Flags().BoolVar(&always, "always", false, "it happens every time")
	trouble.Flags().BoolVar(&never, "never", false, "it happens no more")
	c.AddCommand(do, trouble, a.standinLs(), a.standinPack(), a.standinPhone(), a.standinEmulator())
	return c
}

func (a *App) deed(cmd *cobra.Command, device, what string, count int) error {
	s, err := a.Connect(cmd.Context())
	if err != nil {
		return err
	}
	before, err := a.deviceDetail(cmd.Context(), s, device)
	if err != nil {
		return err
	}
	if no := standin.Refuses(fleet.Device{Kind: before.Device.Kind, Platform: before.Device.Platform},
		what); no != nil {
		return ui.WrongCall{Title: no.Why, Hint: ui.First(no.Remedy,
			"`yamato standin ls "+device+"` lists what can be")}
	}
	if _, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: "deed", Device: &device, Deed: &what,
		Count: &count}); err != nil {
		return err
	}
	d, err := a.deviceDetail(cmd.Context(), s, device)
	if err != nil {
		return err
	}
	return a.Write(d.Device, func() {
		a.Say(2, "%s is %s", device, strings.TrimSuffix(d.Device.State+": "+ui.Deref(d.Device.Reason), ": "))
	})
}

// sorts are a device of each sort that deeds tell apart.
var sorts = []struct {
	name   string
	device fleet.Device
}{
	{"emulator", fleet.Device{Kind: fleet.Emulator, Platform: "android"}},
	{"simulator", fleet.Device{Kind: fleet.Simulator, Platform: "ios"}},
	{"Android phone", fleet.Device{Kind: fleet.Real, Platform: "android"}},
	{"iOS phone", fleet.Device{Kind: fleet.Real, Platform: "ios"}},
}

func (a *App) standinLs() *cobra.Command {
	type row struct {
		Name string   `json:"name"`
		Does string   `json:"does"`
		To   []string `json:"to"`
	}
	return &cobra.Command{
		Use: "ls [DEVICE]", Short: "List what can be done to stand-ins, and what can befall them; of one device, or " +
			"of each kind", Example: "  yamato standin ls\n  yamato standin ls kaede-7-r1",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return ui.WrongCall{Title: "name one device, or none", Hint: "`yamato standin ls` lists all"}
			}
			return nil
		},
		ValidArgsFunction: a.Complete(ui.CompleteDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			of := sorts
			if len(args) == 1 {
				s, err := a.Connect(cmd.Context())
				if err != nil {
					return err
				}
				d, err := a.deviceDetail(cmd.Context(), s, args[0])
				if err != nil {
					return err
				}
				of = of[:0:0]
				of = append(of, struct {
					name   string
					device fleet.Device
				}{args[0], fleet.Device{Kind: d.Device.Kind, Platform: d.Device.Platform}})
			}
			var list []row
			at := map[string]int{}
			for _, k := range of {
				for _, d := range standin.DeedsOf(k.device) {
					i, ok := at[d.Name]
					if !ok {
						i = len(list)
						at[d.Name] = i
						list = append(list, row{Name: d.Name, Does: d.Does})
					}
					list[i].To = append(list[i].To, k.name)
				}
			}
			return a.Write(list, func() {
				var rows [][]string
				for _, trouble := range []bool{false, true} {
					for _, r := range list {
						if strings.HasPrefix(r.Name, "trouble ") != trouble {
							continue
						}
						to := strings.Join(r.To, ", ")
						if len(of) > 1 && len(r.To) == len(of) {
							to = "any"
						}
						rows = append(rows, []string{r.Name, r.Does, to})
					}
				}
				a.Table([]string{"DEED OR TROUBLE", "WHAT IT DOES", "TO"}, rows)
			})
		},
	}
}

// completeDeed offers devices, and then what can be done to the one that was chosen.
func (a *App) completeDeed(troubles bool) ui.Completion {
	return func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 {
			return a.Complete(ui.CompleteDevices)(cmd, args, word)
		}
		var out []string
		seen := map[string]bool{}
		for _, k := range sorts {
			for _, d := range standin.DeedsOf(k.device) {
				name, is := strings.CutPrefix(d.Name, "trouble ")
				if is == troubles && !seen[name] {
					seen[name] = true
					out = append(out, name+"\t"+d.Does)
				}
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *App) standinPack() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use: "pack DIR", Short: "Pack an app for stand-ins: app.yaml says what it is, app.js is its program",
		Long: "Pack an app for stand-ins. DIR holds app.yaml (what the app is, and which kinds of package " +
			"are\nmade), app.js (its program), and, where there are such, texts.yaml (its texts by key " +
			"and\nlanguage) " +
			"and icon.png. docs/stand-ins.md says all that a program may use.",
		Example: "  yamato standin pack my-app/\n  yamato standin pack my-app/ --to packages/",
		Args:    ui.Exactly(1, "name the folder: yamato standin pack DIR"), ValidArgsFunction: func(*cobra.Command,
			[]string,
			string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		},
		RunE: func(_ *cobra.Command, args []string) error {
			list, err := pack.Folder(os.DirFS(args[0]), time.Now())
			if err != nil {
				return ui.WrongCall{Title: filepath.Join(args[0]) + ": " + err.Error(),
					Hint: "docs/stand-ins.md says what the folder holds"}
			}
			dir := ui.First(to, filepath.Join(args[0], "packages"))
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return ui.WrongCall{Title: "the folder for the packages cannot be made: " + err.Error(), Hint: ""}
			}
			var paths []string
			for _, p := range list {
				path := filepath.Join(dir, p.File)
				if err := renameio.WriteFile(path, p.Data, 0o644); err != nil {
					return ui.WrongCall{Title: "the package cannot be written: " + err.Error(), Hint: ""}
				}
				paths = append(paths, path)
			}
			return a.Write(paths, func() {
				for _, p := range paths {
					fmt.Fprintln(a.Out, p)
				}
				a.Say(2, "Hand them in: yamato build push %s", strings.Join(paths, " "))
			})
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "folder for the packages (default: packages in DIR)")
	return cmd
}
