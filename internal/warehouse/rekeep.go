package warehouse

import (
	"fmt"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// keptAs tells how an existing table was kept, by the columns that were added to it.
func keptAs(t Target, existing map[string]string) feed.Keep {
	has := func(name string) bool { _, ok := existing[name]; return name != "" && ok }
	n := t.Names
	switch {
	case has(n.From) && has(n.Until) && has(n.Current):
		return feed.KeepHistory
	case has(n.DeletedAt):
		return feed.KeepSoftDelete
	case has(n.Position):
		return feed.KeepLedger
	case has(n.ChangedAt):
		return feed.KeepLatest
	case has(n.Run):
		return feed.KeepReplace
	}
	return ""
}

// ChangeKeep gives the statements that turn an existing table into one of the target's
// keep, and says why where that cannot be. What a keep does not have is dropped with
// its rows; what an earlier keep did not record cannot be made up.
func (d Dialect) ChangeKeep(t Target, existing map[string]string) ([]string, error) {
	was := keptAs(t, existing)
	if was == t.Keep || was == "" {
		return nil, nil
	}
	if d.Remake {
		return d.remake(t, was)
	}
	table, n := t.Name.Quoted(), t.Names
	q := schema.Quote
	add := func(column string, kind schema.Kind) string {
		return fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, q(column), d.Types[kind])
	}
	drop := func(column string) string { return fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, q(column)) }
	toHistory := func(where string) []string {
		return []string{
			add(n.From, schema.TimestampTZ), add(n.Until, schema.TimestampTZ), add(n.Current, schema.Bool), add(n.Position, schema.Text),
			fmt.Sprintf("UPDATE %s SET %s = coalesce(%s, now()), %s = %s, %s = '' ", table, q(n.From), q(n.ChangedAt), q(n.Current), where, q(n.Position)),
		}
	}
	fromHistory := []string{
		fmt.Sprintf("DELETE FROM %s WHERE NOT %s", table, q(n.Current)),
		add(n.ChangedAt, schema.TimestampTZ), fmt.Sprintf("UPDATE %s SET %s = %s", table, q(n.ChangedAt), q(n.From)),
	}
	var dropIndexes []string
	for _, index := range d.Keys(Target{Name: t.Name, Key: t.Key, Keep: was, Names: n, Log: t.Log}) {
		dropIndexes = append(dropIndexes, dropIndex(t.Name.Schema, index))
	}
	dropHistory := []string{drop(n.From), drop(n.Until), drop(n.Current), drop(n.Position)}
	var steps []string
	switch {
	case was == feed.KeepLatest && t.Keep == feed.KeepSoftDelete:
		steps = []string{add(n.DeletedAt, schema.TimestampTZ)}
	case was == feed.KeepSoftDelete && t.Keep == feed.KeepLatest:
		steps = []string{fmt.Sprintf("DELETE FROM %s WHERE %s IS NOT NULL", table, q(n.DeletedAt)), drop(n.DeletedAt)}
	case was == feed.KeepLatest && t.Keep == feed.KeepHistory:
		steps = append(toHistory("true"), drop(n.ChangedAt))
	case was == feed.KeepSoftDelete && t.Keep == feed.KeepHistory:
		steps = append(toHistory(q(n.DeletedAt)+" IS NULL"), fmt.Sprintf("UPDATE %s SET %s = %s", table, q(n.Until), q(n.DeletedAt)), drop(n.ChangedAt), drop(n.DeletedAt))
	case was == feed.KeepHistory && t.Keep == feed.KeepLatest:
		steps = append(fromHistory, dropHistory...)
	case was == feed.KeepHistory && t.Keep == feed.KeepSoftDelete:
		steps = append(append(fromHistory, add(n.DeletedAt, schema.TimestampTZ)), dropHistory...)
	default:
		return nil, cannotRekeep(t, was)
	}
	return append(dropIndexes, append(steps, d.asOf(t)...)...), nil
}

// remake gives the statements that make a target anew from what it holds, for a database
// that cannot change a table and its rows in one transaction.
func (d Dialect) remake(t Target, was feed.Keep) ([]string, error) {
	n, q := t.Names, schema.Quote
	values, where := map[string]string{}, ""
	switch {
	case was == feed.KeepLatest && t.Keep == feed.KeepSoftDelete:
		values[n.DeletedAt] = "NULL"
	case was == feed.KeepSoftDelete && t.Keep == feed.KeepLatest:
		where = " WHERE " + q(n.DeletedAt) + " IS NULL"
	case was == feed.KeepLatest && t.Keep == feed.KeepHistory:
		values[n.Until], values[n.Current] = "NULL", "true"
	case was == feed.KeepSoftDelete && t.Keep == feed.KeepHistory:
		values[n.Until], values[n.Current] = q(n.DeletedAt), q(n.DeletedAt)+" IS NULL"
	case was == feed.KeepHistory && (t.Keep == feed.KeepLatest || t.Keep == feed.KeepSoftDelete):
		values[n.ChangedAt], values[n.DeletedAt], where = q(n.From), "NULL", " WHERE "+q(n.Current)
	default:
		return nil, cannotRekeep(t, was)
	}
	if t.Keep == feed.KeepHistory {
		values[n.From], values[n.Position] = "coalesce("+q(n.ChangedAt)+", now())", "''"
	}
	var list []string
	for _, c := range t.All() {
		value, changed := values[c.Name]
		if !changed {
			value = q(c.Name)
		}
		list = append(list, fmt.Sprintf("CAST(%s AS %s) AS %s", value, d.TypeName(c.Type), q(c.Name)))
	}
	return append([]string{
		fmt.Sprintf("CREATE TEMPORARY TABLE noemata_remade AS SELECT %s FROM %s%s", strings.Join(list, ", "), t.Name.Quoted(), where),
		"DROP TABLE " + t.Name.Quoted(), d.CreateTable(t), "INSERT INTO " + t.Name.Quoted() + " SELECT * FROM noemata_remade", "DROP TABLE noemata_remade",
	}, d.asOf(t)...), nil
}

func cannotRekeep(t Target, was feed.Keep) error {
	return problem.Newf(problem.Held, "Rename the table or choose another target, so that it is made and loaded anew after its position is cleared.",
		"The target table %s was kept as %s, and what %s needs cannot be made from that.", t.Name, was, t.Keep)
}

// dropIndex undoes a statement of Keys.
func dropIndex(in, create string) string {
	var kind, name string
	if _, err := fmt.Sscanf(create, "CREATE UNIQUE INDEX IF NOT EXISTS %s", &name); err != nil {
		_, _ = fmt.Sscanf(create, "CREATE %s IF NOT EXISTS %s", &kind, &name)
	}
	return "DROP INDEX IF EXISTS " + schema.Quote(in) + "." + name
}
