// Package bucket keeps objects in an object store that speaks S3.
//
//	store, err := bucket.Open(bucket.Config{URL: "https://objects.fennholt.example/jugate", Key: key, Secret: secret})
//
// The client is Amazon's own for Go. It sends a checksum with everything that it writes, checks
// those that come back, writes what is large in several parts, and tries again what failed for the
// moment.
package bucket

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/aws/retry"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/feature/s3/transfermanager"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/aws/smithy-go"
	"github.com/aws/smithy-go/logging"
	smithyhttp "github.com/aws/smithy-go/transport/http"

	"jugate/core/fault"
	"jugate/core/objects"
)

// Config says where a bucket is and with what it is reached.
type Config struct {
	// URL is http or https, the store's host, the bucket, and perhaps what names begin with:
	// https://objects.fennholt.example/jugate/houses
	URL string
	// Region is what the store says its region is; us-east-1, which most take, if it is empty.
	Region      string
	Key, Secret string
	// Attempts is how often something is tried; 5 if it is 0.
	Attempts int
	// Transport reaches the store; nil stands for the usual one.
	Transport http.RoundTripper
}

// Bucket is an object store behind an S3 interface.
type Bucket struct {
	client       *s3.Client
	many         *transfermanager.Client
	name, prefix string
}

// answerWithin is how long the store may take to begin its answer.
const answerWithin = 30 * time.Second

// partBytes is the size of the parts that something large is written in, and the most that is
// written at once.
const partBytes = 8 << 20

// Open makes a client; nothing is asked of the store yet.
func Open(c Config) (*Bucket, error) {
	u, err := url.Parse(c.URL)
	if err != nil {
		return nil, fault.Invalid.Mark(err)
	}
	name, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || name == "" || u.User != nil || u.RawQuery != "" {
		return nil, fault.Invalid.Errorf("an object store is given as https://HOST/BUCKET or https://HOST/BUCKET/PREFIX, not as %q", c.URL)
	}
	if prefix != "" {
		if err := objects.CheckName(prefix); err != nil {
			return nil, fmt.Errorf("%w: %q", err, prefix)
		}
		prefix += "/"
	}
	if c.Transport == nil {
		t := http.DefaultTransport.(*http.Transport).Clone()
		t.ResponseHeaderTimeout, t.MaxIdleConnsPerHost = answerWithin, 16
		c.Transport = t
	}
	if c.Attempts == 0 {
		c.Attempts = 5
	}
	if c.Region == "" {
		c.Region = "us-east-1"
	}
	client := s3.New(s3.Options{
		BaseEndpoint: aws.String(u.Scheme + "://" + u.Host), UsePathStyle: true, Region: c.Region,
		Credentials: credentials.NewStaticCredentialsProvider(c.Key, c.Secret, ""),
		HTTPClient:  &http.Client{Transport: c.Transport},
		Retryer: retry.NewStandard(func(o *retry.StandardOptions) {
			o.MaxAttempts, o.MaxBackoff = c.Attempts, 5*time.Second
		}),
		Logger: logging.Nop{},
	})
	return &Bucket{client: client, name: name, prefix: prefix, many: transfermanager.New(client, func(o *transfermanager.Options) {
		o.PartSizeBytes, o.MultipartUploadThreshold, o.Concurrency = partBytes, 2*partBytes, 4
	})}, nil
}

func (b *Bucket) key(name string) (*string, error) {
	if err := objects.CheckName(name); err != nil {
		return nil, fmt.Errorf("%w: %q", err, name)
	}
	return aws.String(b.prefix + name), nil
}

// Put is objects.Store's. A tag is the store's entity tag.
func (b *Bucket) Put(ctx context.Context, name string, content []byte, when objects.Condition) (string, error) {
	key, err := b.key(name)
	if err != nil {
		return "", err
	}
	in := &s3.PutObjectInput{Bucket: &b.name, Key: key, Body: bytes.NewReader(content)}
	switch when {
	case objects.Always:
	case objects.Absent:
		in.IfNoneMatch = aws.String("*")
	default:
		in.IfMatch = aws.String(string(when))
	}
	out, err := b.client.PutObject(ctx, in)
	if err != nil {
		if when != objects.Always && when != objects.Absent && errors.Is(explain(err), objects.ErrNotFound) {
			return "", fmt.Errorf("%w: %s is gone", objects.ErrCondition, name)
		}
		return "", fmt.Errorf("write %s: %w", name, explain(err))
	}
	return aws.ToString(out.ETag), nil
}

// Write is objects.Store's.
func (b *Bucket) Write(ctx context.Context, name string, content io.Reader) error {
	key, err := b.key(name)
	if err != nil {
		return err
	}
	if _, err = b.many.UploadObject(ctx, &transfermanager.UploadObjectInput{Bucket: &b.name, Key: key, Body: content}); err != nil {
		return fmt.Errorf("write %s: %w", name, explain(err))
	}
	return nil
}

