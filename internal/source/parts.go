package source

import (
	"context"

	"noemata/internal/core/schema"
)

// Parted is a source whose tables may be of pieces that come and go as a whole, with their rows.
type Parted interface {
	// Came names a piece of a table that came with rows in it, and was not among those of before;
	// empty where there is none.
	Came(ctx context.Context, t schema.Table, was []string) (string, error)
	// Went names a piece that has gone since, or was emptied; empty where there is none.
	Went(ctx context.Context, t schema.Table, was []string, at string) (string, error)
}
