package store_test

import (
	"context"
	"fmt"
	"math"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yamato/internal/store"
)

// taken takes blobs that nothing refers to and gives their digests.
func (r *records) taken(grace time.Duration, limit int) (out []string) {
	r.t.Helper()
	r.tx(func(tx *store.Tx) (err error) {
		out, err = tx.Blobs.TakeUnreferred(context.Background(), grace, limit)
		return err
	})
	return out
}

func TestBlobsThatNothingRefersToAreTakenOnceTheirGraceIsOver(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	for i := range 5 {
		require.NoError(t, r.NoteBlob(ctx, fmt.Sprintf("stray-%d", i), 10))
	}
	for _, used := range []string{"d", "s"} { // of the package and of the suite
		require.NoError(t, r.NoteBlob(ctx, used, 10))
	}
	require.Empty(t, r.taken(time.Hour, 100), "somebody had a use for them just now")
	require.Len(t, r.taken(-time.Second, 2), 2, "no more at a time than is asked for")
	require.Len(t, r.taken(-time.Second, 100), 3)
	require.Empty(t, r.taken(-time.Second, 100), "what something refers to stays")
}

func TestABlobThatIsNotedAgainBeginsItsGraceAnew(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	require.NoError(t, r.AdoptBlobs(ctx, []string{"a", "b"}, []int64{1, 2}))
	require.NoError(t, r.AdoptBlobs(ctx, []string{"a", "b"}, []int64{1, 2}), "it may be done twice")
	require.Equal(t, []string{"a", "b"}, r.taken(-time.Second, 10))
	require.NoError(t, r.NoteBlob(ctx, "a", 1))
	require.Empty(t, r.taken(time.Minute, 10))
}

// While blobs are being taken away, whoever notes one of them waits, and then knows that
// it has to be kept anew; whatever the order, no blob is both noted and forgotten.
func TestNotingAgainstTakingLosesNone(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	const blobs = 40
	var group sync.WaitGroup
	noted := make([]error, blobs)
	for i := range blobs {
		group.Go(func() { noted[i] = r.NoteBlob(ctx, fmt.Sprintf("n-%02d", i), 1) })
	}
	gone := map[string]int{}
	for range 10 {
		for _, d := range r.taken(-time.Second, 7) {
			gone[d]++
		}
	}
	group.Wait()
	for _, err := range noted {
		require.NoError(t, err)
	}
	for _, d := range r.taken(-time.Second, 100) {
		gone[d]++
	}
	require.Len(t, gone, blobs, "each was noted, and taken once for each time that it was")
	for d, n := range gone {
		require.Equal(t, 1, n, d)
		require.True(t, strings.HasPrefix(d, "n-"))
	}
}

func TestUploadsBegunAtOnceAreBoundedInNumberAndSum(t *testing.T) {
	r := newRecords(t, 1, 1)
	ctx := context.Background()
	most := store.Begun{Count: 5, Bytes: 100}
	var group sync.WaitGroup
	var took atomic.Int64
	for i := range 40 {
		group.Go(func() {
			ok, err := r.AddUpload(ctx, r.project, fmt.Sprintf("many-%d", i), "mira", 1, most)
			assert.NoError(t, err)
			if ok {
				took.Add(1)
			}
		})
	}
	group.Wait()
	require.EqualValues(t, 5, took.Load(), "however many come at once")
	for _, one := range []struct {
		size int64
		ok   bool
	}{{60, true}, {41, false}, {40, true}, {1, false}, {math.MaxInt64, false}} {
		ok, err := r.AddUpload(ctx, r.project, fmt.Sprintf("large-%d", one.size), "jonas", one.size, most)
		require.NoError(t, err)
		require.Equal(t, one.ok, ok, one.size)
	}
	has, err := r.HasUpload(ctx, r.project, "large-60", "mira")
	require.NoError(t, err)
	require.False(t, has, "it is another's")
}
