package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
)

// errandPatience bounds how long a command waits for a host.
const errandPatience = 20 * time.Minute

// carryOut asks a host to do something and waits until it is done, telling how the
// device, or the image, gets on.
func (a *app) carryOut(ctx context.Context, s *client.Service, in contract.NewErrand) (contract.Errand, error) {
	r, err := s.DoErrandWithResponse(ctx, s.Project, in)
	if err != nil {
		return contract.Errand{}, reach(s, err)
	}
	e, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
	if err != nil {
		return e, err
	}
	ctx, stop := context.WithTimeout(ctx, errandPatience)
	defer stop()
	said := ""
	for wait := 300; e.DoneAt == nil; wait = 2000 {
		r, err := s.GetErrandWithResponse(ctx, s.Project, e.Id, &contract.GetErrandParams{WaitMs: &wait})
		if err != nil {
			return e, reach(s, err)
		}
		if e, err = client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err); err != nil {
			return e, err
		}
		if now := a.progressOf(ctx, s, e); e.DoneAt == nil && now != "" && now != said && a.animated() {
			fmt.Fprintln(a.err, now)
			said = now
		}
	}
	if e.Trouble != nil {
		return e, failed{*e.Trouble, deref(e.Remedy)}
	}
	return e, nil
}

// progressOf says how far an errand has got.
func (a *app) progressOf(ctx context.Context, s *client.Service, e contract.Errand) string {
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
	r, err := s.GetDeviceWithResponse(ctx, s.Project, e.Device)
	if err != nil || r.JSON200 == nil {
		return ""
	}
	d := r.JSON200.Device
	return e.Device + ": " + strings.TrimSuffix(d.State+", "+deref(d.Reason), ", ")
}

// failed is an errand that a host could not carry out.
type failed struct{ title, hint string }

func (f failed) Error() string { return f.title }

func (a *app) deviceDo(what, short string) *cobra.Command {
	return &cobra.Command{
		Use: what + " DEVICE…", Short: short, Example: "  yamato device " + what + " kaede-7-1", Args: atLeast(1, "name the devices: yamato device "+what+" kaede-7-1"), ValidArgsFunction: a.complete(completeDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			var done []contract.Errand
			for _, name := range args {
				e, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: what, Device: &name})
				if err != nil {
					return err
				}
				done = append(done, e)
			}
			words := map[string]string{"boot": "is up", "halt": "is halted", "empty": "is as it was made", "remove": "was removed"}
			return a.write(done, func() {
				for _, e := range done {
					fmt.Fprintln(a.out, e.Device, words[what])
				}
			})
		},
	}
}

