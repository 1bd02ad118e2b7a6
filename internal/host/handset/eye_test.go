package handset

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

// page is one that is looked at: what is in its body, and what a person sees of it.
type seenPage struct {
	name, body  string
	shown, gone []string          // as scripts find them: #id, or a text
	content     map[string]string // by #id
	role        map[string]string
}

// pages serves bodies, each as a page of its own, under its name.
func pagesOf(t *testing.T, bodies map[string]string) driver.App {
	t.Helper()
	files := fstest.MapFS{"manifest.webmanifest": {Data: []byte(`{"name": "Eye", "id": "example.eye", "start_url": "/", "version": "1.0+1"}`)}}
	for name, body := range bodies {
		files[name+".html"] = &fstest.MapFile{Data: []byte(`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><body style="margin:8px;font:16px sans-serif">` + body)}
	}
	if files["index.html"] == nil {
		files["index.html"] = &fstest.MapFile{Data: []byte("<!doctype html><p>Begin")}
	}
	return bundled(t, files)
}

func (p seenPage) file() string {
	return strings.NewReplacer(" ", "-", ",", "", "'", "").Replace(p.name)
}

// visited opens a page of the app in front and waits until it has come to rest.
func visited(t *testing.T, ctx context.Context, d *Device, name string) *screen.Tree {
	t.Helper()
	require.NoError(t, d.OpenLink(ctx, "example.eye", "/"+name+".html"))
	return rested(t, ctx, d)
}

func rested(t *testing.T, ctx context.Context, d *Device) *screen.Tree {
	t.Helper()
	s := screen.NewSettling(d.Now())
	for end := d.Now() + 10*time.Second; d.Now() < end; {
		tree, err := d.Tree(ctx)
		require.NoError(t, err)
		s.See(tree, d.Now())
		if s.Settled(d.Now(), 150*time.Millisecond) {
			return tree
		}
		require.NoError(t, d.AwaitChange(ctx, tree.Revision, d.Now()+160*time.Millisecond))
	}
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	require.Fail(t, "it never comes to rest", "busy %v, waits for %v", tree.Busy, tree.Awaits)
	return nil
}

func locator(what string) screen.Locator {
	if id, ok := strings.CutPrefix(what, "#"); ok {
		return screen.Locator{ID: id}
	}
	return screen.Locator{Label: screen.Match{Text: what}}
}

func drawnTree(t *screen.Tree) string {
	var b strings.Builder
	t.Walk(func(n *screen.Node, depth int) bool {
		fmt.Fprintf(&b, "%*s%s #%s name=%q text=%q value=%q %v %v\n", 2*depth, "", n.Role, n.ID, n.Name, n.Text,
			n.Value, n.Visible, n.States(true))
		return true
	})
	return b.String()
}

func TestThePagesEyeIsAPersons(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	bodies := map[string]string{}
	for _, p := range eyePages {
		bodies[p.file()] = p.body
	}
	d := kaede(t)
	ctx := opened(t, d, pagesOf(t, bodies))
	for _, p := range eyePages {
		t.Run(p.name, func(t *testing.T) {
			tree := visited(t, ctx, d, p.file())
			for _, what := range p.shown {
				require.NotEmpty(t, tree.Shown(locator(what).Find(tree)), "%s is shown:\n%s", what, drawnTree(tree))
			}
			for _, what := range p.gone {
				require.Empty(t, tree.Shown(locator(what).Find(tree)), "%s is not shown:\n%s", what, drawnTree(tree))
			}
			for id, want := range p.content {
				nodes := locator(id).Find(tree)
				require.Len(t, nodes, 1, "%s:\n%s", id, drawnTree(tree))
				require.Equal(t, want, screen.Fold(nodes[0].Content()), "%s:\n%s", id, drawnTree(tree))
			}
			for id, want := range p.role {
				nodes := locator(id).Find(tree)
				require.Len(t, nodes, 1, "%s:\n%s", id, drawnTree(tree))
				require.Equal(t, want, nodes[0].Role, id)
			}
		})
	}
}
