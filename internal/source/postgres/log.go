package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"noemata/internal/core/drift"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/statement"
)

// oldestForLog is the first version whose log can be followed: before it, row addresses
// cannot be scanned by range, and values are sent as text alone.
const oldestForLog = 140000

// lsn is a place in the log. Its text has a fixed width, so that it sorts, and is read
// by the type pg_lsn.
type lsn uint64

func (l lsn) String() string { return fmt.Sprintf("%08X/%08X", uint32(l>>32), uint32(l)) }

func parseLSN(s string) (lsn, error) {
	high, low, found := strings.Cut(s, "/")
	h, err1 := strconv.ParseUint(high, 16, 32)
	l, err2 := strconv.ParseUint(low, 16, 32)
	if !found || err1 != nil || err2 != nil {
		return 0, problem.Newf(problem.Invalid, "Write it as PostgreSQL does: 0/16B3748.",
			"%q is not a position in a PostgreSQL log.", s)
	}
	return lsn(h<<32 | l), nil
}

// CheckPosition gives a position in its one written form.
func (s *Source) CheckPosition(text string) (string, error) {
	l, err := parseLSN(text)
	return l.String(), err
}

// Origin names the cluster and the database.
func (s *Source) Origin(ctx context.Context) (origin string, err error) {
	err = s.Row(ctx, "SELECT system_identifier || '/' || (SELECT oid FROM pg_database WHERE datname = "+
		"current_database()) FROM pg_control_system()", nil, &origin)
	return origin, err
}

// End is the end of the log, whether it is safe on disk or not: a commit may be reported
// before it is. At the beginning of a page it is where the page begins, without its header.
func (s *Source) End(ctx context.Context) (string, time.Time, error) {
	var end string
	var moment time.Time
	var page uint64
	err := s.Row(ctx, "SELECT clock_timestamp(), pg_current_wal_insert_lsn()::text, "+
		"current_setting('wal_block_size')::int8", nil, &moment, &end, &page)
	if err != nil {
		return "", moment, err
	}
	l, err := parseLSN(end)
	if header := uint64(l) % page; header == shortHeader || header == longHeader {
		l -= lsn(header)
	}
	return l.String(), moment, err
}

// Sizes of the headers of a page of the log (access/xlog_internal.h).
const (
	shortHeader = 24
	longHeader  = 40
)

// LogRate reads the statistics of the log, which servers have since version 14.
func (s *Source) LogRate(ctx context.Context) (source.LogRate, error) {
	var bytes, seconds float64
	var number int
	if err := s.Row(ctx, "SELECT current_setting('server_version_num')::int", nil, &number); err != nil ||
		number < oldestForLog {
		return source.LogRate{PerHour: -1}, err
	}
	err := s.Row(ctx, "SELECT wal_bytes::float8, extract(epoch FROM now() - stats_reset)::float8 FROM pg_stat_wal", nil,
		&bytes, &seconds)
	if err != nil || seconds < 1 {
		return source.LogRate{PerHour: -1}, err
	}
	return source.LogRate{PerHour: int64(bytes / seconds * 3600), Over: time.Duration(seconds) * time.Second}, nil
}

// listsColumns is the first version whose publications can list columns (PostgreSQL 15, Release Notes).
const listsColumns = 150000

// published is how a table appears in a publication.
func published(t source.Followed) string {
	only := "ONLY "
	if t.Table.Partitioned {
		only = ""
	}
	text := only + t.Table.Name.Quoted()
	if !t.Whole {
		text += " (" + schema.QuoteAll("", t.Table.ColumnNames()) + ")"
	}
	return text
}

func createPublication(name string, tables []source.Followed) string {
	list := make([]string, len(tables))
	for i, t := range tables {
		list[i] = published(t)
	}
	return fmt.Sprintf("CREATE PUBLICATION %s FOR TABLE %s WITH (publish = 'insert, update, delete, truncate', "+
		"publish_via_partition_root = true)", schema.Quote(name), strings.Join(list, ", "))
}

// PrepareLog makes publication and slot, the publication first: what the slot retains is
// decoded by the catalogue as it was then.
func (s *Source) PrepareLog(ctx context.Context, p source.Prepared) (string, error) {
	at, err := s.prepareLog(ctx, p)
	var server *pgconn.PgError
	if errors.As(err, &server) && (slices.Contains(madeMeanwhile, server.Code) ||
		strings.Contains(server.Message, "concurrently")) {
		return "", problem.Wrap(err, problem.Overtaken,
			fmt.Sprintf("Another worker makes publication and slot %s of %s at this moment.", p.Name, s.what),
			"Nothing was lost; the next run tries again.")
	}
	return at, err
}

