package byhand

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
)

// Nobody looks, and the device goes on: a frame waits for a moment to be sent, and never for good, however busy the
// machine is. Its end would wait with it.
func TestAFrameThatNobodyTakesKeepsNoDeviceWaiting(t *testing.T) {
	done := make(chan struct{})
	go func() {
		var all sync.WaitGroup
		for range 2000 {
			all.Go(func() {
				f := &film{}
				f.shown = sync.NewCond(&f.mu)
				f.take(device.Frame{Data: []byte("a frame")})
			})
		}
		all.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		require.Fail(t, "a frame waits for good")
	}
}
