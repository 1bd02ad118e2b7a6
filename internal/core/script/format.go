package script

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/script/token"
)

// Format writes a suite in the one canonical layout: two blanks for each open block, one
// blank between words, one empty line at most, and comments kept. A suite with faults is
// left as it is; its findings say why.
func Format(text string) (string, []Finding) {
	return FormatWith(text, nil)
}

// FormatWith is Format for a suite that uses other files, which are read and left as they are.
func FormatWith(text string, files Files) (string, []Finding) {
	p := read(text, files)
	if p.tokens != nil {
		p.check()
	}
	findings := p.sorted()
	if Faults(findings) > 0 {
		return text, findings
	}
	return p.layout(), findings
}

// FormatShared is Format for a file that suites use.
func FormatShared(name, text string, files Files) (string, []Finding) {
	p := readShared(name, text, files)
	findings := p.sorted()
	if Faults(findings) > 0 {
		return text, findings
	}
	return p.layout(), findings
}

// layout writes what was read from one file.
func (p *parser) layout() string {
	statements := map[int]Statement{}
	Inspect(p.suite, func(n Node) bool {
		st, ok := n.(Statement)
		// the first of a line has it all
		if ok && st.base().Pos.File == p.name && statements[st.base().Pos.Line] == nil {
			statements[st.base().Pos.Line] = st
		}
		return true
	})
	var b strings.Builder
	depth, empty := 0, true // no empty line begins the file
	lines := map[int][]token.Token{}
	for _, t := range p.tokens {
		if !t.EndsLine() {
			lines[t.Pos.Line] = append(lines[t.Pos.Line], t)
		}
	}
	for i, line := range p.lines {
		words := lines[i+1]
		comment := commentOf(strings.TrimPrefix(line, "\ufeff"), words)
		if len(words) == 0 && comment == "" {
			if !empty {
				b.WriteByte('\n')
			}
			empty = true
			continue
		}
		empty = false
		back := len(words) > 0 && (words[0].Is("end") || words[0].Is("else"))
		if back {
			depth = max(0, depth-1)
		}
		st := statements[i+1]
		if back { // an `if` after `else` is written word by word, as its line begins with `else`
			st = nil
		}
		b.WriteString(strings.Repeat("  ", depth))
		b.WriteString(p.canonical(words, st, statements[i+1]))
		if comment != "" {
			if len(words) > 0 {
				b.WriteString("  ")
			}
			b.WriteString(comment)
		}
		b.WriteByte('\n')
		if opens(words, st) {
			depth++
		}
	}
	return strings.TrimRight(b.String(), "\n") + "\n"
}

// opens reports whether a line opens a block.
func opens(words []token.Token, st Statement) bool {
	if st != nil {
		_, ok := st.(bodied)
		return ok
	}
	return len(words) > 0 && slices.ContainsFunc([]string{"case", "before", "after", "action", "each", "else"},
		words[0].Is)
}

// commentOf is what stands behind the last word of a line.
func commentOf(line string, words []token.Token) string {
	rest := []rune(line)
	if n := len(words); n > 0 {
		rest = rest[min(len(rest), words[n-1].Pos.Column-1+words[n-1].Length):]
	}
	return strings.TrimSpace(string(rest))
}

// canonical writes a line: a statement in the one way that it is written, all else word by
// word. inner is the `if` that stands behind an `else`.
func (p *parser) canonical(words []token.Token, st, inner Statement) string {
	if st != nil {
		out := st.words()
		if st.base().For > 0 {
			out += " for " + durationWords(st.base().For)
		}
		if within := st.base().Within; within > 0 {
			out += " within " + durationWords(within)
		}
		return out
	}
	if inner != nil && len(words) > 1 && words[0].Is("else") {
		return "else " + inner.words()
	}
	var b strings.Builder
	for i, t := range words {
		if i > 0 && !t.IsSign(",") && !words[i-1].IsSign("-") {
			b.WriteByte(' ')
		}
		switch t.Kind {
		case token.String:
			if words[0].Is("use") && i == 1 {
				b.WriteString(requote(Renamed(t.Text)))
			} else {
				b.WriteString(requote(t.Text))
			}
		case token.Word, token.Sign:
			b.WriteString(t.Text)
		default:
			b.WriteString(t.Raw)
		}
	}
	return b.String()
}

// durationWords writes a duration in the largest unit that it is whole in.
func durationWords(d time.Duration) string {
	switch {
	case d%time.Minute == 0:
		return fmt.Sprintf("%dm", d/time.Minute)
	case d%time.Second == 0:
		return fmt.Sprintf("%ds", d/time.Second)
	}
	return fmt.Sprintf("%dms", d/time.Millisecond)
}

// requote writes a text as it was written, in plain quotes.
func requote(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text):
			b.WriteString(text[i : i+2])
			i++
		case text[i] == '"':
			b.WriteString(`\"`)
		default:
			b.WriteByte(text[i])
		}
	}
	b.WriteByte('"')
	return b.String()
}
