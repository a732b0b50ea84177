package rows

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/schema"
)

// A batch is passed on when it holds this many rows or bytes. As many rows make a row group
// of DuckDB, which takes whole ones in quickest.
const (
	batchRows  = 122_880
	batchBytes = 16 << 20
)

// IsNullKey is why a row without a value in its key is set aside.
const IsNullKey = "is null, and it is part of the key"

// Batcher makes batches of rows that come in one by one.
type Batcher struct {
	Total  int64           // rows that came in
	Fields []array.Builder // a value is appended to each of them, and then the row is added
	Most   int             // how many rows a batch has
	Left   int64           // rows that a filter has left out where they were read

	sink      func(Batch) error
	builder   *array.RecordBuilder
	aside     []Aside
	endsAside bool
	count     int // of rows in builder
	size      int // of what came in since the last batch, in bytes
}

// NewBatcher makes a Batcher of rows with these columns.
func NewBatcher(columns []schema.Column, sink func(Batch) error) *Batcher {
	g := &Batcher{Most: batchRows, sink: sink,
		builder: array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))}
	g.Fields = g.builder.Fields()
	return g
}

// Add adds the row whose values were appended. It was so many bytes long.
func (g *Batcher) Add(size int) error {
	g.count++
	g.endsAside = false
	return g.came(size)
}

// SetAside adds a row that cannot be stored.
func (g *Batcher) SetAside(a Aside, size int) error {
	g.aside = append(g.aside, a)
	g.endsAside = true
	return g.came(size)
}

func (g *Batcher) came(size int) error {
	g.Total++
	g.size += size
	if g.count+len(g.aside) < g.Most && g.size < batchBytes {
		return nil
	}
	return g.PassOn()
}

// PassOn hands over what has gathered.
func (g *Batcher) PassOn() error {
	if g.count+len(g.aside) == 0 && g.Left == 0 {
		return nil
	}
	batch := Batch{Aside: g.aside, EndsAside: g.endsAside, Filtered: g.Left}
	batch.Record = g.builder.NewRecordBatch()
	if g.count == g.Most {
		g.builder.Reserve(g.Most) // more are likely to come
	}
	g.count, g.size, g.aside, g.Left = 0, 0, nil, 0
	return g.sink(batch)
}

// NewAside describes a row that is set aside for the sake of one column. texts are its
// values, of which the first are the table's own; the key is at the places in key.
func NewAside(columns []schema.Column, texts []*string, key []int, column, reason string) Aside {
	a := Aside{Row: map[string]*string{}, Values: texts, Reason: fmt.Sprintf("Column %s %s.", column, reason),
		Column: column}
	for i, c := range columns {
		a.Row[c.Name] = texts[i]
	}
	if len(key) > 0 {
		parts := make([]string, len(key))
		for i, k := range key {
			if texts[k] != nil {
				parts[i] = *texts[k]
			}
		}
		a.Key = KeyJSON(parts)
	}
	return a
}
