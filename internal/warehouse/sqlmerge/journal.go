package sqlmerge

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/google/uuid"

	"noemata/internal/core/change"
	"noemata/internal/core/drift"
	"noemata/internal/core/position"
	"noemata/internal/core/schema"
	"noemata/internal/core/stash"
	"noemata/internal/warehouse"
)

// journal is the Journal of a Base, in the tables of the control schema.
type journal struct{ *Base }

// Journal is what the warehouse remembers.
func (b *Base) Journal() warehouse.Journal { return journal{b} }

// ask gives nothing where there is no control schema yet.
func (j journal) ask(ctx context.Context, table, sql string, args ...any) (found [][]any, err error) {
	err = j.with(ctx, func(c Conn) error {
		if _, seen := j.seen.Load(table); seen {
			if found, err = c.Ask(ctx, sql, args...); err == nil || ctx.Err() != nil {
				return err
			}
			j.seen.Delete(table) // somebody may have dropped it
		}
		has, err := c.Columns(ctx, schema.Name{Schema: "noemata", Table: table})
		if err != nil || len(has) == 0 {
			return err
		}
		j.seen.Store(table, true)
		found, err = c.Ask(ctx, sql, args...)
		return err
	})
	return found, err
}

// Checkpoint tells how far a table has come.
func (j journal) Checkpoint(ctx context.Context, feed, table string) (warehouse.Checkpoint, error) {
	list, err := j.checkpoints(ctx, feed, table, true)
	if err != nil || len(list) == 0 {
		return warehouse.Checkpoint{Table: table}, err
	}
	return list[0], nil
}

// Checkpoints lists those of a feed's tables.
func (j journal) Checkpoints(ctx context.Context, feed string) ([]warehouse.Checkpoint, error) {
	return j.checkpoints(ctx, feed, "", false)
}

func (j journal) checkpoints(ctx context.Context, feed, table string, one bool) (list []warehouse.Checkpoint,
	err error) {
	found, err := j.ask(ctx, "positions", `SELECT source_table, position, version, run, moved_at FROM noemata.positions
WHERE feed = $1 AND (NOT $3 OR source_table = $2) ORDER BY source_table`, feed, table, one)
	for _, row := range found {
		c := warehouse.Checkpoint{Table: row[0].(string), Version: row[2].(int64), Run: row[3].(int64),
			MovedAt: row[4].(time.Time)}
		if text, ok := row[1].(string); ok {
			if c.Position, err = position.Parse(text); err != nil {
				return nil, err
			}
		}
		list = append(list, c)
	}
	return list, err
}

// Statements that move positions; parameters are numbered alike everywhere.
const (
	moveSQL = `UPDATE noemata.positions SET position = $3, version = version + 1, run = $4, moved_at = now()
WHERE feed = $1 AND source_table = $2 AND version = $5`
	enterSQL = `INSERT INTO noemata.positions (feed, source_table, position, version, run, moved_at)
VALUES ($1, $2, $3, 1, $4, now()) ON CONFLICT DO NOTHING`
	setSQL = `UPDATE noemata.positions SET position = $3, version = version + 1, run = 0, moved_at = now()
WHERE feed = $1 AND source_table = $2`
)

// stored is a position as it is kept: null when it is before everything.
func stored(p position.Position) any {
	if p.IsZero() {
		return nil
	}
	return p.String()
}

// SetPosition moves or clears a position by hand.
func (j journal) SetPosition(ctx context.Context, feed, table string, p *position.Position) error {
	if err := j.Migrate(ctx); err != nil {
		return err
	}
	var to any
	if p != nil {
		to = stored(*p)
	}
	return j.Exclusive(ctx, func(c Conn) error {
		if table == "" && p != nil {
			if err := noteReplays(ctx, c, feed, *p); err != nil {
				return err
			}
		}
		n, err := c.Exec(ctx, setSQL, feed, table, to)
		if err == nil && n == 0 {
			_, err = c.Exec(ctx, enterSQL, feed, table, to, int64(0))
		}
		return err
	})
}

// noteReplays notes, before a feed's position is set back, up to where its log is read again then.
func noteReplays(ctx context.Context, c Conn, feed string, to position.Position) error {
	found, err := c.Ask(ctx, `SELECT p.position, coalesce(l.replays_to, '') FROM noemata.positions AS p
JOIN noemata.logs AS l ON l.feed = p.feed WHERE p.feed = $1 AND p.source_table = ''`, feed)
	if err != nil || len(found) == 0 || found[0][0] == nil {
		return err
	}
	stood, err := position.Parse(found[0][0].(string))
	if err != nil || to.Value >= stood.Value {
		return err
	}
	_, err = c.Exec(ctx, "UPDATE noemata.logs SET replays_to = $2 WHERE feed = $1", feed,
		max(stood.Value, found[0][1].(string)))
	return err
}

