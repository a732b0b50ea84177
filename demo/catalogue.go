package demo

import (
	"context"
	"database/sql"
	_ "embed"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"noemata/client"
	"noemata/internal/core/schema"
)

//go:embed catalogue/schema.sql
var catalogueSchema string

// How many rows the catalogue begins with.
const (
	titleCount = 8_000
	copyCount  = 24_000
)

// The parts of made-up titles.
var (
	things = []string{"Lighthouse", "Clockmaker", "Wintergarten", "Ferry", "Œuvre", "Beekeeper", "Signalman",
		"Herbarium", "Zeppelin", "Orchard", "Cartographer", "Mühle", "Tidal Almanac", "Glass Harmonica"}
	places = []string{"of Altwasser", "at the Quay", "im Nebel", "without Windows", "de l'Île-Verte", "in Seven Parts",
		"— A Memoir", "“Revisited”", "for Beginners", "на мосту"}
)

const catalogueReader = "catalogue_reader"

// buildCatalogue makes what is missing in the catalogue database, and gives its reader its
// password.
func (w *world) buildCatalogue(ctx context.Context) (*client.Settings, error) {
	if err := w.maria.CreateDatabase(ctx, "catalogue"); err != nil {
		return nil, fmt.Errorf("make the database catalogue: %w", err)
	}
	db, err := w.maria.Open("catalogue")
	if err != nil {
		return nil, err
	}
	defer func() { _ = db.Close() }()
	var built bool
	if err := db.QueryRowContext(ctx, "SELECT count(*) > 0 FROM information_schema.TABLES WHERE TABLE_SCHEMA = "+
		"'catalogue' AND TABLE_NAME = 'copies'").Scan(&built); err != nil {
		return nil, err
	}
	if !built {
		w.say("Building the catalogue: %d titles, %d copies.", titleCount, copyCount)
		if err := fillCatalogue(ctx, db); err != nil {
			return nil, err
		}
	}
	password, err := w.password(catalogueReader)
	if err != nil {
		return nil, err
	}
	for _, sql := range []string{
		fmt.Sprintf("CREATE USER IF NOT EXISTS '%s'@'127.0.0.1'", catalogueReader),
		fmt.Sprintf("ALTER USER '%s'@'127.0.0.1' IDENTIFIED BY %s", catalogueReader, schema.Literal(password)),
		fmt.Sprintf("GRANT SELECT ON catalogue.* TO '%s'@'127.0.0.1'", catalogueReader),
		fmt.Sprintf("GRANT REPLICATION SLAVE, BINLOG MONITOR, PROCESS ON *.* TO '%s'@'127.0.0.1'", catalogueReader),
	} {
		if _, err := db.ExecContext(ctx, sql); err != nil {
			return nil, fmt.Errorf("make the user %s: %w", catalogueReader, err)
		}
	}
	return &client.Settings{Host: "127.0.0.1", Port: w.maria.Port, Database: "catalogue", User: catalogueReader,
		Password: password}, nil
}

