package handset

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/dom"
	"github.com/chromedp/cdproto/runtime"

	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
)

// document is what is known of one of a page's documents, as look.js told it: the main one, with all that
// can be read from there, or that of a frame which cannot.
type document struct {
	moment   string // of the document that was read last
	inPage   uint64 // its revision
	began    bool   // something of it is known
	rows     []row  // what it told of itself, an element each
	zoom     float64
	title    string
	busy     bool          // it says so, or is not all there
	calm     bool          // it says that nothing is awaited
	rests    time.Duration // for how long nothing of it changes by itself, as far as it can be known
	offers   *offer
	inFrames map[int]*document // by the numbers of the frames in it
}

// row is an element as look.js tells it, without what is in it.
type row struct {
	depth int
	node  screen.Node
	frame int         // the number of a frame whose document is told by itself, 0 for none
	room  screen.Rect // where that is drawn
}

// errMissed tells that what was told does not go on from what is known of the page.
var errMissed = errors.New("the screen cannot be read: something of it was missed")

// look reads a document: what differs from what it told before. It tells whether anything does.
func (doc *document) look(ctx context.Context, t *tab, in place) (changed bool, err error) {
	text, err := t.askAt(ctx, in, "yamatoLook("+afresh(!doc.began)+")")
	if err != nil {
		return false, err
	}
	changed, wants, err := doc.read(text)
	if errors.Is(err, errMissed) { // all of it, then
		doc.began = false
		if text, err = t.askAt(ctx, in, "yamatoLook(true)"); err == nil {
			changed, wants, err = doc.read(text)
		}
	}
	if err != nil || !wants {
		return changed, err
	}
	// From here on the browser keeps its accessibility tree, and is asked for roles and names.
	on := t.session(in).On(ctx)
	if err := accessibility.Enable().Do(on); err != nil {
		return false, lost(err)
	}
	if _, err := accessibility.GetRootAXNode().Do(on); err != nil { // it is made when it is first looked at
		return false, lost(err)
	}
	doc.began = false
	if text, err = t.askAt(ctx, in, "yamatoAsks() + yamatoLook(true)"); err != nil {
		return false, err
	}
	changed, _, err = doc.read(text)
	return changed, err
}

func afresh(yes bool) string {
	if yes {
		return "true"
	}
	return ""
}

// read takes in what look.js found, which tells what differs from what it told before.
func (doc *document) read(text string) (changed, wants bool, err error) {
	var in struct {
		Moment   string            `json:"moment"`
		Revision uint64            `json:"revision"`
		Busy     bool              `json:"busy"`
		Calm     bool              `json:"calm"`
		Rests    int64             `json:"rests"`
		Same     bool              `json:"same"`
		Wants    bool              `json:"wants"`
		Early    bool              `json:"early"` // nothing was read yet: the browser is to be asked first
		Zoom     float64           `json:"zoom"`
		Title    string            `json:"title"`
		Picker   *offer            `json:"picker"`
		Had      int               `json:"had"`   // elements that were told before
		From     int               `json:"from"`  // of those, the first that is another
		Until    int               `json:"until"` // and the first after it that is the same again
		Elements []json.RawMessage `json:"elements"`
	}
	if err := json.Unmarshal([]byte(text), &in); err != nil {
		return false, false, fmt.Errorf("the screen cannot be read: %w", err)
	}
	if in.Early {
		return false, true, nil
	}
	doc.busy, doc.calm, doc.rests = in.Busy, in.Calm, time.Duration(in.Rests)*time.Millisecond
	if in.Same {
		if !doc.began || in.Moment != doc.moment || in.Revision != doc.inPage {
			return false, false, errMissed
		}
		return false, in.Wants, nil
	}
	if in.Had == 0 {
		doc.rows = nil
	}
	if in.Had != len(doc.rows) || in.From < 0 || in.From > in.Until || in.Until > in.Had ||
		in.Had > 0 && (!doc.began || in.Moment != doc.moment || in.Revision != doc.inPage+1) {
		return false, false, errMissed
	}
	rows := make([]row, 0, len(doc.rows)+len(in.Elements))
	rows = append(rows, doc.rows[:in.From]...)
	for _, raw := range in.Elements {
		r, err := told(raw)
		if err != nil {
			return false, false, fmt.Errorf("the screen cannot be read: %w", err)
		}
		rows = append(rows, r)
	}
	doc.rows = append(rows, doc.rows[in.Until:]...)
	doc.began, doc.moment, doc.inPage = true, in.Moment, in.Revision
	if doc.zoom = in.Zoom; doc.zoom <= 0 {
		doc.zoom = 1
	}
	doc.title, doc.offers = plain.Text(in.Title, 500), in.Picker
	return true, in.Wants, nil
}

