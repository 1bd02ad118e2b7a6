package pack

import (
	"bytes"
	"errors"
	"fmt"
	"image/png"
	"io"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/document"
)

// File is a package that was made.
type File struct {
	File string // my-app-1.0.apk
	Data []byte
}

// Description is what app.yaml says of an app.
type Description struct {
	ID          string   `yaml:"id"`      // example.myapp
	Name        string   `yaml:"name"`    // as people see it
	Version     string   `yaml:"version"` // 1.0
	Code        int      `yaml:"code"`    // rises with each version
	Packages    []string `yaml:"packages"`
	Android     string   `yaml:"minimum_android"` // "11"
	IOS         string   `yaml:"minimum_ios"`     // "16.0"
	Permissions []string `yaml:"permissions"`
	Requires    []string `yaml:"requires"`
	Forms       []string `yaml:"forms"` // phone, tablet; both where absent
	Unsigned    bool     `yaml:"unsigned"`
	Maker       string   `yaml:"maker"`
	Profile     struct {
		Devices []string `yaml:"devices"` // hardware ids of the phones that it lists
		// how long it lasts from today; 365 where absent, less than 0 for one that has run out
		Days int `yaml:"days"`
	} `yaml:"profile"`
}

// kinds are the kinds of package by the words of app.yaml.
var kinds = map[string]struct {
	suffix string
	pack   func(App) ([]byte, error)
}{"android": {".apk", Android}, "simulator": {"-simulator.zip", Simulator}, "device": {".ipa", Device},
	"web": {"-web.zip", Web}}

var kindNames = []string{"android", "simulator", "device", "web"}

// apiOf gives the API level of a version of Android.
var apiOf = map[string]int{"8": 26, "9": 28, "10": 29, "11": 30, "12": 31, "13": 33, "14": 34, "15": 35, "16": 36}

const maxProgram = 8 << 20

var idForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]*(\.[A-Za-z][A-Za-z0-9_]*)+$`)

// Folder packs the app whose sources are in a folder. Its errors say what is wrong, and in
// which file.
func Folder(dir fs.FS, day time.Time) ([]File, error) {
	text, err := read(dir, "app.yaml", 1<<20)
	if err != nil {
		return nil, err
	}
	d := Description{Version: "1.0", Code: 1, Packages: kindNames, Android: "11", IOS: "16.0",
		Maker: "Stand-in developers"}
	if err := document.Read(text, &d); err != nil {
		return nil, fmt.Errorf("app.yaml cannot be read: %w", err)
	}
	if err := d.check(); err != nil {
		return nil, fmt.Errorf("app.yaml: %w", err)
	}
	a := App{ID: d.ID, Name: d.Name, Version: Version{d.Version, d.Code}, MinimumAPI: apiOf[d.Android],
		MinimumIOS: d.IOS, Permissions: d.Permissions, Requires: d.Requires,
		Unsigned: d.Unsigned, Maker: d.Maker, Key: d.ID + " " + d.Maker, Devices: d.Profile.Devices,
		Texts: map[string]map[string]string{"app_name": {"": d.Name}}}
	for _, f := range d.Forms {
		a.Families = append(a.Families, map[string]int{"phone": 1, "tablet": 2}[f])
	}
	days := d.Profile.Days
	if days == 0 {
		days = 365
	}
	a.Profile = day.UTC().Truncate(24*time.Hour).AddDate(0, 0, days)
	if a.Program, err = read(dir, "app.js", maxProgram); err != nil {
		return nil, err
	}
	if err := a.texts(dir); err != nil {
		return nil, err
	}
	if icon, err := read(dir, "icon.png", 2<<20); err == nil {
		if _, err := png.DecodeConfig(bytes.NewReader(icon)); err != nil {
			return nil, fmt.Errorf("icon.png is no PNG: %w", err)
		}
		a.Icon = func(int) ([]byte, error) { return icon, nil }
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var out []File
	base := strings.ToLower(strings.Trim(regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(d.Name, "-"), "-"))
	if base == "" {
		base = d.ID
	}
	for _, k := range d.Packages {
		data, err := kinds[k].pack(a)
		if err != nil {
			return nil, fmt.Errorf("packing for %s: %w", k, err)
		}
		// what is no app is told before it is handed in
		if _, err := appfile.Read(bytes.NewReader(data), int64(len(data))); err != nil {
			return nil, fmt.Errorf("app.yaml: nobody would take it as a package for %s: %w", k, err)
		}
		out = append(out, File{base + "-" + d.Version + kinds[k].suffix, data})
	}
	return out, nil
}

func (d *Description) check() error {
	switch {
	case !idForm.MatchString(d.ID):
		return fmt.Errorf("its id is %q; write it as in id: example.myapp", d.ID)
	case strings.TrimSpace(d.Name) == "" || len(d.Name) > 200:
		return errors.New("it has no name: write it as in name: My app")
	case strings.TrimSpace(d.Version) == "" || strings.ContainsAny(d.Version, "/\\\n") || len(d.Version) > 100:
		return fmt.Errorf("its version is %q; write it as in version: \"1.0\"", d.Version)
	case d.Code < 1:
		return fmt.Errorf("its code is %d; it is a whole number over 0 that rises with each version", d.Code)
	case apiOf[d.Android] == 0:
		return fmt.Errorf("minimum_android is %q; it is a version of Android from 8 to 16, in quotes", d.Android)
	case len(d.Packages) == 0:
		return errors.New("it makes no packages; there are " + strings.Join(kindNames, ", "))
	}
	for _, k := range d.Packages {
		if (k == "simulator" || k == "device") && strings.Contains(d.ID, "_") {
			return fmt.Errorf("its id is %q, and iOS takes letters, digits and dots: write it without _, or pack only "+
				"for android and web", d.ID)
		}
		if _, ok := kinds[k]; !ok {
			return fmt.Errorf("there is no kind of package %q; there are %s", k, strings.Join(kindNames, ", "))
		}
	}
	for _, f := range d.Forms {
		if !slices.Contains([]string{"phone", "tablet"}, f) {
			return fmt.Errorf("there is no form %q; there are phone and tablet", f)
		}
	}
	return nil
}

// texts reads texts.yaml, if there is one: by key, a text or texts by language.
func (a *App) texts(dir fs.FS) error {
	text, err := read(dir, "texts.yaml", 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var all map[string]map[string]string
	if err := document.Read(text, &all); err != nil {
		return fmt.Errorf("texts.yaml cannot be read: %w", err)
	}
	for key, by := range all {
		if !regexp.MustCompile(`^[a-z][a-z0-9_]*$`).MatchString(key) {
			return fmt.Errorf("texts.yaml: a key is small letters, digits and _, not %q", key)
		}
		plain := map[string]string{}
		for language, value := range by {
			if language == "default" {
				language = ""
			}
			plain[language] = value
		}
		a.Texts[key] = plain
	}
	return nil
}

// read reads a file of a folder, and no more than limit of it.
func read(dir fs.FS, name string, limit int64) ([]byte, error) {
	f, err := dir.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("it holds no %s: %w", name, fs.ErrNotExist)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", name, err)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", name, err)
	}
	if int64(len(data)) > limit {
		return nil, fmt.Errorf("%s is larger than the %d MB that are read of it", name, limit>>20)
	}
	return data, nil
}
