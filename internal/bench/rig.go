package main

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"yamato/demo"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/script"
	"yamato/internal/host/upstream"
	"yamato/internal/pgbox"
)

type config struct {
	program string
	window  time.Duration
	devices int
	only    string
}

// rig is a cluster, a service and a host, each a process of its own.
type rig struct {
	config
	dir     string
	box     *pgbox.Box
	db      *sql.DB
	client  *client.Service
	service *exec.Cmd
	host    *exec.Cmd
}

func newRig(ctx context.Context, c config) (*rig, error) {
	dir, err := os.MkdirTemp("", "yamato-bench-")
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return nil, err
	}
	r := &rig{config: c, dir: dir}
	if r.box, err = pgbox.Start(ctx, filepath.Join(dir, "postgres")); err != nil {
		return nil, err
	}
	if r.db, err = sql.Open("pgx", r.box.URL("postgres")); err != nil {
		return nil, err
	}
	r.db.SetMaxOpenConns(16)
	r.db.SetMaxIdleConns(16)
	return r, nil
}

// serve starts the service on a fresh database.
func (r *rig) serve(ctx context.Context, database string) error {
	if _, err := r.db.ExecContext(ctx, "create database "+database); err != nil {
		return err
	}
	dir := filepath.Join(r.dir, "service-"+database)
	r.service = exec.Command(r.program, "serve", "--database", r.box.URL(database), "--dir", dir, "--listen",
		"127.0.0.1:7499")
	if err := r.launch(r.service); err != nil {
		return err
	}
	err := until(ctx, 30*time.Second, func() error {
		token, err := os.ReadFile(filepath.Join(dir, "user-token"))
		if err != nil {
			return err
		}
		if r.client, err = client.Open("http://127.0.0.1:7499", strings.TrimSpace(string(token)),
			"default"); err != nil {
			return err
		}
		a, err := r.client.AboutWithResponse(ctx)
		if err == nil && a.JSON200 == nil {
			err = errors.New("the service does not know us")
		}
		return err
	})
	if err != nil {
		return err
	}
	return r.db.Close()
}

func (r *rig) launch(cmd *exec.Cmd) error {
	cmd.Env = append(os.Environ(), "YAMATO_CONNECTION="+filepath.Join(r.dir, "connection.json"))
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return cmd.Start()
}

// attach starts a host for a site and waits for its devices.
func (r *rig) attach(ctx context.Context, database, site string, devices int) (err error) {
	if r.db, err = sql.Open("pgx", r.box.URL(database)); err != nil {
		return err
	}
	path := filepath.Join(r.dir, database+".yaml")
	if err := os.WriteFile(path, []byte(site), 0o600); err != nil {
		return err
	}
	r.host = exec.Command(r.program, "host", "--site", path, "--service", "http://127.0.0.1:7499",
		"--token-file", filepath.Join(r.dir, "service-"+database, "host-token"), "--dir",
		filepath.Join(r.dir, "host-"+database))
	if err := r.launch(r.host); err != nil {
		return err
	}
	return until(ctx, 30*time.Second, func() error {
		n, err := r.count(ctx, `select count(*) from device where state = 'idle'`)
		if err == nil && n < devices {
			err = fmt.Errorf("%d of %d devices are ready", n, devices)
		}
		return err
	})
}

func (r *rig) count(ctx context.Context, query string, args ...any) (n int, err error) {
	err = r.db.QueryRowContext(ctx, query, args...).Scan(&n)
	return n, err
}

func (r *rig) close() {
	for _, cmd := range []*exec.Cmd{r.host, r.service} {
		if cmd != nil && cmd.Process != nil {
			_ = cmd.Process.Signal(syscall.SIGTERM)
			_ = cmd.Wait()
		}
	}
	r.host, r.service = nil, nil
}

// push hands in a build of the sample app and suites, and gives their names.
func (r *rig) push(ctx context.Context, suites []string) ([]string, error) {
	packages, err := demo.Packages(demo.Versions[0], time.Now())
	if err != nil {
		return nil, err
	}
	var digests []string
	for _, p := range packages {
		a, err := r.client.AddPackageWithBodyWithResponse(ctx, "default", &contract.AddPackageParams{FileName: p.File},
			"application/octet-stream", strings.NewReader(string(p.Data)))
		if err != nil || a.JSON200 == nil {
			return nil, fmt.Errorf("pushing a package: %w", err)
		}
		digests = append(digests, a.JSON200.Digest)
	}
	if b, err := r.client.MakeBuildWithResponse(ctx, "default", contract.NewBuild{Packages: digests}); err != nil ||
		b.JSON200 == nil {
		return nil, fmt.Errorf("making a build: %w", err)
	}
	var names []string
	beside, err := samplesBeside()
	if err != nil {
		return nil, err
	}
	for _, text := range suites {
		// suites that wait for each other's accounts measure that
		if script.IsShared(text) || strings.Contains(text, "account ") {
			continue
		}
		a, err := r.client.PushSuiteWithResponse(ctx, "default", contract.NewSuite{FileName: "bench.yamato",
			Text: text, Files: &beside})
		if err != nil || a.JSON200 == nil {
			return nil, fmt.Errorf("pushing a suite: %w", err)
		}
		names = append(names, a.JSON200.Name)
	}
	return names, nil
}

func (r *rig) start(ctx context.Context, suites []string) (contract.Run, error) {
	seed := int64(7)
	a, err := r.client.StartRunWithResponse(ctx, "default", &contract.StartRunParams{}, contract.NewRun{Build: "3.1.4",
		Suites: suites, Seed: &seed})
	if err != nil {
		return contract.Run{}, err
	}
	if a.JSON200 == nil {
		return contract.Run{}, fmt.Errorf("starting a run: %s", a.Body)
	}
	return *a.JSON200, nil
}

// until calls check until it is content, for as long as limit.
func until(ctx context.Context, limit time.Duration, check func() error) error {
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for late := time.After(limit); ; {
		err := check()
		if err == nil {
			return nil
		}
		select {
		case <-tick.C:
		case <-late:
			return err
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// residentKB is the resident memory of a process.
func residentKB(pid int) int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	fields := strings.Fields(string(text))
	if err != nil || len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(fields[1], 10, 64)
	return pages * int64(os.Getpagesize()) / 1024
}

// childrenOf gives the processes that a process has started.
func childrenOf(pid int) (out []int) {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, list := range lists {
		text, _ := os.ReadFile(list)
		for _, word := range strings.Fields(string(text)) {
			if n, err := strconv.Atoi(word); err == nil {
				out = append(out, n)
			}
		}
	}
	return out
}

// upload keeps a text at the service, as a host does.
func (r *rig) upload(ctx context.Context, text string) (digest string, err error) {
	token, err := os.ReadFile(filepath.Join(r.dir, "service-console", "host-token"))
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256([]byte(text))
	digest = hex.EncodeToString(sum[:])
	return digest, upstream.NewServices([]string{r.client.Base()},
		upstream.FixedToken(strings.TrimSpace(string(token)))).Upload(ctx, digest,
		strings.NewReader(text), int64(len(text)))
}

// samplesBeside are the files that the sample suites use.
func samplesBeside() ([]contract.SuiteFile, error) {
	suites, err := demo.Suites()
	if err != nil {
		return nil, err
	}
	var out []contract.SuiteFile
	for name, text := range suites {
		if script.IsShared(text) {
			out = append(out, contract.SuiteFile{Path: name, Content: []byte(text)})
		}
	}
	return out, nil
}
