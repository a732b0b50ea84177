// Package storage starts a stand-in for a server of object storage, since none can be had here: gofakes3, which keeps
// objects in memory and speaks Amazon S3's protocol. It fails as such servers do, at will.
package storage

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
)

// AccessKey is the one that may sign in.
const AccessKey = "LIBRARIES"

// Server is a server of object storage.
type Server struct {
	URL  string
	kept *s3mem.Backend
	// Failing is how many of a thousand requests fail, each in one of several ways.
	Failing atomic.Int64
	// Denied is what requests are refused with, as "AccessDenied"; nothing where it is empty.
	Denied atomic.Pointer[string]
	// Requests counts what came, and Failed how many of these failed.
	Requests, Failed atomic.Int64
}

// New starts one that ends with the test.
func New(t testing.TB) *Server {
	s := &Server{kept: s3mem.New()}
	serves := gofakes3.New(s.kept).Server()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.Requests.Add(1)
		if !strings.Contains(r.Header.Get("Authorization"), "Credential="+AccessKey+"/") {
			refuse(w, http.StatusForbidden, "InvalidAccessKeyId")
			return
		}
		if code := s.Denied.Load(); code != nil && *code != "" {
			refuse(w, http.StatusForbidden, *code)
			return
		}
		if rand.Int64N(1000) < s.Failing.Load() {
			s.Failed.Add(1)
			fail(serves, w, r)
			return
		}
		serves.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	s.URL = server.URL
	return s
}

// Bucket makes a bucket, and gives the settings that lead there.
func (s *Server) Bucket(t testing.TB, name string) connection.Bucket {
	require.NoError(t, s.kept.CreateBucket(name))
	return connection.Bucket{Name: name, Folder: "lakes/libraries", Endpoint: s.URL, PathStyle: true,
		AccessKey: AccessKey, SecretKey: "made-up"}
}

// Objects are the names of what is in a bucket.
func (s *Server) Objects(t testing.TB, bucket string) (names []string) {
	page := gofakes3.ListBucketPage{MaxKeys: 1000}
	for {
		list, err := s.kept.ListBucket(bucket, nil, page)
		require.NoError(t, err)
		for _, o := range list.Contents {
			names = append(names, o.Key)
		}
		if !list.IsTruncated {
			return names
		}
		page.HasMarker, page.Marker = true, list.NextMarker
	}
}

// Drop removes an object, as another program would.
func (s *Server) Drop(t testing.TB, bucket, name string) {
	_, err := s.kept.DeleteObject(bucket, name)
	require.NoError(t, err)
}

func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	_, _ = fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?><Error><Code>%s</Code><Message>%[1]s, it says</Message></Error>`,
		code)
}

// fail answers as servers of objects and what is before them do on bad days.
func fail(serves http.Handler, w http.ResponseWriter, r *http.Request) {
	switch rand.IntN(6) {
	case 0:
		refuse(w, http.StatusServiceUnavailable, "SlowDown")
	case 1:
		refuse(w, http.StatusInternalServerError, "InternalError")
	case 2: // of something on the way
		w.Header().Set("Content-Type", "text/html")
		w.WriteHeader(http.StatusBadGateway)
		_, _ = w.Write([]byte("<html>Bad gateway</html>"))
	case 3: // it is done, and nobody hears of it
		serves.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	case 4: // cut off in the midst of an answer
		answer := httptest.NewRecorder()
		serves.ServeHTTP(answer, r)
		for name, values := range answer.Header() {
			w.Header()[name] = values
		}
		body := answer.Body.Bytes()
		w.Header().Set("Content-Length", fmt.Sprint(len(body)+1))
		w.WriteHeader(answer.Code)
		_, _ = w.Write(body[:len(body)/2])
		panic(http.ErrAbortHandler)
	default: // slow
		time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
		serves.ServeHTTP(w, r)
	}
}
