package suitecmd

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/script"
	"yamato/internal/core/script/token"
	"yamato/internal/report"
)

// checks are what scripts are checked against, beside themselves.
type checks struct {
	app, build, lineup, sarif string
}

func (a *App) suiteCheck() *cobra.Command {
	var f checks
	cmd := &cobra.Command{
		Use:   "check FILE|DIR…",
		Short: "Check scripts; needs neither service nor device",
		Long: "Check scripts: what is wrong with them, with its place and what was probably meant. Needs neither service nor device.\n" +
			"With --app or --lineup, and with --build where that is no file, the service is asked, too.",
		Example: "  yamato suite check suites/\n  yamato suite check suites/ --build tideline.apk\n" +
			"  yamato suite check suites/ --app Tideline --lineup \"crossing phones\"",
		Args:              ui.AtLeast(1, "name a script or a folder: yamato suite check suites/"),
		ValidArgsFunction: ui.Files("yamato", "suite"),
		RunE:              func(cmd *cobra.Command, args []string) error { return a.check(cmd.Context(), args, f) },
	}
	g := cmd.Flags()
	g.StringVar(&f.app, "app", "", "ask the service: what no screen of this app ever had, and secrets and accounts that there are none of")
	g.StringVar(&f.build, "build", "", "a package `file`, or a build that the service has: texts that it lacks, in any of its languages")
	g.StringVar(&f.lineup, "lineup", "", "ask the service: steps that a device of this lineup cannot do")
	g.StringVar(&f.sarif, "sarif", "", "write the findings as SARIF 2.1.0 to this `file`, - for standard output")
	_ = cmd.RegisterFlagCompletionFunc("app", a.Complete(ui.CompleteApps))
	_ = cmd.RegisterFlagCompletionFunc("lineup", a.Complete(ui.CompleteLineups))
	return cmd
}

// fileFinding is a finding with its file, for JSON.
type fileFinding struct {
	File string `json:"file"`
	script.Finding
}

func (a *App) check(ctx context.Context, args []string, f checks) error {
	paths, err := SuiteFiles(args)
	if err != nil {
		return err
	}
	var texts script.Texts
	if f.build != "" {
		if info, err := os.Stat(f.build); err == nil && !info.IsDir() {
			if texts, err = textsOf(f.build); err != nil {
				return err
			}
			f.build = ""
		}
	}
	all := []fileFinding{}
	told := map[string]bool{}
	faults, cases, suites := 0, 0, 0
	names := map[string]string{}
	for _, p := range paths {
		text, err := ui.ReadSmall(p)
		if err != nil {
			return ui.WrongCall{Title: "the script cannot be read: " + err.Error(), Hint: ""}
		}
		suite, findings := read(p, string(text))
		if other, ok := names[suite.Name]; ok && suite.Name != "" {
			findings = append(findings, script.Finding{Pos: script.Pos{Line: 1, Column: 1}, Length: 1,
				Rule: token.TwiceSuite, Message: fmt.Sprintf("the suite of %s has the same name", other),
				Hint: "give each suite a name of its own"})
		}
		names[suite.Name] = p
		cases += len(suite.Cases)
		if suite.Name != "" {
			suites++
		}
		if script.Faults(findings) == 0 {
			if texts != nil {
				findings = append(findings, suite.Against(script.Against{Texts: texts})...)
			}
			more, err := a.ask(ctx, p, string(text), suite, f)
			if err != nil {
				return err
			}
			findings = append(findings, more...)
		}
		for _, one := range findings {
			at := newFolder(p).shown(one.Pos.File, p)
			key := fmt.Sprint(filepath.Clean(at), one.Pos.Line, one.Pos.Column, one.Message)
			if told[key] {
				continue // it stands in a file that several use
			}
			told[key] = true
			one.Pos.File = ""
			all = append(all, fileFinding{at, one})
			if !one.Advice {
				faults++
			}
		}
	}
	if f.sarif != "" {
		if err := a.writeSARIF(f.sarif, all); err != nil {
			return err
		}
	}
	if f.sarif != "-" {
		err = a.Write(all, func() {
			for _, f := range all {
				fmt.Fprintln(a.Out, f.Format(f.File))
			}
			what := ui.Plural(suites, "suite")
			if other := len(paths) - suites; other > 0 {
				what += fmt.Sprintf(" and %s beside them", ui.Plural(other, "file"))
			}
			fmt.Fprintf(a.Out, "%s, %s: %s, %s\n", what, ui.Plural(cases, "case"), ui.Plural(faults, "fault"),
				advice(len(all)-faults))
		})
	}
	if err == nil && faults > 0 {
		return ui.Exit{Code: ui.ExitFail}
	}
	return err
}

// textsOf reads the texts of a package file.
func textsOf(path string) (script.Texts, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, ui.WrongCall{Title: "the package cannot be read: " + err.Error(), Hint: ""}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	texts, err := appfile.ReadTexts(f, info.Size())
	if err != nil {
		return nil, ui.WrongCall{Title: path + " is no package: " + err.Error(),
			Hint: "name an .apk, an .ipa, or a zip"}
	}
	return script.Texts(texts), nil
}

// ask has the service look at a script, where that is wanted.
func (a *App) ask(ctx context.Context, path, text string, suite *script.Suite, f checks) ([]script.Finding, error) {
	if f.app == "" && f.build == "" && f.lineup == "" {
		return nil, nil
	}
	s, err := a.Connect(ctx)
	if err != nil {
		return nil, err
	}
	beside, err := newFolder(path).beside(suite)
	if err != nil {
		return nil, err
	}
	in := contract.SuiteToCheck{Text: text, App: ui.Optional(f.app), Build: ui.Optional(f.build),
		Lineup: ui.Optional(f.lineup)}
	if len(beside) > 0 {
		in.Files = &beside
	}
	_, before := read(path, text)
	known := map[string]bool{}
	for _, one := range before {
		known[fmt.Sprint(one.Pos.File, one.Pos.Line, one.Pos.Column, one.Message)] = true
	}
	list, err := client.As[[]contract.Finding](s.CheckSuite(ctx, s.Project, in))
	var out []script.Finding
	for _, one := range list {
		if known[fmt.Sprint(ui.Deref(one.File), one.Line, one.Column, one.Message)] {
			continue // it was found here already
		}
		out = append(out, script.Finding{Pos: script.Pos{File: ui.Deref(one.File), Line: one.Line, Column: one.Column},
			Length: one.Length,
			Line:   one.Text, Shift: ui.Deref(one.Shift), Message: one.Message, Rule: token.Rule(ui.Deref(one.Rule)),
			Hint: ui.Deref(one.Hint), Advice: ui.Deref(one.Advice)})
	}
	return out, err
}

func (a *App) writeSARIF(path string, all []fileFinding) error {
	var list []report.Placed
	for _, f := range all {
		list = append(list, report.Placed{File: f.File, Finding: f.Finding})
	}
	write := func(w io.Writer) error { return report.SARIF(w, ui.Version, list) }
	if path == "-" {
		return write(a.Document())
	}
	f, err := os.Create(path)
	if err != nil {
		return ui.WrongCall{Title: "the SARIF file cannot be written: " + err.Error(), Hint: ""}
	}
	if err := write(f); err != nil {
		_ = f.Close()
		return err
	}
	return f.Close()
}

func advice(n int) string {
	switch n {
	case 0:
		return "no advice"
	case 1:
		return "1 piece of advice"
	}
	return fmt.Sprintf("%d pieces of advice", n)
}
