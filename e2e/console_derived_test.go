package e2e

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// A person derives a table in the console: writes its file and sees what is wrong with it, applies it, sees it made and
// made again, breaks and mends it, and removes it.
func TestDerivingInTheConsole(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	b := newBrowser(t, a.service)
	b.signIn(a.service, "/derived")
	b.sees("Nothing is derived yet.")
	const file = "derived: reading\nwarehouse: lake\ntables:\n  - table: reading.titles\n    comment: Loans of each title\n" +
		"    sql: |\n      SELECT title, count(*) AS loans\n      FROM kept.loans GROUP BY title\n    checks: [{unique: [title]}]\n"
	apply := func(file string) {
		b.fill("textarea", file)
		b.do(chromedp.Click(chromedp.Search(`//footer//button[contains(., "Apply")]`)))
	}
	b.click("Apply a file")
	apply("derived: reading\nwarehouse: lake\ntables:\n  - {table: reading.titles, sql: SELECT nobody FROM kept.loans}\n")
	b.sees("Line 1, column 8", "nobody")
	apply(file)
	b.sees("are as the file has them.", "in this order: reading.titles")
	b.open("/derived")
	b.sees("reading.titles", "Loans of each title", "made", "1 hold")
	b.click("reading.titles")
	b.sees("FROM kept.loans GROUP BY title", "it was never made", "2 rows in the place of 0")
	b.click("Statements")
	b.sees("CREATE OR REPLACE TABLE", "COMMIT")

	a.source.exec("INSERT INTO loans (id, title) VALUES (9, 'A third one')")
	require.Equal(t, "done", a.finish("desk").State)
	b.sees("kept.loans changed", "3 rows in the place of 2")
	b.click("Make now")
	b.sees("asked for it", "the same rows as before")

	b.click("File…")
	time.Sleep(300 * time.Millisecond) // the dialog comes
	apply(file[:len(file)-len("[{unique: [title]}]\n")] + "[{none: FROM reading.titles WHERE loans = 1}]\n")
	b.sees("are as the file has them.")
	b.open("/derived")
	b.sees("kept", "1 table not made as the file has it", "The table is as it was before")
	b.open("/")
	b.sees("reading/reading.titles", "does not hold: finds nothing: FROM reading.titles WHERE loans = 1 (3 findings)")

	b.open("/derived")
	b.click("Pause")
	b.sees("paused")
	b.click("Remove…")
	b.do(chromedp.Click(chromedp.Search(`//button[contains(., "Remove and drop")]`)))
	b.sees("Nothing is derived yet.")
	require.Empty(t, a.asks("SELECT table_name FROM information_schema.tables WHERE table_schema = 'reading'"))
}
