package lakefiles

import (
	"container/list"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"github.com/google/uuid"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/tempdir"
)

// cache has objects on the disk while they are held, and then as long as there is room. It is the process's, one for
// each way to a bucket: objects are never written twice, so what was read is not asked for again.
type cache struct {
	most int64 // bytes of objects that nobody holds
	dir  func() (*tempdir.Dir, error)

	mu   sync.Mutex
	has  map[string]*cached
	new  map[string]string // paths of files that are being written, by key
	idle *list.List        // of *cached that nobody holds, the oldest first
	size int64             // of those in idle
}

type cached struct {
	key, path string
	size      int64
	held      int
	idle      *list.Element // nil while it is held
	ready     chan struct{} // closed once it is there, or err is set
	err       error
}

// room is how many bytes of objects that nobody holds are kept.
const room = 2 << 30

var caches sync.Map // of *cache, by who reads what

func cacheOf(b connection.Bucket) *cache {
	c, _ := caches.LoadOrStore(fmt.Sprintf("%q %q %q %q %q", b.Endpoint, b.Region, b.Name, b.AccessKey, b.SecretKey),
		newCache(room))
	return c.(*cache)
}

func newCache(most int64) *cache {
	return &cache{most: most, dir: sync.OnceValues(tempdir.New), has: map[string]*cached{}, new: map[string]string{},
		idle: list.New()}
}

// folder is where the files are.
func (c *cache) folder() (string, error) {
	d, err := c.dir()
	if err != nil {
		return "", problem.Wrap(err, problem.Failed, fmt.Sprintf("No folder for temporary files can be made: %v.", err),
			"Is there room in the folder for temporary files, and may the service write it?")
	}
	return d.Path, nil
}

// hold has an object on the disk until release. Who asks first fetches it; the others wait.
func (c *cache) hold(ctx context.Context, key string, fetch func(*os.File) error) (string, error) {
	folder, err := c.folder()
	if err != nil {
		return "", err
	}
	for {
		c.mu.Lock()
		e := c.has[key]
		if e == nil {
			e = &cached{key: key, path: filepath.Join(folder, uuid.NewString()), held: 1, ready: make(chan struct{})}
			c.has[key] = e
			c.mu.Unlock()
			return e.path, c.fetch(e, fetch)
		}
		c.take(e)
		c.mu.Unlock()
		select {
		case <-e.ready:
		case <-ctx.Done():
			c.releaseOf(e)
			return "", ctx.Err()
		}
		if e.err == nil {
			return e.path, nil
		}
		c.releaseOf(e) // who has fetched it may have been stopped; it is tried anew
		if err := ctx.Err(); err != nil {
			return "", err
		}
	}
}

// take counts one more who holds an object.
func (c *cache) take(e *cached) {
	e.held++
	if e.idle != nil {
		c.idle.Remove(e.idle)
		e.idle = nil
		c.size -= e.size
	}
}

func (c *cache) fetch(e *cached, fetch func(*os.File) error) error {
	f, err := os.OpenFile(e.path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err == nil {
		err = fetch(f)
		var info os.FileInfo
		if info, _ = f.Stat(); info != nil {
			e.size = info.Size()
		}
		if closed := f.Close(); err == nil {
			err = closed
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if e.err = err; err != nil {
		e.held--
		if c.has[e.key] == e {
			delete(c.has, e.key)
		}
		_ = os.Remove(e.path)
	}
	close(e.ready)
	return err
}

// release lets an object go that was held.
func (c *cache) release(key string) {
	c.mu.Lock()
	e := c.has[key]
	c.mu.Unlock()
	if e != nil {
		c.releaseOf(e)
	}
}

func (c *cache) releaseOf(e *cached) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if e.held--; e.held > 0 || e.err != nil || c.has[e.key] != e {
		return
	}
	e.idle = c.idle.PushBack(e)
	c.size += e.size
	for c.size > c.most {
		c.drop(c.idle.Front().Value.(*cached))
	}
}

// drop removes an object that nobody holds from the disk.
func (c *cache) drop(e *cached) {
	c.idle.Remove(e.idle)
	c.size -= e.size
	delete(c.has, e.key)
	_ = os.Remove(e.path)
}

// fresh is the path of a file that is being written.
func (c *cache) fresh(key string) (string, error) {
	folder, err := c.folder()
	if err != nil {
		return "", err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.new[key] == "" {
		c.new[key] = filepath.Join(folder, uuid.NewString())
	}
	return c.new[key], nil
}

// adopt takes in a file that was written and is in the bucket: it is soon read again.
func (c *cache) adopt(key string, size int64) {
	c.mu.Lock()
	e := &cached{key: key, path: c.new[key], size: size, held: 1, ready: make(chan struct{})}
	close(e.ready)
	delete(c.new, key)
	c.has[key] = e
	c.mu.Unlock()
	c.releaseOf(e)
}

// forget lets an object go that is removed; what is being written comes to nothing.
func (c *cache) forget(key string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if at := c.new[key]; at != "" {
		delete(c.new, key)
		_ = os.Remove(at)
	}
	if e := c.has[key]; e != nil && e.idle != nil {
		c.drop(e)
	}
}
