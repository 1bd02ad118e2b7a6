package described_test

import (
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"

	description "yamato/api"
	"yamato/internal/api/described"
)

func TestEveryCallHasItsPlaceAndALineThatAShellTakes(t *testing.T) {
	parts, err := described.Parts(description.Contract)
	require.NoError(t, err)
	doc, err := openapi3.NewLoader().LoadFromData(description.Contract)
	require.NoError(t, err)
	require.NoError(t, doc.Validate(t.Context()), "examples are what their schemas describe")
	operations, calls := 0, 0
	for _, item := range doc.Paths.Map() {
		operations += len(item.Operations())
	}
	for _, p := range parts {
		require.NotEmpty(t, p.About, p.Name)
		for _, c := range p.Calls {
			calls++
			require.NotEmpty(t, c.Summary, c.ID)
			require.NotRegexp(t, regexp.MustCompile(`[{}]|<nil>`), strings.Split(c.Curl, `"$URL`)[1],
				"%s: a parameter of its address has no example", c.ID)
			out, err := exec.Command("sh", "-n", "-c", c.Curl).CombinedOutput()
			require.NoError(t, err, "%s: %s", c.Curl, out)
		}
	}
	require.Equal(t, operations, calls)
}

// What a line of the page sends is what the contract takes.
func TestExamplesOfBodiesAreWhatTheirSchemasDescribe(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(description.Contract)
	require.NoError(t, err)
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			if op.RequestBody == nil {
				continue
			}
			content := op.RequestBody.Value.Content["application/json"]
			if content == nil {
				continue
			}
			require.NoError(t, content.Schema.Value.VisitJSON(described.Example(content.Schema, 0)), "%s %s", method, path)
		}
	}
}

func TestATagThatNobodyDescribesIsAnError(t *testing.T) {
	_, err := described.Parts([]byte(`{openapi: 3.0.3, info: {title: x, version: "1"}, paths: {/a: {get: {operationId: a,
		tags: [odd], summary: s, responses: {"200": {description: d}}}}}}`))
	require.ErrorContains(t, err, `"odd" is not described`)
	_, err = described.Parts([]byte(`{openapi: 3.0.3, info: {title: x, version: "1"}, paths: {/a: {get: {operationId: a,
		summary: s, responses: {"200": {description: d}}}}}}`))
	require.ErrorContains(t, err, "a has the tags")
}

func TestWordsOfTheContractArePlainTextOnThePage(t *testing.T) {
	out, err := described.Page([]described.Part{{Name: "<b>", Calls: []described.Call{{ID: "x", Curl: "a < b"}}}}, "n")
	require.NoError(t, err)
	require.Contains(t, string(out), "&lt;b&gt;")
	require.Contains(t, string(out), "a &lt; b")
}
