package video

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// encoding has a script take the place of ffmpeg.
func encoding(t *testing.T, script string) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ffmpeg"), []byte("#!/bin/sh\n"+script+"\n"), 0o700))
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
}

func reel(t *testing.T) *Reel {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewRGBA(image.Rect(0, 0, 20, 40))))
	dir := t.TempDir()
	r := NewReel(dir, NewRoom(1<<30, dir))
	t.Cleanup(r.Discard)
	require.NoError(t, r.Add(0, "image/png", b.Bytes()))
	return r
}

func TestAMakerOfVideosThatMakesNoneIsToldAndNotTakenForOne(t *testing.T) {
	for script, says := range map[string]string{
		"exit 0": "wrote none",
		`for last; do :; done; echo no > "$last"`: "is none",
		"echo broken >&2; exit 1":                 "broken",
	} {
		encoding(t, script)
		_, err := reel(t).Video(context.Background(), time.Second)
		require.ErrorContains(t, err, says)
	}
	encoding(t, "exec sleep 600")
	ctx, stop := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer stop()
	_, err := reel(t).Video(ctx, time.Second)
	require.Error(t, err, "one that hangs is ended")
}
