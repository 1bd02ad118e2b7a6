package service

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/service/base"
	"yamato/internal/service/care"
	"yamato/internal/service/sessions"
)

// Whoever gets no answer makes the call again, and what it asks for is made once, also where both are under way at once.
func TestTheSameCallWithItsKeyMakesOneSessionAndOneErrand(t *testing.T) {
	w := newWorld(t, base.Config{})
	w.link(w.service, kaede("kaede-7-1"))
	ctx := context.Background()
	const calls = 8
	var together sync.WaitGroup
	opened, asked := make([]int64, calls), make([]int64, calls)
	for i := range calls {
		together.Go(func() {
			s, err := w.service.Sessions.OpenSession(ctx, w.user, sessions.Wish{Device: "kaede-7-1", Name: "evening"}, "one")
			if err == nil {
				opened[i] = s.Number
			}
		})
		together.Go(func() {
			e, err := w.service.Care.Do(ctx, w.user, care.Wish{What: "check", Device: "kaede-7-1"}, "two")
			if err == nil {
				asked[i] = e.ID
			}
		})
	}
	together.Wait()
	for i := range calls {
		require.NotZero(t, opened[i])
		require.Equal(t, opened[0], opened[i])
		require.NotZero(t, asked[i])
		require.Equal(t, asked[0], asked[i])
	}
	list, err := w.store.Sessions.Sessions(ctx, w.user.ProjectID, w.user.Name, false, "", 0, 50)
	require.NoError(t, err)
	require.Len(t, list, 1)

	other := w.user
	other.Name = "somebody else"
	for name, call := range map[string]func() error{
		"another order": func() error {
			_, err := w.service.Sessions.OpenSession(ctx, w.user, sessions.Wish{Device: "kaede-7-1", Name: "morning"}, "one")
			return err
		},
		"another thing": func() error {
			_, err := w.service.Care.Do(ctx, w.user, care.Wish{What: "check", Device: "kaede-7-1"}, "one")
			return err
		},
		"another person": func() error {
			_, err := w.service.Care.Do(ctx, other, care.Wish{What: "check", Device: "kaede-7-1"}, "two")
			return err
		},
	} {
		require.Equal(t, base.OtherCall, base.AsProblem(call()).Kind, name)
	}
	_, err = w.service.Care.Do(ctx, w.user, care.Wish{What: "check", Device: "no-such"}, "three")
	require.Equal(t, base.Missing, base.AsProblem(err).Kind)
	_, err = w.service.Care.Do(ctx, w.user, care.Wish{What: "check", Device: "kaede-7-1"}, "three")
	require.NoError(t, err, "what was refused took no key")
}
