package shape

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/condition"
	"noemata/internal/core/feed"
)

// said writes a condition as one reads it.
func said(c condition.Condition) string {
	switch c.Op {
	case condition.Unknown:
		return "?"
	case condition.And, condition.Or:
		var list []string
		for _, arg := range c.Args {
			list = append(list, said(arg))
		}
		return "(" + strings.Join(list, " "+string(c.Op)+" ") + ")"
	case condition.Not:
		return "NOT " + said(c.Args[0])
	case condition.IsNull:
		return c.Column.Name + " IS NULL"
	}
	return fmt.Sprintf("%s %s %s", c.Column.Name, c.Op, c.Value)
}

func TestWhatServersAreAsked(t *testing.T) {
	for where, want := range map[string]string{
		`kind == "card" && amount > 0`:                            "(kind = card AND amount > 0)",
		`!(7 >= id) || email != null`:                             "(NOT id <= 7 OR NOT email IS NULL)",
		`kind in ["card", "cash", "post"] && email.contains("x")`: "((kind = card OR kind = cash OR kind = post) AND ?)",
		`amount > 0.1 && amount != decimal("2.50")`:               "(amount > 0.1 AND NOT amount = 2.5)",
		`paid_at >= timestamp("2026-03-01T01:00:00.5+01:00")`:     "paid_at >= 2026-03-01T00:00:00.500000Z",
		// What may mean something else there.
		`kind < "card"`:                                            "",
		`kind == "Grünau"`:                                         "",
		`kind == email`:                                            "",
		`kind == "card" || email.contains("x")`:                    "",
		`!(kind == "card" && email.contains("x"))`:                 "",
		`id + 1 > 7`:                                               "",
		`id > 7 ? kind == "card" : kind == "cash"`:                 "",
		`paid_at < timestamp("1969-01-01T00:00:00Z")`:              "",
		`paid_at < timestamp("2026-01-01T00:00:00.0000005Z")`:      "",
		`paid_at != null`:                                          "",
		`amount < decimal("0.0000000000000000000000000000000001")`: "",
	} {
		s, err := Compile(payments, feed.Table{Table: "public.payments", Where: where}, []string{"id"}, keyOf)
		require.NoError(t, err, where)
		asked, ok := s.Pushed()
		require.Equal(t, want != "", ok, where)
		if ok {
			require.Equal(t, want, said(asked), where)
		}
	}
	s, err := Compile(payments, feed.Table{Table: "public.payments", Drop: []string{"email"}}, []string{"id"}, keyOf)
	require.NoError(t, err)
	_, ok := s.Pushed()
	require.False(t, ok)
}
