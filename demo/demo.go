// Package demo is an example that runs: the libraries of a made-up region, their
// circulation database and their catalogue, a day at the desks that does not end, and a
// service that keeps it all in two warehouses.
package demo

import (
	"context"
	"crypto/rand"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/sync/errgroup"

	"noemata/client"
	"noemata/internal/background"
	"noemata/internal/cli"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/mariaserver"
	"noemata/internal/pgserver"
	"noemata/internal/records"
	"noemata/internal/service"
)

//go:embed feeds/*.yaml derived/*
var files embed.FS

// pace is the usual pause between two things that happen at the libraries.
const pace = 300 * time.Millisecond

// Runner runs the demo with a version of the service.
func Runner(version string) cli.Demo {
	return func(ctx context.Context, o cli.DemoOptions) (bool, error) {
		w := &world{options: o, version: version}
		defer w.stop()
		return w.run(ctx)
	}
}

type world struct {
	options cli.DemoOptions
	version string
	dir     string
	server  *pgserver.Server
	maria   *mariaserver.Server
	service *service.Service
	client  *client.Client
	signIn  signIn
	analyst string // the token of somebody who may ask the lake
	fresh   bool   // this run has made the world
}

// signIn is kept in the demo's folder, so that a check finds a demo that runs.
type signIn struct {
	Address string `json:"address"`
	Token   string `json:"token"`
}

func (w *world) say(format string, args ...any) {
	_, _ = fmt.Fprintf(w.options.Out, format+"\n", args...)
}

// analystName is that of the token that may ask.
const analystName = "analyst"

// sqlListen is where the SQL port listens: beside a console that has its usual place, else anywhere.
func (w *world) sqlListen() string {
	if w.options.Listen == cli.DefaultListen {
		return cli.DefaultSQLListen
	}
	return "127.0.0.1:0"
}

func (w *world) run(ctx context.Context) (bool, error) {
	w.dir = reachable(w.options.Dir)
	if w.dir != w.options.Dir {
		w.say("PostgreSQL's user may not enter %s, so the demo keeps its data in %s.", w.options.Dir, w.dir)
	}
	if w.options.Check {
		if c := w.running(ctx); c != nil {
			w.say("A demo runs already; checking that one.")
			w.client = c
			return w.check(ctx)
		}
		w.options.Listen = "127.0.0.1:0"
	}
	if err := w.start(ctx); err != nil {
		return false, err
	}
	if w.options.Check {
		return w.checkFromStart(ctx)
	}
	w.say("\nThe console:  %s\nSign in with: %s\nAsk in SQL:   psql postgresql://analyst:%s@%s/lake\n\nThe libraries "+
		"of the region are open: something happens about "+
		"three times a second.\nPress Ctrl-C to end.", w.signIn.Address, w.signIn.Token, w.analyst, w.service.SQLAddress)
	living, stop := context.WithCancel(ctx)
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- w.live(living) }()
	shelves := time.AfterFunc(shelvesAfter, func() {
		if err := w.shelve(living); err != nil && living.Err() == nil {
			w.say("%v", err)
		}
	})
	defer shelves.Stop()
	failed := make(chan error, 1)
	go func() { failed <- w.service.Wait(ctx) }()
	select {
	case err := <-failed:
		return true, err
	case err := <-ended:
		return true, err
	}
}

// reachable is the folder itself, or one that PostgreSQL's user can enter where
// root's own folders are closed to others.
func reachable(dir string) string {
	path, err := filepath.Abs(dir)
	if err != nil || os.Getuid() != 0 {
		return dir
	}
	for p := filepath.Dir(path); p != "/"; p = filepath.Dir(p) {
		if info, err := os.Stat(p); err == nil && info.Mode().Perm()&0o001 == 0 {
			return "/var/lib/noemata-demo"
		}
	}
	return dir
}

func (w *world) signInFile() string { return filepath.Join(w.dir, "sign-in.json") }

// running finds a demo that runs in the same folder.
func (w *world) running(ctx context.Context) *client.Client {
	content, err := os.ReadFile(w.signInFile())
	var s signIn
	if err != nil || json.Unmarshal(content, &s) != nil {
		return nil
	}
	c := client.New(s.Address, s.Token)
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if _, err := c.About(ctx); err != nil {
		return nil
	}
	return c
}

