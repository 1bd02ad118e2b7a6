package fleetcmd

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
)

// errandPatience bounds how long a command waits for a host.
const errandPatience = 20 * time.Minute

// carryOut asks a host to do something and waits until it is done, telling how the
// device, or the image, gets on.
func (a *App) carryOut(ctx context.Context, s *client.Service, in contract.NewErrand) (contract.Errand, error) {
	e, err := client.As[contract.Errand](s.DoErrand(ctx, s.Project, &contract.DoErrandParams{IdempotencyKey: client.NewKey()}, in))
	if err != nil {
		return e, err
	}
	ctx, stop := context.WithTimeout(ctx, errandPatience)
	defer stop()
	said := ""
	for wait := 300; e.DoneAt == nil; wait = 2000 {
		if e, err = client.As[contract.Errand](s.GetErrand(ctx, s.Project, e.Id,
			&contract.GetErrandParams{WaitMs: &wait})); err != nil {
			return e, err
		}
		if now := a.progressOf(ctx, s, e); e.DoneAt == nil && now != "" && now != said && a.Animated() {
			fmt.Fprintln(a.Err, now)
			said = now
		}
	}
	if e.Trouble != nil {
		return e, ui.Failed{Title: *e.Trouble, Hint: ui.Deref(e.Remedy)}
	}
	return e, nil
}

// progressOf says how far an errand has got.
func (a *App) progressOf(ctx context.Context, s *client.Service, e contract.Errand) string {
	if e.Image != nil && e.What == "fetch" {
		sites, err := a.sites(ctx, s)
		if err != nil {
			return ""
		}
		for _, site := range sites {
			for _, i := range site.Images {
				if i.Name == *e.Image && i.State == fleet.ImageFetching {
					return fmt.Sprintf("%s: %d of %d MB", i.Name, i.FetchedMb, i.SizeMb)
				}
			}
		}
		return ""
	}
	r, err := client.As[contract.DeviceDetail](s.GetDevice(ctx, s.Project, e.Device))
	if err != nil {
		return ""
	}
	d := r.Device
	return e.Device + ": " + strings.TrimSuffix(d.State+", "+ui.Deref(d.Reason), ", ")
}

func (a *App) deviceDo(what, short string) *cobra.Command {
	cmd := &cobra.Command{
		Use: what + " DEVICE…", Short: short, Example: "  yamato device " + what + " kaede-7-1",
		Args:              ui.AtLeast(1, "name the devices: yamato device "+what+" kaede-7-1"),
		ValidArgsFunction: a.Complete(ui.CompleteDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if what == "remove" || what == "empty" {
				if err := a.Sure(cmd, fmt.Sprintf("%s %s; what is on it is gone for good", plain.Capital(what),
					plain.Some(args, 5))); err != nil {
					return err
				}
			}
			var done []contract.Errand
			for _, name := range args {
				e, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: what, Device: &name})
				if err != nil {
					return err
				}
				done = append(done, e)
			}
			words := map[string]string{"boot": "is up", "halt": "is halted", "empty": "is as it was made",
				"remove": "was removed"}
			return a.Write(done, func() {
				for _, e := range done {
					fmt.Fprintln(a.Out, e.Device, words[what])
				}
			})
		},
	}
	if what == "remove" || what == "empty" {
		return ui.Yes(cmd)
	}
	return cmd
}