func (a *app) deviceMake() *cobra.Command {
	var name, image, site string
	var boot bool
	var count int
	cmd := &cobra.Command{
		Use: "make MODEL", Short: "Make a virtual device of a model: the newest image that is there, a name proposed", Example: "  yamato device make \"Kaede 7\" --boot\n  yamato device make \"Minato Fold\" --os \"Android 15\" --name fold-for-maps",
		Args: exactly(1, "name the model: yamato device make \"Kaede 7\""), ValidArgsFunction: a.complete(completeModels),
		RunE: func(cmd *cobra.Command, args []string) error {
			if count < 1 || count > 50 || count > 1 && name != "" {
				return wrongCall{"--count is 1 to 50, and several devices have names proposed", ""}
			}
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			var made []contract.Errand
			for range count {
				e, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: "make", Model: &args[0], Device: optional(name), Image: optional(image), Site: optional(site), Boot: &boot})
				if err != nil {
					return err
				}
				made = append(made, e)
			}
			return a.write(made, func() {
				for _, e := range made {
					fmt.Fprintf(a.out, "%s was made: %s, %s\n", a.ink().Strong(e.Device), args[0], deref(e.Image))
					if !boot {
						fmt.Fprintf(a.out, "Boot it: yamato device boot %s\n", e.Device)
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

func (a *app) deviceShow() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE", Short: "Show one device: what it is, how it is, and what it did last", Example: "  yamato device show kaede-7-1", Args: exactly(1, "name the device: yamato device show kaede-7-1"), ValidArgsFunction: a.complete(completeDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			d, err := a.deviceDetail(cmd.Context(), s, args[0])
			if err != nil {
				return err
			}
			return a.write(d, func() { a.showDevice(d) })
		},
	}
}

func (a *app) deviceDetail(ctx context.Context, s *client.Service, name string) (contract.DeviceDetail, error) {
	r, err := s.GetDeviceWithResponse(ctx, s.Project, name)
	if err != nil {
		return contract.DeviceDetail{}, reach(s, err)
	}
	return client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
}

func (a *app) showDevice(out contract.DeviceDetail) {
	d := out.Device
	state := d.State
	if d.Run != nil {
		state += fmt.Sprintf(" (run %d)", *d.Run)
	} else if d.Reason != nil {
		state += ": " + *d.Reason
	}
	fmt.Fprintf(a.out, "%s  %s, %s, %s, at %s\n", a.ink().Strong(d.Name), d.Model, platformOS(d), d.Kind, d.Site)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.out, "  %-12s %s\n", name, value)
		}
	}
	line("state", state+", since "+ago(d.Since))
	line("screen", fmt.Sprintf("%d x %d dp, %s", d.Width, d.Height, d.Form))
	line("memory", fmt.Sprintf("%.0f GB", float64(d.MemoryMb)/1024))
	if n := deref(d.TakesMb); n > 0 {
		line("takes", fmt.Sprintf("%.1f GB of its host while it is up", float64(n)/1024))
	}
	line("traits", strings.Join(d.Traits, ", "))
	line("abilities", strings.Join(d.Abilities, ", "))
	line("hardware id", deref(d.HardwareId))
	line("labels", strings.Join(deref(d.Labels), ", "))
	line("owner", deref(d.Owner))
	if u := d.Use; u != nil {
		line("may use it", strings.Join(append(slices.Clone(u.People), first(deref(u.Hours), "always")+" "+deref(u.Zone)), ", "))
	}
	for _, i := range deref(d.Installed) {
		line("installed", fmt.Sprintf("%s (%s), signed by %.12s…", i.Id, i.VersionCode, i.Signer))
	}
	if side := d.Sideline; side != nil {
		line("sidelined", fmt.Sprintf("by %s, %s: %s", side.By, ago(side.At), side.Reason))
		if side.Until != nil {
			line("", "until "+side.Until.Local().Format("2006-01-02 15:04"))
		}
		if side.ProbeAt != nil {
			line("", "tried again at "+side.ProbeAt.Local().Format("15:04:05"))
		}
		line("", deref(side.Remedy))
	}
	if checks := deref(d.Checks); len(checks) > 0 {
		fmt.Fprintln(a.out)
		a.showChecks(checks)
	}
	if len(out.History) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s, %s of its own:\n", plural(len(out.History), "lease"), plural(out.Troubles, "trouble"))
	var rows [][]string
	for _, t := range out.History[:min(len(out.History), 10)] {
		what := fmt.Sprintf("run %d", t.Run)
		if t.Purpose == "look" {
			what = "a look"
		}
		rows = append(rows, []string{"  " + what, t.App + " " + t.VersionName, fmt.Sprintf("%d passed, %d failed", t.Passed, t.Failed), ago(t.Began), short(deref(t.Trouble), 70)})
	}
	a.table([]string{"  WHAT", "BUILD", "CASES", "BEGAN", "TROUBLE"}, rows)
}

func (a *app) showChecks(list []contract.Check) {
	for _, c := range list {
		if c.Ok {
			fmt.Fprintf(a.out, "  %s %s\n", a.ink().Faint("○"), c.Title)
			continue
		}
		fmt.Fprintf(a.out, "  %s %s: %s\n      %s\n", a.ink().Petrol("▲"), a.ink().Strong(c.Title), deref(c.Why), deref(c.Remedy))
	}
}

func (a *app) deviceCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check DEVICE", Short: "Check whether a device is ready, and say what to do where it is not", Example: "  yamato device check kaede-mini-r1", Args: exactly(1, "name the device: yamato device check kaede-mini-r1"), ValidArgsFunction: a.complete(completeDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
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
			bad := slices.ContainsFunc(deref(d.Device.Checks), func(c contract.Check) bool { return !c.Ok })
			err = a.write(d.Device, func() {
				fmt.Fprintf(a.out, "%s, %s, %s: %s\n", a.ink().Strong(d.Device.Name), d.Device.Model, platformOS(d.Device), d.Device.State)
				if len(deref(d.Device.Checks)) == 0 {
					fmt.Fprintln(a.out, "  There is nothing to check while it is "+d.Device.State+".")
				}
				a.showChecks(deref(d.Device.Checks))
			})
			if err == nil && bad {
				return exit{exitError}
			}
			return err
		},
	}
}

