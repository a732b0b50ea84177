package sqlmerge

import (
	"fmt"
	"hash/fnv"
	"regexp"
	"strings"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// StageName names the stage of a target. The name depends on its columns, too, so that a
// connection can use a stage again as long as they are the same.
func StageName(t warehouse.Target) string {
	h := fnv.New64a()
	_, _ = fmt.Fprint(h, t.Name.Quoted())
	for _, c := range warehouse.StageColumns(t) {
		_, _ = fmt.Fprintf(h, "%s\x00%s\x00", c.Name, c.Type)
	}
	return fmt.Sprintf("noemata_stage_%016x", h.Sum64())
}

// TypeName is the warehouse's name of a type.
func (d Dialect) TypeName(t schema.Type) string {
	if t.Kind == schema.Decimal {
		return fmt.Sprintf("DECIMAL(%d,%d)", t.Precision, t.Scale)
	}
	return d.Types[t.Kind]
}

// CreateTable makes a target.
func (d Dialect) CreateTable(t warehouse.Target) string {
	sql := d.CreateTableOf(t.Name, t.All())
	if t.Keep == feed.KeepLatest || t.Keep == feed.KeepSoftDelete {
		sql += d.Updated
	}
	return sql
}

// CreateTableOf makes a table of the given columns.
func (d Dialect) CreateTableOf(name schema.Name, columns []schema.Column) string {
	var list []string
	for _, c := range columns {
		list = append(list, "    "+schema.Quote(c.Name)+" "+d.TypeName(c.Type))
	}
	return fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (\n%s\n)", name.Quoted(), strings.Join(list, ",\n"))
}

// CreateStage makes the temporary table for a target's rows.
func (d Dialect) CreateStage(t warehouse.Target) string {
	var columns []string
	for _, c := range warehouse.StageColumns(t) {
		columns = append(columns, schema.Quote(c.Name)+" "+d.TypeName(c.Type))
	}
	return fmt.Sprintf("CREATE TEMPORARY TABLE IF NOT EXISTS %s (%s)%s", StageName(t), strings.Join(columns, ", "),
		d.Stage)
}

// Keys makes the indexes that merges need, where the warehouse has any.
func (d Dialect) Keys(t warehouse.Target) []string {
	if d.Indexes == "" || len(t.Key) == 0 {
		return nil
	}
	h := fnv.New64a()
	_, _ = fmt.Fprint(h, t.Name.Quoted()+"\x00"+schema.QuoteAll("", t.Key))
	index := func(kind, name, columns, where string) string {
		return fmt.Sprintf("CREATE %sINDEX IF NOT EXISTS nm_%s_%016x ON %s (%s)%s", kind, name, h.Sum64(),
			t.Name.Quoted(), columns, where)
	}
	switch t.Keep {
	case feed.KeepLatest, feed.KeepSoftDelete:
		return []string{index("UNIQUE ", "key", schema.QuoteAll("", t.Key), "")}
	case feed.KeepHistory:
		return []string{index("UNIQUE ", "current", schema.QuoteAll("", t.Key), " WHERE "+
			schema.Quote(t.Called(warehouse.Current)))}
	case feed.KeepLedger:
		if t.Log {
			return []string{index("", "key",
				schema.QuoteAll("", append(append([]string{}, t.Key...), t.Called(warehouse.Position))), "")}
		}
	}
	return nil
}

// ourIndex matches the names of indexes that Keys makes.
var ourIndex = regexp.MustCompile(`^nm_(key|current)_[0-9a-f]{16}$`)

// indexName is the name of the index that a statement of Keys makes.
func indexName(create string) string {
	_, rest, _ := strings.Cut(create, " IF NOT EXISTS ")
	name, _, _ := strings.Cut(rest, " ")
	return name
}

// Misfit tells what keeps an existing table from being the target.
func (d Dialect) Misfit(t warehouse.Target, existing map[string]string, normal func(typeName string) string) error {
	var missing, other, mend, columns []string
	for _, c := range t.All() {
		have, ok := existing[c.Name]
		want := d.TypeName(c.Type)
		switch {
		case !ok:
			missing, columns = append(missing, c.Name), append(columns, c.Name)
			mend = append(mend, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s;", t.Name.Quoted(), schema.Quote(c.Name),
				want))
		case normal(have) != normal(want):
			other = append(other, fmt.Sprintf("%s is %s and must be %s", c.Name, have, want))
			columns = append(columns, c.Name)
			mend = append(mend, d.Convert(t.Name.Quoted(), schema.Quote(c.Name), want)+";")
		}
	}
	if missing == nil && other == nil {
		return nil
	}
	said := ""
	if missing != nil {
		said = " It lacks " + strings.Join(missing, ", ") + "."
	}
	if other != nil {
		said += " " + strings.Join(other, "; ") + "."
	}
	remedy := strings.Join(mend, " ") + " Then have older rows read again, which have no values in it yet: noemata " +
		"positions clear FEED TABLE"
	if t.Log {
		remedy = "Copy the table again, which makes the target fit: noemata feeds copy FEED --table TABLE."
	}
	kind := drift.Columns
	if other != nil {
		kind = drift.Types
	}
	return drift.OfColumns(kind, columns, problem.Newf(problem.Held, remedy,
		"The target table %s does not have the columns that the source has now.%s", t.Name, said))
}
