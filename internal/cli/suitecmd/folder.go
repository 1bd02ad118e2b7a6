package suitecmd

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"yamato/internal/cli/ui"
	"yamato/internal/contract"
	"yamato/internal/core/script"
	"yamato/internal/core/script/bundle"
)

// folder is where a suite lies, with the files beside it.
type folder struct{ dir string }

func newFolder(suite string) folder { return folder{filepath.Dir(suite)} }

// Text gives a file by its path from the suite's folder on.
func (f folder) Text(path string) (string, error) {
	text, err := ui.ReadSmall(f.path(path))
	return string(text), plainly(err)
}

// plainly leaves the path out of an error, which is told with the file.
func plainly(err error) error {
	if os.IsNotExist(err) {
		return fmt.Errorf("there is no such file")
	}
	return err
}

func (f folder) path(name string) string { return filepath.Join(f.dir, filepath.FromSlash(name)) }

// shown is how people know a file of a suite.
func (f folder) shown(name, suite string) string {
	if name == "" {
		return suite
	}
	return f.path(name)
}

// beside gives what a suite uses and gives, to be handed in with it.
func (f folder) beside(suite *script.Suite) ([]contract.SuiteFile, error) {
	var names []string
	for _, u := range suite.Uses {
		names = append(names, u.File)
	}
	names = append(names, suite.Asks().Files...)
	slices.Sort(names)
	var out []contract.SuiteFile
	size := 0
	for _, name := range slices.Compact(names) {
		info, err := os.Stat(f.path(name))
		if err == nil && info.IsDir() {
			err = fmt.Errorf("it is a folder")
		}
		var data []byte
		if err == nil {
			if size += int(min(info.Size(), 1<<30)); size > bundle.MaxSize {
				return nil, ui.WrongCall{Title: fmt.Sprintf("what this suite uses and gives takes more than %d MB",
					bundle.MaxSize>>20), Hint: ""}
			}
			data, err = os.ReadFile(f.path(name))
		}
		if err != nil {
			return nil, ui.WrongCall{Title: fmt.Sprintf("%s cannot be read: %v", f.path(name), plainly(err)),
				Hint: "paths in a script are counted from its own folder on"}
		}
		out = append(out, contract.SuiteFile{Path: name, Content: data})
	}
	return out, nil
}

// read reads a script: a suite, or a file that suites use.
func read(path, text string) (*script.Suite, []script.Finding) {
	if script.IsShared(text) {
		s, findings := script.ReadShared("", text, newFolder(path))
		return s, script.Ended(path, findings)
	}
	s, findings := script.ReadWith(text, newFolder(path))
	return s, script.Ended(path, findings)
}

// format lays a script out.
func format(path, text string) (string, []script.Finding) {
	if script.IsShared(text) {
		return script.FormatShared("", text, newFolder(path))
	}
	return script.FormatWith(text, newFolder(path))
}