// start starts the circulation database and the service, and sets them up.
func (w *world) start(ctx context.Context) error {
	dir, err := filepath.Abs(w.dir)
	if err == nil {
		err = background.MakePassable(dir)
	}
	if err != nil {
		return problem.Wrap(err, problem.Failed, "The demo's folder cannot be made: "+err.Error()+".",
			"Choose another with --data.")
	}
	w.server, err = pgserver.Start(ctx,
		pgserver.Options{Dir: filepath.Join(w.dir, "libraries"),
			Settings: map[string]string{"shared_buffers": "64MB", "timezone": "Europe/Vienna", "wal_level": "logical"}})
	if err != nil {
		return err
	}
	w.say("The circulation database listens on 127.0.0.1:%d.", w.server.Port)
	passwords, err := w.buildDatabases(ctx)
	if err != nil {
		return err
	}
	w.maria, err = mariaserver.Start(ctx,
		mariaserver.Options{Dir: filepath.Join(w.dir, "catalogue"),
			Settings: map[string]string{"log-bin": "binlog", "server-id": "1", "binlog-format": "ROW",
				"binlog-row-metadata": "FULL", "binlog-expire-logs-seconds": "604800", "innodb-buffer-pool-size": "64M",
				"default-time-zone": "+02:00"}})
	if err != nil {
		return err
	}
	w.say("The catalogue database listens on 127.0.0.1:%d.", w.maria.Port)
	catalogue, err := w.buildCatalogue(ctx)
	if err != nil {
		return err
	}
	w.service, _, err = service.Start(ctx,
		service.Options{Listen: w.options.Listen, DataDir: filepath.Join(w.dir, "service"), Version: w.version,
			SQLListen: w.sqlListen()})
	if err != nil {
		return err
	}
	token, err := w.service.Store.AddToken(ctx, records.NewToken{Role: records.Administer,
		Name: "demo of " + time.Now().UTC().Format("2006-01-02 15:04") + "Z"})
	if err != nil {
		return fmt.Errorf("make the demo's token: %w", err)
	}
	w.signIn = signIn{w.service.Address, token.Secret}
	content, _ := json.Marshal(w.signIn) // two texts always marshal
	if err := os.WriteFile(w.signInFile(), content, 0o600); err != nil {
		return fmt.Errorf("keep the demo's sign-in: %w", err)
	}
	before, err := w.service.Store.Tokens(ctx)
	if err != nil {
		return err
	}
	for _, t := range before {
		if t.Name == analystName {
			if err := w.service.Store.RemoveToken(ctx, t.ID); err != nil {
				return err
			}
		}
	}
	analyst, err := w.service.Store.AddToken(ctx, records.NewToken{Name: "analyst", Role: records.Look,
		Asks: []string{"lake", "reports", "archive"}})
	if err != nil {
		return fmt.Errorf("make the analyst's token: %w", err)
	}
	w.analyst = analyst.Secret
	w.client = client.New(w.signIn.Address, w.signIn.Token)
	return w.setUp(ctx, passwords, catalogue)
}

// The users of the demo's databases; each may do only what it needs.
const (
	readerUser = "replica_reader"
	writerUser = "reports_writer"
	askUser    = "reports_analyst"
	ownerRole  = "circulation_owner"
)

