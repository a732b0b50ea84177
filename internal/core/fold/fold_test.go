package fold_test

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/schema"
)

var keeps = []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory, feed.KeepLedger}

// op is one change of a transaction; a value "~" is left out of the log.
type op struct {
	kind     string // insert, update, delete, move or truncate
	key, new string // new is the key that a move leads to
	values   [2]string
}

type history [][]op // by transaction

var columns = []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Text}},
	{Name: "state", Type: schema.Type{Kind: schema.Text}}, {Name: "shelf", Type: schema.Type{Kind: schema.Text}}}

// batchOf makes a batch of some changes of a history, which begin with the change at a
// place counted over all transactions.
func batchOf(h history, from, to int) change.Batch {
	b := change.Batch{}
	builder := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	put := func(kind change.Kind, seq int, values ...string) {
		r := change.Row{Kind: kind, Txn: int32(len(b.Txns) - 1), Seq: int32(seq)}
		for i := range columns {
			if i < len(values) && values[i] != "~" {
				builder.Field(i).(*array.StringBuilder).Append(values[i])
				continue
			}
			builder.Field(i).AppendNull()
			if i < len(values) {
				mask := make([]bool, len(columns))
				mask[i] = true
				if r.Unknown > 0 {
					b.Unknown[r.Unknown-1][i] = true
					continue
				}
				b.Unknown = append(b.Unknown, mask)
				r.Unknown = int32(len(b.Unknown))
			}
		}
		b.Rows = append(b.Rows, r)
	}
	at := 0
	for n, txn := range h {
		begun := false
		for seq, o := range txn {
			if at >= from && at < to {
				if !begun {
					b.Txns = append(b.Txns,
						change.Txn{Position: fmt.Sprintf("%04d", n+1), ID: uint32(n + 1), Moment: int64(n + 1)})
					begun = true
				}
				switch o.kind {
				case "insert":
					put(change.Insert, seq, o.key, o.values[0], o.values[1])
				case "update":
					put(change.Update, seq, o.key, o.values[0], o.values[1])
				case "delete":
					put(change.Delete, seq, o.key)
				case "truncate":
					put(change.Truncate, seq)
				case "move":
					put(change.Left, seq, o.key)
					put(change.Came, seq, o.new, o.values[0], o.values[1])
				}
			}
			at++
		}
	}
	b.Record = builder.NewRecordBatch()
	return b
}

// version is a row of a history, or, with until alone, of soft-delete.
type version struct {
	values      [2]string
	from, until int64 // until is 0 while it holds
}

// house is a warehouse as simple as can be: for each key its versions, the last one the
// current row; and the events. It merges what a fold has left as the real ones do.
type house struct {
	keep   feed.Keep
	rows   map[string][]version
	events []string
}

func (w *house) current(key string) *version {
	list := w.rows[key]
	if len(list) == 0 || list[len(list)-1].until != 0 && w.keep != feed.KeepSoftDelete {
		return nil
	}
	return &list[len(list)-1]
}

func text(b change.Batch, column, row int) string {
	return b.Record.Column(column).(*array.String).Value(row)
}

// apply folds a batch and merges it. goes tells that its first transaction began before.
func (w *house) apply(b change.Batch, goes bool) {
	known := maps.Clone(w.rows) // what unknown values are taken from
	for i, s := range fold.Fold(b, []int{0}, w.keep) {
		if i > 0 {
			known = maps.Clone(w.rows)
		}
		if s.Empties >= 0 {
			w.truncate(b.Txns[s.Empties].Moment)
		}
		for _, r := range s.Rows {
			w.put(b, r, known, goes || s.Again)
		}
	}
}

func (w *house) truncate(at int64) {
	for key := range w.rows {
		c := w.current(key)
		switch {
		case w.keep == feed.KeepLatest:
			delete(w.rows, key)
		case c == nil || c.until != 0:
		case w.keep == feed.KeepHistory && c.from == at:
			if w.rows[key] = w.rows[key][:len(w.rows[key])-1]; len(w.rows[key]) == 0 {
				delete(w.rows, key)
			}
		default:
			list := slices.Clone(w.rows[key])
			list[len(list)-1].until = at
			w.rows[key] = list
		}
	}
}

