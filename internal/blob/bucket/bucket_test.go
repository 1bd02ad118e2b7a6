package bucket

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/stretchr/testify/require"

	"yamato/internal/blob"
	"yamato/internal/blob/bucket/buckettest"
)

func serve(t *testing.T) *buckettest.Server {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	s, err := buckettest.Start(ctx, t.TempDir(), "sorane")
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return s
}

func keys(t *testing.T) string {
	t.Helper()
	file := t.TempDir() + "/keys"
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil,
		"[default]\naws_access_key_id = %s\naws_secret_access_key = %s\n", buckettest.Access,
		buckettest.Secret), 0o600))
	return file
}

func open(t *testing.T, endpoint string) *Bucket {
	t.Helper()
	p, err := ReadPlace("s3://sorane/demo?endpoint="+endpoint, func(string) string { return "" })
	require.NoError(t, err)
	b, err := Open(context.Background(), p, keys(t), t.TempDir())
	require.NoError(t, err)
	return b
}

func digestOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func noted(blob.Info) error { return nil }

// large is content of more than one part.
var large = bytes.Repeat([]byte("from Sora to Minami and back\n"), 1_500_000)

func TestABucketKeepsContentUnderItsDigest(t *testing.T) {
	b := open(t, serve(t).URL)
	ctx := context.Background()
	for name, content := range map[string][]byte{"nothing": {}, "a little": []byte("tide"), "several parts": large} {
		info, err := b.Put(ctx, bytes.NewReader(content), "", 100<<20, noted)
		require.NoError(t, err, name)
		require.Equal(t, blob.Info{Digest: digestOf(content), Size: int64(len(content))}, info)
		_, err = b.Put(ctx, bytes.NewReader(content), info.Digest, 100<<20, noted)
		require.NoError(t, err, "again")
		f, err := b.Open(ctx, info.Digest)
		require.NoError(t, err)
		got, err := io.ReadAll(f)
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, got), name)
		if len(content) > 1000 {
			part := make([]byte, 28)
			_, err = f.ReadAt(part, 29*1000)
			require.NoError(t, err)
			require.Equal(t, "from Sora to Minami and back", string(part))
		}
		require.NoError(t, f.Close())
	}
	n := 0
	require.NoError(t, b.Each(ctx, func(blob.Info) error { n++; return nil }))
	require.Equal(t, 3, n)
	require.NoError(t, b.Remove(ctx, digestOf([]byte("tide"))))
	require.NoError(t, b.Remove(ctx, digestOf([]byte("tide"))), "it is gone already")
	_, err := b.Open(ctx, digestOf([]byte("tide")))
	require.ErrorIs(t, err, blob.ErrNone)
	require.NoError(t, b.Sweep(ctx, 0))
	left, err := os.ReadDir(b.spool)
	require.NoError(t, err)
	require.Empty(t, left, "nothing stays on the service's disk")
}

func TestWhatIsDamagedIsRefused(t *testing.T) {
	s := serve(t)
	b := open(t, s.URL)
	ctx := context.Background()
	_, err := b.Put(ctx, strings.NewReader("tida"), digestOf([]byte("tide")), 100, noted)
	require.ErrorIs(t, err, blob.ErrDamaged)
	_, err = b.Put(ctx, strings.NewReader(strings.Repeat("x", 101)), "", 100, noted)
	require.ErrorIs(t, err, blob.ErrTooLarge)
	_, err = b.Put(ctx, strings.NewReader("x"), "../../secret", 100, noted)
	require.ErrorIs(t, err, blob.ErrDigest)
	require.NoError(t, b.Each(ctx, func(i blob.Info) error { return errors.New("kept " + i.Digest) }))
	info, err := b.Put(ctx, strings.NewReader("tide"), "", 100, noted)
	require.NoError(t, err)
	c, err := s.Client()
	require.NoError(t, err)
	_, err = c.PutObject(ctx, "sorane", b.at(info.Digest), strings.NewReader("tada"), 4, minio.PutObjectOptions{})
	require.NoError(t, err)
	f, err := b.Open(ctx, info.Digest)
	require.NoError(t, err)
	defer f.Close()
	_, err = io.ReadAll(f)
	require.ErrorIs(t, err, blob.ErrDamaged, "somebody has changed it in the bucket")
}

