// Package cli holds the commands. Each reads its arguments, calls the service
// through internal/client, and writes a table for people or JSON for programs;
// it decides nothing.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/near"
	"yamato/internal/filelock"
	"yamato/internal/report"
)

// Version of the program.
const Version = "0.1.0"

// Exit codes; see docs/commands.md.
const (
	exitPass    = 0
	exitFail    = 1
	exitCall    = 2 // a wrong call
	exitService = 3 // trouble with the service
	exitError   = 4
	exitNothing = 5 // cancelled, or nothing decided
)

// exit ends the program with a code, after what it had to say has been said.
type exit struct{ code int }

func (e exit) Error() string { return fmt.Sprintf("exit %d", e.code) }

// wrongCall is a call that cannot be carried out as it stands.
type wrongCall struct{ title, hint string }

func (w wrongCall) Error() string { return w.title }

// app is what all commands share.
type app struct {
	out, err io.Writer
	in       io.Reader
	pushName string // of what comes from standard input
	output   string
	service  string
	token    string
	project  string
}

// Main runs the program with the process's arguments and gives its exit code.
func Main() int {
	ends := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // whoever closes the terminal wants everything stopped, unless started with nohup
		ends = append(ends, syscall.SIGHUP)
	}
	ctx, stop := signal.NotifyContext(context.Background(), ends...)
	defer stop()
	defer context.AfterFunc(ctx, stop)() // whoever asks twice does not wait
	return Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
}

// group makes every command that holds others refuse a word that none of them has, with
// the one that was probably meant, whatever flags stand behind it.
func group(c *cobra.Command) {
	for _, sub := range c.Commands() {
		group(sub)
	}
	if !c.HasSubCommands() || c.Runnable() {
		return
	}
	if c.Example == "" { // one of each of its first commands
		for _, sub := range c.Commands()[:min(4, len(c.Commands()))] {
			line, _, _ := strings.Cut(sub.Example, "\n")
			c.Example = strings.TrimPrefix(c.Example+"\n"+line, "\n")
		}
	}
	c.FParseErrWhitelist.UnknownFlags = true
	c.Args = cobra.ArbitraryArgs
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return cmd.Help()
		}
		return unknownCommand(cmd, args[0])
	}
}

func unknownCommand(c *cobra.Command, word string) error {
	var known []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			known = append(known, sub.Name())
		}
	}
	if !c.HasParent() {
		known = append(known, "help")
	}
	hint := "there are " + strings.Join(known, ", ")
	if meant := near.Word(word, known); meant != "" {
		hint = fmt.Sprintf("did you mean `%s %s`? %s", c.CommandPath(), meant,
			"`"+c.CommandPath()+" --help` lists what there is")
	}
	return wrongCall{fmt.Sprintf("there is no command `%s %s`", c.CommandPath(), word), hint}
}

// helpCommand shows help, and refuses what there is no help for.
func (a *app) helpCommand() *cobra.Command {
	return &cobra.Command{
		Use: "help [COMMAND…]", Short: "Show help for a command", Example: "  yamato help run start",
		RunE: func(cmd *cobra.Command, args []string) error {
			at := cmd.Root()
			for _, word := range args {
				var next *cobra.Command
				for _, sub := range at.Commands() {
					if sub.Name() == word {
						next = sub
					}
				}
				if next == nil {
					return unknownCommand(at, word)
				}
				at = next
			}
			return at.Help()
		},
	}
}

// Run runs the program and gives its exit code.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{out: printable{out}, err: errOut, in: in}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errOut)
	return a.tell(root.ExecuteContext(ctx))
}

// Commands gives the commands without running any.
func Commands() *cobra.Command {
	root := (&app{}).root()
	root.InitDefaultCompletionCmd()
	return root
}

// complaint is an error as its reader needs it. With --output json it is the document on
// standard error.
type complaint struct {
	Title    string             `json:"title"`
	Hint     string             `json:"hint,omitempty"` // what to do next
	Exit     int                `json:"exit"`
	Type     string             `json:"type,omitempty"`   // of the service's problem (RFC 9457)
	Status   int                `json:"status,omitempty"` // of its answer
	Findings []contract.Finding `json:"findings,omitempty"`
	LeftOut  []contract.LeftOut `json:"left_out,omitempty"`
}

func complaintOf(err error) complaint {
	var call wrongCall
	var p *client.ProblemError
	var u *client.Unreachable
	var device failed
	var refusal *appfile.Refusal
	var taken *filelock.Taken
	switch {
	case errors.As(err, &p):
		c := complaint{p.Title, deref(p.Hint), exitCall, p.Type, p.Status, deref(p.Findings), deref(p.LeftOut)}
		if p.Status >= 500 || p.Status == http.StatusUnauthorized {
			c.Exit = exitService
		}
		return c
	case errors.As(err, &taken):
		return complaint{Title: taken.Error(), Hint: "stop that one, or choose another folder with --dir", Exit: exitCall}
	case errors.As(err, &u):
		return complaint{Title: u.Error(), Hint: "start one with `yamato up`, or say where it is with --service",
			Exit: exitService}
	case errors.As(err, &device):
		return complaint{Title: device.title, Hint: device.hint, Exit: exitError}
	case errors.As(err, &refusal):
		return complaint{Title: refusal.Reason, Hint: refusal.Hint, Exit: exitCall}
	case errors.As(err, &call):
		return complaint{Title: call.title, Hint: call.hint, Exit: exitCall}
	}
	return complaint{Title: err.Error(), Exit: exitCall}
}

