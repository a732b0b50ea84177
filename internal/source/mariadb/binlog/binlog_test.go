package binlog_test

import (
	"bytes"
	"encoding/binary"
	"flag"
	"fmt"
	"hash/crc32"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/source/mariadb/binlog"
)

var update = flag.Bool("update", false, "write testdata/catalogue.txt anew")

// captured are the events of a file that a real server has written.
func captured(t testing.TB) (events [][]byte) {
	content, err := os.ReadFile("testdata/catalogue.binlog")
	require.NoError(t, err)
	rest, ok := bytes.CutPrefix(content, []byte("\xfebin"))
	require.True(t, ok)
	for len(rest) > 0 {
		size := binary.LittleEndian.Uint32(rest[9:])
		events = append(events, rest[:size])
		rest = rest[size:]
	}
	return events
}

// told writes what an event tells, as a line or several.
func told(what any) string {
	switch e := what.(type) {
	case *binlog.Begin:
		text := fmt.Sprintf("begin %d-%d-%d", e.Domain, e.Server, e.Seq)
		if e.Alone {
			text += " alone"
		}
		if e.Prepared != "" {
			text += " prepared as " + e.Prepared
		}
		if e.Completes != "" {
			text += " completes " + e.Completes
		}
		return text
	case *binlog.Query:
		return fmt.Sprintf("query in %q: %s", e.Schema, e.SQL)
	case *binlog.Commit:
		return "commit"
	case *binlog.Prepare:
		return "prepare"
	case *binlog.Rotate:
		return fmt.Sprintf("goes on in %s at %d", e.File, e.Offset)
	case *binlog.Table:
		var names []string
		for _, c := range e.Columns {
			names = append(names, fmt.Sprintf("%s:%d", c.Name, c.Type))
		}
		return fmt.Sprintf("table %s.%s (%s)", e.Schema, e.Name, strings.Join(names, " "))
	case *binlog.Rows:
		var lines []string
		for {
			more, err := e.Next()
			if err != nil {
				return strings.Join(append(lines, err.Error()), "\n")
			}
			if !more {
				return strings.Join(lines, "\n")
			}
			lines = append(lines, [...]string{"", "insert", "update", "delete"}[e.Kind]+cells("-", e.Table, e.Before)+
				cells("+", e.Table, e.After))
		}
	}
	return ""
}

func cells(mark string, t *binlog.Table, row []binlog.Cell) string {
	var out strings.Builder
	for i, c := range row {
		switch column := t.Columns[i]; {
		case !c.Told:
		case c.Null:
			fmt.Fprintf(&out, " %s%s=null", mark, column.Name)
		case column.Type == binlog.NewDecimal:
			digits, err := binlog.Decimal(nil, c.Data, column.Size, column.Scale)
			fmt.Fprintf(&out, " %s%s=%s", mark, column.Name, digits)
			if err != nil {
				fmt.Fprint(&out, err)
			}
		case column.Type == binlog.DateTime2:
			fmt.Fprintf(&out, " %s%s=%v", mark, column.Name, binlog.DateTimeParts(c.Data, column.Scale))
		case column.Type == binlog.Time2:
			fmt.Fprintf(&out, " %s%s=%dus", mark, column.Name, binlog.TimeMicros(c.Data, column.Scale))
		case column.Type == binlog.Timestamp2:
			s, us := binlog.Seconds(c.Data, column.Scale)
			fmt.Fprintf(&out, " %s%s=%d.%06d", mark, column.Name, s, us)
		case column.Type == binlog.Date:
			fmt.Fprintf(&out, " %s%s=%v", mark, column.Name, binlog.DateParts(c.Data))
		case column.Type == binlog.Bit:
			fmt.Fprintf(&out, " %s%s=%b", mark, column.Name, binlog.Bits(c.Data))
		case len(c.Data) > 60:
			fmt.Fprintf(&out, " %s%s=%d bytes", mark, column.Name, len(c.Data))
		default:
			fmt.Fprintf(&out, " %s%s=%q", mark, column.Name, c.Data)
		}
	}
	return out.String()
}

// What a real server has logged is told as it happened.
func TestACapturedLog(t *testing.T) {
	d := binlog.NewDecoder()
	var lines []string
	for _, event := range captured(t) {
		_, what, err := d.Decode(event)
		require.NoError(t, err)
		if line := told(what); line != "" {
			lines = append(lines, line)
		}
	}
	got := strings.Join(lines, "\n") + "\n"
	if *update {
		require.NoError(t, os.WriteFile("testdata/catalogue.txt", []byte(got), 0o644))
	}
	want, err := os.ReadFile("testdata/catalogue.txt")
	require.NoError(t, err)
	require.Equal(t, string(want), got)
}