// TestABucketThatRefusesIsSlowOrGone has each fault befall a few calls, and then no more.
func TestABucketThatRefusesIsSlowOrGone(t *testing.T) {
	s := serve(t)
	var fault atomic.Pointer[buckettest.Fault]
	front := httptest.NewServer(s.Before(func(w http.ResponseWriter, r *http.Request) bool {
		if f := fault.Load(); f != nil {
			return (*f)(w, r)
		}
		return false
	}))
	defer front.Close()
	b := open(t, front.URL)
	ctx := context.Background()
	var left atomic.Int64
	faults := map[string]buckettest.Fault{
		"refuses": func(w http.ResponseWriter, r *http.Request) bool {
			w.WriteHeader(http.StatusServiceUnavailable)
			return true
		},
		"breaks off": func(w http.ResponseWriter, r *http.Request) bool {
			_, _ = io.CopyN(io.Discard, r.Body, 100_000)
			panic(http.ErrAbortHandler)
		},
		"gone": func(w http.ResponseWriter, r *http.Request) bool { panic(http.ErrAbortHandler) },
	}
	for name, one := range faults {
		left.Store(3)
		f := buckettest.Fault(func(w http.ResponseWriter, r *http.Request) bool {
			if r.Method != http.MethodPut || left.Add(-1) < 0 {
				return false
			}
			return one(w, r)
		})
		fault.Store(&f)
		content := append([]byte(name), large...)
		info, err := b.Put(ctx, bytes.NewReader(content), digestOf(content), 100<<20, noted)
		require.NoError(t, err, name)
		fault.Store(nil)
		got, err := b.Open(ctx, info.Digest)
		require.NoError(t, err)
		hash := sha256.New()
		_, err = io.Copy(hash, got)
		require.NoError(t, err)
		require.Equal(t, info.Digest, hex.EncodeToString(hash.Sum(nil)), name)
		require.NoError(t, got.Close())
	}
	var never buckettest.Fault = func(http.ResponseWriter, *http.Request) bool { panic(http.ErrAbortHandler) }
	fault.Store(&never)
	brief, stop := context.WithTimeout(ctx, 2*time.Second)
	defer stop()
	_, err := b.Put(brief, strings.NewReader("lost at sea"), "", 100, noted)
	require.Error(t, err, "it says so where the bucket stays away")
	fault.Store(nil)
	_, err = b.Open(ctx, digestOf([]byte("lost at sea")))
	require.ErrorIs(t, err, blob.ErrNone, "and nothing of it is named")
}

func TestAPublicBucketIsRefused(t *testing.T) {
	s := serve(t)
	c, err := s.Client()
	require.NoError(t, err)
	require.NoError(t, c.SetBucketPolicy(context.Background(), "sorane", `{"Version":"2012-10-17","Statement":[{"Effect":"Allow","Principal":"*",
		"Action":["s3:GetObject"],"Resource":["arn:aws:s3:::sorane/*"]}]}`))
	p, err := ReadPlace("s3://sorane/demo?endpoint="+s.URL, func(string) string { return "" })
	require.NoError(t, err)
	_, err = Open(context.Background(), p, keys(t), t.TempDir())
	require.ErrorContains(t, err, "is public")
}

func TestAddressesAndKeysThatAreNone(t *testing.T) {
	none := func(string) string { return "" }
	for address, says := range map[string]string{"s3:/x": "write s3://bucket/prefix", "s3://b/p": "AWS_ENDPOINT_URL",
		"http://b":                "write s3://",
		"s3://b?endpoint=ftp://x": "no address of a server", "s3://key:secret@b": "write s3://"} {
		_, err := ReadPlace(address, none)
		require.ErrorContains(t, err, says, address)
	}
	p, err := ReadPlace("s3://b/../a//c/", func(name string) string {
		return map[string]string{"AWS_ENDPOINT_URL": "https://storage.example"}[name]
	})
	require.NoError(t, err)
	require.Equal(t, "a/c", p.Prefix)
	file := t.TempDir() + "/keys"
	require.NoError(t, os.WriteFile(file, []byte("[default]\naws_access_key_id = "+buckettest.Access+
		"\naws_secret_access_key = wronger-than-that\n"), 0o600))
	p, err = ReadPlace("s3://sorane?endpoint="+serve(t).URL, none)
	require.NoError(t, err)
	_, err = Open(context.Background(), p, file, t.TempDir())
	require.ErrorContains(t, err, "refuses these keys")
	require.NotContains(t, err.Error(), "wronger-than-that")
	_, err = Open(context.Background(), p, t.TempDir()+"/nothing", t.TempDir())
	require.ErrorContains(t, err, "there are no keys")
}

func TestMovingGoesOnWhereItWasInterrupted(t *testing.T) {
	b := open(t, serve(t).URL)
	ctx := context.Background()
	d, err := blob.OpenDir(t.TempDir())
	require.NoError(t, err)
	for i := range 20 {
		_, err := d.Put(ctx, strings.NewReader(fmt.Sprint("ferry ", i)), "", 100, noted)
		require.NoError(t, err)
	}
	broken, stop := context.WithCancel(ctx)
	_, err = blob.Move(broken, d, b, true, func(m blob.Moved) {
		if m.Blobs == 7 {
			stop()
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	m, err := blob.Move(ctx, d, b, true, func(blob.Moved) {})
	require.NoError(t, err)
	require.Equal(t, 13, m.Sent)
	require.NoError(t, d.Each(ctx, func(i blob.Info) error { return errors.New("left " + i.Digest) }))
	n := 0
	require.NoError(t, b.Each(ctx, func(blob.Info) error { n++; return nil }))
	require.Equal(t, 20, n)
	m, err = blob.Move(ctx, b, d, false, func(blob.Moved) {})
	require.NoError(t, err)
	require.Equal(t, blob.Moved{Blobs: 20, Sent: 20, Bytes: m.Bytes}, m, "and back")
}

func TestManyPutTheSameAtOnce(t *testing.T) {
	b := open(t, serve(t).URL)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			_, err := b.Put(context.Background(), bytes.NewReader(large), digestOf(large), 100<<20, noted)
			require.NoError(t, err)
		})
	}
	all.Wait()
	f, err := b.Open(context.Background(), digestOf(large))
	require.NoError(t, err)
	defer f.Close()
	require.Equal(t, int64(len(large)), f.Size())
}
