package feed

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"noemata/internal/core/schema"
)

// A table of a feed may be a query at the source. It has a name, under which it is known like a
// table of the schema QuerySchema.

// QuerySchema is the schema of a query, where a table has one.
const QuerySchema = "queries"

// MostQuery is how long a query may be, in bytes.
const MostQuery = 64 << 10

var queryName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,62}$`)

// IsQuery tells whether the table is a query at the source.
func (t *Table) IsQuery() bool { return t.Query != "" || t.Name != "" }

// nameQueries gives each query the name that it is known by.
func (f *Feed) nameQueries() {
	for i := range f.Tables {
		if t := &f.Tables[i]; t.IsQuery() && t.Table == "" && queryName.MatchString(t.Name) {
			t.Table = schema.Name{Schema: QuerySchema, Table: t.Name}.Display()
		}
	}
}

// withoutNames takes back what nameQueries has done, for a file.
func (f *Feed) withoutNames() *Feed {
	out := *f
	out.Tables = slices.Clone(f.Tables)
	for i := range out.Tables {
		if out.Tables[i].IsQuery() {
			out.Tables[i].Table = ""
		}
	}
	return &out
}

func (t *Table) checkQuery(at string, fault func(string, string, ...any)) {
	if !t.IsQuery() {
		if t.Table == "" {
			fault(at+".table", "A table needs its name, as schema.table, or a query and a name for it.")
		}
		return
	}
	switch {
	case t.Query == "":
		fault(at+".name", "name goes with a query; remove it, or write the query.")
	case !queryName.MatchString(t.Name):
		fault(at+".name", "A query needs a name: letters, digits and underscores, 63 at most.")
	case t.Table != (schema.Name{Schema: QuerySchema, Table: t.Name}).Display():
		fault(at+".table", "Give a table or a query, not both.")
	}
	if len(t.Except) > 0 {
		fault(at+".except", "except goes with a pattern, as public.*; remove it.")
	}
	if t.Find == FindLog {
		fault(at+".find", "The log tells of tables, not of queries: write watermark, compare or whole.")
	}
	if len(t.Key) == 0 && t.Keep != KeepReplace && t.Keep != KeepLedger {
		fault(at+".key", "Name the columns that tell the query's rows apart: key: [a, b].")
	}
	if wrong := wrongStatement(t.Query); wrong != "" && t.Query != "" {
		fault(at+".query", "%s", wrong)
	}
}

// wrongStatement tells, in a sentence, what is wrong with a query as far as can be seen without a
// server, which has the last word: it is to be one statement that reads.
func wrongStatement(sql string) string {
	if len(sql) > MostQuery {
		return fmt.Sprintf("The query is longer than %d bytes: make it a view at the source.", MostQuery)
	}
	words := regexp.MustCompile(`[A-Za-z]+`).FindString(strings.TrimLeft(sql, " \t\r\n("))
	if !slices.Contains([]string{"SELECT", "WITH", "VALUES", "TABLE"}, strings.ToUpper(words)) {
		return "The query must be one statement that reads: it begins with SELECT or WITH."
	}
	for i := 0; i < len(sql); i++ {
		switch c := sql[i]; {
		case c == '\'' || c == '"' || c == '`':
			end := strings.IndexByte(sql[i+1:], c)
			if end < 0 {
				return fmt.Sprintf("A %c in the query is not closed.", c)
			}
			i += end + 1
		case strings.HasPrefix(sql[i:], "/*!"), strings.HasPrefix(sql[i:], "/*M!"):
			return "The query has a comment that some servers run; remove it."
		case c == ';':
			return "The query must be one statement, without a semicolon."
		case c == 0:
			return "The query has a zero character."
		}
	}
	return ""
}
