package journal

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/script"
	"yamato/internal/link"
)

func TestTheJournalOutlivesItsHost(t *testing.T) {
	dir := t.TempDir()
	j, err := Open(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, j.Begin(7, "kaede-7-1", []string{"example.app"}, 0))
	require.NoError(t, j.Append(opened(t, 7), opened(t, 7), opened(t, 7)))
	j.Acknowledge([]link.Ack{{Lease: 7, Seq: 1}})
	f, err := os.OpenFile(filepath.Join(dir, "journal"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"event":{"lease":7,"seq":4,"case_o`) // killed in the middle of a line
	require.NoError(t, err)
	require.NoError(t, f.Close())

	j, err = Open(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.Close()
	require.Equal(t, []Lease{{Number: 7, Device: "kaede-7-1", Apps: []string{"example.app"}}}, j.Unfinished())
	events, err := j.Next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 2)
	require.Equal(t, []int64{2, 3}, []int64{events[0].Seq, events[1].Seq}, "what was acknowledged is not said again")
	require.NoError(t, j.Append(opened(t, 7)))
	events, err = j.Next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Equal(t, int64(4), events[0].Seq, "numbers go on")
}

func TestANewLinkIsSentEverythingThatWasNotAcknowledged(t *testing.T) {
	j, err := Open(t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.Close()
	require.NoError(t, j.Begin(1, "a", nil, 0))
	require.NoError(t, j.Begin(2, "b", nil, 0))
	require.NoError(t, j.Append(opened(t, 1), opened(t, 2), opened(t, 1)))
	first, err := j.Next(context.Background(), 110)
	require.NoError(t, err)
	require.Len(t, first, 2)
	j.Acknowledge([]link.Ack{{Lease: 1, Seq: 1}})
	rest, err := j.Next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, rest, 1, "an acknowledgement moves nothing that was sent to the front")
	j.Rewind()
	again, err := j.Next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, again, 2)
}

func TestOfARefusedLeaseOnlyTheWordThatItsDeviceIsCleanIsSaid(t *testing.T) {
	j, err := Open(t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.Close()
	require.NoError(t, j.Begin(1, "a", nil, 0))
	require.NoError(t, j.Append(opened(t, 1), link.Event{Lease: 1, Clean: &link.Clean{}}))
	j.Refuse(1)
	events, err := j.Next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 1)
	require.NotNil(t, events[0].Clean)
	j.Acknowledge([]link.Ack{{Lease: 1, Seq: 2}})
	require.False(t, j.Knows(1))
}

// full puts a device that is always full (null(4)) in the place of the journal's file.
func full(t *testing.T, j *Journal) (mend func()) {
	t.Helper()
	f, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	j.mu.Lock()
	file := j.file
	j.file = f
	j.mu.Unlock()
	return func() {
		j.mu.Lock()
		defer j.mu.Unlock()
		j.file = file
		require.NoError(t, f.Close())
	}
}

func TestAJournalWithoutRoomWaitsAndSaysSoAndLosesNothing(t *testing.T) {
	dir := t.TempDir()
	j, err := Open(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, j.Begin(7, "kaede-7-1", []string{"example.app"}, 0))
	mend := full(t, j)
	kept := make(chan error, 1)
	go func() { kept <- j.Append(opened(t, 7), link.Event{Lease: 7, Finished: &link.Finished{}}) }()
	<-j.Turned
	require.ErrorContains(t, j.Failing(), "no space left")
	require.Error(t, j.Begin(8, "kaede-7-2", nil, 0), "no lease is taken meanwhile")
	j.Acknowledge([]link.Ack{{Lease: 7, Seq: 0}}) // and nobody has to wait who has nothing to say
	require.Empty(t, kept)
	mend()
	require.NoError(t, <-kept)
	require.NoError(t, j.Failing())
	j.Close()

	j, err = Open(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.Close()
	events, err := j.Next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 2, "the end of the lease was kept")
	require.False(t, j.Knows(8))
}

func TestAHalfLineInTheJournalKeepsNoHostFromStarting(t *testing.T) {
	dir := t.TempDir()
	lines := `{"begin":{"lease":7,"device":"kaede-7-1","seq":0}}
{"event":{"lease":7,"seq":1,"case_o{"event":{"lease":7,"seq":1,"case_open":{"case":0}}}
{"event":{"lease":7,"seq":1,"case_open":{"case":0}}}
`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "journal"), []byte(lines), 0o600))
	j, err := Open(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.Close()
	events, err := j.Next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 1)
}

func TestAJournalIsReplacedOnlyByOneThatIsWhole(t *testing.T) {
	dir := t.TempDir()
	j, err := Open(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, j.Begin(7, "kaede-7-1", []string{"example.app"}, 0))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "journal.new"), 0o700)) // it cannot be written anew
	require.NoError(t, os.WriteFile(filepath.Join(dir, "journal.new", "x"), nil, 0o600))
	j.limit = 1
	require.NoError(t, j.Append(opened(t, 7)))
	require.NoError(t, j.Append(opened(t, 7)))
	j.Close()
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "journal.new")))
	j, err = Open(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.Close()
	events, err := j.Next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 2)
}

func TestMessagesOfEventsAreBoundedInBytes(t *testing.T) {
	j, err := Open(t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.Close()
	require.NoError(t, j.Begin(7, "kaede-7-1", []string{"example.app"}, 0))
	long := strings.Repeat("<", 9<<20)
	for range 6 {
		require.NoError(t, j.Append(link.Event{Lease: 7, Case: &link.CaseClosed{Verdict: "fail",
			Failure: &script.Failure{Actual: long, Report: long}}}))
	}
	sent := 0
	for sent < 6 {
		events, err := j.Next(context.Background(), link.MaxBatch)
		require.NoError(t, err)
		size, err := link.SizeOf(events)
		require.NoError(t, err)
		require.Less(t, size, link.MaxMessage/2)
		sent += len(events)
	}
}

func opened(t *testing.T, lease int64) link.Event {
	t.Helper()
	return link.Event{Lease: lease, CaseOpen: &link.CaseOpen{Case: 0}}
}
