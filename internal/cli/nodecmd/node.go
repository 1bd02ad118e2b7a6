package nodecmd

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/sync/errgroup"

	"yamato/internal/api"
	"yamato/internal/cli/ui"
	"yamato/internal/core/fleet"
	"yamato/internal/filelock"
	"yamato/internal/host"
	_ "yamato/internal/host/android"
	"yamato/internal/host/driver"
	_ "yamato/internal/host/handset"
	_ "yamato/internal/host/null" // drivers register themselves
	_ "yamato/internal/host/standin"
	"yamato/internal/host/upstream"
	"yamato/internal/host/yard"
	"yamato/internal/outside"
	"yamato/internal/retry"
	"yamato/internal/service"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
	"yamato/web"
)

const defaultListen = "127.0.0.1:7420"

// node is a service in this process.
type node struct {
	url       string
	userToken string
	hostToken string // path of its file
	project   string
	run       func(context.Context) error
	close     func() error
}

type nodeConfig struct {
	database string
	dir      string // for blobs and tokens
	blobs    string // where blobs are kept: a bucket's address, a folder, or one below dir where it is empty
	blobKeys string // file with a bucket's keys; the environment's where it is empty
	keyFile  string // that secrets are sealed with; one of dir's own where it is empty
	listen   string
	address  string // at which others reach it; that which is listened on where it is empty
	project  string
	ttl      time.Duration
	silence  time.Duration
	names    []string // that browsers may know the service by
	care     careConfig
	log      *slog.Logger
}

// careConfig is how the service looks after the fleet.
type careConfig struct {
	troubles   int
	within     time.Duration
	probeEvery time.Duration
	mendWithin time.Duration
	mayFetch   []string
	authority  []string
}

func (c *careConfig) flags(f *pflag.FlagSet) {
	f.IntVar(&c.troubles, "sideline-after", 3, "device troubles after which a device is sidelined")
	f.DurationVar(&c.within, "sideline-within", time.Hour, "the time within which those count")
	f.DurationVar(&c.probeEvery, "probe-every", 10*time.Minute,
		"after which a device that was sidelined by itself is tried again")
	f.DurationVar(&c.mendWithin, "mend-within", 15*time.Minute,
		"how long runs wait for devices that a person has to mend")
	f.StringArrayVar(&c.mayFetch, "may-fetch", nil,
		"host that packages may be fetched from though its address is private; may be repeated")
	f.StringArrayVar(&c.authority, "authority", nil,
		"PEM file with certificates of your own authority, for packages that are fetched; may be repeated")
}

// openNode prepares a service: records migrated, tokens made, address taken. It
// serves when its run is called.
func openNode(ctx context.Context, c nodeConfig) (*node, error) {
	st, err := store.Open(ctx, c.database)
	if err != nil {
		return nil, err
	}
	n, err := prepareNode(ctx, c, st)
	if err != nil {
		return nil, errors.Join(err, st.Close())
	}
	return n, nil
}

// awaitNode is openNode that waits for a database that is away, and says so.
func (a *App) awaitNode(ctx context.Context, c nodeConfig) (*node, error) {
	pause := retry.From(200*time.Millisecond, 5*time.Second)
	var said time.Time
	for {
		n, err := openNode(ctx, c)
		if err == nil || !pg.Away(err) {
			return n, err
		}
		if time.Since(said) > 30*time.Second {
			said = time.Now()
			fmt.Fprintf(a.Err, "yamato: the database is away, and waited for: %v\n", err)
		}
		if err := retry.For(ctx, pause.Next()); err != nil {
			return nil, err
		}
	}
}

