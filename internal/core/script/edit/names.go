package edit

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/script"
	"yamato/internal/core/script/token"
)

// name is a value's name where it stands.
type name struct {
	name     string
	place    Place
	declares bool
}

// scope are the nodes in which a name means the same.
type scope struct {
	given  []script.Given // by runs, to all cases of the suite
	params []script.Param
	nodes  []script.Node
}

// scope gives what a line shares names with: its action alone; else its case with what comes
// before and after each and all.
func (d Document) scope(line int) scope {
	var in scope
	last := 0
	for _, a := range d.Suite.Actions {
		if a.Pos.File == "" && a.Pos.Line <= line && a.Pos.Line > last {
			last = a.Pos.Line
			in = scope{params: a.Params, nodes: []script.Node{a.Body}}
		}
	}
	around := d.Suite.Around
	var shared []script.Node
	for _, b := range []*script.Block{around.BeforeAll, around.BeforeEach, around.AfterEach, around.AfterAll} {
		if b == nil {
			continue
		}
		shared = append(shared, b)
		for _, st := range b.Steps {
			if at := lineOf(st); at <= line && at > last {
				last, in = at, scope{}
			}
		}
	}
	for _, c := range d.Suite.Declared() {
		if c.Pos.Line <= line && c.Pos.Line > last {
			last = c.Pos.Line
			in = scope{d.Suite.Given, c.Data(), append(slices.Clone(shared), c.Body)}
		}
	}
	if in.nodes == nil {
		in.given, in.nodes = d.Suite.Given, shared
		for _, c := range d.Suite.Declared() {
			in.nodes = append(in.nodes, c.Body)
			in.params = append(in.params, c.Data()...)
		}
	}
	return in
}

func lineOf(st script.Statement) (line int) {
	script.Inspect(st, func(n script.Node) bool {
		if v, ok := n.(*script.Variable); ok && line == 0 {
			line = v.Pos.Line
		}
		return line == 0
	})
	return line
}

// names are all places at which a name stands in a scope.
func (s scope) names() []name {
	var out []name
	for _, g := range s.given {
		out = append(out, name{g.Name, Place{g.Pos, len([]rune(g.Name))}, true})
	}
	for _, p := range s.params {
		out = append(out, name{p.Name, Place{p.Pos, len([]rune(p.Name))}, true})
	}
	for _, n := range s.nodes {
		script.Inspect(n, func(n script.Node) bool {
			switch n := n.(type) {
			case *script.Let:
				out = append(out, name{n.Name, Place{n.At, len([]rune(n.Name))}, true})
			case *script.TakeAccount:
				out = append(out, name{n.Name, Place{n.At, len([]rune(n.Name))}, true})
			case *script.Variable:
				base, _, _ := strings.Cut(n.Name, ".")
				at := n.Pos
				at.Column++
				out = append(out, name{base, Place{at, len([]rune(base))}, false})
			case *script.Template:
				for _, p := range n.Parts {
					if p.Variable != "" {
						base, _, _ := strings.Cut(p.Variable, ".")
						at := p.Pos
						at.Column++
						out = append(out, name{base, Place{at, len([]rune(base))}, false})
					}
				}
			}
			return true
		})
	}
	return out
}

func (s scope) declared() []name {
	return slices.DeleteFunc(s.names(), func(n name) bool { return !n.declares })
}

// variableAt is the name that stands at a place.
func (d Document) variableAt(line, column int) (name, bool) {
	for _, n := range d.scope(line).names() {
		at := d.marked(n.place)
		if at.Line == line && column >= at.Column && column <= at.Column+at.Length+1 {
			return n, true
		}
	}
	return name{}, false
}

// marked moves a place behind the $ that it may begin with.
func (d Document) marked(p Place) Place {
	if p.Line >= 1 && p.Line <= len(d.Lines) {
		if r := []rune(d.Lines[p.Line-1]); p.Column >= 1 && p.Column <= len(r) && r[p.Column-1] == '$' {
			p.Column++
		}
	}
	return p
}

