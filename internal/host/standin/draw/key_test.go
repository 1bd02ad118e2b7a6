package draw

import (
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
)

// unseen are the fields of an element that change nothing that is drawn of it.
var unseen = []string{"Kids", "Tap", "Input", "Enter", "Hold", "Twice", "Swipe", "Pinch", "Drop", "Drag"}

// A field that is forgotten would have another picture be taken for this one.
func TestAPictureIsKnownByAllThatIsSeenOfIt(t *testing.T) {
	key := func(e Element) string {
		return Picture{Scene: &Scene{Tree: &screen.Tree{Width: 9, Height: 9}, boxes: []box{{element: &e}}}, Scale: 1}.Key()
	}
	usual := key(Element{})
	require.Equal(t, usual, key(Element{}))
	for _, f := range reflect.VisibleFields(reflect.TypeFor[Element]()) {
		var e Element
		set(reflect.ValueOf(&e).Elem().FieldByIndex(f.Index))
		if slices.Contains(unseen, f.Name) {
			require.Equal(t, usual, key(e), f.Name)
		} else {
			require.NotEqual(t, usual, key(e), f.Name)
		}
	}
}

func set(v reflect.Value) {
	switch into := v.Addr().Interface().(type) {
	case *string:
		*into = "x"
	case *bool:
		*into = true
	case *int:
		*into = 1
	case *float64:
		*into = 1
	case *lengths:
		into.left = 1
	case *tint:
		*into = Hex("#102030")
	case *[]*Element:
		*into = []*Element{{}}
	default:
		panic(v.Type().String())
	}
}
