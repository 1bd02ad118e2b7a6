package views

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"yamato/internal/contract"
	"yamato/internal/core/evidence"
	"yamato/internal/core/screen"
	"yamato/internal/core/script/suggest"
	"yamato/internal/service/base"
	"yamato/internal/service/care"
	"yamato/internal/store"
)

// SeeScreen gives what is on a device's screen at this moment.
func (s *Part) SeeScreen(ctx context.Context, c base.Caller, device string) (contract.Screen, error) {
	seen, err := s.care.Sight(ctx, c, device)
	if err != nil {
		return contract.Screen{}, err
	}
	return s.screenOut(ctx, seen)
}

func (s *Part) screenOut(ctx context.Context, seen store.Sighting) (contract.Screen, error) {
	out := contract.Screen{Device: seen.Device, At: *seen.DoneAt}
	var err error
	if out.Picture, err = s.readBlob(ctx, seen.Picture); err != nil {
		return out, err
	}
	body, err := s.readBlob(ctx, seen.Tree)
	if err != nil {
		return out, err
	}
	var tree screen.Tree
	if err := json.Unmarshal(body, &tree); err != nil {
		return out, fmt.Errorf("the screen tree of %s cannot be read: %w", seen.Device, err)
	}
	if err := json.Unmarshal(body, &out.Tree); err != nil {
		return out, err
	}
	if tree.App != "" {
		out.App = &tree.App
	}
	out.Elements = Elements(&tree)
	return out, nil
}

// ElementsOf lists the elements of a screen tree that was kept as evidence.
func (s *Part) ElementsOf(ctx context.Context, c base.Caller, number, id int64) ([]contract.Element, error) {
	e, err := s.Store.EvidenceNumbered(ctx, c.ProjectID, number, id)
	if err != nil {
		return nil, base.NotThere(err, "list its evidence", "run %d has no evidence %d", number, id)
	}
	if e.Sort != evidence.Tree.Name {
		return nil, base.NotFound(fmt.Sprintf("evidence %d is a %s, no screen tree", id, e.Sort),
			"choose one of sort tree")
	}
	body, err := s.readBlob(ctx, e.Digest)
	if err != nil {
		return nil, err
	}
	var tree screen.Tree
	if err := json.Unmarshal(body, &tree); err != nil {
		return nil, base.Invalid("this screen tree cannot be read: "+err.Error(), "")
	}
	return Elements(&tree), nil
}

func (s *Part) readBlob(ctx context.Context, digest string) ([]byte, error) {
	f, err := s.Blobs.Open(ctx, digest)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, care.MaxSight))
}

// maxElements bounds what is told of one screen.
const maxElements = 20_000

// Elements lists the elements of a tree, parents before children, with the
// locators and lines of script that find each of them alone.
func Elements(t *screen.Tree) []contract.Element {
	out := []contract.Element{}
	var all []*screen.Node
	t.Walk(func(n *screen.Node, _ int) bool {
		all = append(all, n)
		return len(all) < maxElements
	})
	shown := map[*screen.Node]bool{}
	for _, n := range t.Shown(all) {
		shown[n] = true
	}
	t.Walk(func(n *screen.Node, depth int) bool {
		e := contract.Element{Role: n.Role, Label: base.Short(screen.Fold(n.Content()), 200), Depth: depth,
			Bounds: contract.Rect{X: float32(n.Bounds.X), Y: float32(n.Bounds.Y), W: float32(n.Bounds.W),
				H: float32(n.Bounds.H)},
			Visible: contract.Rect{X: float32(n.Visible.X), Y: float32(n.Visible.Y), W: float32(n.Visible.W),
				H: float32(n.Visible.H)}, States: n.States(shown[n]), Locators: []string{}, Lines: []string{}}
		if n.ID != "" {
			e.Id = &n.ID
		}
		if n.Label() == "" && (n.Role == "" || n.Role == "application" || len(e.Label) > 90) {
			e.Label = "" // it only holds others, and those say it themselves
		}
		if len(all) <= screen.MaxSuggested {
			if locators, lines := suggest.For(t, n); len(locators) > 0 {
				e.Locators, e.Lines = locators, lines
			}
		}
		out = append(out, e)
		return len(out) < maxElements
	})
	return out
}
