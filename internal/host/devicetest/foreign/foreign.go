// Package foreign holds apps that nobody here wrote, from the npm registry, with suites whose verdicts are known: on the
// apps as they come, and broken on purpose. They are tried, and not shipped.
package foreign

import (
	"context"
	_ "embed"
	"io/fs"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
)

// Modules are where the console's packages are installed, from a package of a driver's.
const Modules = "../../../web/node_modules/"

// ID is that of each app.
const ID = "example.foreign"

var (
	//go:embed ferries.yaml
	ferries string
	//go:embed todos.yamato
	todos string
	//go:embed widgets.yamato
	widgets string
	//go:embed reference.yamato
	reference string
)

// App is one of them.
type App struct {
	Suite   string
	dir     string
	folders []string
	replace map[string]string
	breaks  map[string][3]string // by the case that has to fail: file, piece, and what is there instead
}

// Apps are all, by name.
var Apps = map[string]App{
	"todos": {todos, "todomvc/examples/vanillajs", []string{"index.html", "js", "bower_components"}, nil,
		map[string][3]string{
			"an entry is added": {"js/controller.js", "that.view.render('clearNewTodo');", ""},
			"the count is of what is left": {"js/template.js", "var plural = activeTodos === 1 ? '' : 's';",
				"activeTodos++; var plural = 's';"},
			"what is done is cleared": {"js/controller.js",
				"Controller.prototype.removeCompletedItems = function () {",
				"Controller.prototype.removeCompletedItems = function () { return;"},
		}},
	"widgets": {widgets, "jquery-ui-dist", []string{"index.html", "external", "images", "jquery-ui.js", "jquery-ui.css"},
		nil, map[string][3]string{
			"a dialog closes": {"jquery-ui.js", `close: function( event ) {`, `close: function( event ) { return;`},
		}},
	"reference": {reference, "swagger-ui-dist", []string{"index.html", "index.css", "swagger-ui.css", "swagger-ui-bundle.js",
		"swagger-ui-standalone-preset.js"},
		map[string]string{"ferries.yaml": ferries, "swagger-initializer.js": `window.onload = () => { window.ui = SwaggerUIBundle({url: "ferries.yaml",
  dom_id: '#swagger-ui', deepLinking: true, presets: [SwaggerUIBundle.presets.apis, SwaggerUIStandalonePreset], layout: "BaseLayout"}) }`},
		map[string][3]string{
			"a group is folded": {"swagger-initializer.js", `layout: "BaseLayout"`,
				`layout: "BaseLayout", docExpansion: "none"`},
		}},
}

// bundled is an app of the registry: some folders of its package, a manifest, and what of
// it is replaced.
func bundled(t *testing.T, dir string, folders []string, replace map[string]string) fstest.MapFS {
	t.Helper()
	files := fstest.MapFS{"manifest.webmanifest": {Data: []byte(
		`{"name": "Foreign", "id": "example.foreign", "start_url": "/", "version": "1.0.0+1"}`)}}
	root := os.DirFS(Modules + dir)
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

// nobody keeps nothing of what a case records.
type nobody struct{}

func (nobody) Step(script.StepRecord)                                                   {}
func (nobody) Picture(string, device.Picture, *screen.Tree, []screen.Rect, screen.Rect) {}

// run runs a case of a suite of which every step has matched before: what is not there is a fail.
func run(t *testing.T, d driver.Device, s *script.Suite, c *script.Case) script.Result {
	return devicetest.Unhindered(t, func() script.Result {
		return script.RunCase(context.Background(), s, c, d, script.Options{App: ID, Known: func(string) bool { return true }}, nobody{})
	})
}

// Judge runs an app's suite on a device that is ready, as the app comes and as it is broken. pack packs a folder.
func (a App) Judge(t *testing.T, ctx context.Context, d driver.Device, pack func(*testing.T, fs.FS) driver.App) {
	t.Helper()
	s, findings := script.Read(a.Suite)
	require.Empty(t, findings)
	require.GreaterOrEqual(t, len(s.Cases), 10)
	files := bundled(t, a.dir, a.folders, a.replace)
	require.NoError(t, d.Install(ctx, pack(t, files)))
	for _, c := range s.Cases {
		r := run(t, d, s, c)
		require.Equal(t, verdict.Pass, r.Verdict, "%s: %+v %v", c.Name, r.Failure, r.Err)
	}
	for of, b := range a.breaks {
		require.NoError(t, d.Clean(ctx, driver.CleanApp, ID))
		require.NoError(t, d.Install(ctx, pack(t, broken(t, files, b[0], b[1], b[2]))))
		found := false
		for _, c := range s.Cases {
			if c.Name == of {
				found = true
				r := run(t, d, s, c)
				require.Equal(t, verdict.Fail, r.Verdict, "%s, when the app is broken: %+v", of, r.Failure)
			}
		}
		require.True(t, found, "there is no case %s", of)
	}
}
