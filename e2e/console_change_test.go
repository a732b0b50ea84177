package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// enter replaces what the field with a label holds, as somebody does who types and goes on.
func (b *browser) enter(label, text string) {
	b.t.Helper()
	field := chromedp.CSS(fmt.Sprintf(`[aria-label=%q]`, label))
	b.do(chromedp.WaitVisible(field), chromedp.Evaluate[chromedp.Void](fmt.Sprintf(
		`document.querySelector('[aria-label=%q]').select()`, label)), chromedp.SendKeys(field, text+kb.Tab))
}

// A feed that runs is changed in the steps it is set up in: columns are typed, taken out of documents and made
// of others, a table comes and one goes, and it moves to another warehouse. What the file says
// besides stays, and the rows of before have what was chosen. Longer than a screen: it is one visit.
func TestAFeedIsChangedInTheConsole(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE patrons (id int PRIMARY KEY, fee numeric(8,2), doc jsonb, branch text);
		INSERT INTO patrons SELECT i, i, json_build_object('city', 'Grünau', 'floor', i), 'Île-Verte' FROM generate_series(1, 300) i;
		CREATE TABLE desks (id int PRIMARY KEY); INSERT INTO desks VALUES (1);
		CREATE TABLE gates (id int PRIMARY KEY); INSERT INTO gates VALUES (1), (2)`)
	s.addWarehouse("target", "duckdb")
	s.addWarehouse("vault", "postgresql")
	s.apply(`{feed: readers, source: circulation, warehouse: target, freshness: continuous, owner: Fjóra Quillfeather, tables: [
		{table: public.patrons, find: log, keep: soft-delete}, {table: public.desks, find: log, keep: latest}]}`)
	s.must("feeds", "start", "readers")
	require.Eventually(t, func() bool { return s.same("readers") }, time.Minute, time.Second)
	s.proved("readers", "public.patrons", 300)

	b := newBrowser(t, s)
	b.signIn(s, "/feeds/readers")
	b.click("Change…")
	b.sees("Change readers", "circulation → target", "public.desks")
	b.open("/feeds/readers/change")
	b.sees("public.desks")
	require.NotContains(t, b.text(), "Your draft", "nothing has been changed")
	b.click("Back")
	b.sees("2 tables chosen")
	for _, name := range []string{"desks", "gates"} {
		b.press(fmt.Sprintf(`//span[contains(@class, "name")][normalize-space(.)=%q]/ancestor::div[contains(@class, `+
			`"el-tree-node__content")]//input`, name))
	}
	b.click("Next: shape")
	b.sees("public.gates")
	require.NotContains(t, b.text(), "public.desks")
	b.press(`//tr[contains(., "public.patrons")]//button[contains(., "Shape")]`)
	b.sees("300 rows looked at", "Take a value out of doc")
	b.choose("Type of fee", "text")
	b.choose("What becomes of branch", "first characters")
	b.enter("how many, of branch", "3")
	b.click("Take a value out of doc")
	b.enter("Path 1 into doc", "$.floor")
	b.enter("Column of path 1 into doc", "floor")
	b.choose("Type of path 1 into doc", "int32")
	b.press(`//label[contains(., "bring doc itself")]`)
	b.click("Add a column made of others")
	b.enter("Expression 1", "fee * ")
	b.enter("Name of expression 1", "twice")
	b.sees("Syntax error")
	b.enter("Expression 1", "fee * 2")
	b.choose("Type of expression 1", "decimal(12,2)")
	b.sees("floor", "twice", "Île***", "12.00")
	b.open("/feeds/readers/change") // left half-way
	b.sees("Your draft of", "twice = fee * 2", "branch: mask keep-first, count 3")
	b.click("Next: check")
	b.sees("tables[public.patrons].computed", "What the feed makes of its rows changes", "New in the feed", "It leaves the feed")
	b.click("Next: apply")
	b.sees("2 tables", "twice = fee * 2")
	b.press(`//button[normalize-space(.)="Apply"]`)
	b.sees("public.gates", "Run now")
	holds := func(table string, n int64) {
		t.Helper()
		require.Eventually(t, func() bool {
			p, err := s.client.Prove(t.Context(), "readers", table)
			return err == nil && p.Same && p.Equal == n
		}, time.Minute, time.Second)
	}
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "readers")
		return err == nil && len(f.Tables) == 2 && f.Tables[0].State == "following" && f.Tables[1].State == "following"
	}, 20*time.Second, time.Second)
	holds("public.patrons", 300)
	holds("public.gates", 2)
	exported := s.must("feeds", "export", "readers")
	for _, said := range []string{"type: text", "mask: keep-first", "int32", "keep: false", "fee * 2", "owner: Fjóra"} {
		require.Contains(t, exported, said)
	}

	b.open("/feeds/readers/change")
	b.sees("twice = fee * 2")
	require.NotContains(t, b.text(), "Your draft", "what was applied is no draft any more")
	b.click("Back")
	b.sees("2 tables chosen")
	b.click("Back")
	b.choose("Warehouse", "vault (postgresql)")
	b.click("Next: choose")
	b.sees("2 tables chosen")
	b.click("Next: shape")
	b.click("Next: check")
	b.sees("The feed moves to the warehouse vault")
	s.apply("%s", strings.Replace(exported, "owner: Fjóra Quillfeather", "owner: Ove Lindqvist", 1))
	b.open("/feeds/readers/change")
	b.sees("The feed was changed after your draft was begun", "The feed moves to the warehouse vault")
	b.click("Next: apply")
	b.press(`//button[normalize-space(.)="Apply"]`)
	b.sees("circulation → vault")
	holds("public.patrons", 300)
}