func (a *app) deviceSideline() *cobra.Command {
	var reason string
	var hours time.Duration
	cmd := &cobra.Command{
		Use: "sideline DEVICE", Short: "Take a device out of use, at once or when what it runs is done", Example: "  yamato device sideline kaede-7-r1 --reason \"its screen is cracked\" --for 48h", Args: exactly(1, "name the device: yamato device sideline kaede-7-1 --reason …"), ValidArgsFunction: a.complete(completeDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			in := contract.NewSideline{Reason: reason}
			if hours > 0 {
				until := time.Now().Add(hours).UTC()
				in.Until = &until
			}
			r, err := s.SidelineDeviceWithResponse(cmd.Context(), s.Project, args[0], in)
			if err != nil {
				return reach(s, err)
			}
			d, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(d, func() {
				words := "is sidelined"
				if d.State != "sidelined" {
					words = "is sidelined as soon as it is no longer " + d.State
				}
				fmt.Fprintf(a.out, "%s %s: %s\n", d.Name, words, reason)
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "what is wrong with it")
	cmd.Flags().DurationVar(&hours, "for", 0, "for how long, as in 48h (default: until it is restored)")
	return cmd
}

func (a *app) deviceRestore() *cobra.Command {
	return &cobra.Command{
		Use: "restore DEVICE", Short: "Bring a sidelined device back into use", Example: "  yamato device restore kaede-7-r1", Args: exactly(1, "name the device: yamato device restore kaede-7-1"), ValidArgsFunction: a.complete(completeDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.RestoreDeviceWithResponse(cmd.Context(), s.Project, args[0])
			if err != nil {
				return reach(s, err)
			}
			d, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(d, func() { fmt.Fprintln(a.out, d.Name, "is", d.State) })
		},
	}
}

func (a *app) sites(ctx context.Context, s *client.Service) ([]contract.Site, error) {
	r, err := s.ListSitesWithResponse(ctx, s.Project)
	if err != nil {
		return nil, reach(s, err)
	}
	return client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
}

func (a *app) siteCommand() *cobra.Command {
	c := &cobra.Command{Use: "site", Short: "See what the sites offer, and fetch OS images"}
	ls := &cobra.Command{
		Use: "ls", Short: "List sites with their load, models and OS images", Example: "  yamato site ls", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := a.sites(cmd.Context(), s)
			if err != nil {
				return err
			}
			return a.write(list, func() { a.showSites(list) })
		},
	}
	var site string
	var accept bool
	fetch := &cobra.Command{
		Use: "fetch IMAGE", Short: "Fetch an OS image to a site", Example: "  yamato site fetch \"Android 15\" --site bench", Args: exactly(1, "name the image: yamato site fetch \"Android 15\""), ValidArgsFunction: a.complete(completeImages),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			e, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: "fetch", Image: &args[0], Site: optional(site)})
			if err != nil {
				return err
			}
			return a.write(e, func() { fmt.Fprintln(a.out, deref(e.Image), "is there") })
		},
	}
	fetch.Flags().StringVar(&site, "site", "", "site, where several offer the image")
	licence := &cobra.Command{
		Use: "licence NAME", Short: "Read a licence that OS images come under, and accept it", Example: "  yamato site licence \"system images\" --accept", Args: exactly(1, "name the licence: yamato site licence NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			return a.licence(cmd.Context(), s, args[0], accept)
		},
	}
	licence.Flags().BoolVar(&accept, "accept", false, "accept it, for the whole project")
	c.AddCommand(ls, fetch, licence)
	return c
}

