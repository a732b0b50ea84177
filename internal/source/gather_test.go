package source_test

import (
	"fmt"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/change"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
)

func followed(table string, takes ...string) source.Followed {
	return source.Followed{Key: []string{"id"}, Takes: takes,
		Table: schema.Table{Name: schema.Name{Schema: "public", Table: table}, Columns: []schema.Column{
			{Name: "id", Type: schema.Type{Kind: schema.Int64}}, {Name: "note", Type: schema.Type{Kind: schema.Text}}}}}
}

// However often what is gathered is taken away, also within transactions: each change comes
// once, in its order, with its transaction, and moments rise from one to the next.
//
// Longer than a screen: it is a model and what it is compared with.
func TestWhatIsGatheredIsTakenOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := source.NewGathering(change.Clock{Last: 1000})
		tables := []*source.Changes{g.Table(followed("loans")), g.Table(followed("holds"))}
		var told, got [2][]string
		var began, ended, commits, asides, kept int64
		moment, open := int64(1000), false
		last := change.Txn{}
		take := func() {
			at := fmt.Sprintf("%04d", ended)
			out := g.Take(at)
			require.Equal(t, at, out.To)
			require.Equal(t, open, out.Continues, "a transaction that was open when it was taken before goes on")
			open = g.Open()
			require.Equal(t, open, out.Open)
			commits += out.Commits
			for i, b := range out.Batches {
				kept += int64(len(b.Aside))
				if len(b.Rows) == 0 {
					require.Nil(t, b.Record)
					continue
				}
				require.EqualValues(t, len(b.Rows), b.Record.NumRows())
				for k, x := range b.Txns {
					if k == 0 && out.Continues {
						require.Equal(t, last, x)
					} else {
						require.Greater(t, x.Moment, moment)
					}
				}
				for row, r := range b.Rows {
					note := b.Record.Column(1).(*array.String)
					text := note.Value(row)
					if note.IsNull(row) {
						text = "null"
					}
					if r.Unknown > 0 {
						text = fmt.Sprint(b.Unknown[r.Unknown-1])
					}
					if r.Kind != 0 {
						got[i] = append(got[i], fmt.Sprintf("%s %d %s %s", b.Txns[r.Txn].Position, r.Seq, r.Kind, text))
					}
				}
			}
			if txns := out.Batches[0].Txns; len(txns) > 0 {
				last = txns[len(txns)-1]
				moment = last.Moment
			}
			require.Zero(t, g.Progress("", false).Changes)
		}
		seq := 0
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			switch rapid.SampledFrom([]string{"begin", "change", "change", "change", "end", "take", "key", "aside",
				"unknown"}).Draw(t, "step") {
			case "begin":
				if !g.Open() {
					began++
					g.BeginTxn(fmt.Sprintf("%04d", began), uint32(began),
						rapid.Int64Range(0, 3000).Draw(t, "committed"))
					seq = 0
				}
			case "end":
				if g.Open() {
					ended++
				}
				g.EndTxn()
			case "take":
				take()
			case "change":
				i := rapid.IntRange(0, 1).Draw(t, "table")
				g.Count()
				r, err := g.Row(change.Insert)
				if !g.Open() {
					require.Error(t, err)
					g.EndTxn()
					continue
				}
				seq++
				tables[i].Fields[0].(*array.Int64Builder).Append(7)
				tables[i].Fields[1].(*array.StringBuilder).Append("lent")
				tables[i].Add(r, nil)
				told[i] = append(told[i], fmt.Sprintf("%04d %d insert lent", began, seq))
			case "key":
				if !g.Open() {
					continue
				}
				g.Count()
				for _, kind := range []change.Kind{change.Left, change.Came} {
					r, err := g.Row(kind)
					require.NoError(t, err)
					tables[0].AddBare(r, nil)
					seq++
					told[0] = append(told[0], fmt.Sprintf("%04d %d %s null", began, seq, kind))
				}
			case "unknown":
				if !g.Open() {
					continue
				}
				g.Count()
				seq++
				r, err := g.Row(change.Update)
				require.NoError(t, err)
				mask := []bool{false, rapid.Bool().Draw(t, "note is unknown")}
				tables[1].Fields[0].AppendNull()
				tables[1].Fields[1].AppendNull()
				tables[1].Add(r, mask)
				told[1] = append(told[1], fmt.Sprintf("%04d %d update %v", began, seq, mask))
			case "aside":
				if !g.Open() {
					continue
				}
				g.Count()
				seq++
				r, err := g.Row(change.Insert)
				require.NoError(t, err)
				done := rapid.IntRange(0, 1).Draw(t, "columns that were appended")
				if done == 1 {
					tables[1].Fields[0].(*array.Int64Builder).Append(9)
				}
				tables[1].SetAside(rows.Aside{Reason: "Column note is odd."}, r, done)
				asides++
			}
		}
		take()
		require.Equal(t, told, got)
		require.Equal(t, []int64{ended, asides}, []int64{commits, kept})
	})
}

