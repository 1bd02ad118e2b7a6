package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
)

func (a *app) buildCommand() *cobra.Command {
	c := &cobra.Command{Use: "build", Short: "Hand in builds, find them, and see what each runs on"}
	c.AddCommand(a.buildPush(), a.buildInspect(), a.buildLs(), a.buildShow(), a.buildFit(), a.buildChanges(),
		a.buildNote(), a.buildPin(true), a.buildPin(false), a.buildSettings(), a.buildHand(), a.buildRetention())
	return c
}

func (a *app) buildPush() *cobra.Command {
	var labels []string
	var note, as string
	cmd := &cobra.Command{
		Use:   "push FILE|ADDRESS|-…",
		Short: "Hand in packages; those of one version make one build",
		Long: "Hand in packages from files, from addresses that the service fetches, or from standard " +
			"input (-).\nWhat is interrupted goes on where it stopped when the command is given again.",
		Example: "  yamato build push tideline-3.2.0.apk tideline-3.2.0-simulator.zip --label branch=main\n " +
			" yamato build push https://builds.example/tideline-3.2.0.apk\n  make-package | yamato build push - --as " +
			"tideline.apk",
		Args:              atLeast(1, "name the packages: yamato build push FILE…"),
		ValidArgsFunction: files("apk", "ipa", "zip"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			patch, err := patchOf(labels)
			if err != nil {
				return err
			}
			a.pushName = as
			b, err := a.push(cmd.Context(), s, args)
			if err != nil {
				return err
			}
			before := b
			if note != "" {
				patch.Note = &note
			}
			if patch.Note != nil || patch.Labels != nil {
				ref, of := namesOf(b)
				if b, err = a.changeBuild(cmd.Context(), s, ref, of, patch); err != nil {
					return err
				}
			}
			return a.write(b, func() {
				a.showBuild(b)
				a.tellPushed(before, b)
			})
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&labels, "label", nil, "label for the build, as in branch=main; may be repeated")
	f.StringVar(&note, "note", "", "note for the build")
	f.StringVar(&as, "as", "standard-input", "file name of what comes from standard input")
	return cmd
}

// tellPushed says what a push changed: what was new, and which labels it replaced.
func (a *app) tellPushed(before, after contract.Build) {
	var fresh, had []string
	for _, p := range before.Packages {
		if deref(p.Fresh) {
			fresh = append(fresh, p.FileName)
		} else if p.Fresh != nil {
			had = append(had, p.FileName)
		}
	}
	switch {
	case len(fresh) == 0 && len(had) > 0:
		fmt.Fprintln(a.out, "Nothing is new: this build had been handed in before.")
	case len(had) > 0:
		a.say(2, "New in this build: %s; it had %s before.", strings.Join(fresh, ", "), strings.Join(had, ", "))
	}
	for _, key := range slices.Sorted(maps.Keys(before.Labels)) {
		if now := after.Labels[key]; now != before.Labels[key] {
			fmt.Fprintf(a.out, "Label %s was %s before, and is %s now.\n", key, before.Labels[key], first(now, "taken away"))
		}
	}
}

func (a *app) buildLs() *cobra.Command {
	var appName, find string
	var labels []string
	cmd := &cobra.Command{
		Use: "ls", Short: "List builds, newest first", Example: "  yamato build ls --app Tideline --label branch=main",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[contract.BuildList](s.ListBuilds(cmd.Context(), s.Project,
				&contract.ListBuildsParams{App: optional(appName), Q: optional(find), Label: several(labels)}))
			if err != nil {
				return err
			}
			return a.write(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(a.out, "No builds are like that. Hand one in: yamato build push FILE…")
					return
				}
				var rows [][]string
				for _, b := range list.Items {
					rows = append(rows, []string{strconv.FormatInt(b.Number, 10), b.App, b.VersionName + " (" + b.VersionCode + ")",
						kinds(b), labelText(b), pinText(b), ago(b.CreatedAt)})
				}
				a.table([]string{"BUILD", "APP", "VERSION", "PACKAGES", "LABELS", "", "HANDED IN"}, rows)
			})
		},
	}
	cmd.Flags().StringVar(&appName, "app", "", "app, by name or application id")
	cmd.Flags().StringVar(&find, "find", "", "part of a version, an application id, a note or a label")
	cmd.Flags().StringArrayVar(&labels, "label", nil, "only builds with this label; may be repeated")
	return cmd
}

