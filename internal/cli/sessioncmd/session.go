// Package sessioncmd has the commands of a person at a device: sessions, and what was found in them.
package sessioncmd

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/cli/buildcmd"
	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/report"
	"yamato/internal/retry"
)

// App has the commands, on what all commands share.
type App struct{ *ui.App }

// Of gives them.
func Of(a *ui.App) *App { return &App{a} }

// SessionCommand has what one does at a device by hand.
func (a *App) SessionCommand() *cobra.Command {
	c := &cobra.Command{Use: "session", Short: "Be at a device by hand: open one, do things, look, keep, end"}
	c.AddCommand(a.open(), a.ls(), a.show(), a.do(), a.picture(), a.log(), a.move(), a.port(), a.end())
	return c
}

// wish are the options of who asks for a device.
type wish struct {
	device, lineup, app, installed, language, cleaning, name, purpose, model, os, again, platform string
	builds                                                                                        []string
	shared, print                                                                                 bool
	idle, away                                                                                    time.Duration
}

func (w *wish) bind(a *App, cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&w.lineup, "lineup", "", "any device of a lineup, instead of a named one")
	f.StringVar(&w.app, "app", "", "app, by name or application id, where a build's name does not tell")
	f.StringVar(&w.language, "language", "", "language of the device, as in BCP 47 (default en-GB)")
	f.StringVar(&w.cleaning, "cleaning", "app", "what is undone at the end: nothing, app (apps and their data), device")
	f.StringVar(&w.name, "name", "", "what the session is called (default: by the project's pattern)")
	f.StringVar(&w.purpose, "purpose", "", "what it is for")
	f.StringVar(&w.model, "model", "", "the nearest device to this model, as somebody reports it")
	f.StringVar(&w.os, "os", "", "the nearest device to this OS version, as somebody reports it")
	f.BoolVar(&w.shared, "shared", false, "let everybody of the project look on")
	f.BoolVar(&w.print, "print", false, "print the link to the device's screen, and open no browser")
	f.DurationVar(&w.idle, "idle", 30*time.Minute, "how long the device may lie unused before the session ends")
	f.DurationVar(&w.away, "away", 10*time.Minute, "how long the device is kept while nobody is there")
	_ = cmd.RegisterFlagCompletionFunc("lineup", a.Complete(ui.CompleteLineups))
	_ = cmd.RegisterFlagCompletionFunc("app", a.Complete(ui.CompleteApps))
	_ = cmd.RegisterFlagCompletionFunc("cleaning", cobra.FixedCompletions([]string{"nothing", "app", "device"},
		cobra.ShellCompDirectiveNoFileComp))
}

func (w *wish) request() (contract.NewSession, error) {
	idle, away := w.idle.Milliseconds(), w.away.Milliseconds()
	in := contract.NewSession{Device: ui.Optional(w.device), Lineup: ui.Optional(w.lineup), App: ui.Optional(w.app),
		Installed: ui.Optional(w.installed), Language: ui.Optional(w.language), Name: ui.Optional(w.name),
		Purpose: ui.Optional(w.purpose), Shared: &w.shared, IdleMs: &idle, AwayMs: &away,
		Cleaning: ui.Optional(w.cleaning)}
	if w.platform != "" {
		in.Platform = new(contract.NewSessionPlatform(w.platform))
	}
	if w.model != "" || w.os != "" {
		in.Report = &contract.SomebodysReport{Model: ui.Optional(w.model), Os: ui.Optional(w.os),
			Language: ui.Optional(w.language)}
	}
	if w.again != "" {
		parts := strings.SplitN(w.again, "/", 3)
		var n [3]int64
		for i := range n {
			v, err := strconv.ParseInt(append(parts, "", "", "")[i], 10, 64)
			if err != nil {
				return in, ui.WrongCall{Title: fmt.Sprintf("--again takes run/leg/case, not %q", w.again),
					Hint: "as the address of a failed case on the console has them: --again 3/12/0"}
			}
			n[i] = v
		}
		in.Again = &contract.CaseOfRun{Run: n[0], Leg: n[1], Case: int(n[2])}
	}
	return in, nil
}

