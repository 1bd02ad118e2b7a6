// Package remedy holds what can be done about a problem as values: a command for a person who types, and the call
// that does the same for a program. Whoever tells a problem says for whom it is told; nothing rewrites a command line.
package remedy

import (
	"fmt"
	"strings"
)

// Doing is one thing that can be done. A doing without a call is done where the devices are, and by no program.
type Doing struct {
	Command string // "yamato device check kaede-7-1"
	Call    string // "POST …/errands with what: check, device: kaede-7-1"
}

// By gives the doing for a person (a command) or for a program (a call).
func (d Doing) By(r Reader) string {
	if r == Program && d.Call != "" {
		return d.Call
	}
	return d.Command
}

// Reader is whom a remedy is told to.
type Reader bool

// The readers.
const (
	Person  Reader = false
	Program Reader = true
)

// Remedy is what its reader can do next. The zero value says nothing.
type Remedy struct {
	format string
	args   []any
}

// Say makes a remedy as fmt.Sprintf makes a text; each Doing in it stands as its reader needs it.
func Say(format string, args ...any) Remedy { return Remedy{format, args} }

// Plain makes a remedy of words that name nothing to do by command.
func Plain(words string) Remedy {
	if words == "" {
		return Remedy{}
	}
	return Say("%s", words)
}

// For gives the words for a reader: doings in `backticks`.
func (r Remedy) For(reader Reader) string {
	args := make([]any, len(r.args))
	for i, a := range r.args {
		switch a := a.(type) {
		case Doing:
			args[i] = "`" + a.By(reader) + "`"
		case Option:
			args[i] = a.by(reader)
		case Remedy:
			args[i] = a.For(reader)
		default:
			args[i] = a
		}
	}
	return fmt.Sprintf(r.format, args...)
}

// String gives the words for a person.
func (r Remedy) String() string { return r.For(Person) }

// IsZero reports whether it says nothing.
func (r Remedy) IsZero() bool { return r.format == "" }

// Option is an option of a command ("repeat-failed"), which is a field of the call that does the same.
type Option string

func (o Option) by(r Reader) string {
	if r == Program {
		return strings.ReplaceAll(string(o), "-", "_")
	}
	return "--" + string(o)
}

// MarshalText gives the words for a person: a remedy that is kept has no other reader.
func (r Remedy) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText takes words that name nothing to do.
func (r *Remedy) UnmarshalText(text []byte) error {
	*r = Plain(string(text))
	return nil
}
