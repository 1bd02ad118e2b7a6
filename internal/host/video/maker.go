// Package video makes videos, in a process of its own that is bounded in time, in what it writes and in what it says: of
// frames whose times are known (Reel), or of what is to be seen as it is seen (Stream).
package video

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"yamato/internal/core/plain"
)

// maxVideo bounds a video, in bytes.
const maxVideo = 96 << 20

// Why there is no video.
var (
	ErrNoEncoder = errors.New("this host has no ffmpeg to make a video with: install Debian's package ffmpeg on it")
	ErrNoFrames  = errors.New("nothing was to be seen")
)

// encoder gives the path of the program that makes videos.
func encoder() (string, error) {
	path, err := exec.LookPath("ffmpeg")
	if err != nil {
		return "", ErrNoEncoder
	}
	return path, nil
}

// Possible says why this host can make no videos, nil where it can.
func Possible() error {
	_, err := encoder()
	return err
}

// maker is the process that makes a video.
type maker struct {
	process *exec.Cmd
	in      io.WriteCloser // frames, where they come as they are seen
	path    string
	said    strings.Builder
}

// begin starts making a video of a size from an input, as the program's options name it. What is turned meanwhile is shown
// whole, smaller. It ends with ctx at the latest.
func begin(ctx context.Context, w, h int, path string, input ...string) (*maker, error) {
	program, err := encoder()
	if err != nil {
		return nil, err
	}
	fit := fmt.Sprintf("scale=%d:%d:force_original_aspect_ratio=decrease,pad=%d:%d:(ow-iw)/2:(oh-ih)/2,setsar=1", w, h, w,
		h)
	args := append([]string{"-hide_banner", "-loglevel", "error", "-y"}, input...)
	args = append(args, "-an", "-vf", fit, "-c:v", "libvpx", "-deadline", "realtime", "-cpu-used", "8", "-threads", "1",
		"-b:v", "1000k", "-pix_fmt", "yuv420p", "-fs", fmt.Sprint(maxVideo), "-cluster_time_limit", "2000", "-f", "webm", path)
	m := &maker{process: exec.CommandContext(ctx, program, args...), path: path}
	m.process.WaitDelay = 2 * time.Second
	m.process.Stderr = &m.said
	if m.in, err = m.process.StdinPipe(); err != nil {
		return nil, err
	}
	if err := m.process.Start(); err != nil {
		return nil, fmt.Errorf("starting ffmpeg: %w", err)
	}
	return m, nil
}

// end says that no more frames come, and waits until the video is written.
func (m *maker) end() error {
	err := errors.Join(m.in.Close(), m.process.Wait())
	if err != nil {
		return fmt.Errorf("the video could not be made: %w: %s", err, plain.Clip(plain.Text(m.said.String(), 2000), 300))
	}
	return isVideo(m.path)
}

// isVideo tells what is wrong with a file that should be a video: a program may end well and have written none.
func isVideo(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return errors.New("the video could not be made: ffmpeg ended well, and wrote none")
	}
	defer f.Close()
	head := make([]byte, 4)
	if _, err := io.ReadFull(f, head); err != nil || string(head) != "\x1a\x45\xdf\xa3" { // EBML (RFC 8794, 11.2.1)
		return errors.New("the video could not be made: what ffmpeg wrote is none")
	}
	return nil
}
