package sessions

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/link"
	"yamato/internal/mailbox"
	"yamato/internal/service/base"
	"yamato/internal/store"
	kept "yamato/internal/store/sessions"
)

// onStage gives a stage of mira's, and the host's end of its socket.
func onStage(t *testing.T) (*stage, link.Live) {
	t.Helper()
	accepted := make(chan *websocket.Conn, 1)
	release := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if c, err := websocket.Accept(w, r, nil); err == nil {
			accepted <- c
			<-release
		}
	}))
	host, answer, err := websocket.Dial(context.Background(), server.URL, nil)
	require.NoError(t, err)
	if answer.Body != nil {
		_ = answer.Body.Close()
	}
	mine := <-accepted
	t.Cleanup(func() { _ = host.CloseNow(); _ = mine.CloseNow(); close(release); server.Close() })
	host.SetReadLimit(link.MaxLive)
	return &stage{part: &Part{}, session: 1, lease: 7, owner: "mira", conn: link.Live{Socket: mine},
		gone:   make(chan struct{}),
		orders: map[int64]sent{}}, link.Live{Socket: host}
}

// heardBy reads what the host hears until it is an order.
func heardBy(t *testing.T, host link.Live) link.Order {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	for {
		var a link.Asked
		_, err := host.Receive(ctx, &a)
		require.NoError(t, err)
		if a.Order != nil {
			return *a.Order
		}
	}
}

func come(t *testing.T, g *stage, who string) *viewer {
	t.Helper()
	v := newViewer(base.Caller{Name: who}, false)
	require.NoError(t, g.join(v))
	return v
}

// told gives what a viewer has been told, as one text.
func told(t *testing.T, v *viewer) string {
	t.Helper()
	words, _, err := v.take()
	require.NoError(t, err)
	var all strings.Builder
	for _, w := range words {
		all.Write(w)
	}
	return all.String()
}

func TestThereIsOneHandAndItIsHandedOver(t *testing.T) {
	g, _ := onStage(t)
	ctx := context.Background()
	first, second, tom := come(t, g, "mira"), come(t, g, "mira"), come(t, g, "tom")
	require.Same(t, second, g.hand, "of one person's windows the newest has it")
	require.Contains(t, told(t, tom), `"by":"mira","you":false`)

	g.hear(ctx, tom, Said{Hand: "take"})
	require.Same(t, second, g.hand, "who does not own it cannot take it")
	g.hear(ctx, tom, Said{Hand: "ask"})
	require.Contains(t, told(t, second), `"asking":["tom"]`)
	g.hear(ctx, tom, Said{Hand: "give", To: "tom"})
	require.Same(t, second, g.hand, "nor give it to themselves")
	g.hear(ctx, second, Said{Hand: "give", To: "tom"})
	require.Same(t, tom, g.hand)
	come(t, g, "mira")
	require.Same(t, tom, g.hand, "a window that opens takes nothing out of somebody's hand")
	g.hear(ctx, first, Said{Hand: "take"})
	require.Same(t, first, g.hand, "the owner has it back at once")
	g.hear(ctx, first, Said{Hand: "give", To: "tom"})
	g.leave(tom)
	require.NotNil(t, g.hand)
	require.Equal(t, "mira", g.hand.caller.Name, "whoever leaves leaves it to its owner")
}