func (a *App) open() *cobra.Command {
	w := &wish{}
	cmd := &cobra.Command{
		Use: "open [DEVICE]", Short: "Ask for a device, wait for it, and say where its screen is",
		Long: "open asks for a device and waits until it has been made ready. Where it is busy the\nsession waits in line, before any run. " +
			"The screen is in the console; `session do` does\nthings from here.",
		Example: "  yamato session open kaede-7-1 --build 3.2.0\n  yamato session open --lineup \"phones on the desk\"\n" +
			"  yamato session open --model \"Kaede 7\" --os 14 --language de-DE --build 3.2.0",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.Complete(ui.CompleteDevices),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				w.device = args[0]
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if err := errors.Join(ui.Positive("idle", w.idle), ui.Positive("away", w.away)); err != nil {
				return err
			}
			return a.ask(cmd.Context(), s, w)
		},
	}
	w.bind(a, cmd)
	f := cmd.Flags()
	f.StringArrayVar(&w.builds, "build", nil, "build to install and start, by number or version, or package files to hand in")
	f.StringVar(&w.installed, "installed", "", "id of an app that is on the device already, to start")
	f.StringVar(&w.again, "again", "", "run/leg/case of a failed case, to be carried out again up to the step that failed")
	_ = cmd.RegisterFlagCompletionFunc("build", a.Complete(ui.CompleteBuilds))
	return cmd
}

// ask opens a session, waits until it is open, and says where.
func (a *App) ask(ctx context.Context, s *client.Service, w *wish) error {
	in, err := w.request()
	if err != nil {
		return err
	}
	if len(w.builds) > 0 {
		build, err := buildcmd.Of(a.App).BuildRef(ctx, s, w.builds, &w.app)
		if err != nil {
			return err
		}
		in.Build, in.App = &build, ui.Optional(w.app)
	}
	one, err := client.As[contract.Session](s.OpenSession(ctx, s.Project,
		&contract.OpenSessionParams{IdempotencyKey: client.NewKey()}, in))
	if err != nil {
		return err
	}
	if one, err = a.await(ctx, s, one); err != nil {
		return err
	}
	page := fmt.Sprintf("/by-hand/%d", one.Number)
	link, err := ui.SignInLink(ctx, s, page)
	if err != nil {
		return err
	}
	opened := !w.print && a.Output != "json" && ui.OpenBrowser(link)
	return a.Write(map[string]any{"session": one, "link": link, "page": s.Base() + page}, func() {
		fmt.Fprintf(a.Out, "Session %d, %q, on %s.\n", one.Number, one.Name, ui.Deref(one.Device))
		if opened {
			fmt.Fprintln(a.Out, "Its screen opens in your browser.")
		} else {
			fmt.Fprintf(a.Out, "Its screen, for a browser that this link signs in once:\n\n  %s\n\n", link)
		}
		fmt.Fprintf(a.Out, "From here: yamato session do %d 'tap \"Continue\"'; yamato session end %d\n", one.Number,
			one.Number)
	})
}

// serviceAway is how long a service that does not answer is waited for.
const serviceAway = time.Minute

