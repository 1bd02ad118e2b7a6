package mailbox_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/mailbox"
)

func message(size int) json.RawMessage { return json.RawMessage(strings.Repeat("x", size)) }

func taken(t *testing.T, b *mailbox.Box) (sizes []int) {
	t.Helper()
	list, err := b.Take()
	require.NoError(t, err)
	for _, m := range list {
		sizes = append(sizes, len(m))
	}
	return sizes
}

func TestABoxThatRefusesCountsWhatIsNotSentYet(t *testing.T) {
	b := mailbox.New(mailbox.Refuse, 10)
	require.NoError(t, b.Put(message(6)))
	require.ErrorIs(t, b.Put(message(5)), mailbox.ErrFull)
	require.NoError(t, b.Put(message(4)))
	<-b.Rings()
	require.Equal(t, []int{6, 4}, taken(t, b), "in order")
	require.ErrorIs(t, b.Put(message(1)), mailbox.ErrFull, "they are on their way")
	b.Sent(message(6))
	require.NoError(t, b.Put(message(6)))
	b.Sent(message(4))
	require.Equal(t, []int{6}, taken(t, b))
	b.Sent(message(6))
	require.NoError(t, b.Put(message(99)), "one that is larger than the box, alone")
}

func TestABoxThatDropsLetsTheOldestGo(t *testing.T) {
	b := mailbox.New(mailbox.Drop, 10)
	for _, size := range []int{4, 5, 3} {
		require.NoError(t, b.Put(message(size)))
	}
	require.Equal(t, []int{5, 3}, taken(t, b))
	require.NoError(t, b.Put(message(99)))
	require.Equal(t, []int{99}, taken(t, b), "the newest always stays")
}

func TestABoxThatIsLostStaysSo(t *testing.T) {
	b := mailbox.New(mailbox.Lose, 10)
	require.NoError(t, b.Put(message(10)))
	<-b.Rings()
	require.ErrorIs(t, b.Put(message(1)), mailbox.ErrLost)
	<-b.Rings() // who sends is told
	_, err := b.Take()
	require.ErrorIs(t, err, mailbox.ErrLost)
	require.ErrorIs(t, b.Put(message(1)), mailbox.ErrLost)
}
