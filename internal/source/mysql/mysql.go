// Package mysql reads MySQL databases, version 5.6 and later, and follows their log where transactions
// have global ids.
//
// What it has in common with MariaDB, most of it, is in package mariadb; here is what differs.
package mysql

import (
	"context"
	"fmt"
	"strings"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/source"
	"noemata/internal/source/mariadb"
)

// Kind is the name of this kind of source.
const Kind = "mysql"

const name = "MySQL" // as people know it

// Opener is what to register.
var Opener = connection.Kind[source.Source]{Check: Check, Open: Open}

// Check tells whether the settings can name a MySQL database.
func Check(s connection.Settings) (connection.Settings, error) {
	return connection.CheckServer(s, name, mariadb.DefaultPort)
}

// Open prepares to read a database; nothing is connected yet.
func Open(s connection.Settings, what string) (source.Source, error) {
	s, err := Check(s)
	if err != nil {
		return nil, err
	}
	return mariadb.New(server, s, what), nil
}

// A statement is told from those before it in its session by its event, which the performance
// schema counts (dev.mysql.com/doc/refman/8.0/en/performance-schema-events-statements-current-table.html).
const statementEvent = `(SELECT max(e.EVENT_ID) FROM performance_schema.threads AS h
JOIN performance_schema.events_statements_current AS e USING (THREAD_ID) WHERE h.PROCESSLIST_ID = p.ID)`

var server = mariadb.Server{
	Name:      name,
	Limit:     limit,
	Test:      test,
	Lists:     "performance_schema.*",
	Statement: statementEvent,
	Generated: "c.EXTRA LIKE '%VIRTUAL GENERATED%' OR c.EXTRA LIKE '%STORED GENERATED%'",
	RowEnd:    "false",
	Password:  "WITH caching_sha2_password BY '…'",
	Log:       log,
}

// limit bounds the time of SELECTs where the server can: from 5.7.8 on.
func limit(seconds int) string {
	return fmt.Sprintf("/*!50708 max_execution_time = %d, */ net_read_timeout = 30", seconds*1000)
}

// oldest is the first version that has read-only transactions, the performance schema by default
// and times with fractions.
const oldest = "5.6"

func test(ctx context.Context, r *mariadb.Reader) (string, error) {
	version, comment, err := r.Version(ctx)
	if err != nil {
		return "", err
	}
	number, _, _ := strings.Cut(version, "-")
	var major, minor int
	_, err = fmt.Sscanf(number, "%d.%d", &major, &minor)
	switch {
	case strings.Contains(version, "MariaDB"):
		return "", problem.Newf(problem.Invalid, "Add it as a source of the kind mariadb.",
			"The server is MariaDB %s.", number)
	case err != nil || major < 5 || major == 5 && minor < 6:
		return "", problem.Newf(problem.Invalid, "Use a server of version "+oldest+" or later.",
			"The server is %s %s, which is too old.", comment, version)
	}
	return "MySQL " + number, nil
}
