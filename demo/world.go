package demo

import (
	"context"
	_ "embed"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

//go:embed circulation/schema.sql
var circulationSchema string

// How many rows the circulation database begins with.
const (
	patronCount = 20_000
	loanCount   = 40_000
	holdCount   = 6_000
	fineCount   = 5_000
	eventCount  = 15_000
	visitDays   = 400
)

// The region and its libraries are made up.
var (
	branches = []string{"Altwasser", "Brückenmarkt", "Dornheim", "Œsling Quay", "Fernmoor", "Grünau", "Hollerbach",
		"Île-Verte", "Kesselgrund", "Lindenthor"}
	first = []string{"Aelis", "Bórin", "Cléo", "Dagny", "Élodan", "Fjóra", "Gwenna", "Håkun", "Ilvar", "Jorunda",
		"Kael", "Łucjan", "Mirela", "Nœmi", "Óskar", "Perrin", "Quill", "Rúna", "Søren", "Tamsin", "Ülvi", "Vesna",
		"Wilmar", "Ximena", "Yorick", "Žofka", "Анелия", "Μυρτώ", "美月", "ليلى"}
	last = []string{"Ostrakova", "van der Wiesen", "Þornsen", "O'Malvey", "Grünspan", "de la Fontenelle",
		"Ashgrove", "Mühlbach", "Żelazko", "Brightwater", "Ekström", "Nightjar", "Påfågel", "Quillfeather",
		"Rosenstängel", "Sørhavn", "Tintagel-Moss", "Úlfsdal", "Weidenkamp", "Северин", "Καλλιστράτη", "山吹"}
	notes = []string{"Prefers large print.", "Card replaced; the old one was \"eaten by the dog\".",
		"Rückruf bitte nur nachmittags.", "Reads everything about lighthouses — in any language.",
		"Ask about the atlas (returned with a pressed flower, p. 112).", "✎ interested in the bookbinding course",
		"Line one\nline two\twith a tab"}
	media = []string{"book", "film", "game", "map", "magazine", "score"}
	kinds = []string{"child", "student", "adult", "senior"}
)

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

// maybe is a value, or null with the given chance.
func maybe(r *rand.Rand, chance float64, value any) any {
	if r.Float64() < chance {
		return nil
	}
	return value
}

func email(r *rand.Rand, i int) string {
	return fmt.Sprintf("reader%d@%s.example", i, strings.ToLower(pick(r, []string{"post", "mail", "brief"})))
}

// build makes the circulation database's tables and rows. The same every time, but
// for its times, which lie before now.
//
// Longer than a screen: it is a list of what the demo world has.
func build(ctx context.Context, conn *pgx.Conn) error {
	r := rand.New(rand.NewPCG(8, 20))
	now := time.Now().UTC().Truncate(time.Second)
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, circulationSchema); err != nil {
			return fmt.Errorf("make the tables of circulation: %w", err)
		}
		// Batches of changes in the past leave ties: many rows of one second.
		past := func(days int) time.Time { return now.Add(-time.Duration(r.IntN(days*1440)+1) * time.Minute) }
		tables := []struct {
			name    string
			columns []string
			count   int
			row     func(i int) []any
		}{
			{"patrons", []string{"id", "card", "name", "email", "born_on", "branch", "kind", "note", "preferences",
				"active", "updated_at"}, patronCount, func(i int) []any {
				note := maybe(r, 0.7, pick(r, notes))
				if i%997 == 0 {
					note = strings.Repeat(pick(r, notes)+" ", 400) // a long correspondence
				}
				return []any{i + 1, fmt.Sprintf("V%08d", i+1), pick(r, first) + " " + pick(r, last),
					maybe(r, 0.2, email(r, i)), maybe(r, 0.1, now.AddDate(-5-r.IntN(85), 0, -r.IntN(365))),
					pick(r, branches), pick(r, kinds), note, maybe(r, 0.5,
						map[string]any{"newsletter": r.IntN(2) == 0,
							"language": pick(r,
								[]string{"de", "fr", "sv", "el"}), "shelf": r.IntN(40)}), r.IntN(20) > 0, past(400)}
			}},
			{"loans", []string{"id", "patron_id", "copy", "branch", "lent_at", "due_on", "returned_at", "renewals",
				"updated_at"}, loanCount, func(i int) []any {
				lent := past(300)
				var returned any
				changed := lent
				if r.IntN(4) > 0 {
					back := lent.Add(time.Duration(r.IntN(28*24)+1) * time.Hour)
					if back.Before(now) {
						returned, changed = back, back
					}
				}
				return []any{i + 1, r.IntN(patronCount) + 1, fmt.Sprintf("C%07d", r.IntN(90_000)), pick(r, branches),
					lent, lent.AddDate(0, 0, 28), returned, r.IntN(3), changed}
			}},
			{"holds", []string{"id", "patron_id", "title_no", "branch", "state", "place", "placed_at", "updated_at"},
				holdCount, func(int) []any {
					placed := past(90)
					id, _ := uuid.NewRandomFromReader(reader{r})
					return []any{id, r.IntN(patronCount) + 1, r.IntN(30_000) + 1, pick(r, branches),
						pick(r, []string{"waiting", "ready", "fetched"}), maybe(r, 0.3, r.IntN(12)+1), placed, maybe(r,
							0.02, placed.Add(time.Hour))}
				}},
			{"fines", []string{"loan_id", "amount", "paid", "reason"}, fineCount, func(int) []any {
				amount := float64(r.IntN(3000)+10) / 100
				paid := 0.0
				if r.IntN(2) == 0 {
					paid = amount
				}
				return []any{r.IntN(loanCount) + 1, fmt.Sprintf("%.2f", amount), fmt.Sprintf("%.2f", paid),
					pick(r, []string{"late", "damaged", "lost", "coffee"})}
			}},
			{"desk_events", []string{"at", "branch", "event", "detail"}, eventCount, func(int) []any {
				return []any{past(30), pick(r, branches), pick(r, []string{"lent", "returned", "question", "gate"}),
					maybe(r, 0.6, map[string]any{"desk": r.IntN(3) + 1})}
			}},
			{"loan_rules", []string{"medium", "kind", "days", "renewals", "fee"}, len(media) * len(kinds),
				func(i int) []any {
					return []any{media[i/len(kinds)], kinds[i%len(kinds)], 7 * (r.IntN(4) + 1), r.IntN(4),
						fmt.Sprintf("%.2f", float64(r.IntN(20))/10)}
				}},
			{"visits", []string{"branch", "day", "people"}, visitDays * len(branches), func(i int) []any {
				return []any{branches[i%len(branches)], now.AddDate(0, 0, -i/len(branches)), r.IntN(900)}
			}},
		}
		for _, t := range tables {
			if _, err := tx.CopyFrom(ctx, pgx.Identifier{t.name}, t.columns,
				pgx.CopyFromSlice(t.count, func(i int) ([]any, error) { return t.row(i), nil })); err != nil {
				return fmt.Errorf("fill %s: %w", t.name, err)
			}
		}
		for _, t := range []string{"patrons", "loans", "fines"} {
			if _, err := tx.Exec(ctx, fmt.Sprintf("SELECT setval(pg_get_serial_sequence('%s', 'id'), (SELECT "+
				"max(id) FROM %[1]s))", t)); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "ANALYZE")
		return err
	})
}

