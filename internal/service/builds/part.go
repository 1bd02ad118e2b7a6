// Package builds keeps what is handed in: packages and builds, suites, lineups.
package builds

import (
	"yamato/internal/service/base"
)

// Part is these use cases.
type Part struct {
	*base.Base
}

// New gives them.
func New(b *base.Base) *Part { return &Part{b} }
