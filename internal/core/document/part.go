package document

import (
	"bytes"
	"fmt"
	"reflect"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"yamato/internal/core/near"
)

// Part is a part of a document that somebody else reads, who knows what it may hold.
type Part struct {
	key  string
	node ast.Node
}

// Read reads the part as Read reads a document.
func (p Part) Read(into any) error {
	if p.node == nil {
		return nil
	}
	return clip(words(decode(p.node, into), into))
}

func decode(node ast.Node, into any) error {
	return yaml.NewDecoder(&bytes.Buffer{}, yaml.Strict()).DecodeFromNode(node, into)
}

// Split reads a mapping into a pointer to a struct, and gives the parts that the struct
// has no field for, by their keys.
func Split(node ast.Node, into any) (map[string]Part, error) {
	var values []*ast.MappingValueNode
	whole, ok := node.(*ast.MappingNode)
	switch n := node.(type) {
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
		whole = ast.Mapping(n.GetToken(), false, n)
		ok = true
	}
	if !ok {
		return nil, decode(node, into)
	}
	own := fieldsOf(reflect.TypeOf(into).Elem())
	parts := map[string]Part{}
	rest := *whole
	rest.Values = nil
	for _, v := range values {
		key := v.Key.GetToken().Value
		if own[key] {
			rest.Values = append(rest.Values, v)
		} else {
			parts[key] = Part{key, v.Value}
		}
	}
	if len(rest.Values) == 0 {
		return parts, nil
	}
	return parts, decode(&rest, into)
}

// Only refuses parts of other keys than known ones, among which and the fields of what
// was read it looks for the one that was meant.
func Only(parts map[string]Part, into any, known ...string) error {
	for key, p := range parts {
		ok := false
		for _, k := range known {
			ok = ok || k == key
		}
		if ok {
			continue
		}
		line := ""
		if t := p.node.GetToken(); t != nil && t.Position != nil {
			line = fmt.Sprintf("line %d: ", t.Position.Line)
		}
		if meant := near.Word(key, append(fields(reflect.TypeOf(into), nil), known...)); meant != "" {
			return fmt.Errorf("%sthere is no `%s`; did you mean `%s`?", line, key, meant)
		}
		return fmt.Errorf("%sthere is no `%s`", line, key)
	}
	return nil
}

func fieldsOf(t reflect.Type) map[string]bool {
	out := map[string]bool{}
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		if name != "" && name != "-" {
			out[name] = true
		}
	}
	return out
}
