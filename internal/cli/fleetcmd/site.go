package fleetcmd

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
)

func (a *App) sites(ctx context.Context, s *client.Service) ([]contract.Site, error) {
	return client.As[[]contract.Site](s.ListSites(ctx, s.Project))
}

func (a *App) SiteCommand() *cobra.Command {
	c := &cobra.Command{Use: "site", Short: "See what the sites offer, and fetch OS images"}
	ls := &cobra.Command{
		Use: "ls", Short: "List sites with their load, models and OS images", Example: "  yamato site ls",
		Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := a.sites(cmd.Context(), s)
			if err != nil {
				return err
			}
			return a.Write(list, func() { a.showSites(list) })
		},
	}
	var site string
	var accept bool
	fetch := &cobra.Command{
		Use: "fetch IMAGE", Short: "Fetch an OS image to a site",
		Example:           "  yamato site fetch \"Android 15\" --site bench",
		Args:              ui.Exactly(1, "name the image: yamato site fetch \"Android 15\""),
		ValidArgsFunction: a.Complete(completeImages),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			e, err := a.carryOut(cmd.Context(), s, contract.NewErrand{What: "fetch", Image: &args[0],
				Site: ui.Optional(site)})
			if err != nil {
				return err
			}
			return a.Write(e, func() { fmt.Fprintln(a.Out, ui.Deref(e.Image), "is there") })
		},
	}
	fetch.Flags().StringVar(&site, "site", "", "site, where several offer the image")
	licence := &cobra.Command{
		Use: "licence NAME", Short: "Read a licence that OS images come under, and accept it",
		Example: "  yamato site licence \"system images\" --accept",
		Args:    ui.Exactly(1, "name the licence: yamato site licence NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
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

func (a *App) licence(ctx context.Context, s *client.Service, name string, accept bool) error {
	if accept {
		l, err := client.As[contract.Licence](s.AcceptLicence(ctx, s.Project, name))
		if err != nil {
			return err
		}
		return a.Write(l, func() {
			fmt.Fprintf(a.Out, "%s was accepted by %s on %s.\n", l.Name, ui.Deref(l.AcceptedBy),
				ui.Moment(*l.AcceptedAt))
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
			return a.Write(l, func() {
				fmt.Fprintf(a.Out, "%s\n\n%s\n", a.Ink().Strong(l.Name), strings.TrimSpace(l.Text))
				if l.AcceptedBy == nil {
					fmt.Fprintf(a.Out, "\nNobody has accepted it here. Accept it: yamato site licence %q --accept\n",
						l.Name)
				} else {
					fmt.Fprintf(a.Out, "\nAccepted by %s on %s.\n", *l.AcceptedBy,
						ui.Moment(*l.AcceptedAt))
				}
			})
		}
	}
	return ui.WrongCall{Title: fmt.Sprintf("no site has a licence %q", name),
		Hint: "`yamato site ls` lists the images and their licences"}
}

func (a *App) showSites(list []contract.Site) {
	if len(list) == 0 {
		fmt.Fprintln(a.Out, "No sites yet. Start a host: yamato host --site FILE")
	}
	for i, s := range list {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		link := "linked"
		if !s.Linked {
			link = "not linked"
		}
		fmt.Fprintf(a.Out, "%s  host %s, %s\n", a.Ink().Strong(s.Site), s.Host, link)
		taken := 0
		for _, r := range s.Running {
			taken += r.TakesMb
		}
		if s.Capacity.MemoryMb > 0 {
			fmt.Fprintf(a.Out, "  virtual devices take %.1f of %.1f GB; %s up\n", float64(taken)/1024,
				float64(s.Capacity.MemoryMb)/1024, ui.Plural(len(s.Running), "device"))
		}
		if s.Machine.TotalMb > 0 {
			fmt.Fprintf(a.Out, "  machine: %.1f of %.1f GB of memory in use, %.0f%% of %d processors\n",
				float64(s.Machine.UsedMb)/1024, float64(s.Machine.TotalMb)/1024, 100*s.Machine.Cpu, s.Machine.Cpus)
		}
		var models [][]string
		for _, m := range s.Models {
			models = append(models, []string{"  " + m.Model, fleet.PlatformName(m.Platform), m.Form,
				fmt.Sprintf("%d x %d", m.Width, m.Height), fmt.Sprintf("%g GB", float64(m.MemoryMb)/1024)})
		}
		if len(models) > 0 {
			a.Table([]string{"  MODEL", "PLATFORM", "FORM", "SCREEN DP", "MEMORY"}, models)
		}
		var rows [][]string
		for _, i := range s.Images {
			state := i.State
			if i.State == fleet.ImageFetching {
				state = fmt.Sprintf("fetching, %d%%", 100*i.FetchedMb/max(1, i.SizeMb))
			}
			rows = append(rows, []string{"  " + i.Name, fmt.Sprintf("%d MB", i.SizeMb), state, ui.Deref(i.Licence)})
		}
		if len(rows) > 0 {
			a.Table([]string{"  IMAGE", "SIZE", "STATE", "LICENCE"}, rows)
		}
	}
}

func completeImages(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[[]contract.Site](s.ListSites(ctx, s.Project)); err == nil {
		for _, site := range r {
			for _, i := range site.Images {
				out = append(out, i.Name+"\t"+i.State+" at "+site.Site)
			}
		}
	}
	return out
}
