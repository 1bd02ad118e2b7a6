package pipe

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/stretchr/testify/require"
)

// talk gives a pipe, what it has written, and how to answer it.
func talk(t *testing.T) (*Pipe, *bufio.Reader, io.WriteCloser) {
	t.Helper()
	written, in := io.Pipe()
	out, answers := io.Pipe()
	p := New(in, out)
	done := make(chan struct{})
	go func() {
		defer close(done)
		p.Read()
	}()
	t.Cleanup(func() {
		require.NoError(t, answers.Close())
		<-done
		require.NoError(t, written.Close())
	})
	return p, bufio.NewReader(written), answers
}

func TestWhatIsTooLongIsPassedOverAndTheNextIsHeard(t *testing.T) {
	p, written, answers := talk(t)
	heard := make(chan string, 10)
	p.Listen("s", func(method string, _ jsontext.Value) { heard <- method })
	go func() {
		_, _ = fmt.Fprintf(answers, `{"method":"Too.long","sessionId":"s","params":{"text":"%s"}}`+"\x00",
			strings.Repeat("x", maxMessage+1))
		_, _ = io.WriteString(answers, "no JSON at all\x00"+`{"method":"Next","sessionId":"s"}`+"\x00"+
			`{"method":"Other","sessionId":"t"}`+"\x00")
		text, _ := written.ReadBytes(0)
		_, _ = io.WriteString(answers, `{"id":1,"result":{"value":"é"}}`+"\x00"+string(bytes.TrimSuffix(text,
			[]byte{0})[:0]))
	}()
	require.Equal(t, "Next", <-heard)
	var result struct {
		Value string `json:"value"`
	}
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	require.NoError(t, Session{p, "s"}.Execute(ctx, "Any.thing", nil, &result))
	require.Equal(t, "é", result.Value)
	require.Empty(t, heard)
}

func TestACommandEndsWithItsContextWithItsRefusalAndWithTheBrowser(t *testing.T) {
	p, written, answers := talk(t)
	go func() {
		_, _ = written.ReadBytes(0)
		_, _ = io.WriteString(answers, `{"id":1,"error":{"code":-32000,"message":"no such page","data":"x"}}`+"\x00")
		_, _ = written.ReadBytes(0)
		_, _ = written.ReadBytes(0)
		_ = answers.Close()
	}()
	s := Session{p, ""}
	require.ErrorContains(t, s.Execute(context.Background(), "A", nil, nil), "no such page: x")
	ended, stop := context.WithCancel(context.Background())
	stop()
	require.ErrorIs(t, s.Execute(ended, "B", nil, nil), context.Canceled)
	require.ErrorIs(t, s.Execute(context.Background(), "C", nil, nil), ErrGone)
	require.Empty(t, p.waiting, "nothing is waited for any more")
}
