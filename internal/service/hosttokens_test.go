package service

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/runs"
)

// comes links a host as a caller, and gives what it is welcomed with, or why it was not.
func (w *world) comes(as base.Caller, name string, devices ...link.Device) (*fakeHost, <-chan error, *link.Welcome) {
	w.t.Helper()
	mine, theirs := newPipe()
	ended := make(chan error, 1)
	done := make(chan struct{})
	go func() { defer close(done); ended <- w.service.Link.ServeHost(context.Background(), as, theirs) }()
	h := &fakeHost{w.t, mine}
	w.t.Cleanup(func() { h.hangUp(); <-done })
	require.NoError(w.t, mine.Send(context.Background(),
		link.FromHost{Hello: &link.Hello{Version: link.Version, Host: name, Site: "bench", Devices: devices}}))
	welcomed := make(chan *link.Welcome, 1)
	go func() {
		var m link.ToHost
		if mine.Receive(context.Background(), &m) == nil {
			welcomed <- m.Welcome
		}
	}()
	select {
	case m := <-welcomed:
		return h, ended, m
	case err := <-ended:
		ended <- err
		return h, ended, nil
	}
}

func (w *world) known(token string) base.Caller {
	w.t.Helper()
	c, err := w.store.CallerOf(context.Background(), token)
	require.NoError(w.t, err)
	return c
}

func TestAHostSpeaksForItselfAlone(t *testing.T) {
	ctx := context.Background()
	w := newWorld(t, base.Config{})

	// The shared token works once for each host, and gives it its own.
	first, _, welcome := w.comes(w.host, "bench")
	require.NotNil(t, welcome)
	lost := welcome.Token
	require.NotEmpty(t, lost)
	first.hangUp()
	again, _, welcome := w.comes(w.host, "bench") // its answer was lost, as far as anybody knows
	require.NotEmpty(t, welcome.Token)
	require.NotEqual(t, lost, welcome.Token)
	_, err := w.store.CallerOf(ctx, lost)
	require.Error(t, err, "what was given before is nobody's")
	again.hangUp()
	bench := w.known(welcome.Token)
	require.Equal(t, "bench", bench.Host)
	h, _, welcome := w.comes(bench, "bench", kaede("kaede-7-1"))
	require.NotNil(t, welcome)
	require.Empty(t, welcome.Token)
	_, ended, welcome := w.comes(w.host, "bench")
	require.Nil(t, welcome)
	require.ErrorContains(t, <-ended, "has a token of its own")
	_, ended, welcome = w.comes(bench, "harbour")
	require.Nil(t, welcome)
	require.ErrorContains(t, <-ended, "this token is that of the host bench")

	// What a lease refers to, and is lent, is for the host that has it.
	far, _, welcome := w.comes(w.host, "harbour", kaede("kaede-7-2"))
	harbour := w.known(welcome.Token)
	require.NoError(t, far.conn.Send(ctx, link.FromHost{Adopted: true}))
	require.NoError(t, far.conn.Send(ctx, link.FromHost{Renew: []int64{1}, Ask: 5}))
	// what came before is heard by now
	far.expect(func(m link.ToHost) bool { return m.Renewed != nil && m.Renewed.Ask == 5 })
	_, ended, welcome = w.comes(w.host, "harbour")
	require.Nil(t, welcome, "it has kept its own: nobody else gets one for it")
	require.ErrorContains(t, <-ended, "has a token of its own")
	run := w.start(runs.Order{})
	lease := h.lease()
	digest := lease.Attempt.PackageBlob
	for who, c := range map[string]base.Caller{"another host": harbour, "the token that hosts share": w.host} {
		_, err := w.service.Link.OpenBlob(ctx, c, digest)
		require.ErrorContains(t, err, "no live lease of this host", who)
		_, err = w.service.Vault.Lent(ctx, c, lease.Number)
		require.ErrorContains(t, err, "this host holds no lease", who)
		require.ErrorContains(t, w.service.Sessions.ServeLive(ctx, c, lease.Number, link.Live{}), "this host holds no lease",
			who)
	}
	f, err := w.service.Link.OpenBlob(ctx, bench, digest)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = w.service.Vault.Lent(ctx, bench, lease.Number)
	require.NoError(t, err)
	require.NotZero(t, run.Number)

	// Withdrawn, it is cut off, and does not come back by the shared one.
	list, err := w.service.Care.HostTokens(ctx, w.user)
	require.NoError(t, err)
	for _, one := range list {
		if one.Host == "bench" {
			require.NotNil(t, one.Used)
			_, err := w.service.Care.WithdrawHostToken(ctx, w.user, one.ID)
			require.NoError(t, err)
		}
	}
	_, err = w.store.CallerOf(ctx, "x")
	require.Error(t, err)
	_, ended, welcome = w.comes(w.host, "bench")
	require.Nil(t, welcome)
	require.ErrorContains(t, <-ended, "has a token of its own")
	_, err = w.service.Care.WithdrawHostToken(ctx, w.user, 1<<40)
	require.ErrorContains(t, err, "there is no host's token")

	// Until a person makes one.
	_, _, err = w.service.Care.MakeHostToken(ctx, w.user, " bench")
	require.Error(t, err)
	_, made, err := w.service.Care.MakeHostToken(ctx, w.user, "bench")
	require.NoError(t, err)
	_, _, welcome = w.comes(w.known(made), "bench", kaede("kaede-7-1"))
	require.NotNil(t, welcome)
}
