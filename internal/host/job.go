package host

import (
	"context"
	"errors"

	"yamato/internal/link"
)

// job is what a lease is for. The worker that holds the lease runs it, cleans the device,
// and says that it ended; a job knows nothing of that.
type job interface {
	// run does it, until it is done or ctx ends. Its error is trouble: of the device's own
	// where it is a *Trouble.
	run(ctx context.Context, w *worker) error
}

// jobOf gives the job of a lease.
func jobOf(l link.Lease) (job, error) {
	switch {
	case l.LastSeq > 0: // an earlier host had begun it, and lost its journal since
		return lost{}, nil
	case l.Attempt != nil:
		return &attempt{*l.Attempt, l}, nil
	case l.Session != nil:
		return &session{Session: *l.Session, lease: l}, nil
	}
	return nil, errors.New("this host does not know what the lease is for; a newer one may")
}

// lost is a job of which an earlier host may have done anything: all that is left is to
// clean the device of it.
type lost struct{}

func (lost) run(context.Context, *worker) error { return errRestart }
