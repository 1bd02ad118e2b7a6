package standin

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/standin/draw"
	"yamato/internal/host/standin/sandbox"
)

// What apps ask the system for: a permission, where the device is, a file. The system answers by
// what it was told beforehand, or asks the person with a question on the screen.

// question is one that is, or will be, on the screen.
type question struct {
	sandbox.Wish
	app, title string
}

// Handlers of the system's own, beside those of icons.
const (
	tapAllow    = -1001
	tapDeny     = -1002
	tapNotice   = -1003
	tapNoFile   = -1004
	tapDialog   = -1005
	answerTime  = 60 * time.Millisecond
	placeTime   = 300 * time.Millisecond
	noticeTime  = 8 * time.Second
	maxNotice   = 2000     // bytes of what is pushed
	maxFiles    = 20       // that are put on a device
	maxFileText = 64 << 10 // bytes of a file that an app is given
)

// declared are what an Android package must have declared, any of each, to ask for a permission.
var declared = map[string][]string{
	"location":      {"android.permission.ACCESS_FINE_LOCATION", "android.permission.ACCESS_COARSE_LOCATION"},
	"notifications": {"android.permission.POST_NOTIFICATIONS"},
	"camera":        {"android.permission.CAMERA"},
	"microphone":    {"android.permission.RECORD_AUDIO"},
}

// SetPermission answers beforehand what an app asks for.
func (d *Device) SetPermission(_ context.Context, app, permission, answer string) error {
	if err := device.CheckPermission(permission, answer); err != nil {
		return err
	}
	if d.apps[app] == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	delete(d.given, [2]string{app, permission})
	d.answers[[2]string{app, permission}] = answer
	return d.alive()
}

// permitted gives the answer to an app, which is Ask where only a person can give it.
func (d *Device) permitted(i *installed, permission string) string {
	key := [2]string{i.app.Package.ApplicationID, permission}
	needs := declared[permission]
	if i.app.Package.Kind == appfile.Android && len(needs) > 0 && !slices.ContainsFunc(needs, func(s string) bool {
		return slices.Contains(i.app.Package.Permissions, s)
	}) {
		d.writeAs(key[0], "warn", "permissions", "refused without asking: the package does not declare "+needs[0])
		return device.Deny
	}
	if a := d.answers[key]; a != "" && a != device.Ask {
		return a
	}
	if a := d.given[key]; a != "" {
		return a
	}
	if permission == "motion" && d.config.Device.Platform == "android" {
		return device.Allow // nobody is asked there
	}
	return device.Ask
}

// wished takes in what an app wants of the system.
func (d *Device) wished(w sandbox.Wish) error {
	if len(d.questions) >= sandbox.MaxWishes || len(d.timers) >= sandbox.MaxTimers {
		return &device.Crash{Reason: fmt.Sprintf("it asks the system for more than %d things at once",
			sandbox.MaxWishes)}
	}
	app := d.appID()
	if w.What == "file" {
		if len(d.files) == 0 {
			d.questions = append(d.questions, question{w, app, "There is no file on this device to choose"})
			return d.render()
		}
		f := d.files[0]
		d.files = d.files[1:]
		d.answer(w, answerTime, map[string]any{"name": f.name, "text": f.text, "size": f.size})
		return nil
	}
	purpose, known := device.Purposes[w.Of]
	if !known {
		return &device.Crash{Reason: fmt.Sprintf("it asks for a permission %q, which there is not",
			plain.Clip(w.Of, 60))}
	}
	if w.Of == "camera" && w.What == "permission" && !slices.Contains(d.config.Device.Traits, "camera") {
		d.answer(w, answerTime, "none") // whatever a person would say
		return nil
	}
	if answer := d.permitted(d.running, w.Of); answer != device.Ask {
		d.settle(w, answer)
		return nil
	}
	name := d.running.app.Package.Name
	if name == "" {
		name = app
	}
	d.questions = append(d.questions, question{w, app, "Allow “" + plain.Text(name, 100) + "” to " + purpose + "?"})
	return d.render()
}

