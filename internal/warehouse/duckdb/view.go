//go:build duckdb_arrow

package duckdb

/*
#include <stdint.h>
#include <stdlib.h>

// The Arrow C data and stream interfaces (arrow.apache.org/docs/format/CStreamInterface.html).
struct ArrowSchema {
	const char *format, *name, *metadata;
	int64_t flags, n_children;
	struct ArrowSchema **children, *dictionary;
	void (*release)(struct ArrowSchema *);
	void *private_data;
};
struct ArrowArray;
struct ArrowArrayStream {
	int (*get_schema)(struct ArrowArrayStream *, struct ArrowSchema *);
	int (*get_next)(struct ArrowArrayStream *, struct ArrowArray *);
	const char *(*get_last_error)(struct ArrowArrayStream *);
	void (*release)(struct ArrowArrayStream *);
	void *private_data;
};

// lent is a stream that gives out one schema as often as it is asked, and keeps it.
struct lent {
	struct ArrowArrayStream outer, rows;
	struct ArrowSchema schema;
};

static void keep_schema(struct ArrowSchema *s) { s->release = NULL; }
static void keep_stream(struct ArrowArrayStream *s) { s->release = NULL; }

static int lend_schema(struct ArrowArrayStream *s, struct ArrowSchema *out) {
	*out = ((struct lent *)s->private_data)->schema;
	out->release = keep_schema;
	return 0;
}
static int next_rows(struct ArrowArrayStream *s, struct ArrowArray *out) {
	struct ArrowArrayStream *rows = &((struct lent *)s->private_data)->rows;
	return rows->get_next(rows, out);
}
static const char *last_error(struct ArrowArrayStream *s) {
	struct ArrowArrayStream *rows = &((struct lent *)s->private_data)->rows;
	return rows->get_last_error(rows);
}
static void lend(struct lent *l) {
	l->outer.get_schema = lend_schema;
	l->outer.get_next = next_rows;
	l->outer.get_last_error = last_error;
	l->outer.release = keep_stream;
	l->outer.private_data = l;
}
static void end(struct lent *l) {
	l->rows.release(&l->rows);
	l->schema.release(&l->schema);
	free(l);
}
*/
import "C"

import (
	"database/sql/driver"
	"errors"
	"reflect"
	"unsafe"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/cdata"
	"github.com/duckdb/duckdb-go/v2/arrowmapping"
	"github.com/duckdb/duckdb-go/v2/mapping"
)

// registerView makes a view of what a reader reads. release must be called when the view
// is gone.
//
// It does what the driver's own function does, but for the schema. DuckDB asks for it each
// time that it plans a query of the view and never releases it, so that a service that
// commits often would grow for as long as it runs. Here it is lent.
func registerView(d driver.Conn, reader array.RecordReader, name string) (release func(), err error) {
	l := (*C.struct_lent)(C.calloc(1, C.sizeof_struct_lent))
	cdata.ExportArrowSchema(reader.Schema(), (*cdata.CArrowSchema)(unsafe.Pointer(&l.schema)))
	cdata.ExportRecordReader(reader, (*cdata.CArrowArrayStream)(unsafe.Pointer(&l.rows)))
	C.lend(l)
	release = func() { C.end(l) }
	// The driver keeps the handle to itself.
	handle := mapping.Connection{Ptr: reflect.ValueOf(d).Elem().FieldByName("conn").FieldByName("Ptr").UnsafePointer()}
	if arrowmapping.ArrowScan(handle, name, arrowmapping.ArrowStream{Ptr: unsafe.Pointer(l)}) == mapping.StateError {
		release()
		return nil, errors.New("DuckDB could not make a view of rows that came in")
	}
	return release, nil
}
