package host

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/link"
)

func opened(t *testing.T, lease int64) link.Event {
	t.Helper()
	return link.Event{Lease: lease, CaseOpen: &link.CaseOpen{Case: 0}}
}

func TestTheJournalOutlivesItsHost(t *testing.T) {
	dir := t.TempDir()
	j, err := openJournal(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, j.begin(7, "kaede-7-1", []string{"example.app"}, 0))
	require.NoError(t, j.append(opened(t, 7), opened(t, 7), opened(t, 7)))
	j.acknowledge([]link.Ack{{Lease: 7, Seq: 1}})
	f, err := os.OpenFile(filepath.Join(dir, "journal"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"event":{"lease":7,"seq":4,"case_o`) // killed in the middle of a line
	require.NoError(t, err)
	require.NoError(t, f.Close())

	j, err = openJournal(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.close()
	require.Equal(t, []openLease{{lease: 7, device: "kaede-7-1", apps: []string{"example.app"}}}, j.open())
	events, err := j.next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 2)
	require.Equal(t, []int64{2, 3}, []int64{events[0].Seq, events[1].Seq}, "what was acknowledged is not said again")
	require.NoError(t, j.append(opened(t, 7)))
	events, err = j.next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Equal(t, int64(4), events[0].Seq, "numbers go on")
}

func TestANewLinkIsSentEverythingThatWasNotAcknowledged(t *testing.T) {
	j, err := openJournal(t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.close()
	require.NoError(t, j.begin(1, "a", nil, 0))
	require.NoError(t, j.begin(2, "b", nil, 0))
	require.NoError(t, j.append(opened(t, 1), opened(t, 2), opened(t, 1)))
	first, err := j.next(context.Background(), 110)
	require.NoError(t, err)
	require.Len(t, first, 2)
	j.acknowledge([]link.Ack{{Lease: 1, Seq: 1}})
	rest, err := j.next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, rest, 1, "an acknowledgement moves nothing that was sent to the front")
	j.rewind()
	again, err := j.next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, again, 2)
}

func TestOfARefusedLeaseOnlyTheWordThatItsDeviceIsCleanIsSaid(t *testing.T) {
	j, err := openJournal(t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.close()
	require.NoError(t, j.begin(1, "a", nil, 0))
	require.NoError(t, j.append(opened(t, 1), link.Event{Lease: 1, Clean: &link.Clean{}}))
	j.refuse(1)
	events, err := j.next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 1)
	require.NotNil(t, events[0].Clean)
	j.acknowledge([]link.Ack{{Lease: 1, Seq: 2}})
	require.False(t, j.knows(1))
}

func TestASiteFileSaysWhatIsWrongWithIt(t *testing.T) {
	const model = "models: [{model: Kaede 7, platform: android, form: phone, width: 408, height: 896, memory_mb: 8192}]\n"
	for text, says := range map[string]string{
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 9, kind: emulator, os: \"14\"}]": `the model "Kaede 9"`,
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: robot, os: \"14\"}]":    `not "robot"`,
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\"}, {name: k, model: " +
			"Kaede 7, kind: real, os: \"14\"}]": "stands twice",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: simulator, os: \"14\"}]": "emulators are of Android and simulators of iOS",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: emulator}]":              "it states no os",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", use: {hours: " +
			"always}}]": "hours are written as in Mon-Fri",
		"site: bench\n" + model + "images: [{platform: android, os: \"14\", state: maybe}]":       `absent or present, not "maybe"`,
		"site: bench\n" + model + "images: [{platform: android, os: \"14\", licence: none such}]": "which the site file does not hold",
		"site: bench\nimages: [{platform: android}]":                                              "states its platform, android or ios, and its os",
		"site: bench\nmodels: [{model: K, platform: beos}]":                                       `not "beos"`,
		"site: bench\nmodels: [{model: K, platform: ios}, {model: K, platform: ios}]":             "stands twice",
		"site: bench\ncapacity: {memory_mb: -5}":                                                  "capacity",
		"site: Bench 1\n" + model:                                                                 `"Bench 1"`,
		"site: bench\ndriver: standin\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", " +
			"standing: {charge: 8}}]": "did you mean `standin`?",
		"site: bench\ndriver: other\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", " +
			"standin: {charge: 8}}]": "there is no `standin`",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", use: {peple: " +
			"[Bo]}}]": "did you mean `people`?",
		"site: bench\nfoo: 1": "foo",
		"{":                   "cannot be read",
	} {
		_, err := ReadSite([]byte(text))
		require.ErrorContains(t, err, says)
	}
}

// full puts a device that is always full (null(4)) in the place of the journal's file.
func full(t *testing.T, j *journal) (mend func()) {
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
	j, err := openJournal(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, j.begin(7, "kaede-7-1", []string{"example.app"}, 0))
	mend := full(t, j)
	kept := make(chan error, 1)
	go func() { kept <- j.append(opened(t, 7), link.Event{Lease: 7, Finished: &link.Finished{}}) }()
	<-j.turned
	require.ErrorContains(t, j.failing(), "no space left")
	require.Error(t, j.begin(8, "kaede-7-2", nil, 0), "no lease is taken meanwhile")
	j.acknowledge([]link.Ack{{Lease: 7, Seq: 0}}) // and nobody has to wait who has nothing to say
	require.Empty(t, kept)
	mend()
	require.NoError(t, <-kept)
	require.NoError(t, j.failing())
	j.close()

	j, err = openJournal(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.close()
	events, err := j.next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 2, "the end of the lease was kept")
	require.False(t, j.knows(8))
}

func TestAHalfLineInTheJournalKeepsNoHostFromStarting(t *testing.T) {
	dir := t.TempDir()
	lines := `{"begin":{"lease":7,"device":"kaede-7-1","seq":0}}
{"event":{"lease":7,"seq":1,"case_o{"event":{"lease":7,"seq":1,"case_open":{"case":0}}}
{"event":{"lease":7,"seq":1,"case_open":{"case":0}}}
`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "journal"), []byte(lines), 0o600))
	j, err := openJournal(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.close()
	events, err := j.next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 1)
}

func TestAJournalIsReplacedOnlyByOneThatIsWhole(t *testing.T) {
	dir := t.TempDir()
	j, err := openJournal(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, j.begin(7, "kaede-7-1", []string{"example.app"}, 0))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "journal.new"), 0o700)) // it cannot be written anew
	require.NoError(t, os.WriteFile(filepath.Join(dir, "journal.new", "x"), nil, 0o600))
	j.limit = 1
	require.NoError(t, j.append(opened(t, 7)))
	require.NoError(t, j.append(opened(t, 7)))
	j.close()
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "journal.new")))
	j, err = openJournal(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.close()
	events, err := j.next(context.Background(), 1<<20)
	require.NoError(t, err)
	require.Len(t, events, 2)
}

func TestMessagesOfEventsAreBoundedInBytes(t *testing.T) {
	j, err := openJournal(t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer j.close()
	require.NoError(t, j.begin(7, "kaede-7-1", []string{"example.app"}, 0))
	long := strings.Repeat("<", 9<<20)
	for range 6 {
		require.NoError(t, j.append(link.Event{Lease: 7, Case: &link.CaseClosed{Verdict: "fail",
			Failure: &script.Failure{Actual: long, Report: long}}}))
	}
	sent := 0
	for sent < 6 {
		events, err := j.next(context.Background(), link.MaxBatch)
		require.NoError(t, err)
		size, err := link.SizeOf(events)
		require.NoError(t, err)
		require.Less(t, size, link.MaxMessage/2)
		sent += len(events)
	}
}

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
	rec := &recorder{}
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
