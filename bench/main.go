// Command bench measures Noemata beside the quickest way there is to move a table
// between two PostgreSQL servers: COPY in binary form, piped from one to the other.
//
//	make bench
//	go run ./bench -rows 3000000 -rounds 3
//
// Each round moves the whole table by the pipe, then by the service into PostgreSQL
// and into DuckDB, on the same servers. Figures of one run can be compared with each
// other; those of two runs, or of two machines, cannot.
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"noemata/client"
	"noemata/internal/pgserver"
)

func main() {
	rows := flag.Int("rows", 3_000_000, "rows of the table")
	rounds := flag.Int("rounds", 5, "how often all is measured")
	binary := flag.String("noemata", "bin/noemata", "the program to measure")
	where := flag.String("dir", "", "where the databases are made; a folder in memory, such as /dev/shm, takes the "+
		"disk out of the figures")
	flag.Parse()
	if err := run(*rows, *rounds, *binary, *where); err != nil {
		log.Fatal(err)
	}
}

const table = `CREATE TABLE loans (
    id bigint PRIMARY KEY, patron_id bigint NOT NULL, copy text NOT NULL, branch text NOT NULL, fee numeric(8,2) NOT NULL,
    lent_at timestamptz NOT NULL, due_on date NOT NULL, renewals integer NOT NULL, note text, updated_at timestamptz NOT NULL)`

const fill = `INSERT INTO loans SELECT i, i %% 20011, 'C' || lpad((i %% 90001)::text, 7, '0'), (ARRAY['Altwasser','Dornheim','Grünau','Île-Verte'])[1 + i %% 4],
    (i %% 3000)::numeric / 100, '2026-01-01Z'::timestamptz + i * interval '1 second', '2026-02-01'::date + i %% 300, i %% 3,
    CASE WHEN i %% 3 = 0 THEN 'returned with a pressed flower, page ' || i %% 500 END, '2026-01-01Z'::timestamptz + i * interval '1 second'
  FROM generate_series(1, %d) i`

type bench struct {
	ctx     context.Context
	rounds  int
	source  *pgserver.Server
	target  *pgserver.Server
	service *exec.Cmd
	client  *client.Client
	dir     string
}

func run(rows, rounds int, binary, where string) error {
	dir, err := os.MkdirTemp(where, "noemata-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	b := &bench{ctx: context.Background(), rounds: rounds, dir: dir}
	defer b.stop()
	if err := b.start(rows, binary); err != nil {
		return err
	}
	return b.measure(rows)
}

func (b *bench) start(rows int, binary string) (err error) {
	settings := map[string]string{"shared_buffers": "256MB", "max_wal_size": "4GB"}
	if b.source, err = pgserver.Start(b.ctx,
		pgserver.Options{Dir: filepath.Join(b.dir, "source"), Settings: settings}); err != nil {
		return err
	}
	if b.target, err = pgserver.Start(b.ctx,
		pgserver.Options{Dir: filepath.Join(b.dir, "target"), Settings: settings}); err != nil {
		return err
	}
	if err := b.source.CreateDatabase(b.ctx, "circulation"); err != nil {
		return err
	}
	if err := b.target.CreateDatabase(b.ctx, "reports"); err != nil {
		return err
	}
	if err := b.exec(b.source.URL("circulation"), table, fmt.Sprintf(fill, rows),
		"CREATE INDEX ON loans (updated_at, id)", "VACUUM ANALYZE loans", "CHECKPOINT"); err != nil {
		return err
	}
	var out bytes.Buffer
	b.service = exec.Command(binary, "serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(b.dir, "service"),
		"--warehouse-dir", b.dir)
	reader, writer, err := os.Pipe()
	if err != nil {
		return err
	}
	b.service.Stdout, b.service.Stderr = writer, os.Stderr
	if err := b.service.Start(); err != nil {
		return err
	}
	for found := regexp.MustCompile(`listens on (\S+)\n(?s:.*)once: (\S+)`); ; {
		part := make([]byte, 4096)
		n, err := reader.Read(part)
		if err != nil {
			return err
		}
		out.Write(part[:n])
		if m := found.FindStringSubmatch(out.String()); m != nil {
			b.client = client.New(m[1], m[2])
			break
		}
	}
	return b.setUp()
}

func (b *bench) setUp() error {
	source, target := b.source.Settings("circulation"), b.target.Settings("reports")
	if _, err := b.client.AddConnection(b.ctx, client.Sources,
		client.NewConnection{Name: "circulation", Kind: "postgresql", Settings: &source}); err != nil {
		return err
	}
	if _, err := b.client.AddConnection(b.ctx, client.Warehouses,
		client.NewConnection{Name: "reports", Kind: "postgresql", Settings: &target}); err != nil {
		return err
	}
	lake := client.Settings{Path: filepath.Join(b.dir, "lake.duckdb")}
	_, err := b.client.AddConnection(b.ctx, client.Warehouses,
		client.NewConnection{Name: "lake", Kind: "duckdb", Settings: &lake})
	return err
}

func (b *bench) exec(url string, statements ...string) error {
	conn, err := pgx.Connect(b.ctx, url)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(b.ctx) }()
	for _, sql := range statements {
		if _, err := conn.Exec(b.ctx, sql); err != nil {
			return fmt.Errorf("%s: %w", sql, err)
		}
	}
	return nil
}

