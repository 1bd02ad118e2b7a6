package byhand

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/link"
)

// prepare makes the device ready, and puts the session's app on it where it has one.
func (s *sitting) prepare(ctx context.Context) error {
	if err := s.step("the device is made ready", func() error { return s.Prepare(ctx) }); err != nil {
		return err
	}
	if tree, err := s.Device.Tree(ctx); err == nil {
		s.see(tree)
		s.watch(ctx)
	}
	if h, ok := device.As[device.Holding](s.Device); ok {
		if list, err := h.Installed(ctx); err == nil {
			for _, a := range list {
				s.has(link.OnDevice{ID: a.ID, Name: a.ID, There: true})
			}
		}
	}
	if p := s.Session.Package; p != nil {
		err := s.step(fmt.Sprintf("%s %s is installed and started", nameOf(p.Name, p.ApplicationID), p.VersionName),
			func() error {
				_, err := s.install(ctx, link.Order{Pack: p, Blob: s.Session.PackageBlob})
				return err
			})
		return s.outlived(ctx, err)
	}
	if app := s.Session.App; app != "" {
		err := s.step(app+" is started", func() error {
			_, err := s.start(ctx, link.Order{App: app})
			return err
		})
		return s.outlived(ctx, err)
	}
	return nil
}

// outlived gives trouble that a session does not go on with. An app that cannot be installed or
// that crashes is what people come to see: the device is handed over all the same.
func (s *sitting) outlived(ctx context.Context, err error) error {
	var own *device.Trouble
	var crash *device.Crash
	switch {
	case err == nil:
		return nil
	case errors.As(err, &own), ctx.Err() != nil:
		return err
	case errors.As(err, &crash):
		s.died(ctx, crash)
		return nil
	}
	return s.note(link.Entry{Kind: link.EntryTrouble, Text: plain.Text(err.Error(), 1000)})
}

// step is one step of preparation, told while it goes on and kept with its time.
func (s *sitting) step(name string, do func() error) error {
	began := time.Now()
	s.status.Steps = append(s.status.Steps, link.PrepStep{Name: name, TookMS: -1})
	mine := &s.status.Steps[len(s.status.Steps)-1]
	s.tellStatus()
	err := do()
	mine.TookMS = time.Since(began).Milliseconds()
	text := fmt.Sprintf("%s: %.1f s", name, time.Since(began).Seconds())
	if err != nil {
		mine.Trouble = plain.Text(err.Error(), 500)
		text += ", " + mine.Trouble
	}
	s.tellStatus()
	if kept := s.note(link.Entry{Kind: link.EntryPrepared, Text: text}); kept != nil {
		return kept
	}
	return err
}

// replay carries out the lines that a session begins with, for who wants to see a failed case from just
// before it failed. Where one does not go, it is said, and the device handed over there.
func (s *sitting) replay(ctx context.Context) error {
	for i, line := range s.Session.Lines {
		if ctx.Err() != nil {
			return nil
		}
		s.busy(fmt.Sprintf("step %d of %d: %s", i+1, len(s.Session.Lines), line))
		s.look(ctx)
		if strings.HasPrefix(line, "start app") { // the first step of a case starts afresh
			var err error
			if i == 0 || line == "start app fresh" {
				_, err = s.empty(ctx, link.Order{App: s.app()})
			} else {
				_, err = s.start(ctx, link.Order{App: s.app()})
			}
			if err != nil {
				return s.outlived(ctx, err)
			}
			continue
		}
		if _, err := s.line(ctx, link.Order{Text: line}); err != nil {
			s.busy("")
			return s.note(link.Entry{Kind: link.EntryTrouble, Lines: []string{line},
				Text: fmt.Sprintf("step %d of %d did not go again, and you have the device from here: %s", i+1,
					len(s.Session.Lines), plain.Text(err.Error(), 500))})
		}
	}
	s.busy("")
	if n := len(s.Session.Lines); n > 0 {
		return s.note(link.Entry{Kind: link.EntryMark, Text: fmt.Sprintf("%d steps were carried out again; what comes next is yours", n)})
	}
	return nil
}
