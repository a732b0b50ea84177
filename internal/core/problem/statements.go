package problem

import (
	"regexp"
	"strings"
)

// begins matches how a remedy begins that is a statement of SQL.
var begins = regexp.MustCompile(`^(GRANT|ALTER|CREATE|SET GLOBAL) `)

// Statements are the statements of SQL that a remedy begins with, without their semicolons, and then
// the rest, such as "then restart the server.". A remedy that leaves something to be filled in ("…"),
// or that quotes in a way that servers differ in (by a backslash), has none.
func Statements(remedy string) (list []string, then string) {
	then = remedy
	for begins.MatchString(then) {
		end := endOf(then)
		if end < 0 {
			break
		}
		list = append(list, then[:end])
		then = strings.TrimSpace(then[end+1:])
	}
	for _, sql := range list {
		if strings.ContainsAny(sql, "…\\\x00") {
			return nil, remedy
		}
	}
	return list, then
}

// endOf is where the first semicolon is that is outside of quotes; -1 where there is none.
func endOf(text string) int {
	var quote rune
	for i, r := range text {
		switch {
		case quote != 0:
			if r == quote { // a doubled one closes and opens
				quote = 0
			}
		case r == '\'' || r == '"' || r == '`':
			quote = r
		case r == ';':
			return i
		}
	}
	return -1
}