func (a *app) licence(ctx context.Context, s *client.Service, name string, accept bool) error {
	if accept {
		r, err := s.AcceptLicenceWithResponse(ctx, s.Project, name)
		if err != nil {
			return reach(s, err)
		}
		l, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
		if err != nil {
			return err
		}
		return a.write(l, func() {
			fmt.Fprintf(a.out, "%s was accepted by %s on %s.\n", l.Name, deref(l.AcceptedBy), l.AcceptedAt.Local().Format("2006-01-02 15:04"))
		})
	}
	sites, err := a.sites(ctx, s)
	if err != nil {
		return err
	}
	for _, site := range sites {
		for _, l := range site.Licences {
			if !strings.EqualFold(l.Name, name) {
				continue
			}
			return a.write(l, func() {
				fmt.Fprintf(a.out, "%s\n\n%s\n", a.ink().Strong(l.Name), strings.TrimSpace(l.Text))
				if l.AcceptedBy == nil {
					fmt.Fprintf(a.out, "\nNobody has accepted it here. Accept it: yamato site licence %q --accept\n", l.Name)
				} else {
					fmt.Fprintf(a.out, "\nAccepted by %s on %s.\n", *l.AcceptedBy, l.AcceptedAt.Local().Format("2006-01-02 15:04"))
				}
			})
		}
	}
	return wrongCall{fmt.Sprintf("no site has a licence %q", name), "`yamato site ls` lists the images and their licences"}
}

func (a *app) showSites(list []contract.Site) {
	if len(list) == 0 {
		fmt.Fprintln(a.out, "No sites yet. Start a host: yamato host --site FILE")
	}
	for i, s := range list {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		link := "linked"
		if !s.Linked {
			link = "not linked"
		}
		fmt.Fprintf(a.out, "%s  host %s, %s\n", a.ink().Strong(s.Site), s.Host, link)
		taken := 0
		for _, r := range s.Running {
			taken += r.TakesMb
		}
		if s.Capacity.MemoryMb > 0 {
			fmt.Fprintf(a.out, "  virtual devices take %.1f of %.1f GB; %s up\n", float64(taken)/1024, float64(s.Capacity.MemoryMb)/1024, plural(len(s.Running), "device"))
		}
		if s.Machine.TotalMb > 0 {
			fmt.Fprintf(a.out, "  machine: %.1f of %.1f GB of memory in use, %.0f%% of %d processors\n", float64(s.Machine.UsedMb)/1024, float64(s.Machine.TotalMb)/1024, 100*s.Machine.Cpu, s.Machine.Cpus)
		}
		var rows [][]string
		for _, i := range s.Images {
			state := i.State
			if i.State == fleet.ImageFetching {
				state = fmt.Sprintf("fetching, %d%%", 100*i.FetchedMb/max(1, i.SizeMb))
			}
			rows = append(rows, []string{"  " + i.Name, fmt.Sprintf("%d MB", i.SizeMb), state, deref(i.Licence)})
		}
		if len(rows) > 0 {
			a.table([]string{"  IMAGE", "SIZE", "STATE", "LICENCE"}, rows)
		}
	}
}

func completeImages(ctx context.Context, s *client.Service) (out []string) {
	if r, err := s.ListSitesWithResponse(ctx, s.Project); err == nil && r.JSON200 != nil {
		for _, site := range *r.JSON200 {
			for _, i := range site.Images {
				out = append(out, i.Name+"\t"+i.State+" at "+site.Site)
			}
		}
	}
	return out
}

func completeLineups(ctx context.Context, s *client.Service) (out []string) {
	if r, err := s.ListLineupsWithResponse(ctx, s.Project); err == nil && r.JSON200 != nil {
		for _, l := range *r.JSON200 {
			out = append(out, l.Name+"\t"+deref(l.About))
		}
	}
	return out
}

