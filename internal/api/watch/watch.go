// Package watch tells browsers what happens.
package watch

import (
	"yamato/internal/service/base"
)

// Part is this use case.
type Part struct {
	*base.Base
	views *views
}

// New gives it.
func New(b *base.Base) *Part { return &Part{b, &views{of: map[int64]*view{}}} }
