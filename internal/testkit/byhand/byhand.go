// Package byhand runs a person's statements on the tables of a warehouse that lie elsewhere than its journal.
package byhand

import (
	"context"
	"regexp"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse/sqlmerge"
)

// named finds what may be the name of a table with its schema's.
var named = regexp.MustCompile(`("(?:[^"]|"")+"|\w+)\.("(?:[^"]|"")+"|\w+)`)

// Ask runs a statement on the tables that it names as one transaction, and gives all rows of a small result. A statement
// about tables of the journal is asked there; one about information_schema sees all tables.
func Ask(ctx context.Context, connect func(context.Context) (sqlmerge.Conn, error), sql string,
	args ...any) ([][]any, error) {
	c, err := connect(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	tables := c.(sqlmerge.Divided).Tables()
	which := sqlmerge.AllRows
	if strings.HasPrefix(strings.ToUpper(strings.TrimSpace(sql)), "SELECT") {
		which = sqlmerge.Looking
	}
	if _, err := c.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ"); err != nil { // all tables as of one moment
		return nil, err
	}
	names := named.FindAllString(sql, -1)
	if strings.Contains(sql, "information_schema") {
		if names, err = all(ctx, c); err != nil {
			return nil, err
		}
	}
	for _, text := range names {
		name, err := schema.ParseName(text)
		if err != nil {
			continue
		}
		has, err := tables.Columns(ctx, name)
		switch {
		case err != nil:
			return nil, err
		case len(has) > 0:
			err = tables.Bring(ctx, name, which)
		case name.Schema == feed.ControlSchema:
			return c.Ask(ctx, sql, args...)
		}
		if err != nil {
			return nil, err
		}
	}
	found, err := tables.Ask(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	_, err = c.Exec(ctx, "COMMIT")
	return found, err
}

// all are the names of all tables.
func all(ctx context.Context, c sqlmerge.Conn) (names []string, err error) {
	found, err := c.Ask(ctx, "SELECT table_namespace, table_name FROM public.iceberg_tables")
	for _, row := range found {
		names = append(names, schema.Name{Schema: row[0].(string), Table: row[1].(string)}.Quoted())
	}
	return names, err
}
