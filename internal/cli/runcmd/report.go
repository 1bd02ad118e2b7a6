package runcmd

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/report"
)

// runReport writes a run in forms that other tools and people read.
func (a *App) runReport() *cobra.Command {
	var html, junit, tap, document string
	cmd := &cobra.Command{
		Use: "report RUN", Short: "Write a run as one page with its pictures, or as JUnit XML, TAP or JSON",
		Long: "Write a run as one page with its pictures within (--html), or for other tools: JUnit XML, TAP 14, or JSON of its own,\n" +
			"which docs/run-report.schema.json describes. - writes to standard output.",
		Example:           "  yamato run report 2 --html run-2.html\n  yamato run report 2 --junit results.xml --tap results.tap",
		Args:              ui.Exactly(1, "name the run: yamato run report 2 --html run-2.html"),
		ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			if html+junit+tap+document == "" {
				return ui.WrongCall{Title: "a report needs a form and a file",
					Hint: "choose from --html FILE, --junit FILE, --tap FILE and --json FILE"}
			}
			s, n, err := a.connectRun(cmd.Context(), args)
			if err != nil {
				return err
			}
			return a.writeReports(cmd.Context(), s, n, map[string]string{"html": html, "junit": junit, "tap": tap,
				"json": document})
		},
	}
	f := cmd.Flags()
	f.StringVar(&html, "html", "", "write one page, with its pictures within, to this `file`")
	f.StringVar(&junit, "junit", "", "write JUnit XML to this `file`")
	f.StringVar(&tap, "tap", "", "write TAP 14 to this `file`")
	f.StringVar(&document, "json", "", "write JSON, as docs/run-report.schema.json describes it, to this `file`")
	return cmd
}

func (a *App) writeReports(ctx context.Context, s *client.Service, n int64, files map[string]string) error {
	d, err := a.Detail(ctx, s, n)
	if err != nil {
		return err
	}
	var causes []contract.Cause
	if files["json"] != "" {
		if causes, err = client.As[[]contract.Cause](s.ListCauses(ctx, s.Project, n)); err != nil {
			return err
		}
	}
	written := []string{}
	for _, one := range []struct {
		form  string
		write func(io.Writer) error
	}{
		{"junit", func(w io.Writer) error { return report.JUnit(w, d) }},
		{"tap", func(w io.Writer) error { return report.TAP(w, d) }},
		{"json", func(w io.Writer) error { return report.JSON(w, d, causes) }},
		{"html", func(w io.Writer) error {
			page, err := s.RunReport(ctx, n)
			if err != nil {
				return err
			}
			defer page.Close()
			_, err = io.Copy(w, page)
			return err
		}},
	} {
		path := files[one.form]
		switch path {
		case "":
			continue
		case "-":
			if err := one.write(a.Document()); err != nil {
				return err
			}
			continue
		}
		f, err := renameio.NewPendingFile(path, renameio.WithPermissions(0o644)) // whole, or as it was before
		if err != nil {
			return ui.WrongCall{Title: "the report cannot be written: " + err.Error(), Hint: ""}
		}
		if err := one.write(f); err != nil {
			return errors.Join(err, f.Cleanup())
		}
		if err := f.CloseAtomicallyReplace(); err != nil {
			return ui.WrongCall{Title: "the report cannot be written: " + err.Error(), Hint: ""}
		}
		written = append(written, path)
	}
	if len(written) == 0 {
		return nil
	}
	return a.Write(map[string][]string{"written": written}, func() {
		for _, path := range written {
			fmt.Fprintln(a.Out, path)
		}
	})
}
