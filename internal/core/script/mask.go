package script

import (
	"regexp"
	"slices"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// Mask hides values in what is told: in reports, logs, names and trees. The zero Mask hides
// nothing.
type Mask struct {
	forms []maskedForm // those that find most first
}

// maskedForm is one way to write something to hide: word for word, or by a pattern.
type maskedForm struct {
	form, mark string
	dressed    *regexp.Regexp // nil for word for word
}

func (f maskedForm) reach() int {
	if f.dressed != nil {
		return 1<<20 + len(f.dressed.String())
	}
	return len(f.form)
}

// MinSecret is the least length of a secret, in bytes: less would be found in everything.
const MinSecret = 4

// NewMask hides the values of secrets, by name, and all that accounts hold but who the user is.
func NewMask(secrets map[string]string, accounts map[string]map[string]string) *Mask {
	m := &Mask{}
	for name, value := range secrets {
		m.add(value, `[secret "`+name+`"]`)
	}
	for account, fields := range accounts {
		for field, value := range fields {
			if field != "user" {
				m.add(value, `[`+field+` of "`+account+`"]`)
			}
		}
	}
	slices.SortStableFunc(m.forms, func(a, b maskedForm) int { // what finds more comes first
		if x, y := a.reach(), b.reach(); x != y {
			return y - x
		}
		return strings.Compare(a.form+a.mark, b.form+b.mark)
	})
	return m
}

// add hides a value in every dress in which it may be met: as it is, in capitals or not, folded as texts on screens
// are, and as addresses, forms, JSON, HTML and base64 write it (dress.go).
func (m *Mask) add(value, mark string) {
	if len(value) < MinSecret {
		return
	}
	forms := append([]string{value, screen.Fold(value)}, inBase64(value)...)
	slices.Sort(forms)
	for _, f := range slices.Compact(forms) {
		if len(f) >= MinSecret {
			m.forms = append(m.forms, maskedForm{form: f, mark: mark})
		}
	}
	for _, d := range dresses(value) {
		m.forms = append(m.forms, maskedForm{mark: mark, dressed: d})
	}
}

// Text gives a text with what is to be hidden replaced by its name. What a text shows only the
// beginning of, cut off by an ellipsis, is hidden too.
func (m *Mask) Text(s string) string {
	if m == nil || len(m.forms) == 0 {
		return s
	}
	for _, f := range m.forms {
		if f.dressed != nil {
			s = f.dressed.ReplaceAllLiteralString(s, f.mark)
		} else {
			s = strings.ReplaceAll(s, f.form, f.mark)
		}
	}
	const cut = "…"
	if !strings.Contains(s, cut) {
		return s
	}
	parts := strings.Split(s, cut)
	for i := range len(parts) - 1 {
		for _, f := range m.forms {
			if n := overlap(parts[i], f.form); n >= MinSecret-1 {
				parts[i] = parts[i][:len(parts[i])-n] + f.mark
				break
			}
		}
	}
	return strings.Join(parts, cut)
}

// Lines hides in texts that follow one another, also what one ends with the beginning of and the next goes on with.
func (m *Mask) Lines(list []string) []string {
	if m == nil || len(m.forms) == 0 {
		return list
	}
	out := slices.Clone(list)
	for i := range out {
		for _, f := range m.forms {
			if i+1 == len(out) {
				break
			}
			for n := min(len(out[i]), len(f.form)-1); n > 0; n-- {
				if strings.HasSuffix(out[i], f.form[:n]) && strings.HasPrefix(out[i+1], f.form[n:]) {
					out[i], out[i+1] = out[i][:len(out[i])-n]+f.mark, f.mark+out[i+1][len(f.form)-n:]
					break
				}
			}
		}
		out[i] = m.Text(out[i])
	}
	return out
}

// log hides in lines of a log.
func (m *Mask) log(list []device.LogLine) []device.LogLine {
	texts := make([]string, len(list))
	for i, l := range list {
		texts[i] = l.Text
	}
	out := slices.Clone(list)
	for i, text := range m.Lines(texts) {
		out[i].Text = text
	}
	return out
}

// Bytes gives a text with what is to be hidden replaced.
func (m *Mask) Bytes(text []byte) []byte {
	if m == nil || len(m.forms) == 0 {
		return text
	}
	return []byte(m.Text(string(text)))
}

// overlap is how many bytes at the end of s are the beginning of form.
func overlap(s, form string) int {
	for n := min(len(s), len(form)-1); n > 0; n-- {
		if strings.HasSuffix(s, form[:n]) {
			return n
		}
	}
	return 0
}

// Held is what a field holds, hidden from the first sign on while something to hide is typed into it.
func (m *Mask) Held(n *screen.Node) string {
	if m != nil && n.Focused && n.Value != "" {
		for _, f := range m.forms {
			if f.form != "" && strings.HasPrefix(f.form, n.Value) {
				return f.mark
			}
		}
	}
	return m.Text(n.Value)
}

// Tree gives a tree with what is to be hidden replaced.
func (m *Mask) Tree(t *screen.Tree) *screen.Tree {
	if m == nil || len(m.forms) == 0 || t == nil || t.Root == nil {
		return t
	}
	var copied func(n *screen.Node) *screen.Node
	copied = func(n *screen.Node) *screen.Node {
		c := *n
		c.ID, c.Name, c.Text, c.Value = m.Text(n.ID), m.Text(n.Name), m.Text(n.Text), m.Held(n)
		c.Children = make([]*screen.Node, len(n.Children))
		for i, k := range n.Children {
			c.Children[i] = copied(k)
		}
		return &c
	}
	out := *t
	out.Root = copied(t.Root)
	return &out
}

// failure hides in all that a failure tells.
func (m *Mask) failure(f *Failure) {
	if m == nil || len(m.forms) == 0 {
		return
	}
	for _, s := range []*string{&f.Expected, &f.Actual, &f.Obstacle, &f.Report, &f.Step} {
		*s = m.Text(*s)
	}
	for i := range f.Candidates {
		f.Candidates[i].Label, f.Candidates[i].ID = m.Text(f.Candidates[i].Label), m.Text(f.Candidates[i].ID)
	}
	for i := range f.Values {
		f.Values[i].Value = m.Text(f.Values[i].Value)
	}
	f.Log = m.log(f.Log)
	whole := ""
	for _, p := range f.Difference {
		whole += p.Text
	}
	if m.Text(whole) != whole || m.hides(f.Difference) {
		f.Difference = nil // pieces of a secret tell of it
	}
}

// hides reports whether one of two texts that differ holds something to hide.
func (m *Mask) hides(list []Piece) bool {
	for _, side := range []string{OfExpected, OfActual} {
		text := ""
		for _, p := range list {
			if p.Of == OfBoth || p.Of == side {
				text += p.Text
			}
		}
		if m.Text(text) != text {
			return true
		}
	}
	return false
}
