package source

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// QueryTable is the table that a SELECT makes, before its columns are known. Another text is another
// table.
func QueryTable(name schema.Name, sql string) schema.Table {
	sum := sha256.Sum256([]byte(sql))
	return schema.Table{Name: name, Query: sql, View: true, Rows: -1, ID: "query " + hex.EncodeToString(sum[:8])}
}

// BadQuery is the problem of a query that a server does not take.
func BadQuery(err error, name schema.Name, what, remedy string) error {
	return problem.Wrap(err, problem.Invalid, fmt.Sprintf("The query %s cannot be read from %s: %s.", name.Table, what,
		strings.TrimSuffix(err.Error(), ".")), "Correct it: one statement that reads, each column with a name of "+
		"its own. "+
		remedy)
}
