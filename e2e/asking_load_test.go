package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// twins asks for what each transaction of the source has changed together, in two tables. The sums are the same in each
// state that the source has ever shown, and the number rises.
const twins = `SELECT (SELECT sum(n) FROM kept.twins_a), (SELECT sum(n) FROM kept.twins_b),
	(SELECT count(*) FROM kept.twins_a), (SELECT count(*) FROM kept.twins_b), (SELECT max(no) FROM kept.counter)`

// cut is an answer to twins.
type cut [5]int64

func (c cut) whole() bool { return c[0] == c[1] && c[2] == c[3] }

// While a feed follows a source that is written without pause, clients of three kinds and the API ask without pause.
// Each answer is one state of the source, and none is older than the one before it. NOEMATA_TORTURE says how long.
func TestAnswersAreCutsUnderLoad(t *testing.T) {
	t.Parallel() // beside others that wait
	length := 8 * time.Second
	if long, err := time.ParseDuration(os.Getenv("NOEMATA_TORTURE")); err == nil {
		length = long
	}
	a := newAsked(t)
	a.source.exec(`CREATE TABLE twins_a (id int PRIMARY KEY, n bigint, no bigint, note text);
		CREATE TABLE twins_b (id int PRIMARY KEY, n bigint, no bigint, note text);
		CREATE TABLE counter (id int PRIMARY KEY, no bigint); INSERT INTO counter VALUES (1, 0)`)
	a.apply("feed: live\nsource: circulation\nwarehouse: lake\nfreshness: continuous\ntarget: kept.{table}\ntables:\n" +
		"  - {table: public.twins_a, find: log, keep: latest}\n  - {table: public.twins_b, find: log, keep: latest}\n" +
		"  - {table: public.counter, find: log, keep: latest}\n")
	a.must("feeds", "start", "live")
	require.Eventually(t, func() bool { return a.same("live") }, 2*time.Minute, time.Second)
	ctx, stop := context.WithTimeout(t.Context(), length)
	defer stop()
	var all sync.WaitGroup
	var transactions atomic.Int64
	for i := range 3 {
		conn := testkit.Connect(t, testkit.Postgres(t).URL(a.source.settings.Database))
		all.Go(func() {
			for r := rand.New(rand.NewPCG(uint64(i), 1)); ctx.Err() == nil; transactions.Add(1) {
				write(ctx, conn, r)
			}
		})
	}
	askers := map[string]func() (cut, error){"api": a.askAPI, "psql": a.askPsql, "pgx": a.askPgx(a.connect()),
		"pgx in a transaction": a.askTwice(a.connect())}
	asked := map[string]*atomic.Int64{}
	faults := make(chan string, 1)
	for name, ask := range askers {
		n := &atomic.Int64{}
		asked[name] = n
		all.Go(func() {
			for last := (cut{}); ctx.Err() == nil; n.Add(1) {
				now, err := ask()
				switch {
				case err != nil && ctx.Err() == nil:
					tell(faults, "%s: %v", name, err)
				case err == nil && (!now.whole() || now[4] < last[4]):
					tell(faults, "%s saw %v after %v", name, now, last)
				}
				last = now
			}
		})
	}
	all.Wait()
	select {
	case fault := <-faults:
		t.Fatal(fault)
	default:
	}
	var said []string
	for name, n := range asked {
		require.Positive(t, n.Load(), name)
		said = append(said, fmt.Sprintf("%s %d", name, n.Load()))
	}
	t.Logf("%d transactions; answers: %s; memory %s", transactions.Load(), strings.Join(said, ", "), a.memory())
	require.Eventually(t, func() bool { return a.same("live") }, 2*time.Minute, time.Second,
		"the feed was not held up for good")
}

func tell(faults chan<- string, format string, args ...any) {
	select {
	case faults <- fmt.Sprintf(format, args...):
	default:
	}
}

// write changes both tables alike, in one transaction. One that another one stands in the way of changes nothing.
func write(ctx context.Context, conn *pgx.Conn, r *rand.Rand) {
	_ = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		var no int64
		if err := tx.QueryRow(ctx, "UPDATE counter SET no = no + 1 RETURNING no").Scan(&no); err != nil { // one after another
			return err
		}
		id, n, rows := r.IntN(400), r.Int64N(1000), 1+r.IntN(20)
		for _, table := range []string{"twins_a", "twins_b"} {
			sql := `INSERT INTO ` + table + ` SELECT $1 + i, $2, $3, repeat('x', i * 7) FROM generate_series(1, $4) i
				ON CONFLICT (id) DO UPDATE SET n = excluded.n, no = excluded.no`
			if id%5 == 0 {
				sql = "DELETE FROM " + table + " WHERE id BETWEEN $1 AND $1 + $4 AND $2 >= 0 AND $3 > 0"
			}
			if _, err := tx.Exec(ctx, sql, id, n, no, rows); err != nil {
				return err
			}
		}
		return nil
	})
}

func (a *asked) askAPI() (c cut, err error) {
	x, err := a.client.Ask(context.Background(), "lake", client.Ask{SQL: twins})
	if err != nil {
		return c, err
	}
	for i, v := range x.Rows[0] {
		if v != nil {
			c[i], err = strconv.ParseInt(*v, 10, 64)
		}
	}
	return c, err
}

func (a *asked) askPsql() (c cut, err error) {
	out, err := exec.Command("psql", "-XAt", a.url("analyst", a.secret, "lake"), "-c", twins).CombinedOutput()
	if err != nil {
		return c, fmt.Errorf("%w: %s", err, out)
	}
	for i, v := range strings.Split(strings.TrimSpace(string(out)), "|") {
		if v != "" {
			c[i], err = strconv.ParseInt(v, 10, 64)
		}
	}
	return c, err
}

func (a *asked) askPgx(conn *pgx.Conn) func() (cut, error) {
	return func() (cut, error) { return scanCut(conn.QueryRow(context.Background(), twins)) }
}

func scanCut(row pgx.Row) (c cut, err error) {
	var v [5]*int64
	err = row.Scan(&v[0], &v[1], &v[2], &v[3], &v[4])
	for i := range v {
		if v[i] != nil {
			c[i] = *v[i]
		}
	}
	return c, err
}

// askTwice asks one half, and the other one a while later, in one transaction.
func (a *asked) askTwice(conn *pgx.Conn) func() (cut, error) {
	return func() (c cut, err error) {
		err = pgx.BeginTxFunc(context.Background(), conn, pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
			first, err := scanCut(tx.QueryRow(context.Background(), twins))
			if err != nil {
				return err
			}
			time.Sleep(50 * time.Millisecond)
			again, err := scanCut(tx.QueryRow(context.Background(), twins))
			if err == nil && again != first {
				err = fmt.Errorf("one transaction saw %v and %v", first, again)
			}
			c = again
			return err
		})
		return c, err
	}
}

// memory is what the service's process takes (proc(5), VmRSS).
func (a *asked) memory() string {
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", a.process.Process.Pid))
	_, rest, _ := strings.Cut(string(status), "VmRSS:")
	line, _, _ := strings.Cut(rest, "\n")
	return strings.TrimSpace(line)
}
