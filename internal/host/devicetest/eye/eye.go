// Package eye holds pages with what a person sees of them, on which the eye of every driver of browsers is tried.
package eye

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// Page is one that is looked at: what is in its body, and what a person sees of it.
type Page struct {
	Name, Body  string
	Shown, Gone []string          // as scripts find them: #id, or a text
	Content     map[string]string // by #id
	Role        map[string]string
}

// ID is that of the app which the pages are in.
const ID = "example.eye"

// File is what the page is called in the app.
func (p Page) File() string {
	return strings.NewReplacer(" ", "-", ",", "", "'", "").Replace(p.Name)
}

// Files are an app of pages, each under its name.
func Files(bodies map[string]string) fstest.MapFS {
	files := fstest.MapFS{"manifest.webmanifest": {Data: []byte(`{"name": "Eye", "id": "example.eye", "start_url": "/", "version": "1.0+1"}`)}}
	for name, body := range bodies {
		files[name+".html"] = &fstest.MapFile{Data: []byte(`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><body style="margin:8px;font:16px sans-serif">` + body)}
	}
	if files["index.html"] == nil {
		files["index.html"] = &fstest.MapFile{Data: []byte("<!doctype html><p>Begin")}
	}
	return files
}

// All are the app of all pages.
func All() fstest.MapFS {
	bodies := map[string]string{}
	for _, p := range Pages {
		bodies[p.File()] = p.Body
	}
	return Files(bodies)
}

// Visited opens a page of the app in front and waits until it has come to rest.
func Visited(t *testing.T, ctx context.Context, d device.Device, name string) *screen.Tree {
	t.Helper()
	links, ok := device.As[device.Linking](d)
	require.True(t, ok)
	require.NoError(t, links.OpenLink(ctx, ID, "/"+name+".html"))
	return Rested(t, ctx, d)
}

// Rested waits until the screen has come to rest.
func Rested(t *testing.T, ctx context.Context, d device.Device) *screen.Tree {
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

// Locator finds as scripts do: #id, or a text.
func Locator(what string) screen.Locator {
	if id, ok := strings.CutPrefix(what, "#"); ok {
		return screen.Locator{ID: id}
	}
	return screen.Locator{Label: screen.Match{Text: what}}
}

// Drawn writes a screen as people read it.
func Drawn(t *screen.Tree) string {
	var b strings.Builder
	t.Walk(func(n *screen.Node, depth int) bool {
		fmt.Fprintf(&b, "%*s%s #%s name=%q text=%q value=%q %v %v\n", 2*depth, "", n.Role, n.ID, n.Name, n.Text,
			n.Value, n.Visible, n.States(true))
		return true
	})
	return b.String()
}

// Wrong tells what of a page is not seen as a person sees it.
func (p Page) Wrong(tree *screen.Tree) (out []string) {
	for _, what := range p.Shown {
		if len(tree.Shown(Locator(what).Find(tree))) == 0 {
			out = append(out, what+" is shown, and not seen")
		}
	}
	for _, what := range p.Gone {
		if len(tree.Shown(Locator(what).Find(tree))) > 0 {
			out = append(out, what+" is not shown, and seen")
		}
	}
	for id, want := range p.Content {
		nodes := Locator(id).Find(tree)
		if len(nodes) != 1 || screen.Fold(nodes[0].Content()) != want {
			out = append(out, fmt.Sprintf("%s does not read %q", id, want))
		}
	}
	for id, want := range p.Role {
		nodes := Locator(id).Find(tree)
		if len(nodes) != 1 || nodes[0].Role != want {
			out = append(out, fmt.Sprintf("%s is no %s", id, want))
		}
	}
	return out
}
