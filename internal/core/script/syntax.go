package script

import (
	"time"

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

// Node is a part of what was read: a suite, a case, a block, a statement, an element, a
// value. It is never changed once it has been read.
type Node interface {
	// parts are what it is made of, in the order in which that is written.
	parts() []Node
}

// Inspect walks n and all that it is made of, from the outside in. It leaves out what is
// in a node for which visit gives false.
func Inspect(n Node, visit func(Node) bool) {
	if !visit(n) {
		return
	}
	for _, p := range n.parts() {
		Inspect(p, visit)
	}
}

// Suite is one script file.
type Suite struct {
	Name     string
	Tags     []string
	Patience time.Duration // 0 where the file states none
	KeepApp  bool          // cases go on in the app that the case before left
	Before   *Block        // steps before each case
	Cases    []*Case
}

// Case is one test.
type Case struct {
	Pos  Pos
	Name string
	Tags []string
	Body *Block
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
	// words is the one way to write it, without `within` and without its body.
	words() string
}

// What a statement may say of itself besides.
type (
	// needing is one that needs abilities beyond the required core.
	needing interface{ needs() []string }
	// expecting is one that a case can fail by, other than by what it cannot do.
	expecting interface{ expects() }
	// absent is one that may be content with an element that is not there.
	absent interface{ absence() bool }
	// patient is one that is content with less than a settled screen.
	patient interface{ content(j judged) bool }
	// naming is one that gives a value a name.
	naming interface{ names() string }
	// bodied is one that has statements in it, up to `end`.
	bodied interface{ body() *Block }
)

// Step is what all statements have.
type Step struct {
	Pos    Pos
	Text   string        // as written, white space folded
	Within time.Duration // 0 where the patience in force holds
}

func (s *Step) base() *Step { return s }

func (s *Suite) parts() []Node {
	out := make([]Node, 0, 1+len(s.Cases))
	if s.Before != nil {
		out = append(out, s.Before)
	}
	for _, c := range s.Cases {
		out = append(out, c)
	}
	return out
}

func (c *Case) parts() []Node { return []Node{c.Body} }

func (b *Block) parts() []Node {
	out := make([]Node, len(b.Steps))
	for i, st := range b.Steps {
		out[i] = st
	}
	return out
}

// bodies are the blocks that a case consists of.
func (s *Suite) bodies(c *Case) []*Block {
	if s.Before == nil {
		return []*Block{c.Body}
	}
	return []*Block{s.Before, c.Body}
}

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

// Needs gives the abilities that a case needs beyond the required core, with
// what its suite does before each.
func (s *Suite) Needs(c *Case) []string {
	var needs []string
	for _, b := range s.bodies(c) {
		Inspect(b, func(n Node) bool {
			if st, ok := n.(needing); ok {
				needs = append(needs, st.needs()...)
			}
			return true
		})
	}
	return needs
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
