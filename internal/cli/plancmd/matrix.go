package plancmd

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/matrix/cover"
)

// chosen is what `yamato matrix` writes for programs.
type chosen struct {
	Name         string              `json:"matrix"`
	Factors      []matrix.Factor     `json:"factors"`
	Combinations []map[string]string `json:"combinations"`
	All          int                 `json:"all"` // combinations there are, rules aside
	Coverage     []matrix.Coverage   `json:"coverage"`
	Forbidden    []matrix.Ruled      `json:"forbidden"` // levels that never meet
	Dead         []matrix.Ruled      `json:"dead"`      // levels that appear nowhere
	LeftOut      []matrix.Ruled      `json:"left_out"`
	Minutes      float64             `json:"device_minutes"`
}

// MatrixCommand chooses combinations without a service.
func (a *App) MatrixCommand() *cobra.Command {
	var table, coverage string
	var rows, minutes int
	var seed uint64
	var thorough bool
	cmd := &cobra.Command{
		Use: "matrix FILE", Short: "Choose combinations of factors that a file describes, without a service",
		Long: "Choose combinations of factors that a file describes, without a service: as few as cover every level, pair\n" +
			"or triple that the rules allow. docs/plans.md says how the file is written.",
		Example: "  yamato matrix crossing.matrix.yaml\n  yamato matrix crossing.matrix.yaml --cover triples\n" +
			"  yamato matrix crossing.matrix.yaml --csv combinations.csv",
		Args: ui.Exactly(1, "name the file: yamato matrix FILE"), ValidArgsFunction: ui.Files("yaml", "yml"),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := ui.ReadSmall(args[0])
			if err != nil {
				return ui.WrongCall{Title: "the file cannot be read: " + err.Error()}
			}
			d, err := matrix.ReadDocument(text)
			if err != nil {
				return ui.WrongCall{Title: args[0] + ": " + err.Error(), Hint: "docs/plans.md says how it is written"}
			}
			if coverage != "" {
				d.Cover = coverage
			}
			if rows > 0 {
				d.Budget.Combinations = rows
			}
			if minutes > 0 {
				d.Budget.Minutes = minutes
			}
			if cmd.Flags().Changed("seed") {
				d.Seed = seed
			}
			if f := d.Check(); f != nil {
				return ui.WrongCall{Title: f.Message, Hint: f.Hint}
			}
			work := &cover.Work{Stop: func() bool { return cmd.Context().Err() != nil }}
			effort := cover.Usual
			if thorough {
				effort, work.Limit = 10*cover.Usual, 10*cover.MaxLooks
			}
			sel, err := d.Choose(text, effort, work)
			if errors.Is(err, cover.ErrStopped) {
				return context.Cause(cmd.Context())
			}
			var contradiction *matrix.Contradiction
			if errors.As(err, &contradiction) {
				return ui.WrongCall{Title: args[0] + ": no combination is left", Hint: "these contradict each other: " +
					strings.Join(contradiction.Rules, "; ")}
			}
			if err != nil {
				return ui.WrongCall{Title: args[0] + ": " + err.Error(), Hint: "docs/plans.md says how it is written"}
			}
			if table != "" {
				if err := writeCSV(table, a.Out, sel); err != nil || table == "-" {
					return err
				}
			}
			return a.Write(forPrograms(d, sel), func() { a.showSelection(d, sel) })
		},
	}
	f := cmd.Flags()
	f.StringVar(&table, "csv", "", "write the combinations to a file, - for the terminal")
	f.StringVar(&coverage, "cover", "", "all, each, pairs or triples, in place of what the file says")
	f.IntVar(&rows, "combinations", 0, "at most so many")
	f.IntVar(&minutes, "minutes", 0, "of devices, at most")
	f.Uint64Var(&seed, "seed", 0, "another choice of the same kind")
	f.BoolVar(&thorough, "thorough", false, "take ten times as long to find fewer")
	_ = cmd.RegisterFlagCompletionFunc("cover", func(*cobra.Command, []string, string) ([]string,
		cobra.ShellCompDirective) {
		return []string{"all", "each", "pairs", "triples"}, cobra.ShellCompDirectiveNoFileComp
	})
	return cmd
}

func forPrograms(d *matrix.Document, sel matrix.Selection) chosen {
	out := chosen{Name: d.Name, Factors: sel.Factors, All: sel.All, Coverage: sel.Coverage, Forbidden: sel.Forbidden,
		Dead: sel.Dead, LeftOut: sel.LeftOut, Minutes: float64(sel.Cost) / float64(time.Minute.Milliseconds()),
		Combinations: []map[string]string{}}
	for _, p := range sel.Picked {
		one := map[string]string{}
		for i, f := range sel.Factors {
			one[f.Name] = p.Levels[i]
		}
		out.Combinations = append(out.Combinations, one)
	}
	return out
}

