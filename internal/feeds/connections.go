package feeds

import (
	"context"
	"time"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/records"
	"noemata/internal/source"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// testWithin is how long a test of a connection may take.
const testWithin = 20 * time.Second

// settings takes them from what was given, and has the kind check them.
func (r *Rules) settings(side store.Side, n records.NewConnection) (connection.Settings, error) {
	if (n.URL == "") == (n.Settings == nil) {
		return connection.Settings{}, problem.New(problem.Invalid, "A connection is given by url or by settings.",
			"Give one of the two.")
	}
	var s connection.Settings
	var err error
	if n.Settings != nil {
		s = *n.Settings
	} else if s, err = connection.FromURL(n.URL); err != nil {
		return s, err
	}
	if side == store.Sources {
		s, err = source.Kinds.Check(n.Kind, s)
	} else {
		s, err = warehouse.Kinds.Check(n.Kind, s)
	}
	if err != nil {
		return s, err
	}
	return r.Databases.Folders.Resolve(s)
}

// AddConnection adds a source or a warehouse.
func (r *Rules) AddConnection(ctx context.Context, side store.Side, n records.NewConnection) (records.Connection,
	error) {
	settings, err := r.settings(side, n)
	if err != nil {
		return records.Connection{}, err
	}
	if err := r.Store.SaveConnection(ctx, side, n.Name, n.Kind, settings, false); err != nil {
		return records.Connection{}, err
	}
	return r.Store.Connection(ctx, side, n.Name)
}

// ChangeConnection changes a source or a warehouse, but not its name.
func (r *Rules) ChangeConnection(ctx context.Context, side store.Side, name string,
	n records.NewConnection) (records.Connection, error) {
	settings, err := r.settings(side, n)
	if err != nil {
		return records.Connection{}, err
	}
	if n.Name != name {
		return records.Connection{}, problem.New(problem.Invalid, "The name in the body is not the one in the path.",
			"A name cannot be changed; add another and remove this one.")
	}
	if err := r.Store.SaveConnection(ctx, side, name, n.Kind, settings, true); err != nil {
		return records.Connection{}, err
	}
	return r.Store.Connection(ctx, side, name)
}

// TryConnection tests one that is not added, and gives the version that it tells.
func (r *Rules) TryConnection(ctx context.Context, side store.Side, n records.NewConnection) (version string,
	err error) {
	settings, err := r.settings(side, n)
	if err != nil {
		return "", err
	}
	return r.try(ctx, side, n.Kind, settings, side.What(n.Name))
}

func (r *Rules) try(ctx context.Context, side store.Side, kind string, settings connection.Settings,
	what string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, testWithin)
	defer cancel()
	if side == store.Sources {
		open, err := source.Kinds.Open(kind, settings, what)
		if err != nil {
			return "", err
		}
		defer open.Close()
		return open.Test(ctx)
	}
	settings, err := r.Databases.Folders.Resolve(settings)
	if err != nil {
		return "", err
	}
	open, err := warehouse.Kinds.Open(kind, settings, what)
	if err != nil {
		return "", err
	}
	defer open.Close()
	return open.Test(ctx)
}

// TestConnection tests one, and keeps what it told.
func (r *Rules) TestConnection(ctx context.Context, side store.Side, name string) (version string, err error) {
	kind, settings, _, err := r.Store.Settings(ctx, side, name)
	if err != nil {
		return "", err
	}
	version, failure := r.try(ctx, side, kind, settings, side.What(name))
	if err := r.Store.NoteTest(ctx, side, name, version, failure); err != nil {
		return "", err
	}
	return version, failure
}