// settle tells the app what was answered.
func (d *Device) settle(w sandbox.Wish, answer string) {
	switch {
	case w.What == "permission":
		d.answer(w, answerTime, answer)
	case answer != device.Allow:
		d.answer(w, answerTime, nil, "refused")
	case d.place == nil:
		d.answer(w, placeTime, nil, "unknown")
	default:
		at := *d.place
		d.answer(w, placeTime, map[string]any{"latitude": at.Latitude, "longitude": at.Longitude,
			"accuracy": at.Accuracy})
	}
}

// answer gives the app what it wished for, in a moment.
func (d *Device) answer(w sandbox.Wish, in time.Duration, args ...any) {
	d.later(in, func(ctx context.Context) error {
		_, err := d.turn(ctx, sandbox.Request{Op: "answer", Timer: w.ID, Args: args})
		return err
	})
}

// later has the system do something in a moment, unless the app ends before.
func (d *Device) later(in time.Duration, do func(context.Context) error) {
	d.laters++
	d.timers[-d.laters] = timer{at: d.now + in, do: do}
}

// ask is the question on the screen, nil where there is none.
func (d *Device) ask() *draw.Element {
	if len(d.questions) == 0 {
		return nil
	}
	q := d.questions[0]
	if q.What == "file" {
		return d.look.Question(q.title, d.dark, draw.Answer{Text: "Cancel", Handler: tapNoFile})
	}
	return d.look.Question(q.title, d.dark, draw.Answer{Text: "Allow", Handler: tapAllow},
		draw.Answer{Text: "Don’t allow", Handler: tapDeny})
}

// answered takes a person's answer to the question on the screen, and gives it to all that the
// app has asked for the same.
func (d *Device) answered(handler int) error {
	if len(d.questions) == 0 {
		return nil
	}
	q := d.questions[0]
	d.questions = d.questions[1:]
	if q.What == "file" {
		d.answer(q.Wish, answerTime, nil)
		return d.render()
	}
	answer := device.Allow
	if handler == tapDeny {
		answer = device.Deny
	}
	d.given[[2]string{q.app, q.Of}] = answer
	d.settle(q.Wish, answer)
	d.questions = slices.DeleteFunc(d.questions, func(o question) bool {
		same := o.What != "file" && o.Of == q.Of
		if same {
			d.settle(o.Wish, answer)
		}
		return same
	})
	return d.render()
}

// SetPlace makes the device believe that it is somewhere, or not know.
func (d *Device) SetPlace(ctx context.Context, at *device.Place) error {
	if err := at.Check(); err != nil {
		return err
	}
	d.place = at
	return d.alive()
}

// file is one that was put on the device.
type file struct {
	name, text string
	size       int64
}

// PutFiles puts files on the device, for apps that ask for one.
func (d *Device) PutFiles(_ context.Context, paths ...string) error {
	var files []file
	if len(paths) > maxFiles {
		return fmt.Errorf("at most %d files are put on a device at once", maxFiles)
	}
	for _, p := range paths {
		f, err := readFile(p)
		if err != nil {
			return fmt.Errorf("the file cannot be read on the host: %w", err)
		}
		files = append(files, f)
	}
	d.files = files
	return d.alive()
}

// Tidy takes away what a case has left beside an app's data.
func (d *Device) Tidy(_ context.Context, app string) error {
	d.clipboard, d.banner = "", nil
	maps.DeleteFunc(d.given, func(of [2]string, _ string) bool { return of[0] == app })
	if d.crash != nil {
		return nil // its screen is gone with it
	}
	return d.render()
}

func readFile(path string) (file, error) {
	f, err := os.Open(path)
	if err != nil {
		return file{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return file{}, err
	}
	if !info.Mode().IsRegular() {
		return file{}, fmt.Errorf("%s is no file", filepath.Base(path))
	}
	data := make([]byte, min(info.Size(), maxFileText))
	n, err := f.ReadAt(data, 0)
	if err != nil && n < len(data) {
		return file{}, err
	}
	return file{plain.Text(filepath.Base(path), 255), plain.Text(string(data), maxFileText), info.Size()}, nil
}
