package appfile

import (
	"archive/zip"
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

func zipOf(t *testing.T, files map[string]string) (*bytes.Reader, int64) {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range []string{"index.html", "dist/index.html", "dist/app.js", "a/index.html", "b/index.html",
		"app.js", "__MACOSX/._x"} {
		if text, ok := files[name]; ok {
			w, err := z.Create(name)
			require.NoError(t, err)
			_, err = w.Write([]byte(text))
			require.NoError(t, err)
		}
	}
	require.NoError(t, z.Close())
	return bytes.NewReader(b.Bytes()), int64(b.Len())
}

func TestPagesWithoutAManifestAreTakenAndWhatTheyLackIsTold(t *testing.T) {
	read := func(files map[string]string) (*Package, error) {
		r, size := zipOf(t, files)
		return Read(r, size)
	}
	p, err := read(map[string]string{"index.html": "<!doctype html><title>\n Quay &amp; tide </title>", "app.js": "1"})
	require.NoError(t, err)
	require.Equal(t, []string{"Quay & tide", "quay-tide", "/", "web"}, []string{p.Name, p.ApplicationID,
		p.Launch, p.Platform})
	require.Len(t, p.Lacks, 1)
	require.Contains(t, p.Lacks[0], "no web app manifest")
	other, err := read(map[string]string{"index.html": "<!doctype html><title>\n Quay &amp; tide </title>",
		"app.js": "22"})
	require.NoError(t, err)
	require.NotEqual(t, p.VersionName, other.VersionName, "other content is another version")

	p, err = read(map[string]string{"dist/index.html": "<p>", "dist/app.js": "1", "__MACOSX/._x": ""})
	require.NoError(t, err)
	require.Equal(t, "dist", p.Name, "the folder that was zipped gives its name")
	_, err = read(map[string]string{"a/index.html": "<p>", "b/index.html": "<p>"})
	require.ErrorContains(t, err, "index.html", "which of two is meant nobody knows")
	_, err = read(map[string]string{"app.js": "1"})
	require.ErrorContains(t, err, "web app manifest or an index.html")
}
