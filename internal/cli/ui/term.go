package ui

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"

	"yamato/internal/report"
)

// Width is how many columns what is written has room for, 0 where that does not matter:
// it goes to a file or to another program, and nobody has said ($COLUMNS).
func (a *App) Width() int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n >= 20 {
		return n
	}
	for _, to := range []any{a.Out, a.Err} {
		if p, ok := to.(Printable); ok {
			to = p.To
		}
		if f, ok := to.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			if w, _, err := term.GetSize(int(f.Fd())); err == nil && w >= 20 {
				return w
			}
		}
		if to == a.Out {
			continue
		}
	}
	return 0
}

// Document is standard output for what another program reads: byte for byte, unless it is a terminal.
func (a *App) Document() io.Writer {
	p, ok := a.Out.(Printable)
	if !ok {
		return a.Out
	}
	if f, ok := p.To.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return p
	}
	return p.To
}

// dumb reports whether the terminal is one that only takes text.
func dumb() bool { return os.Getenv("TERM") == "dumb" }

// Ink colours what goes to standard output, if that is a terminal that can show it, and
// folds what is longer than its lines.
func (a *App) Ink() report.Ink {
	p, _ := a.Out.(Printable)
	f, ok := p.To.(*os.File)
	on := ok && term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == "" && !dumb()
	return report.Ink{On: on, Width: a.Width()}
}

// Animated reports whether progress can be drawn on standard error.
func (a *App) Animated() bool {
	f, ok := a.Err.(*os.File)
	return ok && term.IsTerminal(int(f.Fd())) && !dumb()
}

// Table writes rows in columns. Where they are wider than the terminal, the widest cells
// are folded; no line ends in blanks.
func (a *App) Table(head []string, rows [][]string) {
	widths, whole := make([]int, len(head)), make([]int, len(head))
	all := append([][]string{head}, rows...)
	for _, r := range all {
		for i, cell := range r {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
			for word := range strings.FieldsSeq(cell) {
				whole[i] = max(whole[i], utf8.RuneCountInString(word))
			}
		}
	}
	shrink(widths, whole, a.Width())
	for _, r := range all {
		folded := make([][]string, len(r))
		lines := 1
		for i, cell := range r {
			indent := len(cell) - len(strings.TrimLeft(cell, " "))
			folded[i] = report.Indented(cell, indent, widths[i])
			lines = max(lines, len(folded[i]))
		}
		for n := range lines {
			var b strings.Builder
			for i := range r {
				cell := ""
				if n < len(folded[i]) {
					cell = folded[i][n]
				}
				b.WriteString(cell)
				if i < len(r)-1 {
					b.WriteString(strings.Repeat(" ", max(0, widths[i]-utf8.RuneCountInString(cell))+2))
				}
			}
			fmt.Fprintln(a.Out, strings.TrimRight(b.String(), " "))
		}
	}
}

// narrowest is how wide a column stays at least where a table has to be made to fit.
const narrowest = 8

// shrink takes from the widest columns until all fit: first from those whose words stay
// whole, which are there to be read and copied, and only then from the others.
func shrink(widths, whole []int, room int) {
	if room == 0 {
		return
	}
	total := 2 * (len(widths) - 1)
	for _, w := range widths {
		total += w
	}
	for _, least := range [][]int{whole, make([]int, len(widths))} {
		for total > room {
			widest := -1
			for i, w := range widths {
				if w > max(least[i], narrowest) && (widest < 0 || w > widths[widest]) {
					widest = i
				}
			}
			if widest < 0 {
				break
			}
			widths[widest]--
			total--
		}
	}
}

// Say writes a line, folded at the terminal's width, what follows indented as far.
func (a *App) Say(indent int, format string, args ...any) {
	for _, line := range report.Indented(fmt.Sprintf(format, args...), indent, a.Width()) {
		fmt.Fprintln(a.Out, line)
	}
}
