package phone

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yamato/internal/bridge"
)

// maxCat bounds what is held of a file at once, in bytes.
const maxCat = 16 << 20

// service gives what serves a stream that a bridge opens by a name (SERVICES.TXT), nil where nothing does.
func (p *Phone) service(name string) func(ctx context.Context, s *stream) {
	what, rest, _ := strings.Cut(name, ":")
	options := strings.Split(what, ",")
	switch options[0] {
	case "shell":
		return func(ctx context.Context, s *stream) { p.shell(ctx, s, rest, slices.Contains(options, "v2")) }
	case "exec":
		return func(ctx context.Context, s *stream) { p.run(ctx, rest, s, s, s) }
	case "sync":
		return func(_ context.Context, s *stream) { _ = bridge.ServeFiles(s, p.files) }
	case "tcp":
		return func(ctx context.Context, s *stream) { p.join(ctx, s, rest) }
	}
	return nil
}

// join passes a stream on to a port of the phone's own, which is one of this machine's loopback.
func (p *Phone) join(ctx context.Context, s *stream, port string) {
	if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 {
		return
	}
	var dial net.Dialer
	c, err := dial.DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", port))
	if err != nil {
		return
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.Close() })()
	var both sync.WaitGroup
	both.Go(func() {
		_, _ = io.Copy(c, s)
		if t, ok := c.(*net.TCPConn); ok {
			_ = t.CloseWrite()
		}
	})
	_, _ = io.Copy(s, c)
	_ = s.Close()
	both.Wait()
}

// commands are the phone's programs by name. Each gives its exit code.
var commands = map[string]func(*job) int{}

func init() {
	maps.Copy(commands, map[string]func(*job) int{
		"true":     func(*job) int { return 0 },
		":":        func(*job) int { return 0 },
		"false":    func(*job) int { return 1 },
		"echo":     echo,
		"exit":     exit,
		"id":       func(j *job) int { j.say("uid=2000(shell) gid=2000(shell)\n"); return 0 },
		"getprop":  getprop,
		"setprop":  setprop,
		"wm":       wm,
		"date":     date,
		"cat":      cat,
		"ls":       ls,
		"rm":       rm,
		"mkdir":    mkdir,
		"wc":       wc,
		"head":     head,
		"uptime":   func(j *job) int { j.say("up %.0f seconds\n", time.Since(j.phone.boot).Seconds()); return 0 },
		"sleep":    sleep,
		"settings": settings,
	})
}

func echo(j *job) int {
	args, end := j.args[1:], "\n"
	if len(args) > 0 && args[0] == "-n" {
		args, end = args[1:], ""
	}
	j.say("%s%s", strings.Join(args, " "), end)
	return 0
}

func exit(j *job) int {
	j.line.ends = true
	code := j.line.last
	if len(j.args) > 1 {
		code, _ = strconv.Atoi(j.args[1])
	}
	return code & 0xff
}

func getprop(j *job) int {
	j.phone.mu.Lock()
	defer j.phone.mu.Unlock()
	if len(j.args) > 1 {
		value := j.phone.props[j.args[1]]
		if j.args[1] == "sys.boot_completed" && time.Since(j.phone.boot) < j.phone.config.Boots {
			value = ""
		}
		if value == "" && len(j.args) > 2 {
			value = j.args[2]
		}
		j.say("%s\n", value)
		return 0
	}
	for _, k := range slices.Sorted(maps.Keys(j.phone.props)) {
		j.say("[%s]: [%s]\n", k, j.phone.props[k])
	}
	return 0
}

func setprop(j *job) int {
	if len(j.args) != 3 {
		return j.fail(1, "usage: setprop NAME VALUE")
	}
	if !strings.HasPrefix(j.args[1], "debug.") {
		return j.fail(1, "Failed to set property '%s' to '%s'.\nSee dmesg for error reason.", j.args[1], j.args[2])
	}
	j.phone.mu.Lock()
	defer j.phone.mu.Unlock()
	j.phone.props[j.args[1]] = j.args[2]
	return 0
}

func wm(j *job) int {
	c := j.phone.config
	switch {
	case len(j.args) == 2 && j.args[1] == "size":
		j.say("Physical size: %dx%d\n", c.Width, c.Height)
	case len(j.args) == 2 && j.args[1] == "density":
		j.say("Physical density: %d\n", c.Density)
	case len(j.args) == 2 && j.args[1] == "dismiss-keyguard":
		return wake(j)
	default:
		return j.fail(1, "Unknown command: %s", strings.Join(j.args[1:], " "))
	}
	return 0
}

func date(j *job) int {
	now := j.phone.clock()
	switch {
	case len(j.args) == 2 && j.args[1] == "+%s":
		j.say("%d\n", now.Unix())
		return 0
	case len(j.args) == 2 && j.args[1] == "+%s.%N":
		j.say("%d.%09d\n", now.Unix(), now.Nanosecond())
		return 0
	}
	j.say("%s\n", now.UTC().Format("Mon Jan _2 15:04:05 MST 2006"))
	return 0
}