func told(raw json.RawMessage) (r row, err error) {
	var flags int
	n := &r.node
	b, v, in := &n.Bounds, &n.Visible, &r.room
	err = json.Unmarshal(raw, &[]any{&r.depth, &n.Role, &n.ID, &n.Name, &n.Text, &n.Value, &b.X, &b.Y, &b.W, &b.H, &v.X,
		&v.Y, &v.W, &v.H, &flags, &n.Checked, &r.frame, &in.X, &in.Y, &in.W, &in.H})
	n.Disabled, n.Focused, n.Selected, n.Busy = flags&1 != 0, flags&2 != 0, flags&4 != 0, flags&8 != 0
	n.Opaque, n.Touch, n.Partly = flags&16 != 0, flags&32 != 0, flags&64 != 0
	switch {
	case flags&128 != 0:
		n.Unsure = "what is on it is drawn, and known only by what the app tells of it"
	case flags&256 != 0:
		n.Unsure = "it is faint, or something half clear lies over it"
	}
	for _, s := range []*string{&n.Role, &n.ID, &n.Name, &n.Text, &n.Value} {
		*s = plain.Text(*s, 8000)
	}
	return r, err
}

// maxFramesDeep bounds frames in frames whose documents are told by themselves, and maxRows the elements of
// all documents.
const (
	maxFramesDeep = 5
	maxRows       = 40_000
)

// lookInto reads the documents of frames that cannot be read from the document about them.
func (doc *document) lookInto(ctx context.Context, t *tab, in place, deep int) (changed bool, err error) {
	there := map[int]*document{}
	for _, r := range doc.rows {
		if r.frame == 0 || deep >= maxFramesDeep {
			continue
		}
		where, ok := t.frameNumbered(ctx, in, r.frame)
		if !ok {
			continue // it has no document yet
		}
		inner := doc.inFrames[r.frame]
		if inner == nil {
			inner = &document{}
		}
		there[r.frame] = inner
		was, err := inner.look(ctx, t, where)
		if err == nil {
			var more bool
			more, err = inner.lookInto(ctx, t, where, deep+1)
			was = was || more
		}
		if errors.Is(err, errFrameGone) { // what is in it is seen once it is there
			was = inner.began
			*inner = document{}
		} else if err != nil {
			return false, err
		}
		changed = changed || was
	}
	changed = changed || len(there) != len(doc.inFrames)
	doc.inFrames = there
	return changed, nil
}

// place is where an expression is evaluated: a frame, "" for the page's own document.
type place struct{ frame string }

// lay puts what is known of a document, and of those in its frames, into a tree below a node.
func (doc *document) lay(below *screen.Node, to func(screen.Node) *screen.Node) {
	path := []*screen.Node{below}
	for _, r := range doc.rows {
		path = path[:max(1, min(r.depth, len(path)))]
		parent := path[len(path)-1]
		n := to(r.node)
		if n == nil {
			return
		}
		parent.Children = append(parent.Children, n)
		path = append(path, n)
		if inner := doc.inFrames[r.frame]; inner != nil && inner.began {
			clip := r.room.Intersect(n.Visible)
			scale := doc.zoom
			inner.lay(n, func(in screen.Node) *screen.Node {
				in.Bounds = moved(in.Bounds, r.room, scale)
				in.Visible = moved(in.Visible, r.room, scale).Intersect(clip)
				return to(in)
			})
		}
	}
}

func moved(r, to screen.Rect, scale float64) screen.Rect {
	return screen.Rect{X: to.X + r.X*scale, Y: to.Y + r.Y*scale, W: r.W * scale, H: r.H * scale}
}

// frameNumbered gives the place of a frame by the number that a document has for it.
func (t *tab) frameNumbered(ctx context.Context, in place, number int) (place, bool) {
	t.mu.Lock()
	var unknown []string
	for id, f := range t.frames {
		if f.context == 0 || f.within != in.frame && f.number != 0 {
			continue
		}
		if f.number == number && f.within == in.frame {
			t.mu.Unlock()
			return place{id}, true
		}
		if f.number == 0 {
			unknown = append(unknown, id)
		}
	}
	where, known := t.contextAt(in)
	t.mu.Unlock()
	if !known {
		return place{}, false
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
			f.number, f.within = n, in.frame
		}
		t.mu.Unlock()
		if n == number {
			return place{id}, true
		}
	}
	return place{}, false
}
