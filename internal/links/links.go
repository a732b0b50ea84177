// Package links keeps the connections to sources and warehouses open between runs,
// and opens them anew when their settings change.
package links

import (
	"context"
	"sync"
	"time"

	"noemata/internal/connection"
	"noemata/internal/source"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// Links opens sources and warehouses by name.
type Links struct {
	Folders    connection.Folders // where database files may be
	store      *store.Store
	mu         sync.Mutex
	sources    map[string]link[source.Source]
	warehouses map[string]link[warehouse.Warehouse]
}

type link[T any] struct {
	open  T
	stamp time.Time
}

// New makes Links to what the store knows; database files may be below the folders.
func New(s *store.Store, folders connection.Folders) *Links {
	return &Links{Folders: folders, store: s, sources: map[string]link[source.Source]{}, warehouses: map[string]link[warehouse.Warehouse]{}}
}

// Source gives an open source. The caller does not close it.
func (l *Links) Source(ctx context.Context, name string) (source.Source, error) {
	return find(ctx, l, store.Sources, name, l.sources, source.Kinds.Open)
}

// Warehouse gives an open warehouse. The caller does not close it.
func (l *Links) Warehouse(ctx context.Context, name string) (warehouse.Warehouse, error) {
	return find(ctx, l, store.Warehouses, name, l.warehouses, warehouse.Kinds.Open)
}

func find[T interface{ Close() }](ctx context.Context, l *Links, side store.Side, name string, kept map[string]link[T], open func(string, connection.Settings, string) (T, error)) (T, error) {
	var none T
	kind, settings, stamp, err := l.store.Settings(ctx, side, name)
	if err != nil {
		return none, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if k, ok := kept[name]; ok {
		if k.stamp.Equal(stamp) {
			return k.open, nil
		}
		delete(kept, name)
		go k.open.Close() // waits for whoever still uses it
	}
	if settings, err = l.Folders.Resolve(settings); err != nil {
		return none, err
	}
	opened, err := open(kind, settings, side.What(name))
	if err != nil {
		return none, err
	}
	kept[name] = link[T]{opened, stamp}
	return opened, nil
}

// Close closes everything.
func (l *Links) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, k := range l.sources {
		k.open.Close()
	}
	for _, k := range l.warehouses {
		k.open.Close()
	}
}