// buildDatabases makes what is missing and gives the users passwords.
func (w *world) buildDatabases(ctx context.Context) (map[string]string, error) {
	for _, name := range []string{"circulation", "reports"} {
		if err := w.server.CreateDatabase(ctx, name); err != nil {
			return nil, fmt.Errorf("make the database %s: %w", name, err)
		}
	}
	conn, err := pgx.Connect(ctx, w.server.URL("circulation"))
	if err != nil {
		return nil, fmt.Errorf("connect to circulation: %w", err)
	}
	defer func() { _ = conn.Close(ctx) }()
	var built bool
	if err := conn.QueryRow(ctx, "SELECT to_regclass('public.visits') IS NOT NULL").Scan(&built); err != nil {
		return nil, err
	}
	if !built {
		w.fresh = true
		w.say("Building the libraries' records: %d patrons, %d loans and more.", patronCount, loanCount)
		if err := build(ctx, conn); err != nil {
			return nil, err
		}
	}
	passwords := map[string]string{}
	for _, user := range []string{readerUser, writerUser, askUser} {
		if passwords[user], err = w.password(user); err != nil {
			return nil, err
		}
		var there bool
		if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)",
			user).Scan(&there); err != nil {
			return nil, err
		}
		verb := "CREATE"
		if there {
			verb = "ALTER"
		}
		if _, err := conn.Exec(ctx, fmt.Sprintf("%s ROLE %s LOGIN PASSWORD %s", verb, schema.Quote(user),
			schema.Literal(passwords[user]))); err != nil {
			return nil, fmt.Errorf("make the user %s: %w", user, err)
		}
	}
	if err := own(ctx, conn); err != nil {
		return nil, err
	}
	_, err = conn.Exec(ctx, fmt.Sprintf(`GRANT SELECT ON ALL TABLES IN SCHEMA public TO %[1]s; GRANT pg_read_all_stats TO %[1]s;
ALTER ROLE %[1]s REPLICATION; GRANT CREATE ON DATABASE circulation TO %[1]s; GRANT %[3]s TO %[1]s;
GRANT CREATE, TEMPORARY ON DATABASE reports TO %[2]s`, readerUser, writerUser, ownerRole))
	if err != nil {
		return nil, err
	}
	return passwords, w.letAsk(ctx)
}

// letAsk lets the user that the reports are asked as read them, and no more.
func (w *world) letAsk(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, w.server.URL("reports"))
	if err != nil {
		return fmt.Errorf("connect to reports: %w", err)
	}
	defer func() { _ = conn.Close(ctx) }()
	_, err = conn.Exec(ctx, fmt.Sprintf(`REVOKE CREATE ON SCHEMA public FROM PUBLIC;
CREATE SCHEMA IF NOT EXISTS noemata AUTHORIZATION %[1]s; CREATE SCHEMA IF NOT EXISTS circulation AUTHORIZATION %[1]s;
GRANT USAGE ON SCHEMA noemata, circulation TO %[2]s; GRANT SELECT ON ALL TABLES IN SCHEMA circulation TO %[2]s;
ALTER DEFAULT PRIVILEGES FOR ROLE %[1]s IN SCHEMA circulation GRANT SELECT ON TABLES TO %[2]s`, writerUser, askUser))
	if err != nil {
		return fmt.Errorf("let the reports be read: %w", err)
	}
	return nil
}

// password is that of one of the databases' users. It is made up once and kept in the
// demo's folder: feeds that go on when the demo is started again find it as it was.
func (w *world) password(user string) (string, error) {
	file := filepath.Join(w.dir, "passwords.json")
	kept := map[string]string{}
	content, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(content, &kept)
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("read the demo's passwords: %w", err)
	}
	if kept[user] == "" {
		kept[user] = rand.Text()
		content, _ = json.Marshal(kept) // texts always marshal
		if err := os.WriteFile(file, content, 0o600); err != nil {
			return "", fmt.Errorf("keep the demo's passwords: %w", err)
		}
	}
	return kept[user], nil
}

// own gives the tables an owner that the reader can be a member of: whoever publishes a
// table's changes must own it.
func own(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, fmt.Sprintf(`DO $$
DECLARE t text;
BEGIN
    IF NOT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = '%[1]s') THEN CREATE ROLE %[1]s NOLOGIN; END IF;
    GRANT CREATE, USAGE ON SCHEMA public TO %[1]s;
    FOR t IN SELECT quote_ident(tablename) FROM pg_tables WHERE schemaname = 'public' AND tableowner <> '%[1]s' LOOP
        EXECUTE 'ALTER TABLE public.' || t || ' OWNER TO %[1]s';
    END LOOP;
END $$`, ownerRole))
	if err != nil {
		return fmt.Errorf("give the tables their owner: %w", err)
	}
	return nil
}

