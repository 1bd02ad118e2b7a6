package sandbox

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFramesAreBoundedBothWays(t *testing.T) {
	var b bytes.Buffer
	require.ErrorContains(t, writeFrame(&b, strings.Repeat("x", maxFrame)), "over the")
	b.Write([]byte{0xff, 0xff, 0xff, 0xff})
	var v any
	require.ErrorContains(t, readFrame(&b, &v), "over the")
}
