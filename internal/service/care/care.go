// Package care looks after the fleet: errands, devices that are out of use, sites, screens that
// people look at, and what waits for devices.
package care

import (
	"yamato/internal/service/base"
)

// Part is these use cases.
type Part struct {
	*base.Base
}

// New gives them.
func New(b *base.Base) *Part { return &Part{b} }
