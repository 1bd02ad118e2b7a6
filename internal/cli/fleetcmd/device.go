package fleetcmd

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/cli/buildcmd"
	"yamato/internal/cli/runcmd"
	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/report"
)

func (a *App) DeviceCommand() *cobra.Command {
	c := &cobra.Command{Use: "device", Short: "See the fleet, and look after its devices"}
	var site, state, platform, kind, find string
	ls := &cobra.Command{
		Use: "ls", Short: "List devices and what each does now",
		Example: "  yamato device ls\n  yamato device ls --state unready\n  yamato device ls --find \"Kaede 7\" " +
			"--kind real", Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.Device](s.ListDevices(cmd.Context(), s.Project,
				&contract.ListDevicesParams{Q: ui.Optional(find), Site: ui.Optional(site), State: ui.Optional(state),
					Platform: ui.Optional(platform), Kind: ui.Optional(kind)}))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list) == 0 && site+state+platform+kind+find != "" {
					fmt.Fprintln(a.Out, "No devices are like that.")
					return
				}
				a.showDevices(list)
			})
		},
	}
	f := ls.Flags()
	f.StringVar(&find, "find", "", "part of a name, a model, a site, a label or an OS version")
	f.StringVar(&site, "site", "", "only those of a site")
	f.StringVar(&state, "state", "", "only those in a state: "+strings.Join(deviceStates, ", "))
	f.StringVar(&platform, "platform", "", "only those of a platform: android or ios")
	f.StringVar(&kind, "kind", "", "only emulators, simulators or real ones: emulator, simulator, real")
	_ = ls.RegisterFlagCompletionFunc("state", cobra.FixedCompletions(deviceStates, cobra.ShellCompDirectiveNoFileComp))
	_ = ls.RegisterFlagCompletionFunc("platform", cobra.FixedCompletions([]string{"android", "ios"},
		cobra.ShellCompDirectiveNoFileComp))
	_ = ls.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions([]string{"emulator", "simulator", "real"},
		cobra.ShellCompDirectiveNoFileComp))
	c.AddCommand(ls, a.deviceConnect(), a.deviceShow(), a.deviceLook(), a.deviceCheck(), a.deviceMake(),
		a.deviceDo("boot", "Boot virtual devices, and wait until they are up"),
		a.deviceDo("halt", "Switch virtual devices off"),
		a.deviceDo("empty", "Put virtual devices back to how they were made"),
		a.deviceDo("remove", "Remove virtual devices"), a.deviceSideline(), a.deviceRestore())
	return c
}

var deviceStates = []string{"idle", "leased", "resetting", "booting", "halted", "unready", "sidelined", "offline"}

func (a *App) showDevices(list []contract.Device) {
	if len(list) == 0 {
		fmt.Fprintln(a.Out, "No devices yet. Start a host: yamato host --site FILE")
		return
	}
	var rows [][]string
	for _, d := range list {
		doing := d.State
		if d.Run != nil {
			doing += fmt.Sprintf(" (run %d)", *d.Run)
		} else if r := ui.Deref(d.Reason); r != "" {
			doing += ": " + r
		}
		rows = append(rows, []string{d.Name, d.Site, d.Model + ", " + platformOS(d) + ", " + d.Kind,
			fmt.Sprintf("%dx%d", d.Width, d.Height), fmt.Sprintf("%.0f GB", float64(d.MemoryMb)/1024), doing})
	}
	a.Table([]string{"DEVICE", "SITE", "WHAT IT IS", "SCREEN DP", "MEMORY", "STATE"}, rows)
}

func platformOS(d contract.Device) string { return fleet.SystemName(d.Platform, d.Os) }

