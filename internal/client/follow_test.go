package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
)

// teller serves the events 1 to last of a run, and breaks off after each cut.
func teller(t *testing.T, last int, cut int) (*Service, *atomic.Int64) {
	t.Helper()
	var calls atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls.Add(1)
		if r.Header.Get("Authorization") != "Bearer token" || r.URL.Path != "/api/v1/projects/default/runs/7/events" {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			_, _ = io.WriteString(w, `{"type":"yamato:not-found","title":"there is no run 8","status":404,"hint":"list them"}`)
			return
		}
		after, err := strconv.Atoi(r.Header.Get("Last-Event-ID"))
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		for n := after + 1; n <= last; n++ {
			if n > after+cut {
				panic(http.ErrAbortHandler)
			}
			_, _ = fmt.Fprintf(w, ": a comment\nid: %d\ndata: {\"kind\":\"result\",\"case_index\":%d}\n\n", n, n)
			w.(http.Flusher).Flush()
		}
		_, _ = io.WriteString(w, "event: end\ndata: {}\n\n")
	}))
	t.Cleanup(server.Close)
	s, err := Open(server.URL, "token", "default")
	require.NoError(t, err)
	return s, &calls
}

func TestFollowingGoesOnWhereALostConnectionBroke(t *testing.T) {
	s, calls := teller(t, 10, 3)
	var seen []int64
	losses := 0
	err := s.Follow(context.Background(), 7, 0, time.Minute, func(error) { losses++ }, func(e Event) error {
		seen = append(seen, e.Number)
		require.Equal(t, int(e.Number), *e.CaseIndex)
		return nil
	})
	require.NoError(t, err)
	require.Equal(t, []int64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}, seen, "no gap, no repetition")
	require.Equal(t, 3, losses)
	require.Equal(t, int64(4), calls.Load())
}

func TestFollowingFromAnEventOnSkipsWhatCameBefore(t *testing.T) {
	s, _ := teller(t, 5, 99)
	var seen []int64
	require.NoError(t, s.Follow(context.Background(), 7, 3, time.Minute, func(error) {}, func(e Event) error {
		seen = append(seen, e.Number)
		return nil
	}))
	require.Equal(t, []int64{4, 5}, seen)
}

func TestFollowingEndsWithWhoeverListens(t *testing.T) {
	s, _ := teller(t, 5, 99)
	enough := errors.New("enough")
	err := s.Follow(context.Background(), 7, 0, time.Minute, func(error) {}, func(Event) error { return enough })
	require.ErrorIs(t, err, enough)

	var p *ProblemError
	err = s.Follow(context.Background(), 8, 0, time.Minute, func(error) {}, func(Event) error { return nil })
	require.ErrorAs(t, err, &p, "a refusal is not tried again")
	require.Equal(t, "there is no run 8", p.Title)
	require.Equal(t, "list them", *p.Hint)
}

func TestWhereNobodyAnswersThatIsSaid(t *testing.T) {
	s, err := Open("http://127.0.0.1:1", "token", "default")
	require.NoError(t, err)
	var u *Unreachable
	err = s.Follow(context.Background(), 7, 0, 150*time.Millisecond, func(error) {}, func(Event) error { return nil })
	require.ErrorAs(t, err, &u)
	require.Equal(t, "http://127.0.0.1:1", u.URL)
	_, err = As[contract.About](s.About(context.Background()))
	require.ErrorAs(t, err, &u)
	require.Equal(t, "http://127.0.0.1:1", u.URL)
}

func TestAnAnswerThatIsNoProblemDocumentIsStillToldAsOne(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusBadGateway)
		_, _ = io.WriteString(w, "<html>bad gateway</html>")
	}))
	defer server.Close()
	s, err := Open(server.URL, "token", "default")
	require.NoError(t, err)
	_, err = As[contract.About](s.About(context.Background()))
	require.ErrorContains(t, err, "502 Bad Gateway")
}
