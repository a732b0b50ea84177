package torture

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Ask runs a query of the warehouse; each value comes as text.
type Ask func(sql string) ([][]string, error)

// target is the name of a table's target.
func target(table string) string { return `kept.` + pgx.Identifier{table}.Sanitize() }

const id = `branch || '/' || CAST(no AS VARCHAR)`

// Judge compares what the warehouse has with what it must have, while nobody writes. It
// gives a sentence for each difference, a few for each table.
func (s *Source) Judge(ctx context.Context, ask Ask) ([]string, error) {
	return s.JudgeKeeps(ctx, ask, Keeps...)
}

// JudgeKeeps is Judge of the tables of some keeps.
func (s *Source) JudgeKeeps(ctx context.Context, ask Ask, keeps ...string) ([]string, error) {
	if s.bring != nil {
		if err := s.bring(ctx); err != nil {
			return nil, err
		}
	}
	var faults []string
	for _, keep := range keeps {
		for _, table := range Tables(keep) {
			found, err := s.judge(ctx, ask, keep, table)
			if err != nil {
				return faults, fmt.Errorf("%s: %w", table, err)
			}
			faults = append(faults, found[:min(len(found), 4)]...)
		}
	}
	return faults, nil
}

func (s *Source) judge(ctx context.Context, ask Ask, keep, table string) ([]string, error) {
	var must, has string
	switch keep {
	case "latest":
		must = `SELECT id, v::text, sum FROM must_latest WHERE tbl = $1 ORDER BY 1`
		has = `SELECT ` + id + `, CAST(v AS VARCHAR), ` + s.sum + ` FROM ` + target(table)
	case "soft-delete":
		must = `SELECT id, v::text, sum, deleted::text, (deleted AND seq <= ` + strconv.FormatInt(s.mark,
			10) + `)::text FROM must_soft_delete WHERE tbl = $1 ORDER BY 1`
		has = `SELECT ` + id + `, CAST(v AS VARCHAR), ` + s.sum + `, CAST(nm_deleted_at IS NOT NULL AS VARCHAR) FROM ` +
			target(table)
	case "history":
		return s.judgeHistory(ctx, ask, table)
	default:
		return s.judgeLedger(ctx, ask, table)
	}
	want, err := s.rows(ctx, must, table)
	if err != nil {
		return nil, err
	}
	got, err := ask(has)
	if err != nil {
		return nil, err
	}
	var faults []string
	left := map[string]string{}
	for _, row := range got {
		if _, twice := left[row[0]]; twice {
			faults = append(faults, fmt.Sprintf("%s: %s is there twice", table, row[0]))
		}
		left[row[0]] = strings.Join(row[1:], " ")
	}
	for _, row := range want {
		if keep == "soft-delete" {
			_, there := left[row[0]]
			if row[4] == "true" && !there {
				continue
			}
			row = row[:4]
		}
		if is, must := left[row[0]], strings.Join(row[1:], " "); is != must {
			faults = append(faults, fmt.Sprintf("%s: %s is %q and must be %q", table, row[0], is, must))
		}
		delete(left, row[0])
	}
	for key, is := range left {
		faults = append(faults, fmt.Sprintf("%s: %s is %q and must not be there", table, key, is))
	}
	return faults, nil
}

func (s *Source) rows(ctx context.Context, sql string, args ...any) ([][]string, error) {
	found, err := s.Pool.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, Texts)
}

// Texts gives the values of a row as text; null is empty.
func Texts(row pgx.CollectableRow) ([]string, error) {
	values, err := row.Values()
	out := make([]string, len(values))
	for i, v := range values {
		if v != nil {
			out[i] = fmt.Sprint(v)
		}
	}
	return out, err
}

// chains groups rows by their first value, in order.
func chains(rows [][]string) map[string][][]string {
	out := map[string][][]string{}
	for _, row := range rows {
		out[row[0]] = append(out[row[0]], row[1:])
	}
	return out
}

