package mariadb

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"noemata/internal/connection"
	"noemata/internal/core/change"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/binlog"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/statement"
)

// CheckPosition gives a position in its one written form.
func (s *Source) CheckPosition(text string) (string, error) {
	p, err := s.place(text)
	if err != nil {
		return "", err
	}
	return p.String(), nil
}

// Origin names the database. A replica that takes its server's place has the same one.
func (s *Source) Origin(ctx context.Context) (origin string, err error) {
	err = s.Row(ctx, "SELECT "+s.server.Log.Origin, nil, &origin)
	return origin, err
}

// End is the end of the log: what was committed is in it.
func (s *Source) End(ctx context.Context) (string, time.Time, error) {
	var end string
	var moment time.Time
	if err := s.Row(ctx, "SELECT UTC_TIMESTAMP(6), "+s.server.Log.End, nil, &moment, &end); err != nil {
		return "", moment, err
	}
	end, err := s.CheckPosition(end)
	return end, moment, err
}

// PrepareLog makes nothing: the server logs whatever it logs, and keeps it as long as it is
// set to.
func (s *Source) PrepareLog(ctx context.Context, p source.Prepared) (string, error) {
	if p.Begun != "" {
		return p.Begun, nil
	}
	end, _, err := s.End(ctx)
	return end, err
}

// DropLog forgets what is known of a follower. At the server there is nothing to remove.
func (s *Source) DropLog(_ context.Context, name string) error {
	s.places.Delete(name)
	return nil
}

// LogState measures the log from where the warehouse stands to its end.
func (s *Source) LogState(ctx context.Context, name, at string) (source.LogState, error) {
	state := source.LogState{There: true, Confirms: at}
	end, _, err := s.End(ctx)
	if problem.Is(err, problem.NoPrivilege) || err == nil && (at == "" || at >= end) {
		return state, nil // the findings say what is missing
	}
	if err != nil {
		return state, err
	}
	from, err := s.fileOf(ctx, name, at)
	if err != nil {
		return state, err
	}
	found := false
	err = s.files(ctx, func(file string, size int64) {
		if file == from.file {
			found = true
			state.Behind += max(size-int64(from.offset), 0)
		} else if found {
			state.Behind += size
		}
	})
	state.Retained = state.Behind
	return state, err
}

// files lists the files of the log, the oldest first, with their sizes in bytes.
func (s *Source) files(ctx context.Context, each func(file string, size int64)) error {
	const list = "SHOW BINARY LOGS"
	done := statement.Begin(ctx, statement.Source, list)
	err := func() error {
		found, err := s.db.QueryContext(ctx, list)
		if err != nil {
			return err
		}
		defer func() { _ = found.Close() }()
		columns, err := found.Columns()
		if err != nil {
			return err
		}
		var file string
		var size int64
		into := []any{&file, &size}
		for len(into) < len(columns) { // MySQL tells more
			into = append(into, new(any))
		}
		for found.Next() {
			if err := found.Scan(into...); err != nil {
				return err
			}
			each(file, size)
		}
		return found.Err()
	}()
	done(0, err)
	return s.noticed(s.Explain(err))
}

// LastFile is the end of the log as its last file has it.
func (s *Source) LastFile(ctx context.Context) (file string, offset int64, err error) {
	err = s.files(ctx, func(f string, size int64) { file, offset = f, size })
	return file, offset, err
}

