package sqlmerge

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// relate keeps for those who ask what names a row of a target, and which other targets its rows refer to: once for each
// form of them that this process meets.
func (b *Base) relate(ctx context.Context, t warehouse.Target) error {
	statements, of := related(t), ofTarget{"relations", t.Name}
	form := strings.Join(statements, ";")
	last, looked := b.forms.Load(of)
	if last == form {
		return nil
	}
	same := false
	if !looked { // what this process has written since it looked is not in what it found
		has, err := b.relations(ctx)
		if err != nil {
			return err
		}
		same = slices.Equal(has[t.Name.Display()], statements[2:])
	}
	if !same {
		if err := b.write(ctx, statements); err != nil {
			return err
		}
	}
	b.forms.Store(of, form)
	return nil
}

// related are the statements that keep what is known of a target: two that remove what was, and an INSERT for each row.
func related(t warehouse.Target) []string {
	name := schema.Literal(t.Name.Display())
	statements := []string{"DELETE FROM noemata.keys WHERE target = " + name,
		"DELETE FROM noemata.relations WHERE target = " + name}
	if len(t.Key) > 0 {
		statements = append(statements, keyRow(t.Name.Display(), strings.Join(t.Key, ", ")))
	}
	var rows []string
	for _, r := range t.Relations {
		rows = append(rows, relationRow(t.Name.Display(), strings.Join(r.Columns, ", "), r.To.Display(),
			strings.Join(r.ToColumns, ", ")))
	}
	slices.Sort(rows)
	return append(statements, rows...)
}

func keyRow(target, columns string) string {
	return fmt.Sprintf("INSERT INTO noemata.keys (target, key_columns) VALUES (%s, %s)", schema.Literal(target),
		schema.Literal(columns))
}

func relationRow(target, columns, to, toColumns string) string {
	return fmt.Sprintf("INSERT INTO noemata.relations (target, its_columns, refers_to, refers_to_columns) VALUES (%s, %s, %s, %s)",
		schema.Literal(target), schema.Literal(columns), schema.Literal(to), schema.Literal(toColumns))
}

// relations are the statements that would keep what this process has found to be kept, by target. Nobody changes them.
func (b *Base) relations(ctx context.Context) (map[string][]string, error) {
	b.commenting.Lock()
	defer b.commenting.Unlock()
	if b.related != nil {
		return b.related, nil
	}
	all := map[string][]string{}
	found, err := b.Ask(ctx, "SELECT target, key_columns FROM noemata.keys")
	if err != nil {
		return nil, err
	}
	for _, row := range found {
		target := row[0].(string)
		all[target] = append(all[target], keyRow(target, row[1].(string)))
	}
	found, err = b.Ask(ctx, "SELECT target, its_columns, refers_to, refers_to_columns FROM noemata.relations")
	if err != nil {
		return nil, err
	}
	rows := map[string][]string{}
	for _, row := range found {
		target := row[0].(string)
		rows[target] = append(rows[target], relationRow(target, row[1].(string), row[2].(string), row[3].(string)))
	}
	for target, list := range rows {
		slices.Sort(list)
		all[target] = append(all[target], list...)
	}
	b.related = all
	return all, nil
}
