package api

import (
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/script"
)

// What the contract says of a failure is what the runner makes of one: neither has a field that the other does not know.
func TestAFailureIsDescribedAsItIs(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	failure := doc.Components.Schemas["Failure"].Value
	for _, is := range []struct {
		schema *openapi3.Schema
		of     reflect.Type
	}{
		{failure, reflect.TypeFor[script.Failure]()},
		{doc.Components.Schemas["Place"].Value, reflect.TypeFor[script.Place]()},
		{doc.Components.Schemas["DifferencePiece"].Value, reflect.TypeFor[script.Piece]()},
		{failure.Properties["values"].Value.Items.Value, reflect.TypeFor[script.Named]()},
		{failure.Properties["log"].Value.Items.Value, reflect.TypeFor[device.LogLine]()},
	} {
		var fields, always, described []string
		for _, f := range reflect.VisibleFields(is.of) {
			name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
			if name == "-" || name == "" {
				continue
			}
			fields = append(fields, name)
			if rest == "" {
				always = append(always, name)
			}
		}
		for name := range is.schema.Properties {
			described = append(described, name)
		}
		slices.Sort(described)
		slices.Sort(fields)
		require.Equal(t, fields, described, is.of.Name())
		require.ElementsMatch(t, always, is.schema.Required, is.of.Name())
	}
}
