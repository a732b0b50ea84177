//go:build duckdb_arrow

package duckdb

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/testkit/answers"
)

// How long a small commit takes, alone and while four questions read all rows without pause: half of them, the
// longest of
// a hundred, and the longest.
func BenchmarkCommitsBesideQuestions(b *testing.B) {
	w := library(b)
	c, err := w.connect(b.Context())
	require.NoError(b, err)
	defer c.Close()
	_, err = c.Exec(b.Context(),
		"CREATE TABLE kept.many AS SELECT i AS id, md5(i::VARCHAR) AS title FROM range(3000000) t(i)")
	require.NoError(b, err)
	for _, questions := range []int{0, 4} {
		b.Run(fmt.Sprintf("questions=%d", questions), func(b *testing.B) {
			ctx, stop := context.WithCancel(b.Context())
			var all sync.WaitGroup
			for range questions {
				talk := converse(b, w, everyone)
				all.Go(func() {
					for ctx.Err() == nil {
						_, _ = answers.Rows(ctx, talk,
							"SELECT left(title, 4), count(*), max(id) FROM kept.many GROUP BY 1 ORDER BY 2 LIMIT 5")
					}
				})
			}
			var took []time.Duration
			for i := 0; b.Loop(); i++ {
				_, err := c.Exec(b.Context(), "BEGIN")
				require.NoError(b, err)
				_, err = c.Exec(b.Context(), fmt.Sprintf("UPDATE kept.loans SET fee = %d.5", i%1000))
				require.NoError(b, err)
				began := time.Now()
				_, err = c.Exec(b.Context(), "COMMIT")
				require.NoError(b, err)
				took = append(took, time.Since(began))
			}
			stop()
			all.Wait()
			slices.Sort(took)
			for name, at := range map[string]int{"median-ms": len(took) / 2, "p99-ms": len(took) * 99 / 100,
				"longest-ms": len(took) - 1} {
				b.ReportMetric(float64(took[at].Microseconds())/1000, name)
			}
		})
	}
}