func prepareNode(ctx context.Context, c nodeConfig, st *store.Store) (*node, error) {
	trusted, err := outside.Trusted(c.care.authority...)
	if err != nil {
		return nil, ui.WrongCall{Title: err.Error(), Hint: "name a PEM file with --authority"}
	}
	if err := st.Migrate(ctx); errors.As(err, new(store.NewerError)) {
		return nil, ui.WrongCall{Title: err.Error(), Hint: "start the newer program, or restore the records from before its first start"}
	} else if err != nil {
		return nil, err
	}
	if err := sameRecords(ctx, c.dir, st); err != nil {
		return nil, err
	}
	blobs, err := c.openBlobs(ctx)
	if err != nil {
		return nil, err
	}
	project, err := st.AddProject(ctx, c.project)
	if err != nil {
		return nil, err
	}
	n := &node{project: c.project, close: st.Close, hostToken: filepath.Join(c.dir, "host-token")}
	if n.userToken, err = ensureToken(ctx, st, project, "user", userName(),
		filepath.Join(c.dir, "user-token")); err != nil {
		return nil, err
	}
	if _, err = ensureToken(ctx, st, project, "host", "hosts", n.hostToken); err != nil {
		return nil, err
	}
	key, err := ensureKey(ui.First(c.keyFile, filepath.Join(c.dir, "secrets.key")))
	if err != nil {
		return nil, err
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", c.listen)
	if err != nil {
		return nil, ui.WrongCall{Title: fmt.Sprintf("the address %s cannot be listened on: %v", c.listen, err),
			Hint: "choose another with --listen, such as 127.0.0.1:0 for any free port"}
	}
	address, err := reachedAt(l.Addr(), c.address)
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	n.url = "http://" + within(l.Addr())
	s := service.New(st, blobs, base.Config{Address: address, TTL: c.ttl, Silence: c.silence, Log: c.log,
		Tolerance: fleet.Tolerance{Count: c.care.troubles, Within: c.care.within}, ProbeEvery: c.care.probeEvery,
		MendWithin: c.care.mendWithin, MayFetch: c.care.mayFetch, Trusted: trusted, Key: key})
	n.run = func(ctx context.Context) error {
		g, ctx := errgroup.WithContext(ctx)
		// what goes on is told to end first; calls under way are let finish, and only then does the rest end
		work, end := context.WithCancel(context.WithoutCancel(ctx))
		server := &http.Server{Handler: api.New(s, api.Config{Program: ui.Version, Names: c.names, Console: web.Files(),
			Stopping: ctx,
			Uploads:  filepath.Join(c.dir, "blobs", "staging"), Log: c.log}), ReadHeaderTimeout: 10 * time.Second,
			IdleTimeout: 2 * time.Minute, BaseContext: func(net.Listener) context.Context { return work }}
		g.Go(func() error { return s.Run(work) })
		g.Go(func() error {
			if err := server.Serve(api.Bounded(l, api.MaxConnections, api.MaxConnectionsEach,
				api.TakenWithin)); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		})
		g.Go(func() error {
			<-ctx.Done()
			defer end()
			late, stop := context.WithTimeout(work, finishWithin)
			defer stop()
			if server.Shutdown(late) != nil {
				return server.Close()
			}
			return nil
		})
		return g.Wait()
	}
	return n, nil
}

// finishWithin is how long calls that are under way may go on when the service stops.
const finishWithin = 5 * time.Second

// within is where this machine itself reaches what listens on an address.
func within(a net.Addr) string {
	host, port, err := net.SplitHostPort(a.String())
	if ip := net.ParseIP(host); err == nil && ip.IsUnspecified() {
		return net.JoinHostPort("127.0.0.1", port)
	}
	return a.String()
}

// reachedAt is where others reach a service: at the address that was given, or the one that it listens on, which is of
// this machine where it listens on all.
func reachedAt(listens net.Addr, given string) (string, error) {
	if given != "" {
		u, err := url.Parse(given)
		switch {
		case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || u.User != nil ||
			u.RawQuery != "" || u.Fragment != "" || u.Path != "" && u.Path != "/":
			return "", ui.WrongCall{Title: fmt.Sprintf("%q is no address at which a service is reached", given),
				Hint: "it reads as in --address https://yamato.example:7420"}
		case net.ParseIP(u.Hostname()).IsUnspecified():
			return "", ui.WrongCall{Title: given + " is every address of a machine, and none at which it is reached",
				Hint: "name one: --address http://" + outside.OwnAddress() + ":" + cmp.Or(u.Port(), "7420")}
		}
		return u.Scheme + "://" + u.Host, nil
	}
	host, port, err := net.SplitHostPort(listens.String())
	if err != nil {
		return "", err
	}
	if net.ParseIP(host).IsUnspecified() {
		own := outside.OwnAddress()
		if own == "" {
			own = "127.0.0.1"
		}
		return "http://" + net.JoinHostPort(own, port), nil
	}
	return "http://" + listens.String(), nil
}

// keepConnection writes what commands of this user find the service by, and gives where their token is. Where that
// cannot be written, as without a home, commands are told how to find it instead: the service serves all the same.
func (a *App) keepConnection(c ui.Connection, dir string) string {
	path, err := ui.WriteConnection(c)
	if err == nil {
		return path
	}
	token := filepath.Join(dir, "user-token")
	fmt.Fprintf(a.Err, "yamato: commands do not find this service by themselves (%v): pass --service %s --token-file %s\n", err, c.Service, token)
	return token
}

// sameRecords refuses a folder that holds the tokens, packages and evidence of other records.
func sameRecords(ctx context.Context, dir string, st *store.Store) error {
	id, err := st.Identity(ctx)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "records")
	had, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		if err = keepSecret(path, []byte(id+"\n")); errors.Is(err, os.ErrExist) { // another service, a moment earlier
			had, err = os.ReadFile(path)
		} else if err == nil {
			return nil
		}
	}
	if err == nil && strings.TrimSpace(string(had)) != id {
		return ui.WrongCall{Title: "the folder " + dir + " belongs to the records of another database",
			Hint: "name the database that it was served for, or another folder with --dir. Where those records were restored elsewhere under a new identity, remove " + path}
	}
	return err
}