// fileOf finds a position in the server's files. A stream knows where it has come to; without
// one, the server is asked for the first transaction after the position.
func (s *Source) fileOf(ctx context.Context, name, position string) (filePlace, error) {
	if known, ok := s.places.Load(name); ok {
		for _, p := range known.([]filePlace) {
			if p.position == position {
				return p, nil
			}
		}
	}
	from, err := s.place(position)
	if err != nil {
		return filePlace{}, err
	}
	conn, hangUp, err := s.dumpAfter(ctx, from)
	if err != nil {
		return filePlace{}, s.explainLog(ctx, err, position)
	}
	defer hangUp()
	at, decoder := filePlace{position: position}, binlog.NewDecoder()
	for range mostPreamble {
		if err := conn.Await(time.Now().Add(3 * heartbeat)); err != nil {
			return filePlace{}, s.explainLog(ctx, err, position)
		}
		event, err := conn.Event()
		if err != nil {
			return filePlace{}, s.explainLog(ctx, err, position)
		}
		h, what, err := decoder.Decode(event)
		if err != nil {
			return filePlace{}, err
		}
		switch e := what.(type) {
		case *binlog.Rotate:
			at.file, at.offset = e.File, e.Offset
		case *binlog.Begin:
			at.offset = uint64(h.Next) - min(uint64(len(event)), uint64(h.Next))
			s.places.LoadOrStore(name, []filePlace{at}) // a stream knows better
			return at, nil
		}
	}
	return filePlace{}, s.Explain(fmt.Errorf("the log has no transaction after %s", position))
}

// mostPreamble is how many events may come before the first transaction: descriptions of the
// format, and of the files that hold none.
const mostPreamble = 1000

