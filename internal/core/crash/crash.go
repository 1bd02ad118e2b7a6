// Package crash tells crashes apart by their stacks: what changes from one crash to the next of the
// same fault (addresses, line numbers, names that were generated) is left aside.
package crash

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"strings"

	"yamato/internal/core/plain"
)

// Stack is what a crash report comes to.
type Stack struct {
	Key    string   // the same for the same fault
	Title  string   // the first line that says what happened
	Frames []string // what the key is made of, the innermost first
}

// Bounds of what is looked at.
const (
	maxReport = 256 << 10
	maxFrames = 12
	maxFrame  = 300 // bytes
)

// A frame is a line that begins as engines and systems write them: `at f (file:1:2)`, `f@file:1:2`,
// `#0 0x… f+12 (file)`, `0  Library  0x… symbol + 12`, `0 symbol at file:1`.
var frames = []*regexp.Regexp{
	regexp.MustCompile(`^\s*at\s+(?:async\s+)?(.+)$`),
	regexp.MustCompile(`^\s*#\d+\s+(?:pc\s+)?(?:0x)?[0-9a-fA-F]*\s*(.+)$`),
	regexp.MustCompile(`^\s*\d{1,3}\s+(\S.*(?:\+\s*\d+|0x[0-9a-fA-F]{4,}|\sat\s).*)$`),
	regexp.MustCompile(`^\s*([^@\s]*@\S+:\d+(?::\d+)?)\s*$`),
}

// left is what of a line is not the fault's own, in the order in which it is taken out.
var left = []struct {
	form *regexp.Regexp
	to   string
}{
	{regexp.MustCompile(`\?[^\s):]*`), ""},                                            // what is asked of an address
	{regexp.MustCompile(`\((?:offset|BuildId)[^)]*\)`), ""},                           // of Android's native stacks
	{regexp.MustCompile(`0x[0-9a-fA-F]+`), "·"},                                       // addresses
	{regexp.MustCompile(`\+\s*(?:0x)?[0-9a-fA-F]+\b`), ""},                            // into a function
	{regexp.MustCompile(`\(\d+\)`), ""},                                               // into a program
	{regexp.MustCompile(`:\d+(?::\d+)?`), ""},                                         // lines and columns
	{regexp.MustCompile(`\bline \d+(?:,? column \d+)?`), ""},                          //
	{regexp.MustCompile(`[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}`), "·"}, // RFC 9562
	// bundlers put digests into names
	{regexp.MustCompile(`([-.])[0-9A-Za-z_]*\d[0-9A-Za-z_]*\.(m?js|css)\b`), "$1·.$2"},
	{regexp.MustCompile(`\b(?:lambda|anonymous|closure|block|func|fn)[$_#]?\d+`), "·"}, // functions without a name
	{regexp.MustCompile(`\$\$?(?:Lambda|ExternalSyntheticLambda|inlined|\d)[\w$/]*`), "$·"},
	{regexp.MustCompile(`\b[0-9a-fA-F]{8,}\b`), "·"},
	{regexp.MustCompile(`https?://[^/\s)]+`), ""}, // where it was served from
	{regexp.MustCompile(`/(?:data/app|private/var|Users|home|tmp)/[^\s)]*/`), ""},
	{regexp.MustCompile(`\s+`), " "},
}

// values in what is said of a fault are not the fault's own either.
var said = []struct {
	form *regexp.Regexp
	to   string
}{
	{regexp.MustCompile(`"[^"]*"|'[^']*'|“[^”]*”`), "“·”"},
	{regexp.MustCompile(`0x[0-9a-fA-F]+|\b\d[\d.,]*\b`), "·"},
	{regexp.MustCompile(`\s+`), " "},
}

// Read tells what a report comes to. reason is what was said of the crash beside it.
func Read(reason, report string) Stack {
	s := Stack{}
	message := ""
	for _, line := range strings.Split(plain.Text(report, maxReport), "\n") {
		frame := ""
		for _, form := range frames {
			if m := form.FindStringSubmatch(line); m != nil {
				frame = m[1]
				break
			}
		}
		switch {
		case frame == "" && message == "" && strings.TrimSpace(line) != "":
			message = strings.TrimSpace(line)
		case frame != "" && len(s.Frames) < maxFrames:
			// however deep it went
			if frame = clean(frame); frame != "" && (len(s.Frames) == 0 || s.Frames[len(s.Frames)-1] != frame) {
				s.Frames = append(s.Frames, frame)
			}
		}
	}
	if message == "" {
		message = strings.TrimSpace(reason)
	}
	s.Title = plain.Clip(message, maxFrame)
	if s.Title == "" {
		s.Title = "it is not told why"
	}
	hash := sha256.New()
	kind := message
	for _, r := range said {
		kind = r.form.ReplaceAllString(kind, r.to)
	}
	if len(s.Frames) > 0 { // the stack says more than the words, whose values differ
		kind, _, _ = strings.Cut(kind, ":")
	}
	_, _ = hash.Write([]byte(kind)) // never fails (hash.Hash)
	for _, f := range s.Frames {
		_, _ = hash.Write([]byte("\x00" + f))
	}
	s.Key = hex.EncodeToString(hash.Sum(nil)[:12])
	return s
}

func clean(frame string) string {
	for _, r := range left {
		frame = r.form.ReplaceAllString(frame, r.to)
	}
	return plain.Clip(strings.TrimSpace(frame), maxFrame)
}