func (w *house) put(b change.Batch, r fold.Row, known map[string][]version, again bool) {
	key := text(b, 0, int(r.Change))
	at := b.Txns[r.Txn].Moment
	x := version{from: at}
	for c := range x.values {
		from := r.Change
		if r.From != nil {
			from = r.From[c+1]
		}
		if from >= 0 {
			x.values[c] = text(b, c+1, int(from))
		} else if base := known[text(b, 0, int(r.Base))]; len(base) > 0 {
			x.values[c] = base[len(base)-1].values[c]
		} else {
			x.values[c] = "nothing known"
		}
	}
	if r.Until >= 0 {
		x.until = b.Txns[r.Until].Moment
	}
	list := slices.Clone(w.rows[key])
	switch w.keep {
	case feed.KeepLedger:
		w.event(b, r, key, x)
	case feed.KeepLatest:
		delete(w.rows, key)
		if !r.Gone {
			w.rows[key] = []version{x}
		}
	case feed.KeepSoftDelete:
		if r.Gone {
			x.until = at
			if r.KeyOnly && len(list) == 0 {
				return
			} else if r.KeyOnly {
				x.values = list[0].values
				if list[0].until != 0 {
					return
				}
			}
		}
		w.rows[key] = []version{x}
	case feed.KeepHistory:
		last := func() *version { return &list[len(list)-1] }
		if again && len(list) > 0 && last().until == 0 && last().from == at {
			list = list[:len(list)-1]
		}
		if again && !r.Gone && len(list) > 0 && last().until == at && last().values == x.values {
			last().until = 0
		}
		holds := len(list) > 0 && last().until == 0
		switch {
		case r.Gone:
			if holds {
				last().until = at
			}
		case holds && last().values == x.values:
			last().until = x.until
		default:
			if holds {
				last().until = at
			}
			list = append(list, x)
		}
		if w.rows[key] = list; len(list) == 0 {
			delete(w.rows, key)
		}
	}
}

func (w *house) event(b change.Batch, r fold.Row, key string, x version) {
	kind := b.Rows[r.Change].Kind
	switch {
	case kind == change.Truncate:
		w.events = append(w.events, "truncate")
	case kind.Ends():
		w.events = append(w.events, "delete "+key)
		w.rows[key] = append(slices.Clone(w.rows[key]), version{values: w.lastValues(key)})
	default:
		name := "insert"
		if kind == change.Update {
			name = "update"
		}
		w.events = append(w.events, strings.Join([]string{name, key, x.values[0], x.values[1]}, " "))
		w.rows[key] = append(slices.Clone(w.rows[key]), x)
	}
}

func (w *house) lastValues(key string) [2]string {
	if list := w.rows[key]; len(list) > 0 {
		return list[len(list)-1].values
	}
	return [2]string{}
}

// String shows what the house holds, in the words of the scenarios.
func (w *house) String() string {
	if w.keep == feed.KeepLedger {
		return strings.Join(w.events, " | ")
	}
	var out []string
	for _, key := range slices.Sorted(maps.Keys(w.rows)) {
		for _, v := range w.rows[key] {
			s := fmt.Sprintf("%s %s %s", key, v.values[0], v.values[1])
			switch {
			case w.keep == feed.KeepHistory && v.until == 0:
				s += fmt.Sprintf(" %d-", v.from)
			case w.keep == feed.KeepHistory:
				s += fmt.Sprintf(" %d-%d", v.from, v.until)
			case v.until != 0:
				s += " gone"
			}
			out = append(out, s)
		}
	}
	return strings.Join(out, " | ")
}

// brought gives a house that a history was brought to in batches that end where cuts say.
func brought(h history, keep feed.Keep, cuts []int) *house {
	w := &house{keep: keep, rows: map[string][]version{}}
	total, ends := 0, map[int]bool{}
	for _, txn := range h {
		total += len(txn)
		ends[total] = true
	}
	from := 0
	for _, to := range append(slices.Clone(cuts), total) {
		if to > from {
			w.apply(batchOf(h, from, to), from > 0 && !ends[from])
			from = to
		}
	}
	return w
}

