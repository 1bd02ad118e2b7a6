// Package demo holds the sample project: the sources of the sample app
// Tideline, the packer that makes real packages of them, its suites, and the
// sites of the scenario. It is data and a packer; nothing else knows Tideline.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"strings"
)

//go:embed tideline suites sites
var files embed.FS

// ApplicationID is the sample app's, on every platform.
const ApplicationID = "example.tideline"

// Version is one version of the sample app.
type Version struct {
	Name string // 3.2.0
	Code int    // 61
}

// Versions are the builds of the sample app, oldest first.
var Versions = []Version{{"3.1.4", 58}, {"3.2.0", 61}}

// Package is one package of the sample app, ready to be handed in.
type Package struct {
	File string // tideline-3.2.0.apk
	Data []byte
}

// Packages packs every package of a version. The same version always gives the
// same bytes.
func Packages(v Version) ([]Package, error) {
	source, err := Program(v)
	if err != nil {
		return nil, err
	}
	app := App{
		ID: ApplicationID, Name: "Tideline", Version: v, MinimumAPI: 30, MinimumIOS: "16.0", Program: source,
		Permissions: []string{"android.permission.INTERNET", "android.permission.POST_NOTIFICATIONS"},
	}
	apk, err := PackAndroid(app)
	if err != nil {
		return nil, fmt.Errorf("packing the Android package of %s: %w", v.Name, err)
	}
	simulator, err := PackSimulator(app)
	if err != nil {
		return nil, fmt.Errorf("packing the iOS simulator app of %s: %w", v.Name, err)
	}
	return []Package{{"tideline-" + v.Name + ".apk", apk}, {"tideline-" + v.Name + "-simulator.zip", simulator}}, nil
}

// Program is the app's program: what all versions share, between the parts that
// are the version's own.
func Program(v Version) ([]byte, error) {
	var b strings.Builder
	for _, name := range []string{"words.js", v.Name + "/fares.js", v.Name + "/departures.js", "app.js"} {
		part, err := files.ReadFile("tideline/" + name)
		if err != nil {
			return nil, fmt.Errorf("there is no version %s of the sample app: %w", v.Name, err)
		}
		b.Write(part)
		b.WriteByte('\n')
	}
	return []byte(b.String()), nil
}

// Suites are the sample suites, by file name.
func Suites() (map[string]string, error) { return texts("suites") }

// Site is the description of one of the scenario's sites.
func Site(name string) ([]byte, error) { return files.ReadFile("sites/" + name + ".yaml") }

func texts(dir string) (map[string]string, error) {
	out := map[string]string{}
	entries, err := fs.ReadDir(files, dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		text, err := files.ReadFile(dir + "/" + e.Name())
		if err != nil {
			return nil, err
		}
		out[e.Name()] = string(text)
	}
	return out, nil
}
