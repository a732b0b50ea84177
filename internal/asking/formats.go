package asking

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"io"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/ipc"

	"noemata/internal/core/schema"
)

// Format is the form in which an answer is written.
type Format string

// The formats.
const (
	Rows    Format = "rows"    // JSON: the columns, and the values of each row as text, for who shows them
	JSON    Format = "json"    // a JSON array with an object for each row
	CSV     Format = "csv"     // RFC 4180, with a line of names; null is nothing, an empty text is ""
	Arrow   Format = "arrow"   // the stream format of Arrow (Arrow Columnar Format, IPC)
	Parquet Format = "parquet" // Apache Parquet
)

// Media are the types of the formats (IANA).
var Media = map[Format]string{Rows: "application/json", JSON: "application/json", CSV: "text/csv; charset=utf-8",
	Arrow: "application/vnd.apache.arrow.stream", Parquet: "application/vnd.apache.parquet"}

// Write writes the answer, up to so many rows; 0 is all. Who reads it learns that it is whole by its end: one that
// breaks off has none.
func (x *Answer) Write(w io.Writer, f Format, most int64) error {
	buffered := bufio.NewWriterSize(w, 64<<10)
	var form form
	columns := x.Columns()
	switch f {
	case JSON:
		form = &objects{w: buffered, columns: columns}
	case CSV:
		form = &lines{w: buffered, columns: columns}
	case Arrow:
		form = &stream{ipc.NewWriter(buffered, ipc.WithSchema(schema.Arrow(columns)))}
	case Parquet:
		p, err := newParquet(buffered, columns)
		if err != nil {
			return err
		}
		form = p
	default:
		form = &rows{w: buffered, columns: columns}
	}
	if err := form.begin(); err != nil {
		return err
	}
	more := false
	for n := int64(0); !more; {
		record, err := x.Next()
		if err != nil {
			return err
		}
		if record == nil {
			break
		}
		rows := record.NumRows()
		if more = most > 0 && n+rows > most; more {
			record = record.NewSlice(0, most-n)
			defer record.Release()
		}
		if record.NumRows() > 0 {
			if err := form.add(record); err != nil {
				return err
			}
		}
		n += rows
	}
	if err := form.end(more); err != nil {
		return err
	}
	return buffered.Flush()
}

// form writes records in one of the formats.
type form interface {
	begin() error
	add(record arrow.RecordBatch) error
	end(more bool) error // more: the answer has rows that were not written
}

// rows are for who shows them.
type rows struct {
	w       *bufio.Writer
	columns []schema.Column
	some    bool
}

func (r *rows) begin() error {
	type column struct {
		Name string `json:"name"`
		Type string `json:"type"`
		Kind string `json:"kind"`
	}
	list := []column{}
	for _, c := range r.columns {
		list = append(list, column{c.Name, c.Native, string(c.Type.Kind)})
	}
	content, err := json.Marshal(list)
	if err != nil {
		return err
	}
	_, err = r.w.WriteString(`{"columns":` + string(content) + `,"rows":[`)
	return err
}

func (r *rows) add(record arrow.RecordBatch) error {
	for i := range int(record.NumRows()) {
		r.separate()
		_ = r.w.WriteByte('[')
		for j, c := range r.columns {
			if j > 0 {
				_ = r.w.WriteByte(',')
			}
			text, ok := schema.CellText(record.Column(j), i, c.Type)
			if !ok {
				_, _ = r.w.WriteString("null")
				continue
			}
			writeText(r.w, text)
		}
		if err := r.w.WriteByte(']'); err != nil {
			return err
		}
	}
	return nil
}

func (r *rows) separate() {
	if r.some {
		_ = r.w.WriteByte(',') // an error stays with the writer, and comes with the next byte
	}
	r.some = true
}

func (r *rows) end(more bool) error {
	text := `],"more":false}`
	if more {
		text = `],"more":true}`
	}
	_, err := r.w.WriteString(text)
	return err
}

func writeText(w *bufio.Writer, text string) {
	content, _ := json.Marshal(text) // texts always marshal
	_, _ = w.Write(content)
}

// objects are for programs: numbers and JSON as they are, all else as text.
type objects struct {
	w       *bufio.Writer
	columns []schema.Column
	some    bool
}

func (o *objects) begin() error { return o.w.WriteByte('[') }

func (o *objects) add(record arrow.RecordBatch) error {
	for i := range int(record.NumRows()) {
		if o.some {
			_ = o.w.WriteByte(',')
		}
		o.some = true
		_, _ = o.w.WriteString("\n  {")
		for j, c := range o.columns {
			if j > 0 {
				_, _ = o.w.WriteString(", ")
			}
			writeText(o.w, c.Name)
			_, _ = o.w.WriteString(": ")
			text, ok := schema.CellText(record.Column(j), i, c.Type)
			switch {
			case !ok:
				_, _ = o.w.WriteString("null")
			case isRaw(c.Type.Kind) && json.Valid([]byte(text)):
				_, _ = o.w.WriteString(text)
			default:
				writeText(o.w, text)
			}
		}
		if err := o.w.WriteByte('}'); err != nil {
			return err
		}
	}
	return nil
}

func isRaw(k schema.Kind) bool {
	switch k {
	case schema.Bool, schema.Int16, schema.Int32, schema.Int64, schema.Float32, schema.Float64, schema.Decimal,
		schema.Numeric, schema.JSON:
		return true
	}
	return false
}

func (o *objects) end(bool) error {
	_, err := o.w.WriteString("\n]\n")
	return err
}

// lines are comma-separated values.
type lines struct {
	w       *bufio.Writer
	columns []schema.Column
}

func (l *lines) begin() error {
	names := make([]string, len(l.columns))
	for i, c := range l.columns {
		names[i] = c.Name
	}
	w := csv.NewWriter(l.w)
	_ = w.Write(names)
	w.Flush()
	return w.Error()
}

func (l *lines) add(record arrow.RecordBatch) error {
	for i := range int(record.NumRows()) {
		for j, c := range l.columns {
			if j > 0 {
				_ = l.w.WriteByte(',')
			}
			text, ok := schema.CellText(record.Column(j), i, c.Type)
			if ok && (text == "" || strings.ContainsAny(text, "\",\r\n") || text != strings.TrimSpace(text)) {
				text = `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
			}
			_, _ = l.w.WriteString(text)
		}
		if err := l.w.WriteByte('\n'); err != nil {
			return err
		}
	}
	return nil
}

func (l *lines) end(bool) error { return nil }

type stream struct{ w *ipc.Writer }

func (s *stream) begin() error                  { return nil }
func (s *stream) add(r arrow.RecordBatch) error { return s.w.Write(r) }
func (s *stream) end(bool) error                { return s.w.Close() }
