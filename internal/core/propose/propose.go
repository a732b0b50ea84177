// Package propose says how the tables of a source may be brought, and why, from what is known of them.
package propose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
)

// Facts are what is known of a table before it is brought.
type Facts struct {
	Table   schema.Table
	Log     bool     // the source's log can be followed, and tells all of the table
	Indexed []string // columns that an index begins with
	Sample  [][]*string
}

// Proposal is a table as a feed file may have it, and the reasons.
type Proposal struct {
	Table   feed.Table
	Rows    int64  // the source's own estimate; -1 where it has none
	Why     string // it is found and kept so; sentences
	Private []Private
}

// Private is a column whose values look as if not everybody may see them.
type Private struct {
	Column    string
	Looks     string         // what it looks like, as the end of a sentence
	Treatment feed.Treatment // none where there is no telling which
}

// Up to so many rows a table is read whole rather than compared, and compared rather than read by a column
// that does not show updates.
const (
	few  = 10_000
	many = 50_000_000
)

// Table proposes how a table is brought. Its private columns are hashed with the key of a name.
func Table(f Facts, key string) Proposal {
	p := Proposal{Table: feed.Table{Table: f.Table.Name.Display()}, Rows: f.Table.Rows}
	p.find(f)
	for _, c := range f.Table.Columns {
		x, ok := private(c, valuesOf(f, c), key)
		if !ok {
			continue
		}
		if slices.Contains(f.Table.Key, c.Name) && x.Treatment.Hash == "" { // what names a row must tell it from others
			x.Treatment = feed.Treatment{Hash: key}
		}
		p.Private = append(p.Private, x)
		switch {
		case x.Treatment.Drop:
			p.Table.Drop = append(p.Table.Drop, c.Name)
		case x.Treatment.Hash != "" || x.Treatment.Mask != "":
			if p.Table.Columns == nil {
				p.Table.Columns = map[string]feed.Treatment{}
			}
			p.Table.Columns[c.Name] = x.Treatment
		}
	}
	return p
}

// find proposes how changes are found and rows kept.
func (p *Proposal) find(f Facts) {
	keyed, rows := len(f.Table.Key) > 0, f.Table.Rows
	stamp, shows, ok := f.stamp()
	set := func(find feed.Find, keep feed.Keep, why string) { p.Table.Find, p.Table.Keep, p.Why = find, keep, why }
	switch {
	case f.Table.View && !keyed:
		set(feed.FindWhole, feed.KeepReplace, "It is a view, or a foreign table: it has no log and no key. Each run reads "+
			"it whole.")
	case f.Log && keyed:
		set(feed.FindLog, feed.KeepLatest, "The log tells of its inserts, updates and deletes, and its key ("+
			strings.Join(f.Table.Key, ", ")+") tells its rows apart.")
	case !keyed && ok && !shows && rows > few:
		set(feed.FindWatermark, feed.KeepLedger, "It has no key. "+stamp.Column+" rises with each row that comes, so rows "+
			"are kept as they come; what is changed or deleted later is not seen.")
	case !keyed:
		set(feed.FindWhole, feed.KeepReplace, "It has no key that tells its rows apart. Each run reads it whole.")
	case rows >= 0 && rows <= few:
		set(feed.FindWhole, feed.KeepLatest, fmt.Sprintf("It has about %d rows: each run reads it whole, and sees "+
			"every change and delete.", rows))
	case ok && shows:
		set(feed.FindWatermark, feed.KeepLatest, "Its column "+stamp.Column+" rises when a row is changed. Once a day "+
			"keys are compared, which finds what was deleted.")
		p.Table.Sweep = "1d"
	case ok && rows > many:
		set(feed.FindWatermark, feed.KeepLatest, "Its column "+stamp.Column+" rises with each row that comes. Once a day "+
			"keys are compared, which finds what was deleted; what is changed later is not seen: it has too many rows "+
			"to be compared.")
		p.Table.Sweep = "1d"
	default:
		set(feed.FindCompare, feed.KeepLatest, "No column shows when a row was changed. The source gives digests of "+
			"ranges of its key, and those that differ are read.")
	}
	if p.Table.Find != feed.FindWatermark {
		return
	}
	p.Table.Watermark = &stamp
	if !slices.Contains(f.Indexed, stamp.Column) || stamp.Fallback != "" {
		p.Why += " No index begins with it, so each run reads the whole table at the source."
	}
}