// await waits until a session is open, saying what it waits for.
func (a *App) await(ctx context.Context, s *client.Service, one contract.Session) (contract.Session, error) {
	told := ""
	var lost time.Time
	pause := retry.From(200*time.Millisecond, 2*time.Second)
	for one.State == "opening" {
		waits := "Waiting for " + ui.First(ui.Deref(one.Wanted), "a device") + "…"
		if one.Device != nil {
			waits = fmt.Sprintf("%s is made ready…", *one.Device)
		}
		if waits != told {
			told = waits
			fmt.Fprintf(a.Err, "%s\n", waits)
		}
		wait := 2000
		now, err := client.As[contract.Session](s.GetSession(ctx, s.Project, one.Number,
			&contract.GetSessionParams{WaitMs: &wait}))
		if err != nil {
			if errors.As(err, new(*client.Unreachable)) && ctx.Err() == nil { // it is started anew, say
				if lost.IsZero() {
					lost = time.Now()
					fmt.Fprintf(a.Err, "The service does not answer; session %d still waits…\n", one.Number)
				}
				if time.Since(lost) < serviceAway && retry.For(ctx, pause.Next()) == nil {
					continue
				}
				fmt.Fprintf(a.Err, "When it is back: `yamato session show %d`, or `yamato session end %d --yes` to give it up.\n", one.Number, one.Number)
			}
			if ctx.Err() != nil { // whoever gives up waiting does not want it any more
				ending, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
				defer stop()
				_, _ = s.EndSession(ending, s.Project, one.Number)
			}
			return one, err
		}
		one, lost = now, time.Time{}
		pause.Reset()
	}
	if one.State == "closed" {
		return one, ui.Failed{Title: fmt.Sprintf("session %d was closed: %s", one.Number, ui.Deref(one.Why)),
			Hint: fmt.Sprintf("`yamato session show %d` tells what happened", one.Number)}
	}
	return one, nil
}

// ByHand goes from package files to a device whose screen is live: a named one, one of a model, one of a lineup, or
// any that the package runs on.
func (a *App) ByHand(ctx context.Context, s *client.Service, files, on []string, lineup string) error {
	w := &wish{builds: files, idle: 30 * time.Minute, away: 10 * time.Minute, cleaning: "app", lineup: lineup}
	if len(on) > 1 {
		return ui.WrongCall{Title: "one is at one device by hand", Hint: "name one with --on, or open further sessions"}
	}
	if len(on) == 1 {
		list, err := client.As[[]contract.Device](s.ListDevices(ctx, s.Project, nil))
		if err != nil {
			return err
		}
		if w.model = on[0]; slices.ContainsFunc(list, func(d contract.Device) bool { return d.Name == on[0] }) {
			w.device, w.model = on[0], ""
		}
	}
	if slices.ContainsFunc(files, func(name string) bool { _, err := os.Stat(name); return err != nil }) {
		return a.ask(ctx, s, w) // a build by name, or nothing that is there
	}
	b, err := buildcmd.Of(a.App).Push(ctx, s, files)
	if err != nil {
		return err
	}
	w.builds, w.app = []string{fmt.Sprintf("#%d", b.Number)}, b.App
	for _, p := range b.Packages { // others of the same version may have been handed in before
		if p.FileName == filepath.Base(files[0]) || p.FileName == filepath.Base(files[0])+".zip" {
			w.platform, w.app = p.Platform, p.ApplicationId
		}
	}
	return a.ask(ctx, s, w)
}

func (a *App) ls() *cobra.Command {
	var all bool
	var find string
	cmd := &cobra.Command{
		Use: "ls", Short: "List the sessions that you may see: your own, and those that are shared", Args: ui.None,
		Example: "  yamato session ls\n  yamato session ls --all --find tideline",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			going := !all
			list, err := client.As[contract.SessionList](s.ListSessions(cmd.Context(), s.Project,
				&contract.ListSessionsParams{Going: &going, Q: ui.Optional(find)}))
			if err != nil {
				return err
			}
			return a.Write(list, func() { a.table(list.Sessions, all) })
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "those that are closed too")
	cmd.Flags().StringVar(&find, "find", "", "part of a name, a purpose, a device, a build, or who asked")
	return cmd
}

func (a *App) table(list []contract.Session, all bool) {
	if len(list) == 0 {
		what := "Nobody is at a device now"
		if all {
			what = "No sessions yet"
		}
		fmt.Fprintln(a.Out, what+". Open one: yamato session open DEVICE")
		return
	}
	var rows [][]string
	for _, s := range list {
		on := ui.First(ui.Deref(s.Device), ui.Deref(s.Wanted), ui.Deref(s.Lineup))
		state := s.State
		if s.Why != nil {
			state += ": " + *s.Why
		}
		rows = append(rows, []string{strconv.FormatInt(s.Number, 10), s.Name, on, ui.Deref(s.Build), s.AskedBy,
			ui.Ago(s.CreatedAt),
			state})
	}
	a.Table([]string{"SESSION", "NAME", "DEVICE", "BUILD", "WHO", "SINCE", "STATE"}, rows)
}

