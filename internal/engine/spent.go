package engine

import (
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/rows"
)

// Spent is what a table's part of a run has taken.
type Spent struct {
	Bytes   int64         // of the rows that came from the source, as they are held here
	Reading time.Duration // waiting for the source
	Shaping time.Duration // of rows and changes, and folding these; beside the reading of others
	Writing time.Duration // in the warehouse
}

// Add gives the sum.
func (s Spent) Add(o Spent) Spent {
	return Spent{s.Bytes + o.Bytes, s.Reading + o.Reading, s.Shaping + o.Shaping, s.Writing + o.Writing}
}

// sizeOf is how many bytes a batch holds.
func sizeOf(b rows.Batch) int64 {
	if b.Raw != nil {
		return int64(len(b.Raw.Data))
	}
	return sizeOfRecord(b.Record)
}

func sizeOfRecord(r arrow.RecordBatch) int64 {
	if r == nil {
		return 0
	}
	var n int64
	for _, c := range r.Columns() {
		n += sizeOfData(c.Data())
	}
	return n
}

func sizeOfData(d arrow.ArrayData) int64 {
	var n int64
	for _, b := range d.Buffers() {
		if b != nil {
			n += int64(b.Len())
		}
	}
	for _, c := range d.Children() {
		n += sizeOfData(c)
	}
	return n
}
