// Package opened keeps the connections to sources and warehouses open between runs,
// and opens them anew when their settings change.
package opened

import (
	"context"
	"runtime"
	"sync"
	"time"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/shape"
	"noemata/internal/source"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// Databases opens sources and warehouses by name.
type Databases struct {
	Folders    map[store.Side]connection.Folders // where database files may be
	Host       string                            // what this machine is called
	store      *store.Store
	mu         sync.Mutex
	sources    map[string]*database[source.Source]
	warehouses map[string]*database[warehouse.Warehouse]
}

type database[T any] struct {
	open     T
	stamp    time.Time
	users    int
	replaced bool // by one with other settings: it is closed when its last user has gone
	hides    bool // what was read must not stay in memory once its last user has gone
}

// New opens what the store knows; database files may be below the folders.
func New(s *store.Store, folders map[store.Side]connection.Folders) *Databases {
	return &Databases{Folders: folders, store: s, sources: map[string]*database[source.Source]{},
		warehouses: map[string]*database[warehouse.Warehouse]{}}
}

// Source gives an open source. The caller does not close it; it stays open until the context
// ends, whatever is changed meanwhile.
func (d *Databases) Source(ctx context.Context, name string) (source.Source, error) {
	return find(ctx, d, store.Sources, name, d.sources, source.Kinds.Open)
}

// SourceToHide is Source for those who read what must not stay: soon after the last user of the source has gone, what
// is left of it in buffers of connections and in memory that is free is overwritten. For the latter the
// program has settings of its own for the runtime (cmd/noemata).
func (d *Databases) SourceToHide(ctx context.Context, name string) (source.Source, error) {
	src, err := d.Source(ctx, name)
	d.mu.Lock()
	defer d.mu.Unlock()
	if k := d.sources[name]; k != nil {
		k.hides = true
	}
	return src, err
}

// Warehouse gives an open warehouse, as Source does. One that is a file on another host is not made anew here.
func (d *Databases) Warehouse(ctx context.Context, name string) (warehouse.Warehouse, error) {
	wh, err := find(ctx, d, store.Warehouses, name, d.warehouses, warehouse.Kinds.Open)
	if err != nil {
		return nil, err
	}
	file, there := wh.File()
	if file == "" || there {
		return wh, nil
	}
	at, err := d.store.PlaceOf(ctx, name)
	switch {
	case err != nil:
		return nil, err
	case at.Host == "" || at.Host == d.Host:
		return wh, nil
	case at.Process != "":
		return nil, problem.Newf(problem.Unreachable,
			"Ask the process "+at.Process+" there: noemata processes list tells its address.",
			"The warehouse %s is the file %s on the host %s, and this process runs on %s.", name, file, at.Host, d.Host)
	}
	return nil, problem.Newf(problem.Unreachable,
		"Start the service on "+at.Host+", or stop it everywhere and copy the file here, to the same path.",
		"The warehouse %s is the file %s on the host %s, and no process of the service runs there; this one runs on %s.",
		name, file,
		at.Host, d.Host)
}

// Of gives the source and the warehouse of a feed.
func (d *Databases) Of(ctx context.Context, f *feed.Feed) (source.Source, warehouse.Warehouse, error) {
	open := d.Source
	if f.Hides() {
		open = d.SourceToHide
	}
	src, err := open(ctx, f.Source)
	if err != nil {
		return nil, nil, err
	}
	wh, err := d.Warehouse(ctx, f.Warehouse)
	return src, wh, err
}

// Keys gives the keys that columns are hashed with.
func (d *Databases) Keys(ctx context.Context) shape.Keys {
	return func(name string) ([]byte, error) { return d.store.HashKey(ctx, name) }
}

// Settings are those to open a database with: its file is in one of the folders for such files, and the catalogue of a
// lake that names none is in the service's own server. That of a lake without a name is not made.
func (d *Databases) Settings(ctx context.Context, side store.Side, kind, name string,
	s connection.Settings) (connection.Settings, error) {
	if side == store.Warehouses && kind == warehouse.Lake && s.Host == "" {
		own, err := d.store.Catalogue(ctx, name)
		if err != nil {
			return s, err
		}
		own.Path, own.Bucket = s.Path, s.Bucket
		s = own
	}
	return d.Folders[side].Resolve(s)
}

func find[T interface{ Close() }](ctx context.Context, d *Databases, side store.Side, name string,
	kept map[string]*database[T],
	open func(string, connection.Settings, string) (T, error)) (T, error) {
	var none T
	kind, settings, stamp, err := d.store.Settings(ctx, side, name)
	if err != nil {
		return none, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if k := kept[name]; k != nil {
		if k.stamp.Equal(stamp) {
			return use(ctx, &d.mu, k), nil
		}
		delete(kept, name)
		if k.replaced = true; k.users == 0 {
			go k.open.Close() // which may take a while
		}
	}
	if settings, err = d.Settings(ctx, side, kind, name, settings); err != nil {
		return none, err
	}
	opened, err := open(kind, settings, side.What(name))
	if err != nil {
		return none, err
	}
	kept[name] = &database[T]{open: opened, stamp: stamp}
	return use(ctx, &d.mu, kept[name]), nil
}

// use counts a user until its context ends. The lock is held.
func use[T interface{ Close() }](ctx context.Context, mu *sync.Mutex, k *database[T]) T {
	k.users++
	context.AfterFunc(ctx, func() {
		mu.Lock()
		defer mu.Unlock()
		if k.users--; k.users == 0 && k.replaced {
			go k.open.Close()
		}
		if k.users == 0 && k.hides {
			time.AfterFunc(quiet, func() { forget(mu, k) })
		}
	})
	return k.open
}

// quiet is for how long nobody may have used a source before what was read of it is forgotten.
const quiet = time.Second

// memory is collected for what must not stay at most so often, as it takes the whole process some time.
var memory struct {
	sync.Mutex
	collected time.Time
}

const collectEvery = 5 * time.Second

// forget has nothing left in memory of what was read, if nobody uses the source.
func forget[T any](mu *sync.Mutex, k *database[T]) {
	memory.Lock()
	defer memory.Unlock()
	if wait := time.Until(memory.collected.Add(collectEvery)); wait > 0 {
		time.AfterFunc(wait, func() { forget(mu, k) })
		return
	}
	mu.Lock()
	now := k.users == 0 && k.hides // whoever uses it comes here again; who came before has done it
	k.hides = k.hides && !now
	mu.Unlock()
	if !now {
		return
	}
	if rests, ok := any(k.open).(interface{ Rest() }); ok {
		rests.Rest()
	}
	time.Sleep(quiet / 4) // connections are closed in the background
	for range 3 {         // buffers that wait to be used again are let go in the second collection
		runtime.GC()
	}
	memory.collected = time.Now()
}

// Close closes everything.
func (d *Databases) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, k := range d.sources {
		k.open.Close()
	}
	for _, k := range d.warehouses {
		k.open.Close()
	}
}
