package e2e

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// twins asks for what each transaction of the source has changed together, in two tables. The sums are the same in each
// state that the source has ever shown, and the number rises.
const twins = `SELECT (SELECT sum(n) FROM kept.twins_a), (SELECT sum(n) FROM kept.twins_b),
	(SELECT count(*) FROM kept.twins_a), (SELECT count(*) FROM kept.twins_b), (SELECT max(no) FROM kept.counter)`

// derivedTwins makes of both tables what must be the same in each state, too.
const derivedTwins = `derived: twins
warehouse: lake
tables:
  - table: kept.differ
    sql: SELECT coalesce(id, a.id) AS id FROM kept.twins_a AS a FULL JOIN kept.twins_b AS b USING (id) WHERE a.n IS DISTINCT FROM b.n
    checks: [{none: FROM kept.differ}]
`

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
		"pgx in a transaction": a.askTwice(a.connect()), "pg": a.askPg()}
	if length > time.Minute {
		askers["console"] = a.askConsole()
	}
	_, err := a.client.DerivedFile(t.Context(), derivedTwins, nil, client.Apply)
	require.NoError(t, err)
	asked := map[string]*atomic.Int64{}
	var still time.Duration // from one commit that is seen to the next
	faults := make(chan string, 1)
	for name, ask := range askers {
		n := &atomic.Int64{}
		asked[name] = n
		all.Go(func() {
			moved := time.Now()
			for last := (cut{}); ctx.Err() == nil; n.Add(1) {
				now, err := ask()
				if name == "pgx" && now[4] != last[4] {
					still, moved = max(still, time.Since(moved)), time.Now()
				}
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
	t.Logf("%d transactions; answers: %s; memory %s; what pgx saw stood still for %s at most", transactions.Load(),
		strings.Join(said, ", "), a.memory(), still.Round(time.Millisecond))
	require.Eventually(t, func() bool { return a.same("live") }, 2*time.Minute, time.Second,
		"the feed was not held up for good")
	made, err := a.client.Derivations(t.Context(), "twins", "", 200)
	require.NoError(t, err)
	require.NotEmpty(t, made)
	for _, d := range made {
		require.Contains(t, []string{"done", "running"}, d.State, "what is derived is made of one cut")
	}
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
	return readCut(string(out))
}

func (a *asked) askPgx(conn *pgx.Conn) func() (cut, error) {
	return func() (cut, error) { return scanCut(conn.QueryRow(context.Background(), twins)) }
}

// askPg asks by the driver of another language, in one session.
func (a *asked) askPg() func() (cut, error) {
	script, err := filepath.Abs("../internal/testkit/pg/cut.js")
	require.NoError(a.t, err)
	c := exec.Command("node", script, a.url("analyst", a.secret, "lake"), twins)
	in, err := c.StdinPipe()
	require.NoError(a.t, err)
	out, err := c.StdoutPipe()
	require.NoError(a.t, err)
	require.NoError(a.t, c.Start())
	a.t.Cleanup(func() {
		_ = in.Close()
		_ = c.Process.Kill()
		_ = c.Wait()
	})
	answers := bufio.NewScanner(out)
	return func() (cut, error) {
		if _, err := io.WriteString(in, "again\n"); err != nil {
			return cut{}, err
		}
		if !answers.Scan() {
			return cut{}, fmt.Errorf("the driver pg has ended: %w", answers.Err())
		}
		return readCut(answers.Text())
	}
}

// askConsole asks on the console's page.
func (a *asked) askConsole() func() (cut, error) {
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.WindowSize(1280, 800))...)
	a.t.Cleanup(cancel)
	tab, cancel := chromedp.NewContext(allocator)
	a.t.Cleanup(cancel)
	b := &browser{a.t.(*testing.T), tab, a.service}
	b.signIn(a.service, "/ask")
	b.sees("each answer is one cut")
	n := 0
	return func() (cut, error) {
		n++
		mark := fmt.Sprintf("number %d", n)
		b.asks(strings.Replace(twins, "(SELECT max(no)", "'"+mark+"' AS mark, (SELECT max(no)", 1))
		row := ""
		for began := time.Now(); row == "" && time.Since(began) < time.Minute; time.Sleep(20 * time.Millisecond) {
			var err error
			if row, err = chromedp.Run(b.ctx, chromedp.Evaluate[string](
				`([...document.querySelectorAll('.answer tbody tr')].find((r) => r.innerText.includes('`+mark+
					`')) ?? { innerText: '' }).innerText`)); err != nil {
				return cut{}, err
			}
		}
		cells := slices.DeleteFunc(strings.Split(row, "\t"), func(cell string) bool { return strings.Contains(cell, mark) })
		return readCut(strings.ReplaceAll(strings.Join(cells[1:], "|"), "\u202f", "")) // the first is the row's number
	}
}

// readCut reads an answer as psql writes it.
func readCut(line string) (c cut, err error) {
	for i, v := range strings.Split(strings.TrimSpace(line), "|") {
		if v = strings.TrimSpace(v); v != "" && v != "∅" && err == nil {
			c[i], err = strconv.ParseInt(v, 10, 64)
		}
	}
	return c, err
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
