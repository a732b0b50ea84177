// Package opened keeps the connections to sources and warehouses open between runs,
// and opens them anew when their settings change.
package opened

import (
	"context"
	"sync"
	"time"

	"noemata/internal/connection"
	"noemata/internal/source"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// Databases opens sources and warehouses by name.
type Databases struct {
	Folders    connection.Folders // where database files may be
	store      *store.Store
	mu         sync.Mutex
	sources    map[string]*link[source.Source]
	warehouses map[string]*link[warehouse.Warehouse]
}

type link[T any] struct {
	open     T
	stamp    time.Time
	users    int
	replaced bool // by one with other settings: it is closed when its last user has gone
}

// New makes Databases to what the store knows; database files may be below the folders.
func New(s *store.Store, folders connection.Folders) *Databases {
	return &Databases{Folders: folders, store: s, sources: map[string]*link[source.Source]{},
		warehouses: map[string]*link[warehouse.Warehouse]{}}
}

// Source gives an open source. The caller does not close it; it stays open until the context
// ends, whatever is changed meanwhile.
func (l *Databases) Source(ctx context.Context, name string) (source.Source, error) {
	return find(ctx, l, store.Sources, name, l.sources, source.Kinds.Open)
}

// Warehouse gives an open warehouse, as Source does.
func (l *Databases) Warehouse(ctx context.Context, name string) (warehouse.Warehouse, error) {
	return find(ctx, l, store.Warehouses, name, l.warehouses, warehouse.Kinds.Open)
}

func find[T interface{ Close() }](ctx context.Context, l *Databases, side store.Side, name string, kept map[string]*link[T],
	open func(string, connection.Settings, string) (T, error)) (T, error) {
	var none T
	kind, settings, stamp, err := l.store.Settings(ctx, side, name)
	if err != nil {
		return none, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if k := kept[name]; k != nil {
		if k.stamp.Equal(stamp) {
			return use(ctx, &l.mu, k), nil
		}
		delete(kept, name)
		if k.replaced = true; k.users == 0 {
			go k.open.Close() // which may take a while
		}
	}
	if settings, err = l.Folders.Resolve(settings); err != nil {
		return none, err
	}
	opened, err := open(kind, settings, side.What(name))
	if err != nil {
		return none, err
	}
	kept[name] = &link[T]{open: opened, stamp: stamp}
	return use(ctx, &l.mu, kept[name]), nil
}

// use counts a user until its context ends. The lock is held.
func use[T interface{ Close() }](ctx context.Context, mu *sync.Mutex, k *link[T]) T {
	k.users++
	context.AfterFunc(ctx, func() {
		mu.Lock()
		defer mu.Unlock()
		if k.users--; k.users == 0 && k.replaced {
			go k.open.Close()
		}
	})
	return k.open
}

// Close closes everything.
func (l *Databases) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, k := range l.sources {
		k.open.Close()
	}
	for _, k := range l.warehouses {
		k.open.Close()
	}
}
