package android

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
)

// Bounds of a dump of the screen.
const (
	maxDump  = 16 << 20 // bytes
	maxNodes = 20_000
	maxDeep  = 200
	maxText  = 20_000 // bytes of one text
)

// roles are the WAI-ARIA roles of the OS's views, by the last part of their class.
var roles = map[string]string{"Button": "button", "ImageButton": "button", "EditText": "textbox", "AutoCompleteTextView": "textbox",
	"CheckBox": "checkbox", "Switch": "switch", "ToggleButton": "switch", "RadioButton": "radio", "RadioGroup": "radiogroup",
	"ImageView": "img", "SeekBar": "slider", "ProgressBar": "progressbar", "Spinner": "combobox", "ListView": "list",
	"RecyclerView": "list", "GridView": "list", "TabWidget": "tablist", "ActionBar$Tab": "tab", "NumberPicker": "spinbutton", "CheckedTextView": "option"}

// errDump is given where the tool that dumps the screen gave no dump: the screen keeps moving, or the tool is busy.
var errDump = errors.New("the screen could not be read: it keeps moving, or another tool reads it")

// readDump reads the accessibility tree of a screen as the OS's own tool writes it, with what the tool says around it.
// scale is how many pixels a density-independent pixel has.
// quarters is how often the screen is turned by 90 degrees.
func readDump(text []byte, scale float64) (tree *screen.Tree, quarters int, err error) {
	from := bytes.Index(text, []byte("<?xml"))
	to := bytes.LastIndex(text, []byte("</hierarchy>"))
	if from < 0 || to < from {
		return nil, 0, errDump
	}
	if text = text[from : to+len("</hierarchy>")]; len(text) > maxDump {
		return nil, 0, fmt.Errorf("the phone's screen is told in %d MB, and at most %d are read", len(text)>>20, maxDump>>20)
	}
	in := xml.NewDecoder(bytes.NewReader(text))
	tree = &screen.Tree{Root: &screen.Node{Role: "application"}}
	path := []*screen.Node{tree.Root}
	count := 0
	for {
		token, err := in.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, 0, fmt.Errorf("%w: %w", errDump, err)
		}
		switch e := token.(type) {
		case xml.StartElement:
			if e.Name.Local == "hierarchy" {
				quarters = turnedBy(e.Attr)
			}
			if e.Name.Local != "node" {
				continue
			}
			if count++; count > maxNodes || len(path) > maxDeep {
				return nil, 0, fmt.Errorf("the phone's screen has more than %d elements, or they lie more than %d deep", maxNodes, maxDeep)
			}
			n, pack, err := nodeOf(e.Attr, scale)
			if err != nil {
				return nil, 0, err
			}
			if tree.App == "" {
				tree.App = pack
			}
			at := path[len(path)-1]
			at.Children = append(at.Children, n)
			path = append(path, n)
		case xml.EndElement:
			if e.Name.Local == "node" {
				items(path[len(path)-1])
				path = path[:len(path)-1]
			}
		}
	}
	return tree, quarters, nil
}

// items has what a list holds be its items, where it is nothing else: the dump tells of no class that says so.
func items(list *screen.Node) {
	if list.Role != "list" {
		return
	}
	for _, n := range list.Children {
		if n.Role == "" {
			n.Role = "listitem"
		}
	}
}

func turnedBy(attributes []xml.Attr) int {
	for _, a := range attributes {
		if a.Name.Local == "rotation" && len(a.Value) == 1 && a.Value[0] >= '0' && a.Value[0] <= '3' {
			return int(a.Value[0] - '0')
		}
	}
	return 0
}

// systems are the packages whose windows come over an app's: questions about permissions, installing, and the system's own.
var systems = []string{"android", "com.android.permissioncontroller", "com.google.android.permissioncontroller",
	"com.android.packageinstaller", "com.google.android.packageinstaller", "com.android.systemui"}

// inSystem tells whether what is in front is a window of the system's that stands over an app.
func inSystem(app string) bool { return slices.Contains(systems, app) }

func nodeOf(attributes []xml.Attr, scale float64) (n *screen.Node, pack string, err error) {
	n = &screen.Node{}
	checkable, checked := false, false
	for _, a := range attributes {
		value := plain.Text(a.Value, maxText)
		yes := value == "true"
		switch a.Name.Local {
		case "text":
			n.Text = value
		case "content-desc":
			n.Name = value
		case "resource-id":
			_, n.ID, _ = strings.Cut(value, ":id/")
		case "class":
			n.Role = roles[value[strings.LastIndex(value, ".")+1:]]
		case "package":
			pack = value
		case "checkable":
			checkable = yes
		case "checked":
			checked = yes
		case "clickable", "long-clickable":
			n.Touch = n.Touch || yes
		case "enabled":
			n.Disabled = !yes
		case "focused":
			n.Focused = yes
		case "selected":
			n.Selected = yes
		case "bounds":
			if n.Bounds, err = bounds(value, scale); err != nil {
				return nil, "", err
			}
			n.Visible = n.Bounds
		}
	}
	if checkable {
		n.Checked = strconv.FormatBool(checked)
	}
	if n.Role == "textbox" {
		n.Text, n.Value = "", n.Text
	}
	return n, pack, nil
}

// farthest bounds places on a screen, in pixels.
const farthest = 100_000

// bounds reads "[0,84][1080,210]": left, top, right and bottom in pixels.
func bounds(text string, scale float64) (screen.Rect, error) {
	var at [4]int
	for i, part := range strings.FieldsFunc(text, func(r rune) bool { return r == '[' || r == ']' || r == ',' }) {
		n, err := strconv.Atoi(part)
		if i > 3 || err != nil || n < -farthest || n > farthest {
			return screen.Rect{}, fmt.Errorf("%w: a place on it is %q", errDump, text)
		}
		at[i] = n
	}
	f := func(n int) float64 { return float64(n) / scale }
	return screen.Rect{X: f(at[0]), Y: f(at[1]), W: f(max(0, at[2]-at[0])), H: f(max(0, at[3]-at[1]))}, nil
}
