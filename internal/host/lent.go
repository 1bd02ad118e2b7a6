package host

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/script"
	"yamato/internal/core/script/bundle"
	"yamato/internal/host/driver"
	"yamato/internal/link"
	"yamato/internal/retry"
)

// options are the circumstances of an attempt's cases: what its suite wants of the project, the
// build's own texts, files and other builds. tidy takes the files away again.
func (l *attempt) options(ctx context.Context, w *worker, whole bundle.Bundle) (o script.Options, tidy func(),
	err error) {
	d := w.device.Describe()
	o = script.Options{App: l.Package.ApplicationID, Traits: d.Traits,
		Patience: time.Duration(l.StepMS) * time.Millisecond, CaseLimit: time.Duration(l.CaseMS) * time.Millisecond}
	o.Felt, o.Opened, o.Given = l.feel(w)
	if l.Wants {
		lent, err := l.lent(ctx, w)
		if err != nil {
			return o, nil, err
		}
		o.Secrets, o.Accounts = lent.Secrets, lent.Accounts
	}
	speaker, blob := (*appfile.Speaker)(nil), l.PackageBlob
	o.Words = func(key, language string) (string, bool) {
		if speaker == nil {
			speaker = w.host.texts.of(ctx, w.host, blob)
		}
		return speaker.Say(key, language)
	}
	o.Update = func(ctx context.Context, build string) error {
		now, err := l.PackageBlob, error(nil)
		if build == "" {
			err = l.putBack(ctx, w)
		} else {
			now, err = l.update(ctx, w, build)
		}
		if err == nil {
			speaker, blob = nil, now
		}
		return err
	}
	dir := ""
	o.File = func(name string) (string, error) {
		data, ok := whole.Files[name]
		if !ok {
			return "", fmt.Errorf("the suite was handed in without the file %s", name)
		}
		if dir == "" {
			made, err := os.MkdirTemp(w.host.config.Dir, "given-")
			if err != nil {
				return "", err
			}
			dir = made
		}
		at := filepath.Join(dir, filepath.Clean("/"+name)) // a folder each: two files may be called the same
		if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
			return "", err
		}
		return at, os.WriteFile(at, data, 0o600)
	}
	return o, func() {
		if dir != "" {
			_ = os.RemoveAll(dir) // what stays is a suite's own file
		}
	}, nil
}

// lentWithin is how long a host asks for what it is lent: a service that starts again answers by
// then, and one that has no key for what it keeps never does.
const lentWithin = 30 * time.Second

// lent asks for what the suite wants.
func (l *attempt) lent(ctx context.Context, w *worker) (link.Lent, error) {
	ctx, stop := context.WithTimeout(ctx, lentWithin)
	defer stop()
	pause := retry.From(50*time.Millisecond, time.Second)
	for {
		lent, err := w.host.config.Service.Lent(ctx, l.lease.Number)
		if err == nil {
			return lent, nil
		}
		if pause.Wait(ctx) != nil {
			return lent, fmt.Errorf("the secrets and accounts that the suite wants: %w", errors.Join(context.Cause(ctx),
				err))
		}
	}
}

// update installs another build over the one that is there, and gives its package's digest.
func (l *attempt) update(ctx context.Context, w *worker, build string) (blob string, err error) {
	i := slices.IndexFunc(l.Updates, func(u link.Update) bool { return u.Build == build })
	if i < 0 {
		return "", errors.New("it was not handed out with the lease")
	}
	u := l.Updates[i]
	if u.Trouble != "" {
		return "", errors.New(u.Trouble)
	}
	path, err := w.host.cache.Fetch(ctx, u.PackageBlob)
	if err != nil {
		return "", err
	}
	return u.PackageBlob, w.device.Install(ctx, driver.App{Package: u.Package, Path: path})
}

// putBack has the run's own build be there, in place of another that a case has put there.
func (l *attempt) putBack(ctx context.Context, w *worker) error {
	path, err := w.host.cache.Fetch(ctx, l.PackageBlob)
	if err != nil {
		return err
	}
	if r, ok := device.As[device.Removing](w.device); ok { // an older version is not taken over a newer one
		if err := r.Remove(ctx, l.Package.ApplicationID); err != nil {
			return err
		}
	}
	return w.device.Install(ctx, driver.App{Package: l.Package, Path: path})
}

// texts are the builds' own texts, by the digests of their packages.
type texts struct {
	mu   sync.Mutex
	kept map[string]*appfile.Speaker
}

// maxSpeakers bounds the builds whose texts are kept at hand.
const maxSpeakers = 20

// of gives the texts of a package; none where it cannot be read, which is tried again when it is
// asked for again.
func (t *texts) of(ctx context.Context, h *Host, digest string) *appfile.Speaker {
	t.mu.Lock()
	s := t.kept[digest]
	t.mu.Unlock()
	if s != nil {
		return s
	}
	all, err := readTexts(ctx, h, digest)
	if err != nil {
		h.log.Warn("a package's texts cannot be read", "package", digest, "error", err)
		return appfile.Texts{}.Speaker()
	}
	s = all.Speaker()
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.kept == nil || len(t.kept) >= maxSpeakers {
		t.kept = map[string]*appfile.Speaker{}
	}
	t.kept[digest] = s
	return s
}

func readTexts(ctx context.Context, h *Host, digest string) (appfile.Texts, error) {
	path, err := h.cache.Fetch(ctx, digest)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	return appfile.ReadTexts(f, info.Size())
}
