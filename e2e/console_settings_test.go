package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// add adds a word to a list that is entered.
func (b *browser) add(label, word string) {
	b.t.Helper()
	field := chromedp.Search(fmt.Sprintf(`//input[@aria-label=%q]`, label))
	is := func(in string) bool {
		is, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(
			`[...document.querySelectorAll(%q)].some((e) => e.checkVisibility() && e.innerText.trim() === %q)`, in, word)))
		return err == nil && is
	}
	require.Eventually(b.t,
		func() bool { // a dialog that is still opening takes the focus for itself, and what is typed is lost
			b.do(chromedp.Click(field), chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { const e = `+
				`document.activeElement; if (e.ariaLabel === %q) { e.value = ''; e.dispatchEvent(new Event('input')) } })()`,
				label)),
				chromedp.SendKeys(field, word))
			for range 20 {
				chosen, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(`(() => { const found = [...document.`+
					`querySelectorAll('.el-select-dropdown__item')].find((e) => e.checkVisibility() && e.innerText.trim() === %q); `+
					`found?.click(); return !!found })()`, word)))
				if err == nil && chosen { // what is not offered yet cannot be chosen
					return true
				}
				time.Sleep(50 * time.Millisecond)
			}
			return false
		}, time.Minute, 50*time.Millisecond, "%s is offered", word)
	require.Eventually(b.t, func() bool { return is(".el-tag") }, 10*time.Second, 50*time.Millisecond, "%s is chosen",
		word)
	b.do(chromedp.KeyEvent(kb.Tab))
}

// setting replaces what the field of a setting holds.
func (b *browser) setting(name, text string) {
	b.t.Helper()
	field := chromedp.CSS("#setting-" + name)
	b.do(chromedp.WaitVisible(field), chromedp.Evaluate[chromedp.Void](
		fmt.Sprintf("document.getElementById('setting-%s').select()", name)), chromedp.SendKeys(field,
		kb.Backspace+text+kb.Tab))
}

// done closes the dialog that is open, and waits until it has gone.
func (b *browser) done() {
	b.t.Helper()
	b.press(`//div[@aria-modal="true" and not(ancestor::*[contains(@style, "display: none")])]//button[normalize-space(.)="Done"]`)
	require.Eventually(b.t, func() bool {
		gone, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](
			`![...document.querySelectorAll('.el-overlay')].some((e) => e.checkVisibility())`))
		return err == nil && gone
	}, 10*time.Second, 50*time.Millisecond)
}

// What a feed file can say besides has a form of its own, of the feed and of each table, with what is wrong beside
// its field; and what comes of it is the file that a person would have written.
func TestSettingsInTheConsole(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE visits (branch text NOT NULL, day date NOT NULL, people int, code bytea, noted timestamptz,
			UNIQUE (branch, day));
		INSERT INTO visits SELECT 'Grünau', date '2026-01-01' + i, i, '\x00', '2026-01-01Z' FROM generate_series(1, 90) i;
		CREATE TABLE loan_north (id int PRIMARY KEY); CREATE TABLE loan_south (id int PRIMARY KEY)`)
	s.addWarehouse("target", "duckdb")
	s.apply("feed: visits\nsource: circulation\nwarehouse: target\ntables:\n  - table: public.visits\n    find: watermark\n" +
		"    keep: latest\n    watermark:\n      column: noted\n")

	b := newBrowser(t, s)
	b.signIn(s, "/feeds/visits/change")
	b.sees("public.visits")
	b.press(`//button[@aria-label="Settings of public.visits"]`)
	b.sees("the primary key, or a unique key without nulls")
	b.add("Key", "branch")
	b.add("Key", "day")
	b.add("As text", "code")
	b.setting("watermark-look_back", "soon")
	require.Eventually(t, func() bool {
		wrong, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](
			`document.getElementById('setting-watermark-look_back-fault')?.innerText ?? ''`))
		return err == nil && wrong != ""
	}, 10*time.Second, 100*time.Millisecond, "what is wrong stands beside its field")
	b.setting("watermark-look_back", "15m")
	b.setting("sweep", "6h")
	b.setting("target", "statistics.visits")
	b.choose("Types", "follow")
	b.done()
	b.click("Add a query as a table")
	b.setting("name", "by_branch")
	b.setting("query", "SELECT branch, sum(people) AS people FROM public.visits GROUP BY branch")
	b.add("Key", "branch")
	b.done()
	b.click("Add tables by a pattern")
	b.setting("table", "public.loan_*")
	b.add("Except", "public.loan_south")
	b.done()
	b.click("Settings of the feed")
	b.setting("owner", "Fjóra Quillfeather")
	b.setting("labels", "region=north, tier=1")
	b.setting("prove", "1d")
	b.setting("retain-warn", "2GB")
	b.done()
	b.click("Next: check")
	b.sees("retain is for feeds that follow the log")
	time.Sleep(16 * time.Second) // the page looks again meanwhile
	b.sees("retain is for feeds that follow the log")
	b.click("Back")
	b.click("Settings of the feed")
	b.setting("retain-warn", "")
	b.done()
	b.click("Next: check")
	b.sees("Nothing is in the way")
	b.click("Next: apply")
	b.press(`//button[normalize-space(.)="Apply"]`)
	b.sees("Run now")

	exported := s.must("feeds", "export", "visits")
	s.apply(`{feed: visits, source: circulation, warehouse: target, owner: Fjóra Quillfeather, labels: {region: north, tier: "1"},
		prove: 1d, tables: [
			{table: public.visits, find: watermark, keep: latest, watermark: {column: noted, look_back: 15m}, sweep: 6h,
				target: statistics.visits, key: [branch, day], as_text: [code], drift: {types: follow}},
			{query: "SELECT branch, sum(people) AS people FROM public.visits GROUP BY branch", name: by_branch, key: [branch],
				find: whole, keep: replace},
			{table: "public.loan_*", except: [public.loan_south], find: whole, keep: replace}]}`)
	require.Equal(t, exported, s.must("feeds", "export", "visits"), "the same bytes as of the file that a person writes")
	require.Equal(t, "done", s.finish("visits").State)
}
