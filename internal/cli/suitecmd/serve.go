package suitecmd

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf16"

	"github.com/spf13/cobra"
	"go.lsp.dev/jsonrpc2"
	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/script"
	"yamato/internal/core/script/edit"
)

func (a *App) suiteServe() *cobra.Command {
	var app string
	cmd := &cobra.Command{
		Use: "serve", Short: "Help an editor write scripts, by the Language Server Protocol over standard input and output",
		Long: "Help an editor write scripts, by the Language Server Protocol over standard input and output: findings,\n" +
			"completion, hover, the way to an action, renaming, layout. docs/editors.md says how editors are set up.\n" +
			"With --app, ids and texts that the app's screens had are asked of the service once, at the start.",
		Example: "  yamato suite serve\n  yamato suite serve --app Tideline",
		Args:    ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var seen []script.Seen
			if app != "" {
				s, err := a.Connect(cmd.Context())
				if err != nil {
					return err
				}
				list, err := client.As[[]contract.SeenElement](s.ListSeen(cmd.Context(), s.Project, app))
				if err != nil {
					return err
				}
				for _, e := range list {
					seen = append(seen, script.Seen{ID: e.Id, Text: e.Text, Role: e.Role, Screen: e.Screen,
						Unsure: e.Unsure})
				}
			}
			return ServeEditor(cmd.Context(), a.In, a.Document(), app, seen)
		},
	}
	cmd.Flags().StringVar(&app, "app", "", "complete and check with what this app's screens had, as the service knows it")
	_ = cmd.RegisterFlagCompletionFunc("app", a.Complete(ui.CompleteApps))
	return cmd
}

// ServeEditor serves one editor until it leaves.
func ServeEditor(ctx context.Context, in io.Reader, out io.Writer, app string, seen []script.Seen) error {
	s := &languageServer{app: app, seen: seen, texts: map[uri.URI]string{}, gone: make(chan struct{})}
	conn := jsonrpc2.NewConn(jsonrpc2.NewStream(pipe{in, out}))
	s.conn = conn
	deaf := make(chan error, 1) // an answer could not be written
	conn.Go(ctx, func(ctx context.Context, reply jsonrpc2.Replier, r jsonrpc2.Request) error {
		if err := s.handle(ctx, reply, r); err != nil {
			select {
			case deaf <- err:
			default:
			}
		}
		return nil // the connection keeps one error, and panics where a second is of another type
	})
	select {
	case <-conn.Done():
	case err := <-deaf:
		if ctx.Err() != nil || s.closing.Load() {
			return nil // an editor that leaves need not read what it asked last
		}
		return fmt.Errorf("the editor cannot be answered: %w", err)
	case <-s.gone:
		if !s.closing.Load() { // Language Server Protocol 3.17, exit: without shutdown it ends with 1
			return ui.Failed{Title: "the editor left without `shutdown`", Hint: ""}
		}
	case <-ctx.Done():
	}
	if err := conn.Err(); err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrClosedPipe) &&
		ctx.Err() == nil {
		return fmt.Errorf("the editor cannot be understood: %w", err)
	}
	return nil
}

// pipe is standard input and output as one.
type pipe struct {
	io.Reader
	io.Writer
}

func (pipe) Close() error { return nil }

// languageServer is what one editor has open.
type languageServer struct {
	app  string
	seen []script.Seen
	conn jsonrpc2.Conn
	gone chan struct{}
	once sync.Once

	begun, closing atomic.Bool // initialize, and shutdown, have come

	mu    sync.Mutex
	texts map[uri.URI]string
}

// maxOpen bounds the documents that an editor may have open.
const maxOpen = 500

