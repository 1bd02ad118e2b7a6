package host

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/driver"
	"yamato/internal/link"
)

func TestAnAnswerIsSaidUntilTheServiceHasKeptIt(t *testing.T) {
	var mu sync.Mutex
	h := &Host{news: newNews()}
	h.answer(link.Done{ID: 4}, "")
	h.answer(link.Done{ID: 5}, "")
	_, done := h.fresh()
	require.Len(t, done, 2)
	_, done = h.fresh()
	require.Empty(t, done)
	h.news.heard(&mu, []int64{4})
	h.news.again(&mu) // a new link: the service may not have heard of the other
	_, done = h.fresh()
	require.Equal(t, []link.Done{{ID: 5}}, done)
}

func TestThePicturesOfACaseAreBoundedInBytesAndTheFailuresIsKept(t *testing.T) {
	large := &screen.Tree{Root: &screen.Node{Text: strings.Repeat("x", 2<<20)}}
	rec := &recorder{camera: camera{device: clock{}}, pictures: true}
	for range 50 {
		rec.Picture("named", nil, large, nil, screen.Rect{})
	}
	rec.Picture(script.FailurePicture, nil, large, nil, screen.Rect{})
	require.LessOrEqual(t, rec.held, maxHeld+sizeOf(large))
	require.Equal(t, script.FailurePicture, rec.shots[len(rec.shots)-1].name)
	require.Equal(t, 51, len(rec.shots)+rec.dropped, "what is not kept is counted, and said")
	require.NotZero(t, rec.dropped)
}

func TestTwoFetchesMayTrimTheCacheAtOnce(t *testing.T) {
	c, err := openCache(t.TempDir(), nil)
	require.NoError(t, err)
	long := time.Now().Add(-2 * time.Hour)
	for i := range 40 { // files with a size and without content
		path := filepath.Join(c.dir, fmt.Sprintf("%064d", i))
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 1<<30))
		require.NoError(t, os.Chtimes(path, long, long))
	}
	errs := make(chan error, 4)
	for range cap(errs) {
		go func() { errs <- c.trim() }()
	}
	for range cap(errs) {
		require.NoError(t, <-errs)
	}
	left, err := os.ReadDir(c.dir)
	require.NoError(t, err)
	require.LessOrEqual(t, len(left), 8)
}

// clock is a device of which nothing but the time is asked.
type clock struct{ driver.Device }

func (clock) Now() time.Duration { return 0 }
