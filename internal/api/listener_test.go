package api_test

import (
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/api"
)

func TestConnectionsAreBoundedByAddressAndInAll(t *testing.T) {
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := api.Bounded(plain, 3, 2, time.Minute)
	t.Cleanup(func() { _ = l.Close() })
	taken := make(chan net.Conn, 10)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				close(taken)
				return
			}
			taken <- c
		}
	}()
	dial := func(from string) net.Conn {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 10 * time.Second}
		c, err := d.Dial("tcp", plain.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	refused := func(c net.Conn) {
		t.Helper()
		require.NoError(t, c.SetReadDeadline(time.Now().Add(10*time.Second)))
		_, err := c.Read(make([]byte, 1))
		require.Error(t, err)
		var late net.Error
		require.False(t, asNetError(err, &late) && late.Timeout(), "it is hung up on: %v", err)
	}
	dial("127.0.0.2")
	first := <-taken
	dial("127.0.0.2")
	<-taken
	refused(dial("127.0.0.2")) // two of one address are all
	dial("127.0.0.3")
	<-taken
	refused(dial("127.0.0.4")) // and three at all
	require.NoError(t, first.Close())
	_ = first.Close() // twice counts once
	dial("127.0.0.4")
	select {
	case c := <-taken:
		require.NotNil(t, c)
	case <-time.After(10 * time.Second):
		require.Fail(t, "there is room again")
	}
	refused(dial("127.0.0.5"))
}

func TestWhoReadsNothingIsHungUpOn(t *testing.T) {
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ended := make(chan error, 1)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		piece := make([]byte, 64<<10)
		for {
			if _, err := w.Write(piece); err != nil { // a stream without end
				ended <- err
				return
			}
		}
	}))
	_ = server.Listener.Close()
	server.Listener = api.Bounded(plain, 10, 10, 100*time.Millisecond)
	server.Start()
	defer server.Close()
	c, err := net.Dial("tcp", plain.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("GET / HTTP/1.1\r\nHost: yamato\r\n\r\n"))
	require.NoError(t, err)
	select {
	case err := <-ended:
		require.ErrorIs(t, err, os.ErrDeadlineExceeded)
	case <-time.After(30 * time.Second):
		require.Fail(t, "the stream goes on for nobody")
	}
}

func asNetError(err error, into *net.Error) bool {
	if err == io.EOF {
		return false
	}
	n, ok := err.(net.Error)
	*into = n
	return ok
}
