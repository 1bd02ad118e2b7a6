package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
)

func (a *app) buildCommand() *cobra.Command {
	c := &cobra.Command{Use: "build", Short: "Hand in builds, and list them"}
	push := &cobra.Command{
		Use:               "push FILE…",
		Short:             "Hand in packages; those of one version make one build",
		Example:           "  yamato build push tideline-3.2.0.apk tideline-3.2.0-simulator.zip",
		Args:              atLeast(1, "name the packages: yamato build push FILE…"),
		ValidArgsFunction: files("apk", "zip"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			b, err := a.push(cmd.Context(), s, args)
			if err != nil {
				return err
			}
			return a.write(b, func() { a.showBuild(b) })
		},
	}
	var appName string
	ls := &cobra.Command{
		Use: "ls", Short: "List builds, newest first", Example: "  yamato build ls --app Tideline", Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.ListBuildsWithResponse(cmd.Context(), s.Project, &contract.ListBuildsParams{App: optional(appName)})
			if err != nil {
				return reach(s, err)
			}
			list, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(a.out, "No builds yet. Hand one in: yamato build push FILE…")
					return
				}
				var rows [][]string
				for _, b := range list.Items {
					rows = append(rows, []string{strconv.FormatInt(b.Number, 10), b.App, b.VersionName + " (" + b.VersionCode + ")", kinds(b), ago(b.CreatedAt)})
				}
				a.table([]string{"BUILD", "APP", "VERSION", "PACKAGES", "HANDED IN"}, rows)
			})
		},
	}
	show := &cobra.Command{
		Use: "show BUILD", Short: "Show one build, by number or version", Example: "  yamato build show 3.2.0", Args: exactly(1, "name the build: yamato build show 3.2.0"),
		ValidArgsFunction: a.complete(completeBuilds),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			r, err := s.GetBuildWithResponse(cmd.Context(), s.Project, args[0], &contract.GetBuildParams{App: optional(appName)})
			if err != nil {
				return reach(s, err)
			}
			b, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
			if err != nil {
				return err
			}
			return a.write(b, func() { a.showBuild(b) })
		},
	}
	for _, cmd := range []*cobra.Command{ls, show} {
		cmd.Flags().StringVar(&appName, "app", "", "app, by name or application id")
	}
	c.AddCommand(push, ls, show)
	return c
}

func reach(s *client.Service, err error) error {
	_, err = client.Take[struct{}](s, nil, nil, nil, err)
	return err
}

func kinds(b contract.Build) string {
	var out []string
	for _, p := range b.Packages {
		out = append(out, kindName(p.Kind))
	}
	return strings.Join(out, ", ")
}

var kindNames = map[string]string{"android_package": "Android package", "ios_simulator": "iOS simulator app"}

func kindName(kind string) string { return first(kindNames[kind], kind) }

func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Local().Format("2006-01-02")
}

func (a *app) showBuild(b contract.Build) {
	fmt.Fprintf(a.out, "%s  %s %s (%s)\n", a.ink().Strong(fmt.Sprintf("Build %d", b.Number)), b.App, b.VersionName, b.VersionCode)
	var rows [][]string
	for _, p := range b.Packages {
		needs := p.MinimumOs
		if needs != "" {
			needs = fleet.PlatformName(p.Platform) + " " + needs
		}
		rows = append(rows, []string{"  " + kindName(p.Kind), p.ApplicationId, needs, bytesOf(p.Size), p.Digest[:12], p.FileName})
	}
	a.table([]string{"  PACKAGE", "APPLICATION ID", "NEEDS", "SIZE", "SHA-256", "FILE"}, rows)
}

func bytesOf(n int64) string {
	switch {
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f kB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d B", n)
}

// push uploads packages and makes a build of them.
func (a *app) push(ctx context.Context, s *client.Service, paths []string) (contract.Build, error) {
	var digests []string
	for _, path := range paths {
		p, err := a.upload(ctx, s, path)
		if err != nil {
			return contract.Build{}, err
		}
		digests = append(digests, p.Digest)
	}
	r, err := s.MakeBuildWithResponse(ctx, s.Project, contract.NewBuild{Packages: digests})
	if err != nil {
		return contract.Build{}, reach(s, err)
	}
	return client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
}

func (a *app) upload(ctx context.Context, s *client.Service, path string) (contract.Package, error) {
	f, err := os.Open(path)
	if err != nil {
		return contract.Package{}, wrongCall{"the package cannot be read: " + err.Error(), ""}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return contract.Package{}, err
	}
	if info.IsDir() {
		return contract.Package{}, wrongCall{path + " is a folder, not a package", "zip the .app: its folder goes into one .zip"}
	}
	name := filepath.Base(path)
	bar := progressbar.NewOptions64(info.Size(), progressbar.OptionSetWriter(a.err), progressbar.OptionSetVisibility(a.animated()), progressbar.OptionShowBytes(true),
		progressbar.OptionSetDescription(name), progressbar.OptionThrottle(200*time.Millisecond), progressbar.OptionClearOnFinish())
	reader := progressbar.NewReader(f, bar)
	r, err := s.AddPackageWithBodyWithResponse(ctx, s.Project, &contract.AddPackageParams{FileName: name}, "application/octet-stream", io.Reader(&reader))
	_ = bar.Finish()
	if err != nil {
		return contract.Package{}, reach(s, err)
	}
	p, err := client.Take(s, r.JSON200, r.Body, r.HTTPResponse, err)
	if err != nil {
		return p, fmt.Errorf("%s: %w", name, err)
	}
	return p, nil
}

// buildRef turns what a person gave as --build into a build's number: a file is
// handed in first; anything else is a number or a version.
func (a *app) buildRef(ctx context.Context, s *client.Service, refs []string) (string, error) {
	var paths []string
	for _, ref := range refs {
		if _, err := os.Stat(ref); err == nil {
			paths = append(paths, ref)
		}
	}
	switch {
	case len(paths) == len(refs):
		b, err := a.push(ctx, s, paths)
		return strconv.FormatInt(b.Number, 10), err
	case len(refs) == 1:
		if strings.ContainsAny(refs[0], `/\`) || strings.HasSuffix(refs[0], ".apk") || strings.HasSuffix(refs[0], ".zip") {
			return "", wrongCall{"there is no file " + refs[0], "a build is named by file, by number or by version"}
		}
		return refs[0], nil
	}
	return "", wrongCall{"--build names files, or one build by number or version", ""}
}
