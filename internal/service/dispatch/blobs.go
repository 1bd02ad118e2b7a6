package dispatch

import (
	"context"
	"errors"
	"io"

	"yamato/internal/blob"
	"yamato/internal/service/base"
)

// MaxEvidence bounds one piece of evidence, in bytes.
const MaxEvidence = 512 << 20

// PutBlob keeps what a host uploads, under the digest it must have.
func (s *Part) PutBlob(ctx context.Context, digest string, r io.Reader) error {
	_, err := s.Put(ctx, r, digest, MaxEvidence)
	switch {
	case errors.Is(err, blob.ErrDamaged), errors.Is(err, blob.ErrDigest):
		return base.Refuse(base.Damaged, err.Error(), "send it again")
	case errors.Is(err, blob.ErrTooLarge):
		return base.Refuse(base.TooLarge, err.Error(), "")
	}
	return err
}

// OpenBlob opens what one of the host's live leases refers to.
func (s *Part) OpenBlob(ctx context.Context, c base.Caller, digest string) (blob.File, error) {
	ok, err := s.Store.MayRead(ctx, c.ProjectID, c.Host, digest)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, base.NotFound("no live lease of this host refers to this", "")
	}
	return s.Blobs.Open(ctx, digest)
}
