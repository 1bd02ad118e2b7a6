package buildcmd

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
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

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
)

func (a *App) BuildCommand() *cobra.Command {
	c := &cobra.Command{Use: "build", Short: "Hand in builds, find them, and see what each runs on"}
	c.AddCommand(a.buildPush(), a.buildInspect(), a.buildLs(), a.buildShow(), a.buildFit(), a.buildChanges(),
		a.buildNote(), a.buildPin(true), a.buildPin(false), a.buildSettings(), a.buildHand(), a.buildRetention())
	return c
}

func (a *App) buildPush() *cobra.Command {
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
		Args:              ui.AtLeast(1, "name the packages: yamato build push FILE…"),
		ValidArgsFunction: ui.Files("apk", "ipa", "zip"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			patch, err := patchOf(labels)
			if err != nil {
				return err
			}
			a.PushName = as
			b, err := a.Push(cmd.Context(), s, args)
			if err != nil {
				return err
			}
			before := b
			if note != "" {
				patch.Note = &note
			}
			if patch.Note != nil || patch.Labels != nil {
				ref, of := namesOf(b)
				if b, err = a.ChangeBuild(cmd.Context(), s, ref, of, patch); err != nil {
					return err
				}
			}
			return a.Write(b, func() {
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
func (a *App) tellPushed(before, after contract.Build) {
	var fresh, had []string
	for _, p := range before.Packages {
		if ui.Deref(p.Fresh) {
			fresh = append(fresh, p.FileName)
		} else if p.Fresh != nil {
			had = append(had, p.FileName)
		}
	}
	switch {
	case len(fresh) == 0 && len(had) > 0:
		fmt.Fprintln(a.Out, "Nothing is new: this build had been handed in before.")
	case len(had) > 0:
		a.Say(2, "New in this build: %s; it had %s before.", strings.Join(fresh, ", "), strings.Join(had, ", "))
	}
	for _, key := range slices.Sorted(maps.Keys(before.Labels)) {
		if now := after.Labels[key]; now != before.Labels[key] {
			fmt.Fprintf(a.Out, "Label %s was %s before, and is %s now.\n", key, before.Labels[key],
				ui.First(now, "taken away"))
		}
	}
}

func (a *App) buildLs() *cobra.Command {
	var appName, find string
	var labels []string
	cmd := &cobra.Command{
		Use: "ls", Short: "List builds, newest first", Example: "  yamato build ls --app Tideline --label branch=main",
		Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[contract.BuildList](s.ListBuilds(cmd.Context(), s.Project,
				&contract.ListBuildsParams{App: ui.Optional(appName), Q: ui.Optional(find), Label: ui.Several(labels)}))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(a.Out, "No builds are like that. Hand one in: yamato build push FILE…")
					return
				}
				var rows [][]string
				for _, b := range list.Items {
					rows = append(rows, []string{strconv.FormatInt(b.Number, 10), b.App,
						b.VersionName + " (" + b.VersionCode + ")",
						kinds(b), labelText(b), pinText(b), ui.Ago(b.CreatedAt)})
				}
				a.Table([]string{"BUILD", "APP", "VERSION", "PACKAGES", "LABELS", "", "HANDED IN"}, rows)
			})
		},
	}
	cmd.Flags().StringVar(&appName, "app", "", "app, by name or application id")
	cmd.Flags().StringVar(&find, "find", "", "part of a version, an application id, a note or a label")
	cmd.Flags().StringArrayVar(&labels, "label", nil, "only builds with this label; may be repeated")
	return cmd
}

func (a *App) buildShow() *cobra.Command {
	return a.ofBuild("show BUILD", "Show one build, by number, version, or the newest that has labels",
		"  yamato build show 3.2.0\n  yamato build show branch=main", nil,
		func(ctx context.Context, s *client.Service, ref, appName string) error {
			b, err := a.buildNamed(ctx, s, ref, appName)
			if err != nil {
				return err
			}
			return a.Write(b, func() { a.showBuild(b) })
		})
}

