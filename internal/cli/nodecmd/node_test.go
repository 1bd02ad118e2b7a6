package nodecmd

import (
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAServiceSaysWhereItIsReached(t *testing.T) {
	at := func(ip string) net.Addr { return &net.TCPAddr{IP: net.ParseIP(ip), Port: 7420} }
	for listens, want := range map[string]string{"127.0.0.1": "http://127.0.0.1:7420", "::1": "http://[::1]:7420", "203.0.113.7": "http://203.0.113.7:7420"} {
		got, err := reachedAt(at(listens), "")
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, all := range []string{"::", "0.0.0.0"} {
		got, err := reachedAt(at(all), "")
		require.NoError(t, err)
		require.NotContains(t, got, "[::]")
		require.NotContains(t, got, "0.0.0.0")
		require.Equal(t, "127.0.0.1:7420", within(at(all)))
	}
	for given, want := range map[string]string{"https://yamato.example": "https://yamato.example", "http://10.0.0.7:7420/": "http://10.0.0.7:7420"} {
		got, err := reachedAt(at("::"), given)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, odd := range []string{"yamato.example", "ftp://yamato.example", "http://", "http://[::]:7420", "http://0.0.0.0", "https://a:b@yamato.example", "https://yamato.example/x", "https://yamato.example?x", "http://%zz"} {
		_, err := reachedAt(at("::"), odd)
		require.Error(t, err, odd)
	}
}
