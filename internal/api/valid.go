package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/gin-gonic/gin"

	"yamato/internal/core/near"
	"yamato/internal/core/plain"
	"yamato/internal/service/base"
)

// checker holds every call to api/openapi.yaml, where the bounds, the words that may be
// said and the fields that there are stand, once.
type checker struct{ spec *openapi3.T }

func newChecker() (*checker, error) {
	spec, err := GetSpec()
	if err != nil {
		return nil, fmt.Errorf("the description of the calls cannot be read: %w", err)
	}
	return &checker{spec}, nil
}

// check refuses a call that is not as described. What streams is described for readers,
// and checked by its handler.
func (c *checker) check(g *gin.Context) error {
	path := g.FullPath()
	if path == "" {
		return nil
	}
	parts := strings.Split(path, "/")
	params := map[string]string{}
	for i, p := range parts {
		if name, ok := strings.CutPrefix(p, ":"); ok {
			parts[i] = "{" + name + "}"
			params[name] = g.Param(name)
		}
	}
	template := strings.Join(parts, "/")
	item := c.spec.Paths.Value(template)
	if item == nil || item.GetOperation(g.Request.Method) == nil {
		return nil
	}
	op := item.GetOperation(g.Request.Method)
	if err := unknownParameter(g, item, op); err != nil {
		return err
	}
	_, streams := streams[g.Request.Method+" "+path]
	err := openapi3filter.ValidateRequest(g.Request.Context(), &openapi3filter.RequestValidationInput{
		Request: g.Request, PathParams: params,
		Route: &routers.Route{Spec: c.spec, Path: template, PathItem: item, Method: g.Request.Method,
			Operation: op},
		Options: &openapi3filter.Options{ExcludeRequestBody: streams,
			AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, MultiError: false},
	})
	if err == nil {
		return nil
	}
	return refusal(err)
}

// unknownParameter refuses what a call says in its query and its description does not know: it would do nothing, and
// who wrote it would not learn so. What streams reads its own.
func unknownParameter(g *gin.Context, item *openapi3.PathItem, op *openapi3.Operation) error {
	if slices.Contains(op.Tags, "stream") {
		return nil
	}
	var known []string
	for _, p := range slices.Concat(item.Parameters, op.Parameters) {
		if p.Value != nil && p.Value.In == openapi3.ParameterInQuery {
			known = append(known, p.Value.Name)
		}
	}
	for name := range g.Request.URL.Query() {
		if slices.Contains(known, name) {
			continue
		}
		hint := "this call has none."
		if len(known) > 0 {
			hint = "there are " + strings.Join(known, ", ") + "."
		}
		if meant := near.Word(name, known); meant != "" {
			hint = fmt.Sprintf("did you mean %q?", meant)
		}
		return base.Invalid(fmt.Sprintf("there is no parameter %q", plain.Clip(name, 60)), hint+" Nothing was done")
	}
	return nil
}

// refusal says in words what the description forbids.
func refusal(err error) error {
	var request *openapi3filter.RequestError
	var schema *openapi3.SchemaError
	if !errors.As(err, &request) {
		return unreadable(err)
	}
	var parse *openapi3filter.ParseError
	if errors.As(err, &parse) || !errors.As(err, &schema) {
		if request.Parameter != nil && errors.Is(err, openapi3filter.ErrInvalidRequired) {
			return unreadable(fmt.Errorf("it lacks %q", request.Parameter.Name))
		}
		if request.Parameter != nil {
			return base.Invalid(fmt.Sprintf("%q cannot be read: %s", request.Parameter.Name, reasonOf(request)),
				"/calls describes the call")
		}
		return unreadable(errors.New(reasonOf(request)))
	}
	where := strings.Join(schema.JSONPointer(), ".")
	if request.Parameter != nil {
		where = strings.TrimSuffix(request.Parameter.Name+"."+where, ".")
	}
	return inWords(schema, where)
}

func reasonOf(r *openapi3filter.RequestError) string {
	if r.Err != nil {
		return r.Err.Error()
	}
	return r.Reason
}

func inWords(e *openapi3.SchemaError, where string) error {
	what := where
	if what == "" {
		what = "the body of this call"
	}
	s := e.Schema
	switch e.SchemaField {
	case "enum":
		return base.Invalid(fmt.Sprintf("%s cannot be %v", what, quoted(e.Value)),
			"choose one of "+strings.Join(listOf(s.Enum), ", ")+meantBy(fmt.Sprint(e.Value), listOf(s.Enum)))
	case "properties": // a field that there is not
		name := unknownField(e)
		known := []string{}
		for k := range s.Properties {
			known = append(known, k)
		}
		slices.Sort(known)
		if meant := near.Word(name, known); meant != "" {
			return base.Invalid(fmt.Sprintf("there is no field %q", name),
				fmt.Sprintf("did you mean %q? Nothing was done",
					meant))
		}
		return base.Invalid(fmt.Sprintf("there is no field %q", name), "there are "+strings.Join(known,
			", ")+". Nothing was done")
	case "required":
		return base.Invalid(fmt.Sprintf("%s: %s", what, strings.ReplaceAll(e.Reason, "property ", "field ")),
			"/calls describes the call")
	case "minimum", "maximum", "minItems", "maxItems", "minLength", "maxLength", "type", "format", "pattern":
		return base.Invalid(fmt.Sprintf("%s: %s", what, e.Reason), "/calls describes the call")
	}
	return base.Invalid(fmt.Sprintf("%s: %s", what, e.Reason), "/calls describes the call")
}

// unknownField gives the name of a field that the description does not have.
func unknownField(e *openapi3.SchemaError) string {
	if value, ok := e.Value.(map[string]any); ok {
		for k := range value {
			if _, known := e.Schema.Properties[k]; !known {
				return k
			}
		}
	}
	return strings.Join(e.JSONPointer(), ".")
}

func listOf(values []any) []string {
	out := make([]string, len(values))
	for i, v := range values {
		out[i] = fmt.Sprint(v)
	}
	return out
}

func quoted(v any) string {
	if s, ok := v.(string); ok {
		return fmt.Sprintf("%q", s)
	}
	return fmt.Sprint(v)
}

func meantBy(word string, known []string) string {
	if meant := near.Word(word, known); meant != "" {
		return fmt.Sprintf("; did you mean %q?", meant)
	}
	return ""
}

// described refuses calls that are not as api/openapi.yaml describes them.
func (h *handlers) described(g *gin.Context) {
	if h.checker == nil || g.Request.Method == http.MethodOptions {
		return
	}
	if err := h.checker.check(g); err != nil {
		h.fail(g, err)
	}
}
