// Package torture writes to a source at random, as many clients at once would, and tells
// from a record that triggers keep what a warehouse must hold of it. It shares no code with
// what it judges.
package torture

import (
	"context"
	_ "embed"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

//go:embed schema.sql
var schemaSQL string

// Keeps are the keeps that are tried, as feed files and table names have them.
var Keeps = []string{"latest", "soft-delete", "history", "ledger"}

// Tables are the names of the tables kept in one way.
func Tables(keep string) []string {
	keep = strings.ReplaceAll(keep, "-", "_")
	return []string{"loans_" + keep, "Odd. \"Copies\" " + keep}
}

// columns are those of every table beside its key, each with the value that a row gets when
// nothing else is said, and how it is told as text in the SQL that all databases share.
var columns = []struct{ name, definition, text string }{
	{"note", "text", "note"},
	{"fee", "numeric(12,2)", "CAST(fee AS VARCHAR)"},
	{"seen", "int", "CAST(seen AS VARCHAR)"},
	{"flag", "bool DEFAULT random() < 0.5", "CAST(flag AS VARCHAR)"},
	{"small", "smallint DEFAULT random() * 32767", "CAST(small AS VARCHAR)"},
	{"large", "bigint DEFAULT random() * 9e18", "CAST(large AS VARCHAR)"},
	{"ratio", "double precision DEFAULT floor(random() * 1000) / 8", "CAST(CAST(ratio * 8 AS BIGINT) AS VARCHAR)"},
	{"exact", "numeric DEFAULT random()::numeric * 1e20", "CAST(exact AS VARCHAR)"},
	{"day", "date DEFAULT date '2026-01-01' + (random() * 9999)::int", "CAST(day AS VARCHAR)"},
	{"hour", "time DEFAULT time '08:00' + random() * interval '9 hours'", "CAST(hour AS VARCHAR)"},
	{"stamp", "timestamp DEFAULT timestamp '2026-01-01' + random() * interval '9 years'", "CAST(stamp AS VARCHAR)"},
	{"instant", "timestamptz DEFAULT clock_timestamp()", "CAST(instant AT TIME ZONE 'UTC' AS VARCHAR)"},
	{"span", "interval DEFAULT (random() * 9)::int * interval '1 month 3 days 04:05:06.5'",
		"CAST(timestamp '2026-01-01 00:00:00' + CAST(span AS INTERVAL) AS VARCHAR)"},
	{"mark", "uuid DEFAULT gen_random_uuid()", "CAST(mark AS VARCHAR)"},
	{"doc", "json DEFAULT json_build_object('shelf', random(), 'title', 'Über den Fluß')", "CAST(doc AS VARCHAR)"},
	{"docb", "jsonb DEFAULT jsonb_build_object('shelf', random(), 'copies', ARRAY[1, NULL, 3])",
		"CAST(docb AS VARCHAR)"},
	{"raw", "bytea DEFAULT decode(md5(random()::text), 'hex')", "md5(raw)"},
	{"tags", `text[] DEFAULT ARRAY['new', NULL, 'a "quoted" one', random()::text]`, "CAST(tags AS VARCHAR)"},
	{"kind", "shelf DEFAULT (enum_range(NULL::shelf))[1 + floor(random() * 3)]", "CAST(kind AS VARCHAR)"},
	{"pages", "int4range DEFAULT int4range(1, 2 + (random() * 99)::int)", "CAST(pages AS VARCHAR)"},
}

// sumOf is the text of a row's values, made short.
func sumOf(texts []string) string {
	var list []string
	for _, text := range texts {
		list = append(list, "coalesce("+text+", 'null')")
	}
	return "md5(" + strings.Join(list, " || '|' || ") + ")"
}

// Source is a database that is written.
type Source struct {
	Pool   *pgxpool.Pool // to the database that has the record
	Bulk   int           // rows of the largest transactions; most of the large ones have up to 5000
	Huge   int           // bytes of a large value
	stop   chan struct{}
	done   sync.WaitGroup
	mu     sync.Mutex
	write  func(*rand.Rand) error
	bring  func(context.Context) error // the record to where it is judged; nil where it is
	sum    string                      // of a row in a warehouse
	anew   string                      // sets every other column to a new value
	mark   int64                       // of the record: deletes before it need not be known
	Errors map[string]int              // what the server refused, by its words
	Count  int                         // transactions
}

// New makes the tables. Those of odd name have replica identity full.
func New(ctx context.Context, url string) (*Source, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	config.MaxConns = 20
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	s := &Source{Pool: pool, Bulk: 5000, Huge: 200_000, Errors: map[string]int{}}
	s.write = s.transact
	var list, anew, texts []string
	for _, c := range columns {
		texts = append(texts, c.text)
		list = append(list, c.name+" "+c.definition)
		if name, value, ok := strings.Cut(c.definition, " DEFAULT "); ok && name != "" {
			anew = append(anew, c.name+" = "+value)
		}
	}
	s.anew, s.sum = strings.Join(anew, ", "), sumOf(texts)
	sql := strings.ReplaceAll(schemaSQL, "SUM_OF_ROW", s.sum)
	for _, keep := range Keeps {
		for i, name := range Tables(keep) {
			table := pgx.Identifier{name}.Sanitize()
			sql += fmt.Sprintf(`
CREATE TABLE %[1]s (branch text, no int, v bigint NOT NULL DEFAULT nextval('versions'), %[2]s, "Söme ""Column" text DEFAULT 'as it is', PRIMARY KEY (branch, no));
ALTER TABLE %[1]s ALTER note SET STORAGE EXTERNAL;
CREATE TRIGGER note AFTER INSERT OR UPDATE OR DELETE ON %[1]s FOR EACH ROW EXECUTE FUNCTION note_change();
CREATE TRIGGER note_truncate AFTER TRUNCATE ON %[1]s FOR EACH STATEMENT EXECUTE FUNCTION note_change();`, table, strings.Join(list, ", "))
			if i == 1 {
				sql += "ALTER TABLE " + table + " REPLICA IDENTITY FULL;"
			}
			sql += fmt.Sprintf("INSERT INTO %s (branch, no, note) SELECT 'main', i, repeat('n', i * 40) FROM "+
				"generate_series(1, 150) i;", table)
		}
	}
	_, err = pool.Exec(ctx, sql)
	return s, err
}

// Length is how long a torture lasts: as long as it is said to, or what NOEMATA_TORTURE says,
// such as 30m. One that is asked for is also harder, with transactions of 200,000 rows and
// values of 1 MB, and has longer rounds.
func (s *Source) Length(short time.Duration) (length, round time.Duration, err error) {
	text := os.Getenv("NOEMATA_TORTURE")
	if text == "" {
		return short, 5 * time.Second, nil
	}
	s.Bulk, s.Huge = 200_000, 1_000_000
	length, err = time.ParseDuration(text)
	return length, 45 * time.Second, err
}

// Start sets writers to work until Pause.
func (s *Source) Start(writers int) {
	s.stop = make(chan struct{})
	for w := range writers {
		s.done.Go(func() {
			r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), uint64(w)))
			for {
				select {
				case <-s.stop:
					return
				default:
				}
				err := s.write(r)
				s.mu.Lock()
				s.Count++
				if err != nil {
					s.Errors[err.Error()]++
				}
				s.mu.Unlock()
				if r.IntN(4) == 0 {
					time.Sleep(time.Duration(r.IntN(8)) * time.Millisecond)
				}
			}
		})
	}
}

