package mysql

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/source/mariadb/binlog"
)

// Each transaction of a set is in it and no other, in whatever order they came; it is read as it was
// written, and its sum rises by one with each.
func TestSets(t *testing.T) {
	servers := []string{"3e11fa47-71ca-11e1-9e33-c80aa9429562", "0a11fa47-71ca-11e1-9e33-c80aa9429563"}
	rapid.Check(t, func(t *rapid.T) {
		s, err := parseSet("")
		if err != nil {
			t.Fatal(err)
		}
		in := map[binlog.Begin]bool{}
		for _, n := range rapid.SliceOf(rapid.IntRange(0, 59)).Draw(t, "transactions") {
			b := binlog.Begin{Origin: servers[n%2], Seq: uint64(n/2 + 1)}
			if in[b] {
				continue
			}
			in[b] = true
			next := s.With(&b)
			if s.Has(&b) || next.Sum() != s.Sum()+1 {
				t.Fatalf("%s becomes %s", s, next)
			}
			s = next
		}
		again, err := parseSet(s.String())
		if err != nil || again.String() != s.String() {
			t.Fatalf("%s is read as %s, %v", s, again, err)
		}
		for n := range 60 {
			b := binlog.Begin{Origin: servers[n%2], Seq: uint64(n/2 + 1)}
			if again.Has(&b) != in[b] {
				t.Fatalf("%s, %+v", s, b)
			}
		}
	})
	s, err := parseSet("3E11FA47-71CA-11E1-9E33-C80AA9429562:5:1-3:4,\n0a11fa47-71ca-11e1-9e33-c80aa9429563:7")
	require.NoError(t, err)
	require.Equal(t, "0a11fa47-71ca-11e1-9e33-c80aa9429563:7,3e11fa47-71ca-11e1-9e33-c80aa9429562:1-5", s.String())
	require.Len(t, s.(set).bytes(), 8+2*(16+8+16))
	for _, wrong := range []string{"nonsense", servers[0], servers[0] + ":", servers[0] + ":0", servers[0] + ":3-2",
		servers[0] + ":a", servers[0] + ":tag:1", "0-1-5"} {
		_, err := parseSet(wrong)
		require.Error(t, err, wrong)
		_, err = log.Parse(wrong)
		require.Error(t, err, wrong)
	}
}
