package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"noemata/client"
)

// browser is a page of headless Chromium.
type browser struct {
	t   *testing.T
	ctx context.Context
	s   *service
}

// signIn opens a page of a service that nobody is signed in to yet.
func (b *browser) signIn(s *service, page string) {
	b.t.Helper()
	b.open(page)
	b.fill("#token", s.token)
	b.click("Sign in")
}

func newBrowser(t *testing.T, s *service) *browser {
	allocator, cancel := chromedp.NewExecAllocator(context.Background(),
		append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
			chromedp.Flag("force-prefers-reduced-motion", true))...)
	t.Cleanup(cancel)
	tab, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	ctx, cancel := context.WithTimeout(tab, 8*time.Minute)
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

// click waits until the button can be pressed: one that waits for an answer cannot.
func (b *browser) click(text string) {
	b.t.Helper()
	b.do(chromedp.Click(chromedp.Search(fmt.Sprintf(`//button[contains(., %q)][not(@disabled)]`, text))))
}

// fill replaces what a field holds.
func (b *browser) fill(field, text string) {
	b.t.Helper()
	content, err := json.Marshal(text)
	require.NoError(b.t, err)
	b.do(chromedp.WaitVisible(chromedp.CSS(field)),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const f = document.querySelector(%q); f.value = %s; `+
			`f.dispatchEvent(new Event('input', { bubbles: true })) })()`, field, content)))
}

func (b *browser) text() string {
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](pageText))
	require.NoError(b.t, err)
	return text
}

// pageText is what a page says; a page on its way has no body yet.
const pageText = "document.body ? document.body.innerText : ''"

// sees waits until the page says all of it.
func (b *browser) sees(words ...string) {
	b.t.Helper()
	var text string
	for deadline := time.Now().Add(40 * time.Second); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		var err error
		text, err = chromedp.Run(b.ctx, chromedp.Evaluate[string](pageText))
		missing := err != nil // one page was left for another meanwhile
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
	d.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, name text, updated_at timestamptz NOT NULL); INSERT INTO ` +
		`patrons SELECT i, 'Œsling ' || i, '2026-01-01Z' FROM generate_series(1, 1234) i; ANALYZE`)
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
	b.click("Count both sides")
	b.click("Show rows")
	b.sees("1\u202f234 / 1\u202f234", "the same", "= both", "Œsling 1", "nm_changed_at",
		"rows above 2026-01-01T00:00:00.000000Z")

	// What happens shows without anybody asking for it.
	d.exec(`INSERT INTO patrons VALUES (5000, 'arrived just now', clock_timestamp())`)
	time.Sleep(10 * time.Millisecond)
	require.Equal(t, int64(1), s.finish("patrons").Books.Inserted)
	b.click("Count again")
	b.click("Read again")
	b.sees("1\u202f235 / 1\u202f235", "arrived just now")

	b.setsBack(s)
	b.open("/runs/2") // the first one has made the control schema, too, and much to say of it
	b.sees("Books", "1 inserted", "COPY (SELECT", "COMMIT", "noemata.positions")
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
	b.sees("1 thing needs you", `The table public.patrons does not exist in source "circulation".`,
		"remove it from the feed or correct its name")
	b.click("Dark")
	b.sees("Light")
	b.click("Sign out")
	b.sees("Token")
}

// setsBack changes the file of the feed of patrons, and has the one before back.
func (b *browser) setsBack(s *service) {
	said, code := s.cli(strings.Replace(patronsFeed, "latest", "history", 1), "feeds", "apply", "-")
	require.Zero(b.t, code, said)
	b.open("/feeds/patrons")
	b.sees("Revisions", "tables[public.patrons].keep: latest → history", "the first that is kept")
	b.click("Back to this")
	b.do(chromedp.Click(chromedp.Search(`//footer//button[contains(., "Apply")]`)))
	b.sees("is as the file has it", "tables[public.patrons].keep: history → latest")
}

// fault is what axe finds on a page: an element that someone who hears it, or sees little,
// cannot use.
type fault struct {
	ID, Impact, Help string
	Nodes            []struct {
		Target  []any
		Summary string `json:"failureSummary"`
	}
}

// fitsAPhone makes sure that nothing of a page lies beside a narrow screen, or is out of reach there: what is wider
// than the screen scrolls by itself.
func (b *browser) fitsAPhone(page string) {
	b.t.Helper()
	b.do(chromedp.EmulateViewport(390, 800), chromedp.Sleep(400*time.Millisecond)) // charts follow a moment later
	beside, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`(() => { const wide = document.documentElement.clientWidth
		const scrolls = (e) => { for (e = e.parentElement; e && e !== document.body; e = e.parentElement)
			if (['auto', 'scroll', 'hidden', 'clip'].includes(getComputedStyle(e).overflowX)) return true
			return false }
		return [...document.body.querySelectorAll('*')].filter((e) => { const r = e.getBoundingClientRect()
			return r.width && r.height && (r.right > wide + 1 || r.left < -1) && getComputedStyle(e).visibility !== 'hidden' &&
				!e.closest('.visually-hidden, .skip') && !scrolls(e) })
			.map((e) => e.tagName + '.' + e.className + ' ' + (e.innerText ?? '').slice(0, 30)).slice(0, 4).join('; ') })()`))
	require.NoError(b.t, err)
	if beside != "" {
		b.t.Errorf("%s, at 390 px: beside the screen: %s", page, beside)
	}
	b.do(chromedp.EmulateViewport(1280, 800))
}

