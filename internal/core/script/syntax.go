package script

import (
	"slices"
	"time"

	"yamato/internal/core/evidence"
	"yamato/internal/core/script/amount"
	"yamato/internal/core/script/token"
)

// What the words for places and findings are made of.
type (
	// Pos is a place in a script.
	Pos = token.Pos
	// Finding is something that the check has to say about a place.
	Finding = token.Finding
)

// Faults counts the findings that keep a suite from running.
func Faults(findings []Finding) int { return token.Faults(findings) }

// Node is a part of what was read: a suite, a case, an action, a block, a statement, a
// condition, an element, a value. It is never changed once it has been read.
type Node interface {
	// parts are what it is made of, in the order in which that is written.
	parts() []Node
}

// Inspect walks n and all that it is made of, from the outside in. It leaves out what is
// in a node for which visit gives false. An action is a part of the suite whose file holds
// it, and not of the steps that call it.
func Inspect(n Node, visit func(Node) bool) {
	if !visit(n) {
		return
	}
	for _, p := range n.parts() {
		Inspect(p, visit)
	}
}

// Suite is one script file, with the actions of the files that it uses.
type Suite struct {
	Name     string
	Tags     []string
	Patience time.Duration  // 0 where the file states none
	KeepApp  bool           // cases go on in the app that the case before left
	Keep     evidence.Rules // what is kept of its cases, by sort; nil where the file says nothing
	Given    []Given
	Uses     []*Use
	Actions  []*Action // of all files, those of this file first
	Around   Around
	Cases    []*Case // each row of data is one

	declared []*Case             // as written
	sources  map[string][]string // lines of the files, "" for the suite's own
}

// Given is a variable whose value a run may give: a free factor of a plan. Usual is what it is
// where a run says nothing of it.
type Given struct {
	Pos   Pos
	Name  string
	Usual amount.Value
}

// given are the values of those variables, as a run gives them; a level that reads as a number is
// one where the usual value is.
func (s *Suite) given(by map[string]string) map[string]amount.Value {
	out := map[string]amount.Value{}
	for _, g := range s.Given {
		out[g.Name] = g.Usual
		level, ok := by[g.Name]
		if !ok {
			continue
		}
		out[g.Name] = amount.Value{Text: level}
		if g.Usual.IsNumber() {
			if n, ok := amount.Parse(level); ok {
				out[g.Name] = amount.Value{Number: n}
			}
		}
	}
	return out
}

// Around are the steps before and after cases; nil where there are none.
type Around struct{ BeforeAll, BeforeEach, AfterEach, AfterAll *Block }

// blocks are those that there are, in the order in which they run.
func (a Around) blocks() []*Block {
	return slices.DeleteFunc([]*Block{a.BeforeAll, a.BeforeEach, a.AfterEach, a.AfterAll},
		func(b *Block) bool { return b == nil })
}

// Use names a file with actions.
type Use struct {
	Pos    Pos
	Length int
	Path   string // as written
	File   string // from the suite's folder on
}

// Action is steps with a name, which may ask for values and give one back.
type Action struct {
	Pos    Pos
	Length int
	Words  []string // of its name; "" where a value stands
	Spots  []Pos    // of the words and values
	Params []Param
	Body   *Block
}

// Param is a value that an action asks for.
type Param struct {
	Pos  Pos
	Name string
}

// Case is one test: with rows of data, one row of it.
type Case struct {
	Pos    Pos
	Name   string
	Tags   []string
	Needs  []string // abilities and traits
	Values map[string]amount.Value
	Row    Pos // of its data, with no line where it has none
	Body   *Block
	End    int // line of its `end`

	data *data
}

// data are the rows that a case runs over.
type data struct {
	pos   Pos
	names []Param
	rows  []row
}

type row struct {
	pos    Pos
	values []amount.Value
	words  []string // as scripts write them
}

// Block is statements, one after the other, up to its `end`.
type Block struct{ Steps []Statement }

// Statement is one step. The kinds stand in the files step_*.go, one for each family:
// how each is read, what it is made of, how it runs and how it is written.
type Statement interface {
	Node
	base() *Step
	// run carries it out. It gives nil where all went well.
	run(r *runner) *stop
	// words is the one way to write it, without `for`, `within` and its body.
	words() string
}

