package inpage

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
)

// Page is a page with look.js in the worlds of its documents.
type Page interface {
	// AskAt evaluates an expression in the world of look.js at a place, and gives the text that comes of it. It gives
	// ErrFrameGone where a frame has no document any more.
	AskAt(ctx context.Context, in Place, expression string) (string, error)
	// Names has the browser itself be asked for roles and names at a place from now on, where it can be.
	Names(ctx context.Context, in Place) error
	// FrameNumbered gives the place of a frame by the number that the document about it has for it.
	FrameNumbered(ctx context.Context, in Place, number int) (Place, bool)
}

// Place is where an expression is evaluated: a frame, "" for the page's own document.
type Place struct{ Frame string }

// ErrFrameGone tells that a frame has no document to be asked any more.
var ErrFrameGone = errors.New("the frame is gone")

// Document is what is known of one of a page's documents, as look.js told it: the main one, with all that
// can be read from there, or that of a frame which cannot.
type Document struct {
	moment   string // of the document that was read last
	inPage   uint64 // its revision
	began    bool   // something of it is known
	Rows     []Row  // what it told of itself, an element each
	Zoom     float64
	Layout   int // how wide a phone lays the document out, in CSS pixels; 0 for as wide as the screen
	Title    string
	Busy     bool          // it says so, or is not all there
	Calm     bool          // it says that nothing is awaited
	Rests    time.Duration // for how long nothing of it changes by itself, as far as it can be known
	Offers   *Offer
	InFrames map[int]*Document // by the numbers of the frames in it
}

// Row is an element as look.js tells it, without what is in it.
type Row struct {
	depth int
	Node  screen.Node
	frame int         // the number of a frame whose document is told by itself, 0 for none
	room  screen.Rect // where that is drawn
}

// errMissed tells that what was told does not go on from what is known of the page.
var errMissed = errors.New("the screen cannot be read: something of it was missed")

// Look reads a document: what differs from what it told before. It tells whether anything does.
func (doc *Document) Look(ctx context.Context, p Page, in Place) (changed bool, err error) {
	text, err := p.AskAt(ctx, in, "yamatoLook("+afresh(!doc.began)+")")
	if err != nil {
		return false, err
	}
	changed, wants, err := doc.read(text)
	if errors.Is(err, errMissed) { // all of it, then
		doc.began = false
		if text, err = p.AskAt(ctx, in, "yamatoLook(true)"); err == nil {
			changed, wants, err = doc.read(text)
		}
	}
	if err != nil || !wants {
		return changed, err
	}
	if err := p.Names(ctx, in); err != nil {
		return false, err
	}
	doc.began = false
	if text, err = p.AskAt(ctx, in, "yamatoAsks() + yamatoLook(true)"); err != nil {
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
func (doc *Document) read(text string) (changed, wants bool, err error) {
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
		Layout   int               `json:"layout"`
		Title    string            `json:"title"`
		Picker   *Offer            `json:"picker"`
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
	doc.Busy, doc.Calm, doc.Rests = in.Busy, in.Calm, time.Duration(in.Rests)*time.Millisecond
	if in.Same {
		if !doc.began || in.Moment != doc.moment || in.Revision != doc.inPage {
			return false, false, errMissed
		}
		return false, in.Wants, nil
	}
	if in.Had == 0 {
		doc.Rows = nil
	}
	if in.Had != len(doc.Rows) || in.From < 0 || in.From > in.Until || in.Until > in.Had ||
		in.Had > 0 && (!doc.began || in.Moment != doc.moment || in.Revision != doc.inPage+1) {
		return false, false, errMissed
	}
	rows := make([]Row, 0, len(doc.Rows)+len(in.Elements))
	rows = append(rows, doc.Rows[:in.From]...)
	for _, raw := range in.Elements {
		r, err := told(raw)
		if err != nil {
			return false, false, fmt.Errorf("the screen cannot be read: %w", err)
		}
		rows = append(rows, r)
	}
	doc.Rows = append(rows, doc.Rows[in.Until:]...)
	doc.began, doc.moment, doc.inPage = true, in.Moment, in.Revision
	if doc.Zoom = in.Zoom; doc.Zoom <= 0 {
		doc.Zoom = 1
	}
	doc.Layout = max(0, min(in.Layout, 10_000))
	doc.Title, doc.Offers = plain.Text(in.Title, 500), in.Picker
	return true, in.Wants, nil
}

func told(raw json.RawMessage) (r Row, err error) {
	var flags int
	n := &r.Node
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

// maxFramesDeep bounds frames in frames whose documents are told by themselves, and MaxRows the elements of
// all documents.
const (
	maxFramesDeep = 5
	MaxRows       = 40_000
)

// LookInto reads the documents of frames that cannot be read from the document about them.
func (doc *Document) LookInto(ctx context.Context, p Page, in Place, deep int) (changed bool, err error) {
	there := map[int]*Document{}
	for _, r := range doc.Rows {
		if r.frame == 0 || deep >= maxFramesDeep {
			continue
		}
		where, ok := p.FrameNumbered(ctx, in, r.frame)
		if !ok {
			continue // it has no document yet
		}
		inner := doc.InFrames[r.frame]
		if inner == nil {
			inner = &Document{}
		}
		there[r.frame] = inner
		was, err := inner.Look(ctx, p, where)
		if err == nil {
			var more bool
			more, err = inner.LookInto(ctx, p, where, deep+1)
			was = was || more
		}
		if errors.Is(err, ErrFrameGone) { // what is in it is seen once it is there
			was = inner.began
			*inner = Document{}
		} else if err != nil {
			return false, err
		}
		changed = changed || was
	}
	changed = changed || len(there) != len(doc.InFrames)
	doc.InFrames = there
	return changed, nil
}

// Lay puts what is known of a document, and of those in its frames, into a tree below a node.
func (doc *Document) Lay(below *screen.Node, to func(screen.Node) *screen.Node) {
	path := []*screen.Node{below}
	for _, r := range doc.Rows {
		path = path[:max(1, min(r.depth, len(path)))]
		parent := path[len(path)-1]
		n := to(r.Node)
		if n == nil {
			return
		}
		parent.Children = append(parent.Children, n)
		path = append(path, n)
		if inner := doc.InFrames[r.frame]; inner != nil && inner.began {
			clip := r.room.Intersect(n.Visible)
			scale := doc.Zoom
			inner.Lay(n, func(in screen.Node) *screen.Node {
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

// Forget has the document be read as a whole when it is looked at next.
func (doc *Document) Forget() { doc.began = false }
