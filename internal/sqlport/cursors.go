package sqlport

import (
	"context"
	"regexp"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
)

// Cursors are portals with a name that no portal of the protocol can have (PostgreSQL, DECLARE, FETCH).
const cursorMark = "\x00"

func cursorOf(word string) string { return cursorMark + unquoted(word) }

func isCursor(portal string) bool { return strings.HasPrefix(portal, cursorMark) }

const cursorName = `("(?:[^"]|"")*"|[\pL_][\pL\pN_$]*)`

var (
	declares = regexp.MustCompile(`(?is)^\s*DECLARE\s+` + cursorName +
		`\s+((?:(?:BINARY|ASENSITIVE|INSENSITIVE|NO\s+SCROLL|SCROLL)\s+)*)CURSOR\s+((?:WITH|WITHOUT)\s+HOLD\s+)?FOR\s(.*)$`)
	scrolls = regexp.MustCompile(`(?i)(^|\s)SCROLL`)
	fetches = regexp.MustCompile(`(?is)^\s*FETCH\s+(?:(?:(NEXT)|(?:FORWARD\s+)?(ALL|\d{1,9})|(FORWARD))\s+)?(?:(?:FROM|IN)\s+)?` +
		cursorName + `\s*$`)
)

// cursor declares a cursor, or fetches rows of one; false where a statement does neither.
func (x *session) cursor(ctx context.Context, sql string) (bool, error) {
	text := uncommented(sql)
	switch w := wordsOf(sql); {
	case w.is("DECLARE"):
		m := declares.FindStringSubmatch(text)
		if m == nil {
			return true, mistake("42601", "A cursor is declared so: DECLARE name NO SCROLL CURSOR FOR SELECT …")
		}
		return true, x.declare(ctx, m[1], strings.ToUpper(m[2]), strings.ToUpper(m[3]), m[4])
	case w.is("FETCH"):
		m := fetches.FindStringSubmatch(text)
		if m == nil {
			return true, mistake("0A000", "Rows are fetched forward: FETCH 100 FROM name, or FETCH ALL FROM name.")
		}
		most := uint32(1)
		if n, err := strconv.ParseUint(m[2], 10, 32); err == nil {
			most = uint32(n)
		}
		return true, x.fetch(ctx, m[4], most, strings.EqualFold(m[2], "ALL"))
	}
	return false, nil
}

func (x *session) declare(ctx context.Context, name, kinds, hold, query string) error {
	switch {
	case !x.inside:
		return mistake("25P01", "A cursor is one of a transaction: BEGIN before it.")
	case strings.HasPrefix(hold, "WITH "):
		return mistake("0A000", "A cursor ends with its transaction: leave WITH HOLD out.")
	case scrolls.MatchString(strings.ReplaceAll(kinds, "NO SCROLL", "")):
		return mistake("0A000", "A cursor goes forward: leave SCROLL out.")
	case strings.Contains(kinds, "BINARY"):
		return mistake("0A000", "A cursor gives texts here; portals of the protocol give rows in binary.")
	case x.portals[cursorOf(name)] != nil:
		return mistake("42P03", "There is a cursor %s already.", name)
	}
	q, err := x.prepare(ctx, query)
	if err != nil {
		return err
	}
	if len(q.Takes) > 0 {
		return mistake("42P02", "There is no parameter $1 in a simple query.")
	}
	x.portals[cursorOf(name)] = &portal{prepared: &prepared{sql: query, question: q, asOf: x.asOf}}
	x.backend.Send(&pgproto3.CommandComplete{CommandTag: []byte("DECLARE CURSOR")})
	return nil
}

// fetch sends the next rows of a cursor.
func (x *session) fetch(ctx context.Context, name string, most uint32, all bool) error {
	p := x.portals[cursorOf(name)]
	switch {
	case p == nil:
		return mistake("34000", "There is no cursor %s.", name)
	case p.over || most == 0 && !all:
		if p.question.Columns != nil {
			x.backend.Send(described(p.question.Columns, nil))
		}
		x.complete("FETCH", 0)
		return nil
	}
	if err := x.ask(ctx, p); err != nil {
		return err
	}
	defer p.during(ctx)()
	x.backend.Send(described(p.answer.Columns(), nil))
	if all {
		most = 0
	}
	n, over, err := x.rows(p.answer, nil, most, &p.pending)
	if over || err != nil {
		p.end()
	}
	if err == nil {
		x.complete("FETCH", int64(n))
	}
	return err
}