func userName() string {
	return ui.First(os.Getenv("USER"), os.Getenv("LOGNAME"), "local user")
}

// keepSecret makes the file with a key or a token, whole or not at all, unless there is one.
func keepSecret(path string, key []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".key-*") // with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(key)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Link(f.Name(), path)
}

// ensureKey gives the key in a file that secrets are sealed with, which is made with mode 0600 if
// need be. Several services on the same records need the same.
func ensureKey(path string) ([]byte, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key = make([]byte, 32)
		_, _ = rand.Read(key)                                         // never fails (crypto/rand)
		if err = keepSecret(path, key); errors.Is(err, os.ErrExist) { // another service, a moment earlier
			key, err = os.ReadFile(path)
		}
	}
	if err == nil && len(key) != 32 {
		return nil, ui.WrongCall{Title: fmt.Sprintf("the key for secrets in %s has %d bytes instead of 32", path,
			len(key)),
			Hint: "put back the file that the other services have; secrets that were sealed with another key are lost"}
	}
	if err != nil {
		return nil, fmt.Errorf("keeping the key for secrets: %w", err)
	}
	return key, nil
}

// ensureToken gives the token in a file, which is made with mode 0600 if need
// be, and lets the service know it.
func ensureToken(ctx context.Context, st *store.Store, project int64, kind, name, path string) (string, error) {
	body, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		body = []byte(base.NewToken() + "\n")
		if err = keepSecret(path, body); errors.Is(err, os.ErrExist) { // another service, a moment earlier
			body, err = os.ReadFile(path)
		}
	}
	if err != nil {
		return "", fmt.Errorf("keeping the token of the %s: %w", name, err)
	}
	token := strings.TrimSpace(string(body))
	return token, st.AddToken(ctx, project, kind, name, token)
}

func (a *App) logger(verbose bool) *slog.Logger {
	level := slog.LevelWarn
	if verbose {
		level = slog.LevelInfo
	}
	return slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: level}))
}

func (a *App) ServeCommand() *cobra.Command {
	c := nodeConfig{project: "default"}
	var verbose bool
	cmd := &cobra.Command{
		Use: "serve", Short: "Run a service on a PostgreSQL database of yours; several may share one", Args: ui.None,
		Example: "  yamato serve --database postgres://yamato@db/yamato --dir /srv/yamato",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if c.database = ui.First(c.database, os.Getenv("YAMATO_DATABASE")); c.database == "" {
				return ui.WrongCall{Title: "serve needs a database",
					Hint: "pass --database postgres://…, or use `yamato up`, which brings its own"}
			}
			if c.dir == "" {
				return ui.WrongCall{Title: "serve needs a folder for blobs and tokens", Hint: "pass --dir DIR"}
			}
			if err := checkListen(c.listen); err != nil {
				return err
			}
			var err error
			if c.dir, err = filepath.Abs(c.dir); err != nil {
				return err
			}
			if err := os.MkdirAll(c.dir, 0o700); err != nil {
				return err
			}
			c.log = a.logger(verbose)
			n, err := a.awaitNode(cmd.Context(), c)
			if err != nil {
				return err
			}
			path := a.keepConnection(ui.Connection{Service: n.url, Token: n.userToken, Project: n.project},
				filepath.Dir(n.hostToken))
			fmt.Fprintf(a.Out, "Serving at %s; your token is in %s, the hosts' in %s\n", n.url, path, n.hostToken)
			return errors.Join(a.serveAndTell(cmd.Context(), n, n.run), n.close())
		},
	}
	f := cmd.Flags()
	f.StringVar(&c.database, "database", "", "PostgreSQL database ($YAMATO_DATABASE)")
	f.StringVar(&c.address, "address", "", "address at which hosts, consoles and other services reach this one, where it is not the one listened on: https://yamato.example")
	f.StringVar(&c.dir, "dir", "", "folder for tokens and blobs; services that share a database share it, or a bucket (--blobs) and the key file")
	f.StringVar(&c.blobs, "blobs", "", "where what is kept goes: a folder, or s3://bucket/prefix (default: in --dir)")
	f.StringVar(&c.blobKeys, "blobs-keys", "", "`file` with the keys of a bucket (default: $AWS_ACCESS_KEY_ID and $AWS_SECRET_ACCESS_KEY)")
	f.StringVar(&c.keyFile, "key-file", "", "`file` with the key that secrets are sealed with, the same for all services (default: in --dir, "+
		"made there)")
	f.StringVar(&c.listen, "listen", defaultListen, "address to listen on; loopback unless you say otherwise")
	f.StringArrayVar(&c.names, "name", nil, "name that browsers may open the console by, beside the address; may "+
		"be repeated")
	c.care.flags(f)
	f.DurationVar(&c.ttl, "lease", 30*time.Second, "how long a lease lasts that its host does not renew")
	f.DurationVar(&c.silence, "silence", 3*time.Second, "after which silence another service takes the lead")
	f.BoolVar(&verbose, "verbose", false, "log more")
	return cmd
}

