// Package document reads the YAML that people write, and says in words what is wrong
// with it, where, and what was probably meant.
package document

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"yamato/internal/core/near"
)

// Read reads text into a pointer to a struct with `yaml` tags. Fields that the struct
// does not have are refused. Its errors begin with the line and end with an excerpt.
//
// A document has at most maxBytes, maxDepth levels and maxAliases aliases, so that
// reading it costs little whatever it holds.
func Read(text []byte, into any) error {
	if err := within(text); err != nil {
		return err
	}
	return clip(read(text, into))
}

// Text is a text as it is written: 13.10 is that, and not the number 13.1.
type Text string

// UnmarshalYAML takes a scalar, whatever it would be otherwise. It takes the node itself: to be given its text costs as
// much as the whole document, each time.
func (t *Text) UnmarshalYAML(node ast.Node) error {
	for range maxDepth {
		switch n := node.(type) {
		case *ast.TagNode:
			node = n.Value
		case *ast.AnchorNode:
			node = n.Value
		case *ast.MappingKeyNode:
			node = n.Value
		case *ast.StringNode:
			*t = Text(n.Value)
			return nil
		case *ast.LiteralNode:
			*t = Text(n.Value.Value)
			return nil
		case *ast.NullNode:
			if *t = ""; n.Token.Type != token.ImplicitNullType {
				*t = Text(n.Token.Value)
			}
			return nil
		case ast.ScalarNode: // numbers and the like, as they are written
			*t = Text(n.GetToken().Value)
			return nil
		default:
			return errors.New("a text is needed here")
		}
	}
	return errors.New("a text is needed here")
}

// Bounds on a document.
const (
	MaxBytes   = 1 << 20
	maxDepth   = 40
	maxAliases = 50
	maxWords   = 2000 // bytes of an error
	maxKeys    = 1000 // of one mapping: each that is unknown costs as much as all
)

// within refuses what would cost much to read, before it is read.
func within(text []byte) error {
	if len(text) > MaxBytes {
		return fmt.Errorf("it has %d bytes; at most %d are read", len(text), MaxBytes)
	}
	if !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0 {
		return errors.New("it is not UTF-8 text")
	}
	for i, line := range strings.Split(string(text), "\n") {
		indent := len(line) - len(strings.TrimLeft(line, " -?"))
		if indent > 4*maxDepth || strings.Count(line[:indent], "-") > maxDepth || strings.Count(line[:indent],
			"?") > maxDepth {
			return fmt.Errorf("line %d: it is nested more than %d deep", i+1, maxDepth)
		}
	}
	depth, aliases := 0, 0
	// of the mapping that is being read, by the column at which they stand; below zero by depth, of those in braces
	keys := map[int]int{}
	for _, t := range lexer.Tokenize(string(text)) {
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			depth++
			delete(keys, -depth)
		case token.SequenceEndType, token.MappingEndType:
			depth--
		case token.SequenceEntryType: // another mapping begins behind it
			maps.DeleteFunc(keys, func(column, _ int) bool { return column > t.Position.Column })
		case token.MappingValueType:
			at := -depth
			if depth == 0 && t.Prev != nil {
				at = t.Prev.Position.Column
				maps.DeleteFunc(keys, func(column, _ int) bool { return column > at })
			}
			if keys[at]++; keys[at] > maxKeys {
				return fmt.Errorf("line %d: a mapping has at most %d keys", t.Position.Line, maxKeys)
			}
		case token.AliasType:
			aliases++
		}
		switch {
		case depth > maxDepth:
			return fmt.Errorf("line %d: it is nested more than %d deep", t.Position.Line, maxDepth)
		case aliases > maxAliases:
			return fmt.Errorf("line %d: it has more than %d aliases", t.Position.Line, maxAliases)
		}
	}
	return nil
}

func clip(err error) error {
	if err == nil || len(err.Error()) <= maxWords {
		return err
	}
	return errors.New(strings.ToValidUTF8(err.Error()[:maxWords], "") + "…")
}

