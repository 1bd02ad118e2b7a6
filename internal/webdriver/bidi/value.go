package bidi

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"

	"yamato/internal/core/plain"
	"yamato/internal/webdriver"
)

// Value is one of a script's, as the remote end serialises it (BiDi, script.RemoteValue).
type Value struct {
	Type  string          `json:"type"`
	Value json.RawMessage `json:"value"`
}

// Thrown is what a script has thrown, or why it could not be read.
type Thrown struct{ Text string }

func (t *Thrown) Error() string { return t.Text }

// maxDeep bounds how deep a value is read.
const maxDeep = 30

// Text gives a value as people read it: a text as it is, other primitives as scripts write them, the rest as JSON.
func (v *Value) Text() (string, error) {
	if v == nil {
		return "", nil
	}
	switch v.Type {
	case "string":
		var s string
		err := json.Unmarshal(v.Value, &s)
		return s, err
	case "undefined", "null":
		return v.Type, nil
	}
	out, err := v.plain(0)
	if err != nil {
		return "", err
	}
	if s, ok := out.(string); ok {
		return s, nil
	}
	text, err := json.Marshal(out)
	return string(text), err
}

// Window gives the context that a value is the window of, "" where it is none.
func (v *Value) Window() string {
	var in struct{ Context string }
	if v == nil || v.Type != "window" || json.Unmarshal(v.Value, &in) != nil {
		return ""
	}
	return in.Context
}

// plain gives a value as Go has it: maps, lists, texts, numbers.
func (v *Value) plain(deep int) (any, error) {
	if deep > maxDeep {
		return nil, fmt.Errorf("the value is nested deeper than %d", maxDeep)
	}
	switch v.Type {
	case "string", "boolean", "date", "bigint":
		var out any
		return out, json.Unmarshal(v.Value, &out)
	case "number":
		var n float64
		if json.Unmarshal(v.Value, &n) == nil {
			if n == math.Trunc(n) && math.Abs(n) < 1e15 {
				return json.Number(strconv.FormatFloat(n, 'f', -1, 64)), nil
			}
			return n, nil
		}
		var special string // NaN, -0, Infinity
		return special, json.Unmarshal(v.Value, &special)
	case "array", "set", "nodelist", "htmlcollection":
		var list []Value
		if len(v.Value) > 0 {
			if err := json.Unmarshal(v.Value, &list); err != nil {
				return nil, err
			}
		}
		out := make([]any, 0, len(list))
		for i := range list {
			one, err := list[i].plain(deep + 1)
			if err != nil {
				return nil, err
			}
			out = append(out, one)
		}
		return out, nil
	case "object", "map":
		var pairs [][2]json.RawMessage
		if len(v.Value) > 0 {
			if err := json.Unmarshal(v.Value, &pairs); err != nil {
				return nil, err
			}
		}
		out := map[string]any{}
		for _, pair := range pairs {
			var key string
			if json.Unmarshal(pair[0], &key) != nil {
				var k Value
				if err := json.Unmarshal(pair[0], &k); err != nil {
					return nil, err
				}
				text, err := k.Text()
				if err != nil {
					return nil, err
				}
				key = text
			}
			var one Value
			if err := json.Unmarshal(pair[1], &one); err != nil {
				return nil, err
			}
			value, err := one.plain(deep + 1)
			if err != nil {
				return nil, err
			}
			out[key] = value
		}
		return out, nil
	case "null", "undefined":
		return nil, nil
	}
	return "[" + v.Type + "]", nil
}

// Evaluate evaluates an expression in a context, in a sandbox beside its page's own scripts or, with "", among them.
// Its error is a *Thrown where the expression throws.
func (c *Conn) Evaluate(ctx context.Context, where, sandbox, expression string, promise bool) (*Value, error) {
	target := map[string]string{"context": where}
	if sandbox != "" {
		target["sandbox"] = sandbox
	}
	var out struct {
		Type             string
		Result           Value
		ExceptionDetails struct{ Text string }
	}
	if err := c.Call(ctx, "script.evaluate", map[string]any{"target": target, "expression": expression, "awaitPromise": promise,
		"serializationOptions": map[string]any{"maxObjectDepth": maxDeep, "maxDomDepth": 0}}, &out); err != nil {
		return nil, err
	}
	switch out.Type {
	case "success":
		return &out.Result, nil
	case "exception":
		return nil, &Thrown{plain.Text(strings.TrimSpace(out.ExceptionDetails.Text), 2000)}
	}
	return nil, &webdriver.Broken{Why: "it says neither what an expression gives nor what it throws"}
}
