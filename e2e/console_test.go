package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// browser is a page of headless Chromium.
type browser struct {
	t   *testing.T
	ctx context.Context
	s   *service
}

func newBrowser(t *testing.T, s *service) *browser {
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.WindowSize(1280, 800))...)
	t.Cleanup(cancel)
	tab, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	ctx, cancel := context.WithTimeout(tab, 5*time.Minute)
	t.Cleanup(cancel)
	return &browser{t, ctx, s}
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.ctx, steps...))
}

func (b *browser) open(path string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.s.address + path))
}

func (b *browser) click(text string) {
	b.t.Helper()
	b.do(chromedp.Click(chromedp.Search(fmt.Sprintf(`//button[contains(., %q)]`, text))))
}

// fill replaces what a field holds.
func (b *browser) fill(field, text string) {
	b.t.Helper()
	content, err := json.Marshal(text)
	require.NoError(b.t, err)
	b.do(chromedp.WaitVisible(chromedp.CSS(field)), chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const f = document.querySelector(%q); f.value = %s; f.dispatchEvent(new Event('input', { bubbles: true })) })()`, field, content)))
}

func (b *browser) text() string {
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	require.NoError(b.t, err)
	return text
}

// sees waits until the page says all of it.
func (b *browser) sees(words ...string) {
	b.t.Helper()
	var text string
	for deadline := time.Now().Add(40 * time.Second); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		text = b.text()
		missing := false
		for _, w := range words {
			missing = missing || !strings.Contains(text, w)
		}
		if !missing {
			return
		}
	}
	require.Fail(b.t, "not on the page", "%q\nthe page says:\n%s", words, text)
}

func TestConsole(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", "duckdb")
	d.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, name text, updated_at timestamptz NOT NULL); INSERT INTO patrons SELECT i, 'Œsling ' || i, '2026-01-01Z' FROM generate_series(1, 1234) i; ANALYZE`)
	b := newBrowser(t, s)

	b.open("/feeds/none")
	b.sees("Sign in") // whoever is not signed in is asked first
	b.fill("#token", "noe_wrong")
	b.click("Sign in")
	b.sees("The token is not known.")
	b.fill("#token", s.token)
	b.click("Sign in")
	b.sees(`There is no feed "none".`) // and then taken where they wanted

	b.open("/")
	b.sees("No feed yet")
	b.click("Apply a feed file")
	b.fill("textarea", strings.Replace(patronsFeed, "keep:", "keeep:", 1))
	b.click("Check")
	b.sees("There is no such field. Did you mean keep?")
	b.fill("textarea", patronsFeed)
	b.do(chromedp.Click(chromedp.Search(`//footer//button[contains(., "Apply")]`)))
	b.sees("is as the file has it")

	b.open("/feeds/patrons")
	b.sees("paused", "public.patrons", "waiting")
	b.click("Run now")
	b.sees("current", "1\u202f234")
	b.click("Prove all tables")
	b.sees("= 1\u202f234 rows")
	b.open("/feeds/patrons/table?name=public.patrons")
	b.sees("1\u202f234 / 1\u202f234", "the same", "= both", "Œsling 1", "nm_changed_at", "rows above 2026-01-01T00:00:00.000000Z")

	// What happens shows without anybody asking for it.
	d.exec(`INSERT INTO patrons VALUES (5000, 'arrived just now', clock_timestamp())`)
	time.Sleep(10 * time.Millisecond)
	require.Equal(t, int64(1), s.finish("patrons").Books.Inserted)
	b.sees("1\u202f235 / 1\u202f235", "arrived just now")

	b.open("/runs/1")
	b.sees("Books", "1\u202f234", "COPY (SELECT", "COMMIT", "noemata.positions")
	b.open("/runs")
	b.sees("done", "person")
	b.open("/sources")
	b.sees("circulation", "postgresql")
	b.click("Tables")
	b.sees("public.patrons")
	b.click("public.patrons")
	b.sees("timestamp with time zone", "Key: id")
	b.click("Test")
	b.sees("PostgreSQL 1")
	b.open("/warehouses")
	b.sees("target", "duckdb")

	d.exec(`ALTER TABLE patrons RENAME TO gone`)
	require.Equal(t, "failed", s.finish("patrons").State)
	b.open("/")
	b.sees("1 thing needs you", `The table public.patrons does not exist in source "circulation".`, "remove it from the feed or correct its name")
	b.click("Dark")
	b.sees("Light")
	b.click("Sign out")
	b.sees("Token")
}
