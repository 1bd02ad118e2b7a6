package host

import (
	"context"
	"errors"
	"fmt"

	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
)

// feel gives what the levels of an attempt make its device feel, to be done before its cases and
// again after whatever a case undoes; a check, once the app is open, that it took; and what scripts are given.
func (l *attempt) feel(w *worker) (felt []script.Felt, opened func(context.Context) error, given map[string]string) {
	app := l.Package.ApplicationID
	given = map[string]string{}
	for _, one := range l.Combination.Levels {
		f := fleet.FactorNamed(one.Factor)
		s := feel.Named(one.Factor)
		switch {
		case f.Free:
			given[one.Factor] = one.Value
		case f.Of != nil || s == nil: // what the device is
		default:
			felt = append(felt, script.Felt{Kind: s.Name, Do: func(ctx context.Context) error {
				if err := s.Begin(ctx, w.device, app, one.Value); err != nil {
					return fmt.Errorf("the device could not be made to have %s %s: %w", one.Factor, one.Value, err)
				}
				return nil
			}})
		}
	}
	return felt, func(ctx context.Context) error { return took(ctx, w.device, app, l.Combination.Levels) }, given
}

// errNotTaken tells that a device does not have a level that it was given.
var errNotTaken = errors.New("a level did not take")

// took reads back whether a device has the levels that it was given; what cannot tell is believed.
func took(ctx context.Context, d device.Device, app string, all fleet.Levels) error {
	aware, ok := device.As[device.Aware](d)
	if !ok {
		return nil
	}
	f, err := aware.Feels(ctx, app)
	if err != nil {
		return err
	}
	for _, one := range all {
		s := feel.Named(one.Factor)
		if s == nil {
			continue
		}
		if is, ok := s.Has(f, one.Value); !ok {
			return fmt.Errorf("%w: %s was to be %s, and is %s; an app may keep to one of its own", errNotTaken,
				one.Factor,
				one.Value, is)
		}
	}
	return nil
}