// What a statement, or a condition in one, may say of itself besides.
type (
	// needing is one that needs abilities beyond the required core.
	needing interface{ needs() []string }
	// expecting is one that a case can fail by, other than by what it cannot do.
	expecting interface{ expects() }
	// absent is one that may be content with an element that is not there.
	absent interface{ absence() bool }
	// patient is one that is content with less than a settled screen.
	patient interface{ content(j judged) bool }
	// naming is one that gives values names.
	naming interface{ names() []string }
	// bodied is one that has statements in it, up to `end`.
	bodied interface{ bodies() []*Block }
	// vain is one that has something wrong with it that can be seen beforehand.
	vain interface{ advice() (message, hint string) }
)

// Step is what all statements have.
type Step struct {
	Pos    Pos
	Text   string        // as written, white space folded
	Within time.Duration // 0 where the patience in force holds
	For    time.Duration // how long it has to stay so, of an expectation
}

func (s *Step) base() *Step { return s }

func (s *Suite) parts() []Node {
	var out []Node
	for _, b := range s.Around.blocks() {
		out = append(out, b)
	}
	for _, a := range s.Actions {
		out = append(out, a)
	}
	for _, c := range s.declared {
		out = append(out, c)
	}
	return out
}

func (a *Action) parts() []Node { return []Node{a.Body} }
func (c *Case) parts() []Node   { return []Node{c.Body} }

func (b *Block) parts() []Node {
	out := make([]Node, len(b.Steps))
	for i, st := range b.Steps {
		out[i] = st
	}
	return out
}

// Declared are the cases as they are written, rows of data apart.
func (s *Suite) Declared() []*Case { return s.declared }

// Source gives the lines of one of the suite's files, "" for its own.
func (s *Suite) Source(file string) []string { return s.sources[file] }

// Data are the names that the rows of a case's data give values.
func (c *Case) Data() []Param {
	if c.data == nil {
		return nil
	}
	return c.data.names
}

// bodies are the blocks that a case consists of, without what comes before and after all.
func (s *Suite) bodies(c *Case) []*Block {
	if s.Around.BeforeEach == nil {
		return []*Block{c.Body}
	}
	return []*Block{s.Around.BeforeEach, c.Body}
}

// reach walks blocks and the actions that they call, each action once.
func (s *Suite) reach(blocks []*Block, visit func(Node) bool) {
	called := map[*Action]bool{}
	var walk func(n Node)
	walk = func(n Node) {
		Inspect(n, func(n Node) bool {
			if !visit(n) {
				return false
			}
			if c, ok := n.(*Call); ok && c.action != nil && !called[c.action] {
				called[c.action] = true
				walk(c.action.Body)
			}
			return true
		})
	}
	for _, b := range blocks {
		walk(b)
	}
}

// all are the blocks that have a part in a case.
func (s *Suite) all(c *Case) []*Block { return append(s.Around.blocks(), c.Body) }

// edge is the first or the last step of blocks, nil where they have none.
func edge(blocks []*Block, last bool) (out Statement) {
	for _, b := range blocks {
		Inspect(b, func(n Node) bool {
			if st, ok := n.(Statement); ok && (last || out == nil) {
				out = st
			}
			return last || out == nil
		})
	}
	return out
}

// Needs gives the abilities and traits that a case needs beyond the required core, with
// what its suite does before and after it, and the actions that it calls.
func (s *Suite) Needs(c *Case) []string {
	needs := slices.Clone(c.Needs)
	s.reach(s.all(c), func(n Node) bool {
		if st, ok := n.(needing); ok {
			needs = append(needs, st.needs()...)
		}
		return true
	})
	slices.Sort(needs)
	return slices.Compact(needs)
}

// Locators gives the canonical form of every locator in the suite, once each.
func (s *Suite) Locators() []string {
	all, seen := []string{}, map[string]bool{}
	Inspect(s, func(n Node) bool {
		if e, ok := n.(*Element); ok && !seen[e.Text] {
			seen[e.Text] = true
			all = append(all, e.Text)
		}
		return true
	})
	return all
}

// Asks tells what the suite wants of the project and of what lies beside it: names of secrets,
// of accounts, of builds to update to, and of files to give, once each, in order.
type Asks struct{ Secrets, Accounts, Builds, Files []string }

// Asks gives what a suite wants.
func (s *Suite) Asks() Asks {
	var out Asks
	note := func(list *[]string, name string) {
		if !slices.Contains(*list, name) {
			*list = append(*list, name)
		}
	}
	Inspect(s, func(n Node) bool {
		switch n := n.(type) {
		case *Secret:
			note(&out.Secrets, n.Name)
		case *TakeAccount:
			note(&out.Accounts, n.Account)
		case *UpdateApp:
			note(&out.Builds, n.Build)
		case *GiveFile:
			note(&out.Files, n.File)
		}
		return true
	})
	return out
}
