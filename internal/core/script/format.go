package script

import (
	"fmt"
	"strings"
	"time"

	"yamato/internal/core/script/token"
)

// Format writes a suite in the one canonical layout: two blanks for each open block, one
// blank between words, one empty line at most, and comments kept. A suite with faults is
// left as it is; its findings say why.
func Format(text string) (string, []Finding) {
	p := read(text)
	if p.tokens != nil {
		p.check()
	}
	findings := p.sorted()
	if Faults(findings) > 0 {
		return text, findings
	}
	statements := map[int]Statement{}
	Inspect(p.suite, func(n Node) bool {
		if st, ok := n.(Statement); ok {
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
		if len(words) > 0 && words[0].Is("end") {
			depth = max(0, depth-1)
		}
		b.WriteString(strings.Repeat("  ", depth))
		b.WriteString(canonical(words, statements[i+1]))
		if comment != "" {
			if len(words) > 0 {
				b.WriteString("  ")
			}
			b.WriteString(comment)
		}
		b.WriteByte('\n')
		if opens(words, statements[i+1]) {
			depth++
		}
	}
	return strings.TrimRight(b.String(), "\n") + "\n", findings
}

// opens reports whether a line opens a block.
func opens(words []token.Token, st Statement) bool {
	if st != nil {
		_, ok := st.(bodied)
		return ok
	}
	return len(words) > 0 && (words[0].Is("case") || words[0].Is("before"))
}

// commentOf is what stands behind the last word of a line.
func commentOf(line string, words []token.Token) string {
	rest := []rune(line)
	if n := len(words); n > 0 {
		rest = rest[min(len(rest), words[n-1].Pos.Column-1+words[n-1].Length):]
	}
	return strings.TrimSpace(string(rest))
}

func canonical(words []token.Token, st Statement) string {
	if st != nil {
		out := st.words()
		if within := st.base().Within; within > 0 {
			out += " within " + durationWords(within)
		}
		return out
	}
	var b strings.Builder
	for i, t := range words {
		if i > 0 && !t.IsSign(",") {
			b.WriteByte(' ')
		}
		switch t.Kind {
		case token.String:
			b.WriteString(quote(t.Plain()))
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
