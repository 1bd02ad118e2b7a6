// Package demotest gives tests the sample suites with what they want of a project.
package demotest

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/demo"
	"yamato/internal/core/appfile"
	"yamato/internal/core/script"
	"yamato/internal/host/driver"
)

var packed sync.Map // by version, what it was packed as: once a process, however many tests want it

// Packages gives the packages of a version of the sample app.
func Packages(t testing.TB, v demo.Version) []demo.Package {
	t.Helper()
	pack, _ := packed.LoadOrStore(v.Name, sync.OnceValues(func() ([]demo.Package, error) {
		return demo.Packages(v, time.Now())
	}))
	list, err := pack.(func() ([]demo.Package, error))()
	require.NoError(t, err)
	return list
}

// SampleSuite reads a suite of the sample project with what it uses; text is its name among the
// samples, or a suite of its own.
func SampleSuite(t *testing.T, text string) *script.Suite {
	t.Helper()
	suites, err := demo.Suites()
	require.NoError(t, err)
	if sample, ok := suites[text]; ok {
		text = sample
	}
	s, findings := script.ReadWith(text, script.FileMap(suites))
	require.Zero(t, script.Faults(findings), "%+v", findings)
	return s
}

// SampleOptions are the circumstances of the sample project on a device: its texts, its secret and
// accounts, a file to give, and a person who does as asked.
func SampleOptions(t *testing.T, d driver.Device) script.Options {
	t.Helper()
	packages := Packages(t, demo.Versions[0])
	texts, err := appfile.ReadTexts(bytes.NewReader(packages[0].Data), int64(len(packages[0].Data)))
	require.NoError(t, err)
	o := script.Options{App: demo.ApplicationID, Words: texts.Speaker().Say, Secrets: demo.Secrets,
		Accounts: map[string]map[string]string{}, Traits: d.Describe().Traits}
	for _, a := range demo.Accounts {
		o.Accounts[a.Name] = map[string]string{"user": a.User, "password": a.Password}
	}
	o.File = func(string) (string, error) {
		var picture bytes.Buffer
		require.NoError(t, png.Encode(&picture, image.NewGray(image.Rect(0, 0, 2, 2))))
		path := filepath.Join(t.TempDir(), "pass.png")
		return path, os.WriteFile(path, picture.Bytes(), 0o600)
	}
	o.Ask = func(context.Context, string, time.Duration) (string, error) { return "", nil }
	return o
}
