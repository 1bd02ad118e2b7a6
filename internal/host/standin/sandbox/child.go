package sandbox

import (
	"bufio"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/dop251/goja"

	"yamato/internal/core/plain"
)

// Argument, as the only argument of the program, makes it the child in
// which one stand-in's app runs.
const Argument = "app-sandbox"

// Bounds on an app.
const (
	memorySoft = 128 << 20 // where collecting garbage turns eager
	memoryHard = 320 << 20 // where the child dies
	turnCPU    = 5 * time.Second
)

//go:embed prelude.js
var prelude string

// Run is the child: it runs apps for the stand-in at the other end of
// its standard input and output until that ends, and gives its exit code. It
// has no files, no network and no more than memoryHard bytes.
func Run() int {
	for which, limit := range map[int]uint64{
		syscall.RLIMIT_DATA: memoryHard, syscall.RLIMIT_CORE: 0, syscall.RLIMIT_FSIZE: 0, syscall.RLIMIT_NOFILE: 32,
	} {
		if err := syscall.Setrlimit(which, &syscall.Rlimit{Cur: limit, Max: limit}); err != nil && !RaceEnabled {
			fmt.Fprintln(os.Stderr, "limits cannot be set:", err)
			return 1
		}
	}
	debug.SetMemoryLimit(memorySoft)
	in, out := bufio.NewReaderSize(os.Stdin, 64<<10), os.Stdout
	var a *program
	known := &scripts{}
	for {
		var req Request
		if err := readFrame(in, &req); err != nil {
			if errors.Is(err, io.EOF) {
				return 0
			}
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		if req.Op == "start" {
			a = &program{known: known}
		}
		if err := writeFrame(out, a.turn(req)); err != nil {
			if werr := writeFrame(out, Reply{Crash: err.Error()}); werr != nil {
				return 1
			}
		}
	}
}

// scripts are what was compiled last: an app is started again and again on its device, and to read it takes longer than
// to run it.
type scripts struct {
	prelude *goja.Program
	source  string
	app     *goja.Program
}

// of gives the prelude and an app's source compiled.
func (s *scripts) of(source string) (first, app *goja.Program, err error) {
	if s.prelude == nil {
		if s.prelude, err = goja.Compile("prelude", prelude, false); err != nil {
			return nil, nil, err
		}
	}
	if s.app == nil || s.source != source {
		if s.app, err = goja.Compile("app.js", source, false); err != nil {
			s.app = nil
			return nil, nil, err
		}
		s.source = source
	}
	return s.prelude, s.app, nil
}

// program is a running app.
type program struct {
	known *scripts
	vm    *goja.Runtime
	glue  *goja.Object
	now   int64
	reply Reply
	lines int // of log in this turn, and their bytes
	bytes int
}

// turn lets the app act on one request, until it is at rest.
func (a *program) turn(req Request) Reply {
	if a == nil {
		return Reply{Crash: "nothing has been started"}
	}
	a.now, a.reply, a.lines, a.bytes = req.NowMS, Reply{}, 0, 0
	runtime.LockOSThread() // so that its time is the app's and nothing else's
	defer runtime.UnlockOSThread()
	from := threadTime(syscall.Gettid())
	done := a.watch(from)
	err := a.act(req)
	close(done)
	a.reply.SpentMS = (threadTime(syscall.Gettid()) - from).Milliseconds()
	if err != nil {
		a.reply.Crash, a.reply.Report = explain(err)
		a.reply.Screen = nil
	}
	return a.reply
}

func (a *program) act(req Request) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the program broke its engine: %v", r)
		}
	}()
	if req.Op == "evaluate" {
		if err := a.evaluate(req.Value); err != nil {
			return err
		}
	} else if req.Op == "start" {
		if err := a.start(req); err != nil {
			return err
		}
	} else {
		handled, err := a.call(req)
		if err != nil {
			return err
		}
		a.reply.Handled = handled
	}
	screen, err := a.text("render")
	if err != nil {
		return err
	}
	data, err := a.text("data")
	if err != nil {
		return err
	}
	if len(data) > MaxData {
		return fmt.Errorf("the app keeps %d bytes; at most %d are allowed", len(data), MaxData)
	}
	a.reply.Screen, a.reply.Data = raw(screen), raw(data)
	return nil
}

