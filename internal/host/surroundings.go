package host

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
	"yamato/internal/host/driver"
)

// surroundings are what levels make a device feel from the start of a lease.
func surroundings(levels fleet.Levels, realTime bool) driver.Surroundings {
	return driver.Surroundings{Language: levels.Of(fleet.Language), RealTime: realTime}
}

// level makes a device have a level of a factor, and reads back whether it has it. A factor that
// is new is applied here.
type level struct {
	do  func(ctx context.Context, d device.Device, app, value string) error
	has func(f device.Feels, value string) (is string, ok bool)
}

// same compares a text that is read back.
func same(read func(f device.Feels) string) func(device.Feels, string) (string, bool) {
	return func(f device.Feels, value string) (string, bool) {
		is := read(f)
		return is, is == "" || strings.EqualFold(is, value)
	}
}

// with does something by an ability of the device.
func with[T any](do func(ctx context.Context, ability T, app, value string) error) func(context.Context, device.Device,
	string, string) error {
	return func(ctx context.Context, d device.Device, app, value string) error {
		ability, ok := device.As[T](d)
		if !ok {
			return device.ErrNoAbility
		}
		return do(ctx, ability, app, value)
	}
}

var levels = map[string]level{
	fleet.Language: { // a device speaks it from the start of the lease
		do:  func(context.Context, device.Device, string, string) error { return nil },
		has: same(func(f device.Feels) string { return f.Language })},
	fleet.Rotation: {
		do:  with(func(ctx context.Context, d device.Rotating, _, v string) error { return d.Rotate(ctx, v) }),
		has: same(func(f device.Feels) string { return f.Rotation })},
	fleet.Appearance: {
		do: with(func(ctx context.Context, d device.Dressing, _, v string) error {
			return d.SetAppearance(ctx, v == "dark")
		}),
		has: same(func(f device.Feels) string { return f.Appearance })},
	fleet.TextSize: {
		do: with(func(ctx context.Context, d device.Enlarging, _, v string) error {
			percent, _ := fleet.Percent(v)
			return d.SetTextSize(ctx, percent)
		}),
		has: func(f device.Feels, v string) (string, bool) {
			percent, _ := fleet.Percent(v)
			return fmt.Sprintf("%d%%", f.TextSize), f.TextSize == 0 || f.TextSize == percent
		}},
	fleet.NetworkOf: {
		do: with(func(ctx context.Context, d device.Networked, _, v string) error {
			return d.SetNetwork(ctx, map[string]device.Network{"none": {None: true}, "slow": device.Slow}[v])
		}),
		has: same(func(f device.Feels) string { return f.Network })},
	fleet.PlaceOf: {
		do: with(func(ctx context.Context, d device.Placed, _, v string) error {
			at, _ := fleet.PlaceIn(v)
			return d.SetPlace(ctx, at)
		}),
		has: func(f device.Feels, v string) (string, bool) {
			at, _ := fleet.PlaceIn(v)
			if at == nil || f.Place == nil {
				return fleet.Nowhere, at == nil && f.Place == nil
			}
			return fmt.Sprintf("%g, %g", f.Place.Latitude, f.Place.Longitude),
				f.Place.Latitude == at.Latitude && f.Place.Longitude == at.Longitude
		}},
}

// levelOf gives how a factor is applied; permissions are many of one kind.
func levelOf(factor string) (level, bool) {
	if permission, ok := strings.CutPrefix(factor, fleet.Permission); ok {
		return level{
			do: with(func(ctx context.Context, d device.Permitting, app, v string) error {
				return d.SetPermission(ctx, app, permission, v)
			}),
			has: func(f device.Feels, v string) (string, bool) {
				is := f.Answers[permission]
				return is, is == v || is == "" && v == device.Ask
			}}, true
	}
	l, ok := levels[factor]
	return l, ok
}

// feel gives what the levels of an attempt make its device feel, to be done before its cases and
// again after whatever a case undoes; and a check, once the app is open, that it took.
func (l *attempt) feel(w *worker) (felt []script.Felt, opened func(context.Context) error, given map[string]string) {
	app := l.Package.ApplicationID
	given = map[string]string{}
	for _, one := range l.Combination.Levels {
		how, known := levelOf(one.Factor)
		if !known {
			if fleet.FactorNamed(one.Factor).Free {
				given[one.Factor] = one.Value
			}
			continue
		}
		if one.Factor != fleet.Language {
			felt = append(felt, script.Felt{Kind: one.Factor, Do: func(ctx context.Context) error {
				if err := how.do(ctx, w.device, app, one.Value); err != nil {
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
		how, known := levelOf(one.Factor)
		if !known {
			continue
		}
		if is, ok := how.has(f, one.Value); !ok {
			return fmt.Errorf("%w: %s was to be %s, and is %s; an app may keep to one of its own", errNotTaken, one.Factor,
				one.Value, is)
		}
	}
	return nil
}
