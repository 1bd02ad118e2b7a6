package appfile

import (
	"archive/zip"
	"encoding/json"
	"io"
	"path"
	"slices"
	"strings"

	"golang.org/x/text/language"
	"howett.net/plist"
)

// Texts are an app's texts: by key, then by language as in BCP 47, where "" is
// the text for every other language.
type Texts map[string]map[string]string

// ReadTexts gives the texts of a package's own string tables: of an Android package's resource
// table; of the Localizable.strings in an iOS app's .lproj folders, where Base is for every
// other language; of JSON files by language in a web bundle (locales/de-DE.json), where one
// called default is for every other language, and nested keys have dots between.
func ReadTexts(r io.ReaderAt, size int64) (Texts, error) {
	archive, split, err := openApp(r, size)
	if err != nil {
		return nil, err
	}
	if split != nil {
		return split.texts()
	}
	if t, err := tableOf(archive); err != nil || t != nil {
		if err != nil {
			return nil, err
		}
		return t.texts()
	}
	g := &gathered{Texts{}, map[string]uint32{}, map[string]bool{}, 0, 0}
	for _, f := range archive.File {
		if err := g.file(f); err != nil {
			return nil, err
		}
	}
	return g.texts, nil
}

// maxTextFile bounds one file of texts, unpacked.
const maxTextFile = 4 << 20

// file takes in the texts of one file, if it holds some.
func (g *gathered) file(f *zip.File) error {
	dir, base := path.Split(f.Name)
	folder := path.Base(dir)
	switch {
	case base == "Localizable.strings" && strings.HasSuffix(folder, ".lproj"):
		tag, ok := tagOf(strings.TrimSuffix(folder, ".lproj"), "Base")
		if !ok {
			return nil
		}
		data, err := readEntry(f, maxTextFile)
		if err != nil {
			return err
		}
		var table map[string]any
		if _, err := plist.Unmarshal(data, &table); err != nil {
			return nil // another file of that name is no reason to refuse the build
		}
		return g.nested("", table, config{language: tag}, 0)
	case path.Ext(base) == ".json":
		name := strings.TrimSuffix(base, ".json")
		tag, ok := tagOf(name, "default")
		if !ok || !slices.Contains(textFolders, folder) {
			if tag, ok = tagOf(folder, "default"); !ok || !slices.Contains(textFolders,
				path.Base(path.Dir(path.Clean(dir)))) {
				return nil
			}
		}
		data, err := readEntry(f, maxTextFile)
		if err != nil {
			return err
		}
		var table map[string]any
		if json.Unmarshal(data, &table) != nil {
			return nil
		}
		return g.nested("", table, config{language: tag}, 0)
	}
	return nil
}

// textFolders are where web apps keep their texts.
var textFolders = []string{"locales", "locale", "i18n", "lang", "languages", "translations"}

// tagOf reads a name as a language; other is what is called the text for all others.
func tagOf(name, other string) (string, bool) {
	if name == other {
		return "", true
	}
	tag, err := language.Parse(strings.ReplaceAll(name, "_", "-"))
	if err != nil || tag == language.Und {
		return "", false
	}
	return tag.String(), true
}

// maxTextDepth bounds how deep keys are nested.
const maxTextDepth = 12

func (g *gathered) nested(before string, table map[string]any, c config, depth int) error {
	if depth > maxTextDepth {
		return nil
	}
	for key, v := range table {
		switch v := v.(type) {
		case string:
			if err := g.add(before+key, c, v); err != nil {
				return err
			}
		case map[string]any:
			if err := g.nested(before+key+".", v, c, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// Speaker gives texts in a language.
type Speaker struct {
	texts   Texts
	tags    []string // languages that there are texts in
	matcher language.Matcher
}

// Speaker prepares to give texts in languages.
func (t Texts) Speaker() *Speaker {
	s := &Speaker{texts: t}
	for _, by := range t {
		for tag := range by {
			if tag != "" && !slices.Contains(s.tags, tag) {
				s.tags = append(s.tags, tag)
			}
		}
	}
	slices.Sort(s.tags)
	tags := []language.Tag{language.Und}
	for _, tag := range s.tags {
		tags = append(tags, language.Make(tag))
	}
	s.matcher = language.NewMatcher(tags)
	return s
}

// Say gives a text by its key, in a language or the one nearest to it that the app has, as the
// systems choose it: the same language in another country before the one for all others.
func (s *Speaker) Say(key, tag string) (string, bool) {
	by, ok := s.texts[key]
	if !ok {
		return "", false
	}
	if text, ok := by[tag]; ok {
		return text, true
	}
	wanted := language.Make(tag)
	if _, i, confidence := s.matcher.Match(wanted); i > 0 && confidence >= language.High {
		if text, ok := by[s.tags[i-1]]; ok {
			return text, true
		}
	}
	base, _ := wanted.Base()
	if text, ok := by[base.String()]; ok {
		return text, true
	}
	if text, ok := by[""]; ok {
		return text, true
	}
	for _, t := range s.tags { // the table has no text for all others: what is nearest
		if b, _ := language.Make(t).Base(); b == base {
			if text, ok := by[t]; ok {
				return text, true
			}
		}
	}
	return "", false
}
