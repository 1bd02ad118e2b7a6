package phone

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/host/driver"
)

// maxPackage bounds a package that is installed, in bytes; maxSessions how many installs are under way, and maxWritten how
// many packages one of them has.
const (
	maxPackage  = 4 << 30
	maxSessions = 50
	maxWritten  = 300
)

// session is an app that comes in several packages.
type session struct {
	down  bool
	paths []string
	names []string
	ended bool
}

// installCall is what an install is told.
type installCall struct {
	size int64 // of what comes in, -1 where it is in a file
	down bool
	rest []string
}

func readInstall(args []string) (c installCall, ok bool) {
	c.size = -1
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == "-S" && i+1 < len(args):
			i++
			n, err := strconv.ParseInt(args[i], 10, 64)
			if err != nil || n < 0 || n > maxPackage {
				return c, false
			}
			c.size = n
		case args[i] == "-d":
			c.down = true
		case (args[i] == "-i" || args[i] == "--user" || args[i] == "-p") && i+1 < len(args):
			i++
		case args[i] == "-" || !strings.HasPrefix(args[i], "-"):
			c.rest = append(c.rest, args[i])
		}
	}
	return c, true
}

func badSize(j *job) int { return j.fail(1, "Failure [INSTALL_FAILED_INVALID_URI: bad size]") }

// install reads a package from what comes in, or from a file, and puts it on the phone.
func install(j *job, args []string) int {
	c, ok := readInstall(args)
	if !ok {
		return badSize(j)
	}
	from := ""
	if len(c.rest) > 0 {
		from = c.rest[len(c.rest)-1]
	}
	path, failed := j.taken(c.size, from)
	if path == "" {
		return failed
	}
	return j.installed([]string{path}, c.down)
}

// taken keeps a package that comes in, or that is in a file. Where it does not, it gives the code that the line ends with.
func (j *job) taken(size int64, from string) (path string, failed int) {
	in := j.in
	if size < 0 {
		f, err := j.phone.files.Get(from)
		if err != nil {
			return "", j.fail(1, "Error: Unable to open file: %s", from)
		}
		defer f.Close()
		in, size = f, maxPackage
	}
	dir := filepath.Join(j.phone.config.Dir, "data", "app")
	full := "Failure [INSTALL_FAILED_INSUFFICIENT_STORAGE]"
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", j.fail(1, "%s", full)
	}
	f, err := os.CreateTemp(dir, "*.apk")
	if err != nil {
		return "", j.fail(1, "%s", full)
	}
	defer f.Close()
	if _, err := io.Copy(f, io.LimitReader(in, size)); err != nil {
		_ = os.Remove(f.Name())
		return "", j.fail(1, "%s", full)
	}
	return f.Name(), 0
}

// installed puts packages on the phone, and says how it went.
func (j *job) installed(paths []string, down bool) int {
	err := j.phone.put(j.ctx, paths, down)
	switch t := j.phone.config.Troubles; {
	case j.phone.fate.befalls(t.Refuse):
		err = errors.New("INSTALL_FAILED_USER_RESTRICTED: Install canceled by user")
	case j.phone.fate.befalls(t.Room):
		err = errors.New("INSTALL_FAILED_INSUFFICIENT_STORAGE")
	}
	if err != nil {
		j.say("Failure [%s]\n", err)
		return 1
	}
	j.say("Success\n")
	return 0
}

// installing is an install of several packages, step by step.
func installing(j *job, step string, args []string) int {
	c, ok := readInstall(args)
	if !ok {
		return badSize(j)
	}
	p := j.phone
	if step == "create" {
		p.mu.Lock()
		defer p.mu.Unlock()
		if len(p.sessions) >= maxSessions {
			return j.fail(1, "Failure [INSTALL_FAILED_INTERNAL_ERROR: Too many active sessions]")
		}
		p.lastSession++
		p.sessions[p.lastSession] = &session{down: c.down}
		j.say("Success: created install session [%d]\n", p.lastSession)
		return 0
	}
	if len(c.rest) == 0 {
		return j.fail(1, "Error: no session is named")
	}
	n, _ := strconv.Atoi(c.rest[0])
	p.mu.Lock()
	s := p.sessions[n]
	var paths []string
	if s != nil && step != "write" {
		delete(p.sessions, n)
		s.ended, paths = true, s.paths
	}
	p.mu.Unlock()
	if s == nil {
		return j.fail(255, "Security exception: Caller has no access to session %d", n)
	}
	switch {
	case step == "write" && len(c.rest) > 1:
		return j.written(s, c)
	case step == "commit":
		return j.installed(paths, s.down)
	case step == "abandon":
		for _, path := range paths {
			_ = os.Remove(path)
		}
		j.say("Success\n")
		return 0
	}
	return j.fail(1, "Error: the package has no name")
}

// written takes a package into a session.
func (j *job) written(s *session, c installCall) int {
	name, from := c.rest[1], ""
	if len(c.rest) > 2 && c.rest[2] != "-" {
		from, c.size = c.rest[2], -1
	}
	path, failed := j.taken(c.size, from)
	if path == "" {
		return failed
	}
	j.phone.mu.Lock()
	full := s.ended || len(s.paths) >= maxWritten || slices.Contains(s.names, name)
	if !full {
		s.paths, s.names = append(s.paths, path), append(s.names, name)
	}
	j.phone.mu.Unlock()
	if full {
		_ = os.Remove(path)
		return j.fail(1, "Failure [INSTALL_FAILED_INVALID_APK: Split %s was defined multiple times]", name)
	}
	size := int64(0)
	if info, err := os.Stat(path); err == nil {
		size = info.Size()
	}
	j.say("Success: streamed %d bytes\n", size)
	return 0
}