// setUp adds what the service does not have, and gives it the new passwords.
func (w *world) setUp(ctx context.Context, passwords map[string]string, catalogue *client.Settings) error {
	database := func(name, user string) *client.Settings {
		return &client.Settings{Host: "127.0.0.1", Port: w.server.Port, Database: name, User: user,
			Password: passwords[user]}
	}
	reports := database("reports", writerUser)
	reports.AskUser, reports.AskPassword = askUser, passwords[askUser]
	for _, x := range []struct {
		side client.Side
		new  client.NewConnection
	}{
		{client.Sources, client.NewConnection{Name: "circulation", Kind: "postgresql",
			Settings: database("circulation", readerUser)}},
		{client.Sources, client.NewConnection{Name: "catalogue", Kind: "mariadb", Settings: catalogue}},
		{client.Warehouses, client.NewConnection{Name: "lake", Kind: "duckdb",
			Settings: &client.Settings{Path: "lake.duckdb"}}},
		{client.Warehouses, client.NewConnection{Name: "archive", Kind: "iceberg",
			Settings: &client.Settings{Path: "archive"}}},
		{client.Warehouses, client.NewConnection{Name: "reports", Kind: "postgresql",
			Settings: reports}},
	} {
		_, err := w.client.AddConnection(ctx, x.side, x.new)
		var answer *client.Error
		if errors.As(err, &answer) && answer.Code == string(problem.Conflict) {
			_, err = w.client.ChangeConnection(ctx, x.side, x.new)
		}
		if err == nil {
			_, err = w.client.TestConnection(ctx, x.side, x.new.Name)
		}
		if err != nil {
			return fmt.Errorf("set up %s: %w", x.new.Name, err)
		}
	}
	if err := w.client.SaveQuestion(ctx, "most lent, and where", "lake", mostLent); err != nil {
		return fmt.Errorf("save the question: %w", err)
	}
	if err := w.client.SaveQuestion(ctx, "most changed loans, of two warehouses", "archive", mostProlonged); err != nil {
		return fmt.Errorf("save the question: %w", err)
	}
	if err := w.addFeeds(ctx); err != nil {
		return err
	}
	return w.addDerived(ctx)
}

// derivedSet is the name of the example's derived tables.
const derivedSet = "reading"

// addDerived applies the example's derived tables, unless they are there: a person may have changed them.
func (w *world) addDerived(ctx context.Context) error {
	_, err := w.client.DerivedSet(ctx, derivedSet)
	if answer := (*client.Error)(nil); err == nil || !errors.As(err, &answer) || answer.Code != string(problem.NotFound) {
		return err
	}
	file, err := files.ReadFile("derived/reading.yaml")
	if err != nil {
		return err
	}
	sql, err := files.ReadFile("derived/lent_now.sql")
	if err == nil {
		_, err = w.client.DerivedFile(ctx, string(file), map[string]string{"lent_now.sql": string(sql)}, client.Apply)
	}
	if err != nil {
		return fmt.Errorf("apply the derived tables: %w", err)
	}
	return nil
}

// derive has the derived tables made and, where nothing happens meanwhile, tells whether one of them is what a question
// answers.
func (w *world) derive(ctx context.Context, quiet bool) (bool, error) {
	list, err := w.client.MakeDerived(ctx, derivedSet)
	if err != nil {
		return false, err
	}
	w.say("\nDerived in the lake, from both databases:\n")
	cli.ShowMakings(w.options.Out, list)
	for _, d := range list {
		if d.State != "done" {
			return false, nil
		}
	}
	if !quiet {
		return true, nil
	}
	const differ = `WITH t AS (SELECT title, home, loans FROM reading.loans_by_title), q AS (
  SELECT title, home, count(*) FROM reading.lent_now GROUP BY title_id, title, home)
(TABLE t EXCEPT ALL TABLE q) UNION ALL (TABLE q EXCEPT ALL TABLE t)`
	x, err := w.client.Ask(ctx, "lake", client.Ask{SQL: differ})
	if err != nil {
		return false, err
	}
	if len(x.Rows) > 0 {
		w.say("\nNOT equal: %d rows of reading.loans_by_title are not what its SQL gives.", len(x.Rows))
	}
	return len(x.Rows) == 0, nil
}

// mostLent is what a librarian asks: of the loans in circulation, and of titles and branches in the catalogue.
const mostLent = `SELECT t.name AS title, b.name AS branch, count(*) AS loans
FROM live.loans l
JOIN catalogue.copies c ON c.barcode = l.copy AND c.nm_current
JOIN catalogue.titles t ON t.id = c.title_id
JOIN catalogue.branches b ON b.id = c.branch_id
WHERE l.nm_deleted_at IS NULL
GROUP BY ALL ORDER BY loans DESC, title, branch LIMIT 8`

