package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// choose takes an option of a list that is called by a label.
func (b *browser) choose(label, option string) {
	b.t.Helper()
	b.do(chromedp.Click(chromedp.Search(fmt.Sprintf(
		`//input[@aria-label=%q]/ancestor::div[contains(@class, "el-select__wrapper")]`, label))))
	require.Eventually(b.t, func() bool {
		done, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(`(() => { const found = [...document.`+
			`querySelectorAll('.el-select-dropdown__item')].find((o) => o.offsetParent && o.innerText.trim() === %q); `+
			`found?.click(); return !!found })()`, option)))
		return err == nil && done
	}, 10*time.Second, 100*time.Millisecond, option)
}

// field fills the field of the open form that a label stands before.
func (b *browser) field(label, text string) {
	b.t.Helper()
	field := chromedp.Search(fmt.Sprintf(`//div[contains(@class, "el-dialog")]//label[normalize-space(.)=%q]/`+
		`following-sibling::div//input`, label))
	b.do(chromedp.WaitVisible(field), chromedp.SendKeys(field, text))
}

func (b *browser) press(xpath string) {
	b.t.Helper()
	b.do(chromedp.Click(chromedp.Search(xpath)))
}

// checkSetUp goes through the steps of setting up, and has each looked at.
func (b *browser) checkSetUp(look func(step string)) {
	b.t.Helper()
	b.open("/set-up")
	b.do(chromedp.Evaluate[chromedp.Void](`localStorage.setItem('set-up', JSON.stringify({step: 1, source: 'circulation', ` +
		`warehouse: 'target', name: 'looked-at', chosen: ['public.patrons'], later: ['public'], file: '', of: ''}))`))
	b.open("/set-up")
	b.sees("1 table chosen", "stands for each new table")
	look("choose")
	b.click("Next: shape")
	b.sees("Each table that comes.")
	look("shape")
	b.press(`//tr[contains(., "public.patrons")]//button[contains(., "Shape")]`)
	b.sees("rows looked at")
	look("a table's shape")
	b.press(`//footer//button[contains(., "Done")]`)
	b.do(chromedp.WaitNotVisible(chromedp.CSS(".el-overlay"))) // what fades away still takes clicks
	b.click("Next: check")
	b.sees("in the way")
	look("check")
	b.do(chromedp.Evaluate[chromedp.Void](`localStorage.removeItem('set-up')`))
	b.open("/sources")
	b.click("Add a source")
	b.sees("Through a server, by SSH")
	b.click("Through a server, by SSH")
	b.sees("Its host key")
	look("a connection")
}

