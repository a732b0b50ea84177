//go:build duckdb_arrow

// Package lake reads Iceberg tables, which other programs write: Parquet files and metadata in a folder or in object
// storage, and a catalogue in PostgreSQL (iceberg.apache.org/spec, format versions 1 to 3).
//
// Files are never changed once they are there, so a table is read as of one snapshot without holding anything open.
// What has changed from one snapshot to the next is found by comparing the files that only one of them has, row by row.
package lake

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/apache/iceberg-go/table"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/lakefiles"
	"noemata/internal/source"
	"noemata/internal/source/postgres"
)

// Kind is the name of this kind of source.
const Kind = "iceberg"

// Opener is what to register.
var Opener = connection.Kind[source.Source]{Check: check, Open: Open}

// check tells whether the settings name a folder or a bucket, and the database of the catalogue.
func check(s connection.Settings) (connection.Settings, error) {
	bucket := s.Bucket
	switch {
	case bucket != nil && s.Path != "":
		return s, problem.New(problem.Invalid, "A lake's tables lie in a folder or in a bucket.",
			"Give its path, or the bucket.").In("path")
	case bucket != nil:
		b, err := bucket.Check()
		if err != nil {
			return s, err
		}
		bucket = &b
	case s.Path == "" || strings.ContainsRune(s.Path, 0) || filepath.Clean(s.Path) == "/":
		return s, problem.New(problem.Invalid, "A lake's tables lie in a folder, or in a bucket of object storage.",
			"Give the folder's path, or the bucket.").In("path")
	}
	if s.Host == "" || s.Database == "" {
		return s, problem.New(problem.Invalid, "A lake's catalogue is in a PostgreSQL database.",
			"Give its host, database and user.").In("database")
	}
	at := s.Path
	if at != "" {
		at = filepath.Clean(at)
	}
	s.Path, s.Bucket = "", nil
	s, err := postgres.Opener.Check(s)
	s.Path, s.Bucket = at, bucket
	return s, err
}

// Source is a lake that is read.
type Source struct {
	keeper *postgres.Source // of the catalogue
	files  lakefiles.Files
	named  string // the catalogue's name, where it was given
	what   string

	mu     sync.Mutex
	loaded map[string]*table.Table // by the place of their metadata: what was read last of each table
	space  space                   // rows that were looked at last
}

// Open prepares to read a lake; nothing is connected yet.
func Open(s connection.Settings, what string) (source.Source, error) {
	s, err := check(s)
	if err != nil {
		return nil, err
	}
	files, err := lakefiles.Of(s, what)
	if err != nil {
		return nil, err
	}
	its := &Source{files: files, named: s.Catalogue, what: what, loaded: map[string]*table.Table{}}
	s.Path, s.Bucket = "", nil
	keeper, err := postgres.Open(s, "the catalogue of "+what)
	if err != nil {
		return nil, err
	}
	its.keeper = keeper.(*postgres.Source)
	return its, nil
}

// Rest lets go of what is not in use.
func (s *Source) Rest() {
	s.keeper.Rest()
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.loaded)
	if s.space.mu.TryLock() { // nobody reads it
		s.space.close()
		s.space.mu.Unlock()
	}
}

// Close ends all connections.
func (s *Source) Close() {
	s.Rest()
	s.keeper.Close()
}

// Test signs in to the catalogue, and reads the metadata of a table.
func (s *Source) Test(ctx context.Context) (string, error) {
	s.Rest()
	version, err := s.keeper.Test(ctx)
	if err != nil {
		return "", err
	}
	look, err := s.look(ctx)
	if err != nil {
		return "", err
	}
	for name, at := range look.places {
		if _, err := s.at(ctx, name, at); err != nil {
			return "", err
		}
		break
	}
	return fmt.Sprintf("Iceberg, %d tables; the catalogue is in %s", len(look.places), version), nil
}

