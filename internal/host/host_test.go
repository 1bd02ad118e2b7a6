package host

import (
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
	rec := &recorder{camera: camera{device: clock{}}, shooting: true}
	for range 50 {
		rec.Picture("named", nil, large, nil, screen.Rect{})
	}
	rec.Picture(script.FailurePicture, nil, large, nil, screen.Rect{})
	require.LessOrEqual(t, rec.held, maxHeld+sizeOf(large))
	require.Equal(t, script.FailurePicture, rec.shots[len(rec.shots)-1].Name)
	require.Equal(t, 51, len(rec.shots)+rec.dropped, "what is not kept is counted, and said")
	require.NotZero(t, rec.dropped)
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
