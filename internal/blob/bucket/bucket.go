// Package bucket keeps blobs in an S3-compatible store, so that several services need share no folder.
//
// What arrives is put on this service's disk first, where it is hashed; what does not have the digest
// that it should have never reaches the bucket. From there it goes in parts, each with its MD5, which are
// tried again; an object appears when it is whole. Blobs are private: a bucket that anybody may read is refused.
package bucket

import (
	"context"
	"crypto/md5"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"golang.org/x/sync/errgroup"

	"yamato/internal/blob"
	"yamato/internal/killpoint"
	"yamato/internal/retry"
)

// Place says where blobs are kept: s3://bucket/prefix, with the endpoint and the region as a query
// (?endpoint=https://…&region=…) or from the environment (AWS_ENDPOINT_URL, AWS_REGION).
type Place struct {
	Bucket, Prefix string
	Endpoint       *url.URL
	Region         string
}

// Is tells whether a text is the address of a bucket.
func Is(address string) bool { return strings.HasPrefix(address, "s3://") }

// ReadPlace reads the address of a bucket. getenv gives variables of the environment.
func ReadPlace(address string, getenv func(string) string) (Place, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "s3" || u.Host == "" || u.User != nil {
		return Place{}, fmt.Errorf("%q is no address of a bucket: write s3://bucket/prefix", address)
	}
	p := Place{Bucket: u.Host, Prefix: strings.Trim(path.Clean("/"+u.Path), "/")}
	first := func(texts ...string) string {
		for _, t := range texts {
			if t != "" {
				return t
			}
		}
		return ""
	}
	p.Region = first(u.Query().Get("region"), getenv("AWS_REGION"), getenv("AWS_DEFAULT_REGION"), "us-east-1")
	at := first(u.Query().Get("endpoint"), getenv("AWS_ENDPOINT_URL_S3"), getenv("AWS_ENDPOINT_URL"))
	if at == "" {
		return Place{}, errors.New("it is not said which server has the bucket: set AWS_ENDPOINT_URL, or write s3://bucket/prefix?endpoint=https://…")
	}
	if p.Endpoint, err = url.Parse(at); err != nil || p.Endpoint.Host == "" || p.Endpoint.Scheme != "http" &&
		p.Endpoint.Scheme != "https" ||
		p.Endpoint.User != nil {
		return Place{}, fmt.Errorf("%q is no address of a server: write https://storage.example", at)
	}
	return p, nil
}

// Bucket is a blob.Store in a bucket.
type Bucket struct {
	client *minio.Client
	sends  minio.Core // the same, but that it tries nothing again: see send
	place  Place
	spool  string // where what arrives is put until it is whole
}

// Bounds of how the store is spoken to.
const (
	partSize   = 16 << 20 // bytes, at the least
	maxParts   = 9000     // of one object (the protocol takes 10,000)
	retries    = 6        // of one call, with pauses that grow
	answerTime = 30 * time.Second
)

// Open opens a bucket with keys from a file (as AWS's tools write it) or, where none is named, from the
// environment. spool is a folder of this service's own. It refuses a bucket that anybody may read.
func Open(ctx context.Context, p Place, keyFile, spool string) (*Bucket, error) {
	keys := credentials.NewEnvAWS()
	if keyFile != "" {
		keys = credentials.NewFileAWSCredentials(keyFile, "")
	}
	if v, err := keys.GetWithContext(nil); err != nil || v.AccessKeyID == "" {
		return nil, errors.New("there are no keys for the bucket: set AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or name a file with --blobs-keys")
	}
	transport, err := minio.DefaultTransport(p.Endpoint.Scheme == "https")
	if err != nil {
		return nil, err
	}
	transport.ResponseHeaderTimeout = answerTime
	c, err := minio.New(p.Endpoint.Host, &minio.Options{Creds: keys, Secure: p.Endpoint.Scheme == "https",
		Region:    p.Region,
		Transport: transport, MaxRetries: retries, BucketLookup: minio.BucketLookupPath})
	if err != nil {
		return nil, fmt.Errorf("the bucket cannot be spoken to: %w", err)
	}
	sends, err := minio.NewCore(p.Endpoint.Host, &minio.Options{Creds: keys, Secure: p.Endpoint.Scheme == "https",
		Region:    p.Region,
		Transport: transport, MaxRetries: 1, BucketLookup: minio.BucketLookupPath})
	if err != nil {
		return nil, fmt.Errorf("the bucket cannot be spoken to: %w", err)
	}
	if err := os.MkdirAll(spool, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder for what arrives: %w", err)
	}
	b := &Bucket{client: c, sends: *sends, place: p, spool: spool}
	return b, b.try(ctx)
}