// Pause stops the writers and waits until they have.
func (s *Source) Pause() {
	close(s.stop)
	s.done.Wait()
}

// Mark says that from now on every change must be known. Before, rows may have been
// deleted before they were copied.
func (s *Source) Mark(ctx context.Context) error {
	if s.bring != nil {
		if err := s.bring(ctx); err != nil {
			return err
		}
	}
	return s.Pool.QueryRow(ctx, "SELECT coalesce(max(seq), 0) FROM record").Scan(&s.mark)
}

// Close ends all connections.
func (s *Source) Close() { s.Pool.Close() }

func (s *Source) transact(r *rand.Rand) error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		var tables []string
		for _, keep := range Keeps { // a transaction does the same to all keeps
			for _, name := range Tables(keep) {
				tables = append(tables, pgx.Identifier{name}.Sanitize())
			}
		}
		r.Shuffle(len(tables), func(i, j int) { tables[i], tables[j] = tables[j], tables[i] })
		tables = tables[:1+r.IntN(3)]
		for range 1 + r.IntN(6) {
			if err := s.change(ctx, tx, r, tables[r.IntN(len(tables))], false); err != nil {
				return err
			}
		}
		switch r.IntN(25) {
		case 0:
			return pgx.ErrTxCommitRollback // given up
		case 1:
			time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond) // slow to commit
		}
		return nil
	})
}