// handle answers one message. What is not known is said to be so.
func (s *languageServer) handle(ctx context.Context, reply jsonrpc2.Replier, r jsonrpc2.Request) error {
	answer := func(v any, err error) error { return reply(ctx, v, err) }
	switch {
	case r.Method() == protocol.MethodExit:
	case !s.begun.Load() && r.Method() != protocol.MethodInitialize: // nothing comes before it
		if isNotice(r) {
			return nil
		}
		return answer(nil, jsonrpc2.NewError(jsonrpc2.ServerNotInitialized, "`initialize` comes first"))
	case s.closing.Load():
		if isNotice(r) {
			return nil
		}
		return answer(nil, jsonrpc2.NewError(jsonrpc2.InvalidRequest, "after `shutdown` only `exit` may come"))
	}
	switch r.Method() {
	case protocol.MethodInitialize:
		if s.begun.Swap(true) {
			return answer(nil, jsonrpc2.NewError(jsonrpc2.InvalidRequest, "`initialize` comes once"))
		}
		return answer(s.capabilities(), nil)
	case protocol.MethodInitialized:
		return answer(nil, nil)
	case protocol.MethodShutdown:
		s.closing.Store(true)
		return answer(nil, nil)
	case protocol.MethodExit:
		s.once.Do(func() { close(s.gone) })
		return nil
	case protocol.MethodTextDocumentDidOpen:
		return with(r, func(p protocol.DidOpenTextDocumentParams) error {
			return s.open(ctx, p.TextDocument.URI, p.TextDocument.Text)
		})
	case protocol.MethodTextDocumentDidChange:
		return with(r, func(p protocol.DidChangeTextDocumentParams) error {
			if n := len(p.ContentChanges); n > 0 { // whole texts, as the capabilities say
				return s.open(ctx, p.TextDocument.URI, p.ContentChanges[n-1].Text)
			}
			return nil
		})
	case protocol.MethodTextDocumentDidClose:
		return with(r, func(p protocol.DidCloseTextDocumentParams) error {
			s.mu.Lock()
			delete(s.texts, p.TextDocument.URI)
			s.mu.Unlock()
			return s.conn.Notify(ctx, protocol.MethodTextDocumentPublishDiagnostics, protocol.PublishDiagnosticsParams{
				URI: p.TextDocument.URI, Diagnostics: []protocol.Diagnostic{}})
		})
	case protocol.MethodTextDocumentCompletion:
		return ask(r, answer, func(p protocol.CompletionParams) (any, error) {
			return s.complete(p.TextDocument.URI,
				p.Position)
		})
	case protocol.MethodTextDocumentHover:
		return ask(r, answer, func(p protocol.HoverParams) (any, error) {
			return s.hover(p.TextDocument.URI,
				p.Position)
		})
	case protocol.MethodTextDocumentDefinition:
		return ask(r, answer, func(p protocol.DefinitionParams) (any, error) {
			return s.definition(p.TextDocument.URI,
				p.Position)
		})
	case protocol.MethodTextDocumentRename:
		return ask(r, answer, func(p protocol.RenameParams) (any, error) {
			return s.rename(p.TextDocument.URI, p.Position, p.NewName)
		})
	case protocol.MethodTextDocumentDocumentSymbol:
		return ask(r, answer, func(p protocol.DocumentSymbolParams) (any,
			error) {
			return s.outline(p.TextDocument.URI)
		})
	case protocol.MethodTextDocumentFormatting:
		return ask(r, answer, func(p protocol.DocumentFormattingParams) (any,
			error) {
			return s.layout(p.TextDocument.URI)
		})
	}
	if strings.HasPrefix(r.Method(), "$/") || isNotice(r) {
		return nil
	}
	return jsonrpc2.MethodNotFoundHandler(ctx, reply, r)
}

func isNotice(r jsonrpc2.Request) bool {
	_, call := r.(*jsonrpc2.Call)
	return !call
}

func with[P any](r jsonrpc2.Request, do func(P) error) error {
	var p P
	if err := json.Unmarshal(r.Params(), &p); err != nil {
		return fmt.Errorf("%s cannot be read: %w", r.Method(), err)
	}
	return do(p)
}