func read(text []byte, into any) error {
	return words(yaml.UnmarshalWithOptions(text, into, yaml.Strict()), into)
}

// words says in words what the parser found.
func words(err error, into any) error {
	var typed *yaml.TypeError
	var unknown *yaml.UnknownFieldError
	var node *yaml.UnexpectedNodeTypeError
	var large *yaml.OverflowError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &typed):
		return at(typed.Token, err, "%s is needed here, not %s", kind(typed.DstType), kind(typed.SrcType))
	case errors.As(err, &large):
		return at(large.Token, err, "%s is too large a number", large.SrcNum)
	case errors.As(err, &node):
		return at(node.Token, err, "%s is needed here, not %s", nodeName(node.Expected.YAMLName()),
			nodeName(node.Actual.YAMLName()))
	case errors.As(err, &unknown):
		name := unknown.Token.Value
		if meant := near.Word(name, fields(reflect.TypeOf(into), nil)); meant != "" {
			return at(unknown.Token, err, "there is no `%s`; did you mean `%s`?", name, meant)
		}
		return at(unknown.Token, err, "there is no `%s`", name)
	}
	return err
}

// at words an error at a token, with the excerpt that the parser made.
func at(t *token.Token, err error, format string, args ...any) error {
	words := fmt.Sprintf(format, args...)
	if t != nil && t.Position != nil {
		words = fmt.Sprintf("line %d: %s", t.Position.Line, words)
	}
	if _, excerpt, ok := strings.Cut(err.Error(), "\n"); ok {
		words += "\n" + strings.TrimRight(excerpt, "\n ")
	}
	return errors.New(words)
}

func kind(t reflect.Type) string {
	if t == nil {
		return "nothing"
	}
	switch t.Kind() {
	case reflect.Bool:
		return "true or false"
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8,
		reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return "a whole number"
	case reflect.Float32, reflect.Float64:
		return "a number"
	case reflect.String:
		return "a text"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Pointer:
		return kind(t.Elem())
	}
	return "a mapping (`name: value`)"
}

func nodeName(yamlName string) string {
	switch yamlName {
	case "mapping", "mapping value":
		return "a mapping (`name: value`)"
	case "sequence":
		return "a list"
	case "string", "literal":
		return "a text"
	}
	return "a " + yamlName
}

// fields gives the names of all fields below a type.
func fields(t reflect.Type, seen []reflect.Type) (out []string) {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	for _, s := range seen {
		if s == t {
			return nil
		}
	}
	if t.Kind() != reflect.Struct {
		return nil
	}
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		if name != "" && name != "-" {
			out = append(out, name)
		}
		out = append(out, fields(t.Field(i).Type, append(seen, t))...)
	}
	return out
}

// Line gives the line of what stands at a path of a document ($.rules[0].skip), else that of the
// nearest above it; 0 where the document cannot be read.
func Line(text []byte, path string) int {
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return 0
	}
	for path != "" {
		if p, err := yaml.PathString(path); err == nil {
			if node, err := p.FilterFile(file); err == nil && node != nil && node.GetToken() != nil {
				return keyLine(node)
			}
		}
		at := strings.LastIndexAny(path, ".[")
		if at < 1 {
			break
		}
		path = path[:at]
	}
	return 0
}

// keyLine is the line of a node; of a mapping or a list, that of its first part.
func keyLine(node ast.Node) int {
	for {
		switch n := node.(type) {
		case *ast.MappingNode:
			if len(n.Values) == 0 || n.IsFlowStyle {
				return n.GetToken().Position.Line
			}
			node = n.Values[0].Key
		case *ast.MappingValueNode:
			node = n.Key
		case *ast.SequenceNode:
			if len(n.Values) == 0 || n.IsFlowStyle {
				return n.GetToken().Position.Line
			}
			node = n.Values[0]
		default:
			return node.GetToken().Position.Line
		}
	}
}
