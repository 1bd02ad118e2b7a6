package host

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/blob"
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

	h.answer(link.Done{Trouble: "it does not come up"}, "kaede-7-1") // nobody asked
	h.fresh()
	h.news.again(&mu)
	_, done = h.fresh()
	require.Len(t, done, 2, "what nobody asked about is said again as well")
	h.news.heard(&mu, []int64{5, done[1].Number()})
	h.news.again(&mu)
	_, done = h.fresh()
	require.Empty(t, done)
}

func TestAnErrandInHandIsNeverBegunTwiceHoweverManyCome(t *testing.T) {
	var mu sync.Mutex
	n := newNews()
	require.True(t, n.take(&mu, 1), "and it takes long")
	for id := int64(2); id < 4*mostErrands; id++ {
		require.True(t, n.take(&mu, id))
		n.heard(&mu, []int64{id})
		require.False(t, n.take(&mu, 1))
		require.False(t, n.take(&mu, id), "nor what was done a moment ago")
	}
	require.LessOrEqual(t, len(n.errands), mostErrands+1)
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

// damaging gives what is asked for, or something else.
type damaging struct {
	Remote
	gives []byte
	asked int
}

func (d *damaging) Download(_ context.Context, _, path string) error {
	d.asked++
	return os.WriteFile(path, d.gives, 0o600)
}

func TestWhatAHostFetchesIsWhatItAskedFor(t *testing.T) {
	remote := &damaging{gives: []byte("anything else")}
	c, err := openCache(t.TempDir(), remote)
	require.NoError(t, err)
	ctx := context.Background()
	for _, digest := range []string{"", "ab", "../../../../etc/hostname", strings.Repeat("A", 64),
		strings.Repeat("a", 63) + "/", strings.Repeat("a", 65)} {
		_, err := c.fetch(ctx, digest)
		require.ErrorContains(t, err, "no digest", "%q", digest)
	}
	require.Zero(t, remote.asked)
	sum := sha256.Sum256([]byte("a package"))
	digest := hex.EncodeToString(sum[:])
	_, err = c.fetch(ctx, digest)
	require.ErrorIs(t, err, blob.ErrDamaged)
	remote.gives = []byte("a package")
	path, err := c.fetch(ctx, digest)
	require.NoError(t, err, "what came damaged was not kept")
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "a package", string(data))
	_, err = c.fetch(ctx, digest)
	require.NoError(t, err)
	require.Equal(t, 2, remote.asked, "it is fetched once")
}

// clock is a device of which nothing but the time is asked.
type clock struct{ driver.Device }

func (clock) Now() time.Duration { return 0 }

// A lease lasts from when more time was asked for by the very ask that was answered, and no longer.
func TestAnAnswerCountsForTheAskThatItAnswers(t *testing.T) {
	begun := time.Now()
	stops := time.AfterFunc(time.Hour, func() {})
	h := &Host{held: map[int64]*holding{4: {timer: stops}}}
	_, first := h.askFor(begun)
	_, second := h.askFor(begun.Add(20 * time.Second))
	h.renewed(link.Renewed{Ask: first, Leases: []int64{4, 5}, TTLMS: 30_000})
	require.Equal(t, begun.Add(30*time.Second), h.held[4].until, "the answer to the first ask came late")
	h.renewed(link.Renewed{Ask: second, Leases: []int64{4}, TTLMS: 30_000})
	require.Equal(t, begun.Add(50*time.Second), h.held[4].until)
	for _, none := range []link.Renewed{{Ask: second, Leases: []int64{4}, TTLMS: 90_000}, {Ask: 99, Leases: []int64{4},
		TTLMS: 90_000},
		{Ask: -1, Leases: []int64{4}, TTLMS: 90_000}} {
		h.renewed(none)
		require.Equal(t, begun.Add(50*time.Second), h.held[4].until, "an ask is answered once, and one that was made")
	}
	h.askFor(begun.Add(30 * time.Second))
	h.askFor(begun.Add(40 * time.Second))
	h.renewed(link.Renewed{Leases: []int64{4}, TTLMS: 30_000})
	require.Equal(t, begun.Add(60*time.Second), h.held[4].until,
		"what does not say whose answer it is counts for the oldest")
	stops.Stop()
}
