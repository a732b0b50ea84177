package lakefiles

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	icebergio "github.com/apache/iceberg-go/io"
	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"noemata/internal/connection"
)

// bucket is a lake's bucket. What is read of it is on the disk meanwhile, since DuckDB reads files.
type bucket struct {
	objects  *objects
	location string
	what     string
	cache    *cache
}

func bucketOf(b connection.Bucket, ca, what string) (Files, error) {
	b, err := b.Check()
	if err != nil {
		return nil, err
	}
	o, err := openObjects(b, ca, what)
	if err != nil {
		return nil, err
	}
	return &bucket{o, b.URL(), what, cacheOf(b)}, nil
}

func (b *bucket) Location() string { return b.location }

// key is the name of an object.
func (b *bucket) key(name string) (string, error) {
	bucketURL := "s3://" + b.objects.bucket + "/"
	return strings.TrimPrefix(name, bucketURL), below(b.location, name, b.what)
}

// atOnce is how many files come at the same time.
const atOnce = 8

func (b *bucket) Hold(ctx context.Context, names ...string) ([]string, error) {
	paths := make([]string, len(names))
	some, within := errgroup.WithContext(ctx)
	some.SetLimit(atOnce)
	for i, name := range names {
		some.Go(func() (err error) {
			paths[i], err = b.hold(within, name)
			return err
		})
	}
	if err := some.Wait(); err != nil {
		for i, name := range names {
			if paths[i] != "" {
				b.Release(name)
			}
		}
		return nil, err
	}
	return paths, nil
}

func (b *bucket) hold(ctx context.Context, name string) (string, error) {
	key, err := b.key(name)
	if err != nil {
		return "", err
	}
	return b.cache.hold(ctx, key, func(f *os.File) error { return b.objects.get(ctx, key, f) })
}

func (b *bucket) Release(names ...string) {
	for _, name := range names {
		if key, err := b.key(name); err == nil {
			b.cache.release(key)
		}
	}
}

func (b *bucket) New(name string) (string, error) {
	key, err := b.key(name)
	if err != nil {
		return "", err
	}
	return b.cache.fresh(key)
}

func (b *bucket) Keep(ctx context.Context, name string) (int64, error) {
	key, err := b.key(name)
	if err != nil {
		return 0, err
	}
	at, err := b.cache.fresh(key)
	if err != nil {
		return 0, err
	}
	f, err := os.Open(at)
	if err != nil {
		return 0, Unwritten(err, b.what)
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return 0, Unwritten(err, b.what)
	}
	if err := b.objects.put(ctx, key, f, info.Size()); err != nil {
		return 0, err
	}
	b.cache.adopt(key, info.Size())
	return info.Size(), nil
}

// removeWithin is how long files that are no more use are tried to be removed; what stays is left to upkeep.
const removeWithin = 20 * time.Second

func (b *bucket) Remove(ctx context.Context, names ...string) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), removeWithin)
	defer cancel()
	for _, name := range names {
		if key, err := b.key(name); err == nil {
			b.cache.forget(key)
			_ = b.objects.remove(ctx, key)
		}
	}
}

func (b *bucket) RemoveAll(ctx context.Context, name string) error {
	key, err := b.key(name)
	if err != nil {
		return err
	}
	return b.objects.list(ctx, key+"/", func(o object) error {
		b.cache.forget(o.key)
		return b.objects.remove(ctx, o.key)
	})
}

func (b *bucket) Folders() ([]string, error) {
	at, err := b.cache.folder()
	return []string{at}, err
}

func (b *bucket) Free() (int64, error) { return -1, nil }

func (b *bucket) Try(ctx context.Context) error {
	name := strings.TrimPrefix(b.location, "s3://"+b.objects.bucket)
	key := strings.TrimPrefix(path.Join(name, ".noemata-try-"+uuid.NewString()), "/")
	if err := b.objects.put(ctx, key, strings.NewReader("tried"), 5); err != nil {
		return err
	}
	read, err := os.CreateTemp("", "noemata-try-")
	if err != nil {
		return Unwritten(err, b.what)
	}
	defer func() { _, _ = read.Close(), os.Remove(read.Name()) }()
	if err = b.objects.get(ctx, key, read); err == nil {
		err = b.objects.list(ctx, key, func(object) error { return nil })
	}
	return cmp.Or(err, b.objects.remove(ctx, key))
}

// IO reads and writes objects until ctx ends.
func (b *bucket) IO(ctx context.Context) (icebergio.IO, error) { return objectIO{b, ctx}, nil }

// objectIO is a bucket as iceberg-go reads and writes it.
type objectIO struct {
	*bucket
	ctx context.Context //nolint:containedctx // its calls have none
}

// Open opens an object for reading.
func (o objectIO) Open(name string) (icebergio.File, error) {
	at, err := o.hold(o.ctx, name)
	if err != nil {
		return nil, err
	}
	defer o.Release(name) // an open file stays
	return os.Open(at)
}

// Remove removes an object.
func (o objectIO) Remove(name string) error {
	key, err := o.key(name)
	if err != nil {
		return err
	}
	o.cache.forget(key)
	return o.objects.remove(o.ctx, key)
}

// WriteFile writes an object.
func (o objectIO) WriteFile(name string, data []byte) error {
	w, err := o.Create(name)
	if err != nil {
		return err
	}
	_, err = w.ReadFrom(bytes.NewReader(data))
	return errors.Join(err, w.Close())
}

// Create gives what writes an object, which is there once it is closed.
func (o objectIO) Create(name string) (icebergio.FileWriter, error) {
	at, err := o.New(name)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	return &objectWriter{File: f, name: name, to: o}, Unwritten(err, o.what)
}

type objectWriter struct {
	*os.File
	name   string
	to     objectIO
	closed bool
}

// Close has the object there.
func (w *objectWriter) Close() error {
	if w.closed {
		return nil
	}
	w.closed = true
	if err := w.File.Close(); err != nil {
		return err
	}
	_, err := w.to.Keep(w.to.ctx, w.name)
	return err
}

// WalkDir calls fn for each object below a name.
func (o objectIO) WalkDir(root string, fn fs.WalkDirFunc) error {
	key, err := o.key(root)
	if err != nil {
		return err
	}
	return o.objects.list(o.ctx, key+"/", func(x object) error {
		return fn("s3://"+o.objects.bucket+"/"+x.key, x, nil)
	})
}

var (
	_ Files                 = (*bucket)(nil)
	_ Files                 = folder{}
	_ icebergio.WriteFileIO = objectIO{}
	_ icebergio.ListableIO  = objectIO{}
	_ io.ReaderFrom         = (*objectWriter)(nil)
)