func (a *app) buildShow() *cobra.Command {
	return a.ofBuild("show BUILD", "Show one build, by number, version, or the newest that has labels",
		"  yamato build show 3.2.0\n  yamato build show branch=main", nil,
		func(ctx context.Context, s *client.Service, ref, appName string) error {
			b, err := a.buildNamed(ctx, s, ref, appName)
			if err != nil {
				return err
			}
			return a.write(b, func() { a.showBuild(b) })
		})
}

// ofBuild makes a command that does something with one build.
func (a *app) ofBuild(use, short, example string, flags func(*cobra.Command), do func(ctx context.Context,
	s *client.Service, ref, app string) error) *cobra.Command {
	var appName string
	cmd := &cobra.Command{
		Use: use, Short: short, Example: example, Args: exactly(1,
			"name the build: by number, by version, or by the labels of the newest"), ValidArgsFunction: a.complete(
			completeBuilds),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.connect(cmd.Context())
			if err != nil {
				return err
			}
			return do(cmd.Context(), s, args[0], appName)
		},
	}
	cmd.Flags().StringVar(&appName, "app", "", "app, by name or application id")
	if flags != nil {
		flags(cmd)
	}
	return cmd
}

func (a *app) buildNamed(ctx context.Context, s *client.Service, ref, appName string) (contract.Build, error) {
	return client.As[contract.Build](s.GetBuild(ctx, s.Project, ref, &contract.GetBuildParams{App: optional(appName)}))
}

func kinds(b contract.Build) string {
	var out []string
	for _, p := range b.Packages {
		out = append(out, kindName(p.Kind))
	}
	return strings.Join(out, ", ")
}

func kindName(kind string) string { return appfile.KindName(appfile.Kind(kind)) }

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
	fmt.Fprintf(a.out, "%s  %s %s (%s)\n", a.ink().Strong(fmt.Sprintf("Build %d", b.Number)), b.App, b.VersionName,
		b.VersionCode)
	for _, line := range []string{labelText(b), b.Note, pinText(b)} {
		if line != "" {
			fmt.Fprintln(a.out, "  "+line)
		}
	}
	if b.RemovedAt != nil {
		fmt.Fprintf(a.out, "  Its packages were removed by retention on %s.\n", b.RemovedAt.Local().Format("2006-01-02"))
		return
	}
	var rows [][]string
	for _, p := range b.Packages {
		rows = append(rows, []string{"  " + kindName(p.Kind), p.ApplicationId, needsText(p), bytesOf(p.Size), p.Digest[:12],
			p.FileName})
	}
	a.table([]string{"  PACKAGE", "APPLICATION ID", "NEEDS", "SIZE", "SHA-256", "FILE"}, rows)
}

func needsText(p contract.Package) string {
	if p.MinimumOs == "" {
		return ""
	}
	needs := fleet.PlatformName(p.Platform) + " " + p.MinimumOs
	if n := deref(p.MinimumApi); n > 0 {
		needs += fmt.Sprintf(" (API %d)", n)
	}
	return needs
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
	digests, names := []string{}, map[string]string{}
	for _, path := range paths {
		p, err := a.upload(ctx, s, path)
		if err != nil {
			return contract.Build{}, inFile(path, err)
		}
		if other, twice := names[p.Digest]; twice {
			fmt.Fprintf(a.err, "yamato: %s and %s are the same package; it is taken once\n", other, path)
			continue
		}
		names[p.Digest] = path
		digests = append(digests, p.Digest)
	}
	return client.As[contract.Build](s.MakeBuild(ctx, s.Project, contract.NewBuild{Packages: digests}))
}

// inFile says of a refusal which file it is about.
func inFile(path string, err error) error {
	var p *client.ProblemError
	if errors.As(err, &p) && !strings.HasPrefix(p.Title, path) {
		named := *p
		named.Title = path + ": " + p.Title
		return &named
	}
	return err
}

// uploadPatience is how long an upload waits for a service that does not answer.
const uploadPatience = 2 * time.Minute

