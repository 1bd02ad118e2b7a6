package handset

import (
	"io/fs"
	"os"
	"path"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/verdict"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

// Apps that nobody here wrote, from the npm registry. They are tried, and not shipped.

// modules are where the console's packages are installed.
const modules = "../../../web/node_modules/"

// foreign bundles an app of the registry: some folders of its package, a manifest, and what of
// it is replaced.
func foreign(t *testing.T, dir string, folders []string, replace map[string]string) fstest.MapFS {
	t.Helper()
	files := fstest.MapFS{"manifest.webmanifest": {Data: []byte(
		`{"name": "Foreign", "id": "example.foreign", "start_url": "/", "version": "1.0.0+1"}`)}}
	root := os.DirFS(modules + dir)
	for _, folder := range folders {
		require.NoError(t, fs.WalkDir(root, folder, func(name string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || strings.HasSuffix(name, ".map") {
				return err
			}
			data, err := fs.ReadFile(root, name)
			files[name] = &fstest.MapFile{Data: data}
			return err
		}))
	}
	for name, text := range replace {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return files
}

// broken replaces a piece of a file, which has to be there.
func broken(t *testing.T, files fstest.MapFS, name, piece, by string) fstest.MapFS {
	t.Helper()
	out := fstest.MapFS{}
	for n, f := range files {
		out[n] = f
	}
	text := string(files[name].Data)
	require.Contains(t, text, piece, name)
	out[name] = &fstest.MapFile{Data: []byte(strings.ReplaceAll(text, piece, by))}
	return out
}

func TestAppsThatNobodyHereWroteAreJudged(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	ferries, err := os.ReadFile("testdata/apps/ferries.yaml")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		dir     string
		folders []string
		replace map[string]string
		breaks  map[string][3]string // by the case that has to fail: file, piece, and what is there instead
	}{
		"todos": {"todomvc/examples/vanillajs", []string{"index.html", "js", "bower_components"}, nil,
			map[string][3]string{
				"an entry is added": {"js/controller.js", "that.view.render('clearNewTodo');", ""},
				"the count is of what is left": {"js/template.js", "var plural = activeTodos === 1 ? '' : 's';",
					"activeTodos++; var plural = 's';"},
				"what is done is cleared": {"js/controller.js",
					"Controller.prototype.removeCompletedItems = function () {",
					"Controller.prototype.removeCompletedItems = function () { return;"},
			}},
		"widgets": {"jquery-ui-dist", []string{"index.html", "external", "images", "jquery-ui.js", "jquery-ui.css"},
			nil, map[string][3]string{
				"a dialog closes": {"jquery-ui.js", `close: function( event ) {`, `close: function( event ) { return;`},
			}},
		"reference": {"swagger-ui-dist", []string{"index.html", "index.css", "swagger-ui.css", "swagger-ui-bundle.js",
			"swagger-ui-standalone-preset.js"},
			map[string]string{"ferries.yaml": string(ferries), "swagger-initializer.js": `window.onload = () => { window.ui = SwaggerUIBundle({url: "ferries.yaml",
  dom_id: '#swagger-ui', deepLinking: true, presets: [SwaggerUIBundle.presets.apis, SwaggerUIStandalonePreset], layout: "BaseLayout"}) }`},
			map[string][3]string{
				"a group is folded": {"swagger-initializer.js", `layout: "BaseLayout"`,
					`layout: "BaseLayout", docExpansion: "none"`},
			}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(path.Join("testdata", "apps", name+".yamato"))
			require.NoError(t, err)
			files := foreign(t, c.dir, c.folders, c.replace)
			d := kaede(t)
			ctx := opened(t, d, bundled(t, files))
			results := judge(t, d, "example.foreign", string(text))
			require.GreaterOrEqual(t, len(results), 10)
			for of, r := range results {
				require.Equal(t, verdict.Pass, r.Verdict, "%s: %+v %v", of, r.Failure, r.Err)
			}
			for of, b := range c.breaks {
				require.Contains(t, results, of)
				require.NoError(t, d.Clean(ctx, driver.CleanApp, "example.foreign"))
				require.NoError(t, d.Install(ctx, bundled(t, broken(t, files, b[0], b[1], b[2]))))
				r := judgeOne(t, d, "example.foreign", string(text), of)
				require.Equal(t, verdict.Fail, r.Verdict, "%s, when the app is broken: %+v", of, r.Failure)
			}
		})
	}
}
