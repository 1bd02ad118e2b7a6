package buildcmd

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/skip2/go-qrcode"
	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
)

func labelText(b contract.Build) string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(b.Labels)) {
		out = append(out, key+"="+b.Labels[key])
	}
	return strings.Join(out, " ")
}

func pinText(b contract.Build) string {
	switch {
	case b.RemovedAt != nil:
		return "removed"
	case b.Pinned:
		return "pinned"
	}
	return ""
}

// patchOf reads labels as they are written; "key=" takes one away.
func patchOf(labels []string) (contract.BuildPatch, error) {
	if len(labels) == 0 {
		return contract.BuildPatch{}, nil
	}
	set := map[string]string{}
	for _, l := range labels {
		key, value, ok := strings.Cut(l, "=")
		if !ok || key == "" {
			return contract.BuildPatch{}, ui.WrongCall{Title: fmt.Sprintf("%q is no label", l),
				Hint: "labels are written as in branch=main; branch= takes one away"}
		}
		set[key] = value
	}
	return contract.BuildPatch{Labels: &set}, nil
}

func (a *App) ChangeBuild(ctx context.Context, s *client.Service, ref, appName string,
	patch contract.BuildPatch) (contract.Build, error) {
	return client.As[contract.Build](s.ChangeBuild(ctx, s.Project, ref,
		&contract.ChangeBuildParams{App: ui.Optional(appName)}, patch))
}

func (a *App) buildInspect() *cobra.Command {
	var texts bool
	cmd := &cobra.Command{
		Use: "inspect FILE", Short: "Tell what a package says of itself, offline",
		Example: "  yamato build inspect tideline-3.2.0.apk\n  yamato build inspect tideline-3.2.0.ipa --output " +
			"json\n  yamato build inspect tideline-3.2.0.apk --notes",
		Args: ui.Exactly(1, "name the package: yamato build inspect FILE"), ValidArgsFunction: ui.Files("apk", "ipa",
			"zip"),
		RunE: func(_ *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return ui.WrongCall{Title: "the package cannot be read: " + err.Error(), Hint: ""}
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			if info.IsDir() {
				return aFolder(args[0])
			}
			if texts {
				all, err := appfile.ReadTexts(f, info.Size())
				if err != nil {
					return err
				}
				return a.Write(all, func() { a.showTexts(all) })
			}
			p, err := appfile.Read(f, info.Size())
			var refusal *appfile.Refusal
			if errors.As(err, &refusal) {
				return ui.WrongCall{Title: args[0] + ": " + refusal.Reason, Hint: refusal.Hint}
			}
			if err != nil {
				return err
			}
			return a.Write(p, func() { a.showPackage(p, info.Size()) })
		},
	}
	cmd.Flags().BoolVar(&texts, "texts", false, "the app's texts by key and language, from its resource table")
	return cmd
}

func (a *App) showTexts(all appfile.Texts) {
	var rows [][]string
	for _, key := range slices.Sorted(maps.Keys(all)) {
		for _, language := range slices.Sorted(maps.Keys(all[key])) {
			rows = append(rows, []string{key, ui.First(language, "(all)"), ui.Short(all[key][language], 80)})
		}
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.Out, "The package has no resource table with texts.")
		return
	}
	a.Table([]string{"KEY", "LANGUAGE", "TEXT"}, rows)
}

func (a *App) showPackage(p *appfile.Package, size int64) {
	os := func(v string, api int) string {
		if v == "" {
			return ""
		}
		if api > 0 {
			return fmt.Sprintf("%s %s (API %d)", fleet.PlatformName(p.Platform), v, api)
		}
		return fleet.PlatformName(p.Platform) + " " + v
	}
	fmt.Fprintf(a.Out, "%s  %s %s (%s)\n", a.Ink().Strong(appfile.KindName(p.Kind)), ui.First(p.Name, p.ApplicationID),
		p.VersionName, p.VersionCode)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.Out, "  %-16s %s\n", name, value)
		}
	}
	list := func(name string, values []string) {
		for i, v := range values {
			if i > 0 {
				name = ""
			}
			fmt.Fprintf(a.Out, "  %-16s %s\n", name, v)
		}
	}
	line("application id", p.ApplicationID)
	line("instruments", p.Instruments)
	line("needs", os(p.MinimumOS, p.MinimumAPI))
	line("built against", os(p.TargetOS, p.TargetAPI))
	line("native code", strings.Join(p.ABIs, ", "))
	line("forms", strings.Join(p.Forms, ", "))
	line("required traits", strings.Join(p.Needs, ", "))
	line("starts with", p.Launch)
	line("rotation", p.Rotation)
	if p.Debuggable {
		line("debuggable", "yes")
	}
	line("languages", strings.Join(p.Languages, ", "))
	line("icon", p.Icon)
	list("permissions", p.Permissions)
	if s := p.Signing; s != nil {
		line("signed by", s.Subject)
		line("", "schemes "+strings.Join(s.Schemes, ", ")+", certificate until "+s.Expires.Format("2006-01-02"))
		line("", "SHA-256 "+s.Fingerprint)
	} else if p.Kind == appfile.Android {
		line("signed by", "nobody")
	}
	if r := p.Profile; r != nil {
		line("profile", fmt.Sprintf("%s, of %s (%s), until %s", r.Name, r.Team, r.TeamID,
			r.Expires.Format("2006-01-02")))
		if r.AllDevices {
			line("", "for all devices")
		} else {
			list("listed devices", r.Devices)
		}
		list("entitlements", r.Entitlements)
	}
	line("size", bytesOf(size))
	for _, part := range p.Parts {
		line("  "+part.Name, bytesOf(part.Size))
	}
	var splits []string
	for _, s := range p.Splits {
		splits = append(splits, cmp.Or(s.Name, "base")+", "+bytesOf(s.Size))
	}
	list("split into", splits)
}