func (a *App) HostCommand() *cobra.Command {
	var sitePath, services, tokenFile, dir, name string
	var verbose bool
	scratch := ui.Size(4 << 30)
	cmd := &cobra.Command{
		Use: "host", Short: "Run a host: it drives the devices of a site for a service", Args: ui.None,
		Example: "  yamato host --site bench.yaml --service http://127.0.0.1:7420 --token-file host-token --dir " +
			"/srv/host",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if sitePath == "" || dir == "" {
				return ui.WrongCall{Title: "a host needs a site file and a folder of its own",
					Hint: "pass --site FILE and --dir DIR"}
			}
			text, err := ui.ReadSmall(sitePath)
			if err != nil {
				return ui.WrongCall{Title: "the site file cannot be read: " + err.Error(), Hint: ""}
			}
			site, devicesOf, err := driver.Read(text)
			if err != nil {
				return ui.WrongCall{Title: err.Error(), Hint: ""}
			}
			if dir, err = filepath.Abs(dir); err != nil {
				return err
			}
			named := ui.First(name, site.Name)
			key, err := upstream.OpenToken(filepath.Join(dir, "own-token"), named, tokenFile)
			if err != nil {
				return ui.WrongCall{Title: "a host needs a token: " + err.Error(),
					Hint: "the service wrote one at its first start, `yamato host token make` makes one; pass --token-file FILE"}
			}
			if err := os.MkdirAll(dir, 0o700); err != nil {
				return err
			}
			lock, err := filelock.Take(filepath.Join(dir, "lock")) // its journal is one host's
			if err != nil {
				return err
			}
			defer func() { _ = lock.Release() }()
			yard, err := yard.Open(dir, site, devicesOf)
			if err != nil {
				return ui.WrongCall{Title: err.Error(), Hint: ""}
			}
			devices, err := yard.Devices()
			if err != nil {
				return ui.WrongCall{Title: err.Error(), Hint: ""}
			}
			urls := strings.Split(ui.First(services, os.Getenv("YAMATO_SERVICE"), "http://"+defaultListen), ",")
			return host.Run(cmd.Context(), host.Config{Name: named, Site: site.Name,
				Program: ui.Version,
				Dir:     dir, Scratch: int64(scratch), Devices: devices, Yard: yard,
				Service: upstream.NewServices(urls, key), Log: a.logger(verbose),
				Linked: func() { fmt.Fprintf(a.Out, "Linked as %s; devices: %d\n", named, len(devices)) }})
		},
	}
	f := cmd.Flags()
	f.StringVar(&sitePath, "site", "", "site file: the models and devices there are")
	f.StringVar(&services, "service", "", "addresses of services, with commas between them; the next is tried "+
		"where one does not answer")
	f.StringVar(&tokenFile, "token-file", "", "file that holds a token of this host's, or the one that hosts share, which works once for each")
	f.StringVar(&dir, "dir", "", "folder for the journal and cached packages")
	f.StringVar(&name, "name", "", "name of the host (default: the site's)")
	f.Var(&scratch, "scratch", "what frames of videos may take on the disk until they are handed on; what is more is dropped, and said")
	f.BoolVar(&verbose, "verbose", false, "log more")
	cmd.AddCommand(a.hostTokens())
	return cmd
}

// supervise keeps a child of this program running until ctx ends, and then ends
// it. It waits for it.
func supervise(ctx context.Context, log *slog.Logger, env []string, args ...string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	runtime.LockOSThread() // the child dies with the thread that started it, so that one must live as long
	defer runtime.UnlockOSThread()
	for ctx.Err() == nil {
		cmd := exec.Command(self, args...)
		cmd.Env = append(os.Environ(), env...)
		cmd.Stderr = os.Stderr
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
		if err := cmd.Start(); err != nil {
			return fmt.Errorf("starting `yamato %s`: %w", args[0], err)
		}
		stop := context.AfterFunc(ctx, func() { _ = cmd.Process.Signal(syscall.SIGTERM) })
		err := cmd.Wait()
		stop()
		if ctx.Err() != nil {
			return nil
		}
		log.Warn("a process ended by itself; starting it again", "command", args[0], "error", err)
		t := time.NewTimer(300 * time.Millisecond)
		select {
		case <-t.C:
		case <-ctx.Done():
		}
		t.Stop()
	}
	return nil
}