// added are the columns that Noemata adds to a table of its kind, as the pipe can make them.
const added = ", updated_at AS nm_changed_at, 1::bigint AS nm_run"

// pipe moves the table by COPY, with more columns or without. The target has the same primary
// key that Noemata gives its own, made after the rows have come in, which is quicker.
func (b *bench) pipe(more string) (bare, keyed time.Duration, err error) {
	if err := b.exec(b.target.URL("reports"), "DROP TABLE IF EXISTS loans",
		strings.Replace(table, " PRIMARY KEY", "", 1)); err != nil {
		return 0, 0, err
	}
	from := "loans"
	if more != "" {
		from = "(SELECT *" + more + " FROM loans)"
		if err := b.exec(b.target.URL("reports"),
			"ALTER TABLE loans ADD nm_changed_at timestamptz, ADD nm_run bigint"); err != nil {
			return 0, 0, err
		}
	}
	if err := b.exec(b.target.URL("reports"), "CHECKPOINT"); err != nil {
		return 0, 0, err
	}
	began := time.Now()
	out := exec.Command("psql", "-q", "-c", "COPY "+from+" TO STDOUT (FORMAT binary)", b.source.URL("circulation"))
	in := exec.Command("psql", "-q", "-c", "COPY loans FROM STDIN (FORMAT binary)", b.target.URL("reports"))
	r, w, err := os.Pipe() // of the two programs' own: nothing of ours is between them
	if err != nil {
		return 0, 0, err
	}
	out.Stdout, in.Stdin, in.Stderr, out.Stderr = w, r, os.Stderr, os.Stderr
	if err := out.Start(); err != nil {
		return 0, 0, err
	}
	if err := in.Start(); err != nil {
		return 0, 0, err
	}
	_, _ = w.Close(), r.Close()
	if err := out.Wait(); err != nil {
		return 0, 0, err
	}
	if err := in.Wait(); err != nil {
		return 0, 0, err
	}
	bare = time.Since(began)
	if err := b.exec(b.target.URL("reports"), "CREATE UNIQUE INDEX ON loans (id)"); err != nil {
		return 0, 0, err
	}
	return bare, time.Since(began), nil
}

