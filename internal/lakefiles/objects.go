package lakefiles

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path"
	"slices"
	"sync"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/aws/ratelimit"
	"github.com/aws/aws-sdk-go-v2/aws/retry"
	"github.com/aws/aws-sdk-go-v2/config"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/aws/smithy-go"
	"golang.org/x/sync/errgroup"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// How a server of objects is borne with. Each request is tried again where that may help: objects are written whole, so
// an answer that was lost does no harm.
const (
	tries       = 6
	slowest     = 100 << 10 // bytes in a second that a transfer comes to, or it is given up
	partSize    = 32 << 20  // bytes of an object that are sent at once
	partsAtOnce = 4         // parts that are sent at the same time
	mostSaid    = 16 << 20  // bytes of an answer that is no object
	mostBlamed  = 64 << 10  // bytes of one that tells what is wrong
	comesOn     = 1 << 20   // bytes of an object, with which a try that was cut off is none of those that failed
)

var (
	pause   = 3 * time.Second  // at most, between two tries
	silence = 30 * time.Second // of a server, until it is given up
)

// objects are those of a bucket.
type objects struct {
	bucket, at, what string
	client           *s3.Client
}

func openObjects(b connection.Bucket, ca, what string) (*objects, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DialContext = (&net.Dialer{Timeout: 10 * time.Second}).DialContext
	transport.ResponseHeaderTimeout, transport.MaxIdleConnsPerHost = silence, 2*atOnce
	if ca != "" {
		roots, err := x509.SystemCertPool()
		if err != nil {
			roots = x509.NewCertPool()
		}
		if !roots.AppendCertsFromPEM([]byte(ca)) {
			return nil, problem.New(problem.Invalid, "The CA certificates cannot be read.", "Give them in PEM.").In("ca")
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
	}
	settings := aws.Config{Region: b.Region, HTTPClient: &http.Client{Transport: bounded{transport},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	if b.AccessKey != "" {
		settings.Credentials = credentials.NewStaticCredentialsProvider(b.AccessKey, b.SecretKey, "")
	} else {
		settings.Credentials = &ofEnvironment{region: b.Region}
	}
	settings.Credentials = aws.NewCredentialsCache(settings.Credentials)
	settings.Retryer = func() aws.Retryer {
		return retry.NewStandard(func(o *retry.StandardOptions) {
			o.MaxAttempts, o.MaxBackoff, o.RateLimiter = tries, pause, ratelimit.None
		})
	}
	client := s3.NewFromConfig(settings, func(o *s3.Options) {
		if b.Endpoint != "" {
			o.BaseEndpoint = &b.Endpoint
		}
		o.UsePathStyle = b.PathStyle
		// The signature has a digest of what is sent; many servers do not know the newer checksums.
		o.RequestChecksumCalculation = aws.RequestChecksumCalculationWhenRequired
		o.ResponseChecksumValidation = aws.ResponseChecksumValidationWhenRequired
		o.DisableLogOutputChecksumValidationSkipped = true
	})
	return &objects{b.Name, cmp.Or(b.Endpoint, "Amazon S3 in "+b.Region), what, client}, nil
}

// bounded bounds what a server says that is no object.
type bounded struct{ http.RoundTripper }

// RoundTrip gives an answer to a request.
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := b.RoundTripper.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	most := int64(0)
	switch {
	case answer.StatusCode >= 300:
		most = mostBlamed
	case r.Method != http.MethodGet || r.URL.Query().Has("list-type"):
		most = mostSaid
	}
	if most > 0 {
		answer.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(answer.Body, most), answer.Body}
	}
	return answer, nil
}

// ofEnvironment signs in as the environment of the process says (variables, files, the machine's role), which is looked
// at once it is needed.
type ofEnvironment struct {
	region string
	mu     sync.Mutex
	found  aws.CredentialsProvider
}

// Retrieve gives the keys to sign in with.
func (e *ofEnvironment) Retrieve(ctx context.Context) (aws.Credentials, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.found == nil {
		c, err := config.LoadDefaultConfig(ctx, config.WithRegion(e.region))
		if err != nil {
			return aws.Credentials{}, err
		}
		e.found = c.Credentials
	}
	return e.found.Retrieve(ctx)
}

// longEnough bounds a transfer by its size.
func longEnough(ctx context.Context, size int64) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, tries*(silence+pause+time.Duration(size/slowest)*time.Second))
}

// put writes an object.
func (o *objects) put(ctx context.Context, key string, from io.ReaderAt, size int64) error {
	if size > partSize {
		return o.explain(o.putParts(ctx, key, from, size), "write", key)
	}
	ctx, cancel := longEnough(ctx, size)
	defer cancel()
	_, err := o.client.PutObject(ctx, &s3.PutObjectInput{Bucket: &o.bucket, Key: &key,
		Body: io.NewSectionReader(from, 0, size), ContentLength: &size})
	return o.explain(err, "write", key)
}

