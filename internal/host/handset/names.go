package handset

import (
	"context"
	"encoding/json"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/dom"
	"github.com/chromedp/cdproto/runtime"

	"yamato/internal/host/inpage"
)

var _ inpage.Page = (*tab)(nil)

// Names has the browser keep its accessibility tree, and be asked for roles and names.
func (t *tab) Names(ctx context.Context, in inpage.Place) error {
	on := t.session(in).On(ctx)
	if err := accessibility.Enable().Do(on); err != nil {
		return lost(err)
	}
	_, err := accessibility.GetRootAXNode().Do(on) // it is made when it is first looked at
	return lost(err)
}

// FrameNumbered gives the place of a frame by the number that a document has for it.
func (t *tab) FrameNumbered(ctx context.Context, in inpage.Place, number int) (inpage.Place, bool) {
	t.mu.Lock()
	var unknown []string
	for id, f := range t.frames {
		if f.context == 0 || f.within != in.Frame && f.number != 0 {
			continue
		}
		if f.number == number && f.within == in.Frame {
			t.mu.Unlock()
			return inpage.Place{Frame: id}, true
		}
		if f.number == 0 {
			unknown = append(unknown, id)
		}
	}
	where, known := t.contextAt(in)
	t.mu.Unlock()
	if !known {
		return inpage.Place{}, false
	}
	session := t.session(in).On(ctx)
	for _, id := range unknown {
		owner, _, err := dom.GetFrameOwner(cdpFrame(id)).Do(session)
		if err != nil {
			continue // of another document
		}
		node, err := dom.ResolveNode().WithBackendNodeID(owner).WithExecutionContextID(where).Do(session)
		if err != nil || node.ObjectID == "" {
			continue
		}
		said, _, err := runtime.CallFunctionOn("function() { return yamatoFrame(this) }").WithObjectID(node.ObjectID).WithReturnByValue(true).Do(session)
		if err != nil || said == nil {
			continue
		}
		var n int
		if json.Unmarshal(said.Value, &n) != nil || n <= 0 {
			continue
		}
		t.mu.Lock()
		if f := t.frames[id]; f != nil {
			f.number, f.within = n, in.Frame
		}
		t.mu.Unlock()
		if n == number {
			return inpage.Place{Frame: id}, true
		}
	}
	return inpage.Place{}, false
}
