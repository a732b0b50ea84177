// Command binlog measures how fast MariaDB's binary log is read: by the server's own
// program to a file, by our decoder alone, into Arrow batches, and into each warehouse.
//
//	go run ./bench/binlog -rows 2000000
//
// It starts its servers in a folder of its own, and stops them.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/mariaserver"
	"noemata/internal/pgserver"
	"noemata/internal/source"
	"noemata/internal/source/mariadb"
	"noemata/internal/source/mariadb/binlog"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

func main() {
	rows := flag.Int("rows", 2_000_000, "rows that the log holds")
	dir := flag.String("dir", os.TempDir(), "where the servers keep their data")
	flag.Parse()
	if err := run(context.Background(), *rows, *dir); err != nil {
		log.Fatal(err)
	}
}

const table = `CREATE TABLE loans (id bigint PRIMARY KEY, patron_id bigint, copy varchar(20), branch varchar(40), ` +
	`lent_at datetime(6), due_on date, fee decimal(8,2), renewals int, note varchar(100), updated_at timestamp(6))`

// Longer than a screen: it is one measurement from beginning to end.
func run(ctx context.Context, rows int, parent string) error {
	dir, err := os.MkdirTemp(parent, "noemata-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	maria, err := mariaserver.Start(ctx,
		mariaserver.Options{Dir: filepath.Join(dir, "maria"),
			Settings: map[string]string{"log-bin": "binlog", "server-id": "1", "binlog-format": "ROW",
				"binlog-row-metadata": "FULL",
				"max-binlog-size":     "1G", "innodb-buffer-pool-size": "512M", "innodb-flush-log-at-trx-commit": "2",
				"innodb-log-file-size": "512M"}})
	if err != nil {
		return err
	}
	defer func() { _ = maria.Stop() }()
	if err := maria.CreateDatabase(ctx, "bench"); err != nil {
		return err
	}
	db, err := maria.Open("bench")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	src, err := mariadb.Open(maria.Settings("bench"), `source "bench"`)
	if err != nil {
		return err
	}
	defer src.Close()
	if _, err := db.ExecContext(ctx, table); err != nil {
		return err
	}
	followed := src.(source.Log)
	begin, _, err := followed.End(ctx)
	if err != nil {
		return err
	}
	// The warehouses begin before the rows are there, and so have none to copy.
	targets := map[string]warehouse.Warehouse{}
	if targets["DuckDB"], err = duckdb.Open(connection.Settings{Path: filepath.Join(dir, "lake.duckdb")},
		`warehouse "lake"`); err != nil {
		return err
	}
	postgres, err := pgserver.Start(ctx,
		pgserver.Options{Dir: filepath.Join(dir, "postgres"),
			Settings: map[string]string{"shared_buffers": "256MB", "max_wal_size": "4GB"}})
	if err != nil {
		return err
	}
	defer func() { _ = postgres.Stop() }()
	if err := postgres.CreateDatabase(ctx, "target"); err != nil {
		return err
	}
	if targets["PostgreSQL"], err = pgwarehouse.Open(postgres.Settings("target"), `warehouse "target"`); err != nil {
		return err
	}
	e := engine.New()
	work := func(name string) engine.LogWork {
		f := &feed.Feed{Name: "bench-" + name, Source: "s", Warehouse: "w",
			Tables: []feed.Table{{Table: "bench.loans", Find: feed.FindLog, Keep: feed.KeepLatest,
				Target: "kept.loans"}}}
		return engine.LogWork{Feed: f, Run: 1, Source: src, Warehouse: targets[name]}
	}
	for name := range targets {
		if _, err := e.Follow(ctx, work(name)); err != nil {
			return err
		}
	}
	for i := range 20 {
		if _, err := db.ExecContext(ctx,
			fmt.Sprintf(`INSERT INTO loans SELECT seq, seq %% 20000, concat('C', seq), 'Brückenmarkt', '2026-01-01' `+
				`+ INTERVAL seq SECOND, '2026-02-01', (seq %% 700) / 100, seq %% 3, repeat('x', seq %% 40), now(6) `+
				`FROM seq_%d_to_%d`, i*rows/20+1, (i+1)*rows/20)); err != nil {
			return err
		}
	}
	say := func(name string, begun time.Time, rate bool) {
		took := time.Since(begun).Seconds()
		fmt.Printf("  %-44s %6.2f s", name, took)
		if rate {
			fmt.Printf("  %9.0f rows/s", float64(rows)/took)
		}
		fmt.Println()
	}
	fmt.Printf("%d rows of ten columns\n", rows)

	begun := time.Now()
	c := exec.CommandContext(ctx, "mariadb-binlog", "--no-defaults", "--read-from-remote-server", "--raw",
		"--host=127.0.0.1", fmt.Sprintf("--port=%d", maria.Port), "--user="+mariaserver.User, "--result-file="+dir+"/",
		"--to-last-log", "binlog.000001")
	c.Env = append(os.Environ(), "MYSQL_PWD="+maria.Password)
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("mariadb-binlog: %w: %s", err, out)
	}
	say("mariadb-binlog --raw", begun, true)

	begun = time.Now()
	if err := decode(ctx, maria, rows); err != nil {
		return err
	}
	say("our client and decoder, every value found", begun, true)

	described, err := src.Table(ctx, schema.Name{Schema: "bench", Table: "loans"})
	if err != nil {
		return err
	}
	begun = time.Now()
	stream, err := followed.Follow(ctx,
		source.Follow{Name: "bench", From: begin, MaxBytes: 48 << 20,
			Tables: []source.Followed{{Table: described, Key: described.Key, Whole: true}}})
	if err != nil {
		return err
	}
	for n := int64(0); n < int64(rows); {
		p, err := stream.Next(ctx, time.Now().Add(time.Second))
		if err != nil {
			return err
		}
		if p.Bytes >= 48<<20 || n+p.Changes >= int64(rows) {
			for _, b := range stream.Take().Batches {
				n += b.Record.NumRows()
				b.Record.Release()
			}
		}
	}
	stream.Close()
	say("into Arrow batches", begun, true)

	for _, name := range []string{"DuckDB", "PostgreSQL"} {
		begun = time.Now()
		report, err := e.Follow(ctx, work(name))
		if err != nil {
			return err
		}
		if n := report.Tables[0].Books.Inserted; n != int64(rows) {
			return fmt.Errorf("%s has %d rows", name, n)
		}
		say("end to end, latest, "+name, begun, true)
	}
	return nil
}

// decode reads the log from its beginning and looks at every value.
func decode(ctx context.Context, server *mariaserver.Server, rows int) error {
	conn, err := wire.Connect(ctx, wire.Options{Dial: connection.Settings{}.Dial, Network: "tcp",
		Address: fmt.Sprintf("127.0.0.1:%d",
			server.Port), User: mariaserver.User, Password: server.Password, Timeout: 10 * time.Second})
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	if err := conn.Follow(ctx, wire.Dump{Server: 4711, File: "binlog.000001", Offset: 4,
		Heartbeat: time.Second}); err != nil {
		return err
	}
	d := binlog.NewDecoder()
	for n := 0; n < rows; {
		event, err := conn.Event()
		if err != nil {
			return err
		}
		_, what, err := d.Decode(event)
		if err != nil {
			return err
		}
		if r, ok := what.(*binlog.Rows); ok {
			for {
				more, err := r.Next()
				if err != nil {
					return err
				}
				if !more {
					break
				}
				n++
			}
		}
	}
	return nil
}