func (a *App) buildFit() *cobra.Command {
	var all bool
	return a.ofBuild("fit BUILD", "Tell which devices can run a build, and why each other cannot",
		"  yamato build fit 3.2.0", func(c *cobra.Command) {
			c.Flags().BoolVar(&all, "misfits", false, "only the devices that cannot run it")
		}, func(ctx context.Context, s *client.Service, ref, appName string) error {
			list, err := client.As[[]contract.Fit](s.GetFit(ctx, s.Project, ref,
				&contract.GetFitParams{App: ui.Optional(appName)}))
			if err != nil {
				return err
			}
			total := len(list)
			if all {
				list = slices.DeleteFunc(list, func(f contract.Fit) bool { return len(f.Reasons) == 0 })
			}
			return a.Write(list, func() { a.showFit(list, total) })
		})
}

func (a *App) showFit(list []contract.Fit, total int) {
	if len(list) == 0 {
		fmt.Fprintln(a.Out, "No devices are like that.")
		return
	}
	var rows [][]string
	misfits := 0
	for _, alike := range alikeInFit(list) {
		f := alike[0]
		device := []string{f.Device, f.Model + ", " + fleet.SystemName(f.Platform, f.Os) + ", " + f.Kind}
		if more := len(alike) - 1; more > 0 {
			device[0] = fmt.Sprintf("%s and %d more", f.Device, more)
		}
		if len(f.Reasons) == 0 {
			rows = append(rows, append(device, "runs "+kindName(ui.Deref(f.PackageKind))))
			if why := notNow(f); why != "" {
				rows = append(rows, []string{"", "", "  " + a.Ink().Faint(why)})
			}
			continue
		}
		misfits += len(alike)
		for i, reason := range f.Reasons {
			if i > 0 {
				device = []string{"", ""}
			}
			rows = append(rows, append(device, reason.Why), []string{"", "", "  " + a.Ink().Faint(reason.Remedy)})
		}
	}
	a.Table([]string{"DEVICE", "WHAT IT IS", "FIT"}, rows)
	fmt.Fprintf(a.Out, "\n%d of %s can run it.\n", total-misfits, ui.Plural(total, "device"))
}

// notNow tells what keeps a device that fits from being given anything now.
func notNow(f contract.Fit) string {
	switch f.State {
	case "unready":
		return "not ready: " + ui.Deref(f.StateReason) + "; `yamato device check " + f.Device + "`"
	case "sidelined", "offline":
		return "not now: " + f.State + ", " + ui.Deref(f.StateReason)
	}
	return ""
}

// alikeInFit puts devices of one kind together of which the same is to be said, in
// the order of the first of each.
func alikeInFit(list []contract.Fit) (out [][]contract.Fit) {
	at := map[string]int{}
	for _, f := range list {
		key := fmt.Sprintf("%q %q %q %q %q", f.Model, f.Platform, f.Os, f.Kind, f.Reasons) + notNow(f)
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key], out = i, append(out, nil)
		}
		out[i] = append(out[i], f)
	}
	return out
}

