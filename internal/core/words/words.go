// Package words writes numbers as people read them.
package words

import (
	"fmt"
	"strconv"
)

// Number writes a count in groups of three digits, as 1 234 567.
func Number(n int64) string {
	s, sign := strconv.FormatInt(n, 10), ""
	if n < 0 {
		s, sign = s[1:], "-"
	}
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return sign + s
}

// Plural is a count of something: 1 row, 2 rows.
func Plural[N int | int64](n N, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return Number(int64(n)) + " " + noun + "s"
}

// Size writes bytes in powers of 1000, as 1.2 MB.
func Size(n int64) string {
	f, unit := float64(n), "B"
	for _, next := range []string{"kB", "MB", "GB", "TB"} {
		if f < 1000 {
			break
		}
		f, unit = f/1000, next
	}
	if unit == "B" {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f %s", f, unit)
}