// FirstPosition is where a table's first commit brought it, or what a backfill has noted.
func (j journal) FirstPosition(ctx context.Context, feed, table string) (position.Position, error) {
	found, err := j.ask(ctx, "beginnings",
		"SELECT position FROM noemata.beginnings WHERE feed = $1 AND source_table = $2", feed, table)
	if err != nil {
		return position.Position{}, err
	}
	if len(found) > 0 {
		return position.Parse(found[0][0].(string))
	}
	found, err = j.ask(ctx, "loads", `SELECT to_position FROM noemata.loads
WHERE feed = $1 AND source_table = $2 AND to_position IS NOT NULL ORDER BY committed_at LIMIT 1`, feed, table)
	if err != nil || len(found) == 0 {
		return position.Position{}, err
	}
	return position.Parse(found[0][0].(string))
}

// LastLoad tells what a table's rows were written to last, and in which shape.
func (j journal) LastLoad(ctx context.Context, feed, table string) (target, shape string, err error) {
	found, err := j.ask(ctx, "loads", `SELECT target, coalesce(shape, '') FROM noemata.loads
WHERE feed = $1 AND source_table = $2 ORDER BY committed_at DESC LIMIT 1`, feed, table)
	if err != nil || len(found) == 0 {
		return "", "", err
	}
	return found[0][0].(string), found[0][1].(string), nil
}

// Structure is what a table had when its rows came last.
func (j journal) Structure(ctx context.Context, feed, table string) (string, error) {
	found, err := j.ask(ctx, "structures",
		"SELECT structure FROM noemata.structures WHERE feed = $1 AND source_table = $2",
		feed, table)
	if err != nil || len(found) == 0 {
		return "", err
	}
	return found[0][0].(string), nil
}

// Compared is what was kept of the last comparison.
func (j journal) Compared(ctx context.Context, feed, table string) (string, error) {
	found, err := j.ask(ctx, "comparisons", "SELECT found FROM noemata.comparisons WHERE feed = $1 AND source_table "+
		"= $2",
		feed, table)
	if err != nil || len(found) == 0 {
		return "", err
	}
	return found[0][0].(string), nil
}

// Columns is what was kept of a table's columns.
func (j journal) Columns(ctx context.Context, feed, table string) (string, error) {
	found, err := j.ask(ctx, "columns", "SELECT known FROM noemata.columns WHERE feed = $1 AND source_table = $2", feed,
		table)
	if err != nil || len(found) == 0 {
		return "", err
	}
	return found[0][0].(string), nil
}

// LastSweep is when the keys of a table were last compared.
func (j journal) LastSweep(ctx context.Context, feed, table string) (time.Time, error) {
	found, err := j.ask(ctx, "sweeps", "SELECT swept_at FROM noemata.sweeps WHERE feed = $1 AND source_table = $2",
		feed, table)
	if err != nil || len(found) == 0 {
		return time.Time{}, err
	}
	return found[0][0].(time.Time), nil
}

// Log tells of a feed that follows a change log.
func (j journal) Log(ctx context.Context, feed string) (l warehouse.Log, ok bool, err error) {
	found, err := j.ask(ctx, "logs", "SELECT * FROM noemata.logs WHERE feed = $1", feed)
	if err != nil || len(found) == 0 {
		return l, false, err
	}
	row := found[0][1:]
	l = warehouse.Log{Name: row[0].(string), Origin: row[1].(string), LastMoment: row[2].(int64)}
	if len(row) > 3 { // a later migration has added it
		l.ReplaysTo, _ = row[3].(string)
	}
	return l, true, nil
}

// PlaceAt is the last place that a feed is known to have come to by a moment.
func (j journal) PlaceAt(ctx context.Context, feed string, by time.Time) (p warehouse.Place, ok bool, err error) {
	found, err := j.ask(ctx, "places", `SELECT position, reached_at FROM noemata.places WHERE feed = $1 AND reached_at <= $2
ORDER BY reached_at DESC LIMIT 1`, feed, by)
	if err != nil || len(found) == 0 {
		return p, false, err
	}
	return warehouse.Place{Position: found[0][0].(string), At: found[0][1].(time.Time)}, true, nil
}

