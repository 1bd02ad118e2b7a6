package host

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

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
	require.NoError(t, j.begin(7, "kaede-7-1", 0))
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
	require.Equal(t, []int64{7}, j.open())
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
	require.NoError(t, j.begin(1, "a", 0))
	require.NoError(t, j.begin(2, "b", 0))
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
	require.NoError(t, j.begin(1, "a", 0))
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
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 9, kind: emulator, os: \"14\"}]":                                                `the model "Kaede 9"`,
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: robot, os: \"14\"}]":                                                   `not "robot"`,
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\"}, {name: k, model: Kaede 7, kind: real, os: \"14\"}]": "stands twice",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: simulator, os: \"14\"}]":                                               "emulators are of Android and simulators of iOS",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: emulator}]":                                                            "it states no os",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", standin: {debugging: perhaps}}]":                     `not "perhaps"`,
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", standin: {charge: 180}}]":                            "charge is 0 to 100",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", standin: {troubles: [{name: cable, chance: 7}]}}]":   "its chance is 0 to 1",
		"site: bench\n" + model + "devices: [{name: k, model: Kaede 7, kind: real, os: \"14\", use: {hours: always}}]":                              "hours are written as in Mon-Fri",
		"site: bench\n" + model + "images: [{platform: android, os: \"14\", state: maybe}]":                                                         `absent or present, not "maybe"`,
		"site: bench\n" + model + "images: [{platform: android, os: \"14\", licence: none such}]":                                                   "which the site file does not hold",
		"site: bench\nimages: [{platform: android}]":                                                                                                "states its platform, android or ios, and its os",
		"site: bench\nmodels: [{model: K, platform: beos}]":                                                                                         `not "beos"`,
		"site: bench\nmodels: [{model: K, platform: ios}, {model: K, platform: ios}]":                                                               "stands twice",
		"site: bench\ncapacity: {memory_mb: -5}":                                                                                                    "capacity",
		"site: Bench 1\n" + model:                                                                                                                   `"Bench 1"`,
		"site: bench\nfoo: 1":                                                                                                                       "foo",
		"{":                                                                                                                                         "cannot be read",
	} {
		_, err := ReadSite([]byte(text))
		require.ErrorContains(t, err, says)
	}
}
