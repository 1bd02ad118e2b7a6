package suitecmd

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/script"
)

func (a *App) SuiteCommand() *cobra.Command {
	c := &cobra.Command{Use: "suite", Short: "Check suites, lay them out, hand them in, and list them"}
	c.AddCommand(a.suiteCheck(), a.suiteFormat(), a.suitePush(), a.suiteLs(), a.suiteShow(), ui.Yes(a.suiteRemove()), a.suiteServe())
	return c
}

func (a *App) suitePush() *cobra.Command {
	return &cobra.Command{
		Use:               "push FILE|DIR…",
		Short:             "Hand in suites; a script with faults is refused",
		Example:           "  yamato suite push suites/",
		Args:              ui.AtLeast(1, "name a script or a folder: yamato suite push suites/"),
		ValidArgsFunction: ui.Files("yamato", "suite"),
		RunE: func(cmd *cobra.Command, args []string) error {
			paths, err := SuiteFiles(args)
			if err != nil {
				return err
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			var pushed []contract.Suite
			for _, p := range paths {
				if text, err := ui.ReadSmall(p); err == nil && script.IsShared(string(text)) {
					continue // it goes along with the suites that use it
				}
				one, err := a.PushSuite(cmd.Context(), s, p, false)
				if err != nil {
					return err
				}
				pushed = append(pushed, one)
			}
			if len(pushed) == 0 {
				return ui.WrongCall{Title: "there is no suite among these files: they hold actions, which suites use",
					Hint: "hand in the suites, and what they use goes along"}
			}
			return a.Write(pushed, func() { a.showSuites(pushed) })
		},
	}
}

func (a *App) suiteLs() *cobra.Command {
	return &cobra.Command{
		Use: "ls", Short: "List suites and their cases", Example: "  yamato suite ls", Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.Suite](s.ListSuites(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "No suites yet. Hand some in: yamato suite push DIR")
					return
				}
				a.showSuites(list)
			})
		},
	}
}

func (a *App) suiteShow() *cobra.Command {
	return &cobra.Command{
		Use: "show SUITE", Short: "Show a suite as it was handed in, and how its cases went last",
		Example:           "  yamato suite show \"Buying a ticket\"",
		Args:              ui.Exactly(1, "name the suite: yamato suite show NAME"),
		ValidArgsFunction: a.Complete(ui.CompleteSuites),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			d, err := client.As[contract.SuiteDetail](s.GetSuite(cmd.Context(), s.Project, args[0]))
			if err != nil {
				return err
			}
			return a.Write(d, func() { a.showSuite(d) })
		},
	}
}

func (a *App) suiteRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove SUITE", Short: "Take a suite off the list; its runs stay, and handing it in again brings it back",
		Example:           "  yamato suite remove \"Buying a ticket\"",
		Args:              ui.Exactly(1, "name the suite: yamato suite remove NAME"),
		ValidArgsFunction: a.Complete(ui.CompleteSuites),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			anyway, err := a.removeAnyway(cmd, s, args[0])
			if err != nil {
				return err
			}
			if _, err := client.As[struct{}](s.RemoveSuite(cmd.Context(), s.Project, args[0],
				&contract.RemoveSuiteParams{Anyway: &anyway})); err != nil {
				return err
			}
			return a.Write(map[string]string{"removed": args[0]}, func() {
				fmt.Fprintf(a.Out, "The suite %s is off the list. To bring it back, hand it in again: yamato suite push FILE\n", args[0])
			})
		},
	}
}

// removeAnyway asks about a suite that something needs: one that nothing does comes back when it is handed in again.
func (a *App) removeAnyway(cmd *cobra.Command, s *client.Service, name string) (bool, error) {
	needs, err := ui.NeededBy(cmd.Context(), s, contract.GetNeedsParamsKindSuite, name)
	if err != nil || len(needs) == 0 {
		return false, err
	}
	return true, a.Sure(cmd, "Take the suite "+name+" off the list", needs...)
}