// putParts writes a large object in parts (Amazon S3 User Guide, Uploading and copying objects using multipart upload).
func (o *objects) putParts(ctx context.Context, key string, from io.ReaderAt, size int64) error {
	begun, err := o.client.CreateMultipartUpload(ctx, &s3.CreateMultipartUploadInput{Bucket: &o.bucket, Key: &key})
	if err != nil {
		return err
	}
	of := max(partSize, (size+9999)/10000) // there are at most 10,000 parts
	parts := make([]types.CompletedPart, (size+of-1)/of)
	some, within := errgroup.WithContext(ctx)
	some.SetLimit(partsAtOnce)
	for i := range parts {
		some.Go(func() error {
			length, number := min(of, size-int64(i)*of), int32(i+1) //nolint:gosec // at most 10,000
			within, cancel := longEnough(within, length)
			defer cancel()
			sent, err := o.client.UploadPart(within, &s3.UploadPartInput{Bucket: &o.bucket, Key: &key, UploadId: begun.UploadId,
				PartNumber: &number, Body: io.NewSectionReader(from, int64(i)*of, length), ContentLength: &length})
			if err == nil {
				parts[i] = types.CompletedPart{ETag: sent.ETag, PartNumber: &number}
			}
			return err
		})
	}
	if err = some.Wait(); err == nil {
		_, err = o.client.CompleteMultipartUpload(ctx, &s3.CompleteMultipartUploadInput{Bucket: &o.bucket, Key: &key,
			UploadId: begun.UploadId, MultipartUpload: &types.CompletedMultipartUpload{Parts: parts}})
	}
	if err != nil {
		if o.has(ctx, key, size) { // it was completed, and the answer was lost
			return nil
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), removeWithin)
		defer cancel()
		_, _ = o.client.AbortMultipartUpload(ctx, &s3.AbortMultipartUploadInput{Bucket: &o.bucket, Key: &key,
			UploadId: begun.UploadId})
	}
	return err
}

func (o *objects) has(ctx context.Context, key string, size int64) bool {
	found, err := o.client.HeadObject(ctx, &s3.HeadObjectInput{Bucket: &o.bucket, Key: &key})
	return err == nil && found.ContentLength != nil && *found.ContentLength == size
}

// get reads an object into a file. Where it is cut off it goes on from there.
func (o *objects) get(ctx context.Context, key string, to *os.File) error {
	var err error
	var had int64
	for failed := 0; failed < tries; {
		var whole bool
		before := had
		if whole, err = o.getFrom(ctx, key, to, &had); whole {
			return nil
		}
		if missing(err) || refused(err) || ctx.Err() != nil {
			break
		}
		failed++
		if had-before > comesOn {
			failed = 1
		}
		select {
		case <-ctx.Done():
		case <-time.After(min(pause, time.Duration(failed*failed)*50*time.Millisecond)):
		}
	}
	return o.explain(cmp.Or(err, ctx.Err()), "read", key)
}

// getFrom reads on from the byte that comes next; whole tells whether that was all.
func (o *objects) getFrom(ctx context.Context, key string, to *os.File, had *int64) (whole bool, err error) {
	asked := ctx
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer func() {
		if err != nil && ctx.Err() != nil && asked.Err() == nil {
			err = fmt.Errorf("it has said nothing for %s", silence)
		}
	}()
	stalled := time.AfterFunc(tries*(silence+pause), cancel)
	defer stalled.Stop()
	input := &s3.GetObjectInput{Bucket: &o.bucket, Key: &key}
	if *had > 0 {
		input.Range = aws.String(fmt.Sprintf("bytes=%d-", *had))
	}
	got, err := o.client.GetObject(ctx, input)
	if err != nil {
		return false, err
	}
	defer func() { _ = got.Body.Close() }()
	if got.ContentLength == nil || *got.ContentLength < 0 || *had > 0 && got.ContentRange == nil {
		*had = 0 // it does not tell how much is to come, or begins anew
		if input.Range != nil {
			return false, errors.New("the server does not go on where an object was cut off")
		}
		return false, errors.New("the server does not tell how long an object is")
	}
	stalled.Reset(silence) // each silence has an end, though the whole may take long
	n, err := io.Copy(io.NewOffsetWriter(to, *had), progress{got.Body, func() { stalled.Reset(silence) }})
	*had += n
	if err == nil && n != *got.ContentLength {
		err = io.ErrUnexpectedEOF
	}
	return err == nil, err
}

// progress calls a function whenever something was read.
type progress struct {
	io.Reader
	came func()
}

