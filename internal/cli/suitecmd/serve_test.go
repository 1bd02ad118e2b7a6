package suitecmd_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.lsp.dev/jsonrpc2"
	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"yamato/internal/cli/suitecmd"
	"yamato/internal/testbin"
)

// editor is a client of the protocol, as an editor is one, with the server as a process of its own.
type editor struct {
	t     *testing.T
	conn  jsonrpc2.Conn
	told  chan protocol.PublishDiagnosticsParams
	ended chan error
}

type standard struct {
	io.Reader
	io.WriteCloser
}

func openEditor(t *testing.T) *editor {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	t.Cleanup(cancel)
	server := exec.CommandContext(ctx, testbin.Program(t), "suite", "serve")
	server.Env = append(os.Environ(), "HOME="+t.TempDir())
	in, err := server.StdinPipe()
	require.NoError(t, err)
	out, err := server.StdoutPipe()
	require.NoError(t, err)
	var trouble bytes.Buffer
	server.Stderr = &trouble
	require.NoError(t, server.Start())
	e := &editor{t: t, told: make(chan protocol.PublishDiagnosticsParams, 100), ended: make(chan error, 1)}
	e.conn = jsonrpc2.NewConn(jsonrpc2.NewStream(standard{out, in}))
	e.conn.Go(ctx, func(ctx context.Context, reply jsonrpc2.Replier, r jsonrpc2.Request) error {
		if r.Method() == protocol.MethodTextDocumentPublishDiagnostics {
			var p protocol.PublishDiagnosticsParams
			if err := json.Unmarshal(r.Params(), &p); err != nil {
				return err
			}
			e.told <- p
		}
		return reply(ctx, nil, nil)
	})
	t.Cleanup(func() {
		ctx, stop := context.WithCancel(ctx)
		go func() { defer stop(); <-e.conn.Done() }()              // whoever has left answers no more
		_, _ = e.conn.Call(ctx, protocol.MethodShutdown, nil, nil) // it may have left
		stop()
		_ = e.conn.Close()
		<-e.conn.Done()
		if err := server.Wait(); err != nil {
			t.Errorf("the server ends badly: %v\n%s", err, trouble.String())
		}
	})
	var begun protocol.InitializeResult
	e.call(protocol.MethodInitialize, protocol.InitializeParams{}, &begun)
	require.Equal(t, true, begun.Capabilities.HoverProvider)
	return e
}

func (e *editor) call(method string, params, result any) {
	e.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	_, err := e.conn.Call(ctx, method, params, result)
	require.NoError(e.t, err, method)
}

// write gives the server a text as it is now, and returns what it says of it.
func (e *editor) write(at uri.URI, text string, first bool) []protocol.Diagnostic {
	e.t.Helper()
	var err error
	if first {
		err = e.conn.Notify(context.Background(), protocol.MethodTextDocumentDidOpen,
			protocol.DidOpenTextDocumentParams{
				TextDocument: protocol.TextDocumentItem{URI: at, LanguageID: "suite", Version: 1, Text: text}})
	} else {
		err = e.conn.Notify(context.Background(), protocol.MethodTextDocumentDidChange,
			protocol.DidChangeTextDocumentParams{
				TextDocument:   protocol.VersionedTextDocumentIdentifier{TextDocumentIdentifier: protocol.TextDocumentIdentifier{URI: at}},
				ContentChanges: []protocol.TextDocumentContentChangeEvent{{Text: text}}})
	}
	require.NoError(e.t, err)
	select {
	case p := <-e.told:
		require.Equal(e.t, at, p.URI)
		return p.Diagnostics
	case <-time.After(20 * time.Second):
		require.Fail(e.t, "nothing is said of the text")
		return nil
	}
}

func at(text, where string) protocol.Position {
	before, _, _ := strings.Cut(text, where)
	lines := strings.Split(before, "\n")
	return protocol.Position{Line: uint32(len(lines) - 1), Character: uint32(len(lines[len(lines)-1]))}
}

