package screen

import (
	"fmt"

	"yamato/internal/core/plain"
)

// Describe names an element in few words: its role, its id and what it says.
func Describe(n *Node) string {
	role := n.Role
	if role == "" {
		role = PlainText
	}
	switch {
	case n.ID != "" && n.Label() != "":
		return fmt.Sprintf("%s #%s %q", role, n.ID, clip(n.Label()))
	case n.ID != "":
		return role + " #" + n.ID
	case n.Label() != "":
		return fmt.Sprintf("%s %q", role, clip(n.Label()))
	}
	return role
}

// DescribeCover names what lies over an element, by what is on it if it says nothing itself.
func DescribeCover(n *Node) string {
	if n.ID != "" || n.Label() != "" {
		return Describe(n)
	}
	what := "something"
	if n.Role != "" {
		what = n.Role
	}
	if text := Fold(n.Content()); text != "" {
		return fmt.Sprintf("%s with %q on it", what, clip(text))
	}
	return fmt.Sprintf("%s without id or text, %.0f by %.0f at %.0f,%.0f", what, n.Bounds.W, n.Bounds.H, n.Bounds.X,
		n.Bounds.Y)
}

// clip shortens what is told of a text.
func clip(s string) string { return plain.Clip(s, 60) }

// States tells in words how an element is; shown says whether a person sees some of it.
func (n *Node) States(shown bool) []string {
	out := []string{}
	for _, s := range []struct {
		on   bool
		name string
	}{{n.Disabled, "disabled"}, {n.Focused, "focused"}, {n.Selected, "selected"}, {n.Busy, "busy"},
		{n.Checked == "true", "checked"}, {n.Checked == "mixed", "partly checked"}, {!n.OnScreen(), "out of sight"},
		{n.OnScreen() && !shown, "covered"}} {
		if s.on {
			out = append(out, s.name)
		}
	}
	return out
}