// ofBuild makes a command that does something with one build.
func (a *App) ofBuild(use, short, example string, flags func(*cobra.Command), do func(ctx context.Context,
	s *client.Service, ref, app string) error) *cobra.Command {
	var appName string
	cmd := &cobra.Command{
		Use: use, Short: short, Example: example, Args: ui.Exactly(1,
			"name the build: by number, by version, or by the labels of the newest"), ValidArgsFunction: a.Complete(
			ui.CompleteBuilds),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
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

func (a *App) buildNamed(ctx context.Context, s *client.Service, ref, appName string) (contract.Build, error) {
	return client.As[contract.Build](s.GetBuild(ctx, s.Project, ref,
		&contract.GetBuildParams{App: ui.Optional(appName)}))
}

func kinds(b contract.Build) string {
	var out []string
	for _, p := range b.Packages {
		out = append(out, kindName(p.Kind))
	}
	return strings.Join(out, ", ")
}

func kindName(kind string) string { return appfile.KindName(appfile.Kind(kind)) }

func (a *App) showBuild(b contract.Build) {
	fmt.Fprintf(a.Out, "%s  %s %s (%s)\n", a.Ink().Strong(fmt.Sprintf("Build %d", b.Number)), b.App, b.VersionName,
		b.VersionCode)
	for _, line := range []string{labelText(b), b.Note, pinText(b)} {
		if line != "" {
			fmt.Fprintln(a.Out, "  "+line)
		}
	}
	if b.RemovedAt != nil {
		fmt.Fprintf(a.Out, "  Its packages were removed by retention on %s.\n",
			b.RemovedAt.Local().Format("2006-01-02"))
		return
	}
	var rows [][]string
	for _, p := range b.Packages {
		rows = append(rows, []string{"  " + kindName(p.Kind), p.ApplicationId, needsText(p), bytesOf(p.Size),
			p.Digest[:12],
			from(p)})
	}
	a.Table([]string{"  PACKAGE", "APPLICATION ID", "NEEDS", "SIZE", "SHA-256", "FILE"}, rows)
	for _, p := range b.Packages {
		if p.Lacks != nil {
			for _, what := range *p.Lacks {
				fmt.Fprintf(a.Out, "  %s: %s\n", kindName(p.Kind), what)
			}
		}
	}
}

func needsText(p contract.Package) string {
	if p.MinimumOs == "" {
		return ""
	}
	needs := fleet.PlatformName(p.Platform) + " " + p.MinimumOs
	if n := ui.Deref(p.MinimumApi); n > 0 {
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

// Push uploads packages and makes a build of them.
func (a *App) Push(ctx context.Context, s *client.Service, paths []string) (contract.Build, error) {
	digests, names := []string{}, map[string]string{}
	for _, path := range paths {
		p, err := a.upload(ctx, s, path)
		if err != nil {
			return contract.Build{}, inFile(path, err)
		}
		if other, twice := names[p.Digest]; twice {
			fmt.Fprintf(a.Err, "yamato: %s and %s are the same package; it is taken once\n", other, path)
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

func (a *App) upload(ctx context.Context, s *client.Service, path string) (contract.Package, error) {
	switch {
	case strings.HasPrefix(path, "https://") || strings.HasPrefix(path, "http://"):
		return a.fetched(ctx, s, path)
	case path == "-":
		return a.uploadInput(ctx, s)
	}
	f, err := os.Open(path)
	if err != nil {
		return contract.Package{}, ui.WrongCall{Title: "the package cannot be read: " + err.Error(), Hint: ""}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return contract.Package{}, err
	}
	if info.IsDir() {
		if _, err := os.Stat(filepath.Join(path, "index.html")); err != nil {
			return contract.Package{}, aFolder(path)
		}
		return a.uploadFolder(ctx, s, path)
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
func (a *App) uploadInput(ctx context.Context, s *client.Service) (contract.Package, error) {
	f, err := os.CreateTemp("", "yamato-push-*")
	if err != nil {
		return contract.Package{}, err
	}
	defer func() { _ = f.Close(); _ = os.Remove(f.Name()) }()
	size, err := io.Copy(f, a.In)
	if err != nil {
		return contract.Package{}, fmt.Errorf("reading standard input: %w", err)
	}
	return a.uploadFile(ctx, s, f, size, ui.First(a.PushName, "standard-input"), f.Name())
}

// Bounds on a folder that is handed in as a web app.
const (
	maxFolderFiles = 20_000
	maxFolder      = 1 << 30 // bytes
)

// uploadFolder hands in a folder of pages, as tools build them, as one web bundle.
func (a *App) uploadFolder(ctx context.Context, s *client.Service, dir string) (contract.Package, error) {
	f, err := os.CreateTemp("", "yamato-push-*.zip")
	if err != nil {
		return contract.Package{}, err
	}
	defer func() { _ = f.Close(); _ = os.Remove(f.Name()) }()
	if err := packFolder(f, dir); err != nil {
		return contract.Package{}, err
	}
	info, err := f.Stat()
	if err != nil {
		return contract.Package{}, err
	}
	full, err := filepath.Abs(dir)
	if err != nil {
		return contract.Package{}, err
	}
	return a.uploadFile(ctx, s, f, info.Size(), filepath.Base(full)+".zip", f.Name())
}

// packFolder zips a folder. What begins with a dot, node_modules and links to elsewhere stay behind; the same
// files give the same bytes.
func packFolder(w io.Writer, dir string) error {
	z := zip.NewWriter(w)
	files, size := 0, int64(0)
	err := filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name != dir && (strings.HasPrefix(e.Name(), ".") || e.Name() == "node_modules") {
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !e.Type().IsRegular() {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if files, size = files+1, size+info.Size(); files > maxFolderFiles || size > maxFolder {
			return ui.WrongCall{Title: fmt.Sprintf("%s holds more than %d files or %d MB", dir, maxFolderFiles,
				maxFolder>>20),
				Hint: "name the folder that your tool builds, which holds what is served"}
		}
		within, err := filepath.Rel(dir, name)
		if err != nil {
			return err
		}
		to, err := z.CreateHeader(&zip.FileHeader{Name: filepath.ToSlash(within), Method: zip.Deflate})
		if err != nil {
			return err
		}
		from, err := os.Open(name)
		if err != nil {
			return err
		}
		defer from.Close()
		_, err = io.Copy(to, from)
		return err
	})
	if err != nil {
		return fmt.Errorf("the folder %s cannot be packed: %w", dir, err)
	}
	return z.Close()
}

func (a *App) uploadFile(ctx context.Context, s *client.Service, f io.ReaderAt, size int64, name,
	key string) (contract.Package, error) {
	bar := a.bar(size, name)
	p, err := s.Upload(ctx, f, size, name, s.Base()+" "+s.Project+" "+key, ui.OpenMemory(), uploadPatience,
		func(n int64) {
			_ = bar.Set64(n)
		})
	_ = bar.Finish()
	return p, err
}

// aFolder refuses a folder that was given for a package.
func aFolder(path string) error {
	if strings.HasSuffix(strings.TrimRight(path, "/"), ".app") {
		return ui.WrongCall{Title: path + " is a folder, not a package",
			Hint: "an .app goes into a .zip as a whole: cd " + filepath.Dir(
				filepath.Clean(path)) + " && zip -r app.zip " + filepath.Base(path)}
	}
	return ui.WrongCall{Title: path + " is a folder, not a package, and no index.html is in it",
		Hint: "name the packages in it: yamato build push " + filepath.Join(path, "*.apk") +
			"; or of a web app the folder that holds its index.html"}
}

// fetched has the service fetch a package from an address.
func (a *App) fetched(ctx context.Context, s *client.Service, address string) (contract.Package, error) {
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
func (a *App) bar(size int64, what string) *progressbar.ProgressBar {
	return progressbar.NewOptions64(size, progressbar.OptionSetWriter(a.Err),
		progressbar.OptionSetVisibility(a.Animated()), progressbar.OptionShowBytes(true),
		progressbar.OptionSetDescription(what), progressbar.OptionThrottle(200*time.Millisecond),
		progressbar.OptionClearOnFinish())
}

// BuildRef turns what a person gave as --build into a build's number: a file is
// handed in first, and its app is the one that is meant; anything else is a number or a
// version.
func (a *App) BuildRef(ctx context.Context, s *client.Service, refs []string, app *string) (string, error) {
	var paths []string
	for _, ref := range refs {
		if _, err := os.Stat(ref); err == nil {
			paths = append(paths, ref)
		}
	}
	switch {
	case len(paths) == len(refs):
		b, err := a.Push(ctx, s, paths)
		ref, of := namesOf(b)
		*app = of
		return ref, err
	case len(refs) == 1:
		if strings.ContainsAny(refs[0], `/\`) || slices.Contains([]string{".apk", ".ipa", ".zip"},
			filepath.Ext(refs[0])) {
			return "", ui.WrongCall{Title: "there is no file " + refs[0],
				Hint: "a build is named by file, by number, by version, or by labels (branch=main)"}
		}
		return refs[0], nil
	}
	return "", ui.WrongCall{Title: "--build names files, or one build by number or version", Hint: ""}
}

// namesOf gives what means a build and no other: its number, marked as one since a version
// may be called that too, and the id of its app, since two apps may have one name.
func namesOf(b contract.Build) (ref, app string) {
	app = b.App
	if len(b.Packages) > 0 {
		app = ui.First(b.Packages[0].ApplicationId, app)
	}
	return fmt.Sprintf("#%d", b.Number), app
}

// from is where a package came from: its file, or the address at which a web app stays.
func from(p contract.Package) string {
	if at := p.Launch; at != nil && strings.Contains(*at, "://") {
		return *at
	}
	return p.FileName
}
