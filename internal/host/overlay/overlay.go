// Package overlay lays out what a phone brings up over an app, and a browser that nobody looks at draws for nobody:
// the dialogs that pages open, questions for permissions, lists of options. Package sketch draws it.
package overlay

import (
	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
)

// Size is that of a screen, in dp.
type Size struct{ W, H float64 }

func (s Size) whole() screen.Rect { return screen.Rect{W: s.W, H: s.H} }

// place puts an element on the screen.
func (s Size) place(n *screen.Node, r screen.Rect) *screen.Node {
	n.Bounds, n.Visible = r, r.Intersect(s.whole())
	return n
}

// DialogID is the id of a dialog; its parts have ids that begin with it.
const DialogID = "browser-dialog"

// Dialog is one of a page's (alert, confirm, prompt, HTML 8.8.1; beforeunload, HTML 7.4.3.4). It is no part of the
// page, which stands still behind it.
type Dialog struct {
	Kind    string // alert, confirm, prompt or beforeunload
	Message string
	Entry   string // what is in the field of a prompt
}

// Node is the dialog as an element.
func (d Dialog) Node(s Size) *screen.Node {
	box := screen.Rect{X: 24, Y: s.H/2 - 90, W: s.W - 48, H: 180}
	out := s.place(&screen.Node{Role: "alertdialog", ID: DialogID, Opaque: true, Touch: true}, box)
	message, ok := d.Message, "OK"
	if d.Kind == "beforeunload" { // the words are the browser's own
		message, ok = "Leave this page? What was entered may not be kept.", "Leave"
	}
	out.Children = append(out.Children, s.place(&screen.Node{Text: plain.Text(message, 2000)},
		screen.Rect{X: box.X + 12, Y: box.Y + 12, W: box.W - 24, H: 60}))
	if d.Kind == "prompt" {
		out.Children = append(out.Children, s.place(&screen.Node{Role: "textbox", ID: DialogID + "-field",
			Value: d.Entry, Focused: true, Touch: true}, screen.Rect{X: box.X + 12, Y: box.Y + 80, W: box.W - 24, H: 36}))
	}
	yes := screen.Rect{X: box.X + box.W - 92, Y: box.Y + 128, W: 80, H: 40}
	if d.Kind != "alert" {
		out.Children = append(out.Children, s.place(&screen.Node{Role: "button", ID: DialogID + "-cancel", Text: "Cancel",
			Touch: true, Opaque: true}, screen.Rect{X: box.X + 12, Y: yes.Y, W: 80, H: 40}))
	}
	out.Children = append(out.Children, s.place(&screen.Node{Role: "button", ID: DialogID + "-ok", Text: ok, Touch: true,
		Opaque: true}, yes))
	return out
}

// Touched tells what a touch on the dialog answers: whether it is answered, and whether with yes.
func (d Dialog) Touched(s Size, at screen.Point) (yes, answered bool) {
	for _, n := range d.Node(s).Children {
		if n.Visible.Contains(at) && n.Role == "button" {
			return n.ID == DialogID+"-ok", true
		}
	}
	return false, false
}

const questionID = "browser-question"

// Question asks whether an app may have a permission.
type Question struct {
	App        string // as it is called
	Permission string
}

// Node is the question as an element over the whole screen, which takes all touches.
func (q Question) Node(s Size) *screen.Node {
	box := screen.Rect{X: max(16, (s.W-340)/2), Y: max(0, s.H/2-92), W: min(s.W-32, 340), H: 184}
	button := func(id, text string, y float64) *screen.Node {
		return s.place(&screen.Node{Role: "button", ID: questionID + id, Text: text, Touch: true, Opaque: true},
			screen.Rect{X: box.X + 16, Y: box.Y + y, W: box.W - 32, H: 42})
	}
	title := "Allow “" + q.App + "” to " + device.Purposes[q.Permission] + "?"
	dialog := s.place(&screen.Node{Role: "alertdialog", ID: questionID, Name: title, Opaque: true, Touch: true}, box)
	dialog.Children = []*screen.Node{s.place(&screen.Node{Text: title}, screen.Rect{X: box.X + 12, Y: box.Y + 12,
		W: box.W - 24, H: 58}),
		button("-allow", "Allow", 78), button("-deny", "Don’t allow", 128)}
	return s.place(&screen.Node{Touch: true, Children: []*screen.Node{dialog}}, s.whole())
}

// Touched gives the answer that a touch gives, "" for none.
func (q Question) Touched(s Size, at screen.Point) (answer string) {
	for _, n := range q.Node(s).Children[0].Children {
		if n.Visible.Contains(at) {
			answer = map[string]string{questionID + "-allow": device.Allow, questionID + "-deny": device.Deny}[n.ID]
		}
	}
	return answer
}