func ask[P any](r jsonrpc2.Request, answer func(any, error) error, do func(P) (any, error)) error {
	var p P
	if err := json.Unmarshal(r.Params(), &p); err != nil {
		return answer(nil, jsonrpc2.Errorf(jsonrpc2.InvalidParams, "%s cannot be read: %v", r.Method(), err))
	}
	return answer(do(p))
}

func (s *languageServer) capabilities() protocol.InitializeResult {
	return protocol.InitializeResult{
		Capabilities: protocol.ServerCapabilities{
			TextDocumentSync: protocol.TextDocumentSyncOptions{OpenClose: true,
				Change: protocol.TextDocumentSyncKindFull},
			CompletionProvider:         &protocol.CompletionOptions{TriggerCharacters: []string{"#", "$", "\"", "{"}},
			HoverProvider:              true,
			DefinitionProvider:         true,
			RenameProvider:             true,
			DocumentFormattingProvider: true,
			DocumentSymbolProvider:     true,
		},
		ServerInfo: &protocol.ServerInfo{Name: "yamato", Version: ui.Version},
	}
}

// open takes a text as it is now, and tells what is to be said of it.
func (s *languageServer) open(ctx context.Context, at uri.URI, text string) error {
	s.mu.Lock()
	_, had := s.texts[at]
	full := !had && len(s.texts) >= maxOpen
	if !full {
		s.texts[at] = text
	}
	s.mu.Unlock()
	if full {
		return nil
	}
	if err := s.tell(ctx, at, text); err != nil {
		return err
	}
	return s.renew(ctx, at)
}

// tell tells what is to be said of a text.
func (s *languageServer) tell(ctx context.Context, at uri.URI, text string) error {
	suite, findings := s.read(at, text)
	if script.Faults(findings) == 0 && len(s.seen) > 0 {
		findings = append(findings, suite.Against(script.Against{App: s.app, Seen: s.seen})...)
	}
	list := []protocol.Diagnostic{}
	lines := strings.Split(text, "\n")
	for _, f := range findings {
		d := protocol.Diagnostic{Severity: protocol.DiagnosticSeverityError, Source: "yamato", Code: string(f.Rule),
			Message: f.Message}
		if f.Advice {
			d.Severity = protocol.DiagnosticSeverityInformation
		}
		if f.Hint != "" {
			d.Message += "; " + f.Hint
		}
		if f.Pos.File == "" {
			d.Range = span(lines, f.Pos, f.Length)
		} else { // told on the first line, where the file that it is in is not the one that is open
			d.Message = fmt.Sprintf("%s, line %d: %s", f.Pos.File, f.Pos.Line, d.Message)
		}
		list = append(list, d)
	}
	return s.conn.Notify(ctx, protocol.MethodTextDocumentPublishDiagnostics, protocol.PublishDiagnosticsParams{URI: at,
		Diagnostics: list})
}

// read reads a text with the files beside it: those that are open as the editor has them.
func (s *languageServer) read(at uri.URI, text string) (*script.Suite, []script.Finding) {
	files := openFiles{s, newFolder(fileOf(at))}
	if script.IsShared(text) {
		return script.ReadShared("", text, files)
	}
	return script.ReadWith(text, files)
}

func fileOf(at uri.URI) string {
	if !strings.HasPrefix(string(at), "file://") {
		return "unnamed" + script.Ending
	}
	return at.Filename()
}

type openFiles struct {
	server *languageServer
	folder folder
}

func (f openFiles) Text(path string) (string, error) {
	if at, err := filepath.Abs(f.folder.path(path)); err == nil {
		f.server.mu.Lock()
		text, ok := f.server.texts[uri.File(at)]
		f.server.mu.Unlock()
		if ok {
			return text, nil
		}
	}
	return f.folder.Text(path)
}

func (s *languageServer) document(at uri.URI) (edit.Document, []string) {
	s.mu.Lock()
	text := s.texts[at]
	s.mu.Unlock()
	suite, _ := s.read(at, text)
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	return edit.Document{Suite: suite, Lines: lines, Seen: s.seen}, lines
}

