package contain

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

func TestAPanicCostsWhatMetItAlone(t *testing.T) {
	before := Met()
	require.NoError(t, Do("a job", func() error { return nil }))
	other := errors.New("other")
	require.ErrorIs(t, Do("a job", func() error { return other }), other)
	var list []int
	err := Do("a job", func() error { list[3] = 1; return nil })
	var f *Fault
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.Stack, "contain_test.go")
	require.ErrorContains(t, err, "a job met a fault")

	var g errgroup.Group
	Go(&g, "a part", func() error { panic("no") })
	require.ErrorAs(t, g.Wait(), &f)
	require.Equal(t, "a part", f.What)
	require.Equal(t, int64(2), Met()-before)
}
