package edit

import (
	"yamato/internal/core/script"
)

// Held is something that a file holds: a case, an action, or what stands around cases.
type Held struct {
	Name, Kind string // kind: case, action or around
	Pos        script.Pos
	End        int // its last line
}

// Outline lists what the document's own file holds, in its order.
func (d Document) Outline() []Held {
	var out []Held
	for _, a := range d.Suite.Actions {
		if a.Pos.File == "" {
			out = append(out, Held{a.Usage(), "action", a.Pos, a.Pos.Line})
		}
	}
	seen := map[script.Pos]bool{} // rows of data are one case
	for _, c := range d.Suite.Cases {
		if c.Pos.File == "" && !seen[c.Pos] {
			seen[c.Pos] = true
			out = append(out, Held{c.Name, "case", c.Pos, max(c.End, c.Pos.Line)})
		}
	}
	return out
}

// SameAction gives the action of this document that is declared at a place, in a file as this document calls it; nil
// where it has none.
func (d Document) SameAction(file string, line int) *script.Action {
	for _, a := range d.Suite.Actions {
		if a.Pos.File == file && a.Pos.Line == line {
			return a
		}
	}
	return nil
}

// ActionAt gives the action that is declared or called at a place, nil where none is.
func (d Document) ActionAt(line, column int) *script.Action { return d.actionAt(line, column) }

// RenamesOf are the changes of this document, and of the files that it uses, by which an action has another name.
func (d Document) RenamesOf(a *script.Action, to string) ([]Change, error) {
	return d.renameAction(a, to)
}
