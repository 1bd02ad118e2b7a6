package blob

import (
	"context"
	"errors"
	"fmt"
	"math"
)

// Moved is how far moving blobs from one store to another has come.
type Moved struct {
	Blobs   int   `json:"blobs"`
	Sent    int   `json:"sent"`
	Removed int   `json:"removed"`
	Bytes   int64 `json:"bytes"`
}

// Move copies all blobs of one store to another, each checked by its digest; what is there already is
// passed over, so that moving goes on where it was interrupted. With remove each is taken away from the
// first once the second has it whole.
func Move(ctx context.Context, from, to Store, remove bool, told func(Moved)) (Moved, error) {
	var m Moved
	err := from.Each(ctx, func(b Info) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		m.Blobs++
		sent, err := carry(ctx, from, to, b)
		if err != nil {
			return fmt.Errorf("moving %s: %w", b.Digest[:12], err)
		}
		if sent {
			m.Sent, m.Bytes = m.Sent+1, m.Bytes+b.Size
		}
		if remove {
			if err := from.Remove(ctx, b.Digest); err != nil {
				return err
			}
			m.Removed++
		}
		told(m)
		return nil
	})
	return m, err
}

func carry(ctx context.Context, from, to Store, b Info) (sent bool, err error) {
	if there, err := to.Open(ctx, b.Digest); err == nil {
		same := there.Size() == b.Size
		if err := there.Close(); err != nil || same {
			return false, err
		}
	} else if !errors.Is(err, ErrNone) {
		return false, err
	}
	f, err := from.Open(ctx, b.Digest)
	if err != nil {
		return false, err
	}
	defer f.Close()
	_, err = to.Put(ctx, f, b.Digest, math.MaxInt64-1, func(Info) error { return nil })
	return err == nil, err
}
