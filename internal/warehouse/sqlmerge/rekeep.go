package sqlmerge

import (
	"fmt"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// keptAs tells how an existing table was kept, by the columns that were added to it.
func keptAs(t warehouse.Target, existing map[string]string) feed.Keep {
	has := func(r warehouse.Role) bool { _, ok := existing[t.Called(r)]; return ok }
	switch {
	case has(warehouse.From) && has(warehouse.Until) && has(warehouse.Current):
		return feed.KeepHistory
	case has(warehouse.DeletedAt):
		return feed.KeepSoftDelete
	case has(warehouse.Position):
		return feed.KeepLedger
	case has(warehouse.ChangedAt):
		return feed.KeepLatest
	case has(warehouse.Run):
		return feed.KeepReplace
	}
	return ""
}

// ChangeKeep gives the statements that turn an existing table into one of the target's
// keep, and says why where that cannot be. What a keep does not have is dropped with
// its rows; what an earlier keep did not record cannot be made up.
func (d Dialect) ChangeKeep(t warehouse.Target, existing map[string]string) ([]string, error) {
	was := keptAs(t, existing)
	if was == t.Keep || was == "" {
		return nil, nil
	}
	if d.Remake {
		return d.remake(t, was)
	}
	table := t.Name.Quoted()
	q := func(r warehouse.Role) string { return schema.Quote(t.Called(r)) }
	add := func(r warehouse.Role) string {
		return fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, q(r), d.Types[r.Kind()])
	}
	drop := func(r warehouse.Role) string { return fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, q(r)) }
	toHistory := func(where string) []string {
		return []string{
			add(warehouse.From), add(warehouse.Until), add(warehouse.Current), add(warehouse.Position),
			fmt.Sprintf("UPDATE %s SET %s = coalesce(%s, now()), %s = %s, %s = '' ", table, q(warehouse.From),
				q(warehouse.ChangedAt), q(warehouse.Current), where, q(warehouse.Position)),
		}
	}
	fromHistory := []string{
		fmt.Sprintf("DELETE FROM %s WHERE NOT %s", table, q(warehouse.Current)),
		add(warehouse.ChangedAt), fmt.Sprintf("UPDATE %s SET %s = %s", table, q(warehouse.ChangedAt),
			q(warehouse.From)),
	}
	var dropIndexes []string
	for _, index := range d.Keys(warehouse.Target{Name: t.Name, Key: t.Key, Keep: was, Prefix: t.Prefix, Log: t.Log}) {
		dropIndexes = append(dropIndexes, dropIndex(t.Name.Schema, index))
	}
	dropHistory := []string{drop(warehouse.From), drop(warehouse.Until), drop(warehouse.Current),
		drop(warehouse.Position)}
	var steps []string
	switch {
	case was == feed.KeepLatest && t.Keep == feed.KeepSoftDelete:
		steps = []string{add(warehouse.DeletedAt)}
	case was == feed.KeepSoftDelete && t.Keep == feed.KeepLatest:
		steps = []string{fmt.Sprintf("DELETE FROM %s WHERE %s IS NOT NULL", table, q(warehouse.DeletedAt)),
			drop(warehouse.DeletedAt)}
	case was == feed.KeepLatest && t.Keep == feed.KeepHistory:
		steps = append(toHistory("true"), drop(warehouse.ChangedAt))
	case was == feed.KeepSoftDelete && t.Keep == feed.KeepHistory:
		steps = append(toHistory(q(warehouse.DeletedAt)+" IS NULL"),
			fmt.Sprintf("UPDATE %s SET %s = %s", table, q(warehouse.Until),
				q(warehouse.DeletedAt)), drop(warehouse.ChangedAt), drop(warehouse.DeletedAt))
	case was == feed.KeepHistory && t.Keep == feed.KeepLatest:
		steps = append(fromHistory, dropHistory...)
	case was == feed.KeepHistory && t.Keep == feed.KeepSoftDelete:
		steps = append(append(fromHistory, add(warehouse.DeletedAt)), dropHistory...)
	default:
		return nil, cannotRekeep(t, was)
	}
	return append(dropIndexes, append(steps, d.History(t)...)...), nil
}

// remake gives the statements that make a target anew from what it holds, for a database
// that cannot change a table and its rows in one transaction.
func (d Dialect) remake(t warehouse.Target, was feed.Keep) ([]string, error) {
	q := func(r warehouse.Role) string { return schema.Quote(t.Called(r)) }
	values, where := map[warehouse.Role]string{}, ""
	switch {
	case was == feed.KeepLatest && t.Keep == feed.KeepSoftDelete:
		values[warehouse.DeletedAt] = "NULL"
	case was == feed.KeepSoftDelete && t.Keep == feed.KeepLatest:
		where = " WHERE " + q(warehouse.DeletedAt) + " IS NULL"
	case was == feed.KeepLatest && t.Keep == feed.KeepHistory:
		values[warehouse.Until], values[warehouse.Current] = "NULL", "true"
	case was == feed.KeepSoftDelete && t.Keep == feed.KeepHistory:
		values[warehouse.Until], values[warehouse.Current] = q(warehouse.DeletedAt), q(warehouse.DeletedAt)+" IS NULL"
	case was == feed.KeepHistory && (t.Keep == feed.KeepLatest || t.Keep == feed.KeepSoftDelete):
		values[warehouse.ChangedAt], values[warehouse.DeletedAt], where = q(warehouse.From), "NULL", " WHERE "+
			q(warehouse.Current)
	default:
		return nil, cannotRekeep(t, was)
	}
	if t.Keep == feed.KeepHistory {
		values[warehouse.From], values[warehouse.Position] = "coalesce("+q(warehouse.ChangedAt)+", now())", "''"
	}
	var list []string
	for _, c := range t.Columns {
		name := schema.Quote(c.Name)
		value, changed := values[c.Role]
		if !changed {
			value = name
		}
		list = append(list, fmt.Sprintf("CAST(%s AS %s) AS %s", value, d.TypeName(c.Type), name))
	}
	return append([]string{
		fmt.Sprintf("CREATE TEMPORARY TABLE noemata_remade AS SELECT %s FROM %s%s", strings.Join(list, ", "),
			t.Name.Quoted(), where),
		"DROP TABLE " + t.Name.Quoted(), d.CreateTable(t), "INSERT INTO " + t.Name.Quoted() +
			" SELECT * FROM noemata_remade", "DROP TABLE noemata_remade",
	}, d.History(t)...), nil
}

func cannotRekeep(t warehouse.Target, was feed.Keep) error {
	return problem.Newf(problem.Held, "Rename the table or choose another target, so that it is made and loaded "+
		"anew after its position is cleared.",
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