// madeMeanwhile are the errors of making what somebody else has made since it was looked for:
// duplicate_object and unique_violation.
var madeMeanwhile = []string{"42710", "23505"}

func (s *Source) prepareLog(ctx context.Context, p source.Prepared) (string, error) {
	if err := s.publish(ctx, p.Name, p.Tables); err != nil {
		return "", err
	}
	slots, err := s.slots(ctx, p.Name)
	if err != nil {
		return "", err
	}
	own, behind := slots[p.Name], slots[behindOf(p.Name)]
	if (own == nil || own.lost || own.confirmed > p.Begun) && p.Begun != "" && behind.keeps(p.Begun) {
		// The position was set back, the warehouse was restored, or somebody has dropped the slot.
		if own, err = s.copySlot(ctx, behindOf(p.Name), p.Name); err != nil {
			return "", err
		}
	}
	switch {
	case own == nil && p.Begun == "":
		at, err := s.createSlot(ctx, p.Name)
		if err != nil {
			return "", err
		}
		return at, s.keepBehind(ctx, p, behind)
	case own == nil:
		return "", lostSlot(fmt.Sprintf("The replication slot %s of %s is gone, and with it the changes since %s.",
			p.Name, s.what, p.Begun))
	case own.lost:
		return "", lostSlot(fmt.Sprintf("The server of %s has removed the log that the replication slot %s still "+
			"needed (max_slot_wal_keep_size).", s.what, p.Name))
	case own.confirmed == "":
		return "", problem.Newf(problem.Overtaken, "Nothing was lost; the next run tries again.",
			"Another worker makes the replication slot %s of %s at this moment.", p.Name, s.what)
	case p.Begun != "" && own.confirmed > p.Begun:
		return "", lostSlot(fmt.Sprintf("The replication slot %s of %s stands at %s, beyond the warehouse's %s: "+
			"someone else has moved it, or an older state of the warehouse was restored.", p.Name, s.what, own.confirmed,
			p.Begun))
	}
	return cmp.Or(p.Begun, own.confirmed), s.keepBehind(ctx, p, behind)
}

func lostSlot(what string) error {
	return problem.New(problem.Held, what,
		"Copy the feed's tables again: noemata feeds copy FEED. A history keeps its past.")
}

func (s *Source) createSlot(ctx context.Context, name string) (string, error) {
	if err := s.freeSlot(ctx); err != nil {
		return "", err
	}
	var at string
	limited, cancel := context.WithTimeout(ctx, slotWithin)
	defer cancel()
	err := s.write(limited, "SELECT lsn::text FROM pg_create_logical_replication_slot($1, 'pgoutput')", []any{name},
		&at)
	if limited.Err() != nil && ctx.Err() == nil {
		return "", s.waitsForSlot(ctx)
	}
	if err != nil {
		return "", err
	}
	return s.CheckPosition(at)
}

// slotsTaken is how many slots of the server are taken, and how many there may be.
func (s *Source) slotsTaken(ctx context.Context) (used, most int, err error) {
	err = s.Row(ctx, "SELECT (SELECT count(*) FROM pg_replication_slots), "+
		"current_setting('max_replication_slots')::int", nil, &used, &most)
	return used, most, err
}

// freeSlot makes sure that a slot can be made.
func (s *Source) freeSlot(ctx context.Context) error {
	used, most, err := s.slotsTaken(ctx)
	if err != nil || used < most {
		return err
	}
	return problem.Newf(problem.Held,
		fmt.Sprintf("ALTER SYSTEM SET max_replication_slots = %d; then restart the server. Or drop a slot that "+
			"nobody needs: SELECT slot_name, active FROM pg_replication_slots;", most+10),
		"All replication slots of %s are taken (%d), and the feed needs one.", s.what, most)
}

// slotWithin is how long the server may take to make a slot. It waits for every transaction
// that is open then, in whatever database (PostgreSQL, Logical Decoding, Replication Slots).
const slotWithin = 8 * time.Second

