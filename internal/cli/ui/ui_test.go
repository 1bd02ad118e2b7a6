package ui

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheConnectionIsKeptForItsUserAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "connection.json")
	t.Setenv("YAMATO_CONNECTION", path)
	_, err := WriteConnection(Connection{"http://127.0.0.1:7420", "secret", "default"})
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	s, err := (&App{}).Connect(context.Background())
	require.NoError(t, err)
	require.Equal(t, "default", s.Project)
}

func TestWhatPackagesAndAppsSayDoesNotSteerTheTerminal(t *testing.T) {
	var out bytes.Buffer
	text := "\x1b[1mstrong\x1b[0m\ttab\n\x1b]0;title\x07 \x1b[2J\r \u009b31m \u202eflipped 漂流木 \xff"
	n, err := Printable{&out}.Write([]byte(text))
	require.NoError(t, err)
	require.Equal(t, len(text), n)
	require.Equal(t, "\x1b[1mstrong\x1b[0m\ttab\n�]0;title� �[2J� �31m �flipped 漂流木 \xff", out.String())
}