// load moves the table by a feed that is new each time.
func (b *bench) load(name, warehouse string, rows int) (time.Duration, error) {
	file := fmt.Sprintf("feed: %s\nsource: circulation\nwarehouse: %s\ntables:\n  - table: public.loans\n    "+
		"target: %s.loans\n    find: watermark\n    watermark: {column: updated_at}\n    keep: latest\n",
		name, warehouse, strings.ReplaceAll(name, "-", "_"))
	if _, err := b.client.FeedFile(b.ctx, file, client.Apply); err != nil {
		return 0, err
	}
	if warehouse == "reports" {
		if err := b.exec(b.target.URL("reports"), "CHECKPOINT"); err != nil {
			return 0, err
		}
	}
	run, err := b.client.StartRun(b.ctx, name)
	for err == nil && !run.Ended() {
		time.Sleep(200 * time.Millisecond) // the service tells how long it took
		run, err = b.client.Run(b.ctx, run.ID)
	}
	if err != nil {
		return 0, err
	}
	if run.State != "done" || run.Books.Inserted != int64(rows) {
		return 0, fmt.Errorf("run %d is %s with %+v: %+v", run.ID, run.State, run.Books, run.Problem)
	}
	took := run.EndedAt.Sub(*run.StartedAt)
	fmt.Printf("  %s: %.2f s (source %.2f s, warehouse %.2f s)\n", warehouse, took.Seconds(), run.Tables[0].Reading,
		run.Tables[0].Writing)
	made, err := b.client.Statements(b.ctx, run.ID, "")
	for _, x := range made {
		if x.Took > 0.3 {
			fmt.Printf("    %5.2f s  %s: %.70s\n", x.Took, x.Side, x.SQL)
		}
	}
	return took, err
}

func (b *bench) measure(rows int) error {
	times := map[string][]time.Duration{}
	for round := range b.rounds {
		fmt.Printf("round %d\n", round+1)
		for name, more := range map[string]string{"pipe": "", "same rows": added} {
			bare, keyed, err := b.pipe(more)
			if err != nil {
				return err
			}
			times[name], times[name+" keyed"] = append(times[name], bare), append(times[name+" keyed"], keyed)
			fmt.Printf("  %s: %.2f s, %.2f s with the key\n", name, bare.Seconds(), keyed.Seconds())
		}
		for _, warehouse := range []string{"reports", "lake"} {
			took, err := b.load(fmt.Sprintf("%s-%d", warehouse, round+1), warehouse, rows)
			if err != nil {
				return err
			}
			times[warehouse] = append(times[warehouse], took)
		}
	}
	median := func(name string) float64 {
		slices.Sort(times[name])
		return times[name][len(times[name])/2].Seconds()
	}
	pipe, keyed, same := median("pipe"), median("pipe keyed"), median("same rows keyed")
	fmt.Printf("\n%d rows of 10 columns, median of %d rounds, in seconds, and beside the pipe:\n", rows, b.rounds)
	fmt.Printf("                                                   without key   with key  same rows, with key\n")
	for _, line := range []struct{ what, name, aim string }{
		{"COPY piped", "pipe", ""},
		{"COPY piped, then the key made", "pipe keyed", ""},
		{"the same with the two columns that Noemata adds", "same rows keyed", ""},
		{"Noemata into PostgreSQL, with key", "reports", "aim 1.15 or less"},
		{"Noemata into DuckDB", "lake", ""},
	} {
		took := median(line.name)
		fmt.Printf("  %-47s %6.2f %6.2f %10.2f %14.2f  %s\n", line.what, took, took/pipe, took/keyed, took/same,
			line.aim)
	}
	peak, err := b.peak()
	fmt.Printf("  peak memory of the service: %d MB\n", peak>>20)
	return err
}

// peak is the most memory the service has had, in bytes (proc(5), VmHWM).
func (b *bench) peak() (int64, error) {
	content, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", b.service.Process.Pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(content)) {
		if fields := strings.Fields(line); len(fields) == 3 && fields[0] == "VmHWM:" {
			kb, err := strconv.ParseInt(fields[1], 10, 64)
			return kb << 10, err
		}
	}
	return 0, fmt.Errorf("the system does not tell the service's peak memory")
}

func (b *bench) stop() {
	if b.service != nil && b.service.Process != nil {
		_ = b.service.Process.Signal(os.Interrupt)
		_ = b.service.Wait()
	}
	for _, s := range []*pgserver.Server{b.source, b.target} {
		if s != nil {
			_ = s.Stop()
		}
	}
}
