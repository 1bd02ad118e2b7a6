package video

import (
	"bytes"
	"context"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
)

func frame(t *testing.T, w, h int, c color.Color) []byte {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	draw.Draw(img, img.Bounds(), image.NewUniform(c), image.Point{}, draw.Src)
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	return b.Bytes()
}

func probe(t *testing.T, path string, args ...string) string {
	t.Helper()
	out, err := exec.Command("ffprobe", append(append([]string{"-v", "error", "-of", "csv=p=0"}, args...),
		path)...).Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

// The video's time is the case's, whatever the frames' sizes and however few they are.
func TestTheVideoOfAReelHasItsTimes(t *testing.T) {
	dir := t.TempDir()
	r := NewReel(dir, NewRoom(1<<30, dir))
	pale, red := frame(t, 201, 401, color.White), frame(t, 401, 201, color.RGBA{200, 0, 0, 255}) // odd, and turned
	require.NoError(t, r.Add(300*time.Millisecond, "image/png", pale))
	require.NoError(t, r.Add(1250*time.Millisecond, "image/png", red))
	require.NoError(t, r.Add(1250*time.Millisecond, "image/png", pale), "at the same moment")
	path, err := r.Video(context.Background(), 5*time.Second)
	require.NoError(t, err)
	lasts, err := strconv.ParseFloat(probe(t, path, "-show_entries", "format=duration"), 64)
	require.NoError(t, err)
	require.InDelta(t, 5, lasts, 0.1)
	require.Equal(t, "200,400", probe(t, path, "-show_entries", "stream=width,height"))
	times := strings.Fields(probe(t, path, "-show_entries", "frame=pts_time"))
	for i, want := range []float64{0, 0.3, 1.25, 1.251} {
		at, err := strconv.ParseFloat(strings.Trim(times[i], ","), 64)
		require.NoError(t, err)
		require.InDelta(t, want, at, 0.002, "%v", times)
	}
	r.Discard()
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestAReelWithoutRoomDropsFramesAndSaysSo(t *testing.T) {
	dir := t.TempDir()
	one := frame(t, 200, 400, color.White)
	room := NewRoom(int64(2*len(one)), dir)
	r := NewReel(dir, room)
	for i := range 5 {
		require.NoError(t, r.Add(time.Duration(i)*time.Second, "image/png", one))
	}
	require.Equal(t, 2, r.Len())
	require.Contains(t, r.Short(), "3 frames were dropped")
	require.Contains(t, r.Short(), "--scratch")
	none := NewReel(dir, room)
	require.NoError(t, none.Add(0, "image/png", one))
	_, err := none.Video(context.Background(), time.Second)
	require.ErrorContains(t, err, "of the host's disk")
	r.Discard()
	require.True(t, room.Take(int64(2*len(one))), "what was taken is given back")
	_, err = NewReel(dir, room).Video(context.Background(), time.Second)
	require.ErrorIs(t, err, ErrNoFrames)
}

func TestAStreamHasItsRoomAndGivesItBack(t *testing.T) {
	dir := t.TempDir()
	room := NewRoom(maxVideo, dir)
	first := device.Frame{MediaType: "image/png", Data: frame(t, 200, 400, color.White)}
	s, err := Begin(dir, room, first, 200, 400)
	require.NoError(t, err)
	_, err = Begin(dir, room, first, 200, 400)
	require.ErrorContains(t, err, "there is no room for a video")
	s.Show(device.Frame{MediaType: "image/png", Data: frame(t, 400, 200, color.RGBA{200, 0, 0, 255})})
	for range 2 * rate {
		_, err := s.maker.in.Write(first.Data)
		require.NoError(t, err)
	}
	path, err := s.End(context.Background())
	require.NoError(t, err)
	require.Equal(t, "200,400", probe(t, path, "-show_entries", "stream=width,height"))
	s.Discard()
	require.NoFileExists(t, path)
	s, err = Begin(dir, room, first, 200, 400)
	require.NoError(t, err, "the room is there again")
	ctx, stop := context.WithCancel(context.Background())
	stop()
	_, _ = s.End(ctx)
	s.Discard()
}