// EnterLog begins the log of a feed: of two at once, one is kept, and both go on under that.
func (j journal) EnterLog(ctx context.Context, feed string, l warehouse.Log) (warehouse.Log, error) {
	if err := j.write(ctx, []string{fmt.Sprintf(
		"INSERT INTO noemata.logs (feed, name, origin, last_moment) VALUES (%s, %s, %s, %d) ON CONFLICT DO NOTHING",
		schema.Literal(feed), schema.Literal(l.Name), schema.Literal(l.Origin), l.LastMoment)}); err != nil {
		return l, err
	}
	kept, ok, err := j.Log(ctx, feed)
	if err == nil && !ok {
		err = warehouse.Overtaken("the feed " + feed)
	}
	return kept, err
}

// Forget clears log, copies and position of a feed.
func (j journal) Forget(ctx context.Context, feed string) error {
	if _, ok, err := j.Log(ctx, feed); err != nil || !ok {
		return err
	}
	found, err := j.ask(ctx, "copies", "SELECT source_table FROM noemata.copies WHERE feed = $1", feed)
	if err != nil {
		return err
	}
	var statements []string
	for _, table := range []string{"logs", "copies", "copy_parts", "places"} {
		statements = append(statements,
			fmt.Sprintf("DELETE FROM noemata.%s WHERE feed = %s", table, schema.Literal(feed)))
	}
	err = j.Exclusive(ctx, func(c Conn) error {
		for _, row := range found {
			if err := dropStash(ctx, c, feed, row[0].(string)); err != nil {
				return err
			}
		}
		return execAll(ctx, c, statements)
	})
	if err != nil {
		return err
	}
	return j.SetPosition(ctx, feed, "", nil)
}

// Drifts lists what has changed of the structure of a feed's tables.
func (j journal) Drifts(ctx context.Context, feed string, limit int) ([]drift.Drift, error) {
	found, err := j.ask(ctx, "drifts", `SELECT source_table, kind, what, done, run, noted_at FROM noemata.drifts
WHERE feed = $1 ORDER BY noted_at DESC LIMIT `+strconv.Itoa(limit), feed)
	list := []drift.Drift{}
	for _, row := range found {
		text := func(i int) string { return row[i].(string) }
		list = append(list, drift.Drift{Table: text(0), Kind: drift.Kind(text(1)), What: text(2), Done: text(3),
			Run: row[4].(int64), At: row[5].(time.Time).UTC()})
	}
	return list, err
}

// Copies lists the tables of a feed that follows a log.
func (j journal) Copies(ctx context.Context, feed string) (list []warehouse.Copy, err error) {
	if err := j.Migrate(ctx); err != nil {
		return nil, err
	}
	found, err := j.ask(ctx, "copies", `SELECT source_table, state, generation, layout, snapshots, reached, moment,
coalesce(structure, ''), coalesce(reason, ''), coalesce(fills, '') FROM noemata.copies WHERE feed = $1 ORDER BY source_table`, feed)
	for _, row := range found {
		text := func(i int) string { return row[i].(string) }
		c := warehouse.Copy{Table: text(0), State: warehouse.State(text(1)), Generation: row[2].(int64),
			Layout:  text(3),
			Reached: text(5), Moment: row[6].(int64), Structure: text(7), Reason: text(8), Fills: text(9)}
		if err := json.Unmarshal([]byte(text(4)), &c.Snapshots); err != nil {
			return nil, fmt.Errorf("the snapshots of %s in noemata.copies: %w", c.Table, err)
		}
		list = append(list, c)
	}
	return list, err
}

// Parts lists the parts of a copy that are done.
func (j journal) Parts(ctx context.Context, feed string, c warehouse.Copy) (list []warehouse.PartCopied, err error) {
	found, err := j.ask(ctx, "copy_parts", `SELECT part, snapshot, row_count, aside_count, coalesce(filtered_count, 0)
FROM noemata.copy_parts
WHERE feed = $1 AND source_table = $2 AND generation = $3 ORDER BY part`, feed, c.Table, c.Generation)
	for _, row := range found {
		list = append(list, warehouse.PartCopied{Table: c.Table, Generation: c.Generation, Part: int(row[0].(int64)),
			Snapshot: row[1].(int64), Rows: row[2].(int64), Aside: row[3].(int64), Filtered: row[4].(int64)})
	}
	return list, err
}

