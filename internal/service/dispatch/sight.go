package dispatch

import (
	"context"

	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// askHost passes on what people wish to see and the host has not been told on this link.
func (n *session) askHost(ctx context.Context) error {
	list, err := n.service.Store.WantedSightings(ctx, n.host)
	if err != nil {
		return err
	}
	var m link.ToHost
	open := map[int64]bool{}
	for _, w := range list {
		if open[w.ID] = true; !n.wished[w.ID] {
			m.See = append(m.See, link.See{ID: w.ID, Device: w.Device})
		}
	}
	n.wished = open
	if len(m.See) > 0 {
		n.send(m)
	}
	return nil
}

// keepSeen keeps what the host shows.
func (n *session) keepSeen(ctx context.Context, seen link.Seen) {
	err := n.service.Store.KeepSighting(ctx, n.host, store.Sighting{ID: seen.ID, Trouble: base.Short(seen.Trouble, 500),
		Picture: seen.Picture, Tree: seen.Tree})
	if err != nil {
		n.service.Log.Warn("what a host shows could not be kept", "error", err)
		return
	}
	n.service.Bell.Ring()
}
