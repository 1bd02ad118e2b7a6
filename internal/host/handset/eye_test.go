package handset

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
	"yamato/internal/host/devicetest/eye"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

// pagesOf are an app of pages, each under its name.
func pagesOf(t *testing.T, bodies map[string]string) driver.App {
	t.Helper()
	return bundled(t, eye.Files(bodies))
}

// visited opens a page of the app in front and waits until it has come to rest.
func visited(t *testing.T, ctx context.Context, d *Device, name string) *screen.Tree {
	t.Helper()
	return eye.Visited(t, ctx, d, name)
}

func drawnTree(t *screen.Tree) string { return eye.Drawn(t) }

func TestThePagesEyeIsAPersons(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	d := kaede(t)
	ctx := opened(t, d, bundled(t, eye.All()))
	for _, p := range eye.Pages {
		t.Run(p.Name, func(t *testing.T) {
			tree := visited(t, ctx, d, p.File())
			require.Empty(t, p.Wrong(tree), "%s", drawnTree(tree))
		})
	}
}
