package mariadb

import (
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/schema"
	"noemata/internal/source/mariadb/binlog"
)

// Values of every type, as an event of the log and as an answer have them: each is read, or
// there is a reason why not.
func FuzzValues(f *testing.F) {
	kinds := []described{
		{kind: "tinyint", native: "tinyint(4)"}, {kind: "bigint", native: "bigint(20) unsigned"}, {kind: "decimal",
			native: "decimal(12,2)", precision: 12, scale: 2},
		{kind: "decimal", native: "decimal(65,30)", precision: 65, scale: 30},
		{kind: "float"}, {kind: "double"}, {kind: "year"}, {kind: "date"}, {kind: "datetime"}, {kind: "timestamp"},
		{kind: "time"}, {kind: "bit", precision: 1}, {kind: "bit", precision: 17},
		{kind: "varchar", charset: "utf8mb4"}, {kind: "longtext", charset: "utf16"}, {kind: "text",
			charset: "utf32"}, {kind: "varchar", charset: "ucs2", json: true}, {kind: "binary", bytes: 8},
		{kind: "blob"},
		{kind: "enum", native: "enum('ä','''')"}, {kind: "set",
			native: "set('a','b')"}, {kind: "uuid"}, {kind: "inet6"}, {kind: "inet4"}, {kind: "point"},
	}
	types := []binlog.Type{binlog.Tiny, binlog.LongLong, binlog.NewDecimal, binlog.NewDecimal, binlog.Float,
		binlog.Double, binlog.Year, binlog.Date, binlog.DateTime2, binlog.Timestamp2, binlog.Time2, binlog.Bit,
		binlog.Bit,
		binlog.VarChar, binlog.BlobCompressed, binlog.Blob, binlog.VarChar, binlog.String, binlog.VarCharCompressed,
		binlog.Enum, binlog.Set, binlog.String, binlog.String, binlog.String, binlog.Geometry}
	for i := range kinds {
		f.Add(uint8(i), uint8(12), uint8(3), []byte("\x80\x00\x00\x01\x02\x03\x04\x05"))
		f.Add(uint8(i), uint8(1), uint8(0), []byte{})
		f.Add(uint8(i), uint8(17), uint8(6), []byte("-838:59:59.999999"))
	}
	f.Fuzz(func(t *testing.T, kind, size, scale uint8, value []byte) {
		d := kinds[int(kind)%len(kinds)]
		c := schema.Column{Name: "c", Native: d.native}
		c.Type, c.Wire = d.typed()
		charset, err := (&Source{}).charsetOf(t.Context(), c)
		if err != nil {
			t.Fatal(err)
		}
		k := codecOf(c, charset)
		l := &binlog.Column{Type: types[int(kind)%len(kinds)], Size: int(size), Scale: int(scale)}
		b := array.NewBuilder(memory.DefaultAllocator, c.Type.Arrow())
		defer b.Release()
		if data, size := l.Cut(value); size >= 0 { // as the decoder does
			if x, reason := k.log(data, l); reason == "" {
				k.put(b, x)
			}
		}
		if x, reason := k.text(value); reason == "" {
			k.put(b, x)
		}
	})
}
