// Package described shows what the interface is: the contract as it stands, and a page with each call as a line of curl.
package described

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"net/url"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("calls").Parse(pageText))

// Part is what the calls of one tag are about.
type Part struct {
	Name, About string
	Calls       []Call
}

// Call is one operation, as a reader needs it.
type Call struct {
	ID, Method, Path, Summary, About string
	Parameters                       []Parameter
	Answers                          []string
	Curl                             string
}

// Parameter is a value that a call takes beside its body.
type Parameter struct {
	Name, In, Kind, About string
	Required              bool
}

// streaming is the tag of calls whose answers are no JSON; each has another tag that says what it is about.
const streaming = "stream"

// Parts gives the calls of a contract by what they are about, in the order of its tags.
func Parts(contract []byte) ([]Part, error) {
	doc, err := openapi3.NewLoader().LoadFromData(contract)
	if err != nil {
		return nil, fmt.Errorf("the contract cannot be read: %w", err)
	}
	by := map[string][]Call{}
	for _, path := range doc.Paths.InMatchingOrder() {
		item := doc.Paths.Value(path)
		for method, op := range item.Operations() {
			about := slices.DeleteFunc(slices.Clone(op.Tags), func(tag string) bool { return tag == streaming })
			if len(about) != 1 {
				return nil, fmt.Errorf("%s has the tags %v, and needs one that says what it is about", op.OperationID, op.Tags)
			}
			by[about[0]] = append(by[about[0]], callOf(method, path, item, op))
		}
	}
	var out []Part
	for _, tag := range doc.Tags {
		calls := by[tag.Name]
		slices.SortFunc(calls, func(a, b Call) int {
			return strings.Compare(a.Path+" "+methodOrder(a.Method), b.Path+" "+methodOrder(b.Method))
		})
		if len(calls) > 0 {
			out = append(out, Part{tag.Name, tag.Description, calls})
		}
		delete(by, tag.Name)
	}
	for tag := range by {
		return nil, fmt.Errorf("the tag %q is not described", tag)
	}
	return out, nil
}

// methodOrder sorts reading before writing.
func methodOrder(method string) string {
	return fmt.Sprint(slices.Index([]string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"}, method))
}

func callOf(method, path string, item *openapi3.PathItem, op *openapi3.Operation) Call {
	c := Call{ID: op.OperationID, Method: method, Path: path, Summary: op.Summary, About: op.Description}
	address := path
	query := url.Values{}
	var headers []string
	for _, ref := range append(slices.Clone(item.Parameters), op.Parameters...) {
		p := ref.Value
		c.Parameters = append(c.Parameters, Parameter{p.Name, p.In, kindOf(p.Schema), p.Description, p.Required})
		switch {
		case p.In == openapi3.ParameterInPath:
			address = strings.ReplaceAll(address, "{"+p.Name+"}", url.PathEscape(fmt.Sprint(p.Example)))
		case p.In == openapi3.ParameterInQuery && p.Required:
			query.Set(p.Name, fmt.Sprint(p.Example))
		case p.In == openapi3.ParameterInHeader && p.Required:
			headers = append(headers, fmt.Sprintf("%s: %v", p.Name, p.Example))
		}
	}
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	for status, answer := range op.Responses.Map() {
		if answer.Value != nil && answer.Value.Description != nil && status != "default" {
			c.Answers = append(c.Answers, status+"  "+*answer.Value.Description)
		}
	}
	slices.Sort(c.Answers)
	c.Curl = curl(method, address, headers, op)
	return c
}

// kindOf says in a word or two what a value is.
func kindOf(s *openapi3.SchemaRef) string {
	if s == nil || s.Value == nil {
		return ""
	}
	if len(s.Value.Enum) > 0 {
		var words []string
		for _, w := range s.Value.Enum {
			words = append(words, fmt.Sprint(w))
		}
		return strings.Join(words, ", ")
	}
	if s.Value.Type != nil && len(*s.Value.Type) > 0 {
		return (*s.Value.Type)[0]
	}
	return ""
}

// curl writes a call as somebody types it who has the service's address in URL and a token in TOKEN.
func curl(method, address string, headers []string, op *openapi3.Operation) string {
	lines := []string{"curl"}
	if method == "HEAD" {
		lines[0] += " --head"
	} else if method != "GET" && (method != "POST" || op.RequestBody == nil) {
		lines[0] += " --request " + method
	}
	lines[0] += ` --header "Authorization: Bearer $TOKEN"`
	for _, h := range headers {
		lines = append(lines, "--header "+quote(h))
	}
	if op.RequestBody != nil {
		for kind, content := range op.RequestBody.Value.Content {
			lines = append(lines, "--header "+quote("Content-Type: "+kind))
			if kind != "application/json" {
				lines = append(lines, "--data-binary @FILE")
				break
			}
			body, err := json.MarshalIndent(Example(content.Schema, 0), "  ", "  ")
			if err == nil {
				lines = append(lines, "--data "+quote(string(body)))
			}
			break
		}
	}
	return strings.Join(append(lines, `"$URL`+address+`"`), " \\\n  ")
}

// quote has a shell take s as one word.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// maxNesting bounds how deep an example goes into what it is made of.
const maxNesting = 6

// Example makes a value that a schema describes: its own example, or one of what it is made of.
func Example(ref *openapi3.SchemaRef, depth int) any {
	if ref == nil || ref.Value == nil || depth > maxNesting {
		return nil
	}
	s := ref.Value
	switch {
	case s.Example != nil:
		return s.Example
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Type.Is("object"):
		out := map[string]any{}
		for name, property := range s.Properties {
			if property.Value.Example != nil || slices.Contains(s.Required, name) {
				out[name] = Example(property, depth+1)
			}
		}
		return out
	case s.Type.Is("array"):
		return []any{Example(s.Items, depth+1)}
	case s.Type.Is("string"):
		if s.Format == "date-time" {
			return "2026-10-05T21:00:00Z"
		}
		return "…"
	case s.Type.Is("boolean"):
		return true
	case s.Type.Is("integer"), s.Type.Is("number"):
		return max(1, valueOf(s.Min))
	}
	return nil
}

func valueOf(f *float64) float64 {
	if f == nil {
		return 0
	}
	return *f
}

// Page writes the calls as a page; nonce is that of its styles.
func Page(parts []Part, nonce string) ([]byte, error) {
	var out bytes.Buffer
	err := page.Execute(&out, struct {
		Nonce string
		Parts []Part
	}{nonce, parts})
	return out.Bytes(), err
}