func (a *app) upload(ctx context.Context, s *client.Service, path string) (contract.Package, error) {
	switch {
	case strings.HasPrefix(path, "https://") || strings.HasPrefix(path, "http://"):
		return a.fetched(ctx, s, path)
	case path == "-":
		return a.uploadInput(ctx, s)
	}
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
		return contract.Package{}, aFolder(path)
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return contract.Package{}, err
	}
	return a.uploadFile(ctx, s, f, info.Size(), filepath.Base(path), fmt.Sprintf("%s %d %d", full, info.Size(),
		info.ModTime().UnixNano()))
}

// uploadInput keeps what comes from standard input in a file first: what is lost on
// the way cannot be read from there again.
func (a *app) uploadInput(ctx context.Context, s *client.Service) (contract.Package, error) {
	f, err := os.CreateTemp("", "yamato-push-*")
	if err != nil {
		return contract.Package{}, err
	}
	defer func() { _ = f.Close(); _ = os.Remove(f.Name()) }()
	size, err := io.Copy(f, a.in)
	if err != nil {
		return contract.Package{}, fmt.Errorf("reading standard input: %w", err)
	}
	return a.uploadFile(ctx, s, f, size, first(a.pushName, "standard-input"), f.Name())
}

func (a *app) uploadFile(ctx context.Context, s *client.Service, f io.ReaderAt, size int64, name,
	key string) (contract.Package, error) {
	bar := a.bar(size, name)
	p, err := s.Upload(ctx, f, size, name, s.Base()+" "+s.Project+" "+key, openMemory(), uploadPatience, func(n int64) {
		_ = bar.Set64(n)
	})
	_ = bar.Finish()
	return p, err
}

// aFolder refuses a folder that was given for a package.
func aFolder(path string) error {
	if strings.HasSuffix(strings.TrimRight(path, "/"), ".app") {
		return wrongCall{path + " is a folder, not a package",
			"an .app goes into a .zip as a whole: cd " + filepath.Dir(
				filepath.Clean(path)) + " && zip -r app.zip " + filepath.Base(path)}
	}
	return wrongCall{path + " is a folder, not a package",
		"name the packages in it: yamato build push " + filepath.Join(path, "*.apk")}
}

// fetched has the service fetch a package from an address.
func (a *app) fetched(ctx context.Context, s *client.Service, address string) (contract.Package, error) {
	bar := a.bar(-1, "The service fetches "+path.Base(address))
	p, err := s.Fetch(ctx, address, func(n, of int64) {
		if of >= 0 && bar.GetMax64() != of {
			bar.ChangeMax64(of)
		}
		_ = bar.Set64(n)
	})
	_ = bar.Finish()
	return p, err
}

// bar shows how far something is, in bytes, where somebody looks on.
func (a *app) bar(size int64, what string) *progressbar.ProgressBar {
	return progressbar.NewOptions64(size, progressbar.OptionSetWriter(a.err),
		progressbar.OptionSetVisibility(a.animated()), progressbar.OptionShowBytes(true),
		progressbar.OptionSetDescription(what), progressbar.OptionThrottle(200*time.Millisecond),
		progressbar.OptionClearOnFinish())
}

// buildRef turns what a person gave as --build into a build's number: a file is
// handed in first, and its app is the one that is meant; anything else is a number or a
// version.
func (a *app) buildRef(ctx context.Context, s *client.Service, refs []string, app *string) (string, error) {
	var paths []string
	for _, ref := range refs {
		if _, err := os.Stat(ref); err == nil {
			paths = append(paths, ref)
		}
	}
	switch {
	case len(paths) == len(refs):
		b, err := a.push(ctx, s, paths)
		ref, of := namesOf(b)
		*app = of
		return ref, err
	case len(refs) == 1:
		if strings.ContainsAny(refs[0], `/\`) || slices.Contains([]string{".apk", ".ipa", ".zip"}, filepath.Ext(refs[0])) {
			return "", wrongCall{"there is no file " + refs[0],
				"a build is named by file, by number, by version, or by labels (branch=main)"}
		}
		return refs[0], nil
	}
	return "", wrongCall{"--build names files, or one build by number or version", ""}
}

// namesOf gives what means a build and no other: its number, marked as one since a version
// may be called that too, and the id of its app, since two apps may have one name.
func namesOf(b contract.Build) (ref, app string) {
	app = b.App
	if len(b.Packages) > 0 {
		app = first(b.Packages[0].ApplicationId, app)
	}
	return fmt.Sprintf("#%d", b.Number), app
}
