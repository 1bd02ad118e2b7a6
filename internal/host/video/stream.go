package video

import (
	"context"
	"fmt"
	"os"
	"sync"
	"time"

	"yamato/internal/core/device"
)

// Bounds of a stream.
const (
	rate    = 12 // frames a second
	longest = 30 * time.Minute
	endTime = 10 * time.Second // that its maker may take to write the rest
)

// Stream is a video of what is to be seen as it is seen: the newest frame, so many times a second.
type Stream struct {
	maker *maker
	room  *Room
	kill  context.CancelFunc
	stop  chan struct{}
	done  chan error

	mu     sync.Mutex
	newest []byte
}

// Begin begins a video in a folder with a frame of a size. It takes its room on the disk until it is discarded.
func Begin(dir string, room *Room, first device.Frame, width, height int) (*Stream, error) {
	if err := Possible(); err != nil {
		return nil, err
	}
	if !room.Take(maxVideo) {
		return nil, fmt.Errorf("there is no room for a video, %s", room.Words())
	}
	s, err := start(dir, first, width, height)
	if err != nil {
		room.Give(maxVideo)
		return nil, err
	}
	s.room = room
	return s, nil
}

func start(dir string, first device.Frame, width, height int) (*Stream, error) {
	f, err := os.CreateTemp(dir, "video-*.webm")
	if err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	codec := "mjpeg"
	if first.MediaType == "image/png" {
		codec = "png"
	}
	ctx, kill := context.WithCancel(context.Background())
	m, err := begin(ctx, max(2, width&^1), max(2, height&^1), f.Name(), "-f", "image2pipe", "-framerate", fmt.Sprint(rate),
		"-c:v", codec, "-i", "pipe:0")
	if err != nil {
		kill()
		_ = os.Remove(f.Name())
		return nil, err
	}
	s := &Stream{maker: m, kill: kill, stop: make(chan struct{}), done: make(chan error, 1), newest: first.Data}
	go func() { // ends when stop is closed, and End waits for it
		s.feed()
		s.done <- m.end()
	}()
	return s, nil
}

// Show has a frame be the newest.
func (s *Stream) Show(f device.Frame) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.newest = f.Data
}

// feed writes the newest frame at the video's rate until its end.
func (s *Stream) feed() {
	tick := time.NewTicker(time.Second / rate)
	defer tick.Stop()
	limit := time.NewTimer(longest)
	defer limit.Stop()
	for {
		select {
		case <-s.stop:
			return
		case <-limit.C:
			return
		case <-tick.C:
			s.mu.Lock()
			frame := s.newest
			s.mu.Unlock()
			if _, err := s.maker.in.Write(frame); err != nil {
				return // the process tells why
			}
		}
	}
}

// End ends the video and gives the path of its file, which stays until Discard. A maker that hangs does not hold the
// device up.
func (s *Stream) End(ctx context.Context) (path string, err error) {
	close(s.stop)
	late := time.NewTimer(endTime)
	defer late.Stop()
	select {
	case err = <-s.done:
	case <-late.C:
		s.kill()
		<-s.done
		err = fmt.Errorf("the video could not be made: ffmpeg did not end within %s", endTime)
	case <-ctx.Done():
		s.kill()
		<-s.done
		err = fmt.Errorf("the video could not be made: %w", context.Cause(ctx))
	}
	return s.maker.path, err
}

// Discard removes the file, after End, and gives its room back.
func (s *Stream) Discard() {
	s.kill()
	_ = os.Remove(s.maker.path) // one that stays is removed when the host starts anew
	s.room.Give(maxVideo)
}