// Events of version 2, which other servers of the family write, say the same as those of
// version 1 after a few bytes more.
func TestRowsOfVersionTwo(t *testing.T) {
	read := func(second bool) (lines []string) {
		d := binlog.NewDecoder()
		for _, event := range captured(t)[1:] { // without the format, there are no checksums
			event = slices.Clone(event[:len(event)-4])
			if kind := event[4]; second && kind >= 23 && kind <= 25 {
				event[4] += 7
				event = slices.Insert(event, 19+8, 5, 0, 0xff, 1, 2) // five bytes, their number included
			}
			_, what, err := d.Decode(event)
			require.NoError(t, err)
			if rows, ok := what.(*binlog.Rows); ok {
				lines = append(lines, told(rows))
			}
		}
		return lines
	}
	require.NotEmpty(t, read(false))
	require.Equal(t, read(false), read(true))
}

// A stream begins with the name of its file, before the format says whether checksums follow:
// they are no part of the name.
func TestTheNameOfTheFileComesWithoutItsChecksum(t *testing.T) {
	const name = "binlog.000007"
	event := make([]byte, 19, 64)
	event[4] = 4
	event = append(binary.LittleEndian.AppendUint64(event, 4), name...)
	for _, e := range [][]byte{event, binary.LittleEndian.AppendUint32(slices.Clone(event),
		crc32.ChecksumIEEE(event))} {
		_, what, err := binlog.NewDecoder().Decode(e)
		require.NoError(t, err)
		require.Equal(t, &binlog.Rotate{File: name, Offset: 4}, what)
	}
}

// An event that was damaged on its way is not believed.
func TestADamagedEventIsNoticed(t *testing.T) {
	events := captured(t)
	for _, i := range []int{3, len(events) / 2, len(events) - 1} {
		d := binlog.NewDecoder()
		_, _, err := d.Decode(events[0])
		require.NoError(t, err)
		damaged := slices.Clone(events[i])
		damaged[len(damaged)/2] ^= 4
		_, _, err = d.Decode(damaged)
		require.ErrorContains(t, err, "checksum")
	}
}

// Whatever comes in, the decoder ends with an error at worst: no panic, no endless loop, no
// more memory than there is.
func FuzzDecoder(f *testing.F) {
	events := captured(f)
	for _, e := range events {
		f.Add(e[:len(e)-4])
	}
	f.Fuzz(func(t *testing.T, event []byte) {
		d := binlog.NewDecoder()
		for _, known := range events { // tables that the event may refer to; without the format, there are no checksums
			if len(known) > 4 && known[4] == 19 {
				_, _, _ = d.Decode(known[:len(known)-4])
			}
		}
		_, what, err := d.Decode(event)
		if err != nil {
			return
		}
		rows, ok := what.(*binlog.Rows)
		for n := 0; ok && rows != nil; n++ {
			more, err := rows.Next()
			if !more || err != nil {
				return
			}
			require.Less(t, n, 10_000_000)
		}
	})
}

// Digits come out as they went in.
func TestDecimals(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		precision := rapid.IntRange(1, 65).Draw(t, "precision")
		scale := rapid.IntRange(0, min(precision, 38)).Draw(t, "scale")
		digits := rapid.StringMatching(fmt.Sprintf("[0-9]{%d}", precision)).Draw(t, "digits")
		negative := rapid.Bool().Draw(t, "negative")
		want := strings.TrimLeft(digits[:precision-scale], "0")
		if want == "" {
			want = "0"
		}
		if scale > 0 {
			want += "." + digits[precision-scale:]
		}
		if negative {
			want = "-" + want
		}
		got, err := binlog.Decimal(nil, encoded(digits, scale, negative), precision, scale)
		if err != nil || string(got) != want {
			t.Fatalf("%s: got %q, %v", want, got, err)
		}
	})
}

// encoded writes digits as the server stores them.
func encoded(digits string, scale int, negative bool) []byte {
	var out []byte
	part := func(text string) {
		n := 0
		for _, c := range text {
			n = n*10 + int(c-'0')
		}
		width := [...]int{0, 1, 1, 2, 2, 3, 3, 4, 4, 4}[len(text)]
		for i := width - 1; i >= 0; i-- {
			out = append(out, byte(n>>(8*i)))
		}
	}
	whole, rest := digits[:len(digits)-scale], digits[len(digits)-scale:]
	part(whole[:len(whole)%9])
	for i := len(whole) % 9; i < len(whole); i += 9 {
		part(whole[i : i+9])
	}
	for len(rest) >= 9 {
		part(rest[:9])
		rest = rest[9:]
	}
	part(rest)
	out[0] ^= 0x80
	if negative {
		for i := range out {
			out[i] ^= 0xff
		}
	}
	return out
}