// mostProlonged is what she asks of the archive's histories, with titles out of the other warehouse.
const mostProlonged = `SELECT t.name AS title, count(DISTINCT l.id) AS loans, count(*) - count(DISTINCT l.id) AS changes
FROM circulation.loans l
JOIN lake.catalogue.copies c ON c.barcode = l.copy AND c.nm_current
JOIN lake.catalogue.titles t ON t.id = c.title_id
GROUP BY t.name ORDER BY changes DESC, loans DESC, title LIMIT 5`

// ask asks it, and shows the answer as a chart.
func (w *world) ask(ctx context.Context) error {
	x, err := w.client.Ask(ctx, "lake", client.Ask{SQL: "SELECT *, bar(loans, 0, 25, 25) AS chart FROM (" + mostLent +
		") ORDER BY loans DESC, title, branch"})
	if err != nil {
		return err
	}
	w.say("\nAsked of the lake, across both databases: which titles are lent most, and where do they stand?\n")
	cli.ShowAnswer(w.options.Out, x)
	if x, err = w.client.Ask(ctx, "archive", client.Ask{SQL: mostProlonged}); err != nil {
		return err
	}
	w.say("\nAsked of both warehouses in one question: the loans of which titles have changed most since they were lent?\n")
	cli.ShowAnswer(w.options.Out, x)
	return nil
}

// addFeeds applies the example's feeds where a person has not changed them.
func (w *world) addFeeds(ctx context.Context) error {
	have, err := w.client.Feeds(ctx)
	if err != nil {
		return err
	}
	list, err := files.ReadDir("feeds")
	if err != nil {
		return err
	}
	for _, file := range list {
		content, err := files.ReadFile("feeds/" + file.Name())
		if err != nil {
			return err
		}
		name := file.Name()[:len(file.Name())-len(".yaml")]
		if !slices.ContainsFunc(have, func(f client.FeedStatus) bool { return f.Name == name }) {
			if _, err := w.client.FeedFile(ctx, string(content), client.Apply); err != nil {
				return fmt.Errorf("apply the feed %s: %w", name, err)
			}
		}
		if w.options.Check {
			continue // the check starts the runs itself
		}
		if _, err := w.client.StartFeed(ctx, name); err != nil {
			return fmt.Errorf("start the feed %s: %w", name, err)
		}
	}
	return nil
}

// live lets the day at the libraries go on, whatever happens to the connection.
func (w *world) live(ctx context.Context) error {
	for ctx.Err() == nil {
		err := w.liveAt(ctx, pace)
		if err != nil && ctx.Err() == nil {
			w.say("The day at the libraries pauses: %v", err)
			select {
			case <-ctx.Done():
			case <-time.After(3 * time.Second):
			}
		}
	}
	return nil
}

// shelvesAfter is how long the day has gone on when the holds get their shelves.
const shelvesAfter = time.Hour