// fillCatalogue makes the tables and their rows, the same every time.
func fillCatalogue(ctx context.Context, db *sql.DB) error {
	r := rand.New(rand.NewPCG(10, 11))
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	if _, err := conn.ExecContext(ctx, "SET SESSION sql_mode = '', NAMES utf8mb4; START TRANSACTION; "+
		catalogueSchema); err != nil {
		return fmt.Errorf("make the tables of the catalogue: %w", err)
	}
	insert := func(table string, n int, row func(i int) []any) error {
		for from := 0; from < n; from += 500 {
			var values []string
			var args []any
			for i := from; i < min(from+500, n); i++ {
				list := row(i)
				values = append(values, "("+strings.TrimSuffix(strings.Repeat("?, ", len(list)), ", ")+")")
				args = append(args, list...)
			}
			if _, err := conn.ExecContext(ctx, "INSERT INTO "+table+" VALUES "+strings.Join(values, ", "),
				args...); err != nil {
				return fmt.Errorf("fill %s: %w", table, err)
			}
		}
		return nil
	}
	now := time.Now().UTC()
	shelves := []string{"children", "music", "maps", "reading room", "study"}
	if err := insert("branches", len(branches), func(i int) []any {
		return []any{i + 1, branches[i], maybe(r, 0.2, fmt.Sprintf("Bücherstraße %d", i*7+1)),
			strings.Join(shelves[:1+r.IntN(5)], ","), fmt.Sprintf("%02d:30:00", 8+r.IntN(3)), r.IntN(8) > 0}
	}); err != nil {
		return err
	}
	if err := insert("titles", titleCount, func(i int) []any {
		// Plain values always marshal.
		subjects, _ := json.Marshal(map[string]any{"shelf": r.IntN(90), "for": pick(r, kinds)})
		return []any{i + 1, "The " + pick(r, things) + " " + pick(r, places),
			maybe(r, 0.1, pick(r, first)+" "+pick(r, last)), pick(r, media), maybe(r, 0.05, 1901+r.IntN(125)), maybe(r,
				0.1, fmt.Sprintf("%d.%02d", 4+r.IntN(90), r.IntN(100))),
			maybe(r, 0.4, string(subjects)),
			now.Add(-time.Duration(r.IntN(400*1440)) * time.Minute).Format("2006-01-02 15:04:05")}
	}); err != nil {
		return err
	}
	if err := insert("copies", copyCount, func(i int) []any {
		bought := now.AddDate(0, 0, -r.IntN(9000)).Format("2006-01-02")
		if r.IntN(50) == 0 {
			bought = "0000-00-00"
		}
		return []any{fmt.Sprintf("C%07d", i*4), 1 + r.IntN(titleCount), 1 + r.IntN(len(branches)),
			pick(r, []string{"on shelf", "on shelf", "on shelf", "mending", "missing"}), bought, r.Float32(), maybe(r,
				0.8, pick(r, notes))}
	}); err != nil {
		return err
	}
	_, err = conn.ExecContext(ctx, "COMMIT")
	return err
}

// catalogueDay goes on like day: copies travel between branches, are mended, bought and
// given away, and titles are corrected.
func catalogueDay(ctx context.Context, db *sql.DB, pause time.Duration) error {
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 2))
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Duration(float64(pause) * (0.5 + r.Float64()))):
		}
		barcode := fmt.Sprintf("C%07d", r.IntN(copyCount)*4)
		var err error
		switch n := r.IntN(20); {
		case n < 8: // on the van
			_, err = db.ExecContext(ctx,
				"UPDATE copies SET state = 'in transit' WHERE barcode = ? AND state = 'on shelf'", barcode)
		case n < 16: // off the van
			_, err = db.ExecContext(ctx,
				"UPDATE copies SET state = 'on shelf', branch_id = ?, wear = wear + 0.01 WHERE state = 'in transit' "+
					"ORDER BY barcode LIMIT 1", 1+r.IntN(len(branches)))
		case n == 16:
			_, err = db.ExecContext(ctx, "UPDATE titles SET price = round(coalesce(price, 10) * 1.02, 2) WHERE id = ?",
				1+r.IntN(titleCount))
		case n == 17:
			_, err = db.ExecContext(ctx,
				"INSERT IGNORE INTO copies (barcode, title_id, branch_id, bought_on) VALUES (?, ?, ?, current_date)",
				fmt.Sprintf("N%07d", r.IntN(1_000_000)), 1+r.IntN(titleCount), 1+r.IntN(len(branches)))
		case n == 18: // given away
			_, err = db.ExecContext(ctx, "DELETE FROM copies WHERE barcode LIKE 'N%' ORDER BY barcode LIMIT 1")
		default:
			_, err = db.ExecContext(ctx, "UPDATE copies SET state = 'mending', note = ? WHERE barcode = ?",
				pick(r, notes), barcode)
		}
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return fmt.Errorf("a day at the catalogue: %w", err)
		}
	}
}