// Each scenario, brought at once, one change at a time, and one transaction at a time.
func TestScenarios(t *testing.T) {
	content, err := os.ReadFile("testdata/holds.txt")
	require.NoError(t, err)
	blocks := strings.Split(strings.TrimSpace(string(content)), "\n\n")
	for _, block := range blocks[1:] {
		lines := strings.Split(block, "\n")
		t.Run(lines[0], func(t *testing.T) {
			var h history
			for _, line := range lines[1:] {
				if rest, ok := strings.CutPrefix(line, "txn "); ok {
					var txn []op
					for part := range strings.SplitSeq(rest, ", ") {
						txn = append(txn, parseOp(part))
					}
					h = append(h, txn)
					continue
				}
				keep, want, _ := strings.Cut(line, ":")
				total := len(slices.Concat(h...))
				var each, whole []int
				for i := 1; i < total; i++ {
					each = append(each, i)
				}
				n := 0
				for _, txn := range h {
					n += len(txn)
					whole = append(whole, n)
				}
				for name, cuts := range map[string][]int{"at once": nil, "one by one": each, "by transaction": whole} {
					require.Equal(t, strings.TrimSpace(want), brought(h, feed.Keep(keep), cuts).String(), "%s, %s",
						keep, name)
				}
			}
		})
	}
}

func parseOp(s string) op {
	f := append(strings.Fields(s), "", "", "", "")
	if f[0] == "move" {
		return op{f[0], f[1], f[2], [2]string{f[3], f[4]}}
	}
	return op{f[0], f[1], "", [2]string{f[2], f[3]}}
}

// model is what each keep must hold, computed change by change, without batches.
func model(h history) map[feed.Keep]string {
	type row struct{ values [2]string }
	now := map[string]row{}
	soft := map[string]version{}
	past := map[string][]version{}
	var events []string
	for n, txn := range h {
		at := int64(n + 1)
		end := func(key string) {
			if r, ok := now[key]; ok {
				soft[key] = version{r.values, 0, at}
				delete(now, key)
			}
		}
		begin := func(kind, key string, was row, values [2]string) {
			for i, v := range values {
				if v == "~" {
					values[i] = was.values[i]
				}
			}
			now[key] = row{values}
			soft[key] = version{values, at, 0}
			events = append(events, strings.Join([]string{kind, key, values[0], values[1]}, " "))
		}
		for _, o := range txn {
			switch o.kind {
			case "truncate":
				events = append(events, "truncate")
				for key := range maps.Clone(now) {
					end(key)
				}
			case "delete":
				events = append(events, "delete "+o.key)
				end(o.key)
			case "move":
				was := now[o.key]
				events = append(events, "delete "+o.key)
				end(o.key)
				begin("insert", o.new, was, o.values)
			default:
				begin(o.kind, o.key, now[o.key], o.values)
			}
		}
		for key, list := range past {
			last := &list[len(list)-1]
			if r, ok := now[key]; last.until == 0 && (!ok || r.values != last.values) {
				last.until = at
			}
		}
		for key, r := range now {
			if list := past[key]; len(list) == 0 || list[len(list)-1].until != 0 {
				past[key] = append(list, version{r.values, at, 0})
			}
		}
	}
	latest := &house{keep: feed.KeepLatest, rows: map[string][]version{}}
	for key, r := range now {
		latest.rows[key] = []version{{values: r.values}}
	}
	flagged := &house{keep: feed.KeepSoftDelete, rows: map[string][]version{}}
	for key, v := range soft {
		flagged.rows[key] = []version{v}
	}
	return map[feed.Keep]string{feed.KeepLatest: latest.String(), feed.KeepSoftDelete: flagged.String(),
		feed.KeepHistory: (&house{keep: feed.KeepHistory, rows: past}).String(), feed.KeepLedger: strings.Join(events,
			" | ")}
}

