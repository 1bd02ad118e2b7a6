package nodecmd

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"yamato/internal/cli/ui"
	"yamato/internal/host/android"
	"yamato/internal/host/driver"
	"yamato/internal/pgbox"
)

// dataDir is where this machine keeps what belongs to name. As root it is a
// place that the database's unprivileged user can reach.
func dataDir(name string) (string, error) {
	base := os.Getenv("XDG_DATA_HOME")
	if base == "" && os.Geteuid() == 0 {
		return filepath.Join("/var/lib/yamato", name), nil
	}
	if base == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		base = filepath.Join(home, ".local", "share")
	}
	return filepath.Join(base, "yamato", name), nil
}

// stack is everything on one machine: the database, a service, and hosts.
type stack struct {
	box  *pgbox.Box
	node *node
	dir  string
	log  *slog.Logger
}

type stackConfig struct {
	dir     string
	listen  string
	names   []string
	care    careConfig
	without []string // sites of the demo that are not wanted
	anyway  bool     // take any free port if that address is taken
	log     *slog.Logger
}

// openStack starts the database and prepares the service.
func openStack(ctx context.Context, c stackConfig) (*stack, error) {
	if err := checkListen(c.listen); err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(c.dir)
	if err != nil {
		return nil, err
	}
	c.dir = dir
	if err := os.MkdirAll(c.dir, 0o711); err != nil { // the database's user passes through
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	box, err := pgbox.Start(ctx, filepath.Join(c.dir, "postgres"))
	if errors.Is(err, pgbox.ErrNotInstalled) {
		return nil, ui.WrongCall{Title: "no PostgreSQL server is installed",
			Hint: "as root: apt-get install -y postgresql"}
	}
	if err != nil {
		return nil, err
	}
	s := &stack{box: box, dir: c.dir, log: c.log}
	if err := s.openNode(ctx, c); err != nil {
		return nil, errors.Join(err, box.Stop())
	}
	return s, nil
}

// checkListen refuses an address that is left empty: it would mean every one that the
// machine has.
func checkListen(address string) error {
	if address == "" {
		return ui.WrongCall{Title: "--listen needs an address",
			Hint: "such as 127.0.0.1:7420; to be reached from everywhere say so: 0.0.0.0:7420"}
	}
	return nil
}

func (s *stack) openNode(ctx context.Context, c stackConfig) error {
	if err := createDatabase(ctx, s.box, "yamato"); err != nil {
		return err
	}
	dir := filepath.Join(c.dir, "service")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	config := nodeConfig{database: s.box.URL("yamato"), dir: dir, listen: c.listen, names: c.names, project: "default",
		care: c.care, log: c.log}
	n, err := openNode(ctx, config)
	if errors.As(err, &ui.WrongCall{}) && c.anyway {
		config.listen = "127.0.0.1:0"
		n, err = openNode(ctx, config)
	}
	s.node = n
	return err
}

// siteFile is a site file that has been read, and is right.
type siteFile struct {
	path, name string
	env        []string // of its host, beside this process's
}

// readSites reads site files before anything is started for them.
func readSites(paths []string) ([]siteFile, error) {
	var out []siteFile
	for _, path := range paths {
		text, err := ui.ReadSmall(path)
		if err != nil {
			return nil, ui.WrongCall{Title: "the site file cannot be read: " + err.Error(), Hint: ""}
		}
		site, _, err := driver.Read(text)
		if err != nil {
			return nil, ui.WrongCall{Title: path + ": " + err.Error(),
				Hint: "docs/fleet.md says how a site file is written"}
		}
		if slices.ContainsFunc(out, func(s siteFile) bool { return s.name == site.Name }) {
			return nil, ui.WrongCall{Title: fmt.Sprintf("%s: another site file describes the site %s already", path,
				site.Name),
				Hint: "give one of them another name"}
		}
		out = append(out, siteFile{path: path, name: site.Name})
	}
	return out, nil
}

// run serves, with a host process for each site file, until ctx ends; then it
// stops everything.
func (s *stack) run(ctx context.Context, sites []siteFile) error {
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return s.node.run(ctx) })
	for _, site := range sites {
		args := []string{"host", "--site", site.path, "--service", s.node.url, "--token-file", s.node.hostToken,
			"--dir",
			filepath.Join(s.dir, "host-"+site.name)}
		g.Go(func() error { return supervise(ctx, s.log, site.env, args...) })
	}
	err := g.Wait()
	if ctx.Err() != nil && errors.Is(err, context.Canceled) {
		err = nil
	}
	return err
}

