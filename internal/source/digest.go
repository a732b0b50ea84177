package source

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"noemata/internal/core/schema"
)

// KeyRange is rows of a table by its key: after the one key, up to and with the other, each as
// schema.CellText has its values. Nil is without an end. Rows without a key are in the range that
// has no end.
type KeyRange struct{ After, UpTo []string }

// Digest tells rows from others: their number, and the sums of the two halves of a digest of each
// row. Equal rows have equal digests, in whatever order they come; that others have the same one
// is as unlikely as a collision of a hash of 120 bits.
type Digest struct {
	Rows   int64     `json:"rows"`
	Halves [2]uint64 `json:"halves"` // modulo 2^64
}

// halfDigits is how many hexadecimal digits of a row's digest each half has.
const halfDigits = 15

// Add adds a row by its digest, in hexadecimal digits.
func (d *Digest) Add(digest string) error {
	if len(digest) < 2*halfDigits {
		return fmt.Errorf("%q is not the digest of a row", digest)
	}
	for i := range d.Halves {
		half, err := strconv.ParseUint(digest[i*halfDigits:(i+1)*halfDigits], 16, 64)
		if err != nil {
			return fmt.Errorf("%q is not the digest of a row", digest)
		}
		d.Halves[i] += half
	}
	d.Rows++
	return nil
}

// DigestColumn is how a row's digest travels, after all other columns of a query.
func DigestColumn(wire string) schema.Column {
	return schema.Column{Name: "digest", Type: schema.Type{Kind: schema.Text}, Wire: wire}
}

// RangesAtOnce is how many ranges are asked for in one statement.
const RangesAtOnce = 64

// Digests is the statement that gives, for each range by its place, the number of its rows and
// the sums of the halves of their digests as text. list is the columns in the form in which they
// are read, before they are part of a digest.
func (s SQL) Digests(q Query, ranges []KeyRange) string {
	var parts []string
	for i, r := range ranges {
		q.Keys = &r
		parts = append(parts, fmt.Sprintf("SELECT %d, count(*), %s, %s FROM (SELECT %s AS d FROM %s%s%s) AS x", i,
			s.Half(1), s.Half(1+halfDigits), s.Digest(q.Table.Columns), s.From(q), s.Where(q), s.AsIs))
	}
	return strings.Join(parts, "\nUNION ALL ")
}

// ParseHalves reads what Digests gives of one range.
func ParseHalves(rows int64, halves [2]string) (Digest, error) {
	d := Digest{Rows: rows}
	for i, text := range halves {
		sum, ok := new(big.Int).SetString(text, 10)
		if !ok || sum.Sign() < 0 {
			return d, fmt.Errorf("%q is not a sum of digests", text)
		}
		d.Halves[i] = sum.And(sum, new(big.Int).SetUint64(1<<64-1)).Uint64()
	}
	return d, nil
}

// keys are the conditions of a range of keys, and of the rows that are asked for one by one.
func (s SQL) keys(q Query) (conditions []string) {
	if q.Only != nil {
		conditions = append(conditions, s.only(q))
	}
	if q.Keys == nil {
		return conditions
	}
	null := s.nullKey(q.Table)
	if q.Keys.After != nil {
		left, right := s.Key(q.Table, q.Keys.After)
		after := s.After(left, right)
		if null != "" && q.Keys.UpTo == nil {
			after = "(" + after + " OR " + null + ")"
		}
		conditions = append(conditions, after)
	}
	if q.Keys.UpTo != nil {
		left, right := s.Key(q.Table, q.Keys.UpTo)
		conditions = append(conditions, s.UpTo(left, right))
		if null != "" {
			conditions = append(conditions, "NOT ("+null+")")
		}
	}
	return conditions
}

// only is true of rows that have one of several lists of values in some columns.
func (s SQL) only(q Query) string {
	list := make([]string, len(q.Only.Values))
	for i, values := range q.Only.Values {
		var parts []string
		for k, name := range q.Only.Columns {
			c, _ := q.Table.Column(name)
			parts = append(parts, s.Column(name)+" = "+s.Literal(c, values[k]))
		}
		list[i] = "(" + strings.Join(parts, " AND ") + ")"
	}
	return "(" + strings.Join(list, " OR ") + ")"
}

// nullKey is true of rows that lack a part of their key; empty where none does.
func (s SQL) nullKey(t schema.Table) string {
	var list []string
	for _, k := range t.Key {
		if t.Nullable(k) {
			list = append(list, s.Column(k)+" IS NULL")
		}
	}
	return strings.Join(list, " OR ")
}
