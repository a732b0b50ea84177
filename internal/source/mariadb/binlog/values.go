package binlog

import (
	"bytes"
	"compress/flate"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
)

// Decimal appends the digits of a fixed-point number (Decimal, binary format: nine digits
// to four bytes, the first bit inverted, all bits inverted where it is negative).
func Decimal(out []byte, b []byte, precision, scale int) ([]byte, error) {
	whole := precision - scale
	if len(b) != decimalBytes(whole)+decimalBytes(scale) || len(b) == 0 || whole < 0 {
		return out, errShort
	}
	var mask byte
	if b[0]&0x80 == 0 {
		mask = 0xff
		out = append(out, '-')
	}
	at, first := 0, byte(0x80)
	part := func(width int) uint32 {
		var n uint32
		for range width {
			n = n<<8 | uint32(b[at]^mask^first)
			first = 0
			at++
		}
		return n
	}
	begins := len(out)
	if n := whole % 9; n > 0 {
		out = digits(out, part(decimalBytes(n)), n)
	}
	for range whole / 9 {
		out = digits(out, part(4), 9)
	}
	for len(out) > begins && out[begins] == '0' { // leading zeros
		out = append(out[:begins], out[begins+1:]...)
	}
	if len(out) == begins {
		out = append(out, '0')
	}
	if scale > 0 {
		out = append(out, '.')
		for range scale / 9 {
			out = digits(out, part(4), 9)
		}
		if n := scale % 9; n > 0 {
			out = digits(out, part(decimalBytes(n)), n)
		}
	}
	return out, nil
}

func digits(out []byte, n uint32, width int) []byte {
	from := len(out)
	for range width {
		out = append(out, '0')
	}
	for i := from + width - 1; i >= from; i-- {
		out[i] = byte('0' + n%10)
		n /= 10
	}
	return out
}

// Parts is a date and a time as they are written.
type Parts struct{ Year, Month, Day, Hour, Minute, Second, Micro int }

// DateParts reads a date (bits of day, month and year).
func DateParts(b []byte) Parts {
	n := int(Uint(b))
	return Parts{Year: n >> 9, Month: n >> 5 & 15, Day: n & 31}
}

// fraction reads the digits of a second, of which so many are stored, as microseconds.
func fraction(b []byte, scale int) int {
	n := int(Bits(b))
	for range 3 - (scale+1)/2 {
		n *= 100
	}
	return n
}

// DateTimeParts reads a date and time (five bytes and a fraction; the highest first).
func DateTimeParts(b []byte, scale int) Parts {
	n := Bits(b[:5]) - 0x8000000000
	date, clock := n>>17, n&(1<<17-1)
	month := int(date >> 5)
	return Parts{Year: month / 13, Month: month % 13, Day: int(date & 31), Hour: int(clock >> 12),
		Minute: int(clock >> 6 & 63), Second: int(clock & 63), Micro: fraction(b[5:], scale)}
}

// OldDateTimeParts reads a date and time as servers stored it before version 10.1.2.
func OldDateTimeParts(b []byte) Parts {
	n := int(Uint(b))
	date, clock := n/1_000_000, n%1_000_000
	return Parts{Year: date / 10000, Month: date / 100 % 100, Day: date % 100, Hour: clock / 10000,
		Minute: clock / 100 % 100, Second: clock % 100}
}

// Seconds reads a moment: seconds since 1970 UTC, and microseconds.
func Seconds(b []byte, scale int) (seconds int64, micros int) {
	return int64(Bits(b[:4])), fraction(b[4:], scale)
}

// TimeMicros reads a length of time in microseconds (three bytes and a fraction, biased so
// that they sort).
func TimeMicros(b []byte, scale int) int64 {
	width := len(b)
	n := int64(Bits(b)) - 1<<(8*width-1)
	sign := int64(1)
	if n < 0 {
		sign, n = -1, -n
	}
	parts := n & (1<<(8*(width-3)) - 1)
	for range 3 - (scale+1)/2 {
		parts *= 100
	}
	n >>= 8 * (width - 3)
	return sign * (((n>>12&1023)*3600+(n>>6&63)*60+n&63)*1_000_000 + parts)
}

// OldTimeMicros reads a length of time as servers stored it before version 10.1.2.
func OldTimeMicros(b []byte) int64 {
	n := Int(b)
	sign := int64(1)
	if n < 0 {
		sign, n = -1, -n
	}
	return sign * (n/10000*3600 + n/100%100*60 + n%100) * 1_000_000
}

// largest is how much a compressed part of the log may hold, in bytes: as much as is taken
// in at a time where nothing is compressed.
const largest = 256 << 20

// expand gives what was compressed: a byte of flags and of the width of the length, the
// length with its highest byte first, and then a zlib stream (RFC 1950;
// mariadb.com/kb/en/compressing-events-to-reduce-size-of-the-binary-log).
func expand(b []byte) ([]byte, error) {
	if len(b) == 0 || b[0]&0x70 != 0 {
		return nil, errors.New("a compressed event of the binary log is of an unknown kind")
	}
	width := int(b[0] & 7)
	if width == 0 || width > 4 || len(b) < 1+width {
		return nil, errShort
	}
	n := Bits(b[1 : 1+width])
	z, err := zlib.NewReader(bytes.NewReader(b[1+width:]))
	if err != nil {
		return nil, err
	}
	return inflate(z, n)
}

// inflate reads n bytes, no fewer and no more.
func inflate(z io.Reader, n uint64) ([]byte, error) {
	if n > largest {
		return nil, fmt.Errorf("a compressed value of the binary log would have %d bytes", n)
	}
	var out bytes.Buffer
	out.Grow(int(min(n, 1<<20))) // no more on trust
	if _, err := io.Copy(&out, io.LimitReader(z, int64(n)+1)); err != nil {
		return nil, err
	}
	if uint64(out.Len()) != n {
		return nil, errShort
	}
	return out.Bytes(), nil
}

// Expand gives the content of a column that is stored compressed
// (mariadb.com/kb/en/storage-engine-independent-column-compression): after a byte of flags
// and the length with its highest byte first, a deflate stream (RFC 1951), with or without
// the header of zlib.
func Expand(b []byte) ([]byte, error) {
	if len(b) == 0 || b[0] == 0 {
		return b[min(1, len(b)):], nil
	}
	width := int(b[0] & 7)
	if b[0]>>4 != 8 || width == 0 || width > 4 || len(b) < 1+width {
		return nil, errors.New("a compressed value of the binary log is of an unknown kind")
	}
	n := Bits(b[1 : 1+width])
	content := bytes.NewReader(b[1+width:])
	if b[0]&8 != 0 {
		return inflate(flate.NewReader(content), n)
	}
	z, err := zlib.NewReader(content)
	if err != nil {
		return nil, err
	}
	return inflate(z, n)
}