func (s *stack) close() error { return errors.Join(s.node.close(), s.box.Stop()) }

func createDatabase(ctx context.Context, box *pgbox.Box, name string) error {
	db, err := sql.Open("pgx", box.URL("postgres"))
	if err != nil {
		return err
	}
	defer db.Close()
	var there bool
	if err := db.QueryRowContext(ctx, `select exists (select 1 from pg_database where datname = $1)`,
		name).Scan(&there); err != nil || there {
		return err
	}
	_, err = db.ExecContext(ctx, `create database `+name)
	return err
}

func (a *App) UpCommand() *cobra.Command {
	var c stackConfig
	var paths, connect []string
	var verbose, phones bool
	cmd := &cobra.Command{
		Use: "up", Short: "Run everything on this machine: a database of its own, the service, and hosts",
		Args:    ui.None,
		Example: "  yamato up --site bench.yaml\n  yamato up --phones",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var err error
			if c.dir == "" {
				if c.dir, err = dataDir("up"); err != nil {
					return err
				}
			}
			if c.dir, err = filepath.Abs(c.dir); err != nil {
				return err
			}
			c.log = a.logger(verbose)
			if phones || len(connect) > 0 {
				file, err := phonesSite(c.dir, connect)
				if err != nil {
					return err
				}
				paths = append(paths, file)
			}
			sites, err := readSites(paths)
			if err != nil {
				return err
			}
			s, err := openStack(cmd.Context(), c)
			if err != nil {
				return err
			}
			path := a.keepConnection(ui.Connection{Service: s.node.url, Token: s.node.userToken,
				Project: s.node.project}, filepath.Dir(s.node.hostToken))
			fmt.Fprintf(a.Out, "Yamato is up at %s\n  your token    %s\n  hosts' token  %s\n  data          %s\n",
				s.node.url,
				path, s.node.hostToken, s.dir)
			if len(sites) == 0 {
				fmt.Fprintln(a.Out, "No host runs yet: start one with --site FILE, here or with `yamato host`.")
			}
			fmt.Fprintln(a.Out, "Ctrl-C stops everything.")
			serve := func(ctx context.Context) error { return s.run(ctx, sites) }
			return errors.Join(a.serveAndTell(cmd.Context(), s.node, serve), s.close())
		},
	}
	f := cmd.Flags()
	f.StringVar(&c.dir, "dir", "", "data folder (default: /var/lib/yamato/up for root, else ~/.local/share/yamato/up)")
	f.StringVar(&c.listen, "listen", defaultListen, "address to listen on; loopback unless you say otherwise")
	f.StringArrayVar(&c.names, "name", nil, "name that browsers may open the console by, beside the address; may "+
		"be repeated")
	c.care.flags(f)
	f.StringArrayVar(&paths, "site", nil, "site file for which to run a host; may be repeated")
	f.BoolVar(&phones, "phones", false, "run a host for the Android phones and emulators that this machine's debug bridge sees")
	f.StringArrayVar(&connect, "connect", nil, "address of a phone over the network, HOST:PORT, which is connected again whenever "+
		"it is lost; implies --phones, and may be repeated")
	f.BoolVar(&verbose, "verbose", false, "log more")
	return cmd
}

// phonesSite writes the site file of the phones that this machine's debug bridge sees: they say themselves what they are.
func phonesSite(dir string, connect []string) (string, error) {
	text := "site: cable\ndriver: android\n"
	for i, at := range connect {
		if err := android.CheckAddress(at); err != nil {
			return "", ui.WrongCall{Title: err.Error(), Hint: "as in --connect 192.0.2.7:5555"}
		}
		if i == 0 {
			text += "android:\n  connect:\n"
		}
		text += fmt.Sprintf("    - %q\n", at)
	}
	path := filepath.Join(dir, "phones.yaml")
	if err := os.MkdirAll(dir, 0o711); err != nil { // the database's user passes through
		return "", fmt.Errorf("making the data folder: %w", err)
	}
	return path, os.WriteFile(path, []byte(text), 0o600)
}