func (a *App) deviceLook() *cobra.Command {
	var builds []string
	var appName, language, to string
	cmd := &cobra.Command{
		Use: "look DEVICE", Short: "Show what is on a device's screen now; with a build, start that app first",
		Example:           "  yamato device look kaede-7-1\n  yamato device look kaede-7-1 --build 3.2.0",
		Args:              ui.Exactly(1, "name the device: yamato device look kaede-7-1 --build 3.2.0"),
		ValidArgsFunction: a.Complete(ui.CompleteDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if len(builds) == 0 {
				return a.seeScreen(cmd.Context(), s, args[0], to)
			}
			build, err := buildcmd.Of(a.App).BuildRef(cmd.Context(), s, builds, &appName)
			if err != nil {
				return err
			}
			return a.look(cmd.Context(), s, args[0], contract.NewLook{Build: build, App: ui.Optional(appName),
				Language: ui.Optional(language)}, to)
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&builds, "build", nil, "build, by number or version, or package files to hand in (default: "+
		"start nothing, look at the screen as it is)")
	f.StringVar(&appName, "app", "", "app, by name or application id, where a build's name does not tell")
	f.StringVar(&language, "language", "", "language of the device, as in BCP 47 (default en-GB)")
	f.StringVar(&to, "to", "", "folder for the picture and the tree (default: a new one for temporary files)")
	_ = cmd.RegisterFlagCompletionFunc("build", a.Complete(ui.CompleteBuilds))
	return cmd
}

// lookResult is what a look found.
type lookResult struct {
	Device  string          `json:"device"`
	Picture string          `json:"picture"`
	Tree    json.RawMessage `json:"tree"`
}

func (a *App) look(ctx context.Context, s *client.Service, device string, in contract.NewLook, to string) error {
	key := client.NewKey()
	run, err := client.As[contract.Run](s.LookAtDevice(ctx, s.Project, device,
		&contract.LookAtDeviceParams{IdempotencyKey: key}, in))
	if err != nil {
		return err
	}
	if err := runcmd.Of(a.App).Await(ctx, s, run, runcmd.Watch{Cancels: true}); err != nil {
		return err
	}
	if to == "" {
		if to, err = os.MkdirTemp("", "yamato-look-"); err != nil {
			return err
		}
	}
	result, err := a.fetchLook(ctx, s, run.Number, device, to)
	if err != nil {
		return err
	}
	return a.showLook(result)
}

// seeScreen shows a device's screen as it is, whatever the device does.
func (a *App) seeScreen(ctx context.Context, s *client.Service, device, to string) error {
	seen, err := client.As[contract.Screen](s.SeeScreen(ctx, s.Project, device))
	if err != nil {
		return err
	}
	if to == "" {
		if to, err = os.MkdirTemp("", "yamato-look-"); err != nil {
			return err
		}
	} else if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	result := lookResult{Device: device, Picture: filepath.Join(to, device+".png")}
	if result.Tree, err = json.Marshal(seen.Tree); err != nil {
		return err
	}
	for path, body := range map[string][]byte{result.Picture: seen.Picture,
		filepath.Join(to, device+".json"): result.Tree} {
		if err := os.WriteFile(path, body, 0o644); err != nil {
			return err
		}
	}
	return a.showLook(result)
}

func (a *App) showLook(result lookResult) error {
	var tree screen.Tree
	if err := json.Unmarshal(result.Tree, &tree); err != nil {
		return fmt.Errorf("the screen tree cannot be read: %w", err)
	}
	return a.Write(result, func() {
		fmt.Fprintf(a.Out, "%s  %s\n\n", a.Ink().Strong(result.Device), result.Picture)
		rows, hidden := treeRows(&tree)
		a.Table([]string{"ROLE", "NAME", "ID", "BOUNDS", ""}, rows)
		if hidden > 0 {
			fmt.Fprintf(a.Out, "\n%s more out of sight; --output json lists them too.\n", ui.Plural(hidden, "element"))
		}
	})
}

func (a *App) fetchLook(ctx context.Context, s *client.Service, run int64, device, to string) (lookResult, error) {
	out := lookResult{Device: device}
	list, err := client.As[[]contract.Evidence](s.ListEvidence(ctx, s.Project, run))
	if err != nil {
		return out, err
	}
	for _, e := range list {
		if e.Name != "screen" {
			continue
		}
		path := filepath.Join(to, device+report.Extension(e.MediaType))
		if err := runcmd.SaveEvidence(ctx, s, run, e, path); err != nil {
			return out, err
		}
		if e.Sort == evidence.Picture.Name {
			out.Picture = path
		} else if out.Tree, err = os.ReadFile(path); err != nil {
			return out, err
		}
	}
	if out.Picture == "" {
		d, err := runcmd.Of(a.App).Detail(ctx, s, run)
		if err != nil {
			return out, err
		}
		return out, ui.WrongCall{Title: "there is nothing to look at: " + whyNot(d), Hint: ""}
	}
	return out, nil
}

// whyNot tells why a look came back empty.
func whyNot(d contract.RunDetail) string {
	for _, l := range d.Legs {
		for _, c := range l.Cases {
			for _, r := range c.Results {
				if r.Failure != nil {
					if actual, ok := (*r.Failure)["actual"].(string); ok {
						return actual
					}
				}
			}
		}
		for _, t := range l.Attempts {
			if t.Trouble != nil {
				return *t.Trouble
			}
		}
	}
	return "the look was " + d.Run.State
}

// treeRows gives the elements that can be seen and say something, indented by
// depth, and how many there are that cannot be seen.
func treeRows(t *screen.Tree) (rows [][]string, hidden int) {
	depths := []int{}
	collapsed := -1 // depth of the element whose plain texts are told with it
	t.Walk(func(n *screen.Node, depth int) bool {
		for len(depths) > 0 && depths[len(depths)-1] >= depth {
			depths = depths[:len(depths)-1]
		}
		if n.Role == "" && n.ID == "" && n.Label() == "" {
			return true
		}
		if !n.OnScreen() {
			hidden++
			return true
		}
		if collapsed >= 0 && depth > collapsed && n.ID == "" && (n.Role == "" || n.Role == "img") {
			return true // told with what it lies in
		}
		collapsed = -1
		label := n.Label()
		if said := texts(n); len(said) > 0 {
			collapsed = depth
			if label == "" {
				label = strings.Join(said, " | ")
			}
		}
		depths = append(depths, depth)
		role := n.Role
		if role == "" {
			role = "text"
		}
		b := n.Bounds
		rows = append(rows, []string{strings.Repeat("  ", len(depths)-1) + role, ui.Short(label, 60), hash(n.ID),
			fmt.Sprintf("%.0f,%.0f %.0fx%.0f", b.X, b.Y, b.W, b.H), states(n)})
		return true
	})
	return rows, hidden
}

// texts gives what is written in an element that holds nothing but texts and
// pictures without ids of their own; nothing where it holds more.
func texts(n *screen.Node) []string {
	var out []string
	for _, c := range n.Children {
		if c.ID != "" || c.Role != "" && c.Role != "img" {
			return nil
		}
		if c.Text != "" {
			out = append(out, c.Text)
		} else if len(c.Children) > 0 {
			inner := texts(c)
			if inner == nil {
				return nil
			}
			out = append(out, inner...)
		}
	}
	return out
}

func states(n *screen.Node) string {
	var out []string
	for name, on := range map[string]bool{"disabled": n.Disabled, "focused": n.Focused, "selected": n.Selected,
		"busy": n.Busy} {
		if on {
			out = append(out, name)
		}
	}
	return strings.Join(out, " ")
}

func hash(id string) string {
	if id == "" {
		return ""
	}
	return "#" + id
}