// each reads the files that a command names, or its input where it names none.
func (j *job) each(names []string, do func(name string, r io.Reader) error) int {
	if len(names) == 0 {
		if err := do("", j.in); err != nil {
			return 1
		}
		return 0
	}
	code := 0
	for _, n := range names {
		f, err := j.open(n)
		if err == nil {
			err = do(n, f)
			_ = f.Close()
		}
		if err != nil {
			code = j.fail(1, "%s: %s: %v", j.args[0], n, err)
		}
	}
	return code
}

func cat(j *job) int {
	return j.each(j.args[1:], func(_ string, r io.Reader) error { _, err := io.Copy(j.out, r); return err })
}

func wc(j *job) int {
	names := slices.DeleteFunc(slices.Clone(j.args[1:]), func(a string) bool { return a == "-c" })
	return j.each(names, func(name string, r io.Reader) error {
		n, err := io.Copy(io.Discard, r)
		j.say("%s\n", strings.TrimSpace(fmt.Sprint(n, " ", name)))
		return err
	})
}

func head(j *job) int {
	lines, names := 10, j.args[1:]
	if len(names) > 1 && names[0] == "-n" {
		lines, _ = strconv.Atoi(names[1])
		names = names[2:]
	}
	return j.each(names, func(_ string, r io.Reader) error {
		text, err := io.ReadAll(io.LimitReader(r, maxCat))
		for _, line := range bytes.SplitAfter(text, []byte("\n"))[:min(lines, bytes.Count(text, []byte("\n"))+1)] {
			if _, err := j.out.Write(line); err != nil {
				return err
			}
		}
		return err
	})
}

func ls(j *job) int {
	names := slices.DeleteFunc(slices.Clone(j.args[1:]), func(a string) bool { return strings.HasPrefix(a, "-") })
	if len(names) == 0 {
		names = []string{"/"}
	}
	code := 0
	for _, n := range names {
		s, err := j.phone.files.Stat(n, true)
		if err != nil {
			code = j.fail(1, "ls: %s: %v", n, plainWords(err))
			continue
		}
		if !s.Mode.IsDir() {
			j.say("%s\n", n)
			continue
		}
		list, err := j.phone.files.List(n)
		if err != nil {
			code = j.fail(1, "ls: %s: %v", n, plainWords(err))
			continue
		}
		slices.SortFunc(list, func(a, b bridge.Stat) int { return strings.Compare(a.Name, b.Name) })
		for _, one := range list {
			if !strings.HasPrefix(one.Name, ".") {
				j.say("%s\n", one.Name)
			}
		}
	}
	return code
}

func rm(j *job) int {
	force, all, code := false, false, 0
	for _, n := range j.args[1:] {
		if strings.HasPrefix(n, "-") {
			force, all = force || strings.Contains(n, "f"), all || strings.Contains(n, "r")
			continue
		}
		at := j.phone.files.at(n)
		if !j.phone.files.mayWrite(at) {
			code = j.fail(1, "rm: %s: %v", n, errReadOnly)
			continue
		}
		remove := j.phone.files.root.Remove
		if all {
			remove = j.phone.files.root.RemoveAll
		}
		if err := remove(at); err != nil && !force {
			code = j.fail(1, "rm: %s: %v", n, plainWords(err))
		}
	}
	return code
}

func mkdir(j *job) int {
	code := 0
	for _, n := range j.args[1:] {
		if n == "-p" {
			continue
		}
		at := j.phone.files.at(n)
		if !j.phone.files.mayWrite(at) {
			code = j.fail(1, "mkdir: '%s': %v", n, errReadOnly)
		} else if err := j.phone.files.root.MkdirAll(path.Clean(at), 0o755); err != nil {
			code = j.fail(1, "mkdir: '%s': %v", n, plainWords(err))
		}
	}
	return code
}

func sleep(j *job) int {
	if len(j.args) != 2 {
		return j.fail(1, "usage: sleep SECONDS")
	}
	d, err := time.ParseDuration(j.args[1] + "s")
	if err != nil || d < 0 || d > time.Hour {
		return j.fail(1, "sleep: bad time '%s'", j.args[1])
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-j.ctx.Done():
		return 130
	}
	return 0
}

func settings(j *job) (code int) {
	if len(j.args) < 4 {
		return j.fail(255, "Bad arguments")
	}
	key, changed := j.args[2]+"/"+j.args[3], false
	defer func() {
		if changed {
			code = cmp.Or(code, j.set(key))
		}
	}()
	j.phone.mu.Lock()
	defer j.phone.mu.Unlock()
	switch {
	case j.args[1] == "get":
		value, ok := j.phone.settings[key]
		if !ok {
			value = "null"
		}
		j.say("%s\n", value)
	case j.args[1] == "put" && len(j.args) == 5:
		j.phone.settings[key] = j.args[4]
		changed = true
	case j.args[1] == "delete":
		_, had := j.phone.settings[key]
		delete(j.phone.settings, key)
		changed = true
		j.say("Deleted %d rows\n", map[bool]int{true: 1}[had])
	default:
		return j.fail(255, "Bad arguments")
	}
	return 0
}