// Moment is the catalogue's clock. Nobody waits to be read: a commit is there or is not.
func (s *Source) Moment(ctx context.Context) (m window.Moment, err error) {
	err = s.keeper.Row(ctx, "SELECT clock_timestamp()", nil, &m.Clock)
	return m, err
}

// Zone is UTC: the format has moments with a zone, and times without one.
func (s *Source) Zone(context.Context) (*time.Location, error) { return time.UTC, nil }

// Query fails: files are asked nothing.
func (s *Source) Query(_ context.Context, name schema.Name, _ string) (schema.Table, error) {
	return schema.Table{}, problem.Newf(problem.Invalid,
		"Bring its tables, and derive the table in the warehouse: noemata derived --help.",
		"The query %s cannot be put to %s: it is files, which answer none.", name.Table, s.what)
}

// errNoWatermark says that tables of a lake have none.
var errNoWatermark = problem.New(problem.Invalid, noWatermark, "Write find: log.")

const noWatermark = "Rows of a lake come when they are committed, which is later than any of their columns can say."

// Highest fails.
func (s *Source) Highest(context.Context, source.Query) (string, error) { return "", errNoWatermark }

// Nulls fails.
func (s *Source) Nulls(context.Context, source.Query) (int64, error) { return 0, errNoWatermark }

// Connections counts those to the catalogue.
func (s *Source) Connections(ctx context.Context) (int64, error) { return s.keeper.Connections(ctx) }

// Quote is a name as the engines that read lakes have it.
func (s *Source) Quote(name string) string { return schema.Quote(name) }

// Indexed is nothing.
func (s *Source) Indexed(context.Context, schema.Name) ([]string, error) { return nil, nil }

// Grants are those of the catalogue; who may read the files is the affair of their place.
func (s *Source) Grants(user string, _ source.Needs) []string {
	return s.keeper.Grants(user, source.Needs{Tables: []schema.Name{{Schema: "public", Table: "iceberg_tables"}}})
}

// Mend runs nothing: findings of a lake are mended where it is written.
func (s *Source) Mend(context.Context, string) error {
	return problem.Newf(problem.Invalid, "Mend it with the program that writes the table.",
		"The files of %s are only read.",
		s.what)
}

// DeclareKey is the statement for engines that know the format's identifier fields.
func (s *Source) DeclareKey(t schema.Table, key []string) string {
	return fmt.Sprintf("Where the table is written: ALTER TABLE %s SET IDENTIFIER FIELDS %s;", t.Name.Quoted(),
		schema.QuoteAll("", key))
}

// Findings tells what is worth knowing about reading a table.
func (s *Source) Findings(_ context.Context, q source.Query) (findings []problem.Finding, err error) {
	name := q.Table.Name.Display()
	if q.Watermark != nil {
		findings = append(findings, problem.Finding{Level: problem.Blocker, Table: name, What: noWatermark,
			Remedy: "Write find: log."})
	}
	return append(findings, unread(q.Table)...), nil
}

// unread are the columns whose values cannot be read.
func unread(t schema.Table) (findings []problem.Finding) {
	for _, c := range t.Columns {
		if c.Wire == wayNone {
			findings = append(findings, problem.Finding{Level: problem.Blocker, Table: t.Name.Display(),
				What:   fmt.Sprintf("The type %s of the column %s cannot be read.", c.Native, c.Name),
				Remedy: "Drop the column in the feed."})
		}
	}
	return findings
}

// unreadable explains why a table cannot be read, where that is not explained already.
func (s *Source) unreadable(err error, name schema.Name) error {
	if p := (*problem.Problem)(nil); err == nil || errors.As(err, &p) || errors.Is(err, context.Canceled) ||
		errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return problem.Wrap(err, problem.Held, fmt.Sprintf("The table %s of %s cannot be read: %v.", name.Display(), s.what,
		err),
		"Its files were changed or removed by another program, or are of a kind that is not read: bring them back, or have the "+
			"table rewritten as Parquet.")
}

var (
	_ source.Source = (*Source)(nil)
	_ source.Log    = (*Source)(nil)
	_ source.Keyed  = (*Source)(nil)
)