func (a *app) lineupCommand() *cobra.Command {
	c := &cobra.Command{Use: "lineup", Short: "Save rules that choose devices, and try them"}
	save := &cobra.Command{
		Use: "save FILE", Short: "Keep a lineup under the name that stands in it", Example: "  yamato lineup save crossing-phones.yaml", Args: exactly(1, "name the file: yamato lineup save FILE"), ValidArgsFunction: files("yaml", "yml"),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return wrongCall{"the lineup cannot be read: " + err.Error(), ""}
			}
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.SaveLineupWithResponse(cmd.Context(), s.Project, contract.NewLineup{Text: string(text)})
			if err != nil {
				return reach(s, err)
			}
			l, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(l, func() {
				fmt.Fprintf(a.out, "The lineup %s is saved. Try it: yamato lineup try %q\n", a.ink().Strong(l.Name), l.Name)
			})
		},
	}
	ls := &cobra.Command{
		Use: "ls", Short: "List lineups", Example: "  yamato lineup ls", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.ListLineupsWithResponse(cmd.Context(), s.Project)
			if err != nil {
				return reach(s, err)
			}
			list, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.out, "No lineups yet. Keep one: yamato lineup save FILE (docs/lineups.md says how they are written)")
					return
				}
				var rows [][]string
				for _, l := range list {
					rows = append(rows, []string{l.Name, deref(l.About), l.SavedBy, ago(l.SavedAt)})
				}
				a.table([]string{"LINEUP", "ABOUT", "SAVED BY", "SAVED"}, rows)
			})
		},
	}
	show := &cobra.Command{
		Use: "show LINEUP", Short: "Show a lineup as it was written", Example: "  yamato lineup show \"crossing phones\"", Args: exactly(1, "name the lineup"), ValidArgsFunction: a.complete(completeLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.GetLineupWithResponse(cmd.Context(), s.Project, args[0])
			if err != nil {
				return reach(s, err)
			}
			l, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(l, func() { fmt.Fprintln(a.out, strings.TrimRight(l.Text, "\n")) })
		},
	}
	try := &cobra.Command{
		Use: "try LINEUP|FILE", Short: "Say what a lineup takes now, and why each other device is passed over", Example: "  yamato lineup try \"crossing phones\"\n  yamato lineup try crossing-phones.yaml", Args: exactly(1, "name a saved lineup, or a file with one"), ValidArgsFunction: a.complete(completeLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			in := contract.TryLineup{Name: &args[0]}
			if text, err := os.ReadFile(args[0]); err == nil {
				written := string(text)
				in = contract.TryLineup{Text: &written}
			}
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.TryLineupWithResponse(cmd.Context(), s.Project, in)
			if err != nil {
				return reach(s, err)
			}
			c, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(c, func() { a.showChoice(c) })
		},
	}
	remove := &cobra.Command{
		Use: "remove LINEUP", Short: "Forget a lineup", Example: "  yamato lineup remove \"crossing phones\"", Args: exactly(1, "name the lineup"), ValidArgsFunction: a.complete(completeLineups),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.RemoveLineupWithResponse(cmd.Context(), s.Project, args[0])
			if err != nil {
				return reach(s, err)
			}
			if r.StatusCode() != 204 {
				_, err = client.Take[struct{}](s, nil, r.Body, r.HTTPResponse, nil)
				return err
			}
			return a.write(map[string]string{"removed": args[0]}, func() { fmt.Fprintln(a.out, "The lineup", args[0], "is gone.") })
		},
	}
	c.AddCommand(save, ls, show, try, remove)
	return c
}

func (a *app) showChoice(c contract.Choice) {
	fmt.Fprintf(a.out, "%s takes %s now.\n", a.ink().Strong(c.Name), plural(len(c.Taken), "device"))
	rows := func(list []contract.Chosen) (out [][]string) {
		for _, d := range list {
			out = append(out, []string{"  " + d.Device, d.Model + ", " + fleet.PlatformName(d.Platform) + " " + d.Os + ", " + d.Kind, d.State, d.Why})
		}
		return out
	}
	if len(c.Taken) > 0 {
		a.table([]string{"  TAKEN", "WHAT IT IS", "STATE", "WHY"}, rows(c.Taken))
	}
	if len(c.Passed) > 0 {
		fmt.Fprintln(a.out)
		a.table([]string{"  PASSED OVER", "WHAT IT IS", "STATE", "WHY"}, rows(c.Passed))
	}
}

func (a *app) standinCommand() *cobra.Command {
	c := &cobra.Command{Use: "standin", Short: "Be the hands, or the fate, of a simulated device"}
	deed := func(cmd *cobra.Command, device, what string, count int) error {
		s, err := a.connect(cmd.Context())
		if err != nil {
			return err
		}
		if _, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: "standin", Device: &device, Deed: &what, Count: &count}); err != nil {
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
