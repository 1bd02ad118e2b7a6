// Package byhand is a person's session at its host: the device is made ready and handed over,
// orders come over a socket of the session's own and are carried out one at a time, what is to
// be seen goes back the same way, and what is to last is kept on the session's time.
//
// One goroutine has the device. Others show its frames, hold the socket and make the video; Run
// waits for all of them.
package byhand

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/screen"
	"yamato/internal/core/script"
	"yamato/internal/host/driver"
	"yamato/internal/host/gather"
	"yamato/internal/host/video"
	"yamato/internal/link"
)

// Config is what a session needs of its host.
type Config struct {
	Session link.Session
	Device  driver.Device // as it may be looked at
	Careful device.Device // the same; what it starts is seen to come to the front
	Private bool          // it is a person's own: nothing but the app in hand is shown
	Folder  string        // for what is being made, such as a video
	Prepare func(ctx context.Context) error
	Fetch   func(ctx context.Context, digest string) (path string, err error)
	Upload  func(ctx context.Context, kind evidence.Kind, name string, content []byte) (link.EvidenceRef, error)
	// UploadFile is Upload of what is in a file, which is never held whole.
	UploadFile func(ctx context.Context, kind evidence.Kind, name, path string) (link.EvidenceRef, error)
	Room       *video.Room // for what is optional, on the disk
	Keep       func(link.Entry) error
	Dial       func(ctx context.Context) (link.Live, func(), error)
	DialPort   func(ctx context.Context, id string) (net.Conn, error) // to whoever joins a tool of their own
	Log        func(ctx context.Context) []device.LogLine             // since the last time
	Glance     func(ctx context.Context)                              // called now and then, for others who look
	InHand     func(app string)                                       // the app that is worked on
	Words      func(ctx context.Context, blob, key, language string) (string, bool)
	Draw       func(device.Picture) ([]byte, error)
	DrawPart   func(device.Picture, *screen.Tree, screen.Rect) ([]byte, error)
	Said       *slog.Logger
}

// sitting is a session as it goes.
type sitting struct {
	Config
	began   time.Time
	life    context.Context // of the session, as a sitting is
	orders  chan link.Order
	waiting atomic.Int64   // bytes of those
	joined  atomic.Int32   // connections of tools
	joins   sync.WaitGroup // of those
	out     *outlet
	film    film

	video     *video.Stream // nil where none is being made
	videoFrom int64         // when it began, on the session's time

	// The rest belongs to the goroutine that has the device.
	status   link.Status
	told     string // the status as it was told last
	tree     *screen.Tree
	history  []sighting
	trial    *script.Trial
	typed    typing
	felt     map[string]felt
	logged   logbook
	gathered *gather.Gathering // calls and readings; nil until the device is handed over, and on a person's own
	route    *route
	filmed   filmed // what frames were asked for last
	pictured uint64 // the screen that a single picture was taken of last
	dead     bool   // the app has crashed, and nothing else has been seen since
	trouble  string // of the device, while it lasts
	pack     string // digest of the package that was installed last, "" where none was
	debug    string // address of the app's debug port, "" where nobody has asked for it
}

// maxOrders bounds the orders that wait, and maxOrderBytes what they take together.
const (
	maxOrders     = 64
	maxOrderBytes = 12 << 20
)

// Run prepares the device, hands it over, and carries out orders until ctx ends. It gives what
// has to be said of the device's cleaning: what was changed. Its error is trouble that kept it from going on.
func Run(ctx context.Context, c Config) (changed []string, err error) {
	s := &sitting{Config: c, began: time.Now(), orders: make(chan link.Order, maxOrders), felt: map[string]felt{}}
	s.out = newOutlet()
	s.status = link.Status{Stage: "preparing", Steps: []link.PrepStep{}, Apps: []link.OnDevice{}, Felt: []link.Felt{},
		Can: append([]string{}, c.Device.Abilities()...)}
	s.film.shown = sync.NewCond(&s.film.mu)
	s.logged.keep = s.keepLog
	g, beside := errgroup.WithContext(context.WithoutCancel(ctx))
	beside, stop := context.WithCancel(beside)
	g.Go(func() error { s.keepLive(beside); return nil })
	contain.Go(g, "sending frames", func() error { s.film.send(beside, s.out); return nil })
	life, ended := context.WithCancel(ctx)
	s.life = life
	err = s.sit(ctx)
	ended()
	s.joins.Wait()
	s.close(context.WithoutCancel(ctx))
	stop()
	s.film.wake()
	return s.changes(), errors.Join(err, g.Wait())
}