// From an empty service to rows that are proved equal, in the console alone: connections are made on
// the way, tables chosen, columns and rows shaped, findings looked at, and the feed started. The file is
// the same as one that is applied by command. Longer than a screen: it is one visit.
func TestSetUpInTheConsole(t *testing.T) {
	s := newService(t)
	settings, conn := testkit.Database(t)
	testkit.Exec(t, conn, `CREATE TABLE patrons (id int PRIMARY KEY, card text, email text, branch text, pin text,
			active boolean NOT NULL);
		INSERT INTO patrons SELECT i, 'V' || i, 'r' || i || '@post.example', (ARRAY['Grünau', 'Dornheim'])[1 + i % 2],
			'00' || i, i % 4 > 0
		FROM generate_series(1, 400) i;
		CREATE TABLE loans (id int PRIMARY KEY, patron int); INSERT INTO loans SELECT i, i FROM generate_series(1, 100) i;
		CREATE TABLE scratch (id int); ANALYZE`)
	b := newBrowser(t, s)
	b.signIn(s, "/")
	b.sees("No feed yet", "choose tables")
	b.click("Set up the first feed")
	b.sees("No source yet.", "No warehouse yet.")

	b.click("Add a source")
	b.field("Name", "circulation")
	b.field("Database", settings.Database)
	b.field("User", settings.User)
	b.field("Password", "wrong")
	b.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Port"]`), fmt.Sprint(settings.Port)))
	b.press(`//footer//button[contains(., "Test")]`)
	b.sees("did not accept the password", "sign-in")
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('.el-dialog input[type=password]').select()`))
	b.field("Password", settings.Password)
	b.press(`//footer//button[contains(., "Test")]`)
	b.sees("It answers: PostgreSQL", "The change log can be followed", "3 tables and 0 views can be seen")
	b.press(`//footer//button[contains(., "Add")]`)
	b.sees("circulation (postgresql)")
	b.click("Add a warehouse")
	b.field("Name", "lake")
	b.field("Path of the file", "lake.duckdb")
	b.press(`//footer//button[contains(., "Add")]`)
	b.sees("lake (duckdb)")
	b.click("Next: choose")

	b.sees("patrons", "400 rows", "no key")
	for _, name := range []string{"loans", "patrons"} {
		b.press(fmt.Sprintf(`//span[contains(@class, "name")][normalize-space(.)=%q]/ancestor::div[contains(@class, `+
			`"el-tree-node__content")]//input`, name))
	}
	b.sees("2 tables chosen", "About 500 rows")
	b.click("Next: shape")
	b.sees("email looks like an e-mail address", "tells its rows apart")
	b.open("/set-up") // left half-way
	b.sees("Your draft of", "email: hash people")
	b.choose("Keep public.patrons as", "history")
	b.press(`//tr[contains(., "public.patrons")]//button[contains(., "Shape")]`)
	b.sees("400 rows looked at; 400 arrive", "(hidden)")
	require.Contains(t, b.text(), "pin: left out", "what is proposed to be dropped shows")
	b.choose("What becomes of email", "leave out")
	rename := chromedp.CSS(`input[aria-label="New name of card"]`)
	b.do(chromedp.SendKeys(rename, "card_number"), chromedp.Evaluate[chromedp.Void](`document.activeElement.blur()`))
	b.fill(`textarea[aria-label="Filter"]`, "actve")
	b.sees("undeclared reference to 'actve'")
	b.fill(`textarea[aria-label="Filter"]`, "active")
	b.sees("300 arrive", "100 are left out by the filter", "about 300 of 400 rows stay", "card_number")
	b.press(`//footer//button[contains(., "Done")]`)
	b.do(chromedp.WaitNotVisible(chromedp.CSS(".el-overlay"))) // what fades away still takes clicks
	b.click("Next: check")
	b.sees("Nothing is in the way")
	b.click("Next: start")
	b.sees("2 tables, about 500 rows at first", "email: left out")
	b.choose("Freshness", "continuous")
	b.click("Apply and start")
	b.sees("public.patrons", "following", "history")
	require.Eventually(t, func() bool {
		p, err := s.client.Prove(t.Context(), "circulation-lake", "public.patrons")
		return err == nil && p.Same && p.Equal == 300
	}, time.Minute, time.Second)
	s.proved("circulation-lake", "public.loans", 100)
	exported := s.must("feeds", "export", "circulation-lake")
	require.Contains(t, exported, "card_number")
	require.Contains(t, exported, "keep: history")
	require.Contains(t, exported, "where: active")
	require.NotContains(t, exported, "scratch")
	require.Regexp(t, `drop: \[pin\]|- pin|pin: drop`, exported)

	// By file, on another service.
	other := newService(t)
	for side, n := range map[client.Side]client.NewConnection{
		client.Sources:    {Name: "circulation", Kind: "postgresql", Settings: &settings},
		client.Warehouses: {Name: "lake", Kind: "duckdb", Settings: &client.Settings{Path: "lake.duckdb"}},
	} {
		_, err := other.client.AddConnection(t.Context(), side, n)
		require.NoError(t, err)
	}
	said, code := other.cli(exported, "feeds", "apply", "-")
	require.Zero(t, code, said)
	require.Equal(t, exported, other.must("feeds", "export", "circulation-lake"))
}
