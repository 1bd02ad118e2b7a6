// Package suggest proposes locators and lines of script for what is on a screen.
package suggest

import (
	"fmt"
	"strings"

	"yamato/internal/core/screen"
	"yamato/internal/core/script"
)

// For gives locators that find n in t and it alone, as scripts write them, and
// lines that do with it what one would do with such an element. All of them can be
// read by script.Read as they stand.
func For(t *screen.Tree, n *screen.Node) (locators, lines []string) {
	for _, l := range screen.Suggest(t, n) {
		if text := l.String(); reads("expect " + text) {
			locators = append(locators, text)
		}
	}
	if len(locators) == 0 {
		return nil, nil
	}
	best := locators[0]
	for _, line := range wanted(n, best) {
		if reads(line) {
			lines = append(lines, line)
		}
	}
	return locators, lines
}

// reads reports whether a line is one that scripts may hold.
func reads(line string) bool {
	_, findings := script.Read("suite \"s\"\ncase \"c\"\n" + line + "\nend\n")
	return script.Faults(findings) == 0
}

// tapped are the roles that are there to be tapped.
var tapped = map[string]bool{"button": true, "link": true, "tab": true, "menuitem": true, "option": true,
	"checkbox": true, "radio": true, "switch": true, "listitem": true}

func wanted(n *screen.Node, locator string) []string {
	var out []string
	switch {
	case n.Role == "textbox" || n.Role == "searchbox" || n.Role == "spinbutton":
		out = append(out, fmt.Sprintf("set %s to %q", locator, "…"))
	case tapped[n.Role]:
		out = append(out, "tap "+locator)
	}
	out = append(out, "expect "+locator)
	content := screen.Fold(n.Content())
	if content != "" && len([]rune(content)) <= 60 && !strings.ContainsAny(content, "\"{}\\") &&
		!strings.Contains(locator, fmt.Sprintf("%q", content)) {
		out = append(out, fmt.Sprintf("expect %s shows %q", locator, content))
	}
	if strings.ContainsAny(content, "0123456789") && len(content) < 30 {
		out = append(out, "let x = number in "+locator)
	}
	return out
}
