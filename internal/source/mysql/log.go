package mysql

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/source/mariadb"
	"noemata/internal/source/mariadb/binlog"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/statement"
)

var log = &mariadb.Log{
	Example:   "3e11fa47-71ca-11e1-9e33-c80aa9429562:1-4711, or with a comma between servers",
	Parse:     parseSet,
	From:      after,
	Origin:    "DATABASE()", // the set tells one server from another
	End:       executed,
	Begun:     begun,
	Snapshots: snapshots,
	Waits:     true,
	Findings:  findings,
	Monitor:   "REPLICATION CLIENT /*!80000 , XA_RECOVER_ADMIN */", // from 8.0 on, prepared transactions are a privilege
	Keep:      "SET GLOBAL binlog_expire_logs_seconds = 604800 (before version 8.0: expire_logs_days = 7)",
	Constant: func(text, extra string) bool {
		return !strings.Contains(extra, "DEFAULT_GENERATED") && !strings.HasPrefix(text, "CURRENT_TIMESTAMP")
	},
}

// executed are the transactions of the server, as SQL. Before version 5.7 they are counted once they
// are in the log, later once they are in the tables, too.
const executed = "@@global.gtid_executed"

// begun looks whether the server has all that a feed has. One that does not was set back, or is
// another one, whose numbers mean other transactions.
func begun(ctx context.Context, s *mariadb.Source, place mariadb.Reached) error {
	var has bool
	if err := s.Row(ctx, "SELECT gtid_subset(?, "+executed+")", []any{place.String()}, &has); err != nil {
		return err
	}
	if !has {
		return s.LostLog("The server does not have all transactions that the feed has: it was set back, or is another one.")
	}
	return nil
}

// findings tells what MySQL's servers must be set to, beside what all are.
func findings(ctx context.Context, s *mariadb.Source, variables map[string]string, add mariadb.AddFinding) error {
	if mode := variables["gtid_mode"]; mode != "ON" {
		add(problem.Blocker, "", "Set gtid_mode = ON and enforce_gtid_consistency = ON in the server's configuration "+
			"(before version 5.7 log_bin and log_slave_updates, too), and restart it.",
			"The server's gtid_mode is %s: its transactions have no ids, and positions are made of them.", mode)
	}
	var list string
	if err := s.Row(ctx, "SELECT "+executed, nil, &list); err != nil {
		return err
	}
	if _, err := parseSet(list); err != nil {
		add(problem.Blocker, "", "Give transactions no tags: gtid_next = AUTOMATIC, without one. Those that are there stay "+
			"in gtid_executed until RESET BINARY LOGS AND GTIDS.",
			"The server has transactions that positions cannot name: %v.", err)
	}
	if partly := variables["binlog_row_value_options"]; partly != "" {
		add(problem.Blocker, "", "SET GLOBAL binlog_row_value_options = ''; and the same in the server's configuration.",
			"The server's binlog_row_value_options is %s: the log tells of documents only how they differ.", partly)
	}
	switch metadata, can := variables["binlog_row_metadata"]; {
	case !can:
		add(problem.Note, "", "Change tables while the feed is paused and at the log's end, or let the feed follow drift.",
			"The log of this version tells no names of columns, so they are known by their order, and a change of a "+
				"table's structure holds it.")
	case metadata != "FULL":
		add(problem.Warning, "", "SET GLOBAL binlog_row_metadata = 'FULL'; and the same in the server's configuration.",
			"The server's binlog_row_metadata is %s: the log tells no names of columns, so they are known by their "+
				"order, and a change of a table's structure holds it.", metadata)
	}
	// What copies need to see.
	_, err := s.Transactions(ctx, "''", "false")
	if err == nil {
		_, err = committing(ctx, s)
	}
	if err == nil {
		err = s.Rows(ctx, "XA RECOVER", nil, []any{new(any), new(any), new(any), new(any)}, func() error { return nil })
	}
	if p := (*problem.Problem)(nil); errors.As(err, &p) && p.Code == problem.NoPrivilege {
		add(problem.Blocker, "", p.Remedy, "%s", p.What)
		err = nil
	}
	return err
}