var kinds = map[string]protocol.CompletionItemKind{"step": protocol.CompletionItemKindKeyword,
	"word":   protocol.CompletionItemKindKeyword,
	"action": protocol.CompletionItemKindFunction, "variable": protocol.CompletionItemKindVariable,
	"role": protocol.CompletionItemKindClass,
	"id":   protocol.CompletionItemKindField, "text": protocol.CompletionItemKindText}

func (s *languageServer) complete(at uri.URI, p protocol.Position) (any, error) {
	d, lines := s.document(at)
	line, column := place(lines, p)
	items := []protocol.CompletionItem{}
	for _, i := range d.Complete(line, column) {
		items = append(items, protocol.CompletionItem{Label: i.Text, Kind: kinds[i.Kind], Detail: i.Detail,
			TextEdit: &protocol.TextEdit{Range: span(lines, script.Pos{Line: line, Column: i.From}, column-i.From),
				NewText: i.Text}})
	}
	return protocol.CompletionList{Items: items}, nil
}

func (s *languageServer) hover(at uri.URI, p protocol.Position) (any, error) {
	d, lines := s.document(at)
	line, column := place(lines, p)
	if text := d.Hover(line, column); text != "" {
		return protocol.Hover{Contents: protocol.MarkupContent{Kind: protocol.Markdown, Value: text}}, nil
	}
	return nil, nil
}

func (s *languageServer) definition(at uri.URI, p protocol.Position) (any, error) {
	d, lines := s.document(at)
	line, column := place(lines, p)
	found, ok := d.Definition(line, column)
	if !ok {
		return []protocol.Location{}, nil
	}
	return []protocol.Location{{URI: beside(at, found.File), Range: span(s.linesOf(d, found.File),
		found.Pos, found.Length)}}, nil
}

func (s *languageServer) linesOf(d edit.Document, file string) []string {
	if file == "" {
		return d.Lines
	}
	return d.Suite.Source(file)
}

// beside is the address of a file of a suite.
func beside(at uri.URI, file string) uri.URI {
	if file == "" {
		return at
	}
	return uri.File(newFolder(fileOf(at)).path(file))
}

func (s *languageServer) layout(at uri.URI) (any, error) {
	s.mu.Lock()
	text := s.texts[at]
	s.mu.Unlock()
	files := openFiles{s, newFolder(fileOf(at))}
	laid, findings := "", []script.Finding(nil)
	if script.IsShared(text) {
		laid, findings = script.FormatShared("", text, files)
	} else {
		laid, findings = script.FormatWith(text, files)
	}
	if script.Faults(findings) > 0 || laid == text {
		return []protocol.TextEdit{}, nil
	}
	lines := strings.Split(text, "\n")
	last := lines[len(lines)-1]
	whole := protocol.Range{End: protocol.Position{Line: uint32(len(lines) - 1),
		Character: uint32(len(utf16.Encode([]rune(last))))}}
	return []protocol.TextEdit{{Range: whole, NewText: laid}}, nil
}

// span is a range as the protocol counts it: from 0, in units of UTF-16.
func span(lines []string, at script.Pos, length int) protocol.Range {
	line := ""
	if at.Line >= 1 && at.Line <= len(lines) {
		line = strings.TrimPrefix(lines[at.Line-1], "\ufeff")
	}
	runes := []rune(line)
	units := func(n int) uint32 { return uint32(len(utf16.Encode(runes[:max(0, min(n, len(runes)))]))) }
	return protocol.Range{Start: protocol.Position{Line: uint32(max(0, at.Line-1)), Character: units(at.Column - 1)},
		End: protocol.Position{Line: uint32(max(0, at.Line-1)), Character: units(at.Column - 1 + length)}}
}

// place is a position as scripts count it: from 1, in characters.
func place(lines []string, p protocol.Position) (line, column int) {
	line = int(p.Line) + 1
	if line > len(lines) {
		return line, 1
	}
	units := utf16.Encode([]rune(lines[line-1]))
	return line, len(utf16.Decode(units[:min(int(p.Character), len(units))])) + 1
}