func TestAnEditorIsHelpedToWriteASuite(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "steps"), 0o755))
	sharedPath := filepath.Join(dir, "steps", "about.yamato")
	require.NoError(t, os.WriteFile(sharedPath, []byte("action open the map\n  tap #map\nend\n"), 0o644))
	e := openEditor(t)
	suite := uri.File(filepath.Join(dir, "tickets.yamato"))
	ref := protocol.TextDocumentIdentifier{URI: suite}

	text := "suite \"Tickets\"\nuse \"steps/about.yamato\"\n\ncase \"c\"\n do open the map\n tpa \"🚢\"\n expect #a\nend\n"
	said := e.write(suite, text, true)
	require.Len(t, said, 1)
	require.Equal(t, protocol.DiagnosticSeverityError, said[0].Severity)
	require.Contains(t, said[0].Message, "did you mean `tap`?")
	require.Equal(t, protocol.Range{Start: protocol.Position{Line: 5, Character: 1}, End: protocol.Position{Line: 5,
		Character: 4}}, said[0].Range)

	text = strings.Replace(text, "tpa", "tap", 1)
	require.Empty(t, e.write(suite, text, false))

	var items protocol.CompletionList
	e.call(protocol.MethodTextDocumentCompletion, protocol.CompletionParams{TextDocumentPositionParams: protocol.TextDocumentPositionParams{
		TextDocument: ref, Position: at(text, "open the map")}}, &items)
	require.NotEmpty(t, items.Items)
	require.Contains(t, items.Items[0].Label, "open the map")

	var hover protocol.Hover
	e.call(protocol.MethodTextDocumentHover, protocol.HoverParams{TextDocumentPositionParams: protocol.TextDocumentPositionParams{
		TextDocument: ref, Position: at(text, "expect")}}, &hover)
	require.Contains(t, hover.Contents.Value, "expect")

	var where []protocol.Location
	e.call(protocol.MethodTextDocumentDefinition, protocol.DefinitionParams{TextDocumentPositionParams: protocol.TextDocumentPositionParams{
		TextDocument: ref, Position: at(text, "the map")}}, &where)
	require.Len(t, where, 1)
	require.Equal(t, uri.File(sharedPath), where[0].URI)
	require.Zero(t, where[0].Range.Start.Line)

	var edit protocol.WorkspaceEdit
	e.call(protocol.MethodTextDocumentRename, protocol.RenameParams{TextDocumentPositionParams: protocol.TextDocumentPositionParams{
		TextDocument: ref, Position: at(text, "the map")}, NewName: "look at the sea"}, &edit)
	require.Len(t, edit.Changes[suite], 1)
	require.Len(t, edit.Changes[uri.File(sharedPath)], 1)
	require.Equal(t, "look at the sea", edit.Changes[uri.File(sharedPath)][0].NewText)

	var edits []protocol.TextEdit
	e.call(protocol.MethodTextDocumentFormatting, protocol.DocumentFormattingParams{TextDocument: ref}, &edits)
	require.Len(t, edits, 1)
	require.Contains(t, edits[0].NewText, "\n  tap \"🚢\"\n")

	// A file that suites use is no suite without a name; one that is open counts as the editor has it.
	require.Empty(t, e.write(uri.File(sharedPath), "action open a map\n  tap #map\nend\n", true))
	said = e.write(suite, text+"\n", false)
	require.Len(t, said, 1)
	require.Contains(t, said[0].Message, "there is no action `open the map`")

	// What no server of this protocol knows is answered, and it goes on.
	_, err := e.conn.Call(context.Background(), "suite/unheardOf", map[string]string{}, nil)
	require.Error(t, err)
	_, err = e.conn.Call(context.Background(), protocol.MethodTextDocumentRename,
		protocol.RenameParams{TextDocumentPositionParams: protocol.TextDocumentPositionParams{
			TextDocument: ref, Position: protocol.Position{Line: 4_000_000_000,
				Character: 4_000_000_000}}, NewName: "x"}, nil)
	require.ErrorContains(t, err, "nothing here that can be renamed")
	e.call(protocol.MethodShutdown, nil, nil)
	require.NoError(t, e.conn.Notify(context.Background(), protocol.MethodExit, nil))
}

// reads gives what the server says of a text next, whichever it is.
func (e *editor) reads() protocol.PublishDiagnosticsParams {
	e.t.Helper()
	select {
	case p := <-e.told:
		return p
	case <-time.After(20 * time.Second):
		require.Fail(e.t, "nothing is said")
		return protocol.PublishDiagnosticsParams{}
	}
}