func (a *App) buildChanges() *cobra.Command {
	var against string
	return a.ofBuild("changes BUILD", "Tell what changed against the build before",
		"  yamato build changes 3.2.1\n  yamato build changes 3.2.1 --against 3.1.4", func(c *cobra.Command) {
			c.Flags().StringVar(&against, "against", "", "the build to compare with (default: the one before)")
			_ = c.RegisterFlagCompletionFunc("against", a.Complete(ui.CompleteBuilds))
		}, func(ctx context.Context, s *client.Service, ref, appName string) error {
			out, err := client.As[contract.Changes](s.GetChanges(ctx, s.Project, ref,
				&contract.GetChangesParams{App: ui.Optional(appName), Against: ui.Optional(against)}))
			if err != nil {
				return err
			}
			return a.Write(out, func() {
				if out.Against == nil {
					fmt.Fprintln(a.Out, "It is the first build of its app.")
					return
				}
				fmt.Fprintf(a.Out, "%s %s (%s) against %s (%s)\n", out.Build.App, a.Ink().Strong(out.Build.VersionName),
					out.Build.VersionCode, out.Against.VersionName, out.Against.VersionCode)
				var rows [][]string
				for _, c := range out.Changes {
					rows = append(rows, []string{kindName(c.Package), c.What, changeText(c)})
				}
				if len(rows) == 0 {
					fmt.Fprintln(a.Out, "Nothing that packages tell of has changed.")
					return
				}
				a.Table([]string{"PACKAGE", "WHAT", "CHANGE"}, rows)
			})
		})
}

func changeText(c contract.Change) string {
	if strings.HasPrefix(c.What, "size of ") {
		before, _ := strconv.ParseInt(ui.Deref(c.Before), 10, 64)
		after, _ := strconv.ParseInt(ui.Deref(c.After), 10, 64)
		return fmt.Sprintf("%s, was %s (%+.1f%%)", bytesOf(after), bytesOf(before),
			100*float64(after-before)/float64(max(before, 1)))
	}
	if c.Added == nil && c.Removed == nil {
		return ui.First(ui.Deref(c.After), "none") + ", was " + ui.First(ui.Deref(c.Before), "none")
	}
	var out []string
	for _, v := range ui.Deref(c.Added) {
		out = append(out, "new: "+v)
	}
	for _, v := range ui.Deref(c.Removed) {
		out = append(out, "gone: "+v)
	}
	return strings.Join(out, ", ")
}

func (a *App) buildNote() *cobra.Command {
	var note string
	var labels []string
	var cmd *cobra.Command
	cmd = a.ofBuild("note BUILD", "Change the note and the labels of a build",
		"  yamato build note 3.2.0 --note \"the fare is wrong\" --label branch=main --label reviewed=",
		func(c *cobra.Command) {
			c.Flags().StringVar(&note, "note", "", "the note; empty takes it away")
			c.Flags().StringArrayVar(&labels, "label", nil,
				"label, as in branch=main; branch= takes it away; may be repeated")
		}, func(ctx context.Context, s *client.Service, ref, appName string) error {
			patch, err := patchOf(labels)
			if err != nil {
				return err
			}
			if cmd.Flags().Changed("note") {
				patch.Note = &note
			} else if patch.Labels == nil {
				return ui.WrongCall{Title: "there is nothing to change", Hint: "pass --note or --label"}
			}
			b, err := a.ChangeBuild(ctx, s, ref, appName, patch)
			if err != nil {
				return err
			}
			return a.Write(b, func() { a.showBuild(b) })
		})
	return cmd
}

func (a *App) buildPin(on bool) *cobra.Command {
	use, short := "pin BUILD", "Pin a build: retention never removes it"
	if !on {
		use, short = "unpin BUILD", "Let retention remove a build again"
	}
	return a.ofBuild(use, short, "  yamato build "+strings.Fields(use)[0]+" 3.1.4", nil, func(ctx context.Context,
		s *client.Service, ref, appName string) error {
		b, err := a.ChangeBuild(ctx, s, ref, appName, contract.BuildPatch{Pinned: &on})
		if err != nil {
			return err
		}
		return a.Write(b, func() { a.showBuild(b) })
	})
}