// read reads the packages of an app, the base first, and gives it with the names of its other parts.
func (p *Phone) read(paths []string) (base *appfile.Package, sorted, splits []string, err error) {
	unread := func(err error) error {
		return fmt.Errorf("INSTALL_PARSE_FAILED_NOT_APK: Failed to parse package: %w", err)
	}
	var others []*appfile.Package
	abis := []string{}
	for _, path := range paths {
		f, err := os.Open(path)
		if err != nil {
			return nil, nil, nil, unread(err)
		}
		var one *appfile.Package
		var part appfile.Split
		info, err := f.Stat()
		if err == nil {
			one, part, err = appfile.ReadSplit(f, info.Size())
		}
		_ = f.Close()
		switch {
		case err != nil:
			return nil, nil, nil, unread(err)
		case one.Kind != appfile.Android:
			return nil, nil, nil, errors.New("INSTALL_PARSE_FAILED_NOT_APK: this is no Android package")
		case part.Name == "" && base != nil:
			return nil, nil, nil, errors.New("INSTALL_FAILED_INVALID_APK: Split null was defined multiple times")
		case slices.Contains(splits, part.Name) && part.Name != "":
			return nil, nil, nil, fmt.Errorf("INSTALL_FAILED_INVALID_APK: Split %s was defined multiple times", part.Name)
		case part.Name == "":
			base, sorted = one, append([]string{path}, sorted...)
		default:
			others, splits, sorted = append(others, one), append(splits, part.Name), append(sorted, path)
		}
		abis = append(abis, one.ABIs...)
	}
	if base == nil {
		return nil, nil, nil, errors.New("INSTALL_FAILED_INVALID_APK: Full install must include a base package")
	}
	for _, one := range others {
		switch {
		case one.ApplicationID != base.ApplicationID:
			return nil, nil, nil, fmt.Errorf("INSTALL_FAILED_INVALID_APK: Package %s inconsistent with %s", one.ApplicationID, base.ApplicationID)
		case one.VersionCode != base.VersionCode:
			return nil, nil, nil, fmt.Errorf("INSTALL_FAILED_INVALID_APK: Version code %s inconsistent with %s", one.VersionCode, base.VersionCode)
		case (one.Signing == nil) != (base.Signing == nil), one.Signing != nil && one.Signing.Fingerprint != base.Signing.Fingerprint:
			return nil, nil, nil, errors.New("INSTALL_PARSE_FAILED_INCONSISTENT_CERTIFICATES: signatures are inconsistent")
		}
	}
	slices.Sort(splits)
	base.ABIs = abis
	return base, sorted, splits, nil
}

// put installs packages of an app. Its errors begin with the OS's word for what is wrong.
func (p *Phone) put(ctx context.Context, paths []string, down bool) error {
	defer func() {
		for _, path := range paths { // what came in, unless it was kept under another name
			_ = os.Remove(path)
		}
	}()
	read, sorted, splits, err := p.read(paths)
	switch {
	case err != nil:
	case read.MinimumAPI > p.config.API:
		err = fmt.Errorf("INSTALL_FAILED_OLDER_SDK: Requires newer sdk version #%d (current version is #%d)", read.MinimumAPI,
			p.config.API)
	case len(read.ABIs) > 0 && !slices.Contains(read.ABIs, p.config.ABI):
		err = fmt.Errorf("INSTALL_FAILED_NO_MATCHING_ABIS: Failed to extract native libraries, res=-113")
	}
	if err == nil {
		err = p.with(ctx, func(d driver.Device) error {
			if before := p.body.apps[read.ApplicationID]; before != nil && !down && older(read.VersionCode, before.p.VersionCode) {
				return fmt.Errorf("INSTALL_FAILED_VERSION_DOWNGRADE: Downgrade detected: Update version code %s is older than current %s",
					read.VersionCode, before.p.VersionCode)
			}
			kept, err := linked(sorted)
			if err != nil {
				return errors.New("INSTALL_FAILED_INSUFFICIENT_STORAGE")
			}
			if err := d.Install(ctx, driver.App{Package: *read, Path: kept[0]}); err != nil {
				_ = (&app{paths: kept}).remove()
				var own *device.Trouble
				if errors.As(err, &own) {
					return fmt.Errorf("INSTALL_FAILED_INSUFFICIENT_STORAGE: %w", err)
				}
				return fmt.Errorf("INSTALL_FAILED_UPDATE_INCOMPATIBLE: %w", err)
			}
			if p.front == read.ApplicationID {
				p.front = ""
			}
			p.keep(read, kept)
			p.body.apps[read.ApplicationID].splits = splits
			return nil
		})
	}
	return err
}

// linked gives packages other names, under which they stay: what came in goes once it has been looked at.
func linked(paths []string) (kept []string, err error) {
	for _, path := range paths {
		to := strings.TrimSuffix(path, ".apk") + "-kept.apk"
		if err := os.Rename(path, to); err != nil {
			return nil, errors.Join(err, (&app{paths: kept}).remove())
		}
		kept = append(kept, to)
	}
	return kept, nil
}

// remove removes the packages of an app.
func (a *app) remove() (err error) {
	for _, path := range a.paths {
		err = errors.Join(err, os.Remove(path))
	}
	return err
}