// drawHistory makes a history that a source could have: keys are inserted where they are
// not, and changed where they are.
func drawHistory(t *rapid.T) history {
	var h history
	there := map[string]bool{}
	value := rapid.SampledFrom([]string{"a", "b", "c"})
	changed := rapid.SampledFrom([]string{"a", "b", "c", "~", "~"})
	key := rapid.SampledFrom([]string{"1", "2", "3", "4"})
	for range rapid.IntRange(1, 8).Draw(t, "transactions") {
		var txn []op
		for range rapid.IntRange(1, 6).Draw(t, "changes") {
			k, other := key.Draw(t, "key"), key.Draw(t, "other")
			switch n := rapid.IntRange(0, 19).Draw(t, "what"); {
			case n == 0:
				txn = append(txn, op{kind: "truncate"})
				there = map[string]bool{}
			case !there[k]:
				txn = append(txn, op{"insert", k, "", [2]string{value.Draw(t, "state"), value.Draw(t, "shelf")}})
				there[k] = true
			case n < 7:
				txn = append(txn, op{kind: "delete", key: k})
				delete(there, k)
			case n < 10 && !there[other]:
				txn = append(txn, op{"move", k, other, [2]string{changed.Draw(t, "state"), changed.Draw(t, "shelf")}})
				delete(there, k)
				there[other] = true
			default:
				txn = append(txn, op{"update", k, "", [2]string{changed.Draw(t, "state"), changed.Draw(t, "shelf")}})
			}
		}
		h = append(h, txn)
	}
	return h
}

// However a history is cut into batches, within transactions or between them, every keep
// ends as the model; and the unflagged rows, and the current ones, are the latest.
func TestEveryKeepEndsAsTheModelHoweverItIsCut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := drawHistory(t)
		want := model(h)
		cuts := rapid.SliceOfDistinct(rapid.IntRange(1, max(len(slices.Concat(h...))-1, 1)), rapid.ID[int]).Draw(t,
			"cuts")
		slices.Sort(cuts)
		for _, keep := range keeps {
			got := brought(h, keep, cuts)
			if got.String() != want[keep] {
				t.Fatalf("%s cut at %v\nhas  %s\nmust %s\nof %v", keep, cuts, got, want[keep], h)
			}
			if keep == feed.KeepLedger {
				continue
			}
			holds := &house{keep: feed.KeepLatest, rows: map[string][]version{}}
			for key, list := range got.rows {
				if last := list[len(list)-1]; last.until == 0 {
					holds.rows[key] = []version{{values: last.values}}
				}
				for i := 1; i < len(list); i++ {
					if list[i-1].until == 0 || list[i-1].until > list[i].from {
						t.Fatalf("versions of %s overlap: %v", key, list)
					}
				}
			}
			if holds.String() != want[feed.KeepLatest] {
				t.Fatalf("%s holds %s, and latest is %s", keep, holds, want[feed.KeepLatest])
			}
		}
	})
}

func TestClockOrdersTransactions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := change.Clock{}
		last := int64(0)
		for _, committed := range rapid.SliceOf(rapid.Int64Range(1, 50)).Draw(t, "commit times") {
			at := c.Next("", committed)
			if at <= last || at < committed {
				t.Fatalf("a commit at %d after the moment %d has the moment %d", committed, last, at)
			}
			last = at
		}
	})
}

// What is read again has no later moments than it had, wherever it begins; what is new comes after all that was.
func TestClockOfWhatIsReadAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		committed := rapid.SliceOfN(rapid.Int64Range(1, 50), 2, 30).Draw(t, "commit times")
		place := func(i int) string { return fmt.Sprintf("%04d", i) }
		first := change.Clock{}
		var moments []int64
		for i, at := range committed {
			if rapid.Bool().Draw(t, "a copy begins") {
				first.After(at + 7)
			}
			moments = append(moments, first.Next(place(i), at))
		}
		from := rapid.IntRange(0, len(committed)-1).Draw(t, "from")
		again := change.Clock{Replays: place(len(committed) - 1), Then: first.Last}
		for i, at := range committed[from:] {
			if rapid.Bool().Draw(t, "another copy begins") {
				again.After(at + 100)
			}
			if m := again.Next(place(from+i), at); m > moments[from+i] {
				t.Fatalf("the transaction at %d has the moment %d, and had %d", from+i, m, moments[from+i])
			}
		}
		if m := again.Next(place(len(committed)), 1); m <= first.Last {
			t.Fatalf("a new transaction has the moment %d, and the last one had %d", m, first.Last)
		}
	})
}
