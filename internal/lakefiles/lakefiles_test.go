package lakefiles

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	icebergio "github.com/apache/iceberg-go/io"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/testkit/storage"
)

// places are where files can lie.
func places(t *testing.T) map[string]Files {
	t.Setenv("TMPDIR", t.TempDir())
	in, err := Of(connection.Settings{Path: filepath.Join(t.TempDir(), "lake")}, `warehouse "lake"`)
	require.NoError(t, err)
	at := storage.New(t).Bucket(t, "archive")
	beyond, err := Of(connection.Settings{Bucket: &at}, `warehouse "lake"`)
	require.NoError(t, err)
	return map[string]Files{"folder": in, "bucket": beyond}
}

func read(t *testing.T, f Files, name string) string {
	t.Helper()
	paths, err := f.Hold(t.Context(), name)
	require.NoError(t, err)
	defer f.Release(name)
	data, err := os.ReadFile(paths[0])
	require.NoError(t, err)
	return string(data)
}

// What is written is there for who reads it, under its name alone, until it is removed.
func TestFiles(t *testing.T) {
	for kind, f := range places(t) {
		t.Run(kind, func(t *testing.T) {
			require.NoError(t, f.Try(t.Context()))
			name := f.Location() + "/kept/shelves-1/data/a.parquet"
			at, err := f.New(name)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(at, []byte("rows"), 0o600))
			size, err := f.Keep(t.Context(), name)
			require.NoError(t, err)
			require.EqualValues(t, 4, size)
			require.Equal(t, "rows", read(t, f, name))

			through, err := f.IO(t.Context())
			require.NoError(t, err)
			writes := through.(icebergio.WriteFileIO)
			second := f.Location() + "/kept/shelves-1/metadata/b.avro"
			require.NoError(t, writes.WriteFile(second, []byte("a list")))
			w, err := writes.Create(f.Location() + "/kept/shelves-1/metadata/c.avro")
			require.NoError(t, err)
			_, err = io.WriteString(w, "another")
			require.NoError(t, err)
			require.NoError(t, w.Close())
			opened, err := through.Open(second)
			require.NoError(t, err)
			data, err := io.ReadAll(opened)
			require.NoError(t, err)
			require.Equal(t, "a list", string(data))
			require.NoError(t, opened.Close())

			var found []string
			require.NoError(t, through.(icebergio.ListableIO).WalkDir(f.Location()+"/kept/shelves-1", func(at string, d fs.DirEntry,
				err error) error {
				require.NoError(t, err)
				if !d.IsDir() {
					info, err := d.Info()
					require.NoError(t, err)
					require.WithinDuration(t, time.Now(), info.ModTime(), time.Minute)
					found = append(found, fmt.Sprint(filepath.Base(at), " ", info.Size()))
				}
				return nil
			}))
			require.ElementsMatch(t, []string{"a.parquet 4", "b.avro 6", "c.avro 7"}, found)

			f.Remove(t.Context(), name)
			_, err = f.Hold(t.Context(), name)
			if err == nil { // in a folder it is seen once it is read
				paths, _ := f.Hold(t.Context(), name)
				_, err = os.Stat(paths[0])
			}
			require.ErrorIs(t, err, fs.ErrNotExist)
			_, err = through.Open(name)
			require.ErrorIs(t, err, fs.ErrNotExist)
			require.NoError(t, f.RemoveAll(t.Context(), f.Location()+"/kept/shelves-1"))
			_, err = through.Open(second)
			require.ErrorIs(t, err, fs.ErrNotExist)

			for _, outside := range []string{"file:///etc/passwd", f.Location() + "/../other/a", f.Location() + "/a/*.parquet",
				"s3://another/lakes/libraries/a", f.Location(), ""} {
				_, err := f.Hold(t.Context(), outside)
				require.True(t, problem.Is(err, problem.Held), "%q: %v", outside, err)
				_, err = f.New(outside)
				require.True(t, problem.Is(err, problem.Held), outside)
				require.Error(t, f.RemoveAll(t.Context(), outside))
			}
		})
	}
}

// A server that fails, is slow, cuts its answers off, or has done what it gives no answer to, is asked again, and what
// is read is what was written.
func TestABucketThatFails(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	server := storage.New(t)
	at := server.Bucket(t, "archive")
	server.Failing.Store(150)
	all := make([][]byte, 60)
	var some sync.WaitGroup
	open := func() Files {
		b, err := at.Check()
		require.NoError(t, err)
		o, err := openObjects(b, "", `warehouse "lake"`)
		require.NoError(t, err)
		return &bucket{o, b.URL(), `warehouse "lake"`, newCache(1 << 20)} // that has nothing yet
	}
	f := open()
	for i := range all {
		all[i] = bytes.Repeat([]byte{byte(i)}, rand.IntN(200_000))
		if i == 0 {
			all[i] = bytes.Repeat([]byte("a large one "), 6<<20) // in parts
		}
		some.Go(func() {
			through, _ := f.IO(t.Context())
			require.NoError(t, through.(icebergio.WriteFileIO).WriteFile(fmt.Sprintf("%s/%d", f.Location(), i), all[i]))
		})
	}
	some.Wait()
	f = open()
	for i := range all {
		some.Go(func() {
			require.True(t, string(all[i]) == read(t, f, fmt.Sprintf("%s/%d", f.Location(), i)), i)
		})
	}
	some.Wait()
	require.Positive(t, server.Failed.Load())
	for i := range all {
		f.Remove(t.Context(), fmt.Sprintf("%s/%d", f.Location(), i))
	}
	require.Empty(t, server.Objects(t, "archive"))
}