func writeCSV(path string, out io.Writer, sel matrix.Selection) (err error) {
	to := out
	if path != "-" {
		f, err := os.Create(path)
		if err != nil {
			return ui.WrongCall{Title: "the table cannot be written: " + err.Error()}
		}
		defer func() { err = errors.Join(err, f.Close()) }()
		to = f
	}
	w := csv.NewWriter(to)
	head := []string{}
	for _, f := range sel.Factors {
		head = append(head, f.Name)
	}
	if err := w.Write(head); err != nil {
		return err
	}
	for _, p := range sel.Picked {
		row := slices.Clone(p.Levels)
		for i, l := range row { // a spreadsheet takes what begins so for a formula
			if strings.HasPrefix(l, "=") || strings.HasPrefix(l, "+") || strings.HasPrefix(l, "@") {
				row[i] = "'" + l
			}
		}
		if err := w.Write(row); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

func (a *App) showSelection(d *matrix.Document, sel matrix.Selection) {
	head := []string{""}
	for _, f := range sel.Factors {
		head = append(head, strings.ToUpper(f.Name))
	}
	var rows [][]string
	for i, p := range sel.Picked {
		rows = append(rows, append([]string{strconv.Itoa(i + 1)}, p.Levels...))
	}
	a.Table(head, rows)
	all := strconv.Itoa(sel.All)
	if sel.All > matrix.MaxCombinations {
		all = fmt.Sprintf("more than %d", matrix.MaxCombinations)
	}
	fmt.Fprintf(a.Out, "\n%s of %s, %s\n", a.Ink().Strong(ui.Plural(len(sel.Picked), "combination")), all,
		deviceMinutes(float64(sel.Cost)/float64(time.Minute.Milliseconds())))
	for _, c := range sel.Coverage {
		a.tellCoverage(strengthName(c.Strength), c.Covered, c.Possible, c.Forbidden)
	}
	for _, c := range sel.Coverage {
		if c.Strength == max(matrix.Strengths[d.Cover], 2) {
			a.tellMissing(missingOf(c.Missing), c.Possible-c.Covered)
		}
	}
	a.tellRuled("In no combination", ruledLines(sel.Dead))
	a.tellRuled("Never together", ruledLines(sel.Forbidden))
	a.tellRuled("Left out", ruledLines(sel.LeftOut))
}

func strengthName(n int) string { return []string{"", "levels", "pairs", "triples"}[n] }

func deviceMinutes(minutes float64) string {
	if minutes >= 100 {
		return fmt.Sprintf("%.0f device-minutes", minutes)
	}
	return fmt.Sprintf("%.1f device-minutes", minutes)
}

func (a *App) tellCoverage(what string, covered, possible, forbidden int) {
	share := 100.0
	if possible > 0 {
		share = 100 * float64(covered) / float64(possible)
	}
	line := fmt.Sprintf("  %-8s %6.1f %%  %d of %d", what, share, covered, possible)
	if forbidden > 0 {
		line += fmt.Sprintf("; %d cannot be", forbidden)
	}
	fmt.Fprintln(a.Out, line)
}

// told bounds what is listed in a terminal.
const told = 12

func (a *App) tellMissing(list []string, all int) {
	if all == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\nNot covered: %d\n", all)
	for _, m := range list[:min(told, len(list))] {
		a.Say(2, "· %s", m)
	}
	if all > told {
		a.Say(2, "and %d more", all-told)
	}
}

func (a *App) tellRuled(title string, lines []string) {
	if len(lines) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n%s\n", title)
	for _, l := range lines[:min(told, len(lines))] {
		a.Say(2, "· %s", l)
	}
	if len(lines) > told {
		a.Say(2, "and %d more", len(lines)-told)
	}
}

func missingOf(list [][]fleet.Level) (out []string) {
	for _, m := range list {
		out = append(out, levelsLine(m))
	}
	return out
}

func ruledLines(list []matrix.Ruled) (out []string) {
	for _, r := range list {
		out = append(out, levelsLine(r.Levels)+": "+strings.Join(r.Why, "; "))
	}
	return out
}

func levelsLine(levels []fleet.Level) string {
	parts := []string{}
	for _, l := range levels {
		parts = append(parts, l.Factor+" "+l.Value)
	}
	return strings.Join(parts, ", ")
}