func raw(s string) json.RawMessage {
	if s == "" {
		return nil
	}
	return json.RawMessage(s)
}

func (a *program) start(req Request) error {
	vm := goja.New()
	a.vm = vm
	vm.SetMaxCallStackSize(2000)
	vm.SetFieldNameMapper(goja.TagFieldNameMapper("json", true))
	epoch := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC)
	vm.SetTimeSource(func() time.Time { return epoch.Add(time.Duration(a.now) * time.Millisecond) })
	vm.SetRandSource(chance(req.Seed))
	first, app, err := a.known.of(req.Source)
	if err != nil {
		return err
	}
	setup, err := vm.RunProgram(first)
	if err != nil {
		return err
	}
	call, _ := goja.AssertFunction(setup)
	host := vm.NewObject()
	var data any = map[string]any{}
	if len(req.Data) > 0 {
		if err := json.Unmarshal(req.Data, &data); err != nil {
			return err
		}
	}
	parsed, err := a.parse(data)
	if err != nil {
		return err
	}
	device, err := a.parse(req.Device)
	if err != nil {
		return err
	}
	for name, v := range map[string]any{"device": device, "data": parsed, "log": a.log, "setTimer": a.setTimer,
		"endTimer": a.endTimer, "wish": a.wish} {
		if err := host.Set(name, v); err != nil {
			return err
		}
	}
	glue, err := call(goja.Undefined(), host)
	if err != nil {
		return err
	}
	a.glue = glue.ToObject(vm)
	_, err = vm.RunProgram(app)
	return err
}

// parse makes a plain JavaScript object of v.
func (a *program) parse(v any) (goja.Value, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	parse, _ := goja.AssertFunction(a.vm.GlobalObject().Get("JSON").ToObject(a.vm).Get("parse"))
	return parse(goja.Undefined(), a.vm.ToValue(string(text)))
}

func (a *program) call(req Request) (bool, error) {
	if a.glue == nil {
		return false, errors.New("nothing has been started")
	}
	fn, ok := goja.AssertFunction(a.glue.Get(req.Op))
	if !ok {
		return false, fmt.Errorf("there is no %q", req.Op)
	}
	args := map[string][]goja.Value{
		"tap":   {a.vm.ToValue(req.Handler)},
		"input": {a.vm.ToValue(req.Handler), a.vm.ToValue(req.Value)},
		"timer": {a.vm.ToValue(req.Timer), a.vm.ToValue(req.Failed)},
	}[req.Op]
	given := map[string]any{"touch": req.Handler, "answer": req.Timer, "event": req.Value}
	if of, ok := given[req.Op]; ok {
		list, err := a.parse(req.Args)
		if err != nil {
			return false, err
		}
		args = []goja.Value{a.vm.ToValue(of), list}
	}
	if req.Op == "change" {
		device, err := a.parse(req.Device)
		if err != nil {
			return false, err
		}
		args = []goja.Value{device}
	}
	v, err := fn(goja.Undefined(), args...)
	if err != nil {
		return false, err
	}
	return v.ToBoolean(), nil
}

// evaluate runs an expression of somebody's who looks into the app. What that throws is not the
// app's; that it never ends, or takes the memory of all, is.
func (a *program) evaluate(expression string) error {
	if a.vm == nil {
		return errors.New("nothing has been started")
	}
	v, err := a.vm.RunScript("console", expression)
	var thrown *goja.Exception
	var syntax *goja.CompilerSyntaxError
	switch {
	case errors.As(err, &thrown), errors.As(err, &syntax):
		a.reply.Thrown = plain.Text(said(err.Error), 2000)
		return nil
	case err != nil:
		return err
	}
	a.reply.Value = plain.Text(a.told(v), maxValue)
	return nil
}

// told is a value as text: texts as they are, all else as JSON where it has such.
func (a *program) told(v goja.Value) string {
	if goja.IsUndefined(v) {
		return "undefined"
	}
	if text, ok := v.Export().(string); ok {
		return text
	}
	glued, ok := goja.AssertFunction(a.glue.Get("written"))
	if !ok {
		return said(v.String)
	}
	if data, err := glued(goja.Undefined(), v); err == nil && !goja.IsUndefined(data) {
		return data.String()
	}
	return said(v.String) // it goes in circles, or is a function
}

