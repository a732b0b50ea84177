package feeds

import (
	"context"
	"fmt"
	"slices"
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
	n.Faults(func(path, format string, args ...any) {
		if err == nil {
			err = problem.Newf(problem.Invalid, fmt.Sprintf(format, args...), "The %s that is given cannot be kept.",
				path).In(path)
		}
	})
	if err != nil {
		return s, err
	}
	if n.Settings != nil {
		s = *n.Settings
	} else if s, err = connection.FromURL(n.URL); err != nil {
		return s, err
	}
	if s.AskUser != "" && (side == store.Sources || s.Path != "") {
		return s, problem.New(problem.Invalid, "People ask warehouses, and only one on a server wants a user to be asked as.",
			"Leave ask_user out.").In("ask_user")
	}
	if side == store.Sources {
		s, err = source.Kinds.Check(n.Kind, s)
	} else {
		s, err = warehouse.Kinds.Check(n.Kind, s)
	}
	if err != nil {
		return s, err
	}
	return r.Databases.Folders[side].Resolve(s)
}

// AddConnection adds a source or a warehouse.
func (r *Rules) AddConnection(ctx context.Context, side store.Side, n records.NewConnection) (records.Connection,
	error) {
	settings, err := r.settings(side, n)
	if err != nil {
		return records.Connection{}, err
	}
	if err := r.Store.SaveConnection(ctx, side, n.Name, n.Kind, n.Belongs, settings, false); err != nil {
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
	if err := r.Store.SaveConnection(ctx, side, name, n.Kind, n.Belongs, settings, true); err != nil {
		return records.Connection{}, err
	}
	c, err := r.Store.Connection(ctx, side, name)
	if err != nil {
		return c, err
	}
	for _, feed := range c.Feeds { // what has waited for it, such as for other hours, looks again
		if err := r.Runner.Wake(ctx, feed); err != nil {
			return c, err
		}
	}
	return c, nil
}

// TryConnection tests settings that are not kept. Those of one that is there have its secrets, as long as
// they go where they went.
func (r *Rules) TryConnection(ctx context.Context, side store.Side, n records.NewConnection) (records.Tested, error) {
	settings, err := r.settings(side, n)
	if err != nil {
		return records.Tested{}, err
	}
	if kind, old, _, err := r.Store.Settings(ctx, side, n.Name); err == nil &&
		connection.SameWay(old, kind, settings, n.Kind) {
		settings = settings.WithSecret(old.Secret())
	}
	return r.try(ctx, side, n.Kind, "", settings, side.What(n.Name))
}

// TestConnection tests one, and keeps what it told.
func (r *Rules) TestConnection(ctx context.Context, side store.Side, name string) (records.Tested, error) {
	kind, settings, _, err := r.Store.Settings(ctx, side, name)
	if err != nil {
		return records.Tested{}, err
	}
	found, failure := r.try(ctx, side, kind, name, settings, side.What(name))
	if err := r.Store.NoteTest(ctx, side, name, found.Version, failure); err != nil {
		return found, err
	}
	return found, failure
}

// try goes step by step, so that it is known at which one it ended. The name is that of one that is kept.
func (r *Rules) try(ctx context.Context, side store.Side, kind, name string, settings connection.Settings,
	what string) (t records.Tested, err error) {
	ctx, cancel := context.WithTimeout(ctx, testWithin)
	defer cancel()
	if settings, err = r.Databases.Settings(ctx, side, kind, name, settings); err != nil {
		return t, err
	}
	if settings.Path == "" && settings.Host != "" {
		t.Steps, err = settings.Reach(ctx, fmt.Sprintf("The server at %s (%s)", settings.Address(), what), what)
		if err != nil {
			return t, err
		}
	}
	began := time.Now()
	taken := func(step connection.Taken) {
		step.Done, step.Took = true, time.Since(began).Seconds()
		t.Steps = append(t.Steps, step)
		began = time.Now()
	}
	if side == store.Warehouses {
		open, err := warehouse.Kinds.Open(kind, settings, what)
		if err == nil {
			defer open.Close()
			t.Version, err = open.Test(ctx)
		}
		if err == nil {
			entered(settings, t.Version, taken)
			said := "what a feed needs there is checked with its file"
			switch {
			case settings.Bucket != nil:
				said = "objects can be written, read, listed and removed, and their catalogue is in its database"
			case settings.Path != "" && settings.Host != "":
				said = "files can be written in the folder, and their catalogue in its database"
			case settings.Path != "":
				said = "the file can be made and written"
			}
			taken(connection.Taken{Step: connection.StepPrivileges, Said: said})
			if settings.AskUser != "" {
				taken(connection.Taken{Step: connection.StepAsking, Said: "as " + settings.AskUser + ", who may read, and no more"})
			}
		}
		return ended(t, began, err)
	}
	open, err := source.Kinds.Open(kind, settings, what)
	if err == nil {
		defer open.Close()
		t.Version, err = open.Test(ctx)
	}
	if err == nil {
		entered(settings, t.Version, taken)
		t.Offer, err = offered(ctx, open, taken)
	}
	return ended(t, began, err)
}

// entered tells the steps that a sign-in shows to have been taken.
func entered(s connection.Settings, version string, taken func(connection.Taken)) {
	if s.Path == "" {
		step := connection.Taken{Step: connection.StepTLS, Said: string(s.Mode())}
		switch {
		case s.Verified() || len(s.Tunnel) > 0 || s.Local():
		case s.Mode() == connection.TLSOff:
			step.Warns = true
			step.Remedy = "Turn TLS on at the server, and choose verify-full: what is read can be read on the way."
		default:
			step.Warns = true
			step.Remedy = "Give the CA certificate and choose verify-full: whoever is between could be the server."
		}
		taken(step)
		taken(connection.Taken{Step: connection.StepSignIn, Said: "as " + s.User})
	}
	taken(connection.Taken{Step: connection.StepDatabase, Said: version})
}

// ended adds the step at which a test ended.
func ended(t records.Tested, began time.Time, err error) (records.Tested, error) {
	if p := problem.Of(err); p != nil {
		t.Steps = append(t.Steps, connection.Taken{Step: connection.StepOf(p), Took: time.Since(began).Seconds()})
	}
	return t, err
}

// A clock that differs by more is worth a look.
const clockMayDiffer = 2 * time.Second

// offered asks a source what it offers.
func offered(ctx context.Context, src source.Source, taken func(connection.Taken)) (*records.Offer, error) {
	o := &records.Offer{Findings: []problem.Finding{}, LogPerHour: -1}
	tables, err := src.Tables(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tables {
		if t.View {
			o.Views++
		} else {
			o.Tables++
		}
	}
	step := connection.Taken{Step: connection.StepPrivileges, Said: fmt.Sprintf("%d tables and %d views can be seen",
		o.Tables, o.Views)}
	if len(tables) == 0 {
		step.Warns, step.Remedy = true, "Grant the user SELECT on the tables that are to be read."
	}
	taken(step)
	zone, err := src.Zone(ctx)
	if err != nil {
		return nil, err
	}
	o.Zone = zone.String()
	before := time.Now()
	moment, err := src.Moment(ctx)
	if err != nil {
		return nil, err
	}
	ahead := moment.Clock.Sub(before.Add(time.Since(before) / 2))
	o.Ahead = ahead.Seconds()
	step = connection.Taken{Step: connection.StepClock, Said: fmt.Sprintf("%s; zone %s", difference(ahead), o.Zone)}
	if ahead.Abs() > clockMayDiffer {
		step.Warns, step.Remedy = true,
			"Set the clocks of both by NTP: lag is told by them. Nothing is lost by the difference."
	}
	taken(step)
	log, follows := src.(source.Log)
	if o.NoLog = !follows; o.NoLog {
		return o, nil
	}
	found, err := log.LogFindings(ctx, nil)
	if err != nil {
		return nil, err
	}
	o.Findings = append(o.Findings, found...)
	o.Log = !slices.ContainsFunc(found, func(f problem.Finding) bool { return f.Level == problem.Blocker })
	rate, err := log.LogRate(ctx)
	o.LogPerHour, o.LogOver = rate.PerHour, rate.Over.Seconds()
	return o, err
}

// difference tells in words how a clock differs.
func difference(ahead time.Duration) string {
	switch by := ahead.Abs().Round(100 * time.Millisecond); {
	case by < time.Second:
		return "within a second of the service's"
	case ahead > 0:
		return by.String() + " ahead of the service's"
	default:
		return by.String() + " behind the service's"
	}
}