// tell writes an error, and gives the exit code.
func (a *app) tell(err error) int {
	var e exit
	switch {
	case err == nil:
		return exitPass
	case errors.As(err, &e):
		return e.code
	case errors.Is(err, context.Canceled):
		return exitNothing
	}
	c := complaintOf(err)
	words := printable{a.err}
	if a.output == "json" {
		enc := json.NewEncoder(words)
		enc.SetEscapeHTML(false)
		enc.SetIndent("", "  ")
		_ = enc.Encode(c) // whoever reads is gone where it fails
		return c.Exit
	}
	fmt.Fprintf(words, "yamato: %s\n", c.Title)
	if c.Hint != "" {
		fmt.Fprintf(words, "        %s\n", c.Hint)
	}
	for _, f := range c.Findings {
		fmt.Fprintf(words, "  %d:%d: %s\n", f.Line, f.Column, f.Message)
	}
	for _, l := range c.LeftOut {
		for _, r := range l.Reasons {
			fmt.Fprintf(words, "  %s: %s; %s\n", report.Label(l.Combination), r.Why, r.Remedy)
		}
	}
	return c.Exit
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "yamato",
		Short: "Test runs of app builds over emulators, simulators, phones and device farms",
		Long: "Yamato runs scripts against app builds on many devices at once, and keeps the\nverdicts with " +
			"the logs and pictures that prove them.",
		Version:       Version,
		SilenceErrors: true,
		SilenceUsage:  true,
		Example:       "  yamato demo\n  yamato try tickets.suite --build app.apk --on \"Kaede 7\"",
	}
	f := root.PersistentFlags()
	f.StringVar(&a.output, "output", "table", "how results are written: table or json")
	f.StringVar(&a.service, "service", "", "address of the service (default: the one that was started last on this "+
		"machine; $YAMATO_SERVICE)")
	f.StringVar(&a.token, "token-file", "", "file that holds the token ($YAMATO_TOKEN holds the token itself)")
	f.StringVar(&a.project, "project", "", "project (default: the token's)")
	_ = root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json"},
		cobra.ShellCompDirectiveNoFileComp))
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.output != "table" && a.output != "json" {
			return wrongCall{fmt.Sprintf("--output is table or json, not %q", a.output), ""}
		}
		return nil
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return wrongCall{err.Error(), "`" + c.CommandPath() + " --help` shows how it is called"}
	})
	root.SetHelpCommand(a.helpCommand())
	root.AddCommand(a.serveCommand(), a.hostCommand(), a.consoleCommand(), a.upCommand(), a.demoCommand(),
		a.buildCommand(), a.deviceCommand(), a.siteCommand(), a.lineupCommand(), a.standinCommand(), a.suiteCommand(),
		a.runCommand(), a.tryCommand())
	group(root)
	return root
}

// connection is what a first start writes for the local user.
type connection struct {
	Service string `json:"service"`
	Token   string `json:"token"`
	Project string `json:"project"`
}

func connectionFile() (string, error) {
	if f := os.Getenv("YAMATO_CONNECTION"); f != "" {
		return f, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "yamato", "connection.json"), nil
}

func writeConnection(c connection) (string, error) {
	path, err := connectionFile()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	body, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(path+".new", append(body, '\n'), 0o600); err != nil {
		return "", err
	}
	return path, os.Rename(path+".new", path)
}

// connect finds the service: by flags, else by the environment, else by what
// the last start on this machine wrote.
func (a *app) connect(ctx context.Context) (*client.Service, error) {
	var c connection
	if path, err := connectionFile(); err == nil {
		if body, err := os.ReadFile(path); err == nil {
			if err := json.Unmarshal(body, &c); err != nil {
				return nil, wrongCall{path + " cannot be read", "start the service again; it writes the file anew"}
			}
		}
	}
	c.Service = first(a.service, os.Getenv("YAMATO_SERVICE"), c.Service)
	c.Token = first(os.Getenv("YAMATO_TOKEN"), c.Token)
	if a.token != "" {
		body, err := os.ReadFile(a.token)
		if err != nil {
			return nil, wrongCall{"the token cannot be read: " + err.Error(), ""}
		}
		c.Token = strings.TrimSpace(string(body))
	}
	if c.Service == "" || c.Token == "" {
		return nil, wrongCall{"no service is known",
			"start one with `yamato up` (or `yamato demo`), or pass --service and --token-file"}
	}
	c.Project = first(a.project, c.Project)
	s, err := client.Open(c.Service, c.Token, c.Project)
	if err != nil || c.Project != "" {
		return s, err
	}
	me, err := client.As[contract.About](s.About(ctx))
	s.Project = me.Project
	return s, err
}

// write writes v as JSON if that is asked for, else calls table.
func (a *app) write(v any, table func()) error {
	if a.output != "json" {
		table()
		return nil
	}
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

func first(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

func deref[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func several(list []string) *[]string {
	if len(list) == 0 {
		return nil
	}
	return &list
}

// exitFor gives the code of a run's outcome.
func exitFor(r contract.Run) error {
	code := map[string]int{"pass": exitPass, "fail": exitFail, "error": exitError}
	c, ok := code[r.Verdict]
	if r.State == "cancelled" || !ok {
		c = exitNothing
	}
	if c == exitPass {
		return nil
	}
	return exit{c}
}