// connect gives the service and the session's number.
func (a *App) connect(ctx context.Context, arg string) (*client.Service, int64, error) {
	n, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || n < 1 {
		return nil, 0, ui.WrongCall{Title: fmt.Sprintf("%q is no session's number", arg),
			Hint: "`yamato session ls` lists them"}
	}
	s, err := a.Connect(ctx)
	return s, n, err
}

func completeSessions(ctx context.Context, s *client.Service) (out []string) {
	going := true
	list, err := client.As[contract.SessionList](s.ListSessions(ctx, s.Project,
		&contract.ListSessionsParams{Going: &going}))
	if err != nil {
		return nil
	}
	for _, one := range list.Sessions {
		out = append(out, fmt.Sprintf("%d\t%s on %s", one.Number, one.Name, ui.Deref(one.Device)))
	}
	return out
}

const sessionHint = "name the session by its number: `yamato session ls` lists them"

func (a *App) show() *cobra.Command {
	return &cobra.Command{
		Use: "show SESSION", Short: "What happened in a session, on its time", Example: "  yamato session show 3",
		Args: ui.Exactly(1, sessionHint), ValidArgsFunction: a.Complete(completeSessions),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connect(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			one, err := client.As[contract.Session](s.GetSession(cmd.Context(), s.Project, n, nil))
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.SessionEntry](s.ListEntries(cmd.Context(), s.Project, n))
			if err != nil {
				return err
			}
			return a.Write(map[string]any{"session": one, "entries": list}, func() { a.tell(one, list) })
		},
	}
}

func (a *App) tell(one contract.Session, list []contract.SessionEntry) {
	fmt.Fprintf(a.Out, "Session %d, %q: %s", one.Number, one.Name, one.State)
	if one.Why != nil {
		fmt.Fprintf(a.Out, ", %s", *one.Why)
	}
	fmt.Fprintf(a.Out, "\n%s", ui.First(ui.Deref(one.Device), "no device yet"))
	if one.Model != nil {
		fmt.Fprintf(a.Out, " (%s, %s)", *one.Model, ui.Deref(one.Os))
	}
	if one.Build != nil {
		fmt.Fprintf(a.Out, ", %s", *one.Build)
	}
	fmt.Fprintf(a.Out, ", %s\n", one.AskedBy)
	if o := one.Origin; o != nil {
		fmt.Fprintf(a.Out, "It repeats %q of run %d up to line %d: %s\n", o.Case, o.Run, o.Line, o.Step)
	}
	if one.LogLines > 0 {
		fmt.Fprintf(a.Out, "%d lines of log, %d of them errors: yamato session log %d\n", one.LogLines, one.LogErrors,
			one.Number)
	}
	fmt.Fprintln(a.Out)
	var rows [][]string
	for _, e := range list {
		what := e.Text
		if len(e.Lines) > 0 {
			what += "\n" + strings.Join(e.Lines, "\n")
		}
		if e.Kind == "cleaned" && e.Detail != nil {
			if items, ok := (*e.Detail)["items"].([]any); ok {
				for _, i := range items {
					what += fmt.Sprintf("\n- %v", i)
				}
			}
		}
		rows = append(rows, []string{clock(e.AtMs), e.Kind, what})
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.Out, "Nothing has happened yet.")
		return
	}
	a.Table([]string{"AT", "WHAT", ""}, rows)
}

func clock(ms int64) string {
	d := time.Duration(ms) * time.Millisecond
	return fmt.Sprintf("%d:%04.1f", int(d.Minutes()), d.Seconds()-60*float64(int(d.Minutes())))
}

