package document

import (
	"testing"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/stretchr/testify/require"
)

type ship struct {
	Name  string `yaml:"name"`
	Decks int    `yaml:"decks"`
}

// body gives what a document holds.
func body(t *testing.T, text string) ast.Node {
	t.Helper()
	f, err := parser.ParseBytes([]byte(text), 0)
	require.NoError(t, err)
	return f.Docs[0].Body
}

func TestAPartIsReadByWhoKnowsWhatItMayHold(t *testing.T) {
	var s ship
	parts, err := Split(body(t, "name: Tobi\nengine: {power: 800, fuel: oil}\ndecks: 3\n"), &s)
	require.NoError(t, err)
	require.Equal(t, ship{"Tobi", 3}, s)
	require.Len(t, parts, 1)
	var engine struct {
		Power int    `yaml:"power"`
		Fuel  string `yaml:"fuel"`
	}
	require.NoError(t, parts["engine"].Read(&engine))
	require.Equal(t, 800, engine.Power)
	require.NoError(t, Part{}.Read(&engine), "what is not there says nothing")

	parts, err = Split(body(t, "name: Tobi\nengine:\n  power: much\n"), &s)
	require.NoError(t, err)
	require.ErrorContains(t, parts["engine"].Read(&engine), "line 3: a whole number is needed here")
	parts, err = Split(body(t, "name: Tobi\nengine:\n  pwoer: 3\n"), &s)
	require.NoError(t, err)
	require.ErrorContains(t, parts["engine"].Read(&engine), "did you mean `power`?")
}

func TestAPartThatNobodyKnowsIsRefusedWithTheOneThatWasMeant(t *testing.T) {
	var s ship
	parts, err := Split(body(t, "name: Tobi\nengien: {}\n"), &s)
	require.NoError(t, err)
	require.NoError(t, Only(parts, &s, "engien"))
	require.EqualError(t, Only(parts, &s, "engine"), "line 2: there is no `engien`; did you mean `engine`?")
	parts, err = Split(body(t, "nmae: Tobi\n"), &s)
	require.NoError(t, err)
	require.ErrorContains(t, Only(parts, &s, "engine"), "did you mean `name`?")
	parts, err = Split(body(t, "weather: fair\n"), &s)
	require.NoError(t, err)
	require.EqualError(t, Only(parts, &s), "line 1: there is no `weather`")
}

func TestAMappingOfOneLineIsOneToo(t *testing.T) {
	var s ship
	parts, err := Split(body(t, "decks: 2"), &s)
	require.NoError(t, err)
	require.Empty(t, parts)
	require.Equal(t, 2, s.Decks)
	_, err = Split(body(t, "[1, 2]"), &s)
	require.Error(t, err, "a list is no mapping")
}