// Settle waits for the transactions that are prepared: the log has told their changes, maybe
// before the feed began. Any other is logged whole when it commits.
func (s *Source) Settle(ctx context.Context, _ schema.Table, waits func(who string)) error {
	var first []string
	for begun := false; ; begun = true {
		var now []string
		var format, global, branch int
		var name string
		if err := s.Rows(ctx, "XA RECOVER", nil, []any{&format, &global, &branch, &name}, func() error {
			now = append(now, name)
			return nil
		}); err != nil {
			return err
		}
		if !begun {
			first = now
		}
		first = slices.DeleteFunc(first, func(id string) bool { return !slices.Contains(now, id) })
		if len(first) == 0 {
			return nil
		}
		waits(fmt.Sprintf("prepared transactions that XA RECOVER shows (%s)",
			strings.Join(first[:min(len(first), 5)], ", ")))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Sees tells whether a snapshot shows what a transaction did. Both are places in one log.
func (s *Source) Sees(snapshot string, t change.Txn) bool { return t.Position <= snapshot }

// LogFindings tells what following the tables needs.
func (s *Source) LogFindings(ctx context.Context, tables []source.Followed) ([]problem.Finding, error) {
	var findings []problem.Finding
	add := func(level problem.Level, table, remedy, format string, args ...any) {
		findings = append(findings, problem.Finding{Level: level, Table: table, What: fmt.Sprintf(format, args...),
			Remedy: remedy})
	}
	variables, err := s.variables(ctx)
	if err != nil {
		return nil, err
	}
	if variables["log_bin"] != "ON" {
		add(problem.Blocker, "", "Set log_bin = ON in the server's configuration, and restart it.",
			"The server keeps no binary log.")
		return findings, nil
	}
	if format := variables["binlog_format"]; format != "ROW" {
		add(problem.Blocker, "", "SET GLOBAL binlog_format = 'ROW'; and the same in the server's configuration. "+
			"Sessions keep what they have until they end.", "The server's binlog_format is %s, so that changes may "+
			"be logged as statements, without their rows.", format)
	}
	expires := keptFor(variables)
	if variables["server_id"] == "0" {
		add(problem.Blocker, "", "Set server_id in the server's configuration, and restart it.",
			"The server has no server_id, and lets nobody follow its log.")
	}
	switch {
	case expires == 0:
		add(problem.Note, "", s.server.Log.Keep+"; if the disk cannot hold it for ever.",
			"The server keeps its binary log without limit.")
	case expires < 24*time.Hour:
		add(problem.Warning, "", s.server.Log.Keep+";",
			"The server removes its binary log after %v: a feed that is paused for longer must copy its tables again.",
			expires)
	}
	if err := s.server.Log.Findings(ctx, s, variables, add); err != nil {
		return nil, err
	}
	if err := s.mayFollow(ctx, add); err != nil {
		return nil, err
	}
	for _, t := range tables {
		if err := s.tableFindings(ctx, t, tables, variables["binlog_row_image"], add); err != nil {
			return nil, err
		}
	}
	return findings, nil
}

// variables are the server's settings, by their names in lower case.
func (s *Source) variables(ctx context.Context) (map[string]string, error) {
	variables := map[string]string{}
	var name, value string
	err := s.Rows(ctx, "SHOW GLOBAL VARIABLES", nil, []any{&name, &orEmpty{&value}}, func() error {
		variables[strings.ToLower(name)] = value
		return nil
	})
	return variables, err
}

// keptFor is how long a server keeps its log, by its settings; 0 is for ever.
func keptFor(variables map[string]string) time.Duration {
	seconds, _ := strconv.ParseInt(variables["binlog_expire_logs_seconds"], 10, 64)
	if seconds == 0 {
		days, _ := strconv.ParseFloat(variables["expire_logs_days"], 64)
		seconds = int64(days * 86400)
	}
	return time.Duration(seconds) * time.Second
}

// BehindFindings looks whether the server keeps its log for so long.
func (s *Source) BehindFindings(ctx context.Context, by time.Duration) ([]problem.Finding, error) {
	variables, err := s.variables(ctx)
	if kept := keptFor(variables); err == nil && kept > 0 && kept < by {
		return []problem.Finding{{Level: problem.Warning, Remedy: s.server.Log.Keep + ";", What: fmt.Sprintf(
			"The server removes its binary log after %v, and the feed wants it for %v longer than it needs it.", kept, by)}}, nil
	}
	return nil, err
}

// LogRate reads the server's counters, which begin with its start. MySQL has none of its log, so there its files
// are measured, which begin with the oldest that is kept.
func (s *Source) LogRate(ctx context.Context) (source.LogRate, error) {
	counted := map[string]float64{}
	var name, value string
	err := s.Rows(ctx, "SHOW GLOBAL STATUS WHERE Variable_name IN ('Binlog_bytes_written', 'Uptime')", nil,
		[]any{&name, &orEmpty{&value}}, func() error {
			counted[name], _ = strconv.ParseFloat(value, 64)
			return nil
		})
	bytes, told := counted["Binlog_bytes_written"]
	over := time.Duration(counted["Uptime"]) * time.Second
	if err == nil && !told {
		bytes, over, err = s.measureFiles(ctx)
	}
	if err != nil || over < time.Second {
		return source.LogRate{PerHour: -1}, err
	}
	return source.LogRate{PerHour: int64(bytes / over.Hours()), Over: over}, nil
}

// measureFiles gives the size of the log's files, and the time since the oldest of them was begun: that of its
// first event, which describes the format (dev.mysql.com/doc/dev/mysql-server/latest/page_protocol_replication_binlog_event.html).
func (s *Source) measureFiles(ctx context.Context) (bytes float64, over time.Duration, err error) {
	const formatDescription = 15
	oldest := ""
	err = s.files(ctx, func(file string, size int64) {
		oldest = cmp.Or(oldest, file)
		bytes += float64(size)
	})
	if err != nil || oldest == "" {
		return 0, 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, connection.DialTimeout)
	defer cancel()
	log, hangUp, err := s.Dump(ctx, wire.Dump{File: oldest, Offset: 4})
	if err != nil {
		return 0, 0, s.explainLog(ctx, err, oldest)
	}
	defer hangUp()
	for {
		event, err := log.Event()
		if err != nil || len(event) < 5 {
			return 0, 0, s.explainLog(ctx, err, oldest)
		}
		if event[4] == formatDescription {
			return bytes, time.Since(time.Unix(int64(binary.LittleEndian.Uint32(event)), 0)), nil
		}
	}
}

// mayFollow looks for the privileges that following needs.
func (s *Source) mayFollow(ctx context.Context, add AddFinding) error {
	var grant, all string
	if err := s.Rows(ctx, "SHOW GRANTS", nil, []any{&grant}, func() error {
		if strings.Contains(grant, " ON *.* ") {
			all += grant
		}
		return nil
	}); err != nil {
		return err
	}
	if strings.Contains(all, "ALL PRIVILEGES") {
		return nil
	}
	if !strings.Contains(all, "REPLICATION SLAVE") && !strings.Contains(all, "REPLICATION REPLICA") {
		add(problem.Blocker, "", s.grant(ctx, "REPLICATION SLAVE", "*.*"), "User %q may not read the binary log.",
			s.settings.User)
	}
	if !strings.Contains(all, "BINLOG MONITOR") && !strings.Contains(all, "REPLICATION CLIENT") {
		add(problem.Blocker, "", s.grant(ctx, s.server.Log.Monitor, "*.*"),
			"User %q may not see where the binary log stands.", s.settings.User)
	}
	return nil
}

// tableFindings tells what is in the way of following one table.
func (s *Source) tableFindings(ctx context.Context, t source.Followed, all []source.Followed, image string,
	add AddFinding) error {
	name := t.Table.Name.Display()
	block := func(remedy, format string, args ...any) { add(problem.Blocker, name, remedy, format, args...) }
	if t.Table.View {
		block("Follow the tables below it, or use find: watermark or whole.",
			"It is a view, which has no changes of its own in the log.")
		return nil
	}
	var engine, transactions, kind string
	if err := s.Row(ctx, "SELECT coalesce(t.ENGINE, ''), coalesce(e.TRANSACTIONS, ''), t.TABLE_TYPE FROM "+
		"information_schema.TABLES t LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE WHERE "+
		"t.TABLE_SCHEMA = ? AND t.TABLE_NAME = ?",
		[]any{t.Table.Name.Schema, t.Table.Name.Table}, &engine, &transactions, &kind); err != nil {
		return err
	}
	if transactions != "YES" {
		block(fmt.Sprintf("ALTER TABLE %s ENGINE = InnoDB;", s.named(t.Table.Name)),
			"Its engine %s has no transactions, so it cannot be copied at a place in the log.", engine)
	}
	if kind == "SYSTEM VERSIONED" {
		add(problem.Note, name, "A feed that keeps history needs no versioning at the source.",
			"The server keeps old versions of its rows; the feed has those that are current.")
	}
	for _, r := range t.Table.Refers {
		i := slices.IndexFunc(all, func(x source.Followed) bool { return x.Table.Name == r.To })
		if i < 0 {
			block(fmt.Sprintf("Add the table %s to the feed, with find: log. Or let the constraint restrict instead, or "+
				"find the table's changes by watermark with a sweep.", r.To.Display()),
				"The server changes its rows by itself, without logging it, when rows of %s go or change, and the feed "+
					"does not follow that table.", r.To.Display())
			continue
		}
		primary, err := s.primaryOf(ctx, r.To)
		if err != nil {
			return err
		}
		if image != "FULL" && slices.ContainsFunc(r.ToColumns,
			func(c string) bool { return !slices.Contains(primary, c) }) {
			block("SET GLOBAL binlog_row_image = 'FULL';", "Its rows refer to (%s) of %s, which the log leaves out of "+
				"old rows: the server's binlog_row_image is %s.", strings.Join(r.ToColumns, ", "), r.To.Display(), image)
		}
	}
	for _, c := range t.Table.Columns {
		way, charset, _ := strings.Cut(c.Wire, " ")
		decode, err := s.charsetOf(ctx, c)
		switch {
		case err != nil:
			return err
		case way == wayUnknown:
			block("Drop the column in the feed, or find the table's changes by watermark.",
				"The type %s of the column %s cannot be read from the log.", c.Native, c.Name)
		case way == wayText && decode == nil:
			block(fmt.Sprintf("ALTER TABLE %s CONVERT TO CHARACTER SET utf8mb4; or drop the column in the feed.",
				s.named(t.Table.Name)), "The character set %s of the column %s cannot be read from the log.", charset,
				c.Name)
		}
	}
	if image == "FULL" {
		return nil
	}
	primary, err := s.primaryOf(ctx, t.Table.Name)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(t.Key, func(k string) bool { return !slices.Contains(primary, k) }) || len(primary) == 0 {
		block("SET GLOBAL binlog_row_image = 'FULL'; or let the feed's key be the primary key.",
			"The server's binlog_row_image is %s: of old rows the log tells the primary key alone, and the feed's "+
				"key is another.", image)
	}
	return nil
}

// WholeRows is the statement by which the log tells rows whole: of all tables, and of sessions that
// begin later.
func (s *Source) WholeRows(schema.Table) string { return "SET GLOBAL binlog_row_image = FULL;" }