func TestOnlyTheHandTouches(t *testing.T) {
	g, host := onStage(t)
	ctx := context.Background()
	mira, tom := come(t, g, "mira"), come(t, g, "tom")
	g.hear(ctx, tom, Said{Order: &link.Order{ID: 1, Do: "tap"}})
	require.Contains(t, told(t, tom), "nothing was touched")
	command := newViewer(base.Caller{Name: "tom"}, true)
	require.NoError(t, g.join(command))
	g.hear(ctx, command, Said{Order: &link.Order{ID: 1, Do: "tap"}})
	require.Contains(t, told(t, command), "nothing was touched", "nor by command")

	g.hear(ctx, tom, Said{Order: &link.Order{ID: 5, Do: "card"}})
	look := heardBy(t, host)
	require.Equal(t, []string{"card", "tom"}, []string{look.Do, look.By}, "who may look on may look inside")
	g.hear(ctx, mira, Said{Order: &link.Order{ID: 5, Do: "tap", By: "tom", Blob: "d", Pack: &appfile.Package{}}})
	touch := heardBy(t, host)
	require.Equal(t, "mira", touch.By, "nobody is somebody else")
	require.True(t, touch.Blob == "" && touch.Pack == nil, "what is installed is the service's to say")

	require.NotEqual(t, look.ID, touch.ID)
	told(t, mira)
	told(t, tom)
	g.heard(link.Told{Answer: &link.Answer{ID: look.ID, Text: "a card"}})
	g.heard(link.Told{Answer: &link.Answer{ID: touch.ID, Text: "a touch"}})
	g.heard(link.Told{Answer: &link.Answer{ID: touch.ID, Text: "twice"}})
	require.Contains(t, told(t, tom), `"id":5,"text":"a card"`)
	require.Contains(t, told(t, mira), `"id":5,"text":"a touch"`)
	require.Empty(t, told(t, mira), "an answer is given once, to whoever asked")
}

func TestWhoTakesNothingIsCutOffAndDelaysNobody(t *testing.T) {
	g, _ := onStage(t)
	slow, quick := come(t, g, "mira"), come(t, g, "mira")
	line := strings.Repeat("x", 1<<20)
	for range 12 {
		g.heard(link.Told{Status: &link.Status{Busy: line}})
		told(t, quick)
	}
	_, _, err := slow.take()
	require.ErrorIs(t, err, mailbox.ErrLost)
	for range 500 {
		g.heard(link.Told{Log: []device.LogLine{{Text: line[:10_000]}}})
		told(t, quick)
	}
	require.LessOrEqual(t, g.tailed, maxTail, "the log at hand for who comes is bounded")
}

func TestTheNewestFrameIsSentAndNoMoreThanAreTaken(t *testing.T) {
	v := newViewer(base.Caller{Name: "mira"}, false)
	frame := func(n int64) []byte { return link.EncodeFrame(link.FrameHead{Number: n}, []byte("picture")) }
	next := func() int64 {
		_, f, err := v.take()
		require.NoError(t, err)
		if f == nil {
			return 0
		}
		h, _, err := link.DecodeFrame(f)
		require.NoError(t, err)
		return h.Number
	}
	v.show(frame(1))
	require.EqualValues(t, 1, next())
	v.show(frame(2))
	v.show(frame(3))
	require.EqualValues(t, 3, next(), "the newest wins")
	v.show(frame(4))
	require.Zero(t, next(), "two are on their way")
	require.False(t, v.acknowledged(9), "that was not sent to it")
	require.True(t, v.acknowledged(3))
	require.EqualValues(t, 4, next(), "what comes before one that was shown is of no use")
	command := newViewer(base.Caller{Name: "mira"}, true)
	command.show(frame(1))
	_, f, err := command.take()
	require.NoError(t, err)
	require.Nil(t, f, "a command looks at nothing")
}

func TestWhoOnlyLooksOnCannotStopTheFilmOfOthers(t *testing.T) {
	g, host := onStage(t)
	looker := come(t, g, "aya")
	g.show(link.EncodeFrame(link.FrameHead{Number: 1}, []byte("picture")))
	_, frame, err := looker.take()
	require.NoError(t, err)
	require.NotNil(t, frame)
	for _, number := range []int64{1<<63 - 1, 2, -1} {
		g.hear(context.Background(), looker, Said{Shown: number})
	}
	require.Zero(t, g.shown, "what was not sent to it was not shown to it")
	g.hear(context.Background(), looker, Said{Shown: 1})
	require.EqualValues(t, 1, g.shown)
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	for {
		var a link.Asked
		_, err := host.Receive(ctx, &a)
		require.NoError(t, err)
		if a.Shown != 0 {
			require.EqualValues(t, 1, a.Shown)
			return
		}
	}
}

