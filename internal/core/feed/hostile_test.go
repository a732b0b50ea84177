package feed_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/written"
)

// A file of a few lines cannot stand for millions of values, nor can its faults fill a screen.
func TestFilesThatAreMadeToBeLarge(t *testing.T) {
	bomb := "a: &a [x, x, x, x, x, x, x, x, x]\n"
	for c := 'b'; c < 'j'; c++ {
		bomb += fmt.Sprintf("%c: &%[1]c [%s]\n", c, strings.Repeat(fmt.Sprintf("*%c, ", c-1), 9))
	}
	for what, x := range map[string]struct{ file, said string }{
		"aliases of aliases": {bomb, "Line 1 of the feed file has an anchor"},
		"one alias":          {"feed: &f live\nsource: *f\n", "Line 1 of the feed file has an anchor"},
		"a megabyte":         {"feed: " + strings.Repeat("x", written.MostBytes), "are the most that is read"},
		"many values":        {"tables: [" + strings.Repeat("a,", 200_000) + "]", "has more than"},
		"deep":               {strings.Repeat("[", 20_000), "not valid YAML"},
	} {
		_, err := feed.ParseFile([]byte(x.file))
		require.ErrorContains(t, err, x.said, what)
		require.Less(t, len(err.Error()), 1000, what)
	}
	var many strings.Builder
	for i := range 500 {
		fmt.Fprintf(&many, "wrong%d: %s\n", i, strings.Repeat("y", 500))
	}
	_, err := feed.ParseFile([]byte(many.String()))
	require.ErrorContains(t, err, "and 475 more")
	require.Less(t, len(err.Error()), 10_000)
}
