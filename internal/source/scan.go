package source

import (
	"context"
	"database/sql"
)

// Queryer runs queries: a database, or one connection.
type Queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// Scan runs a query and scans each row into the same places, and tells how many there were.
func Scan(ctx context.Context, on Queryer, query string, args, into []any, each func() error) (n int64, err error) {
	found, err := on.QueryContext(ctx, query, args...)
	if err != nil {
		return 0, err
	}
	defer func() { _ = found.Close() }()
	for found.Next() {
		n++
		if err := found.Scan(into...); err != nil {
			return n, err
		}
		if err := each(); err != nil {
			return n, err
		}
	}
	return n, found.Err()
}