func (a *App) do() *cobra.Command {
	return &cobra.Command{
		Use: "do SESSION LINE…", Short: "Carry out lines of script on a session's device, one by one; from the standard input with -",
		Example: "  yamato session do 3 'tap \"Continue\"'\n  yamato session do 3 'let x = number in #total' 'expect $x = 12.60'\n" +
			"  yamato session do 3 - < lines.txt",
		Args: ui.AtLeast(2, "name the session and what to do: yamato session do 3 'tap \"Continue\"'"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connect(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			lines := args[1:]
			if len(lines) == 1 && lines[0] == "-" {
				if lines, err = readLines(a.In); err != nil {
					return err
				}
			}
			for _, line := range lines {
				if err := a.one(cmd.Context(), s, n, line); err != nil {
					return err
				}
			}
			return nil
		},
	}
}

func readLines(r io.Reader) (out []string, err error) {
	in := bufio.NewScanner(io.LimitReader(r, 1<<20))
	for in.Scan() {
		if line := strings.TrimSpace(in.Text()); line != "" && !strings.HasPrefix(line, "//") {
			out = append(out, line)
		}
	}
	return out, in.Err()
}

// one carries out a line and says what it found.
func (a *App) one(ctx context.Context, s *client.Service, n int64, line string) error {
	answer, err := client.As[contract.SessionAnswer](s.OrderSession(ctx, s.Project, n, contract.SessionOrder{Do: "line",
		Text: &line}))
	if err != nil {
		return err
	}
	if a.Output == "json" {
		if err := a.WriteLine(map[string]any{"line": line, "answer": answer}); err != nil {
			return err
		}
	} else {
		mark := "ok"
		if answer.Trouble != nil {
			mark = "no"
		}
		fmt.Fprintf(a.Out, "%s  %s  (%.1f s)\n", mark, line, float64(answer.TookMs)/1000)
		for _, text := range []*string{answer.Text, answer.Trouble, answer.Remedy} {
			if text != nil {
				a.Say(4, "    %s", *text)
			}
		}
	}
	if answer.Trouble != nil {
		return ui.Exit{Code: ui.ExitFail}
	}
	return nil
}

func (a *App) picture() *cobra.Command {
	var to, name string
	cmd := &cobra.Command{
		Use: "picture SESSION", Short: "Keep a picture of the screen, and write it to a file",
		Example: "  yamato session picture 3 --to seats.png --name seats",
		Args:    ui.Exactly(1, sessionHint), ValidArgsFunction: a.Complete(completeSessions),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connect(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			answer, err := client.As[contract.SessionAnswer](s.OrderSession(cmd.Context(), s.Project, n,
				contract.SessionOrder{Do: "picture", Name: ui.Optional(name)}))
			if err != nil {
				return err
			}
			if answer.Trouble != nil {
				return ui.Failed{Title: *answer.Trouble, Hint: ui.Deref(answer.Remedy)}
			}
			return a.newest(cmd.Context(), s, n, to)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "file for the picture (default: one named after the session, here)")
	cmd.Flags().StringVar(&name, "name", "", "what it is called on the session's page")
	return cmd
}

// newest writes the newest picture of a session to a file, once the session has kept it.
func (a *App) newest(ctx context.Context, s *client.Service, n int64, to string) error {
	var last *contract.SessionEntry
	for tries := 0; last == nil && tries < 50; tries++ {
		list, err := client.As[[]contract.SessionEntry](s.ListEntries(ctx, s.Project, n))
		if err != nil {
			return err
		}
		for _, e := range slices.Backward(list) {
			if e.Kind == "picture" {
				last = &e
				break
			}
		}
		if last == nil {
			if err := retry.For(ctx, 100*time.Millisecond); err != nil {
				return err
			}
		}
	}
	if last == nil {
		return ui.Failed{Title: "the picture was not kept", Hint: "see on the session's page what happened"}
	}
	if to == "" {
		to = fmt.Sprintf("session-%d-%s.png", n, report.Plain(last.Text))
	}
	body, err := s.KeptOfSession(ctx, n, last.Lease, last.Seq)
	if err != nil {
		return err
	}
	defer body.Close()
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	size, err := io.Copy(f, body)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	path, _ := filepath.Abs(to)
	return a.Write(map[string]any{"file": path, "size": size, "name": last.Text}, func() { fmt.Fprintln(a.Out, path) })
}

func (a *App) log() *cobra.Command {
	var level string
	cmd := &cobra.Command{
		Use: "log SESSION", Short: "Print the log of a session's device",
		Example: "  yamato session log 3 --level error",
		Args:    ui.Exactly(1, sessionHint), ValidArgsFunction: a.Complete(completeSessions),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connect(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			as := "text"
			if a.Output == "json" {
				as = "lines"
			}
			body, err := s.SessionLog(cmd.Context(), n, as)
			if err != nil {
				return err
			}
			defer body.Close()
			in := bufio.NewScanner(body)
			in.Buffer(nil, 1<<20)
			for in.Scan() {
				if line := in.Text(); level == "" || strings.Contains(line, " "+level+" ") ||
					strings.Contains(line, `"level":"`+level+`"`) {
					fmt.Fprintln(a.Out, line)
				}
			}
			return in.Err()
		},
	}
	cmd.Flags().StringVar(&level, "level", "", "only lines of a level: debug, info, warn or error")
	_ = cmd.RegisterFlagCompletionFunc("level", cobra.FixedCompletions([]string{"debug", "info", "warn", "error"},
		cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *App) move() *cobra.Command {
	var lineup string
	cmd := &cobra.Command{
		Use: "move SESSION [DEVICE]", Short: "Go on on another device, with the name, the build and all that was kept",
		Example: "  yamato session move 3 hinoki-phone-1",
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connect(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			in := contract.SessionMove{Lineup: ui.Optional(lineup)}
			if len(args) == 2 {
				in.Device = &args[1]
			}
			one, err := client.As[contract.Session](s.MoveSession(cmd.Context(), s.Project, n, in))
			if err != nil {
				return err
			}
			if one, err = a.settled(cmd.Context(), s, one, ui.Deref(in.Device)); err != nil {
				return err
			}
			return a.Write(one, func() { fmt.Fprintf(a.Out, "Session %d goes on on %s.\n", n, ui.Deref(one.Device)) })
		},
	}
	cmd.Flags().StringVar(&lineup, "lineup", "", "any device of a lineup, instead of a named one")
	_ = cmd.RegisterFlagCompletionFunc("lineup", a.Complete(ui.CompleteLineups))
	return cmd
}

// settled waits until a session has given back its old device and has the new one.
func (a *App) settled(ctx context.Context, s *client.Service, one contract.Session, device string) (contract.Session,
	error) {
	was := ui.Deref(one.Device)
	for one.State != "opening" && one.State != "closed" && (device == "" && ui.Deref(one.Device) == was ||
		device != "" &&
			ui.Deref(one.Device) != device) {
		if err := retry.For(ctx, 200*time.Millisecond); err != nil {
			return one, err
		}
		var err error
		if one, err = client.As[contract.Session](s.GetSession(ctx, s.Project, one.Number, nil)); err != nil {
			return one, err
		}
	}
	return a.await(ctx, s, one)
}

func (a *App) end() *cobra.Command {
	return ui.Yes(&cobra.Command{
		Use: "end SESSION", Short: "End a session: its device is cleaned and given back",
		Example: "  yamato session end 3",
		Args:    ui.Exactly(1, sessionHint), ValidArgsFunction: a.Complete(completeSessions),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, n, err := a.connect(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := a.Sure(cmd, fmt.Sprintf("End session %d; what is on its device is removed", n)); err != nil {
				return err
			}
			one, err := client.As[contract.Session](s.EndSession(cmd.Context(), s.Project, n))
			if err != nil {
				return err
			}
			for wait := 5000; one.State != "closed"; {
				if one, err = client.As[contract.Session](s.GetSession(cmd.Context(), s.Project, n,
					&contract.GetSessionParams{WaitMs: &wait})); err != nil {
					return err
				}
				if one.State != "closed" {
					if err := retry.For(cmd.Context(), 100*time.Millisecond); err != nil {
						return err
					}
				}
			}
			return a.Write(one, func() {
				fmt.Fprintf(a.Out,
					"Session %d is closed. What stays of it: yamato session show %d\n", n, n)
			})
		},
	})
}
