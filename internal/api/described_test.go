package api

import (
	"reflect"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"

	"yamato/internal/api/watch"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/link"
	"yamato/internal/service/sessions"
)

// What the contract says of a failure, of a session's socket and of a console's stream is what is written there: neither
// has a field that the other does not know.
func TestWhatIsWrittenByHandIsDescribedAsItIs(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	schemas := doc.Components.Schemas
	failure := schemas["Failure"].Value
	for _, is := range []struct {
		schema *openapi3.Schema
		of     reflect.Type
	}{
		{failure, reflect.TypeFor[script.Failure]()},
		{schemas["Place"].Value, reflect.TypeFor[script.Place]()},
		{schemas["DifferencePiece"].Value, reflect.TypeFor[script.Piece]()},
		{failure.Properties["values"].Value.Items.Value, reflect.TypeFor[script.Named]()},
		{failure.Properties["log"].Value.Items.Value, reflect.TypeFor[device.LogLine]()},
		{schemas["LogLine"].Value, reflect.TypeFor[device.LogLine]()},
		{schemas["LiveSaid"].Value, reflect.TypeFor[sessions.Said]()},
		{schemas["LiveSize"].Value, reflect.TypeFor[link.Size]()},
		{schemas["LiveOrder"].Value, reflect.TypeFor[link.Order]()},
		{schemas["LiveTouch"].Value, reflect.TypeFor[link.Touch]()},
		{schemas["LiveAnswer"].Value, reflect.TypeFor[link.Answer]()},
		{schemas["ElementCard"].Value, reflect.TypeFor[link.Card]()},
		{schemas["Rect"].Value, reflect.TypeFor[screen.Rect]()},
		{schemas["ScreenTree"].Value, reflect.TypeFor[screen.Tree]()},
		{schemas["ScreenNode"].Value, reflect.TypeFor[screen.Node]()},
		{schemas["LiveStatus"].Value, reflect.TypeFor[link.Status]()},
		{schemas["LivePrepStep"].Value, reflect.TypeFor[link.PrepStep]()},
		{schemas["LiveApp"].Value, reflect.TypeFor[link.OnDevice]()},
		{schemas["LiveFelt"].Value, reflect.TypeFor[link.Felt]()},
		{schemas["LiveEntry"].Value, reflect.TypeFor[link.Entry]()},
		{schemas["LiveView"].Value, reflect.TypeFor[sessions.View]()},
		{schemas["LiveHands"].Value, reflect.TypeFor[sessions.Hands]()},
		{schemas["FleetNews"].Value, reflect.TypeFor[watch.FleetNews]()},
		{schemas["RunsNews"].Value, reflect.TypeFor[watch.RunsNews]()},
		{schemas["EventNews"].Value, reflect.TypeFor[watch.EventNews]()},
		{schemas["LibraryNews"].Value, reflect.TypeFor[watch.LibraryNews]()},
	} {
		fields, always := written(is.of)
		require.ElementsMatch(t, fields, properties(is.schema), is.of.Name())
		require.ElementsMatch(t, always, is.schema.Required, is.of.Name())
	}
	// the service adds what it knows of a session to what its host tells
	told, _ := written(reflect.TypeFor[link.Told]())
	require.ElementsMatch(t, append(told, "session", "hand"), properties(schemas["LiveTold"].Value))
}

// written gives the fields that a type is written with, and those that are always there.
func written(of reflect.Type) (fields, always []string) {
	for _, f := range reflect.VisibleFields(of) {
		name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "-" || name == "" {
			continue
		}
		fields = append(fields, name)
		if rest == "" {
			always = append(always, name)
		}
	}
	return fields, always
}

func properties(s *openapi3.Schema) (fields []string) {
	for name := range s.Properties {
		fields = append(fields, name)
	}
	return fields
}

// The contract names every kind of problem that there is, and no other.
func TestEveryKindOfProblemIsNamed(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	var kinds []any
	for kind := range statuses {
		kinds = append(kinds, "yamato:"+string(kind))
	}
	require.ElementsMatch(t, kinds, doc.Components.Schemas["Problem"].Value.Properties["type"].Value.Enum)
}
