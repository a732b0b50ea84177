package words

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestNumbersAsPeopleReadThem(t *testing.T) {
	for n, text := range map[int64]string{0: "0", 999: "999", 1000: "1 000", -1234567: "-1 234 567"} {
		require.Equal(t, text, Number(n))
	}
	require.Equal(t, []string{"0 rows", "1 row", "12 345 rows"},
		[]string{Plural(0, "row"), Plural(1, "row"), Plural(12345, "row")})
	for n, text := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 1_234_567: "1.2 MB",
		5_000_000_000_000_000: "5000.0 TB"} {
		require.Equal(t, text, Size(n))
	}
}