// byKeyboard makes sure that the keyboard reaches whatever can be clicked on a page, and is caught by nothing.
func (b *browser) byKeyboard(page string) {
	b.t.Helper()
	b.do(chromedp.Evaluate[chromedp.Void](`document.activeElement.blur(); window.scrollTo(0, 0); window.passed = new Set()
		document.addEventListener('focusin', (e) => window.passed.add(e.target))`),
		chromedp.KeyEvent(strings.Repeat(kb.Tab, 250)))
	missed, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`(() => {
		const dialog = [...document.querySelectorAll('[aria-modal="true"]')].find((e) => e.checkVisibility())
		const can = 'a[href], button, input, select, textarea, summary, label, [tabindex]'
		const shows = (e) => { const r = e.getBoundingClientRect(), s = getComputedStyle(e)
			return e.checkVisibility() && r.width > 0 && r.height > 0 && s.visibility !== 'hidden' && (!dialog || dialog.contains(e)) &&
				!e.closest('[inert], [aria-hidden="true"]') }
		const alike = (e) => e.type === 'radio' && [...window.passed].some((p) => p.name === e.name)
		const left = [...document.querySelectorAll(can)].filter((e) => shows(e) && e.tabIndex >= 0 && !e.disabled &&
			e.tagName !== 'LABEL' && !alike(e) && !window.passed.has(e))
		const mute = [...document.body.querySelectorAll('*')].filter((e) => shows(e) && getComputedStyle(e).cursor === 'pointer' &&
			!e.closest(can) && !e.querySelector(can) && !e.closest('.el-select, .el-input, .el-input-number, .el-switch'))
		return [...left, ...mute].map((e) => e.tagName + '.' + e.className + ' ' + (e.innerText ?? '').slice(0, 30)).slice(0, 5).join('; ')
	})()`))
	require.NoError(b.t, err)
	if missed != "" {
		b.t.Errorf("%s: out of the keyboard's reach: %s", page, missed)
	}
}