func (a *App) deviceMake() *cobra.Command {
	var name, image, site string
	var boot bool
	var count int
	cmd := &cobra.Command{
		Use: "make MODEL", Short: "Make a virtual device of a model: the newest image that is there, a name proposed",
		Example: "  yamato device make \"Kaede 7\" --boot\n  yamato device make \"Minato Fold\" --os \"Android 15\" " +
			"--name fold-for-maps",
		Args:              ui.Exactly(1, "name the model: yamato device make \"Kaede 7\""),
		ValidArgsFunction: a.Complete(ui.CompleteModels),
		RunE: func(cmd *cobra.Command, args []string) error {
			if count < 1 || count > 50 || count > 1 && name != "" {
				return ui.WrongCall{Title: "--count is 1 to 50, and several devices have names proposed", Hint: ""}
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			var made []contract.Errand
			for range count {
				e, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: "make", Model: &args[0],
					Device: ui.Optional(name),
					Image:  ui.Optional(image), Site: ui.Optional(site), Boot: &boot})
				if err != nil {
					return err
				}
				made = append(made, e)
			}
			return a.Write(made, func() {
				for _, e := range made {
					fmt.Fprintf(a.Out, "%s was made: %s, %s\n", a.Ink().Strong(e.Device), args[0], ui.Deref(e.Image))
					if !boot {
						fmt.Fprintf(a.Out, "Boot it: yamato device boot %s\n", e.Device)
					}
				}
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&name, "name", "", "name of the device (default: the model's with the next number)")
	f.StringVar(&image, "os", "", `OS image, as in "Android 15" (default: the newest that is there)`)
	f.StringVar(&site, "site", "", "site, where several offer the model")
	f.BoolVar(&boot, "boot", false, "boot it as well")
	f.IntVar(&count, "count", 1, "how many")
	return cmd
}

func (a *App) deviceShow() *cobra.Command {
	var bootLog bool
	cmd := &cobra.Command{
		Use: "show DEVICE", Short: "Show one device: what it is, how it is, and what it did last",
		Example:           "  yamato device show kaede-7-1\n  yamato device show kaede-7-2 --boot-log",
		Args:              ui.Exactly(1, "name the device: yamato device show kaede-7-1"),
		ValidArgsFunction: a.Complete(ui.CompleteDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			d, err := a.deviceDetail(cmd.Context(), s, args[0])
			if err != nil {
				return err
			}
			if bootLog {
				return a.showBootLog(cmd.Context(), s, d.Device)
			}
			return a.Write(d, func() { a.showDevice(d) })
		},
	}
	cmd.Flags().BoolVar(&bootLog, "boot-log", false, "what the boot wrote that it was given up after")
	return cmd
}

// maxBootLog bounds, in bytes, how much of a boot log is read.
const maxBootLog = 4 << 20

func (a *App) showBootLog(ctx context.Context, s *client.Service, d contract.Device) error {
	if d.Sideline == nil || d.Sideline.Log == nil {
		return ui.WrongCall{Title: d.Name + " has no boot log: one is kept where a boot was given up",
			Hint: "yamato device show " + d.Name + " tells how it is"}
	}
	content, err := s.Remains(ctx, d.Name, "log")
	if err != nil {
		return err
	}
	defer content.Close()
	log, err := io.ReadAll(io.LimitReader(content, maxBootLog))
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimRight(string(log), "\n"), "\n")
	return a.Write(map[string]any{"device": d.Name, "lines": lines}, func() {
		for _, line := range lines {
			fmt.Fprintln(a.Out, line)
		}
	})
}

func (a *App) deviceDetail(ctx context.Context, s *client.Service, name string) (contract.DeviceDetail, error) {
	return client.As[contract.DeviceDetail](s.GetDevice(ctx, s.Project, name))
}

func (a *App) showDevice(out contract.DeviceDetail) {
	d := out.Device
	state := d.State
	if d.Run != nil {
		state += fmt.Sprintf(" (run %d)", *d.Run)
	} else if d.Reason != nil {
		state += ": " + *d.Reason
	}
	fmt.Fprintf(a.Out, "%s  %s, %s, %s, at %s\n", a.Ink().Strong(d.Name), d.Model, platformOS(d), d.Kind, d.Site)
	line := func(name, value string) {
		if value != "" {
			a.Say(15, "  %-12s %s", name, value)
		}
	}
	line("state", state+", since "+lasting(d.Since))
	line("screen", fmt.Sprintf("%d x %d dp, %s", d.Width, d.Height, d.Form))
	line("memory", fmt.Sprintf("%.0f GB", float64(d.MemoryMb)/1024))
	if n := ui.Deref(d.TakesMb); n > 0 {
		line("takes", fmt.Sprintf("%.1f GB of its host while it is up", float64(n)/1024))
	}
	line("traits", strings.Join(d.Traits, ", "))
	line("abilities", strings.Join(d.Abilities, ", "))
	line("hardware id", ui.Deref(d.HardwareId))
	line("labels", strings.Join(ui.Deref(d.Labels), ", "))
	line("owner", ui.Deref(d.Owner))
	if u := d.Use; u != nil {
		line("may use it", strings.Join(append(slices.Clone(u.People), ui.First(ui.Deref(u.Hours),
			"always")+" "+ui.Deref(u.Zone)),
			", "))
	}
	for _, i := range ui.Deref(d.Installed) {
		line("installed", fmt.Sprintf("%s (%s), signed by %.12s…", i.Id, i.VersionCode, i.Signer))
	}
	if side := d.Sideline; side != nil {
		line("sidelined", fmt.Sprintf("by %s, %s: %s", side.By, ui.Ago(side.At), side.Reason))
		if side.Until != nil {
			line("", "until "+ui.Moment(*side.Until))
		}
		if side.ProbeAt != nil {
			line("", "tried again at "+ui.Moment(*side.ProbeAt))
		}
		line("", ui.Deref(side.Remedy))
		if side.Log != nil {
			line("", "its boot log: yamato device show "+d.Name+" --boot-log")
		}
	}
	if checks := ui.Deref(d.Checks); len(checks) > 0 {
		fmt.Fprintln(a.Out)
		a.showChecks(checks)
	}
	if len(out.History) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n%s, %s of its own:\n", ui.Plural(len(out.History), "lease"),
		ui.Plural(out.Troubles, "trouble"))
	var rows [][]string
	for _, t := range out.History[:min(len(out.History), 10)] {
		what := fmt.Sprintf("run %d", t.Run)
		if t.Purpose == "look" {
			what = "a look"
		}
		rows = append(rows, []string{"  " + what, t.App + " " + t.VersionName, tallied(t), ui.Ago(t.Began),
			ui.Short(ui.Deref(t.Trouble), 70)})
	}
	a.Table([]string{"  WHAT", "BUILD", "CASES", "BEGAN", "TROUBLE"}, rows)
}