// Waiting passes on the changes that wait for a copy.
func (j journal) Waiting(ctx context.Context, s warehouse.Stash, sink func(arrow.RecordBatch) error) error {
	columns := stash.Columns(s.Columns)
	q := warehouse.Query{Target: warehouse.Target{Name: waitingTable(s.Feed, s.Table)}, Columns: columns,
		OrderBy: []string{stash.Event}}
	return j.Rows(ctx, q, func(r arrow.RecordBatch) error {
		typed := make([]arrow.Array, len(columns))
		for i, c := range columns {
			typed[i] = asUUID(r.Column(i), c.Type.Arrow())
			defer typed[i].Release()
		}
		record := array.NewRecordBatch(schema.Arrow(columns), typed, r.NumRows())
		defer record.Release()
		return sink(record)
	})
}

// WaitingTxns gives the transactions of those changes.
func (j journal) WaitingTxns(ctx context.Context, s warehouse.Stash, visit func(change.Txn)) error {
	q := warehouse.Query{Target: warehouse.Target{Name: waitingTable(s.Feed, s.Table)}, Columns: stash.TxnColumns()}
	return j.Rows(ctx, q, func(r arrow.RecordBatch) error {
		stash.Txns(r, visit)
		return nil
	})
}

// asUUID gives a column as its type has it: a database may tell a UUID as text.
func asUUID(column arrow.Array, t arrow.DataType) arrow.Array {
	texts, ok := column.(*array.String)
	width, fixed := t.(*arrow.FixedSizeBinaryType)
	if !ok || !fixed {
		column.Retain()
		return column
	}
	b := array.NewFixedSizeBinaryBuilder(memory.DefaultAllocator, width)
	defer b.Release()
	for i := range texts.Len() {
		id, err := uuid.Parse(texts.Value(i))
		if texts.IsNull(i) || err != nil {
			b.AppendNull()
			continue
		}
		b.Append(id[:])
	}
	return b.NewArray()
}

// Note makes entries.
func (j journal) Note(ctx context.Context, feed string, entries ...warehouse.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	if err := j.Migrate(ctx); err != nil {
		return err
	}
	return j.Exclusive(ctx, func(c Conn) error { return j.note(ctx, c, feed, entries) })
}

// note makes entries on a connection.
func (b *Base) note(ctx context.Context, c Conn, feed string, entries []warehouse.Entry) error {
	for len(entries) > 0 {
		n := 0
		for n < len(entries) && n < beginsAtOnce && isBegin(entries[n]) {
			n++
		}
		var err error
		if n > 0 {
			err = beginCopies(ctx, c, feed, entries[:n])
		} else {
			n, err = 1, b.noteOne(ctx, c, feed, entries[0])
		}
		if err != nil {
			return err
		}
		entries = entries[n:]
	}
	return nil
}

// beginsAtOnce is how many copies a statement begins at most.
const beginsAtOnce = 1000

func isBegin(e warehouse.Entry) bool {
	_, ok := e.(warehouse.BeginCopy)
	return ok
}

// beginCopies begins copies in one statement: DuckDB keeps 110 KB for each INSERT until its transaction ends.
func beginCopies(ctx context.Context, c Conn, feed string, entries []warehouse.Entry) error {
	rows := make([]string, len(entries))
	for i, e := range entries {
		if err := forget(ctx, c, feed, e); err != nil {
			return err
		}
		begin := e.(warehouse.BeginCopy)
		rows[i] = fmt.Sprintf("(%s, %s, %s, %d, '', '[]', '', 0)", schema.Literal(feed), schema.Literal(begin.Table),
			schema.Literal(string(warehouse.Copying)), begin.Generation)
	}
	_, err := c.Exec(ctx, "INSERT INTO noemata.copies (feed, source_table, state, generation, layout, snapshots, reached, moment)\nVALUES "+
		strings.Join(rows, ",\n")+"\nON CONFLICT DO NOTHING")
	return err
}

// kept tells of an entry that is one text of a table where it is kept.
func kept(entry warehouse.Entry) (list, column, table, text string) {
	switch e := entry.(type) {
	case warehouse.Structured:
		return "structures", "structure", e.Table, e.Structure
	case warehouse.Compared:
		return "comparisons", "found", e.Table, e.Found
	case warehouse.Columns:
		return "columns", "known", e.Table, e.Known
	case warehouse.Begins:
		return "beginnings", "position", e.Table, e.Position.String()
	}
	return "", "", "", ""
}