func (a *program) text(name string) (string, error) {
	fn, _ := goja.AssertFunction(a.glue.Get(name))
	v, err := fn(goja.Undefined())
	if err != nil {
		return "", err
	}
	return v.String(), nil
}

func (a *program) log(level, tag, text string) {
	a.lines, a.bytes = a.lines+1, a.bytes+len(text)
	if a.lines > maxLogLines || a.bytes > MaxLogBytes {
		return
	}
	a.reply.Logs = append(a.reply.Logs, Line{plain.Clip(level, 10), plain.Clip(tag, 60), plain.Clip(text, 2000)})
}

func (a *program) setTimer(id int, ms float64, network bool, details string) {
	if len(a.reply.Timers) >= MaxTimers {
		panic(a.vm.NewTypeError("more than %d timers in one turn", MaxTimers))
	}
	t := Timer{ID: id, InMS: int64(min(ms, float64(1000*60*60*24))), Network: network}
	if details != "" {
		if err := json.Unmarshal([]byte(details), &t.Call); len(details) > maxRequest ||
			len(t.Call.Address)+len(t.Call.Method)+len(t.Call.MediaType) > maxWish || err != nil {
			panic(a.vm.NewTypeError("a request is described in at most %d bytes beside what it carries", maxWish))
		}
	}
	a.reply.Timers = append(a.reply.Timers, t)
}

func (a *program) wish(id int, what, of string) {
	if len(a.reply.Wishes) >= MaxWishes {
		panic(a.vm.NewTypeError("it asks the system for more than %d things in one turn", MaxWishes))
	}
	a.reply.Wishes = append(a.reply.Wishes, Wish{id, what, plain.Clip(of, 100)})
}

func (a *program) endTimer(id int) { a.reply.Ended = append(a.reply.Ended, id) }

// watch interrupts a turn that computes for longer than turnCPU. It counts the processor
// time of the thread that the app runs on: neither a busy machine nor collecting garbage
// does an app harm.
func (a *program) watch(from time.Duration) chan struct{} {
	done := make(chan struct{})
	thread := syscall.Gettid()
	go func() { // ends with the turn
		tick := time.NewTicker(50 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				if threadTime(thread)-from > turnCPU && a.vm != nil {
					a.vm.Interrupt(errNoAnswer)
					return
				}
			}
		}
	}()
	return done
}

var errNoAnswer = fmt.Errorf("it stopped answering: it computed for more than %s without a pause", turnCPU)

// threadTime is the processor time that a thread of this process has had (proc(5),
// /proc/pid/task/tid/schedstat), or that the process has had where that is not told.
func threadTime(thread int) time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/self/task/%d/schedstat", thread))
	if first, _, ok := strings.Cut(string(text), " "); err == nil && ok {
		if ns, err := strconv.ParseInt(first, 10, 64); err == nil {
			return time.Duration(ns)
		}
	}
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// explain gives the reason of a crash in one line, and the report.
func explain(err error) (reason, report string) {
	var interrupted *goja.InterruptedError
	var thrown *goja.Exception
	var deep *goja.StackOverflowError
	switch {
	case errors.As(err, &interrupted):
		return errNoAnswer.Error(), plain.Clip(interrupted.String(), 8000)
	case errors.As(err, &deep):
		return "it called itself too deeply", plain.Clip(deep.String(), 8000)
	case errors.As(err, &thrown):
		reason := strings.SplitN(said(thrown.Value().String), "\n", 2)[0]
		return plain.Clip(reason, 300), plain.Clip(said(thrown.String), 8000)
	}
	return plain.Clip(strings.SplitN(err.Error(), "\n", 2)[0], 300), plain.Clip(err.Error(), 8000)
}

// said gives what a thrown value says of itself. What is thrown may be anything: one that
// has no words throws in its turn when it is asked for them.
func said(words func() string) (text string) {
	defer func() {
		if r := recover(); r != nil {
			text = "it threw something that cannot be written as text"
		}
	}()
	return words()
}
