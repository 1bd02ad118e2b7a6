package dispatch

import (
	"context"
	"encoding/json"
	"errors"
	"sync"

	"yamato/internal/link"
)

// maxQueued bounds what waits to be sent to one host, in bytes.
const maxQueued = 64 << 20

var errSlow = errors.New("the host does not take what it is sent; it may link again")

// outbox sends messages to one host, in order, from a queue bounded in bytes. Whoever
// has something to say to many hosts waits for none of them.
type outbox struct {
	mu    sync.Mutex
	queue []json.RawMessage
	bytes int
	ring  chan struct{}
}

func newOutbox() *outbox { return &outbox{ring: make(chan struct{}, 1)} }

// put queues a message. It gives errSlow where too much waits already.
func (o *outbox) put(m link.ToHost) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.bytes+len(body) > maxQueued && len(o.queue) > 0 {
		return errSlow
	}
	o.queue, o.bytes = append(o.queue, body), o.bytes+len(body)
	select {
	case o.ring <- struct{}{}:
	default:
	}
	return nil
}

// run sends what is queued until ctx ends or the connection fails.
func (o *outbox) run(ctx context.Context, conn link.Conn) error {
	for {
		o.mu.Lock()
		queue := o.queue
		o.queue = nil
		o.mu.Unlock()
		for _, body := range queue {
			if err := conn.Send(ctx, body); err != nil {
				return err
			}
			o.mu.Lock()
			o.bytes -= len(body)
			o.mu.Unlock()
		}
		if len(queue) > 0 {
			continue
		}
		select {
		case <-o.ring:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
