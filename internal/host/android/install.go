package android

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"os"
	"regexp"
	"strings"

	"yamato/internal/core/appfile"
	"yamato/internal/host/driver"
)

// Install installs a package as it streams in, in place of what is there: one, or those of a set that this phone wants. What
// is there already stays: to be replaced would end it.
func (d *Device) Install(ctx context.Context, app driver.App) error {
	id := app.Package.ApplicationID
	if !isPackage(id) {
		return fmt.Errorf("no app %q can be installed", id)
	}
	if d.put[id] == app.Path {
		there, err := d.run(ctx, callLimit, "pm path", id)
		if err != nil || len(bytes.TrimSpace(there.Out)) > 0 {
			return err
		}
	}
	delete(d.put, id)
	if id == d.app {
		d.app = "" // its end is no crash
	}
	f, err := os.Open(app.Path)
	if err != nil {
		return fmt.Errorf("the package cannot be read on the host: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if len(app.Package.Splits) > 0 {
		err = d.installSet(ctx, app, f, info.Size())
	} else {
		err = d.streamed(ctx, f, "cmd package install -r -d -S %d -", info.Size())
	}
	if err != nil {
		return err
	}
	d.put[id], d.asks[id] = app.Path, app.Package.Permissions
	if d.tag != "" {
		return d.speak(ctx, id)
	}
	return nil
}

// streamed has a line take in what it is given, and tells what the OS refuses it for.
func (d *Device) streamed(ctx context.Context, in io.Reader, line string, args ...any) error {
	said, err := d.carried(ctx, installLimit, func(ctx context.Context, serial string) (Output, error) {
		out, err := d.server.Exec(ctx, serial, fmt.Sprintf(line, args...), in, maxSaid)
		return Output{Out: out}, err
	})
	if err != nil {
		return err
	}
	if bytes.HasPrefix(bytes.TrimSpace(said.Out), []byte("Success")) {
		return nil
	}
	return refused(string(said.Out))
}

var sessionLine = regexp.MustCompile(`^Success: created install session \[(\d{1,12})\]`)

// installSet installs the packages of an app that this phone wants, all or none of them.
func (d *Device) installSet(ctx context.Context, app driver.App, f io.ReaderAt, size int64) (err error) {
	has, err := d.run(ctx, callLimit, "getprop ro.product.cpu.abilist")
	if err != nil {
		return err
	}
	abis := strings.Split(strings.TrimSpace(string(has.Out)), ",")
	if abis[0] == "" {
		abis = []string{d.facts.ABI}
	}
	wanted, err := app.Package.Choose(abis, int(math.Round(d.scale*160)))
	if err != nil {
		return fmt.Errorf("%w; to mend it: add those for them", err)
	}
	said, err := d.run(ctx, callLimit, "cmd package install-create -r -d")
	if err != nil {
		return err
	}
	m := sessionLine.FindSubmatch(bytes.TrimSpace(said.Out))
	if m == nil {
		return refused(string(said.Out) + string(said.Err))
	}
	session := string(m[1])
	defer func() {
		if err != nil { // what was written takes room there
			_, _ = d.run(context.WithoutCancel(ctx), callLimit, "cmd package install-abandon "+session)
		}
	}()
	for i, s := range wanted {
		in, err := appfile.OpenSplit(f, size, s)
		if err != nil {
			return err
		}
		if err := d.streamed(ctx, in, "cmd package install-write -S %d %s %d.apk -", in.Size(), session, i); err != nil {
			return fmt.Errorf("%s: %w", s.Entry, err)
		}
	}
	said, err = d.run(ctx, installLimit, "cmd package install-commit "+session)
	if err != nil {
		return err
	}
	if !bytes.HasPrefix(bytes.TrimSpace(said.Out), []byte("Success")) {
		return refused(string(said.Out))
	}
	return nil
}