// shelve adds a column to the holds: their owners change the table while it is replicated.
func (w *world) shelve(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, w.server.URL("circulation"))
	if err != nil {
		return fmt.Errorf("connect to circulation: %w", err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	tag, err := conn.Exec(ctx, "ALTER TABLE holds ADD COLUMN shelf text NOT NULL DEFAULT 'desk'")
	var known *pgconn.PgError
	if errors.As(err, &known) && known.Code == "42701" { // an earlier day has done it
		return nil
	}
	if err != nil {
		return fmt.Errorf("give the holds their shelves: %w", err)
	}
	w.say("The holds have a new column, shelf (%s).", tag)
	return nil
}

// checkFromStart runs the example without a person: what an earlier one left must
// still be equal; then the libraries live for a while, and all must be equal again.
func (w *world) checkFromStart(ctx context.Context) (bool, error) {
	feeds, err := w.client.Feeds(ctx)
	if err != nil {
		return false, err
	}
	for _, f := range feeds { // a schedule would run between the proofs
		if _, err := w.client.PauseFeed(ctx, f.Name); err != nil {
			return false, err
		}
		if f.State == "active" {
			defer func() { _, _ = w.client.StartFeed(context.WithoutCancel(ctx), f.Name) }()
		}
	}
	if !w.fresh {
		w.say("\nWhat the warehouses hold from before:")
		if equal, err := w.prove(ctx, feeds); err != nil || !equal {
			return equal, err
		}
	}
	for round := range 3 {
		living, stop := context.WithTimeout(ctx, 2*time.Second)
		err := w.liveAt(living, 2*time.Millisecond)
		stop()
		if err != nil {
			return false, err
		}
		if err := w.runAll(ctx, feeds, fmt.Sprintf("Round %d", round+1)); err != nil {
			return false, err
		}
		if round == 0 {
			if err := w.shelve(ctx); err != nil {
				return false, err
			}
		}
	}
	time.Sleep(3 * time.Second) // longer than the feeds stay behind the source's clock
	if err := w.runAll(ctx, feeds, "The last changes"); err != nil {
		return false, err
	}
	w.say("\nAfter the last run:")
	return w.proveAndAsk(ctx, feeds, true)
}

// liveAt lets things happen at both databases until the context ends.
func (w *world) liveAt(ctx context.Context, pause time.Duration) error {
	conn, err := pgx.Connect(ctx, w.server.URL("circulation"))
	if err != nil {
		return fmt.Errorf("connect to circulation: %w", err)
	}
	defer func() { _ = conn.Close(context.Background()) }()
	db, err := w.maria.Open("catalogue")
	if err != nil {
		return fmt.Errorf("connect to the catalogue: %w", err)
	}
	defer func() { _ = db.Close() }()
	both, working := errgroup.WithContext(ctx)
	both.Go(func() error { return day(working, conn, pause) })
	both.Go(func() error { return catalogueDay(working, db, 2*pause) })
	return both.Wait()
}

// check runs and proves the feeds of a demo that goes on.
func (w *world) check(ctx context.Context) (bool, error) {
	feeds, err := w.client.Feeds(ctx)
	if err != nil {
		return false, err
	}
	if err := w.runAll(ctx, feeds, "Now"); err != nil {
		return false, err
	}
	return w.proveAndAsk(ctx, feeds, false)
}

// proveAndAsk proves the feeds' tables and makes the derived ones. quiet tells that nothing happens meanwhile.
func (w *world) proveAndAsk(ctx context.Context, feeds []client.FeedStatus, quiet bool) (bool, error) {
	equal, err := w.prove(ctx, feeds)
	if err == nil && equal {
		equal, err = w.derive(ctx, quiet)
	}
	if err != nil || !equal {
		return false, err
	}
	return true, w.ask(ctx)
}

func (w *world) runAll(ctx context.Context, feeds []client.FeedStatus, what string) error {
	for _, f := range feeds {
		run, err := w.client.StartRun(ctx, f.Name)
		for err == nil && !run.Ended() {
			time.Sleep(50 * time.Millisecond)
			run, err = w.client.Run(ctx, run.ID)
		}
		if err != nil {
			return err
		}
		if run.State != "done" {
			return problem.New(problem.Failed,
				fmt.Sprintf("Run %d of %s is %s: %s", run.ID, f.Name, run.State, run.Problem.What), run.Problem.Remedy)
		}
		b := run.Books
		w.say("%s: %s read %d rows: %d inserted, %d updated, %d unchanged, %d filtered, %d set aside.", what, f.Name,
			b.Read, b.Inserted, b.Updated, b.Unchanged, b.Filtered, b.SetAside)
	}
	return nil
}

// prove compares every table of every feed and prints what it found.
func (w *world) prove(ctx context.Context, feeds []client.FeedStatus) (bool, error) {
	equal := true
	var rows, tables int64
	for _, f := range feeds {
		var proofs []client.Proof
		for _, t := range f.Tables {
			p, err := w.client.Prove(ctx, f.Name, t.Table)
			if err != nil {
				return false, err
			}
			proofs, equal = append(proofs, p), equal && p.Same
			rows, tables = rows+p.Equal, tables+1
		}
		w.say("\n%s → %s (%s)", f.Source, f.Warehouse, f.Name)
		cli.ShowProofs(w.options.Out, proofs)
	}
	if equal {
		w.say("\nEqual: %d rows of %d tables are the same on both sides, every value of every row.", rows, tables)
		return true, nil
	}
	w.say("\nNOT equal: see the tables above. Only %d rows of %d tables are the same on both sides.", rows, tables)
	return false, nil
}

func (w *world) stop() {
	if w.service != nil {
		w.service.Stop()
		_ = os.Remove(w.signInFile())
	}
	if w.server != nil {
		_ = w.server.Stop()
	}
	if w.maria != nil {
		_ = w.maria.Stop()
	}
}
