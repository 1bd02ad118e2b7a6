// Package runs starts runs, cancels them, and tells what they found.
package runs

import (
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
)

// Part is these use cases.
type Part struct {
	*base.Base
	builds   *builds.Part
	choosing chan struct{} // one place for each plan whose combinations are being chosen
}

// New gives them.
func New(b *base.Base, kept *builds.Part) *Part {
	return &Part{b, kept, make(chan struct{}, mostChoosing)}
}