func TestAFolderOfSuitesIsOneToAnEditor(t *testing.T) {
	dir := t.TempDir()
	files := map[string]string{"shared.yamato": "action open the map\n  tap #map\nend\naction close it\n  tap #close\nend\n",
		"a.yamato": "suite \"A\"\nuse \"shared.yamato\"\ncase \"one\"\n do open the map\n expect #a\nend\ncase \"two\"\n expect #x\nend\n",
		"b.yamato": "suite \"B\"\nuse \"shared.yamato\"\ncase \"b\"\n do open the map\n do open the map\nend\n"}
	at := map[string]uri.URI{}
	for name, text := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		at[name] = uri.File(path)
	}
	e := openEditor(t)
	require.Empty(t, e.write(at["a.yamato"], files["a.yamato"], true))

	// What it holds.
	var symbols []protocol.DocumentSymbol
	e.call(protocol.MethodTextDocumentDocumentSymbol, protocol.DocumentSymbolParams{TextDocument: protocol.TextDocumentIdentifier{URI: at["a.yamato"]}}, &symbols)
	require.Len(t, symbols, 2)
	require.Equal(t, "one", symbols[0].Name)
	require.EqualValues(t, 2, symbols[0].Range.Start.Line)
	require.EqualValues(t, 5, symbols[0].Range.End.Line)

	// An action has another name in every suite of the folder, open or not, and never one that is taken.
	rename := func(to string) (protocol.WorkspaceEdit, error) {
		var out protocol.WorkspaceEdit
		_, err := e.conn.Call(context.Background(), protocol.MethodTextDocumentRename,
			protocol.RenameParams{NewName: to,
				TextDocumentPositionParams: protocol.TextDocumentPositionParams{TextDocument: protocol.TextDocumentIdentifier{URI: at["a.yamato"]},
					Position: protocol.Position{Line: 3, Character: 5}}}, &out)
		return out, err
	}
	out, err := rename("show the map")
	require.NoError(t, err)
	require.Len(t, out.Changes[at["shared.yamato"]], 1)
	require.Len(t, out.Changes[at["a.yamato"]], 1)
	require.Len(t, out.Changes[at["b.yamato"]], 2)
	_, err = rename("close it")
	require.ErrorContains(t, err, "there is an action called close it already")

	// A change in a file is a change for those that use it.
	require.Empty(t, e.write(at["shared.yamato"], files["shared.yamato"], true))
	require.Equal(t, at["a.yamato"], e.reads().URI, "told anew")
	require.Empty(t, e.write(at["shared.yamato"], strings.Replace(files["shared.yamato"], "open the map", "see the map",
		1), false))
	told := e.reads()
	require.Equal(t, at["a.yamato"], told.URI)
	require.NotEmpty(t, told.Diagnostics, "what it does is not there any more")
}

func TestTheOrderOfTheEditorsProtocolIsKept(t *testing.T) {
	speak := func(messages ...string) (string, int) {
		t.Helper()
		server := exec.Command(testbin.Program(t), "suite", "serve")
		server.Env = append(os.Environ(), "HOME="+t.TempDir())
		var in strings.Builder
		for _, m := range messages {
			fmt.Fprintf(&in, "Content-Length: %d\r\n\r\n%s", len(m), m)
		}
		server.Stdin = strings.NewReader(in.String())
		out, err := server.Output()
		if err != nil {
			require.IsType(t, &exec.ExitError{}, err)
		}
		return string(out), server.ProcessState.ExitCode()
	}
	const hello = `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{}}`
	const exit = `{"jsonrpc":"2.0","method":"exit"}`
	out, code := speak(`{"jsonrpc":"2.0","id":7,"method":"textDocument/hover","params":{}}`, hello, exit)
	require.Contains(t, out, `-32002`, "nothing before initialize")
	require.NotZero(t, code, "exit without shutdown")
	_, code = speak(hello, `{"jsonrpc":"2.0","id":2,"method":"shutdown"}`, exit)
	require.Zero(t, code)
}

// closedPipe is where an editor no longer reads; the program is about to end, too.
type closedPipe struct{ end func() }

func (c closedPipe) Write([]byte) (int, error) {
	c.end()
	return 0, &os.PathError{Op: "write", Path: "out", Err: os.ErrClosed}
}

// An editor that asks and leaves without reading ends the server with an error at most, and not with a panic.
func TestAnEditorThatReadsNoMoreIsLeft(t *testing.T) {
	ctx, end := context.WithCancel(t.Context())
	defer end()
	asks := `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{}}`
	in := strings.NewReader(strings.Repeat(fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(asks), asks), 20))
	err := suitecmd.ServeEditor(ctx, in, closedPipe{end}, "", nil)
	if err != nil { // where the end of what it says was met first, there is nothing to tell
		require.ErrorContains(t, err, "the editor cannot be answered")
	}
}
