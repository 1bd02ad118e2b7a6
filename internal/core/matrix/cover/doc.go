// Package cover chooses few rows that still try every pair (or triple) of levels: covering
// arrays with rules. It knows numbers alone: a factor is a position, a level a number from 0.
//
// It promises that every row keeps the rules, that every tuple of levels that the rules allow
// stands in a row unless a budget forbids it, and that the same space, wish and seed give the
// same rows on any machine: it reads no clock, and computes with whole numbers.
//
// Rows come from three sources: constructions over finite fields where there are no rules
// (construct.go), one row after the other by what each adds (greedy.go), and a search that
// takes rows away (trim.go). Whether rules leave anything is decided in solve.go.
package cover