// try sees that the bucket takes and gives what is ours, and gives nothing to others.
func (b *Bucket) try(ctx context.Context) error {
	key := b.key("yamato-was-here")
	if _, err := b.client.PutObject(ctx, b.place.Bucket, key, strings.NewReader("private"), 7,
		minio.PutObjectOptions{}); err != nil {
		return fmt.Errorf("the bucket %s does not take what is written: %w", b.place.Bucket, inWords(err))
	}
	defer func() { // what is tried with does not stay; the next open puts it anew
		_ = b.client.RemoveObject(context.WithoutCancel(ctx), b.place.Bucket, key, minio.RemoveObjectOptions{})
	}()
	at := *b.place.Endpoint
	at.Path = "/" + b.place.Bucket + "/" + key
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return err
	}
	answer, err := (&http.Client{Timeout: answerTime}).Do(r)
	if err != nil {
		return fmt.Errorf("the bucket %s cannot be reached: %w", b.place.Bucket, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode < 300 {
		return fmt.Errorf("the bucket %s is public: whoever knows its address can read what is in it; make it private first", b.place.Bucket)
	}
	return nil
}

func (b *Bucket) key(name string) string { return strings.TrimPrefix(b.place.Prefix+"/"+name, "/") }

func (b *Bucket) at(digest string) string { return b.key("blobs/" + digest[:2] + "/" + digest) }

// Put keeps what r gives.
func (b *Bucket) Put(ctx context.Context, r io.Reader, digest string, limit int64,
	note func(blob.Info) error) (blob.Info, error) {
	if digest != "" && !blob.IsDigest(digest) {
		return blob.Info{}, blob.ErrDigest
	}
	if digest != "" {
		if size, err := b.size(ctx, digest); err == nil {
			if err := note(blob.Info{Digest: digest, Size: size}); err != nil { // from here on nobody takes it away
				return blob.Info{}, err
			}
			if _, err := b.size(ctx, digest); err == nil {
				return blob.Receive(ctx, io.Discard, r, digest, limit) // it is here: what comes is checked, not sent
			}
		}
	}
	f, err := os.CreateTemp(b.spool, "in-*")
	if err != nil {
		return blob.Info{}, fmt.Errorf("staging a blob: %w", err)
	}
	defer func() {
		_ = f.Close()
		_ = os.Remove(f.Name())
	}()
	info, err := blob.Receive(ctx, f, r, digest, limit)
	if err != nil {
		return blob.Info{}, err
	}
	killpoint.Pass("blob-staged")
	if err := note(info); err != nil {
		return blob.Info{}, err
	}
	if size, err := b.size(ctx, info.Digest); err == nil && size == info.Size {
		return info, nil
	}
	if err := b.send(ctx, b.at(info.Digest), f, info.Size); err != nil {
		return blob.Info{}, fmt.Errorf("keeping a blob: %w", err)
	}
	return info, nil
}

// send puts a file's content under a key: in parts where it is large, each tried again by itself.
//
// The client package tries again with the reader that it was given, from which the connection that
// broke may still read; so each try here has a reader of its own.
func (b *Bucket) send(ctx context.Context, key string, f io.ReaderAt, size int64) error {
	const mediaType = "application/octet-stream"
	if size <= partSize {
		sum, err := md5Of(f, 0, size)
		if err != nil {
			return err
		}
		return again(ctx, func() error {
			_, err := b.sends.PutObject(ctx, b.place.Bucket, key, io.NewSectionReader(f, 0, size), size, sum, "",
				minio.PutObjectOptions{ContentType: mediaType})
			return err
		})
	}
	var id string
	if err := again(ctx, func() (err error) {
		id, err = b.sends.NewMultipartUpload(ctx, b.place.Bucket, key, minio.PutObjectOptions{ContentType: mediaType})
		return err
	}); err != nil {
		return err
	}
	err := b.sendParts(ctx, key, id, f, size)
	if err != nil { // what stays all the same is swept
		late, stop := context.WithTimeout(context.WithoutCancel(ctx), answerTime)
		defer stop()
		_ = b.sends.AbortMultipartUpload(late, b.place.Bucket, key, id)
	}
	return err
}

func (b *Bucket) sendParts(ctx context.Context, key, id string, f io.ReaderAt, size int64) error {
	each := max(partSize, (size/maxParts+1<<20)>>20<<20)
	parts := make([]minio.CompletePart, (size+each-1)/each)
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(2)
	for i := range parts {
		g.Go(func() error {
			at := int64(i) * each
			n := min(each, size-at)
			sum, err := md5Of(f, at, n)
			if err != nil {
				return err
			}
			return again(within, func() error {
				p, err := b.sends.PutObjectPart(within, b.place.Bucket, key, id, i+1, io.NewSectionReader(f, at, n), n,
					minio.PutObjectPartOptions{Md5Base64: sum})
				parts[i] = minio.CompletePart{PartNumber: i + 1, ETag: p.ETag}
				return err
			})
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return again(ctx, func() error {
		_, err := b.sends.CompleteMultipartUpload(ctx, b.place.Bucket, key, id, parts, minio.PutObjectOptions{})
		return err
	})
}

func md5Of(f io.ReaderAt, at, n int64) (string, error) {
	sum := md5.New()
	_, err := io.Copy(sum, io.NewSectionReader(f, at, n))
	return base64.StdEncoding.EncodeToString(sum.Sum(nil)), err
}

// again tries until it goes well, as often as is sensible, but for what would go the same way each time.
func again(ctx context.Context, do func() error) error {
	pause := retry.From(100*time.Millisecond, 3*time.Second)
	for tries := 1; ; tries++ {
		err := do()
		if err == nil {
			return nil
		}
		var answer minio.ErrorResponse
		if final := errors.As(err, &answer) && answer.StatusCode >= 400 && answer.StatusCode < 500 &&
			answer.StatusCode != http.StatusTooManyRequests &&
			answer.StatusCode != http.StatusRequestTimeout && answer.Code != "BadDigest"; final || tries == retries {
			return inWords(err)
		}
		if pause.Wait(ctx) != nil {
			return errors.Join(inWords(err), context.Cause(ctx))
		}
	}
}

// PutNamed keeps content under a name of its own below the prefix, unless content of that size is there already.
func (b *Bucket) PutNamed(ctx context.Context, name, mediaType string, r io.Reader, size int64) (sent bool, err error) {
	key := b.key(name)
	if there, err := b.client.StatObject(ctx, b.place.Bucket, key, minio.StatObjectOptions{}); err == nil &&
		there.Size == size {
		return false, nil
	}
	_, err = b.client.PutObject(ctx, b.place.Bucket, key, r, size, minio.PutObjectOptions{ContentType: mediaType,
		SendContentMd5: true, PartSize: partSize})
	return err == nil, inWords(err)
}

func (b *Bucket) size(ctx context.Context, digest string) (int64, error) {
	info, err := b.client.StatObject(ctx, b.place.Bucket, b.at(digest), minio.StatObjectOptions{})
	return info.Size, inWords(err)
}

// Open opens a blob. One that is read from its beginning to its end, and does not have its digest,
// ends with blob.ErrDamaged.
func (b *Bucket) Open(ctx context.Context, digest string) (blob.File, error) {
	if !blob.IsDigest(digest) {
		return nil, blob.ErrDigest
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx)) // it lasts until it is closed
	size, err := b.size(ctx, digest)
	if err != nil {
		stop()
		return nil, err
	}
	o, err := b.client.GetObject(ctx, b.place.Bucket, b.at(digest), minio.GetObjectOptions{})
	if err != nil {
		stop()
		return nil, inWords(err)
	}
	return blob.Checked(&file{Object: o, size: size, stop: stop}, digest), nil
}

type file struct {
	*minio.Object
	size int64
	stop context.CancelFunc
}

func (f *file) Size() int64 { return f.size }

func (f *file) Read(p []byte) (int, error) {
	n, err := f.Object.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		err = inWords(err)
	}
	return n, err
}

func (f *file) Close() error {
	defer f.stop()
	return f.Object.Close()
}

// Each visits the blobs that there are.
func (b *Bucket) Each(ctx context.Context, visit func(blob.Info) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	for o := range b.client.ListObjects(ctx, b.place.Bucket, minio.ListObjectsOptions{Prefix: b.key("blobs/"),
		Recursive: true}) {
		if o.Err != nil {
			return inWords(o.Err)
		}
		if digest := path.Base(o.Key); blob.IsDigest(digest) {
			if err := visit(blob.Info{Digest: digest, Size: o.Size}); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// Remove takes a blob away.
func (b *Bucket) Remove(ctx context.Context, digest string) error {
	if !blob.IsDigest(digest) {
		return blob.ErrDigest
	}
	err := inWords(b.client.RemoveObject(ctx, b.place.Bucket, b.at(digest), minio.RemoveObjectOptions{}))
	if errors.Is(err, blob.ErrNone) {
		return nil
	}
	return err
}

// Sweep takes away what began to arrive longer ago than age: on this service's disk, and parts in the bucket.
func (b *Bucket) Sweep(ctx context.Context, age time.Duration) error {
	before := time.Now().Add(-age)
	entries, err := os.ReadDir(b.spool)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if info, gone := e.Info(); gone == nil && !e.IsDir() && info.ModTime().Before(before) {
			err = errors.Join(err, os.Remove(path.Join(b.spool, e.Name())))
		}
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	for u := range b.client.ListIncompleteUploads(ctx, b.place.Bucket, b.key("blobs/"), true) {
		if u.Err != nil {
			return errors.Join(err, inWords(u.Err))
		}
		if u.Initiated.Before(before) {
			err = errors.Join(err, inWords(b.client.RemoveIncompleteUpload(ctx, b.place.Bucket, u.Key)))
		}
	}
	return err
}

// inWords tells what the store answers: what is not there is blob.ErrNone, and nothing tells of keys.
func inWords(err error) error {
	if err == nil {
		return nil
	}
	var answer minio.ErrorResponse
	if !errors.As(err, &answer) {
		return err
	}
	switch strings.ToLower(answer.Code) { // servers do not agree on the case
	case "nosuchkey", "notfound":
		return blob.ErrNone
	case "nosuchbucket":
		return fmt.Errorf("there is no bucket %s", answer.BucketName)
	case "accessdenied", "invalidaccesskeyid", "signaturedoesnotmatch":
		return fmt.Errorf("the bucket refuses these keys: %s", answer.Code)
	}
	if answer.StatusCode == http.StatusForbidden || answer.StatusCode == http.StatusUnauthorized {
		return fmt.Errorf("the bucket refuses these keys: %s", answer.Message)
	}
	return err
}