// tab goes on with the keyboard until it is at what is called so, and gives what the focus passed.
func (b *browser) tab(called string) {
	b.t.Helper()
	var passed []string
	for range 120 {
		b.do(chromedp.KeyEvent(kb.Tab))
		at, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`(() => { const e = document.activeElement
			if (e === document.body) return 'the page'
			const s = getComputedStyle(e), w = getComputedStyle(e.closest('.el-select__wrapper, .el-input__wrapper') ?? e)
			const seen = [s, w].some((x) => x.outlineStyle !== 'none' || x.boxShadow !== 'none')
			return (e.ariaLabel || e.labels?.[0]?.innerText.trim() || e.innerText.trim() || e.tagName) + (seen ? '' : ' (unseen)') })()`))
		require.NoError(b.t, err)
		require.NotContains(b.t, at, "(unseen)", "the focus shows")
		if at == called {
			return
		}
		passed = append(passed, at)
	}
	require.Fail(b.t, "the keyboard does not reach it", "%s; it passed %q", called, passed)
}

func (b *browser) keys(keys ...string) {
	b.t.Helper()
	for _, key := range keys {
		b.do(chromedp.KeyEvent(key), chromedp.Sleep(250*time.Millisecond))
	}
}

// focused is what the keyboard is at.
func (b *browser) focused() string {
	b.t.Helper()
	at, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](
		`document.activeElement.ariaLabel || document.activeElement.innerText.trim()`))
	require.NoError(b.t, err)
	return at
}

// A feed is set up, a table shaped and a dialog left, by the keyboard alone; the focus shows at each stop.
func TestAFeedIsSetUpByKeyboard(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", "duckdb")
	d.exec(`CREATE TABLE patrons (id int PRIMARY KEY, email text, branch text);
		INSERT INTO patrons SELECT i, 'r' || i || '@post.example', 'Grünau' FROM generate_series(1, 40) i; ANALYZE`)
	b := newBrowser(t, s)
	b.signIn(s, "/set-up")
	b.sees("circulation", "target")
	b.tab("Add a source…")
	b.keys(kb.Enter)
	b.sees("Through a server, by SSH")
	b.tab("Name")
	b.keys("x", kb.Escape)
	b.do(chromedp.WaitNotVisible(chromedp.CSS(".el-overlay")))
	require.Equal(t, "Add a source…", b.focused(), "where it was before the dialog")
	b.tab("Next: choose")
	b.keys(kb.Enter)
	b.sees("patrons", "40 rows")
	b.tab("Choose public.patrons")
	b.keys(" ")
	b.sees("1 table chosen")
	b.tab("Next: shape")
	b.keys(kb.Enter)
	b.sees("email looks like an e-mail address")
	b.tab("Keep public.patrons as")
	b.keys(kb.Enter, kb.ArrowDown, kb.Enter)
	b.sees("soft-delete")
	b.tab("Shape…")
	b.keys(kb.Enter)
	b.sees("40 rows looked at")
	b.tab("What becomes of branch")
	b.keys(kb.Enter, kb.ArrowDown, kb.Enter)
	b.sees("leave out")
	b.tab("Filter")
	b.keys("id > 10")
	b.sees("30 arrive")
	b.tab("Done")
	b.keys(kb.Enter)
	b.do(chromedp.WaitNotVisible(chromedp.CSS(".el-overlay")))
	require.Equal(t, "Shape…", b.focused())
	b.tab("Next: check")
	b.keys(kb.Enter)
	b.sees("Nothing is in the way")
	b.tab("Next: start")
	b.keys(kb.Enter)
	b.sees("The file, to keep")
	b.tab("Apply and start")
	b.keys(kb.Enter)
	b.sees("public.patrons", "Run now")
	require.Eventually(t, func() bool {
		p, err := s.client.Prove(t.Context(), "circulation-target", "public.patrons")
		return err == nil && p.Same && p.Equal == 30
	}, time.Minute, time.Second)
	exported := s.must("feeds", "export", "circulation-target")
	require.Contains(t, exported, "branch: drop")
	require.Contains(t, exported, "keep: soft-delete")
	b.tab("Remove…")
	b.keys(kb.Enter)
	b.sees("Remove the feed circulation-target")
	b.keys(kb.Escape)
	b.do(chromedp.WaitNotVisible(chromedp.CSS(".el-overlay")))
	require.Equal(t, "Remove…", b.focused())
	s.must("feeds", "show", "circulation-target")
}
