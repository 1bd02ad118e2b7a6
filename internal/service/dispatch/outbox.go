package dispatch

import (
	"context"
	"encoding/json"
	"errors"

	"yamato/internal/link"
	"yamato/internal/mailbox"
)

// maxQueued bounds what waits to be sent to one host, in bytes.
const maxQueued = 64 << 20

var errSlow = errors.New("the host does not take what it is sent; it may link again")

// outbox sends messages to one host, in order. Whoever has something to say to many hosts waits for none of them.
type outbox struct{ box *mailbox.Box }

func newOutbox() outbox { return outbox{mailbox.New(mailbox.Refuse, maxQueued)} }

// put queues a message. It gives errSlow where too much waits already.
func (o outbox) put(m link.ToHost) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if o.box.Put(body) != nil {
		return errSlow
	}
	return nil
}

// run sends what is queued until ctx ends or the connection fails.
func (o outbox) run(ctx context.Context, conn link.Conn) error {
	for {
		queue, err := o.box.Take()
		if err != nil {
			return err
		}
		for _, body := range queue {
			if err := conn.Send(ctx, body); err != nil {
				return err
			}
			o.box.Sent(body)
		}
		select {
		case <-o.box.Rings():
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