func (p progress) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	if n > 0 {
		p.came()
	}
	return n, err
}

// remove removes an object; one that is not there is no fault.
func (o *objects) remove(ctx context.Context, key string) error {
	ctx, cancel := longEnough(ctx, 0)
	defer cancel()
	_, err := o.client.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: &o.bucket, Key: &key})
	if missing(err) {
		return nil
	}
	return o.explain(err, "remove", key)
}

// object is one that a list tells of.
type object struct {
	key  string
	size int64
	at   time.Time
}

// Name is the last part of the object's name.
func (x object) Name() string { return path.Base(x.key) }

// Size is in bytes.
func (x object) Size() int64 { return x.size }

// ModTime is when it was written.
func (x object) ModTime() time.Time { return x.at }

// Mode is that of a file.
func (x object) Mode() fs.FileMode { return 0o444 }

// Type is that of a file.
func (x object) Type() fs.FileMode { return 0 }

// IsDir is false.
func (x object) IsDir() bool { return false }

// Sys is nothing.
func (x object) Sys() any { return nil }

// Info is the object itself.
func (x object) Info() (fs.FileInfo, error) { return x, nil }

// list calls a function for each object whose name begins so.
func (o *objects) list(ctx context.Context, prefix string, each func(object) error) error {
	pages := s3.NewListObjectsV2Paginator(o.client, &s3.ListObjectsV2Input{Bucket: &o.bucket, Prefix: &prefix},
		func(p *s3.ListObjectsV2PaginatorOptions) { p.StopOnDuplicateToken = true })
	for pages.HasMorePages() {
		page, err := func() (*s3.ListObjectsV2Output, error) {
			ctx, cancel := longEnough(ctx, 0)
			defer cancel()
			return pages.NextPage(ctx)
		}()
		if err != nil {
			return o.explain(err, "list", prefix)
		}
		for _, x := range page.Contents {
			found := object{aws.ToString(x.Key), aws.ToInt64(x.Size), aws.ToTime(x.LastModified)}
			if err := each(found); err != nil {
				return err
			}
		}
	}
	return nil
}

// missing tells whether an object is not there.
func missing(err error) bool {
	var api smithy.APIError
	return errors.As(err, &api) && slices.Contains([]string{"NoSuchKey", "NotFound"}, api.ErrorCode())
}

// refused tells whether asking again would not help.
func refused(err error) bool {
	var api smithy.APIError
	return errors.As(err, &api) && slices.Contains([]string{"AccessDenied", "InvalidAccessKeyId", "SignatureDoesNotMatch",
		"NoSuchBucket", "PermanentRedirect", "AuthorizationHeaderMalformed", "Forbidden"}, api.ErrorCode())
}

// explain gives the reason and the remedy of what went wrong.
func (o *objects) explain(err error, doing, key string) error {
	if err == nil {
		return nil
	}
	var api smithy.APIError
	code, said := "", err.Error()
	if errors.As(err, &api) {
		code, said = api.ErrorCode(), cmp.Or(api.ErrorMessage(), api.ErrorCode())
	}
	at := fmt.Sprintf("the bucket %s at %s, of the %s", o.bucket, o.at, o.what)
	switch {
	case missing(err):
		return fmt.Errorf("%s is not in %s: %w", key, at, fs.ErrNotExist)
	case errors.Is(err, context.Canceled):
		return err
	case code == "NoSuchBucket":
		return problem.Wrap(err, problem.NoDatabase, fmt.Sprintf("There is no bucket %s at %s, of the %s.", o.bucket, o.at, o.what),
			"Make it, or correct its name.").
			In("bucket.name")
	case code == "PermanentRedirect", code == "AuthorizationHeaderMalformed":
		return problem.Wrap(err, problem.Invalid, fmt.Sprintf("In another region than the one given is %s: %s.", at, said),
			"Give the region that it says.").In("bucket.region")
	case code == "InvalidAccessKeyId", code == "SignatureDoesNotMatch":
		return problem.Wrap(err, problem.Denied, fmt.Sprintf("The access key was refused by %s: %s.", at, said),
			"Correct the access key and the secret key.").In("bucket.access_key")
	case code == "AccessDenied", code == "Forbidden":
		return problem.Wrap(err, problem.Denied, fmt.Sprintf("The access key may not %s %s in %s.", doing, key, at),
			"Let it get, put, delete and list objects there (s3:GetObject, s3:PutObject, s3:DeleteObject, s3:ListBucket).").
			In("bucket.access_key")
	}
	if no := (*aws.RequestCanceledError)(nil); errors.As(err, &no) && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("To %s %s in %s came to nothing: %s.", doing, key, at, said),
		"Does its server work, and can it be reached from here? The next run goes on where this one ended.").
		In("bucket.endpoint")
}
