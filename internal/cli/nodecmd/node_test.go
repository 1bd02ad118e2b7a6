package nodecmd

import (
	"context"
	"net"
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/pgbox/pgtest"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func TestAServiceSaysWhereItIsReached(t *testing.T) {
	at := func(ip string) net.Addr { return &net.TCPAddr{IP: net.ParseIP(ip), Port: 7420} }
	for listens, want := range map[string]string{"127.0.0.1": "http://127.0.0.1:7420", "::1": "http://[::1]:7420",
		"203.0.113.7": "http://203.0.113.7:7420"} {
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
	for given, want := range map[string]string{"https://yamato.example": "https://yamato.example",
		"http://10.0.0.7:7420/": "http://10.0.0.7:7420"} {
		got, err := reachedAt(at("::"), given)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, odd := range []string{"yamato.example", "ftp://yamato.example", "http://", "http://[::]:7420",
		"http://0.0.0.0", "https://a:b@yamato.example", "https://yamato.example/x", "https://yamato.example?x",
		"http://%zz"} {
		_, err := reachedAt(at("::"), odd)
		require.Error(t, err, odd)
	}
}

func TestAFolderIsServedForOneDatabase(t *testing.T) {
	ctx := context.Background()
	st := pgtest.Store(t)
	dir := t.TempDir()
	require.NoError(t, sameRecords(ctx, dir, st))
	require.NoError(t, sameRecords(ctx, dir, st), "again")
	other := pgtest.Store(t)
	// tests' databases are copies of one
	_, err := other.DB.ExecContext(ctx, `update identity set id = gen_random_uuid()`)
	require.NoError(t, err)
	require.ErrorContains(t, sameRecords(ctx, dir, other), "belongs to the records of another database")
}

func TestADatabaseThatIsAwayIsTold(t *testing.T) {
	ctx := context.Background()
	_, err := store.Open(ctx, "postgres://yamato@127.0.0.1:1/yamato?connect_timeout=2")
	require.Error(t, err)
	require.True(t, pg.Away(err), "%v", err)
	_, err = store.Open(ctx, "postgres://yamato@127.0.0.1:x/yamato")
	require.Error(t, err)
	require.False(t, pg.Away(err), "a wrong address is none that is away: %v", err)
	u, err := url.Parse(pgtest.Database(t))
	require.NoError(t, err)
	u.Path = "/there_is_none"
	_, err = store.Open(ctx, u.String())
	require.Error(t, err)
	require.False(t, pg.Away(err), "%v", err)
}
