package report

import (
	"fmt"
	"regexp"
	"strings"
	"time"
)

// Found is a finding as it is handed on.
type Found struct {
	Number, Session, Run        int64
	Title, State, Note, FoundBy string
	Mended                      string // the build that it is mended in
	At                          time.Time
	Build, App, Device, Model   string
	OS, Language                string
	Surroundings, Way, Log      []string
	Marked                      bool // a marked picture lies beside it
}

// Finding writes a finding as Markdown: what is wrong, where it was seen, the way there, the log around it. Its
// pictures lie beside it.
func Finding(f Found) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n", markdown(f.Title))
	state := f.State
	if f.Mended != "" {
		state = "mended in build " + f.Mended
	}
	fmt.Fprintf(&b, "Finding %d, %s, found by %s on %s.\n\n", f.Number, state, markdown(f.FoundBy),
		f.At.UTC().Format("2006-01-02 15:04 UTC"))
	if f.Note != "" {
		fmt.Fprintf(&b, "%s\n\n", note(f.Note))
	}
	b.WriteString("## Where\n\n")
	for _, row := range [][2]string{{"Build", f.Build}, {"App", f.App}, {"Device", f.Device}, {"Model", f.Model},
		{"OS", f.OS}, {"Language", f.Language}, {"Surroundings", strings.Join(f.Surroundings, "; ")}} {
		if row[1] != "" {
			fmt.Fprintf(&b, "- %s: %s\n", row[0], markdown(row[1]))
		}
	}
	if f.Session > 0 {
		fmt.Fprintf(&b, "- Session: %d\n", f.Session)
	}
	if f.Run > 0 {
		fmt.Fprintf(&b, "- Run: %d\n", f.Run)
	}
	if f.Marked {
		fmt.Fprintf(&b, "\n![%s](marked.png)\n", strings.NewReplacer("[", "(", "]", ")").Replace(markdown(f.Title)))
	}
	fenced(&b, "The way there", f.Way)
	fenced(&b, "Log", f.Log)
	return b.String()
}

// fenced writes lines as they are, in a fence that none of them ends.
func fenced(b *strings.Builder, title string, lines []string) {
	if len(lines) == 0 {
		return
	}
	fence := "```"
	text := strings.Join(lines, "\n")
	for strings.Contains(text, fence) {
		fence += "`"
	}
	fmt.Fprintf(b, "\n## %s\n\n%s\n%s\n%s\n", title, fence, text, fence)
}

// note writes what somebody wrote as it reads: its lines and paragraphs stay, and nothing in it is markup.
func note(s string) string {
	lines := strings.Split(strings.TrimSpace(strings.ReplaceAll(s, "\r\n", "\n")), "\n")
	for i, l := range lines {
		l = markdown(l)
		if leads.MatchString(l) { // a list, a quotation or a rule (CommonMark 0.31, 4 and 5)
			at := strings.IndexAny(l, "-+>=~.)")
			l = l[:at] + `\` + l[at:]
		}
		if i < len(lines)-1 && l != "" && strings.TrimSpace(lines[i+1]) != "" {
			l += `\` // a line ends here (CommonMark 0.31, 6.7)
		}
		lines[i] = l
	}
	return strings.Join(lines, "\n")
}

var leads = regexp.MustCompile(`^([-+>=~]|\d{1,9}[.)])`)

// markdown writes a text of one line so that nothing in it is markup.
func markdown(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	return strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "<", `\<`, "&", `\&`,
		"!", `\!`, "#", `\#`, "|", `\|`).Replace(s)
}