// Every page can be used by ear and with the keyboard alone, in both themes, and says so
// when the service has gone away.
//
// Longer than a screen: it is a list of pages.
func TestEveryPageIsForEverybody(t *testing.T) {
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "make console installs it")
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("lake", "duckdb")
	s.addWarehouse("target", "postgresql")
	d.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, name text, updated_at timestamptz NOT NULL); INSERT INTO ` +
		`patrons SELECT i, 'Œsling ' || i, '2026-01-01Z' FROM generate_series(1, 1234) i; ANALYZE`)
	d.exec(`CREATE TABLE holds (id bigint PRIMARY KEY, state text); INSERT INTO holds VALUES (1, 'placed'), (2, ` +
		`'placed')`)
	d.exec(`CREATE TABLE gone (id bigint PRIMARY KEY, updated_at timestamptz)`)
	s.apply("%s", patronsFeed+"  - table: public.gone\n    find: watermark\n    watermark: {column: updated_at}\n   "+
		" keep: latest\n")
	d.exec(`DROP TABLE gone`)
	require.Equal(t, "failed", s.finish("patrons").State)
	s.apply("feed: live\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: " +
		"live.{table}\ntables:\n  - {table: public.holds, find: log, keep: history}\n")
	_, err = s.client.StartFeed(t.Context(), "live")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return strings.Contains(s.must("feeds", "show", "live"), "following") },
		30*time.Second, 200*time.Millisecond)
	d.exec(`UPDATE holds SET state = 'ready' WHERE id = 1`)
	s.apply("feed: kept\nsource: circulation\nwarehouse: lake\ntarget: kept.{table}\ntables:\n  - {table: public.patrons, find: " +
		"whole, keep: latest}\n")
	require.Equal(t, "done", s.finish("kept").State)
	_, err = s.client.DerivedFile(t.Context(),
		"derived: reading\nwarehouse: lake\ntables:\n  - {table: reading.named, sql: "+
			"FROM kept.patrons, checks: [{values: {column: id, in: [1]}, failing: tell}]}\n", nil, client.Apply)
	require.NoError(t, err)
	s.derived("reading", "made", "reading.named")
	check := func(b *browser, page, theme string) {
		b.t.Helper()
		b.do(chromedp.Evaluate[chromedp.Void](string(axe)))
		text, err := chromedp.Run(b.ctx,
			chromedp.Evaluate[string](`axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa'] }).then(r => `+
				`JSON.stringify(r.violations))`, chromedp.EvalAwaitPromise))
		require.NoError(b.t, err)
		var faults []fault
		require.NoError(b.t, json.Unmarshal([]byte(text), &faults))
		for _, f := range faults {
			for _, n := range f.Nodes {
				b.t.Errorf("%s, %s: %s (%s) at %v: %s", page, theme, f.Help, f.Impact, n.Target, n.Summary)
			}
		}
		b.fitsAPhone(page)
		if theme == "light" {
			b.byKeyboard(page)
		}
	}
	in := func(t *testing.T, theme string) *browser {
		b := newBrowser(t, s)
		b.open("/")
		b.sees("Sign in")
		check(b, "sign-in", theme)
		b.fill("#token", s.token)
		b.click("Sign in")
		b.sees("patrons", "live")
		if theme == "dark" {
			b.click("Dark")
			b.sees("Light")
		}
		return b
	}
	t.Run("pages", func(t *testing.T) {
		for _, theme := range []string{"light", "dark"} {
			t.Run(theme, func(t *testing.T) {
				t.Parallel()
				b := in(t, theme)
				for page, words := range map[string][]string{
					"/": {"patrons", "needs you"}, "/feeds/patrons": {"public.patrons",
						"failing"}, "/feeds/live": {"public.holds", "Log"},
					"/feeds/patrons/table?name=public.patrons": {"Œsling",
						"the same"}, "/feeds/live/table?name=public.holds": {"nm_from", "ready"},
					"/set-up": {"Connect", "Next: choose"}, "/feeds/patrons/change": {"Change patrons", "public.patrons"},
					"/runs": {"person"}, "/runs/1": {"Books",
						"COMMIT"}, "/sources": {"circulation"}, "/warehouses": {"target"},
					"/ask":                                 {"each answer is one cut", "1 row"},
					"/derived?table=reading/reading.named": {"1 of 1 fail", "FROM kept.patrons", "Statements"},
					"/people":                              {"first administrator", "administer"}, "/alerts": {"Channels"},
					"/service": {"working", "What is kept"}, "/nowhere": {"no such page"},
				} {
					b.open(page)
					if page == "/ask" {
						b.sees("lake")
						b.asks("SELECT 1 AS one, 'x' AS two, NULL AS three")
					}
					if strings.Contains(page, "/table?") {
						b.click("Count both sides")
						b.sees("Count again") // what stands below has moved to its place
						b.click("Show rows")
					}
					b.sees(words...)
					check(b, page, theme)
				}
				b.checkSetUp(func(step string) { check(b, "set-up, "+step, theme) })
			})
		}
	})

	// Pages that were left listen no longer: a browser has six connections to one address.
	b := in(t, "dark")
	require.Eventually(t, func() bool {
		_, metrics := s.request("GET", "/metrics", "", map[string]string{"Authorization": "Bearer " + s.token})
		return strings.Contains(metrics, "noemata_event_listeners 1\n")
	}, time.Minute, time.Second)

	// The keyboard reaches whatever the mouse does, and shows where it is.
	b.open("/")
	b.sees("● live")
	var stops []string
	for range 14 {
		b.do(chromedp.KeyEvent(kb.Tab))
		stop, err := chromedp.Run(b.ctx,
			chromedp.Evaluate[string](`(() => { const e = document.activeElement, s = getComputedStyle(e); return `+
				`e.innerText.trim() + (s.outlineStyle !== 'none' || s.boxShadow !== 'none' ? '' : ' (unseen)') })()`))
		require.NoError(t, err)
		stops = append(stops, stop)
	}
	require.Equal(t, []string{"To the content", "Noemata", "Overview", "Runs", "Ask", "Derived", "Alerts", "Sources",
		"Warehouses",
		"Service", "People", "Light", "Sign out"}, stops[:13])
	for _, stop := range stops {
		require.NotContains(t, stop, "(unseen)")
	}

	s.kill()
	b.sees("○ not live")
	b.click("Apply a feed file")
	b.fill("textarea", patronsFeed)
	b.click("Check")
	b.sees("does not answer")
	check(b, "a page without its service", "dark")
	s.listen = strings.TrimPrefix(s.address, "http://") // where the page looks for it
	s.start()
	b.sees("● live")
}

// Whoever is signed out elsewhere is asked to sign in again, also when nothing is clicked, and
// goes on where they were.
func TestALostSessionIsFoundAgain(t *testing.T) {
	s := newService(t)
	b := newBrowser(t, s)
	signIn := func() {
		b.sees("Sign in")
		b.fill("#token", s.token)
		b.click("Sign in")
	}
	b.open("/sources")
	signIn()
	b.sees("Databases that are read", "Sign out")
	b.do(chromedp.Evaluate[chromedp.Void](`void fetch('/api/v1/session', { method: 'DELETE' })`))
	signIn()
	b.sees("Databases that are read", "Sign out")
}
