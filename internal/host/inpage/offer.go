package inpage

import (
	"encoding/json"

	"yamato/internal/core/plain"
)

// Offer is a list of options that control.js keeps from being brought up, and tells instead.
type Offer struct {
	Name    string   `json:"name"`
	Options []Option `json:"options"`
}

// Option is one of them.
type Option struct {
	Text, Group    string
	Disabled, Here bool
}

// UnmarshalJSON reads an option as control.js tells it.
func (o *Option) UnmarshalJSON(b []byte) error {
	err := json.Unmarshal(b, &[]any{&o.Text, &o.Group, &o.Disabled, &o.Here})
	o.Text, o.Group = plain.Text(o.Text, 2000), plain.Text(o.Group, 2000)
	return err
}