// SuiteFiles gives the scripts that paths name; of a folder, all in it.
func SuiteFiles(paths []string) ([]string, error) {
	var out []string
	for _, p := range paths {
		info, err := os.Stat(p)
		if err != nil {
			return nil, ui.WrongCall{Title: "the script cannot be read: " + err.Error(), Hint: ""}
		}
		if !info.IsDir() {
			out = append(out, p)
			continue
		}
		n := len(out)
		err = filepath.WalkDir(p, func(path string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() && script.IsFile(path) {
				out = append(out, path)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
		if len(out) == n {
			return nil, ui.WrongCall{Title: "there is no script in " + p, Hint: "scripts end in " + script.Ending}
		}
	}
	return out, nil
}

// suiteFormat writes scripts in the canonical layout.
func (a *App) suiteFormat() *cobra.Command {
	var only, write bool
	cmd := &cobra.Command{
		Use: "format FILE|DIR…", Short: "Lay scripts out the one way; needs neither service nor device",
		Example:           "  yamato suite format suites/\n  yamato suite format suites/ --check\n  yamato suite format --write old.suite",
		Args:              ui.AtLeast(1, "name a script or a folder: yamato suite format suites/"),
		ValidArgsFunction: ui.Files("yamato", "suite"),
		RunE: func(_ *cobra.Command, args []string) error {
			paths, err := SuiteFiles(args)
			if err != nil {
				return err
			}
			changed := []string{}
			for _, p := range paths {
				text, err := ui.ReadSmall(p)
				if err != nil {
					return ui.WrongCall{Title: "the script cannot be read: " + err.Error(), Hint: ""}
				}
				laid, findings := format(p, string(text))
				if n := script.Faults(findings); n > 0 {
					return ui.WrongCall{Title: fmt.Sprintf("%s has %s and is left as it is", p, ui.Plural(n, "fault")),
						Hint: "`yamato suite check " + p + "` shows each with its place"}
				}
				to := p
				if write {
					to = script.Renamed(p)
				}
				if laid == string(text) && to == p {
					continue
				}
				changed = append(changed, to)
				if only {
					continue
				}
				if _, err := os.Lstat(to); to != p && err == nil {
					return ui.WrongCall{Title: fmt.Sprintf("%s cannot be renamed: there is a %s already", p, to),
						Hint: "take one of the two away"}
				}
				info, err := os.Stat(p)
				if err != nil {
					return err
				}
				if err := renameio.WriteFile(to, []byte(laid), info.Mode().Perm()); err != nil {
					return ui.WrongCall{Title: "the script cannot be written: " + err.Error(), Hint: ""}
				}
				if to != p {
					if err := os.Remove(p); err != nil {
						return err
					}
				}
			}
			err = a.Write(changed, func() {
				if len(changed) == 0 {
					fmt.Fprintf(a.Out, "%s, laid out so already\n", ui.Plural(len(paths), "script"))
				}
				for _, p := range changed {
					fmt.Fprintln(a.Out, p)
				}
			})
			if err == nil && only && len(changed) > 0 {
				return ui.Exit{Code: ui.ExitFail}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&write, "write", false, "write old files as they are written now in their names, too: what ended "+
		"in .suite ends in "+script.Ending)
	cmd.Flags().BoolVar(&only, "check", false, "change nothing: list the files that are laid out otherwise, and "+
		"exit with 1 if there are any")
	return cmd
}

func (a *App) showSuite(d contract.SuiteDetail) {
	ink := a.Ink()
	fmt.Fprintf(a.Out, "%s  %s\n\n", ink.Strong(d.Suite.Name), ink.Faint(fmt.Sprintf("revision %d, %s, handed in %s",
		d.Suite.Revision, d.Suite.FileName, ui.Ago(d.Suite.CreatedAt))))
	fmt.Fprintln(a.Out, strings.TrimRight(d.Text, "\n"))
	if len(d.Last) > 0 {
		fmt.Fprintf(a.Out, "\n%s\n", ink.Strong("Last runs, newest first"))
	}
	for _, c := range d.Last {
		var shapes []string
		for _, r := range c.Runs {
			shapes = append(shapes, ink.Shape(contract.Crossing{Verdict: r.Verdict, Flaky: r.Flaky}))
		}
		fmt.Fprintf(a.Out, "  %s  %s\n", c.Name, strings.Join(shapes, " "))
	}
	for _, f := range d.Files {
		fmt.Fprintf(a.Out, "\n%s\n", ink.Strong(f.Path))
		if script.IsFile(f.Path) {
			fmt.Fprintln(a.Out, strings.TrimRight(string(f.Content), "\n"))
		} else {
			fmt.Fprintln(a.Out, ink.Faint(fmt.Sprintf("%d bytes", len(f.Content))))
		}
	}
	for _, f := range d.Findings {
		a.Say(4, "  %d:%d: %s; %s", f.Line, f.Column, f.Message, ui.Deref(f.Hint))
	}
}

// PushSuite checks a script here first, so that faults show with their place, and hands it in with
// what it uses.
func (a *App) PushSuite(ctx context.Context, s *client.Service, path string, tried bool) (contract.Suite, error) {
	text, err := ui.ReadSmall(path)
	if err != nil {
		return contract.Suite{}, ui.WrongCall{Title: "the script cannot be read: " + err.Error(), Hint: ""}
	}
	files := newFolder(path)
	suite, findings := read(path, string(text))
	for _, f := range findings {
		fmt.Fprintln(a.Err, f.Format(files.shown(f.Pos.File, path)))
	}
	if n := script.Faults(findings); n > 0 {
		return contract.Suite{}, ui.WrongCall{Title: fmt.Sprintf("%s has %s", path, ui.Plural(n, "fault")), Hint: ""}
	}
	beside, err := files.beside(suite)
	if err != nil {
		return contract.Suite{}, err
	}
	in := contract.NewSuite{FileName: filepath.Base(path), Text: string(text), Tried: &tried}
	if len(beside) > 0 {
		in.Files = &beside
	}
	return client.As[contract.Suite](s.PushSuite(ctx, s.Project, in))
}

func (a *App) showSuites(list []contract.Suite) {
	ink := a.Ink()
	for i, one := range list {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		note := fmt.Sprintf("revision %d, %s", one.Revision, one.FileName)
		if one.Fresh != nil && !*one.Fresh {
			note += ", unchanged"
		}
		fmt.Fprintf(a.Out, "%s  %s\n", ink.Strong(one.Name), ink.Faint(note))
		for _, c := range one.Cases {
			fmt.Fprintf(a.Out, "  %s", c.Name)
			if len(c.Tags) > 0 {
				fmt.Fprintf(a.Out, "  %s", ink.Faint(strings.Join(c.Tags, ", ")))
			}
			fmt.Fprintln(a.Out)
		}
	}
}
