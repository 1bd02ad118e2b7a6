package waits

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// ago has a request be one that began so long ago.
func ago(r *Requests, id string, by time.Duration) { r.open[id].since = time.Now().Add(-by) }

func TestWhatAPersonWouldWaitForIsAwaited(t *testing.T) {
	var r Requests
	r.Begin("1", "main", false, Answer, "GET", "https://sorane.example/api/crossings?from=Sora")
	r.Begin("2", "main", false, Endless, "GET", "https://sorane.example/board")
	r.Begin("3", "main", false, Asset, "GET", "data:image/png;base64,AAAA")
	awaits, open := r.Awaited(nil)
	require.Equal(t, []string{"GET /api/crossings"}, awaits, "not what stays open, nor what is there already")
	require.Empty(t, open)
	for _, o := range []string{"/api", "sorane.example/api/cr"} {
		awaits, open = r.Awaited([]string{o})
		require.Empty(t, awaits, o)
		require.Equal(t, []string{"GET /api/crossings"}, open, "it is open all the same")
	}
	ago(&r, "1", time.Minute)
	awaits, open = r.Awaited(nil)
	require.Empty(t, awaits, "nobody waits for so long")
	require.Len(t, open, 1)
	require.True(t, r.End("1"))
	require.False(t, r.End("1"), "it ends once")

	r.Begin("4", "main", false, Answer, "GET", "https://sorane.example/api/crossings")
	ago(&r, "4", time.Second)
	awaits, _ = r.Awaited(nil)
	require.Empty(t, awaits, "its like has stayed open before")
	r.Afresh()
	r.Begin("4", "main", false, Answer, "GET", "https://sorane.example/api/crossings")
	ago(&r, "4", time.Second)
	awaits, _ = r.Awaited(nil)
	require.Len(t, awaits, 1, "another app has no such habits")

	r.Heard("4", "Text/Event-Stream")
	awaits, _ = r.Awaited(nil)
	require.Empty(t, awaits, "a stream has no end")
	r.Begin("5", "frame", true, Document, "GET", "https://other.example/")
	ago(&r, "5", 6*time.Second)
	r.Begin("6", "main", false, Document, "GET", "https://sorane.example/")
	ago(&r, "6", 6*time.Second)
	awaits, _ = r.Awaited(nil)
	require.Equal(t, []string{"GET /"}, awaits, "for the page's document one waits longer than for a frame's")
	r.FrameGone("frame")
	require.False(t, r.End("5"))
	r.Clear()
	require.False(t, r.End("6"))
	for i := range maxRequests + 10 {
		r.Begin(string(rune('a'+i)), "", false, Other, "GET", "https://sorane.example/"+string(rune('a'+i)))
	}
	awaits, _ = r.Awaited(nil)
	require.Len(t, r.open, maxRequests)
	require.Len(t, awaits, 6)
	require.Contains(t, awaits[5], "more")
}