// reader makes bytes of a generator, for identifiers that are the same every time.
type reader struct{ r *rand.Rand }

func (r reader) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = byte(r.r.Uint32())
	}
	return len(b), nil
}

// day is a day at the libraries that does not end: every so often somebody lends,
// returns, renews, places or cancels a hold, pays, moves house, or comes in.
func day(ctx context.Context, conn *pgx.Conn, pause time.Duration) error {
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Duration(float64(pause) * (0.5 + r.Float64()))):
		}
		if err := happen(ctx, conn, r); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return fmt.Errorf("a day at the libraries: %w", err)
		}
	}
}

// regular is one of a few patrons who often move, or any other.
func regular(r *rand.Rand, patron int) int {
	if r.IntN(2) == 0 {
		return r.IntN(20) + 1
	}
	return patron
}

// happen is one thing that happens, as one transaction.
func happen(ctx context.Context, conn *pgx.Conn, r *rand.Rand) error {
	branch, patron := pick(r, branches), r.IntN(patronCount)+1
	someLoan := `(SELECT id FROM loans WHERE returned_at IS NULL AND id >= $1 ORDER BY id LIMIT 1)`
	loan := r.IntN(loanCount)
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		do := func(sql string, args ...any) error {
			_, err := tx.Exec(ctx, sql, args...)
			return err
		}
		event := func(name string) error {
			return do(`INSERT INTO desk_events (branch, event, detail) VALUES ($1, $2, json_build_object('desk', `+
				`$3::int))`, branch, name, r.IntN(3)+1)
		}
		switch n := r.IntN(100); {
		case n < 30:
			if err := do(`INSERT INTO loans (patron_id, copy, branch, lent_at, due_on) VALUES ($1, $2, $3, now(), `+
				`current_date + 28)`, patron, fmt.Sprintf("C%07d", r.IntN(90_000)), branch); err != nil {
				return err
			}
			return event("lent")
		case n < 52:
			if err := do(`UPDATE loans SET returned_at = now() WHERE id = `+someLoan, loan); err != nil {
				return err
			}
			return event("returned")
		case n < 62:
			return do(`UPDATE loans SET renewals = renewals + 1, due_on = due_on + 14 WHERE id = `+someLoan, loan)
		case n < 72:
			return do(`INSERT INTO holds (patron_id, title_no, branch, state, place, placed_at, updated_at) VALUES `+
				`($1, $2, $3, 'waiting', 1, now(), now())`, patron, r.IntN(30_000)+1, branch)
		case n < 78:
			return do(`DELETE FROM holds WHERE id = (SELECT id FROM holds WHERE state = 'waiting' ORDER BY `+
				`updated_at DESC NULLS LAST LIMIT 1 OFFSET $1)`, r.IntN(20))
		case n < 84:
			return do(`UPDATE fines SET paid = amount WHERE id = (SELECT id FROM fines WHERE paid < amount AND id > `+
				`$1 ORDER BY id LIMIT 1)`, r.IntN(fineCount))
		case n < 88:
			return do(`INSERT INTO fines (loan_id, amount, reason) VALUES ($1, $2, 'late')`, loan+1,
				fmt.Sprintf("%.2f", float64(r.IntN(500)+20)/100))
		case n < 93:
			return do(`UPDATE patrons SET branch = $2, note = $3 WHERE id = $1`, regular(r, patron), branch,
				maybe(r, 0.5, pick(r, notes)))
		}
		return event(pick(r, []string{"question", "gate"}))
	})
}