// What columns are called that rise: when a row is changed, or comes.
var (
	changedWords = []string{"updated", "modified", "changed", "touched", "edited", "mtime", "lastupdate", "lastchange",
		"lastmodified"}
	cameWords = []string{"created", "inserted", "added", "entered", "ctime", "logged", "recorded"}
)

// stamp is the column that shows best which rows are new, and whether it shows those that were changed,
// too; ok is false where there is none.
func (f Facts) stamp() (stamp feed.Watermark, shows, ok bool) {
	best := -1
	var came string
	for _, c := range f.Table.Columns {
		timed := window.Timed(c.Type.Kind) && c.Type.Kind != schema.Date
		words := words(c.Name)
		changes, comes := timed && has(words, changedWords), timed && has(words, cameWords)
		counts := len(f.Table.Key) == 1 && f.Table.Key[0] == c.Name && isWhole(c.Type)
		if comes && !c.Nullable && came == "" {
			came = c.Name
		}
		score := 0
		switch {
		case changes:
			score = 100
		case comes, counts:
			score = 10
		default:
			continue
		}
		if slices.Contains(f.Indexed, c.Name) {
			score += 4
		}
		if !c.Nullable {
			score += 2
		}
		if c.Type.Kind == schema.TimestampTZ {
			score++
		}
		if score > best {
			best, shows, ok = score, changes, true
			stamp = feed.Watermark{Column: c.Name}
		}
	}
	if c, there := f.Table.Column(stamp.Column); there && c.Nullable {
		if other, has := f.Table.Column(came); !shows || !has || other.Type != c.Type {
			return stamp, shows, false // rows without it would not be brought
		}
		stamp.Fallback = came
	}
	return stamp, shows, ok
}

func isWhole(t schema.Type) bool {
	return t.Kind == schema.Int16 || t.Kind == schema.Int32 || t.Kind == schema.Int64
}

// words are the words of a column's name, in lower case: of cardNumber and card_number card and number.
func words(name string) (list []string) {
	start := 0
	cut := func(end int) {
		if end > start {
			list = append(list, strings.ToLower(name[start:end]))
		}
		start = end
	}
	for i, r := range name {
		switch {
		case r == '_' || r == '-' || r == ' ' || r == '.':
			cut(i)
			start = i + 1
		case r >= 'A' && r <= 'Z' && i > 0 && name[i-1] >= 'a' && name[i-1] <= 'z':
			cut(i)
		}
	}
	cut(len(name))
	return list
}

// has tells whether one of some words stands in a name, or two of its words together are one.
func has(words, any []string) bool {
	for i, w := range words {
		if slices.Contains(any, w) || i+1 < len(words) && slices.Contains(any, w+words[i+1]) {
			return true
		}
	}
	return false
}

// valuesOf are the values of a column in the sample that are there.
func valuesOf(f Facts, c schema.Column) (values []string) {
	at := slices.IndexFunc(f.Table.Columns, func(x schema.Column) bool { return x.Name == c.Name })
	for _, row := range f.Sample {
		if at < len(row) && row[at] != nil && *row[at] != "" {
			values = append(values, *row[at])
		}
	}
	return values
}

// Feed makes a feed of proposals: one that follows the log as far as it can, and reads the rest every so
// often.
func Feed(name, source, warehouse string, proposals []Proposal) *feed.Feed {
	f := &feed.Feed{Name: name, Source: source, Warehouse: warehouse}
	for _, p := range proposals {
		f.Tables = append(f.Tables, p.Table)
		if p.Table.Find == feed.FindLog {
			f.Freshness = "1m"
		} else {
			f.Every = "15m"
		}
	}
	slices.SortStableFunc(f.Tables, func(a, b feed.Table) int { return cmp.Compare(a.Table, b.Table) })
	return f
}