// Who waits for what another fetches does not fail with that one.
func TestTwoWhoReadOne(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	c := newCache(10)
	first, stop := context.WithCancel(t.Context())
	begun := make(chan bool)
	go func() {
		_, err := c.hold(first, "a", func(*os.File) error { begun <- true; <-first.Done(); return first.Err() })
		require.ErrorIs(t, err, context.Canceled)
		begun <- true
	}()
	<-begun
	got := make(chan string)
	go func() {
		at, err := c.hold(t.Context(), "a", func(f *os.File) error { _, err := f.WriteString("rows"); return err })
		require.NoError(t, err)
		data, err := os.ReadFile(at)
		require.NoError(t, err)
		got <- string(data)
	}()
	stop()
	<-begun
	require.Equal(t, "rows", <-got)
	paths := map[string]string{}
	for _, key := range []string{"b", "c"} { // with a, these are 12 bytes
		at, err := c.hold(t.Context(), key, func(f *os.File) error { _, err := f.WriteString("rows"); return err })
		require.NoError(t, err)
		paths[key] = at
	}
	c.release("b")
	c.release("a")
	require.FileExists(t, paths["b"])
	c.release("c")
	require.NoFileExists(t, paths["b"], "the one that nobody has held for longest")
	require.FileExists(t, paths["c"])
}

// What a person has to correct is told as that.
func TestWhatABucketRefuses(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	server := storage.New(t)
	good := server.Bucket(t, "archive")
	try := func(change func(*connection.Bucket)) *problem.Problem {
		b := good
		change(&b)
		f, err := Of(connection.Settings{Bucket: &b}, `warehouse "lake"`)
		if err == nil {
			err = f.Try(t.Context())
		}
		require.Error(t, err)
		return problem.Of(err)
	}
	p := try(func(b *connection.Bucket) { b.AccessKey = "ANOTHER" })
	require.Equal(t, []any{problem.Denied, "bucket.access_key"}, []any{p.Code, p.Field}, p)
	p = try(func(b *connection.Bucket) { b.Name = "nowhere" })
	require.Equal(t, []any{problem.NoDatabase, "bucket.name"}, []any{p.Code, p.Field}, p)
	p = try(func(b *connection.Bucket) { b.Endpoint = "http://127.0.0.1:1" })
	require.Equal(t, []any{problem.Unreachable, "bucket.endpoint"}, []any{p.Code, p.Field}, p)
	code := "AccessDenied"
	server.Denied.Store(&code)
	p = try(func(*connection.Bucket) {})
	require.Equal(t, problem.Denied, p.Code)
	require.Contains(t, p.Remedy, "s3:PutObject")
	for field, change := range map[string]func(*connection.Bucket){
		"bucket.name":       func(b *connection.Bucket) { b.Name = "A/B" },
		"bucket.folder":     func(b *connection.Bucket) { b.Folder = "a/../b" },
		"bucket.endpoint":   func(b *connection.Bucket) { b.Endpoint = "storage.example" },
		"bucket.access_key": func(b *connection.Bucket) { b.AccessKey = "" },
	} {
		require.Equal(t, field, try(change).Field)
	}
}

// A server that says nothing, that does not come to an end, or that says what means nothing, is given up in a bounded
// time and space, and told as the one that does not work.
func TestAHostileBucket(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	was, before := silence, pause
	silence, pause = 300*time.Millisecond, 10*time.Millisecond
	t.Cleanup(func() { silence, pause = was, before })
	over := make(chan bool)
	hang := func(r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-over:
		}
	}
	t.Cleanup(func() { close(over) })
	endless := func(w http.ResponseWriter, piece string) {
		for {
			if _, err := io.WriteString(w, strings.Repeat(piece, 1000)); err != nil {
				return
			}
		}
	}
	for name, serve := range map[string]http.HandlerFunc{
		"says nothing": func(_ http.ResponseWriter, r *http.Request) { hang(r) },
		"hangs in the midst of an object": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Length", "100")
			_, _ = w.Write([]byte("a"))
			w.(http.Flusher).Flush()
			hang(r)
		},
		"goes on with an error for ever": func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500); endless(w, "<Error>") },
		"goes on with a list for ever":   func(w http.ResponseWriter, _ *http.Request) { endless(w, "<Contents>") },
		"says what means nothing":        func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "\x00\xff no") },
		"sends elsewhere": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://169.254.169.254/latest", http.StatusTemporaryRedirect)
		},
		"gives more than it said": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "-5")
			_, _ = w.Write([]byte("abc"))
		},
		"lists the same page again": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, `<ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>a</NextContinuationToken></ListBucketResult>`)
		},
	} {
		t.Run(name, func(t *testing.T) {
			server := httptest.NewServer(serve)
			defer server.CloseClientConnections() // handlers end with the test
			o, err := openObjects(connection.Bucket{Name: "archive", Endpoint: server.URL, Region: "us-east-1", PathStyle: true,
				AccessKey: "A", SecretKey: "b"}, "", `warehouse "lake"`)
			require.NoError(t, err)
			began := time.Now()
			to, err := os.Create(filepath.Join(t.TempDir(), "a"))
			require.NoError(t, err)
			defer func() { _ = to.Close() }()
			got := o.get(t.Context(), "a/b", to)
			listed := o.list(t.Context(), "a/", func(object) error { return nil })
			put := o.put(t.Context(), "a/b", strings.NewReader("rows"), 4)
			if name != "lists the same page again" && name != "says what means nothing" {
				require.True(t, got != nil || listed != nil, "%v %v %v", got, listed, put)
			}
			for _, err := range []error{got, listed, put} {
				require.True(t, err == nil || problem.Is(err, problem.Unreachable) || problem.Is(err, problem.Invalid), err)
			}
			require.Less(t, time.Since(began), time.Minute)
		})
	}
}