// waitsForSlot says which transactions keep a slot from being made.
func (s *Source) waitsForSlot(ctx context.Context) error {
	var who string
	err := s.Row(ctx, `SELECT coalesce(string_agg(what, '; ' ORDER BY since), 'the server does not tell which') FROM (
  SELECT 'one that is prepared as ' || gid || ' in the database ' || database || ', since ' || date_trunc('second', prepared) AS what, prepared AS since FROM pg_prepared_xacts
  UNION ALL SELECT 'that of process ' || pid || ' in the database ' || datname || ', since ' || date_trunc('second', xact_start), xact_start FROM pg_stat_activity WHERE backend_xid IS NOT NULL AND pid <> pg_backend_pid()
  ORDER BY 2 LIMIT 5) AS open`, nil, &who)
	if err != nil {
		return err
	}
	return problem.Newf(problem.Busy, "End them, or wait: the feed begins as soon as they have ended. A prepared "+
		"one ends by COMMIT PREPARED or ROLLBACK PREPARED.",
		"The server of %s makes a replication slot only when the transactions that are open have ended: %s.", s.what,
		who)
}

// write runs a statement that the session's read-only default would refuse.
func (s *Source) write(ctx context.Context, sql string, args []any, into ...any) error {
	done := statement.Begin(ctx, statement.Source, shown(sql, args))
	err := pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{AccessMode: pgx.ReadWrite}, func(tx pgx.Tx) error {
		if len(into) > 0 {
			return tx.QueryRow(ctx, sql, args...).Scan(into...)
		}
		_, err := tx.Exec(ctx, sql, args...)
		return err
	})
	done(1, err)
	return s.explain(err)
}

// publish makes the publication, or changes it where its tables or columns differ.
func (s *Source) publish(ctx context.Context, name string, tables []source.Followed) error {
	var version int
	var there bool
	if err := s.Row(ctx, "SELECT current_setting('server_version_num')::int, EXISTS (SELECT 1 FROM pg_publication "+
		"WHERE pubname = $1)", []any{name}, &version, &there); err != nil {
		return err
	}
	if version < listsColumns { // all columns are told, and those that are not wanted are thrown away here
		tables = slices.Clone(tables)
		for i := range tables {
			tables[i].Whole = true
		}
	}
	create := createPublication(name, tables)
	if !there {
		for _, t := range tables {
			if t.Since != "" {
				return lostSlot(fmt.Sprintf("The publication %s of %s is gone, so changes since %s may not have "+
					"been told.", name, s.what, t.Since))
			}
		}
		return s.mayPublish(s.write(ctx, create, nil), create)
	}
	columns := "NULL::text[]"
	if version >= listsColumns {
		columns = `CASE WHEN r.prattrs IS NOT NULL THEN array(SELECT a.attname::text FROM pg_attribute a WHERE ` +
			`a.attrelid = r.prrelid AND a.attnum = ANY (r.prattrs) ORDER BY a.attnum) END`
	}
	found, err := s.pool.Query(ctx, `SELECT n.nspname, c.relname, `+columns+` FROM pg_publication p JOIN pg_publication_rel r ON r.prpubid = p.oid
JOIN pg_class c ON c.oid = r.prrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.pubname = $1`, name)
	if err != nil {
		return s.explain(err)
	}
	has := map[schema.Name][]string{}
	var n schema.Name
	var list []string
	if _, err := pgx.ForEachRow(found, []any{&n.Schema, &n.Table, &list}, func() error {
		has[n] = slices.Clone(list)
		return nil
	}); err != nil {
		return s.explain(err)
	}
	same := len(has) == len(tables)
	for _, t := range tables {
		columns, ok := has[t.Table.Name]
		fits := ok && (t.Whole && columns == nil || !t.Whole && slices.Equal(columns, t.Table.ColumnNames()))
		lacks := func(c string) bool {
			return columns != nil && !slices.Contains(columns, c) && !slices.Contains(t.Fills, c)
		}
		if told := ok && !slices.ContainsFunc(t.Table.ColumnNames(), lacks); !told && t.Since != "" {
			return &source.TableError{Table: t.Table.Name,
				Err: source.CopyAgain(drift.Tables, t.Table.Name,
					"The publication %s of %s was altered: changes of %s since %s may not have been told.", name,
					s.what, t.Table.Name, t.Since)}
		}
		same = same && fits
	}
	if same {
		return nil
	}
	parts := make([]string, len(tables))
	for i, t := range tables {
		parts[i] = published(t)
	}
	alter := fmt.Sprintf("ALTER PUBLICATION %s SET TABLE %s", schema.Quote(name), strings.Join(parts, ", "))
	return s.mayPublish(s.write(ctx, alter, nil), alter)
}

