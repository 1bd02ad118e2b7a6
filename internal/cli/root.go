// Package cli holds the commands, a folder for each group: buildcmd, fleetcmd, runcmd,
// sessioncmd and nodecmd, over what they share, ui. Each command reads its arguments, calls the service
// through internal/client, and writes a table for people or JSON for programs; it decides
// nothing.
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
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"yamato/internal/cli/buildcmd"
	"yamato/internal/cli/fleetcmd"
	"yamato/internal/cli/nodecmd"
	"yamato/internal/cli/plancmd"
	"yamato/internal/cli/runcmd"
	"yamato/internal/cli/sessioncmd"
	"yamato/internal/cli/suitecmd"
	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/near"
	"yamato/internal/filelock"
	"yamato/internal/report"
)

// Main runs the program with the process's arguments and gives its exit code.
func Main() int {
	ends := []os.Signal{os.Interrupt, syscall.SIGTERM}
	// whoever closes the terminal wants everything stopped, unless started with nohup
	if !signal.Ignored(syscall.SIGHUP) {
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
	return ui.WrongCall{Title: fmt.Sprintf("there is no command `%s %s`", c.CommandPath(), word), Hint: hint}
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
	a := &app{&ui.App{Out: ui.Printable{To: out}, Err: errOut, In: in}}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errOut)
	return a.tell(root.ExecuteContext(ctx))
}

// Commands gives the commands without running any.
func Commands() *cobra.Command {
	root := (&app{&ui.App{}}).root()
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
	var call ui.WrongCall
	var p *client.ProblemError
	var u *client.Unreachable
	var device ui.Failed
	var refusal *appfile.Refusal
	var taken *filelock.Taken
	switch {
	case errors.As(err, &p):
		c := complaint{p.Title, ui.Deref(p.Hint), ui.ExitCall, p.Type, p.Status, ui.Deref(p.Findings),
			ui.Deref(p.LeftOut)}
		if p.Status >= 500 || p.Status == http.StatusUnauthorized {
			c.Exit = ui.ExitService
		}
		return c
	case errors.Is(err, ui.ErrLeft):
		return complaint{Title: ui.ErrLeft.Error(), Exit: ui.ExitCall}
	case errors.As(err, &taken):
		return complaint{Title: taken.Error(), Hint: "stop that one, or choose another folder with --dir",
			Exit: ui.ExitCall}
	case errors.As(err, &u):
		return complaint{Title: u.Error(), Hint: "start one with `yamato up`, or say where it is with --service",
			Exit: ui.ExitService}
	case errors.As(err, &device):
		return complaint{Title: device.Title, Hint: device.Hint, Exit: ui.ExitError}
	case errors.As(err, &refusal):
		return complaint{Title: refusal.Reason, Hint: refusal.Hint, Exit: ui.ExitCall}
	case errors.As(err, &call):
		return complaint{Title: call.Title, Hint: call.Hint, Exit: ui.ExitCall}
	}
	return complaint{Title: err.Error(), Exit: ui.ExitCall}
}

// tell writes an error, and gives the exit code.
func (a *app) tell(err error) int {
	var e ui.Exit
	switch {
	case err == nil:
		return ui.ExitPass
	case errors.As(err, &e):
		return e.Code
	case errors.Is(err, context.Canceled):
		return ui.ExitNothing
	}
	c := complaintOf(err)
	words := ui.Printable{To: a.Err}
	if a.Output == "json" {
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
		Version:       ui.Version,
		SilenceErrors: true,
		SilenceUsage:  true,
		Example:       "  yamato demo\n  yamato try tickets.yamato --build app.apk --on \"Kaede 7\"",
	}
	f := root.PersistentFlags()
	f.StringVar(&a.Output, "output", "table", "how results are written: table or json")
	f.StringVar(&a.Service, "service", "", "address of the service (default: the one that was started last on this "+
		"machine; $YAMATO_SERVICE)")
	f.StringVar(&a.Token, "token-file", "", "file that holds the token ($YAMATO_TOKEN holds the token itself)")
	f.StringVar(&a.Project, "project", "", "project (default: the token's)")
	_ = root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json"},
		cobra.ShellCompDirectiveNoFileComp))
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.Output != "table" && a.Output != "json" {
			return ui.WrongCall{Title: fmt.Sprintf("--output is table or json, not %q", a.Output), Hint: ""}
		}
		return nil
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return ui.WrongCall{Title: err.Error(), Hint: "`" + c.CommandPath() + " --help` shows how it is called"}
	})
	root.SetHelpCommand(a.helpCommand())
	node, build, fleet, run := nodecmd.Of(a.App), buildcmd.Of(a.App), fleetcmd.Of(a.App), runcmd.Of(a.App)
	suite, plans := suitecmd.Of(a.App), plancmd.Of(a.App)
	hand := sessioncmd.Of(a.App)
	root.AddCommand(node.ServeCommand(), node.HostCommand(), node.BlobsCommand(), node.ConsoleCommand(),
		node.UpCommand(),
		node.DemoCommand(),
		build.BuildCommand(), fleet.DeviceCommand(), fleet.SiteCommand(), fleet.LineupCommand(), fleet.StandinCommand(),
		suite.SuiteCommand(), suite.SecretCommand(), suite.AccountCommand(), run.RunCommand(), run.CrashCommand(),
		run.CoveredCommand(), run.TryCommand(),
		plans.PlanCommand(), plans.MatrixCommand(), hand.SessionCommand(), hand.FindingCommand(),
		hand.ChecklistCommand())
	group(root)
	return root
}

// app is the program: its commands, on what all of them share.
type app struct{ *ui.App }