// A change of the key is an update to whoever ignores updates.
func TestKindsThatAreLeftOut(t *testing.T) {
	f := followed("loans", "insert", "delete")
	require.True(t, f.Ignores(change.Update) && f.Ignores(change.Left) && f.Ignores(change.Came) &&
		f.Ignores(change.Truncate))
	require.False(t, f.Ignores(change.Insert) || f.Ignores(change.Delete))
	require.False(t, followed("loans").Ignores(change.Truncate))
}

// What a transaction gave up is gone, rows and rows set aside alike, and what it did before
// and after stays; what was handed over already cannot be taken back.
func TestWhatIsGivenUpIsGone(t *testing.T) {
	g := source.NewGathering(change.Clock{})
	loans := g.Table(followed("loans"))
	add := func(id int64, aside bool) {
		t.Helper()
		g.Count()
		r, err := g.Row(change.Insert)
		require.NoError(t, err)
		if aside {
			loans.SetAside(rows.Aside{Key: fmt.Sprint(id)}, r, 0)
			return
		}
		loans.Fields[0].(*array.Int64Builder).Append(id)
		loans.Fields[1].AppendNull()
		loans.Add(r, nil)
	}
	ids := func(b change.Batch) (ids []int64) {
		for i, r := range b.Rows {
			if r.Kind != 0 {
				ids = append(ids, b.Record.Column(0).(*array.Int64).Value(i))
			}
		}
		return ids
	}
	g.BeginTxn("1", 1, 1)
	add(1, false)
	g.EndTxn()
	g.BeginTxn("2", 2, 2)
	add(2, false)
	add(3, true)
	savepoint := g.Mark()
	add(4, false)
	add(5, true)
	require.True(t, g.Discard(savepoint))
	add(6, false)
	g.EndTxn()
	got := g.Take("2").Batches[0]
	require.Equal(t, []int64{1, 2, 6}, ids(got))
	require.Len(t, got.Aside, 1)
	require.Equal(t, "3", got.Aside[0].Key)
	require.EqualValues(t, 4, got.Read(false))

	g.BeginTxn("3", 3, 3)
	first := g.Mark()
	add(7, false)
	require.True(t, g.Discard(first))
	g.EndTxn()
	require.Empty(t, ids(g.Take("3").Batches[0]))
	g.BeginTxn("4", 4, 4)
	first = g.Mark()
	add(8, false)
	g.Take("3")
	add(9, false)
	require.False(t, g.Discard(first), "a part of it was handed over")
}

// Changes of one table have numbers of their own within a transaction: those that wait are sorted by them.
func TestNoTwoChangesHaveOneNumber(t *testing.T) {
	g := source.NewGathering(change.Clock{})
	g.BeginTxn("1", 1, 0)
	g.Count()
	seen := map[int32]bool{}
	for _, kind := range []change.Kind{change.Left, change.Came, change.RefFrom, change.RefTo, change.RefDeleted,
		change.RefNull,
		change.RefFrom, change.RefTo} {
		r, err := g.Row(kind)
		require.NoError(t, err)
		require.False(t, seen[r.Seq], "%v", kind)
		seen[r.Seq] = true
	}
}