// Open is objects.Store's. A read that is cut off goes on where it was.
func (b *Bucket) Open(ctx context.Context, name string, from, length int64) (io.ReadCloser, error) {
	key, err := b.key(name)
	if err != nil {
		return nil, err
	}
	if length == 0 {
		return io.NopCloser(bytes.NewReader(nil)), nil
	}
	in := &s3.GetObjectInput{Bucket: &b.name, Key: key}
	switch {
	case length > 0:
		in.Range = aws.String(fmt.Sprintf("bytes=%d-%d", from, from+length-1))
	case from > 0:
		in.Range = aws.String(fmt.Sprintf("bytes=%d-", from))
	}
	out, err := b.client.GetObject(ctx, in)
	var status interface{ HTTPStatusCode() int }
	if errors.As(err, &status) && status.HTTPStatusCode() == http.StatusRequestedRangeNotSatisfiable {
		return io.NopCloser(bytes.NewReader(nil)), nil // it ends before
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", name, explain(err))
	}
	return out.Body, nil
}

// Stat is objects.Store's.
func (b *Bucket) Stat(ctx context.Context, name string) (objects.Object, error) {
	key, err := b.key(name)
	if err != nil {
		return objects.Object{}, err
	}
	out, err := b.client.HeadObject(ctx, &s3.HeadObjectInput{Bucket: &b.name, Key: key})
	if err != nil {
		return objects.Object{}, fmt.Errorf("look for %s: %w", name, explain(err))
	}
	return objects.Object{Name: name, Size: aws.ToInt64(out.ContentLength), Changed: aws.ToTime(out.LastModified), Tag: aws.ToString(out.ETag)}, nil
}

// List is objects.Store's.
func (b *Bucket) List(ctx context.Context, prefix string) iter.Seq2[objects.Object, error] {
	return func(yield func(objects.Object, error) bool) {
		pages := s3.NewListObjectsV2Paginator(b.client, &s3.ListObjectsV2Input{Bucket: &b.name, Prefix: aws.String(b.prefix + prefix)})
		for pages.HasMorePages() {
			page, err := pages.NextPage(ctx)
			if err != nil {
				yield(objects.Object{}, fmt.Errorf("list %s: %w", b.prefix+prefix, explain(err)))
				return
			}
			for _, o := range page.Contents {
				name := strings.TrimPrefix(aws.ToString(o.Key), b.prefix)
				if objects.CheckName(name) != nil || !strings.HasPrefix(name, prefix) {
					continue // not ours, or not what was asked for
				}
				if !yield(objects.Object{Name: name, Size: aws.ToInt64(o.Size), Changed: aws.ToTime(o.LastModified), Tag: aws.ToString(o.ETag)}, nil) {
					return
				}
			}
		}
	}
}

// Remove is objects.Store's.
func (b *Bucket) Remove(ctx context.Context, name string) error {
	key, err := b.key(name)
	if err != nil {
		return err
	}
	_, err = b.client.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: &b.name, Key: key})
	if err = explain(err); err != nil && !errors.Is(err, objects.ErrNotFound) {
		return fmt.Errorf("remove %s: %w", name, err)
	}
	return nil
}

// explain gives what a store answers the kinds of errors that callers tell apart, and its own words.
func explain(err error) error {
	if err == nil {
		return nil
	}
	var api smithy.APIError
	var answer *smithyhttp.ResponseError
	var no *types.NotFound
	status, code, said := 0, "", ""
	if errors.As(err, &answer) {
		status = answer.HTTPStatusCode()
	}
	if errors.As(err, &api) {
		code, said = api.ErrorCode(), api.ErrorMessage()
	}
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case code == "NoSuchBucket":
		return fault.NotFound.Errorf("the object store has no such bucket: make it, or name another one (%s)", said)
	case code == "NoSuchKey", errors.As(err, &no), status == http.StatusNotFound:
		return objects.ErrNotFound
	case status == http.StatusPreconditionFailed, code == "PreconditionFailed", code == "ConditionalRequestConflict":
		return objects.ErrCondition
	case status == http.StatusForbidden, status == http.StatusUnauthorized:
		return fault.Forbidden.Errorf("the object store refuses the key (%s: %s)", code, said)
	case status == http.StatusInsufficientStorage, code == "QuotaExceeded":
		return fault.Full.Errorf("the object store has no room left (%s: %s)", code, said)
	case code != "" && code != "UnknownError":
		return fault.Unreachable.Errorf("the object store answers %s: %s", code, said)
	case status != 0:
		return fault.Unreachable.Errorf("the object store answers with status %d", status)
	}
	return fault.Unreachable.Errorf("the object store cannot be reached: %w", err)
}
