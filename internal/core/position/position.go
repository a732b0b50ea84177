// Package position says how far a table has come.
//
// A position is one line of text that a person can read, set and clear. A
// watermark position is a value of the watermark column: every row at or below
// it is in the warehouse. While rows that share one value are still being
// loaded, the key of the last one follows the value:
//
//	2026-11-23T08:30:00.000000Z
//	2026-11-23T08:30:00.000000Z after ["4711"]
package position

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/big"
	"strings"

	"noemata/internal/core/schema"
)

// Position is a place in a table's sequence of watermarks. The zero Position
// is before everything.
type Position struct {
	Value string   // the watermark, as schema.CellText writes it
	After []string // the key of the last row loaded at Value; nil when all are
}

const after = " after "

// IsZero tells whether nothing has been loaded yet.
func (p Position) IsZero() bool { return p.Value == "" && p.After == nil }

// String writes the position as one line. Text watermarks that could be
// mistaken for something else, or hold a line break, are written as JSON.
func (p Position) String() string {
	value := p.Value
	if strings.HasPrefix(value, `"`) || strings.ContainsAny(value, "\n\r") || strings.Contains(value, after) ||
		(value == "" && p.After != nil) {
		value = quote(value)
	}
	if p.After == nil {
		return value
	}
	return value + after + quote(p.After)
}

func quote(v any) string {
	b, _ := json.Marshal(v) // strings and lists of strings always marshal
	return string(b)
}

// Parse reads what String wrote.
func Parse(s string) (Position, error) {
	var p Position
	value, key, found := s, "", false
	if i := strings.LastIndex(s, after+"["); i >= 0 {
		value, key, found = s[:i], s[i+len(after):], true
	}
	if found {
		if err := json.Unmarshal([]byte(key), &p.After); err != nil || p.After == nil {
			return Position{}, fmt.Errorf("%q is not a position: the key after the watermark is not a list of strings",
				s)
		}
	}
	p.Value = value
	if strings.HasPrefix(value, `"`) {
		if err := json.Unmarshal([]byte(value), &p.Value); err != nil {
			return Position{}, fmt.Errorf("%q is not a position: the quoted watermark is not closed", s)
		}
	}
	return p, nil
}

// Check tells whether the value can be a watermark of this type, and gives it
// in its one written form.
func (p Position) Check(t schema.Type) (Position, error) {
	switch t.Kind {
	case schema.Int16, schema.Int32, schema.Int64, schema.Decimal:
		n, ok := number(p.Value)
		if !ok || (t.Kind != schema.Decimal && !n.IsInt()) {
			return p, fmt.Errorf("%q is not a number, and the watermark column is %s", p.Value, t)
		}
	case schema.Date, schema.Timestamp, schema.TimestampTZ:
		us, err := schema.ParseTimestamp(p.Value)
		if err != nil {
			return p, fmt.Errorf("%w (the watermark column is %s)", err, t)
		}
		infinite := us == schema.InfiniteTime || us == -schema.InfiniteTime
		switch {
		case t.Kind == schema.TimestampTZ:
			p.Value = schema.TimestampTZText(us)
		case t.Kind == schema.Timestamp:
			p.Value = schema.TimestampText(us)
		case !infinite:
			p.Value = schema.DateText(schema.Days(us))
		}
	}
	return p, nil
}

// Compare orders two positions of a watermark of type t: by value, and at one
// value those still within its rows before the one that is past them. Keys are
// not compared; two positions within one value's rows are taken as equal.
func Compare(a, b Position, t schema.Type) int {
	switch {
	case a.IsZero() && b.IsZero():
		return 0
	case a.IsZero():
		return -1
	case b.IsZero():
		return 1
	}
	if c := compareValues(a.Value, b.Value, t); c != 0 {
		return c
	}
	return cmp.Compare(boolToInt(a.After == nil), boolToInt(b.After == nil))
}

func compareValues(a, b string, t schema.Type) int {
	switch t.Kind {
	case schema.Int16, schema.Int32, schema.Int64, schema.Decimal:
		x, okx := number(a)
		y, oky := number(b)
		if okx && oky {
			return x.Cmp(y)
		}
	case schema.Date, schema.Timestamp, schema.TimestampTZ:
		x, errx := schema.ParseTimestamp(a)
		y, erry := schema.ParseTimestamp(b)
		if errx == nil && erry == nil {
			return cmp.Compare(x, y)
		}
	}
	return strings.Compare(a, b)
}

func number(s string) (*big.Rat, bool) {
	if s == "" || strings.ContainsAny(s, "/eEpPxX_") {
		return nil, false
	}
	return new(big.Rat).SetString(s)
}

func boolToInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