// change is one statement, some of them under a savepoint that is rolled back.
func (s *Source) change(ctx context.Context, tx pgx.Tx, r *rand.Rand, table string, nested bool) error {
	if r.IntN(12) == 0 {
		inner, err := tx.Begin(ctx)
		if err != nil {
			return err
		}
		if err := s.change(ctx, inner, r, table, true); err != nil {
			_ = inner.Rollback(ctx)
			return err
		}
		if r.IntN(2) == 0 {
			return inner.Rollback(ctx)
		}
		return inner.Commit(ctx)
	}
	no, other := 1+r.IntN(200), 1+r.IntN(200)
	note := noteOf(r, no, s.Huge)
	exec := func(sql string, args ...any) error {
		_, err := tx.Exec(ctx, strings.ReplaceAll(sql, "TABLE_", table), args...)
		return err
	}
	switch n := r.IntN(1000); {
	case n < 250:
		return exec(`INSERT INTO TABLE_ (branch, no, note, fee, seen) VALUES ('main', $1, $2, $3::int / 100.0, $4) `+
			`ON CONFLICT (branch, no) DO UPDATE SET v = nextval('versions'), note = excluded.note, fee = excluded.fee`,
			no, note, r.IntN(9999), r.IntN(5))
	case n < 500: // the note, however long, is left as it is
		return exec(`UPDATE TABLE_ SET v = nextval('versions'), seen = $2 WHERE branch = 'main' AND no = $1`, no,
			r.IntN(5))
	case n < 560:
		return exec(`UPDATE TABLE_ SET v = nextval('versions'), `+s.anew+` WHERE branch = 'main' AND no = $1`, no)
	case n < 600:
		return exec(`UPDATE TABLE_ SET v = nextval('versions'), note = $2 WHERE branch = 'main' AND no = $1`, no, note)
	case n < 650: // nothing changes
		return exec(`UPDATE TABLE_ SET seen = seen WHERE branch = 'main' AND no = $1`, no)
	case n < 800:
		return exec(`DELETE FROM TABLE_ WHERE branch = 'main' AND no = $1`, no)
	case n < 870: // the key changes
		return exec(`UPDATE TABLE_ SET no = $2, v = nextval('versions') WHERE branch = 'main' AND no = $1 AND NOT `+
			`EXISTS (SELECT 1 FROM TABLE_ WHERE branch = 'main' AND no = $2)`, no, other)
	case n < 900:
		if err := exec(`DELETE FROM TABLE_ WHERE branch = 'main' AND no = $1`, no); err != nil {
			return err
		}
		return exec(`INSERT INTO TABLE_ (branch, no, note) VALUES ('main', $1, $2)`, no, note)
	case n < 985:
		return exec(`UPDATE TABLE_ SET v = nextval('versions'), fee = coalesce(fee, 0) + 0.01 WHERE branch = 'main' `+
			`AND no BETWEEN $1 AND $2`, min(no, other), min(no, other)+10)
	case n < 988: // a large transaction
		if err := exec(`INSERT INTO TABLE_ (branch, no, note) SELECT 'bulk', i, 'bulk ' || i FROM `+
			`generate_series(1, $1) i ON CONFLICT (branch, no) DO UPDATE SET v = nextval('versions')`,
			s.bulkRows(r)); err != nil {
			return err
		}
		if r.IntN(2) == 0 {
			return nil
		}
		return exec(`DELETE FROM TABLE_ WHERE branch = 'bulk' AND no % 3 > 0`)
	case n < 993:
		if nested {
			return nil
		}
		return exec(`TRUNCATE TABLE_`)
	default:
		return exec(`UPDATE TABLE_ SET v = nextval('versions')`)
	}
}

// noteOf is a text, now and then a long one, or none.
func noteOf(r *rand.Rand, no, huge int) any {
	switch n := r.IntN(60); {
	case n == 0:
		return strings.Repeat(string(rune('a'+r.IntN(26))), huge)
	case n < 10:
		return strings.Repeat(string(rune('a'+r.IntN(26))), 3000+r.IntN(5000))
	case n < 50:
		return fmt.Sprintf("O'Malvey's nöte №%d \\ \" %d", no, r.Int())
	}
	return nil
}

// bulkRows is how many a large transaction has.
func (s *Source) bulkRows(r *rand.Rand) int {
	if r.IntN(20) == 0 {
		return s.Bulk
	}
	return 1 + r.IntN(min(s.Bulk, 5000))
}
