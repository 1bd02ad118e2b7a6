package service

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/service/base"
	"yamato/internal/service/builds"
)

func TestWhatAPlanNeedsIsNotRemovedUnsaidAndMissedAtOnce(t *testing.T) {
	ctx := context.Background()
	w := newWorld(t, base.Config{Key: make([]byte, 32)})
	w.link(w.service, kaede("kaede-7-1"))
	_, err := w.service.Builds.SaveLineup(ctx, w.user, "lineup: crossing phones\npick:\n  - model: Kaede 7\n")
	require.NoError(t, err)
	_, err = w.service.Builds.PushSuite(ctx, w.user, builds.NewSuite{FileName: "pin.yamato",
		Text: "suite \"Pin\"\ncase \"one\" tags pins\n  start app\n  set #pin to secret \"pin\"\nend\n"})
	require.NoError(t, err)
	require.NoError(t, w.service.Vault.SetSecret(ctx, w.user, "pin", "4711-4711"))
	w.savePlan("plan: Nightly\napp: Tideline\nsuites: [Two]\nlineup: crossing phones\n")
	w.savePlan("plan: Pins\napp: Tideline\ntags: [pins]\ndevices: [Kaede 7]\n")
	w.savePlan("plan: Later\napp: Tideline\nsuites: [Two]\ndevices: [Kaede 7]\nwhen: {after: {plan: Nightly}}\n")
	lacks := func(name string) string {
		t.Helper()
		list, err := w.service.Plans.Plans(ctx, w.user)
		require.NoError(t, err)
		one, err := w.service.Plans.Plan(ctx, w.user, name)
		require.NoError(t, err)
		for _, p := range list {
			if p.Name == name {
				require.Equal(t, p.Lacks, one.Lacks)
			}
		}
		return one.Lacks
	}
	for _, name := range []string{"Nightly", "Pins", "Later"} {
		require.Empty(t, lacks(name), name)
	}
	spared := func(err error, title string) {
		t.Helper()
		var p *base.Problem
		require.True(t, errors.As(err, &p), "%v", err)
		require.Equal(t, base.Needed, p.Kind)
		require.Equal(t, title, p.Title)
	}
	spared(w.service.Builds.RemoveLineup(ctx, w.user, "Crossing Phones", false),
		"the lineup Crossing Phones stays: the plan Nightly needs it")
	spared(w.service.Builds.RemoveSuite(ctx, w.user, "Two", false),
		"the suite Two stays: the plan Later and the plan Nightly need it")
	spared(w.service.Vault.RemoveSecret(ctx, w.user, "pin", false),
		"the secret pin stays: the plan Pins and the suite Pin need it")
	spared(w.service.Plans.RemovePlan(ctx, w.user, "Nightly", false), "the plan Nightly stays: the plan Later needs it")
	by, err := w.service.NeededBy(ctx, w.user, base.NeedsSuite, "Pin")
	require.NoError(t, err)
	require.Empty(t, by)

	require.NoError(t, w.service.Builds.RemoveLineup(ctx, w.user, "crossing phones", true))
	require.Equal(t, `there is no lineup "crossing phones"`, lacks("Nightly"))
	require.NoError(t, w.service.Builds.RemoveSuite(ctx, w.user, "Pin", false))
	require.Contains(t, lacks("Pins"), "no case of these suites has these tags: pins")
	require.NoError(t, w.service.Builds.RemoveSuite(ctx, w.user, "Two", true))
	require.Equal(t, `there is no suite "Two"`, lacks("Later"))
	_, err = w.service.Plans.PausePlan(ctx, w.user, "Later", true)
	require.NoError(t, err)
	require.Empty(t, lacks("Later"), "one that starts nothing lacks nothing")
}
