// Package inpage holds the scripts that handsets run in the pages of apps: Look beside the page's own
// scripts, in a world of its own, Ask among them, before any of theirs.
package inpage

import _ "embed"

// Look reads what is on the screen.
//
//go:embed look.js
var Look string

// Ask tells what a page is about to ask a person for.
//
//go:embed ask.js
var Ask string
