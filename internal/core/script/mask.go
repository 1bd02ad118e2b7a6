package script

import (
	"encoding/json"
	"html"
	"net/url"
	"slices"
	"strings"

	"yamato/internal/core/screen"
)

// Mask hides values in what is told: in reports, logs, names and trees. The zero Mask hides
// nothing.
type Mask struct {
	forms []maskedForm // the longest first
}

type maskedForm struct{ form, mark string }

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
	slices.SortFunc(m.forms, func(a, b maskedForm) int {
		if len(a.form) != len(b.form) {
			return len(b.form) - len(a.form)
		}
		return strings.Compare(a.form+a.mark, b.form+b.mark)
	})
	return m
}

// add hides a value in each form in which it may be met: as it is, folded as texts on screens
// are, and as addresses, JSON, HTML and reports write it.
func (m *Mask) add(value, mark string) {
	if len(value) < MinSecret {
		return
	}
	quoted, _ := json.Marshal(value)
	forms := []string{value, screen.Fold(value), url.QueryEscape(value), url.PathEscape(value), string(quoted[1 : len(quoted)-1]),
		html.EscapeString(value), escape.Replace(value)}
	slices.Sort(forms)
	for _, f := range slices.Compact(forms) {
		if len(f) >= MinSecret {
			m.forms = append(m.forms, maskedForm{f, mark})
		}
	}
}

// Text gives a text with what is to be hidden replaced by its name. What a text shows only the
// beginning of, cut off by an ellipsis, is hidden too.
func (m *Mask) Text(s string) string {
	if m == nil || len(m.forms) == 0 {
		return s
	}
	for _, f := range m.forms {
		s = strings.ReplaceAll(s, f.form, f.mark)
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
			if strings.HasPrefix(f.form, n.Value) {
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
		c.Name, c.Text, c.Value = m.Text(n.Name), m.Text(n.Text), m.Held(n)
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
	for i := range f.Log {
		f.Log[i].Text = m.Text(f.Log[i].Text)
	}
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
