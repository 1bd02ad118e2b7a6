package phone

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yamato/internal/bridge"
)

// maxLine bounds a command line, in bytes.
const maxLine = 64 << 10

// shell carries out a command line, with separate outputs and an exit code where the bridge asks for them so.
func (p *Phone) shell(ctx context.Context, s *stream, line string, framed bool) {
	if !framed {
		p.run(ctx, line, s, s, s)
		return
	}
	var writing sync.Mutex
	frame := func(f bridge.Frame) io.Writer {
		return writerFunc(func(b []byte) (int, error) {
			writing.Lock()
			defer writing.Unlock()
			if _, err := s.Write(bridge.AppendFrame(nil, f, b)); err != nil {
				return 0, err
			}
			return len(b), nil
		})
	}
	in, feed := io.Pipe()
	go func() { // ends with the stream, which is closed when the line is done
		for {
			f, data, err := bridge.ReadFrame(s)
			switch {
			case err != nil:
				_ = feed.CloseWithError(io.EOF)
				return
			case f == bridge.FrameIn:
				if _, err := feed.Write(data); err != nil {
					continue // nobody reads; what comes is let go
				}
			case f == bridge.FrameNoMore:
				_ = feed.Close()
			}
		}
	}()
	out := frame(bridge.FrameOut)
	cut := p.fate.befalls(p.config.Troubles.Cut)
	if cut {
		out = &breaks{to: out, after: p.fate.number(2000)}
	}
	code := p.run(ctx, line, in, out, frame(bridge.FrameErr))
	_ = in.Close()
	if cut {
		return // and no exit code comes
	}
	_, _ = frame(bridge.FrameExit).Write([]byte{byte(code)})
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(b []byte) (int, error) { return f(b) }

// job is a command that is carried out.
type job struct {
	ctx      context.Context
	phone    *Phone
	args     []string // the first is its name
	in       io.Reader
	out, err io.Writer
	line     *lineState
}

// lineState is what the commands of a line share.
type lineState struct {
	last int // exit code
	ends bool
}

func (j *job) say(format string, args ...any) { fmt.Fprintf(j.out, format, args...) }

// fail tells what is wrong, and gives the exit code that goes with it.
func (j *job) fail(code int, format string, args ...any) int {
	fmt.Fprintf(j.err, format+"\n", args...)
	return code
}

// run carries a line out and gives its exit code.
func (p *Phone) run(ctx context.Context, line string, in io.Reader, out, errs io.Writer) int {
	if len(line) > maxLine {
		fmt.Fprintln(errs, "sh: the line is too long")
		return 1
	}
	words, err := split(line)
	if err != nil {
		fmt.Fprintf(errs, "/system/bin/sh: syntax error: %v\n", err)
		return 1
	}
	state := &lineState{}
	for len(words) > 0 && !state.ends && ctx.Err() == nil {
		n := 0
		for n < len(words) && !words[n].separates("&&", "||", ";") {
			n++
		}
		state.last = p.pipeline(ctx, words[:n], in, out, errs, state)
		for n < len(words) { // what does not follow from it is passed over
			w := words[n]
			n++
			if w.text == ";" || w.text == "&&" && state.last == 0 || w.text == "||" && state.last != 0 {
				break
			}
			for n < len(words) && !words[n].separates("&&", "||", ";") {
				n++
			}
		}
		words = words[n:]
	}
	return state.last
}

// pipeline carries out commands whose outputs are the next one's input.
func (p *Phone) pipeline(ctx context.Context, words []word, in io.Reader, out, errs io.Writer, state *lineState) int {
	for i, w := range words {
		if !w.separates("|") {
			continue
		}
		var between pipe
		p.pipeline(ctx, words[:i], in, &between, errs, state)
		return p.pipeline(ctx, words[i+1:], &between.Buffer, out, errs, state)
	}
	return p.command(ctx, words, in, out, errs, state)
}

// maxPipe bounds what lies between two commands, in bytes.
const maxPipe = 32 << 20

// pipe is what lies between two commands. A phone keeps the first waiting until the second reads; here what is too much ends it.
type pipe struct{ bytes.Buffer }

func (p *pipe) Write(b []byte) (int, error) {
	if p.Len()+len(b) > maxPipe {
		return 0, io.ErrClosedPipe
	}
	return p.Buffer.Write(b)
}

func (p *Phone) command(ctx context.Context, words []word, in io.Reader, out, errs io.Writer, state *lineState) int {
	j := &job{ctx: ctx, phone: p, in: in, out: out, err: errs, line: state}
	both := false // outputs go the same way
	for i := 0; i < len(words); i++ {
		w := words[i]
		switch {
		case w.quoted:
			j.args = append(j.args, w.text)
		case w.text == "2>&1":
			j.err, both = j.out, true
		case (w.text == ">" || w.text == "2>" || w.text == ">>" || w.text == "<") && i+1 < len(words):
			i++
			done, err := j.redirect(w.text, words[i].text)
			if err != nil {
				return j.fail(1, "/system/bin/sh: can't create %s: %v", words[i].text, err)
			}
			defer done()
		default:
			j.args = append(j.args, strings.ReplaceAll(w.text, "$?", strconv.Itoa(state.last)))
		}
	}
	if len(j.args) == 0 {
		return 0
	}
	if extra := p.config.Extra[j.args[0]]; extra != nil {
		return extra(j.out)
	}
	do := commands[j.args[0]]
	if do == nil {
		return j.fail(127, "/system/bin/sh: %s: inaccessible or not found", j.args[0])
	}
	if !slices.Contains(asTheyGo, j.args[0]) { // each packet waits until the bridge has taken it
		b := bufio.NewWriterSize(j.out, 64<<10)
		defer b.Flush()
		if both {
			j.err = b
		}
		j.out = b
	}
	p.befall(ctx)
	if b, ok := p.breaking(j.out).(*breaks); ok {
		j.out = b
		defer b.now()
	}
	return do(j)
}

// asTheyGo are the commands whose output somebody reads while they are at it.
var asTheyGo = []string{"cat", "screenrecord", "screencap"}

// redirect has a file, or nothing, in the place of an output or of the input.
func (j *job) redirect(how, to string) (done func(), err error) {
	if to == "/dev/null" {
		switch how {
		case "<":
			j.in = strings.NewReader("")
		case "2>":
			j.err = io.Discard
		default:
			j.out = io.Discard
		}
		return func() {}, nil
	}
	if to == touchscreen && how == ">" {
		f := &fingers{job: j}
		j.out = f
		return func() { _ = f.act() }, nil
	}
	if how == "<" {
		f, err := j.phone.files.Get(to)
		if err != nil {
			return nil, err
		}
		j.in = f
		return func() { _ = f.Close() }, nil
	}
	before := []byte{}
	if how == ">>" {
		if f, err := j.phone.files.Get(to); err == nil {
			before, _ = io.ReadAll(io.LimitReader(f, maxCat))
			_ = f.Close()
		}
	}
	up, err := j.phone.files.Put(to, 0o644)
	if err != nil {
		return nil, err
	}
	if _, err := up.Write(before); err != nil {
		return nil, err
	}
	if how == "2>" {
		j.err = up
	} else {
		j.out = up
	}
	return func() { _ = up.Commit(time.Now()) }, nil
}

// word is a word of a line; one that was quoted means nothing else.
type word struct {
	text   string
	quoted bool
}

func (w word) separates(by ...string) bool {
	if w.quoted {
		return false
	}
	for _, b := range by {
		if w.text == b {
			return true
		}
	}
	return false
}

var errQuote = errors.New("unterminated quoted string")

// split parts a line into words as a shell does: blanks part them, quotes and backslashes keep what they hold.
func split(line string) (out []word, err error) {
	var b strings.Builder
	begun, quoted := false, false
	end := func() {
		if begun {
			out = append(out, word{b.String(), quoted})
		}
		b.Reset()
		begun, quoted = false, false
	}
	for i := 0; i < len(line); i++ {
		c := line[i]
		rest := line[i:]
		switch {
		case c == '\'' || c == '"':
			begun, quoted = true, true
			close := i + 1
			for close < len(line) && line[close] != c {
				if c == '"' && line[close] == '\\' && close+1 < len(line) {
					close++
				}
				b.WriteByte(line[close])
				close++
			}
			if close >= len(line) {
				return nil, errQuote
			}
			i = close
		case c == '\\' && i+1 < len(line):
			i++
			begun, quoted = true, true
			b.WriteByte(line[i])
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			end()
			if c == '\n' {
				out = append(out, word{text: ";"})
			}
		case strings.HasPrefix(rest, "2>&1"):
			end()
			out = append(out, word{text: "2>&1"})
			i += 3
		case strings.HasPrefix(rest, "&&") || strings.HasPrefix(rest, "||") || strings.HasPrefix(rest, ">>") ||
			strings.HasPrefix(rest, "2>") && !begun:
			end()
			out = append(out, word{text: rest[:2]})
			i++
		case c == ';' || c == '|' || c == '>' || c == '<':
			end()
			out = append(out, word{text: string(c)})
		default:
			begun = true
			b.WriteByte(c)
		}
	}
	end()
	return out, nil
}
