// Package plain makes plain text of what comes from outside: valid UTF-8 without NUL,
// bounded by bytes. Text is cleaned once, at the edge where it enters; what is kept,
// compared and shown after that relies on it.
package plain

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"
	"unicode/utf8"
)

// Replacement stands for what is no text.
const Replacement = "\uFFFD"

// Text gives s as text of at most max bytes. What is cut ends in an ellipsis.
func Text(s string, max int) string {
	if len(s) > max {
		cut := max - len("…")
		for cut > 0 && !utf8.RuneStart(s[cut]) {
			cut--
		}
		s = s[:cut] + "…"
	}
	if strings.IndexByte(s, 0) >= 0 {
		s = strings.ReplaceAll(s, "\x00", Replacement)
	}
	return strings.ToValidUTF8(s, Replacement)
}

// Is reports whether s is text as it stands.
func Is(s string) bool { return strings.IndexByte(s, 0) < 0 && utf8.ValidString(s) }

// JSON gives a JSON text in which every string is text of at most max bytes, null where
// it is no JSON.
func JSON(raw json.RawMessage, max int) json.RawMessage {
	if len(raw) == 0 {
		return raw
	}
	escapes := bytes.Contains(raw, []byte(`\u0000`)) || bytes.Contains(raw, []byte(`\ud`)) ||
		bytes.Contains(raw, []byte(`\uD`))
	if !escapes && len(raw) <= max && json.Valid(raw) && utf8.Valid(raw) {
		return raw
	}
	var v any
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	if err := d.Decode(&v); err != nil {
		return json.RawMessage("null")
	}
	out, err := json.Marshal(value(v, max))
	if err != nil {
		return json.RawMessage("null")
	}
	return out
}

func value(v any, max int) any {
	switch v := v.(type) {
	case string:
		return Text(v, max)
	case []any:
		for i := range v {
			v[i] = value(v[i], max)
		}
	case map[string]any:
		for k, x := range v {
			if clean := Text(k, max); clean != k {
				delete(v, k)
				k = clean
			}
			v[k] = value(x, max)
		}
	}
	return v
}

var rawMessage = reflect.TypeFor[json.RawMessage]()

// Deep makes text of every string below the pointer v, in place, each of at most max bytes.
func Deep(v any, max int) { deep(reflect.ValueOf(v), max) }

func deep(v reflect.Value, max int) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			deep(v.Elem(), max)
		}
	case reflect.String:
		if s := v.String(); len(s) > max || !Is(s) {
			v.SetString(Text(s, max))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				deep(v.Field(i), max)
			}
		}
	case reflect.Slice:
		if v.Type() == rawMessage {
			v.SetBytes(JSON(v.Bytes(), max))
			return
		}
		if !holdsText(v.Type().Elem()) {
			return
		}
		for i := range v.Len() {
			deep(v.Index(i), max)
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			key, item := reflect.New(k.Type()).Elem(), reflect.New(v.Type().Elem()).Elem()
			key.Set(k)
			item.Set(v.MapIndex(k))
			deep(key, max)
			deep(item, max)
			v.SetMapIndex(k, reflect.Value{})
			v.SetMapIndex(key, item)
		}
	case reflect.Interface:
		if !v.IsNil() {
			v.Set(reflect.ValueOf(value(v.Interface(), max)))
		}
	}
}

func holdsText(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.Bool, reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint,
		reflect.Uint8,
		reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Float32, reflect.Float64:
		return false
	}
	return true
}

// Clip cuts a text to n characters. It costs no more for a long text than for a short one.
func Clip(s string, n int) string {
	if len(s) <= n {
		return s
	}
	s = s[:min(len(s), utf8.UTFMax*(n+1))]
	if r := []rune(s); len(r) > n {
		return string(r[:n]) + "…"
	}
	return s
}
