package store

import (
	"context"
	"time"

	"yamato/internal/store/pg"
)

// Sighting is a person's wish to see what is on a device's screen.
type Sighting struct {
	ID      int64      `db:"id"`
	Device  string     `db:"device"`
	DoneAt  *time.Time `db:"done_at"`
	Trouble string     `db:"trouble"`
	Picture string     `db:"picture"` // digest
	Tree    string     `db:"tree"`    // digest
}

// AskSighting keeps the wish, and forgets those of an hour ago.
func (s *Store) AskSighting(ctx context.Context, d Device, by string) (int64, error) {
	var id int64
	err := s.InTx(ctx, func(t *Tx) error {
		if err := t.exec(ctx, `delete from sighting where asked_at < now() - interval '1 hour'`); err != nil {
			return err
		}
		return t.tx.GetContext(ctx, &id, `
			insert into sighting (project_id, device_id, host_id, asked_by) values ($1, $2, $3, $4)
				returning id`, d.ProjectID, d.ID, d.HostID, by)
	})
	return id, err
}

// SightingNumbered gives one.
func (s *Store) SightingNumbered(ctx context.Context, id int64) (Sighting, error) {
	var out Sighting
	err := s.db.GetContext(ctx, &out, `
		select s.id, d.name as device, s.done_at, s.trouble, s.picture, s.tree from sighting s
			join device d on d.id = s.device_id where s.id = $1`, id)
	return out, pg.Found(err)
}

// WantedSightings gives what a host has not shown yet.
func (s *Store) WantedSightings(ctx context.Context, host int64) ([]Sighting, error) {
	var list []Sighting
	err := s.db.SelectContext(ctx, &list, `
		select s.id, d.name as device from sighting s join device d on d.id = s.device_id
		where s.host_id = $1 and s.done_at is null and s.asked_at > now() - interval '1 minute' order by s.id`, host)
	return list, err
}

// KeepSighting keeps what a host shows; only the host that was asked may.
func (s *Store) KeepSighting(ctx context.Context, host int64, in Sighting) error {
	_, err := s.db.ExecContext(ctx, `
		update sighting set done_at = now(), trouble = $3, picture = $4, tree = $5 where id = $1 and host_id = $2
			and done_at is null`,
		in.ID, host, in.Trouble, in.Picture, in.Tree)
	return err
}