// How long is tried for a moment at which a table is not written, and how long a commit that has
// begun is waited for.
const (
	quietWithin  = time.Minute
	commitWithin = 10 * time.Second
	pollEach     = 2 * time.Millisecond
	listEach     = 120 * time.Millisecond // as the server makes its list of transactions anew
)

// snapshots begins transactions on all connections around which nothing in the log changes the
// table, so that they show the same of it, and it is the same whether what else was committed
// then is counted or not.
//
// The server does not tell at which place in its log a snapshot is, and a transaction is in the log
// before it is in the tables. So the end of the log is looked up, what is being committed then
// is waited for, and the snapshots are begun; the log from there to where it ends then has what
// the snapshots may show or not.
func snapshots(ctx context.Context, s *mariadb.Source, table schema.Table, conns []*wire.Conn) (int, string, error) {
	var fold bool
	if err := s.Row(ctx, "SELECT @@global.lower_case_table_names > 0", nil, &fold); err != nil {
		return 0, "", err
	}
	if _, err := s.Transactions(ctx, "''", "false"); err != nil { // else the list of sessions has our own alone
		return 0, "", err
	}
	for deadline := time.Now().Add(quietWithin); ; {
		at, err := attempt(ctx, s, table.Name, fold, conns)
		if err != nil {
			return 0, "", err
		}
		if at != nil {
			return len(conns), at.String(), nil
		}
		if time.Now().After(deadline) {
			return 0, "", problem.Newf(problem.Busy, "The next run tries again; let it come at a time of fewer writes.",
				"The table %s was written without pause for %v, so that no copy could be begun whose place in the log "+
					"is known.", table.Name, quietWithin)
		}
		select {
		case <-ctx.Done():
			return 0, "", ctx.Err()
		case <-time.After(listEach):
		}
	}
}

// attempt begins the snapshots; at is nil where the table was written meanwhile.
func attempt(ctx context.Context, s *mariadb.Source, table schema.Name, fold bool,
	conns []*wire.Conn) (at mariadb.Reached, err error) {
	file, offset, err := s.LastFile(ctx)
	if err != nil {
		return nil, err
	}
	if err := settle(ctx, s); err != nil {
		return nil, err
	}
	var list string
	if err := s.Row(ctx, "SELECT "+executed, nil, &list); err != nil {
		return nil, err
	}
	before, err := parseSet(list)
	if err != nil {
		return nil, err
	}
	done := statement.Begin(ctx, statement.Source, mariadb.Snapshots(conns))
	err = mariadb.BeginSnapshots(ctx, conns, nil)
	done(0, err)
	if err != nil {
		return nil, s.Explain(err)
	}
	lastFile, end, err := s.LastFile(ctx)
	if err != nil {
		return nil, err
	}
	// A transaction may be in the tables and not have been counted yet, and be neither in the stretch
	// that is read now nor in what was counted before.
	if err := s.Row(ctx, "SELECT "+executed, nil, &list); err != nil {
		return nil, err
	}
	after, err := parseSet(list)
	if err != nil {
		return nil, err
	}
	reached, later, quiet, err := between(ctx, s, file, offset, before,
		func(in string, at int64, what any) (past, found bool) {
			past = in == lastFile && at >= end
			return past, !past && mariadb.Touches(what, table, fold)
		})
	if err != nil || !quiet || after.Sum() > later.Sum() {
		return nil, err
	}
	return reached, nil
}