// keepOf keeps one text of a table, in place of the one before.
func keepOf(ctx context.Context, c Conn, list, column, feed, table, text string) error {
	if _, err := c.Exec(ctx, "DELETE FROM noemata."+list+" WHERE feed = $1 AND source_table = $2", feed,
		table); err != nil {
		return err
	}
	_, err := c.Exec(ctx, "INSERT INTO noemata."+list+" (feed, source_table, "+column+") VALUES ($1, $2, $3)", feed,
		table, text)
	return err
}

// expect runs a statement that must touch one row, or somebody else has been here.
func expect(ctx context.Context, c Conn, table, sql string, args ...any) error {
	n, err := c.Exec(ctx, sql, args...)
	if err == nil && n != 1 {
		err = warehouse.Overtaken(table)
	}
	return err
}

// noteOne makes one entry on a connection.
//
// Longer than a screen: it has a case for each entry.
func (b *Base) noteOne(ctx context.Context, c Conn, feed string, entry warehouse.Entry) error {
	exec := func(sql string, args ...any) error {
		_, err := c.Exec(ctx, sql, args...)
		return err
	}
	if list, column, table, text := kept(entry); list != "" {
		return keepOf(ctx, c, list, column, feed, table, text)
	}
	if err := forget(ctx, c, feed, entry); err != nil {
		return err
	}
	switch e := entry.(type) {
	case warehouse.CopyAgain:
		if err := dropStash(ctx, c, feed, e.Table); err != nil {
			return err
		}
		return exec(`UPDATE noemata.copies SET state = $3, generation = generation + 1, layout = '', snapshots = '[]', reached = '',
moment = 0, structure = NULL, reason = NULL, fills = $4 WHERE feed = $1 AND source_table = $2`, feed, e.Table,
			string(warehouse.Copying), e.Fills)
	case warehouse.DropCopy:
		if err := dropStash(ctx, c, feed, e.Table); err != nil {
			return err
		}
		return exec("DELETE FROM noemata.copies WHERE feed = $1 AND source_table = $2", feed, e.Table)
	case warehouse.MakeStash:
		return b.createStash(ctx, c, e.Stash)
	case warehouse.TakeSnapshot:
		return expect(ctx, c, e.To.Table, `UPDATE noemata.copies SET generation = $3, layout = $4, snapshots = $5
WHERE feed = $1 AND source_table = $2 AND generation = $6 AND snapshots = $7 AND state = $8`, feed, e.To.Table,
			e.To.Generation, e.To.Layout, list(e.To.Snapshots), e.From.Generation, list(e.From.Snapshots),
			string(warehouse.Copying))
	case warehouse.EmptyStash:
		return emptyCopied(ctx, c, e.Stash)
	case warehouse.PartCopied:
		return exec(`INSERT INTO noemata.copy_parts (feed, source_table, generation, part, snapshot, row_count, aside_count,
filtered_count) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, feed, e.Table, e.Generation, int64(e.Part), e.Snapshot, e.Rows,
			e.Aside, e.Filtered)
	case warehouse.CopyDone:
		return exec(`UPDATE noemata.copies SET state = $5, reached = $3, moment = $4
WHERE feed = $1 AND source_table = $2 AND generation = $6 AND state = $7`, feed, e.Table, e.Reached, e.Moment,
			string(warehouse.Joining), e.Generation, string(warehouse.Copying))
	case warehouse.SettleCopy:
		return settleCopy(ctx, c, e)
	case warehouse.Joined:
		if err := dropStash(ctx, c, feed, e.Table); err != nil {
			return err
		}
		return expect(ctx, c, e.Table, `UPDATE noemata.copies SET state = $3, structure = $4, layout = '', snapshots = '[]',
reached = '', moment = 0, reason = NULL, fills = NULL WHERE feed = $1 AND source_table = $2 AND generation = $5 AND state = $6`,
			feed, e.Table, string(warehouse.Following), e.Structure, e.Generation, string(warehouse.Joining))
	case warehouse.KeepStructure:
		return exec("UPDATE noemata.copies SET structure = $3 WHERE feed = $1 AND source_table = $2", feed, e.Table,
			e.Structure)
	case warehouse.Hold:
		if err := dropStash(ctx, c, feed, e.Table); err != nil {
			return err
		}
		return expect(ctx, c, e.Table, `UPDATE noemata.copies SET state = $3, generation = generation + 1, reason = $4, layout = '',
snapshots = '[]', reached = '', moment = 0, structure = NULL, fills = NULL WHERE feed = $1 AND source_table = $2
AND coalesce((SELECT version FROM noemata.positions AS p WHERE p.feed = $1 AND p.source_table = ''), 0) = $5`,
			feed, e.Table, string(warehouse.Held), e.Reason, e.Version)
	case warehouse.LastMoment:
		return exec("UPDATE noemata.logs SET last_moment = $2 WHERE feed = $1", feed, e.Moment)
	case warehouse.Reached:
		if err := exec("DELETE FROM noemata.places WHERE feed = $1 AND reached_at < $2", feed, e.Forget); err != nil {
			return err
		}
		return exec("INSERT INTO noemata.places (feed, position, reached_at) VALUES ($1, $2, $3)", feed, e.Position, e.At)
	case warehouse.Proved:
		if err := exec("DELETE FROM noemata.proofs WHERE feed = $1 AND source_table = $2", feed, e.Table); err != nil {
			return err
		}
		return exec(`INSERT INTO noemata.proofs (feed, source_table, proven_at, proven_same, proven_rows)
VALUES ($1, $2, $3, $4, $5)`, feed, e.Table, e.At, e.Same, e.Rows)
	case warehouse.Swept:
		if err := exec("DELETE FROM noemata.sweeps WHERE feed = $1 AND source_table = $2", feed, e.Table); err != nil {
			return err
		}
		return exec(`INSERT INTO noemata.sweeps (feed, source_table, swept_at, keys_read, keys_gone)
VALUES ($1, $2, now(), $3, $4)`, feed, e.Table, e.Keys, e.Gone)
	case warehouse.Drifted:
		return exec(`INSERT INTO noemata.drifts (feed, source_table, kind, what, done, run, noted_at)
VALUES ($1, $2, $3, $4, $5, $6, now())`, feed, e.Entry.Table, string(e.Entry.Kind), e.Entry.What, e.Entry.Done, e.Entry.Run)
	case warehouse.SetAside:
		return keepAside(ctx, c, aside{feed: feed, table: e.Table, run: e.Run}, e.Rows, nil)
	}
	return fmt.Errorf("the journal knows no entry of the form %T", entry)
}

// list is a list of texts as it is kept.
func list(texts []string) string {
	if texts == nil {
		return "[]"
	}
	text, _ := json.Marshal(texts) // texts always marshal
	return string(text)
}

// forget takes out the rows that are set aside of a table of which an entry has all read again: it is found
// anew which they are. One that only begins has no effect where the table is known.
func forget(ctx context.Context, c Conn, feed string, entry warehouse.Entry) error {
	table, begins := "", false
	switch e := entry.(type) {
	case warehouse.BeginCopy:
		table, begins = e.Table, true
	case warehouse.CopyAgain:
		if e.Fills == "" {
			table = e.Table
		}
	case warehouse.EmptyStash:
		if !e.Fills {
			table = e.Stash.Table
		}
	}
	if table == "" {
		return nil
	}
	_, err := c.Exec(ctx, forgetAside, feed, table, begins)
	return err
}

// settleCopy leaves the latest row of each key, and takes out the changes it shows.
func settleCopy(ctx context.Context, c Conn, e warehouse.SettleCopy) error {
	for _, name := range stashOf(e.Stash.Feed, e.Stash.Table) {
		if err := bring(ctx, c, name, AllRows); err != nil {
			return err
		}
	}
	c = tablesOf(c)
	copied, waiting := copiedTable(e.Stash.Feed, e.Stash.Table).Quoted(), waitingTable(e.Stash.Feed,
		e.Stash.Table).Quoted()
	same := equal(e.Stash.Key, "c", "p")
	for n, positions := range e.Shown {
		for chunk := range slices.Chunk(positions, 1000) {
			literals := make([]string, len(chunk))
			for i, p := range chunk {
				literals[i] = schema.Literal(p)
			}
			if _, err := c.Exec(ctx, fmt.Sprintf(
				"DELETE FROM %s AS p WHERE p.%s IN (%s) AND coalesce((SELECT max(c.%s) FROM %s AS c WHERE %s), %d) >= %d",
				waiting, stash.Commit, strings.Join(literals,
					", "), stash.Snapshot, copied, same, e.Snapshots, n)); err != nil {
				return err
			}
		}
	}
	_, err := c.Exec(ctx, fmt.Sprintf("DELETE FROM %s AS p USING %[1]s AS c WHERE %s AND p.%s < c.%[3]s", copied, same,
		stash.Snapshot))
	return err
}