// Renames gives what changes when what stands at a place is called otherwise: a value within its
// action or case, an action in its file and wherever this script calls it. It tells why it cannot.
func (d Document) Renames(line, column int, to string) ([]Change, error) {
	to = strings.TrimSpace(to)
	if v, ok := d.variableAt(line, column); ok {
		to = strings.ToLower(strings.TrimPrefix(to, "$"))
		if !token.IsName(to) || strings.Contains(to, ".") {
			return nil, fmt.Errorf("a value is called by letters, digits and _, not %q", to)
		}
		all := d.scope(line).names()
		// every case has it
		if slices.ContainsFunc(d.Suite.Given, func(g script.Given) bool { return g.Name == v.name }) {
			all = d.scope(0).names()
		}
		if slices.ContainsFunc(all, func(n name) bool { return n.declares && n.name == to }) {
			return nil, fmt.Errorf("there is a value called %s here already", to)
		}
		var out []Change
		for _, n := range all {
			if n.name == v.name {
				out = append(out, Change{d.marked(n.place), to})
			}
		}
		return out, nil
	}
	a := d.actionAt(line, column)
	if a == nil {
		return nil, fmt.Errorf("there is nothing here that can be renamed: values and actions can")
	}
	return d.renameAction(a, to)
}

func (d Document) actionAt(line, column int) *script.Action {
	if c := d.callAt(line, column); c != nil {
		return c.Does()
	}
	for _, a := range d.Suite.Actions {
		if a.Pos.File != "" || a.Pos.Line != line {
			continue
		}
		for i, at := range a.Spots {
			if a.Words[i] != "" && column >= at.Column && column <= at.Column+len([]rune(a.Words[i])) {
				return a
			}
		}
	}
	return nil
}

// renameAction takes the new name with $ where values stand, as many as there were.
func (d Document) renameAction(a *script.Action, to string) ([]Change, error) {
	words := strings.Fields(strings.ToLower(to))
	values := 0
	for _, w := range words {
		if strings.HasPrefix(w, "$") {
			values++
		} else if !token.IsName(w) {
			return nil, fmt.Errorf("an action's name is made of words, not of %q", w)
		}
	}
	if values != len(a.Params) {
		return nil, fmt.Errorf("this action takes %d values: write its new name with them, as in %s", len(a.Params),
			a.Usage())
	}
	if len(words) == 0 || strings.HasPrefix(words[0], "$") {
		return nil, fmt.Errorf("an action's name begins with a word")
	}
	shape := func(words []string) string { // values may be called otherwise: it is the same name
		out := slices.Clone(words)
		for i, w := range out {
			if strings.HasPrefix(w, "$") {
				out[i] = ""
			}
		}
		return strings.Join(out, " ")
	}
	for _, other := range d.Suite.Actions {
		if other != a && shape(other.Words) == shape(words) {
			return nil, fmt.Errorf("there is an action called %s already", other.Usage())
		}
	}
	with := func(value func(i int) string) string {
		out, n := slices.Clone(words), 0
		for i, w := range out {
			if strings.HasPrefix(w, "$") {
				out[i] = value(n)
				n++
			}
		}
		return strings.Join(out, " ")
	}
	last := a.Spots[len(a.Spots)-1]
	length := len([]rune(a.Words[len(a.Words)-1]))
	if length == 0 {
		length = 1 + len([]rune(a.Params[len(a.Params)-1].Name))
	}
	out := []Change{{Place{a.Spots[0], last.Column + length - a.Spots[0].Column},
		with(func(i int) string { return "$" + a.Params[i].Name })}}
	script.Inspect(d.Suite, func(n script.Node) bool {
		c, ok := n.(*script.Call)
		if !ok || c.Does() != a {
			return true
		}
		lines := d.Suite.Source(c.Pos.File)
		var written []string
		for i, at := range c.Spots {
			if c.Words[i] == "" {
				r := []rune(lines[at.Line-1])
				written = append(written, string(r[min(at.Column-1, len(r)):min(at.Column-1+c.Lengths[i], len(r))]))
			}
		}
		end := len(c.Spots) - 1
		out = append(out, Change{Place{c.Spots[0], c.Spots[end].Column + c.Lengths[end] - c.Spots[0].Column},
			with(func(i int) string { return written[i] })})
		return true
	})
	return out, nil
}
