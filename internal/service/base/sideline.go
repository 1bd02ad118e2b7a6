package base

import (
	"context"

	"yamato/internal/core/states"
	"yamato/internal/store"
)

// SidelineDevice takes a device out of use, at once if nothing has it; else when that is
// done.
func SidelineDevice(ctx context.Context, t store.Devices, id int64, side store.Sideline) error {
	d, err := t.LockDevice(ctx, id)
	if err != nil {
		return err
	}
	state, reason := d.State, d.Reason
	switch d.State {
	case states.DeviceLeased, states.DeviceResetting, states.DeviceOffline: // when that is over
	default:
		state, reason = states.DeviceSidelined, side.Reason
	}
	if state != d.State {
		if err := states.Devices.Check(d.State, state); err != nil {
			return err
		}
	}
	return t.ChangeSideline(ctx, id, &side, state, reason)
}

// RestoreDevice brings a device back into use.
func RestoreDevice(ctx context.Context, t store.Devices, id int64) error {
	d, err := t.LockDevice(ctx, id)
	if err != nil {
		return err
	}
	state, reason := d.State, d.Reason
	if state == states.DeviceSidelined {
		state, reason = d.ReadyState, d.ReadyReason
		if !d.Linked {
			state, reason = states.DeviceOffline, store.NotConnected
		}
		if err := states.Devices.Check(d.State, state); err != nil {
			return err
		}
	}
	return t.ChangeSideline(ctx, id, nil, state, reason)
}
