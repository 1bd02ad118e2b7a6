package suitecmd

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"go.lsp.dev/jsonrpc2"
	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"yamato/internal/cli/ui"
	"yamato/internal/core/script"
	"yamato/internal/core/script/edit"
)

// renew tells anew what is to be said of the open texts that use one which has changed.
func (s *languageServer) renew(ctx context.Context, changed uri.URI) error {
	s.mu.Lock()
	others := map[uri.URI]string{}
	for at, text := range s.texts {
		if at != changed {
			others[at] = text
		}
	}
	s.mu.Unlock()
	for at, text := range others {
		suite, _ := s.read(at, text)
		if !slices.ContainsFunc(suite.Uses, func(u *script.Use) bool { return beside(at, u.File) == changed }) {
			continue
		}
		if err := s.tell(ctx, at, text); err != nil {
			return err
		}
	}
	return nil
}

// maxRenamed bounds the files of a folder that a renaming looks at.
const maxRenamed = 2000

// rename renames what stands at a place, an action in all suites of the folder.
func (s *languageServer) rename(at uri.URI, p protocol.Position, to string) (any, error) {
	d, lines := s.document(at)
	line, column := place(lines, p)
	changes, err := d.Renames(line, column, to)
	if err != nil {
		return nil, jsonrpc2.Errorf(jsonrpc2.InvalidParams, "%v", err)
	}
	out := map[uri.URI][]protocol.TextEdit{}
	add := func(at uri.URI, d edit.Document, changes []edit.Change) {
		for _, c := range changes {
			in := beside(at, c.File)
			one := protocol.TextEdit{Range: span(s.linesOf(d, c.File), c.Pos, c.Length), NewText: c.Text}
			if !slices.Contains(out[in], one) { // a file that several use is told once
				out[in] = append(out[in], one)
			}
		}
	}
	add(at, d, changes)
	if a := d.ActionAt(line, column); a != nil {
		home := beside(at, a.Pos.File)
		for _, other := range s.suitesOf(filepath.Dir(fileOf(at)), at) {
			d := s.documentOf(other)
			file, ok := called(other, home, d)
			if !ok {
				continue
			}
			if same := d.SameAction(file, a.Pos.Line); same != nil {
				changes, err := d.RenamesOf(same, to)
				if err != nil {
					return nil, jsonrpc2.Errorf(jsonrpc2.InvalidParams, "in %s: %v", filepath.Base(fileOf(other)), err)
				}
				add(other, d, changes)
			}
		}
	}
	return protocol.WorkspaceEdit{Changes: out}, nil
}

// called is how a document calls a file that it uses, "" for itself.
func called(at, home uri.URI, d edit.Document) (string, bool) {
	if at == home {
		return "", true
	}
	for _, a := range d.Suite.Actions {
		if a.Pos.File != "" && beside(at, a.Pos.File) == home {
			return a.Pos.File, true
		}
	}
	return "", false
}

// suitesOf are the suites of a folder and below, but for one.
func (s *languageServer) suitesOf(dir string, but uri.URI) (out []uri.URI) {
	// what cannot be read is not renamed in
	_ = filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		if err != nil || len(out) >= maxRenamed {
			return nil
		}
		if e.IsDir() && strings.HasPrefix(e.Name(), ".") && path != dir {
			return filepath.SkipDir
		}
		if at := uri.File(path); !e.IsDir() && script.IsFile(path) && at != but {
			out = append(out, at)
		}
		return nil
	})
	return out
}

// documentOf is a suite as the editor has it open, or else as it lies in the folder.
func (s *languageServer) documentOf(at uri.URI) edit.Document {
	s.mu.Lock()
	text, open := s.texts[at]
	s.mu.Unlock()
	if !open {
		body, err := ui.ReadSmall(fileOf(at))
		if err != nil {
			return edit.Document{Suite: &script.Suite{}}
		}
		text = string(body)
	}
	suite, _ := s.read(at, text)
	return edit.Document{Suite: suite, Lines: strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")}
}

var symbols = map[string]protocol.SymbolKind{"case": protocol.SymbolKindMethod, "action": protocol.SymbolKindFunction}

// outline lists what a file holds.
func (s *languageServer) outline(at uri.URI) (any, error) {
	d, lines := s.document(at)
	items := d.Outline()
	slices.SortFunc(items, func(a, b edit.Held) int { return cmp.Compare(a.Pos.Line, b.Pos.Line) })
	out := []protocol.DocumentSymbol{}
	for _, i := range items {
		if i.Name == "" {
			continue // the protocol forbids one without a name
		}
		first := span(lines, script.Pos{Line: i.Pos.Line, Column: 1}, len([]rune(lineOf(lines, i.Pos.Line))))
		last := span(lines, script.Pos{Line: i.End, Column: 1}, len([]rune(lineOf(lines, i.End))))
		out = append(out, protocol.DocumentSymbol{Name: i.Name, Kind: symbols[i.Kind], SelectionRange: first,
			Range: protocol.Range{Start: first.Start, End: last.End}})
	}
	return out, nil
}

func lineOf(lines []string, n int) string {
	if n < 1 || n > len(lines) {
		return ""
	}
	return lines[n-1]
}
