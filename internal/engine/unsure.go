package engine

import (
	"cmp"
	"maps"
	"slices"

	"noemata/internal/core/change"
	"noemata/internal/core/rows"
)

// unsure goes through the changes of a batch in their order, and takes those out that leave out values of
// a row that is set aside: what they are is not known, and the warehouse has those of before. before are
// the keys that were set aside before the batch. It gives the rows that are after it, and how many
// changes more had to be set aside on the way.
func unsure(t *logTable, b change.Batch, before map[string]bool) (after []rows.Aside, passed int64) {
	if len(b.Aside)+len(before) == 0 || len(t.keyAt) == 0 {
		return b.Aside, 0
	}
	order := make([]int, len(b.Aside))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(i, k int) int { return inLog(b.AsideAt[i], b.AsideAt[k]) })
	now := map[string]*rows.Aside{} // by key, what it is set aside as in this batch
	set := func(key string, a *rows.Aside) {
		if now[key] != nil {
			passed++
		}
		now[key], before[key] = a, a != nil
	}
	asidesTo := func(r *change.Row) {
		for ; len(order) > 0 && (r == nil || inLog(b.AsideAt[order[0]], *r) < 0); order = order[1:] {
			if a := &b.Aside[order[0]]; a.Key != "" {
				set(a.Key, a)
			} else {
				after = append(after, *a)
			}
		}
	}
	left := false // of a key that is set aside
	for i := range b.Rows {
		r := &b.Rows[i]
		asidesTo(r)
		switch r.Kind {
		case 0:
			continue
		case change.Truncate:
			for key := range before {
				set(key, nil)
			}
			continue
		}
		key := rows.KeyText(b.Record, i, t.shape.Arrives().Columns, t.keyAt)
		is := before[key]
		if r.Kind == change.Came {
			is = left
		}
		left = r.Kind == change.Left && is
		switch {
		case r.Unknown == 0 || !is:
			set(key, nil)
			continue
		case r.Kind == change.Came:
			set(key, keyAside(t, b, i))
		default:
			passed++
		}
		r.Kind = 0
	}
	asidesTo(nil)
	for _, key := range slices.Sorted(maps.Keys(now)) {
		if now[key] != nil {
			after = append(after, *now[key])
		}
	}
	return after, passed
}

// inLog compares the places of two changes in the log.
func inLog(a, b change.Row) int { return cmp.Or(cmp.Compare(a.Txn, b.Txn), cmp.Compare(a.Seq, b.Seq)) }

// keyAside is a row of which no more is known than its key.
func keyAside(t *logTable, b change.Batch, i int) *rows.Aside {
	columns := t.shape.Arrives().Columns
	parts := rows.Key(b.Record, i, columns, t.keyAt)
	a := rows.Aside{Key: rows.KeyJSON(parts), Row: map[string]*string{}, Reason: "Its key was changed while the row " +
		"was set aside, by a change that leaves its other values out. It comes in when it is written whole, or when " +
		"the table is copied again."}
	for k, at := range t.keyAt {
		a.Row[columns[at].Name] = &parts[k]
	}
	return &a
}
