// Package script is the language that cases are written in: its tokens, its
// syntax, the checks made before anything runs, and the runner that carries a
// case out on a Device and judges what is seen.
//
// Read turns text into a Suite and a list of Findings; it never stops at the
// first fault. RunCase runs one case; it reads no clock but the device's and
// never sleeps. docs/script.md is the reference for people.
package script