// lasting says since when something is so.
func lasting(t time.Time) string {
	if d := time.Since(t); d < time.Minute {
		return "a moment ago"
	}
	return ui.Ago(t)
}

func tallied(t contract.Stint) string {
	var out []string
	for _, one := range []struct {
		n    int
		what string
	}{{t.Passed, "passed"}, {t.Failed, "failed"}, {t.Errors, "error"}, {t.Skipped, "skipped"}} {
		if one.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", one.n, one.what))
		}
	}
	return strings.Join(out, ", ")
}

func (a *App) showChecks(list []contract.Check) {
	for _, c := range list {
		if c.Ok {
			fmt.Fprintf(a.Out, "  %s %s\n", a.Ink().Faint("○"), c.Title)
			continue
		}
		a.Say(4, "  %s %s: %s", a.Ink().Petrol("▲"), a.Ink().Strong("Not so: "+c.Title), ui.Deref(c.Why))
		a.Say(6, "      %s", ui.Deref(c.Remedy))
	}
}

func (a *App) deviceCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check DEVICE", Short: "Check whether a device is ready, and say what to do where it is not",
		Example:           "  yamato device check kaede-mini-r1",
		Args:              ui.Exactly(1, "name the device: yamato device check kaede-mini-r1"),
		ValidArgsFunction: a.Complete(ui.CompleteDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if _, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: "check", Device: &args[0]}); err != nil {
				return err
			}
			d, err := a.deviceDetail(cmd.Context(), s, args[0])
			if err != nil {
				return err
			}
			bad := slices.ContainsFunc(ui.Deref(d.Device.Checks), func(c contract.Check) bool { return !c.Ok })
			err = a.Write(d.Device, func() {
				fmt.Fprintf(a.Out, "%s, %s, %s: %s\n", a.Ink().Strong(d.Device.Name), d.Device.Model,
					platformOS(d.Device),
					d.Device.State)
				if len(ui.Deref(d.Device.Checks)) == 0 {
					fmt.Fprintln(a.Out, "  There is nothing to check while it is "+d.Device.State+".")
				}
				a.showChecks(ui.Deref(d.Device.Checks))
			})
			if err == nil && bad {
				return ui.Exit{Code: ui.ExitError}
			}
			return err
		},
	}
}

func (a *App) deviceSideline() *cobra.Command {
	var reason string
	var hours time.Duration
	cmd := &cobra.Command{
		Use: "sideline DEVICE", Short: "Take a device out of use, at once or when what it runs is done",
		Example:           "  yamato device sideline kaede-7-r1 --reason \"its screen is cracked\" --for 48h",
		Args:              ui.Exactly(1, "name the device: yamato device sideline kaede-7-1 --reason …"),
		ValidArgsFunction: a.Complete(ui.CompleteDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			in := contract.NewSideline{Reason: reason}
			if cmd.Flags().Changed("for") {
				if err := ui.Positive("for", hours); err != nil {
					return err
				}
				until := time.Now().Add(hours).UTC()
				in.Until = &until
			}
			d, err := client.As[contract.Device](s.SidelineDevice(cmd.Context(), s.Project, args[0], in))
			if err != nil {
				return err
			}
			return a.Write(d, func() {
				words := "is sidelined"
				if d.State != "sidelined" {
					words = "is sidelined as soon as it is no longer " + d.State
				}
				fmt.Fprintf(a.Out, "%s %s: %s\n", d.Name, words, reason)
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "what is wrong with it")
	cmd.Flags().DurationVar(&hours, "for", 0, "for how long, as in 48h (default: until it is restored)")
	return cmd
}

func (a *App) deviceRestore() *cobra.Command {
	return &cobra.Command{
		Use: "restore DEVICE", Short: "Bring a sidelined device back into use",
		Example:           "  yamato device restore kaede-7-r1",
		Args:              ui.Exactly(1, "name the device: yamato device restore kaede-7-1"),
		ValidArgsFunction: a.Complete(ui.CompleteDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			d, err := client.As[contract.Device](s.RestoreDevice(cmd.Context(), s.Project, args[0]))
			if err != nil {
				return err
			}
			return a.Write(d, func() { fmt.Fprintln(a.Out, d.Name, "is", d.State) })
		},
	}
}