// mayPublish adds to a missing privilege what somebody who has it can run instead.
func (s *Source) mayPublish(err error, sql string) error {
	if problem.Is(err, problem.NoPrivilege) {
		return problem.Wrap(err, problem.NoPrivilege, problem.Of(err).What,
			fmt.Sprintf("Let the tables' owner run: %s; or make %s their owner's member, with CREATE on the database.",
				sql, schema.Quote(s.settings.User)))
	}
	return err
}

// DropLog removes slots and publication.
func (s *Source) DropLog(ctx context.Context, name string) error {
	for _, slot := range []string{name, behindOf(name)} {
		if err := s.dropSlot(ctx, slot); err != nil {
			return err
		}
	}
	drop := "DROP PUBLICATION IF EXISTS " + schema.Quote(name)
	err := s.write(ctx, drop, nil)
	if problem.Is(err, problem.NoPrivilege) { // without its slot it makes the server keep nothing
		slog.Warn("A publication stays at the source: its owner made it, and has to drop it.", "source", s.what, "statement",
			drop+";")
		return nil
	}
	return err
}

// LogState measures what the slot retains.
func (s *Source) LogState(ctx context.Context, name, at string) (source.LogState, error) {
	state := source.LogState{There: true}
	var stands *string
	if at != "" {
		lsn, err := parseLSN(at)
		if err != nil {
			return state, err
		}
		text := fmt.Sprintf("%X/%X", uint32(lsn>>32), uint32(lsn))
		stands = &text
	}
	var status string
	err := s.Row(ctx, `SELECT coalesce(s.wal_status, ''), s.active, coalesce(pg_wal_lsn_diff(pg_current_wal_lsn(), least(s.restart_lsn, b.restart_lsn)), 0)::int8,
       greatest(coalesce(pg_wal_lsn_diff(pg_current_wal_lsn(), coalesce($2::pg_lsn, s.confirmed_flush_lsn)), 0), 0)::int8, coalesce(s.confirmed_flush_lsn::text, '0/0'),
       coalesce(least(s.confirmed_flush_lsn, b.confirmed_flush_lsn)::text, '0/0')
FROM pg_replication_slots s LEFT JOIN pg_replication_slots b ON b.slot_name = $3 AND b.wal_status <> 'lost' WHERE s.slot_name = $1`,
		[]any{name, stands, behindOf(name)}, &status, &state.Busy, &state.Retained, &state.Behind, &state.Confirms,
		&state.Oldest)
	if errors.Is(err, pgx.ErrNoRows) {
		return source.LogState{}, nil
	}
	if err != nil {
		return state, err
	}
	if status == "lost" {
		state.Lost = fmt.Sprintf("The server of %s has removed the log that the replication slot %s still needed.",
			s.what, name)
	}
	if state.Confirms, err = s.CheckPosition(state.Confirms); err == nil {
		state.Oldest, err = s.CheckPosition(state.Oldest)
	}
	return state, err
}

