package feeds

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/records"
	"noemata/internal/source"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// mendWithin is how long one statement may take: an index is made while the table is written.
const mendWithin = 10 * time.Minute

// mender runs statements at a source or a warehouse.
type mender interface {
	Mend(ctx context.Context, sql string) error
	Close()
}

// Mend runs statements that a feed file's findings give as remedies, and checks the file again. Only
// what is a remedy now is run. by is whoever asks.
func (r *Rules) Mend(ctx context.Context, m records.Mending, by string) (out records.Mended, err error) {
	f, err := feed.ParseFile([]byte(m.File))
	if err != nil {
		return out, err
	}
	checked, err := r.Apply(ctx, m.File, DryRun, by)
	if err != nil {
		return out, err
	}
	out.Done = []records.MendedStatement{}
	for _, sql := range m.Statements {
		at := slices.IndexFunc(checked.Findings, func(x problem.Finding) bool { return slices.Contains(x.Statements, sql) })
		if at < 0 {
			return out, problem.Newf(problem.Conflict, "Check the file again, and run what it says now.",
				"The statement is no remedy of what is found now, and nothing was run: %s.", sql)
		}
		if slices.ContainsFunc(out.Done, func(x records.MendedStatement) bool { return x.Statement == sql }) {
			continue // several tables may have the same remedy
		}
		_, then := problem.Statements(checked.Findings[at].Remedy)
		out.Done = append(out.Done, records.MendedStatement{Side: checked.Findings[at].Side, Statement: sql, Then: then})
	}
	for i, x := range out.Done {
		err := r.mend(ctx, f, x.Side, m, x.Statement)
		out.Done[i].Problem = records.NewProblem(err)
		slog.Info("A person had a remedy run.", "by", by, "feed", f.Name, "side", x.Side, "statement", x.Statement, "error",
			err)
	}
	again, err := r.Apply(ctx, m.File, DryRun, by)
	out.Findings = again.Findings
	return out, err
}

// mend runs one statement, as the feed's own user or as another one.
func (r *Rules) mend(ctx context.Context, f *feed.Feed, side problem.Side, m records.Mending, sql string) error {
	ctx, cancel := context.WithTimeout(ctx, mendWithin)
	defer cancel()
	if side == problem.AtWarehouse {
		if m.Warehouse == nil {
			wh, err := r.Databases.Warehouse(ctx, f.Warehouse)
			if err != nil {
				return err
			}
			return wh.Mend(ctx, sql)
		}
		wh, err := signedIn(ctx, r, store.Warehouses, f.Warehouse, warehouse.Kinds, *m.Warehouse)
		if err != nil {
			return err
		}
		defer wh.Close()
		return wh.Mend(ctx, sql)
	}
	if m.Source == nil {
		src, err := r.Databases.Source(ctx, f.Source)
		if err != nil {
			return err
		}
		return src.Mend(ctx, sql)
	}
	src, err := signedIn(ctx, r, store.Sources, f.Source, source.Kinds, *m.Source)
	if err != nil {
		return err
	}
	defer src.Close()
	return src.Mend(ctx, sql)
}

// signedIn opens a source or a warehouse as another user, whose password is kept nowhere.
func signedIn[T mender](ctx context.Context, r *Rules, side store.Side, name string, kinds *connection.Kinds[T],
	as records.SignIn) (T, error) {
	var none T
	kind, settings, _, err := r.Store.Settings(ctx, side, name)
	if err != nil {
		return none, err
	}
	if settings.Path != "" {
		return none, problem.Newf(problem.Invalid, "Leave the sign-in out.", "The %s is a file, which nobody signs in to.",
			side.What(name))
	}
	settings.User, settings.Password = as.User, as.Password
	return kinds.Open(kind, settings, fmt.Sprintf("%s, as %s", side.What(name), as.User))
}
