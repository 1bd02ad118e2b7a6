package handset

import (
	"context"
	"fmt"
)

// Remove takes an app off the handset, with all that it keeps.
func (d *Device) Remove(ctx context.Context, app string) error {
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	if err := d.Stop(ctx, app); err != nil {
		return err
	}
	if err := d.evict(ctx, i); err != nil {
		return lost(err)
	}
	i.reached(d.proxy, false)
	delete(d.apps, app)
	if i.bundle != nil {
		return i.bundle.Close()
	}
	return nil
}
