// Command shots makes the pictures in docs/screenshots: it runs the demo, and
// each command in a terminal window on a screen without a monitor.
package main

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// shot is one picture: of a terminal in which a command has run.
type shot struct {
	name    string
	command string // as the user types it
	small   bool   // there is much to show
}

var shots = []shot{
	{"suite-check", "yamato suite check slips.yamato", false},
	{"build-fit", "yamato build fit 3.2.1 --misfits; echo; yamato lineup try 'crossing phones'", true},
	{"try", `yamato try suites/tickets.yamato --build 3.2.0 --on kaede-7-1 --on kaede-7-r1`, false},
	{"run-show", "yamato run show 2", true},
	{"plan", `yamato plan ls; echo; yamato plan try "Tideline in every pair" --minutes 5`, true},
}

// slips is a script with faults to be found.
const slips = `suite "Buying a ticket"

case "three passengers pay three single fares"
  start app fresh
  tpa tab called "Tickets"
  let single = number in #single-fare
  putt 3 in #passengers
  expect number in #total = 3 * $sinlge
end

case "a ticket can be paid"
  tap botton called "Continue"
  expect "Pay
end
`

func main() {
	program := flag.String("program", "bin/yamato", "the program")
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	flag.Parse()
	if err := run(*program, *out); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(program, out string) error {
	dir, err := os.MkdirTemp("", "yamato-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o711); err != nil {
		return err
	}
	if err := os.Setenv("YAMATO_CONNECTION", filepath.Join(dir, "connection.json")); err != nil {
		return err
	}
	stop, link, err := startDemo(program, dir)
	if err != nil {
		return err
	}
	defer stop()
	base, _, _ := strings.Cut(link, "/sign-in")
	if err := console(link, base, out); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "demo", "slips.yamato"), []byte(slips), 0o600); err != nil {
		return err
	}
	screen := exec.Command("Xvfb", "-displayfd", "1", "-screen", "0", "1280x800x24") // tells its number when it is up
	number, err := screen.StdoutPipe()
	if err != nil {
		return err
	}
	if err := screen.Start(); err != nil {
		return fmt.Errorf("starting a screen: %w", err)
	}
	defer func() { _ = screen.Process.Signal(os.Interrupt); _ = screen.Wait() }()
	line, err := bufio.NewReader(number).ReadString('\n')
	if err != nil {
		return fmt.Errorf("the screen does not come up: %w", err)
	}
	display := ":" + strings.TrimSpace(line)
	for _, s := range shots {
		if err := take(s, program, display, filepath.Join(dir, "demo"), out); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		fmt.Println(filepath.Join(out, s.name+".png"))
	}
	return nil
}

// startDemo runs the demo until it serves, and gives how to stop it, and the link
// that it prints.
func startDemo(program, dir string) (stop func(), link string, err error) {
	cmd := exec.Command(program, "demo", "--dir", filepath.Join(dir, "demo"), "--listen", "127.0.0.1:7488")
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	output, err := cmd.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	if err := cmd.Start(); err != nil {
		return nil, "", err
	}
	stop = func() { _ = cmd.Process.Signal(os.Interrupt); _, _ = io.Copy(io.Discard, output); _ = cmd.Wait() }
	lines := bufio.NewScanner(output)
	for lines.Scan() {
		if text := strings.TrimSpace(lines.Text()); strings.Contains(text, "/sign-in#") {
			link = text
		}
		if strings.Contains(lines.Text(), "Serving until") {
			return stop, link, nil
		}
	}
	stop()
	return nil, "", errors.New("the demo ended before it served")
}

// take runs a command in a terminal and keeps a picture of the screen.
func take(s shot, program, display, dir, out string) error {
	done := filepath.Join(dir, "done")
	_ = os.Remove(done)
	script := fmt.Sprintf("printf '\\033[2m$\\033[0m \\033[1m%%s\\033[0m\\n\\n' %s; %s; touch %s; exec sleep 60",
		quote(s.command), s.command, done)
	size, geometry := "10", "157x49+0+0"
	if s.small {
		size, geometry = "8", "179x59+0+0"
	}
	term := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", size, "-geometry", geometry, "-bg", "#fbf8f1",
		"-fg",
		"#18222f", "-cr", "#fbf8f1", "-bw", "0", "-b", "14", "+sb", "-e", "sh", "-c", script)
	path, err := filepath.Abs(filepath.Dir(program))
	if err != nil {
		return err
	}
	term.Dir = dir
	term.Env = append(os.Environ(), "DISPLAY="+display, "PATH="+path+":"+os.Getenv("PATH"))
	if err := term.Start(); err != nil {
		return err
	}
	defer func() { _ = term.Process.Kill(); _ = term.Wait() }()
	if err := await(done, 60*time.Second); err != nil {
		return err
	}
	target, err := filepath.Abs(filepath.Join(out, s.name+".png"))
	if err != nil {
		return err
	}
	// The terminal draws what it was given when it next gets round to it: take
	// pictures until two in a row are the same.
	var last string
	for range 50 {
		if b, err := exec.Command("import", "-display", display, "-window", "root",
			target).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, b)
		}
		data, err := os.ReadFile(target)
		if err != nil {
			return err
		}
		if string(data) == last {
			return nil
		}
		last = string(data)
	}
	return nil
}

func await(path string, limit time.Duration) error {
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for late := time.After(limit); ; {
		if _, err := os.Stat(path); err == nil {
			return nil
		}
		select {
		case <-tick.C:
		case <-late:
			return fmt.Errorf("%s does not appear", path)
		}
	}
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