func TestOrdersThatTheirHostNeverAnswersAreAnswered(t *testing.T) {
	g, _ := onStage(t)
	mira := come(t, g, "mira")
	for i := range int64(maxPending) {
		g.orders[i+1] = sent{mira, 100 + i, time.AfterFunc(time.Hour, func() {})}
	}
	g.next = maxPending
	require.ErrorContains(t, g.order(context.Background(), mira, link.Order{ID: 1, Do: "tree"}), "busy")
	g.unanswered(1, "the device's host has not answered")
	require.NoError(t, g.order(context.Background(), mira, link.Order{ID: 2, Do: "tree"}), "it is busy no more")
	g.abandoned()
	require.Empty(t, g.orders)
	words, _, err := mira.take()
	require.NoError(t, err)
	answered := 0
	for _, body := range words {
		var told link.Told
		if json.Unmarshal(body, &told) == nil && told.Answer != nil {
			require.NotEmpty(t, told.Answer.Trouble)
			answered++
		}
	}
	require.Equal(t, maxPending+1, answered)
}

func TestNoMoreLookOnThanTheStageHolds(t *testing.T) {
	g, _ := onStage(t)
	for range maxViewers {
		come(t, g, "mira")
	}
	require.Error(t, g.join(newViewer(base.Caller{Name: "mira"}, false)))
}

func TestASessionIsNamedByThePattern(t *testing.T) {
	day := time.Date(2026, 11, 26, 1, 2, 3, 0, time.UTC)
	build := &store.Build{App: "Tideline", VersionName: "3.2.0"}
	for pattern, want := range map[string]string{
		"{app} {build} {device} {date}": "Tideline 3.2.0 kaede-7-1 2026-11-26", "{device}": "kaede-7-1", "": "by hand",
		"  a  {nothing} ": "a {nothing}",
	} {
		require.Equal(t, want, Name(pattern, build, "kaede-7-1", day))
	}
	require.Equal(t, "kaede-7-1 2026-11-26", Name("{app} {build} {device} {date}", nil, "kaede-7-1", day))
}

func TestWhatADeviceWasMadeToFeelIsThatOfTheMoment(t *testing.T) {
	detail := func(words string) *json.RawMessage {
		raw := json.RawMessage(`{"felt": [{"what": "x", "words": "` + words + `"}]}`)
		return &raw
	}
	mark := kept.Entry{Lease: 2, Seq: 9}
	list := []kept.Entry{{Lease: 1, Detail: detail("was on another device")}, {Lease: 2, Detail: detail("is dark")},
		{Lease: 2}, mark}
	require.Equal(t, []string{"it is dark"}, feltAt(list, mark))
	require.Empty(t, feltAt(list[:1], mark), "what another device felt is not this one's")
}

func TestMarksLieOnThePicture(t *testing.T) {
	require.NoError(t, checkMarks([]kept.Drawn{{Kind: "arrow", X: 0, Y: 1, ToX: 0.5, ToY: 0.5, Text: "here"}}))
	for _, wrong := range [][]kept.Drawn{{{Kind: "star"}}, {{Kind: "box", X: -0.1}}, {{Kind: "box", ToY: 1.1}},
		{{Kind: "words", Text: strings.Repeat("x", 1000)}}, make([]kept.Drawn, maxMarks+1)} {
		require.Error(t, checkMarks(wrong))
	}
}

func TestTheNearestIsTheMostAlike(t *testing.T) {
	require.InDelta(t, 1, likeness("Kaede 7", "kaede 7"), 0)
	require.Greater(t, likeness("Kaede 7", "Kaede 7 Lite"), likeness("Kaede 7", "Aster Petit"))
	require.Zero(t, likeness("", "anything"))
}
