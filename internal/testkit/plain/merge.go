package plain

import (
	"context"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Merge brings what was gathered into the target, row by row.
func (p *part) Merge(_ context.Context, h warehouse.Has) error {
	stage := p.stage
	p.stage = nil
	t := p.commit.state.tables[p.t.Name].clone()
	if p.load.Direct {
		t.rows = append(t.rows, p.own(stage)...)
		p.books.Inserted += int64(len(stage))
		p.commit.state.tables[p.t.Name] = t
		return nil
	}
	if warehouse.NumbersRows(p.t) {
		stage = p.lastOfKey(stage)
	}
	if h.Replays > 0 {
		stage = p.dropReplayed(stage, t.rows)
	}
	if p.t.Log {
		var err error
		if stage, err = p.fill(stage, t, h); err != nil {
			return err
		}
	}
	switch p.t.Keep {
	case feed.KeepReplace:
		t.rows = p.replace(stage, t.rows)
	case feed.KeepLedger:
		t.rows = append(t.rows, p.own(p.news(stage, t.rows))...)
	case feed.KeepHistory:
		t.rows = p.history(stage, t.rows, h)
	default:
		t.rows = p.latest(stage, t.rows)
	}
	p.commit.state.tables[p.t.Name] = t
	return nil
}

// own are rows with the columns of the target alone.
func (p *part) own(list []row) []row {
	out := make([]row, len(list))
	for i, r := range list {
		out[i] = row{}
		for _, c := range p.t.All() {
			if v, ok := r[c.Name]; ok {
				out[i][c.Name] = v
			}
		}
	}
	return out
}

// whole is all values of a row, but for some columns, as text.
func whole(columns []schema.Column, r row, but string) string {
	var text strings.Builder
	for _, c := range columns {
		if c.Name != but {
			text.WriteString(c.Name + "=" + r[c.Name].text + "\x00")
			if r.null(c.Name) {
				text.WriteString("null\x00")
			}
		}
	}
	return text.String()
}

func (p *part) values(r row) string { return whole(p.t.Values(), r, "") }

func is(r row, column string) bool { return r[column].text == "true" }

// lastOfKey leaves the last row of each key.
func (p *part) lastOfKey(stage []row) []row {
	last := map[string]int{}
	for i, r := range stage {
		if !is(r, warehouse.StageGone) || !r.null(warehouse.StageRow) {
			last[keyOf(p.t, r)] = i
		}
	}
	var out []row
	for i, r := range stage {
		if at, ok := last[keyOf(p.t, r)]; !ok || at == i {
			out = append(out, r)
		} else {
			p.books.Folded++
		}
	}
	return out
}

// fill takes unknown values from the row that the change was made to. A change without one
// is set aside.
func (p *part) fill(stage []row, t table, h warehouse.Has) ([]row, error) {
	var out []row
	for _, r := range stage {
		if r.null(warehouse.StageUnknown) {
			out = append(out, r)
			continue
		}
		parts := make([]string, len(p.t.Key))
		for i := range p.t.Key {
			parts[i] = r[warehouse.StageBase(i)].text
		}
		var base row
		for _, b := range t.rows {
			newer := base == nil || p.t.Keep != feed.KeepLedger ||
				b[p.t.Called(warehouse.Position)].text > base[p.t.Called(warehouse.Position)].text
			if keyOf(p.t, b) == rows.KeyJSON(parts) && (p.t.Keep != feed.KeepHistory || holds(p.t, b)) && newer {
				base = b
			}
		}
		moment := p.t.Called(warehouse.MomentOf(p.t))
		if base != nil && h.Replays > 0 && (p.t.Keep == feed.KeepLedger && r[moment].micros() <= h.Replays ||
			p.t.Keep != feed.KeepLedger && base[moment].micros() >= r[moment].micros()) {
			base = nil
		}
		if base != nil && p.t.Filters {
			ended := p.t.Keep == feed.KeepLedger && base[p.t.Called(warehouse.Changed)].text == "delete" ||
				p.t.Keep == feed.KeepSoftDelete && !base.null(p.t.Called(warehouse.DeletedAt))
			if ended && r[warehouse.StageGone].text != "true" {
				base = nil
			}
		}
		if base == nil {
			a := rows.Aside{Row: map[string]*string{}, Key: keyOf(p.t, r),
				Reason: "There is no row to take unknown values from."}
			if err := p.SetAside([]rows.Aside{a}); err != nil {
				return nil, err
			}
			continue
		}
		r = maps.Clone(r)
		for i, c := range p.t.Values() {
			if r[warehouse.StageUnknown].text[i] == '1' {
				r[c.Name] = base[c.Name]
			}
		}
		out = append(out, r)
	}
	return out, nil
}

// latest leaves one row of each key: as it is now, or, for soft-delete, as it last was.
func (p *part) latest(stage, list []row) []row {
	deletedAt := p.t.Called(warehouse.DeletedAt)
	at := map[string]int{}
	for i, r := range list {
		at[keyOf(p.t, r)] = i
	}
	for _, r := range stage {
		key := keyOf(p.t, r)
		i, there := at[key]
		gone, keyOnly := is(r, warehouse.StageGone), is(r, warehouse.StageKeyOnly)
		soft := p.t.Keep == feed.KeepSoftDelete
		counted := &p.books.Updated
		if gone {
			counted = &p.books.Deleted
		}
		switch {
		case gone && !soft && there:
			list[i] = nil
			delete(at, key)
			*counted++
		case gone && !soft, gone && keyOnly && !there:
		case gone && keyOnly:
			if list[i].null(deletedAt) {
				other := row{}
				for _, role := range []warehouse.Role{warehouse.DeletedAt, warehouse.ChangedAt, warehouse.Run} {
					other[p.t.Called(role)] = r[p.t.Called(role)]
				}
				list[i] = p.with(list[i], other)
				*counted++
			}
		case !there:
			at[key] = len(list)
			list = append(list, p.own([]row{r})[0])
			if gone {
				p.books.Deleted++
			} else {
				p.books.Inserted++
			}
		case p.values(list[i]) != p.values(r) || soft && list[i].null(deletedAt) != r.null(deletedAt):
			list[i] = p.own([]row{r})[0]
			*counted++
		}
	}
	return slices.DeleteFunc(list, func(r row) bool { return r == nil })
}

// replace puts the rows in the place of what was there, unless they are the same.
func (p *part) replace(stage, list []row) []row {
	had := map[string]int{}
	for _, r := range list {
		had[p.values(r)]++
	}
	same := int64(0)
	for _, r := range stage {
		if had[p.values(r)] > 0 {
			had[p.values(r)]--
			same++
		}
	}
	n, before := int64(len(stage)), int64(len(list))
	if n == same && before == same {
		return list
	}
	p.books.Inserted += n - same
	p.books.Deleted += before - same
	p.books.Read += before - same
	return p.own(stage)
}

// dropReplayed leaves out the changes that were merged before.
func (p *part) dropReplayed(stage, list []row) []row {
	ledger, moment := p.t.Keep == feed.KeepLedger, p.t.Called(warehouse.MomentOf(p.t))
	position, run, until := p.t.Called(warehouse.Position), p.t.Called(warehouse.Run), p.t.Called(warehouse.Until)
	name := func(r row) string {
		if at := r[position].text; ledger {
			return at[:max(0, len(at)-change.SeqWidth)]
		}
		return keyOf(p.t, r)
	}
	last := map[string]int64{}
	for _, r := range list {
		if !ledger {
			last[name(r)] = max(last[name(r)], r[moment].micros(), r[until].micros())
		} else if r[run].text != strconv.FormatInt(p.load.Run, 10) {
			last[name(r)] = math.MaxInt64
		}
	}
	return slices.DeleteFunc(slices.Clone(stage), func(r row) bool { return last[name(r)] >= r[moment].micros() })
}

// news are the rows that a ledger lacks: events after its last one, or rows that it does not
// have as often.
func (p *part) news(stage, list []row) []row {
	run := p.t.Called(warehouse.Run)
	var out []row
	if p.t.Log {
		out = stage
	} else {
		had := map[string]int{}
		for _, r := range list {
			had[whole(p.t.All(), r, run)]++
		}
		for _, r := range stage {
			if text := whole(p.t.All(), r, run); had[text] > 0 {
				had[text]--
			} else {
				out = append(out, r)
			}
		}
	}
	p.books.Inserted += int64(len(out))
	return out
}

// history closes the versions that have ended and adds the new ones.
func (p *part) history(stage, list []row, h warehouse.Has) []row {
	from, until, current := p.t.Called(warehouse.From), p.t.Called(warehouse.Until), p.t.Called(warehouse.Current)
	versions := map[string][]int{}
	for i, r := range list {
		versions[keyOf(p.t, r)] = append(versions[keyOf(p.t, r)], i)
	}
	slices.SortStableFunc(stage, func(a, b row) int { return int(a[from].micros() - b[from].micros()) })
	firsts := map[string]bool{} // keys of which a row was merged
	for _, r := range stage {
		key, gone := keyOf(p.t, r), is(r, warehouse.StageGone)
		at := -1 // the current version
		ended := int64(0)
		for _, i := range versions[key] {
			if list[i] == nil {
				continue
			}
			if is(list[i], current) {
				at = i
			}
			ended = max(ended, list[i][until].micros())
		}
		if !p.t.Log {
			moment := r[from].micros()
			if at >= 0 && moment <= list[at][from].micros() && (gone || p.values(list[at]) != p.values(r)) {
				moment = list[at][from].micros() + 1
			}
			r = p.with(r, row{from: instant(max(moment, ended))})
		}
		if !firsts[key] {
			if h.Continues {
				at = p.remake(list, versions[key], at, r)
			}
			if !gone && at >= 0 && p.values(list[at]) == p.values(r) {
				continue
			}
			if at >= 0 {
				list[at] = p.with(list[at], row{until: r[from], current: truth(false)})
				p.countEnd(gone)
			}
			firsts[key] = true
		} else if gone || r[warehouse.StageOrder].text == strconv.Itoa(int(fold.AfterRow)) {
			p.countEnd(gone)
		}
		if !gone {
			list = append(list, p.own([]row{r})[0])
			p.books.Inserted++
		}
	}
	return slices.DeleteFunc(list, func(r row) bool { return r == nil })
}

// countEnd counts a version that has ended: for good, or for another one.
func (p *part) countEnd(gone bool) {
	if gone {
		p.books.Deleted++
	} else {
		p.books.Updated++
		p.books.Inserted--
	}
}

// remake undoes what the first part of a transaction made of a key, and gives the version
// that is current then.
func (p *part) remake(list []row, versions []int, at int, r row) int {
	from, until, current := p.t.Called(warehouse.From), p.t.Called(warehouse.Until), p.t.Called(warehouse.Current)
	if at >= 0 && list[at][from].micros() == r[from].micros() {
		list[at] = nil
		at = -1
	}
	if is(r, warehouse.StageGone) {
		return at
	}
	for _, i := range versions {
		if list[i] != nil && !list[i].null(until) && list[i][until].micros() == r[from].micros() &&
			p.values(list[i]) == p.values(r) {
			list[i] = p.with(list[i], row{current: truth(true)})
			delete(list[i], until)
			at = i
		}
	}
	return at
}