// sit is the session from the first step of preparation to the end of ctx.
func (s *sitting) sit(ctx context.Context) error {
	if err := s.prepare(ctx); err != nil {
		return err
	}
	s.status.Stage = "open"
	if err := s.note(link.Entry{Kind: link.EntryOpen, Text: "handed over"}); err != nil {
		return err
	}
	s.trial = script.NewTrial(s.Careful, script.Options{Known: func(string) bool { return true },
		Words: func(key, language string) (string, bool) {
			if s.pack == "" {
				return "", false
			}
			return s.Words(ctx, s.pack, key, language)
		}}, recorder{s})
	if err := s.replay(ctx); err != nil {
		return err
	}
	if !s.Private {
		s.gathered = gather.Begin(ctx, s.Device, true, evidence.Keeping{},
			s.Device.Now()-time.Duration(s.now())*time.Millisecond, s.Folder, nil)
	}
	for ctx.Err() == nil {
		if s.gathered != nil {
			s.gathered.Look(ctx)
		}
		select {
		case o := <-s.orders:
			s.waiting.Add(-weightOf(&o))
			s.carryOut(ctx, o)
			continue
		default:
		}
		s.look(ctx)
		s.Glance(ctx)
		s.travel(ctx)
		s.wait(ctx)
	}
	return context.Cause(ctx)
}

// How long is waited between two looks at a screen that keeps changing, and at one that does not.
const (
	busyLook  = 60 * time.Millisecond
	quietLook = time.Second
)

// wait lets the device's time pass until its screen changes or an order comes.
func (s *sitting) wait(ctx context.Context) {
	nudge, stop := s.out.nudge()
	defer stop()
	if len(s.orders) > 0 {
		return
	}
	waiting := device.WithNudge(ctx, nudge)
	d := s.Device
	err := d.AwaitChange(waiting, device.NoRevision, d.Now()+busyLook)
	if err == nil && s.tree != nil && !device.Nudged(waiting) {
		err = d.AwaitChange(waiting, s.tree.Revision, d.Now()+quietLook)
	}
	var crash *device.Crash
	if err == nil || errors.As(err, &crash) && !s.dead {
		return
	}
	// It is in trouble, which the next look tells. Nobody is kept waiting meanwhile.
	pause := time.NewTimer(quietLook / 2)
	defer pause.Stop()
	select {
	case <-pause.C:
	case <-nudge:
	case <-ctx.Done():
	}
}

// now is the session's time, in milliseconds.
func (s *sitting) now() int64 { return s.Session.SinceMS + time.Since(s.began).Milliseconds() }

// note keeps an entry, and tells who watches.
func (s *sitting) note(e link.Entry) error {
	e.AtMS = s.now()
	if err := s.Keep(e); err != nil {
		return fmt.Errorf("keeping what happened: %w", err)
	}
	s.out.tell(link.Told{Entry: &e})
	return nil
}

// tellStatus tells how things are, where that has changed.
func (s *sitting) tellStatus() {
	st := s.status
	st.Video = s.video != nil
	st.Still = s.film.stillWhy()
	st.Lines, st.Errors, st.Dropped = s.logged.lines, s.logged.errors, s.logged.dropped
	body, err := json.Marshal(st)
	if err != nil || string(body) == s.told {
		return
	}
	s.told = string(body)
	st.BeganMS = s.now()
	s.out.setStatus(st)
}

// close keeps what is not kept yet.
func (s *sitting) close(ctx context.Context) {
	ctx, stop := context.WithTimeout(ctx, closeTime)
	defer stop()
	s.status.Stage = "ending"
	s.tellStatus()
	s.flushTyping()
	if s.video != nil {
		if _, err := s.endVideo(ctx); err != nil {
			s.Said.Warn("a session's video could not be kept", "error", err)
		}
	}
	s.readLog(ctx)
	if err := s.logged.flush(ctx); err != nil {
		s.Said.Warn("a session's log could not be kept to its end", "error", err)
	}
	if err := s.keepGathered(ctx); err != nil {
		s.Said.Warn("a session's calls and readings could not be kept", "error", err)
	}
	s.film.stop()
}

// closeTime bounds how long a session may take to keep the rest.
const closeTime = 20 * time.Second