func (a *App) buildSettings() *cobra.Command {
	var device, lineup, form string
	var suites []string
	return a.ofBuild("settings BUILD", "Give the command, the document and the request that run a build, to copy",
		"  yamato build settings 3.2.0 --device kaede-7-1\n  yamato build settings 3.2.0 --lineup \"crossing phones\" "+
			"--form document > smoke.yaml", func(c *cobra.Command) {
			c.Flags().StringVar(&device, "device", "", "for the class of this device")
			c.Flags().StringVar(&lineup, "lineup", "", "for this lineup")
			c.Flags().StringArrayVar(&suites, "suite", nil, "suite, by name; may be repeated (default: all)")
			c.Flags().StringVar(&form, "form", "", "only this: command, document or request")
			_ = c.RegisterFlagCompletionFunc("device", a.Complete(ui.CompleteDevices))
			_ = c.RegisterFlagCompletionFunc("lineup", a.Complete(ui.CompleteLineups))
			_ = c.RegisterFlagCompletionFunc("suite", a.Complete(ui.CompleteSuites))
		}, func(ctx context.Context, s *client.Service, ref, appName string) error {
			out, err := client.As[contract.Settings](s.GetSettings(ctx, s.Project, ref,
				&contract.GetSettingsParams{App: ui.Optional(appName), Device: ui.Optional(device),
					Lineup: ui.Optional(lineup),
					Suite:  ui.Several(suites)}))
			if err != nil {
				return err
			}
			forms := map[string]string{"command": out.Command, "document": out.Document, "request": out.Request}
			if text, ok := forms[form]; ok {
				fmt.Fprintln(a.Out, strings.TrimRight(text, "\n"))
				return nil
			}
			if form != "" {
				return ui.WrongCall{Title: fmt.Sprintf("there is no form %q", form),
					Hint: "there are command, document and request"}
			}
			return a.Write(out, func() {
				fmt.Fprintf(a.Out, "%s\n  %s\n\n%s\n%s\n%s\n%s\n", a.Ink().Strong("Command"), out.Command,
					a.Ink().Strong("Document")+", for `yamato run start --request FILE`", indent(out.Document),
					a.Ink().Strong("Request")+", for POST "+s.Base()+out.Path, indent(out.Request))
			})
		})
}

func indent(text string) string {
	return "  " + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n  ") + "\n"
}

func (a *App) buildHand() *cobra.Command {
	var lasts time.Duration
	return a.ofBuild("hand BUILD", "Make a page from which a phone can install a build, for a time",
		"  yamato build hand 3.2.0 --for 30m", func(c *cobra.Command) {
			c.Flags().DurationVar(&lasts, "for", time.Hour, "how long the page is there, as in 30m or 48h")
		}, func(ctx context.Context, s *client.Service, ref, appName string) error {
			if err := ui.Positive("for", lasts); err != nil {
				return err
			}
			minutes := int(math.Ceil(lasts.Minutes()))
			out, err := client.As[contract.Handover](s.HandOver(ctx, s.Project, ref,
				&contract.HandOverParams{App: ui.Optional(appName)}, contract.NewHandover{Minutes: &minutes}))
			if err != nil {
				return err
			}
			return a.Write(out, func() {
				if code, err := qrcode.New(out.Url, qrcode.Low); err == nil {
					fmt.Fprintln(a.Out, code.ToSmallString(false))
				}
				fmt.Fprintf(a.Out, "%s\nUntil %s.\n", out.Url, ui.Moment(out.ExpiresAt))
				if out.Hint != nil {
					fmt.Fprintf(a.Out, "But %s.\n", *out.Hint)
				}
			})
		})
}

func (a *App) buildRetention() *cobra.Command {
	var keep, days int
	cmd := &cobra.Command{
		Use: "retention", Short: "See or change which builds are kept, and which would be removed now", Args: ui.None,
		Example: "  yamato build retention\n  yamato build retention --keep 20 --days 90",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := errors.Join(ui.Within("keep", keep, 0, 10_000), ui.Within("days", days, 0, 3650)); err != nil {
				return err
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			var out contract.Retention
			if cmd.Flags().Changed("keep") || cmd.Flags().Changed("days") {
				out, err = client.As[contract.Retention](s.SetRetention(cmd.Context(), s.Project,
					contract.NewRetention{Keep: keep, Days: days}))
			} else {
				out, err = client.As[contract.Retention](s.GetRetention(cmd.Context(), s.Project))
			}
			if err != nil {
				return err
			}
			return a.Write(out, func() { a.showRetention(out) })
		},
	}
	cmd.Flags().IntVar(&keep, "keep", 0, "the newest builds of each app that always stay")
	cmd.Flags().IntVar(&days, "days", 0, "builds younger than so many days stay")
	return cmd
}

func (a *App) showRetention(r contract.Retention) {
	if r.Keep == 0 && r.Days == 0 {
		fmt.Fprintln(a.Out, "Every build is kept. Change that with --keep and --days; pinned builds stay "+
			"whatever the rule.")
		return
	}
	fmt.Fprintf(a.Out, "The newest %d builds of each app are kept, and those younger than %d days; pinned ones "+
		"always. Set by %s.\n", r.Keep, r.Days, ui.Deref(r.ChangedBy))
	if len(r.WouldRemove) == 0 {
		fmt.Fprintln(a.Out, "Nothing is to be removed now.")
		return
	}
	fmt.Fprintf(a.Out, "%s will be removed within the hour; pin what is to stay (`yamato build pin BUILD`):\n",
		ui.Plural(len(r.WouldRemove), "build"))
	for _, b := range r.WouldRemove {
		fmt.Fprintf(a.Out, "  %d  %s %s (%s)\n", b.Number, b.App, b.VersionName, b.VersionCode)
	}
}