// Settle waits for the transactions that wrote to the table, by the locks they hold
// until their end is visible.
func (s *Source) Settle(ctx context.Context, table schema.Table, waits func(who string)) error {
	const writers = `SELECT coalesce(array_agg(DISTINCT virtualtransaction), '{}') FROM pg_locks
WHERE locktype = 'relation' AND granted AND mode IN ('RowExclusiveLock', 'ShareRowExclusiveLock', 'ExclusiveLock', 'AccessExclusiveLock')
  AND database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND relation IN (SELECT $1::regclass::oid UNION SELECT relid FROM pg_partition_tree($1::regclass))`
	var first []string
	if err := s.Row(ctx, writers, []any{table.Name.Quoted()}, &first); err != nil {
		return err
	}
	for len(first) > 0 {
		var now []string
		if err := s.Row(ctx, writers, []any{table.Name.Quoted()}, &now); err != nil {
			return err
		}
		first = slices.DeleteFunc(first, func(id string) bool { return !slices.Contains(now, id) })
		if len(first) == 0 {
			return nil
		}
		who, err := s.whoIs(ctx, first)
		if err != nil {
			return err
		}
		waits(who)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

// whoIs names transactions for a person: by the process that has them, or by the name that
// they were prepared under.
func (s *Source) whoIs(ctx context.Context, virtual []string) (who string, err error) {
	err = s.Row(ctx, `SELECT coalesce(string_agg(DISTINCT CASE WHEN l.pid IS NULL THEN 'one that is prepared' || coalesce(' (' || p.gid || ', since ' || date_trunc('second', p.prepared) || ')', '')
  ELSE 'that of process ' || l.pid || coalesce(' (' || a.usename || ', since ' || date_trunc('second', a.xact_start) || ')', '') END, '; '), '')
FROM pg_locks l LEFT JOIN pg_stat_activity a ON a.pid = l.pid
  LEFT JOIN pg_locks x ON x.virtualtransaction = l.virtualtransaction AND x.locktype = 'transactionid' AND l.pid IS NULL LEFT JOIN pg_prepared_xacts p ON p.transaction = x.transactionid
WHERE l.virtualtransaction = ANY ($1)`, []any{virtual}, &who)
	return who, err
}

// LogFindings tells what following the tables needs.
//
// Longer than a screen: it is a list of what may be in the way.
func (s *Source) LogFindings(ctx context.Context, tables []source.Followed) ([]problem.Finding, error) {
	var findings []problem.Finding
	add := func(level problem.Level, table, remedy, format string, args ...any) {
		findings = append(findings, problem.Finding{Level: level, Table: table, What: fmt.Sprintf(format, args...),
			Remedy: remedy})
	}
	var version, slots, used int
	var level, keep string
	var standby, replication bool
	err := s.Row(ctx, `SELECT current_setting('server_version_num')::int, current_setting('wal_level'), pg_is_in_recovery(),
       (SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user), current_setting('max_replication_slots')::int,
       (SELECT count(*) FROM pg_replication_slots), current_setting('max_slot_wal_keep_size')`, nil, &version, &level, &standby, &replication, &slots, &used, &keep)
	if err != nil {
		return nil, err
	}
	user := schema.Quote(s.settings.User)
	if err := s.mayMakePublication(ctx, tables, add); err != nil {
		return nil, err
	}
	if version < oldestForLog {
		add(problem.Blocker, "", "Use a server of version 14 or later, or find: watermark.",
			"The change log of this server's version cannot be followed.")
	}
	if standby {
		add(problem.Blocker, "", "Use the primary server as the source.",
			"The source is a standby, whose log cannot be followed.")
	}
	if level != "logical" {
		add(problem.Blocker, "", "ALTER SYSTEM SET wal_level = logical; then restart the server.",
			"The server's wal_level is %s, and its log says too little to be followed.", level)
	}
	if !replication {
		add(problem.Blocker, "", fmt.Sprintf("ALTER ROLE %s REPLICATION;", user),
			"User %q may not read the change log.", s.settings.User)
	}
	if used >= slots {
		add(problem.Warning, "", fmt.Sprintf("ALTER SYSTEM SET max_replication_slots = %d; then restart the server.",
			slots+10), "All replication slots of the server are taken (%d).", slots)
	}
	if keep == "-1" {
		add(problem.Note, "", "Set max_slot_wal_keep_size to what the disk can spare, if losing the slot is better "+
			"than a full disk.", "The server keeps the log for a feed that has stopped without limit.")
	}
	identities, err := s.identities(ctx, tables)
	if err != nil {
		return nil, err
	}
	for _, t := range tables {
		name := t.Table.Name.Display()
		if t.Table.View {
			add(problem.Blocker, name, "Follow the tables below it, or use find: watermark or whole.",
				"It is a view, which has no changes of its own in the log.")
			continue
		}
		table := t.Table.Name.Quoted()
		identity, full := identities[t.Table.Name].columns, identities[t.Table.Name].full
		switch {
		case full:
		case len(identity) == 0:
			add(problem.Blocker, name, fmt.Sprintf("ALTER TABLE %s REPLICA IDENTITY FULL; or give it a primary key.",
				table),
				"The table has no replica identity: once it is published, the server would refuse updates and "+
					"deletes of it.")
		default:
			for _, k := range t.Key {
				if !slices.Contains(identity, k) {
					add(problem.Blocker, name,
						fmt.Sprintf("ALTER TABLE %s REPLICA IDENTITY FULL; or choose a key among %s.", table,
							strings.Join(identity, ", ")),
						"The log does not tell the old value of the key column %s: the table's replica identity is %s.",
						k, strings.Join(identity, ", "))
				}
			}
		}
		if t.Table.Partitioned {
			add(problem.Note, name, "To have it copied again by itself: drift: {tables: follow}. Or leave deletes "+
				"out: "+
				"changes: [insert, update].",
				"The table is partitioned: what is attached with rows, detached, dropped or emptied by itself is "+
					"not told in "+
					"the log. The next run notices it, and holds the table.")
		}
		if !t.Whole && version >= listsColumns {
			add(problem.Warning, name, "To let them: ALTER TABLE "+table+" DROP COLUMN … CASCADE; then the table is "+
				"copied again, by itself "+
				"with drift: {tables: follow}. Or have the feed bring all columns.",
				"The publication lists the columns that the feed brings, and the server does not let anybody drop "+
					"or retype a "+
					"listed column.")
		}
		if !t.Whole && version < listsColumns {
			add(problem.Warning, name, "Use a server of version 15 or later to keep them out of the log's stream.",
				"Columns that the feed drops are sent by this server all the same, and thrown away here.")
		}
	}
	return findings, nil
}

// mayMakePublication looks whether the user may publish the tables. If not, their owner can
// make the publication: the first run says by which statement.
func (s *Source) mayMakePublication(ctx context.Context, tables []source.Followed,
	add func(level problem.Level, table, remedy, format string, args ...any)) error {
	user, database := schema.Quote(s.settings.User), schema.Quote(s.settings.Database)
	var create bool
	if err := s.Row(ctx, "SELECT has_database_privilege(current_database(), 'CREATE')", nil, &create); err != nil {
		return err
	}
	if !create {
		add(problem.Warning, "", fmt.Sprintf("Start the feed once, and have the tables' owner run the statement "+
			"that it then shows. Or, giving the user more than it needs: GRANT CREATE ON DATABASE %s TO %s;", database,
			user),
			"User %q may not make a publication, which the change log is told by.", s.settings.User)
	}
	schemas, names := split(tables)
	owners := map[schema.Name]string{}
	var name schema.Name
	var owner string
	if err := s.Each(ctx, `SELECT n.nspname, c.relname, pg_get_userbyid(c.relowner)::text
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE (n.nspname, c.relname) IN (SELECT * FROM unnest($1::text[], $2::text[])) AND NOT pg_has_role(c.relowner, 'USAGE')`,
		[]any{schemas, names}, []any{&name.Schema, &name.Table, &owner}, func() error {
			owners[name] = owner
			return nil
		}); err != nil {
		return err
	}
	for _, t := range tables {
		if owner, is := owners[t.Table.Name]; is {
			add(problem.Warning, t.Table.Name.Display(),
				fmt.Sprintf("Start the feed once, and have %s run the statement that it then shows. Or, giving the "+
					"user all that the owner may: GRANT %[1]s TO %s;", schema.Quote(owner), user),
				"The table belongs to %q, and only its owner may publish it.", owner)
		}
	}
	return nil
}

// split gives schemas and names of tables apart.
func split(tables []source.Followed) (schemas, names []string) {
	for _, t := range tables {
		schemas, names = append(schemas, t.Table.Name.Schema), append(names, t.Table.Name.Table)
	}
	return schemas, names
}

// identity is by which columns the log names a table's old rows; full is all of them.
type identity struct {
	columns []string
	full    bool
}

func (s *Source) identities(ctx context.Context, tables []source.Followed) (map[schema.Name]identity, error) {
	schemas, names := split(tables)
	all := map[schema.Name]identity{}
	var name schema.Name
	var x identity
	err := s.Each(ctx, `SELECT n.nspname, c.relname, c.relreplident = 'f', coalesce((SELECT array_agg(a.attname::text ORDER BY a.attnum) FROM pg_index i JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = ANY (i.indkey[0:i.indnkeyatts - 1])
  WHERE i.indrelid = c.oid AND (c.relreplident = 'd' AND i.indisprimary OR c.relreplident = 'i' AND i.indisreplident)), '{}')
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE (n.nspname, c.relname) IN (SELECT * FROM unnest($1::text[], $2::text[]))`, []any{schemas, names},
		[]any{&name.Schema, &name.Table, &x.full, &x.columns}, func() error {
			all[name] = x
			x.columns = nil
			return nil
		})
	return all, err
}

// WholeRows is the statement by which the log tells the rows of a table whole.
func (s *Source) WholeRows(table schema.Table) string {
	return "ALTER TABLE " + table.Name.Quoted() + " REPLICA IDENTITY FULL;"
}
