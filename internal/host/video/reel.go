package video

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Bounds of a reel.
const (
	maxFrames  = 12_000
	maxReel    = 128 << 20        // bytes of its frames, on the disk
	keyEvery   = 2                // seconds, at most, between places that can be sought
	encodeTime = 30 * time.Second // and half of what is shown
)

// Reel is frames with their times, on the disk. Add may run beside nothing else of it.
type Reel struct {
	parent  string
	room    *Room
	dir     string
	frames  []reelFrame
	size    int64
	dropped int
	full    bool // for want of room on the disk
	mu      sync.Mutex
	err     error
}

type reelFrame struct {
	at   time.Duration // since the case began
	file string
}

// NewReel gives an empty one, which makes a folder below parent with its first frame.
func NewReel(parent string, room *Room) *Reel { return &Reel{parent: parent, room: room} }

// Add adds a frame: PNG or JPEG, all of one reel the same. What is too much is dropped.
func (r *Reel) Add(at time.Duration, mediaType string, data []byte) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err != nil {
		return r.err
	}
	at = max(at, 0)
	if len(r.frames) > 0 && at <= r.frames[len(r.frames)-1].at {
		at = r.frames[len(r.frames)-1].at + time.Millisecond
	}
	if len(r.frames) >= maxFrames || r.size+int64(len(data)) > maxReel {
		r.dropped++
		return nil
	}
	if !r.room.Take(int64(len(data))) {
		r.dropped, r.full = r.dropped+1, true
		return nil
	}
	r.size += int64(len(data))
	if r.dir == "" {
		if r.dir, r.err = os.MkdirTemp(r.parent, "frames-"); r.err != nil {
			return r.err
		}
	}
	ending := ".jpg"
	if mediaType == "image/png" {
		ending = ".png"
	}
	f := reelFrame{at, filepath.Join(r.dir, fmt.Sprintf("%05d%s", len(r.frames), ending))}
	if r.err = os.WriteFile(f.file, data, 0o600); r.err != nil {
		return r.err
	}
	r.frames = append(r.frames, f)
	return nil
}

// Len is how many frames there are.
func (r *Reel) Len() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.frames)
}

// Discard removes the frames.
func (r *Reel) Discard() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.dir != "" {
		_ = os.RemoveAll(r.dir) // a folder that stays is removed when the host starts anew
	}
	r.room.Give(r.size)
	r.dir, r.frames, r.size = "", nil, 0
}

// Short says why the reel is not whole, "" where it is.
func (r *Reel) Short() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case r.full:
		return fmt.Sprintf("%d frames were dropped, %s", r.dropped, r.room.Words())
	case r.dropped > 0:
		return fmt.Sprintf("%d frames were dropped: a video has at most %d of %d MB together", r.dropped, maxFrames,
			maxReel>>20)
	}
	return ""
}

// Video makes a WebM video of the frames, whose time is the case's, and gives the path of its file,
// which the caller removes. end is when the case ended, since it began.
func (r *Reel) Video(ctx context.Context, end time.Duration) (path string, err error) {
	if err := Possible(); err != nil {
		return "", err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.frames) == 0 && r.full {
		return "", errors.New(r.room.Words())
	}
	if len(r.frames) == 0 {
		return "", ErrNoFrames
	}
	list, w, h, err := r.list(end)
	if err != nil {
		return "", err
	}
	path = filepath.Join(r.dir, "video.webm")
	ctx, stop := context.WithTimeout(ctx, encodeTime+end/2)
	defer stop()
	m, err := begin(ctx, w, h, path, "-nostdin", "-f", "concat", "-safe", "0", "-i", list, "-vsync", "vfr", "-enc_time_base", "1:1000",
		"-force_key_frames", fmt.Sprintf("expr:gte(t,n_forced*%d)", keyEvery))
	if err != nil {
		return "", err
	}
	return path, m.end()
}

// list writes what is shown when, in the form of ffmpeg's concat demuxer, and gives the size of
// the video: that of the first frame, even.
func (r *Reel) list(end time.Duration) (path string, w, h int, err error) {
	first, err := os.ReadFile(r.frames[0].file)
	if err != nil {
		return "", 0, 0, err
	}
	size, form, err := image.DecodeConfig(bytes.NewReader(first))
	if err != nil {
		return "", 0, 0, fmt.Errorf("a frame cannot be read: %w", err)
	}
	w, h = max(2, size.Width&^1), max(2, size.Height&^1)
	var b strings.Builder
	b.WriteString("ffconcat version 1.0\n")
	show := func(file string, d time.Duration) {
		fmt.Fprintf(&b, "file '%s'\noption framerate 1000\nduration %.3f\n", filepath.Base(file), d.Seconds())
	}
	if at := r.frames[0].at; at > 0 { // nothing had been seen yet
		blank := filepath.Join(r.dir, "blank"+filepath.Ext(r.frames[0].file))
		if err := os.WriteFile(blank, blankLike(w, h, form), 0o600); err != nil {
			return "", 0, 0, err
		}
		show(blank, at)
	}
	for i, f := range r.frames {
		until := max(end, f.at+40*time.Millisecond)
		if i+1 < len(r.frames) {
			until = r.frames[i+1].at
		}
		show(f.file, until-f.at)
	}
	last := r.frames[len(r.frames)-1]
	// else the last is shown for no time
	fmt.Fprintf(&b, "file '%s'\noption framerate 1000\n", filepath.Base(last.file))
	path = filepath.Join(r.dir, "list.ffconcat")
	return path, w, h, os.WriteFile(path, []byte(b.String()), 0o600)
}

func blankLike(w, h int, form string) []byte {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	draw.Draw(img, img.Bounds(), image.NewUniform(color.RGBA{0x22, 0x24, 0x2a, 0xff}), image.Point{}, draw.Src)
	var b bytes.Buffer
	if form == "png" {
		_ = png.Encode(&b, img) // to memory: never fails
	} else {
		_ = jpeg.Encode(&b, img, nil)
	}
	return b.Bytes()
}
