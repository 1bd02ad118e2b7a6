// Package views puts together what pages and commands show, in the words of the HTTP
// interface. It decides nothing and changes nothing.
package views

import (
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/care"
)

// Part is these use cases.
type Part struct {
	*base.Base
	builds *builds.Part
	care   *care.Part
}

// New gives them.
func New(b *base.Base, kept *builds.Part, fleet *care.Part) *Part { return &Part{b, kept, fleet} }