// judgeHistory wants the versions of each key to be the last ones that there must be, all
// of them but for those that were over when the table was copied, without overlap.
func (s *Source) judgeHistory(ctx context.Context, ask Ask, table string) ([]string, error) {
	steps, err := s.rows(ctx, `SELECT id, v::text, sum, closed::text, begins::text, live::text FROM (SELECT h.*, `+
		`t.live FROM must_history h JOIN steps t USING (tbl, id, seq)) x WHERE tbl = $1 ORDER BY id, seq`, table)
	if err != nil {
		return nil, err
	}
	got, err := ask(`SELECT ` + id + `, CAST(v AS VARCHAR), ` + s.sum +
		`, CAST(nm_until IS NOT NULL AS VARCHAR), CAST(NOT nm_current AS VARCHAR),
CAST(coalesce(nm_from < lag(nm_until) OVER w OR nm_from <= lag(nm_from) OVER w OR nm_from >= nm_until, false) AS VARCHAR), CAST(coalesce(nm_from <> lag(nm_until) OVER w, true) AS VARCHAR),
CAST(nm_from = (SELECT min(nm_from) FROM ` + target(table) + `) AS VARCHAR)
FROM ` + target(table) + ` WINDOW w AS (PARTITION BY branch, no ORDER BY nm_from, nm_position) ORDER BY branch, no, nm_from`)
	if err != nil {
		return nil, err
	}
	var faults []string
	fault := func(key, format string, args ...any) {
		faults = append(faults, table+": "+key+" "+fmt.Sprintf(format, args...))
	}
	has := chains(got)
	want := map[string][][]string{}
	for _, row := range steps {
		if row[5] == "true" {
			want[row[0]] = append(want[row[0]], row[1:])
		}
	}
	for key, versions := range has {
		must := want[key]
		missing := len(must) - len(versions)
		if missing < 0 {
			fault(key, "has %d versions and must have %d: %v, must be %v", len(versions), len(must), versions, must)
			continue
		}
		for i, x := range versions {
			m := must[missing+i]
			switch {
			case x[0] != m[0] || x[1] != m[1]:
				fault(key, "has version %s where %s must be (%d of %d): %v, must be %v", x[0], m[0], i, len(versions),
					shorten(versions), shorten(must))
			case x[2] != m[2] || x[3] != m[2]:
				fault(key, "version %s: closed is %s and must be %s", x[0], x[2], m[2])
			case x[4] == "true":
				fault(key, "version %s overlaps another or is out of order", x[0])
			case i > 0 && x[5] != m[3]:
				fault(key, "version %s begins after a gap: %s, must be %s", x[0], x[5], m[3])
			case i == 0 && missing > 0 && m[3] != "true" && x[6] != "true":
				fault(key, "begins with version %s, which is not from the copy, and follows a version that is missing",
					x[0])
			default:
				continue
			}
			break
		}
	}
	for key, must := range want {
		if _, ok := has[key]; !ok && must[len(must)-1][2] != "true" {
			fault(key, "is missing; it must have version %s", must[len(must)-1][0])
		}
	}
	return faults, nil
}

func shorten(list [][]string) []string {
	var out []string
	for _, x := range list {
		out = append(out, x[0])
	}
	return out
}

// judgeLedger wants the events of each key to be the last ones that there must be, after a
// row of the copy if there was one.
func (s *Source) judgeLedger(ctx context.Context, ask Ask, table string) ([]string, error) {
	events, err := s.rows(ctx, `SELECT id, change, coalesce(v::text, ''), coalesce(sum, '') FROM must_ledger WHERE `+
		`tbl = $1 ORDER BY id, seq`, table)
	if err != nil {
		return nil, err
	}
	got, err := ask(`SELECT ` + id + `, nm_change, CASE WHEN nm_change = 'delete' THEN '' ELSE CAST(v AS VARCHAR) ` +
		`END, CASE WHEN nm_change = 'delete' THEN '' ELSE ` + s.sum + ` END FROM ` + target(table) +
		` WHERE nm_change <> 'truncate' ORDER BY branch, no, nm_position`)
	if err != nil {
		return nil, err
	}
	var faults []string
	want := chains(events)
	for key, list := range chains(got) {
		must := want[key]
		if list[0][0] == "copy" {
			was := list[0]
			list = list[1:]
			if i := len(must) - len(list) - 1; i < 0 || must[i][1] != was[1] || must[i][2] != was[2] {
				faults = append(faults,
					fmt.Sprintf("%s: %s was copied as version %s, and %d events follow, of %d that there must be: %v",
						table, key, was[1], len(list), len(must), must[max(len(must)-4, 0):]))
				continue
			}
		}
		missing := len(must) - len(list)
		if missing < 0 {
			faults = append(faults, fmt.Sprintf("%s: %s has %d events and must have %d", table, key, len(list),
				len(must)))
			continue
		}
		for i, x := range list {
			if m := must[missing+i]; strings.Join(x, " ") != strings.Join(m, " ") {
				faults = append(faults, fmt.Sprintf("%s: %s has the event %v where %v must be", table, key, x, m))
				break
			}
		}
	}
	return faults, nil
}

// Explain gives what the record has of the key that a fault of Judge names.
func (s *Source) Explain(ctx context.Context, fault string) string {
	table, rest, _ := strings.Cut(fault, ": ")
	key, _, _ := strings.Cut(rest, " ")
	rows, err := s.rows(ctx, `SELECT seq, xid, op, v, sum FROM record WHERE tbl = $1 AND (id = $2 OR op = 'T') `+
		`ORDER BY seq DESC LIMIT 12`, table, key)
	return fmt.Sprint(table, " ", key, " ", rows, err)
}
