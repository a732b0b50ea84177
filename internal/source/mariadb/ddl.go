package mariadb

import (
	"slices"
	"strings"

	"noemata/internal/core/schema"
	"noemata/internal/source/mariadb/binlog"
)

// effect is what a statement of the log does to a table beside what events of rows tell.
type effect int

const (
	noEffect effect = iota
	empties         // all rows are gone
	replaces        // the table is another one from here on, or has lost rows that are not told
	reshapes        // its columns or keys are others from here on
	writes          // rows may have been changed by a statement that was logged as it was written
)

// token is a word, a name or a sign of a statement.
type token struct {
	text   string
	quoted bool // it is a name, whatever it looks like
}

// tokens takes a statement apart. Texts are left out, and comments but for those whose
// content the server runs.
func tokens(sql string) (list []token) {
	quotedBy := func(i int, quote byte) (string, int) {
		var name strings.Builder
		for i++; i < len(sql); i++ {
			switch {
			case sql[i] == '\\' && quote == '\'':
				i++
			case sql[i] != quote:
				name.WriteByte(sql[i])
			case i+1 < len(sql) && sql[i+1] == quote:
				name.WriteByte(quote)
				i++
			default:
				return name.String(), i + 1
			}
		}
		return name.String(), i
	}
	isWord := func(c byte) bool {
		return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
	}
	for i := 0; i < len(sql); {
		rest := sql[i:]
		switch c := sql[i]; {
		case c <= ' ':
			i++
		case strings.HasPrefix(rest, "/*!"), strings.HasPrefix(rest, "/*M!"):
			i += strings.IndexByte(rest, '!') + 1
			for i < len(sql) && sql[i] >= '0' && sql[i] <= '9' {
				i++
			}
		case strings.HasPrefix(rest, "*/"):
			i += 2
		case strings.HasPrefix(rest, "/*"):
			end := strings.Index(rest, "*/")
			if end < 0 {
				return list
			}
			i += end + 2
		case c == '#', strings.HasPrefix(rest, "--"):
			end := strings.IndexByte(rest, '\n')
			if end < 0 {
				return list
			}
			i += end + 1
		case c == '`', c == '"':
			var name string
			name, i = quotedBy(i, c)
			list = append(list, token{name, true})
		case c == '\'':
			_, i = quotedBy(i, c)
		case isWord(c):
			end := i
			for end < len(sql) && isWord(sql[end]) {
				end++
			}
			list = append(list, token{text: sql[i:end]})
			i = end
		default:
			list = append(list, token{text: string(c)})
			i++
		}
	}
	return list
}

// is tells whether a token is one of some words.
func (t token) is(words ...string) bool {
	return !t.quoted && slices.ContainsFunc(words, func(w string) bool { return strings.EqualFold(w, t.text) })
}

// effectOn tells what a statement does to a table, given the database that its session
// was in, and whether upper case is told from lower.
func effectOn(list []token, current string, table schema.Name, fold bool) effect {
	if len(list) == 0 {
		return noEffect
	}
	at := func(i int) token {
		if i >= 0 && i < len(list) {
			return list[i]
		}
		return token{}
	}
	same := func(a, b string) bool { return a == b || fold && strings.EqualFold(a, b) }
	// named tells whether the table's name stands at a place, and where it ends.
	named := func(i int) (bool, int) {
		if at(i + 1).is(".") {
			return same(at(i).text, table.Schema) && same(at(i+2).text, table.Table), i + 3
		}
		return same(current, table.Schema) && same(at(i).text, table.Table), i + 1
	}
	anywhere := func() bool {
		for i := range list {
			if found, _ := named(i); found && !at(i-1).isDot() {
				return true
			}
		}
		return false
	}
	skip := func(i int, words ...string) int {
		for at(i).is(words...) {
			i++
		}
		return i
	}
	switch first := list[0]; {
	case first.is("TRUNCATE"):
		if found, _ := named(skip(1, "TABLE")); found {
			return empties
		}
	case first.is("DROP"):
		if at(skip(1, "TEMPORARY")).is("TABLE", "TABLES") && !at(1).is("TEMPORARY") && anywhere() {
			return replaces
		}
		if at(1).is("DATABASE", "SCHEMA") && same(at(skip(2, "IF", "EXISTS")).text, table.Schema) {
			return replaces
		}
	case first.is("RENAME"):
		if anywhere() {
			return replaces
		}
	case first.is("CREATE"):
		if at(1).is("OR") && at(3).is("TABLE") {
			if found, _ := named(skip(4, "IF", "NOT", "EXISTS")); found {
				return replaces
			}
		}
	case first.is("ALTER"):
		found, next := named(skip(1, "ONLINE", "IGNORE", "TABLE", "IF", "EXISTS"))
		for i := next; i < len(list); i++ {
			switch {
			// With another table, either way.
			case at(i).is("EXCHANGE", "CONVERT") && at(i+1).is("PARTITION", "TABLE") && anywhere():
				return replaces
			case found && at(i).is("TRUNCATE", "DROP", "DISCARD", "IMPORT") && at(i+1).is("PARTITION", "TABLESPACE"):
				return replaces
			case found && at(i).is("RENAME") && !at(i+1).is("COLUMN", "INDEX", "KEY"):
				return replaces
			}
		}
		if found {
			return reshapes
		}
	}
	return noEffect
}

// writesAnything tells whether a statement of the log may have changed rows of any table:
// it is none of those that define or look after something. What it wrote is not known from
// its text, as views, triggers and functions write to others.
func writesAnything(list []token) bool {
	return !list[0].is("CREATE", "ALTER", "DROP", "RENAME", "TRUNCATE", "GRANT", "REVOKE", "SET", "FLUSH", "ANALYZE",
		"OPTIMIZE", "REPAIR", "CHECK", "INSTALL", "UNINSTALL", "BACKUP", "COMMENT")
}

// Touches tells whether an event changes rows of a table, or may.
func Touches(what any, table schema.Name, fold bool) bool {
	switch e := what.(type) {
	case *binlog.Table:
		return e.Schema == table.Schema && e.Name == table.Table || fold && strings.EqualFold(e.Schema, table.Schema) &&
			strings.EqualFold(e.Name, table.Table)
	case *binlog.Query:
		list := tokens(e.SQL)
		if len(list) == 0 || list[0].is("BEGIN", "COMMIT", "SAVEPOINT", "ROLLBACK", "RELEASE", "XA") {
			return false
		}
		return writesAnything(list) || effectOn(list, e.Schema, table, fold) != noEffect
	}
	return false
}

// words are the first words of a statement, for a person; its texts are left out.
func words(list []token) string {
	var some []string
	for _, t := range list[:min(len(list), 6)] {
		some = append(some, t.text)
	}
	return strings.Join(some, " ")
}

func (t token) isDot() bool { return !t.quoted && t.text == "." }