// between reads the log from a place on to its end. reached is what was begun with and all
// transactions up to where look tells that it is past; later all that were read. It is not quiet
// where look finds something.
func between(ctx context.Context, s *mariadb.Source, file string, offset int64, begun mariadb.Reached,
	look func(file string, at int64, what any) (past, found bool)) (reached, later mariadb.Reached, quiet bool,
	err error) {
	conn, hangUp, err := s.Dump(ctx, wire.Dump{File: file, Offset: uint32(offset), ToTheEnd: true})
	if err != nil {
		return nil, nil, false, s.Explain(err)
	}
	defer hangUp()
	reached, later = begun, begun
	decoder, at := binlog.NewDecoder(), offset
	for {
		if err := conn.Await(time.Now().Add(commitWithin)); err != nil {
			return nil, nil, false, s.Explain(err)
		}
		event, err := conn.Event()
		if errors.Is(err, wire.ErrEnd) {
			return reached, later, true, nil
		}
		if err != nil {
			return nil, nil, false, s.Explain(err)
		}
		h, what, err := decoder.Decode(event)
		if err != nil {
			return nil, nil, false, s.Explain(err)
		}
		list := []any{what}
		if p, ok := what.(*binlog.Payload); ok {
			list = nil
			for _, inner := range p.Events {
				_, what, err := decoder.Decode(inner)
				if err != nil {
					return nil, nil, false, s.Explain(err)
				}
				list = append(list, what)
			}
		}
		for _, what := range list {
			past, found := look(file, at, what)
			if found {
				return nil, nil, false, nil
			}
			switch e := what.(type) {
			case *binlog.Rotate:
				file, at = e.File, int64(e.Offset)
			case *binlog.Begin:
				if later = later.With(e); !past {
					reached = reached.With(e)
				}
			}
		}
		if h.Next > 0 {
			at = int64(h.Next)
		}
	}
}

// settle waits until what is being committed has been.
func settle(ctx context.Context, s *mariadb.Source) error {
	waiting, err := committing(ctx, s)
	if err != nil {
		return err
	}
	applying, err := replicated(ctx, s)
	if err != nil {
		return err
	}
	for begun := time.Now(); len(waiting)+len(applying) > 0; {
		if time.Since(begun) > commitWithin {
			return problem.Newf(problem.Busy, "Look for them in SHOW PROCESSLIST; the next run tries again.",
				"Statements that may be committing did not end within %v: of %s.", commitWithin,
				strings.Join(append(waiting, applying...), ", "))
		}
		pause := pollEach
		if len(waiting) == 0 {
			pause = listEach
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		if len(waiting) > 0 {
			waiting, err = still(waiting)(committing(ctx, s))
		} else {
			applying, err = still(applying)(replicated(ctx, s))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// replicated lists the open transactions of sessions that apply the log of another server: theirs are
// no statements.
func replicated(ctx context.Context, s *mariadb.Source) ([]string, error) {
	var session string
	var sessions []string
	err := s.Rows(ctx, "SELECT ID FROM information_schema.PROCESSLIST WHERE COMMAND = 'Connect' AND USER = "+
		"'system user'", nil, []any{&session}, func() error {
		sessions = append(sessions, session)
		return nil
	})
	if err != nil || sessions == nil {
		return nil, err
	}
	return s.Transactions(ctx, "concat(t.trx_mysql_thread_id, '/', t.trx_id)",
		"t.trx_mysql_thread_id IN ("+strings.Join(sessions, ", ")+")")
}

// still keeps of a list what is in another one.
func still(list []string) func(now []string, err error) ([]string, error) {
	return func(now []string, err error) ([]string, error) {
		return slices.DeleteFunc(list, func(x string) bool { return !slices.Contains(now, x) }), err
	}
}

// committing lists the sessions whose statements may be committing: they are at work, and not in one
// of the stages that come before (dev.mysql.com/doc/refman/8.0/en/general-thread-states.html).
func committing(ctx context.Context, s *mariadb.Source) (list []string, err error) {
	var session string
	err = s.Rows(ctx, "SELECT concat(p.ID, '?', coalesce("+statementEvent+", '')) FROM "+
		"information_schema.PROCESSLIST AS p WHERE p.COMMAND IN ('Query', 'Execute') AND "+
		"p.ID <> CONNECTION_ID() AND coalesce(p.STATE, '') NOT IN "+
		"('updating', 'update', 'Sending data', 'executing', 'Searching rows for update', 'User sleep', "+
		"'Creating sort index', 'Waiting for table metadata lock')", nil, []any{&session}, func() error {
		list = append(list, session)
		return nil
	})
	return list, err
}
