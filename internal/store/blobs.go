package store

import (
	"context"
	"strings"
	"time"
)

// references are all places in the records that refer to a blob, each as a query that
// finds the digest d. What refers to a blob stands here, or the blob is taken away.
var references = []string{
	`select 1 from evidence where digest = d and gone = ''`,
	`select 1 from package where digest = d`,
	`select 1 from suite_revision where digest = d`,
	`select 1 from session_entry where digest = d and digest <> ''`,
	`select 1 from finding where picture = d and picture <> ''`,
	`select 1 from session where closed_at is null and d = any(reads)`,
	`select 1 from sighting where d in (picture, tree)`,
	`select 1 from device where sideline is not null and d in (sideline->'broken'->>'picture', sideline->'broken'->>'log')`,
}

// NoteBlob records that somebody has a use for a blob now. It waits where that blob is
// being taken away at this moment, and the blob is gone then.
func (s *Store) NoteBlob(ctx context.Context, digest string, size int64) error {
	_, err := s.db.ExecContext(ctx, `
		insert into blob (digest, size) values ($1, $2) on conflict (digest) do update set referred_at = now(),
			size = excluded.size`, digest, size)
	return err
}

// AdoptBlobs records blobs that no record knows, as older versions left them.
func (s *Store) AdoptBlobs(ctx context.Context, digests []string, sizes []int64) error {
	_, err := s.db.ExecContext(ctx, `
		insert into blob (digest, size) select * from unnest($1::text[], $2::bigint[]) order by 1
			on conflict do nothing`, digests, sizes)
	return err
}

// TakeUnreferred forgets blobs that nothing refers to and that nobody has had a use for
// since grace ago, at most limit of them, and gives their digests. Until the transaction
// ends nobody can note one of them.
func (t Blobs) TakeUnreferred(ctx context.Context, grace time.Duration, limit int) ([]string, error) {
	var out []string
	err := t.rows(ctx, atBlobs, &out, `
		delete from blob where digest in (
			select digest from blob cross join lateral (select digest as d) x
			where referred_at < now() - $1 * interval '1 ms' and not exists (`+strings.Join(references,
		`) and not exists (`)+`)
			order by digest limit $2 for update of blob skip locked)
		returning digest`, grace.Milliseconds(), limit)
	return out, err
}

// BlobSizes gives the sizes of those of some blobs that are known.
func (t *open) BlobSizes(ctx context.Context, digests []string) (map[string]int64, error) {
	if len(digests) == 0 {
		return nil, nil
	}
	var rows []struct {
		Digest string `db:"digest"`
		Size   int64  `db:"size"`
	}
	if err := t.tx.SelectContext(ctx, &rows, `select digest, size from blob where digest = any($1)`,
		digests); err != nil {
		return nil, err
	}
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.Digest] = r.Size
	}
	return out, nil
}
