package e2e

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"noemata/client"
)

// asks writes a question into the editor, in place of what is there, and asks it by the keyboard.
func (b *browser) asks(question string) {
	b.t.Helper()
	content, err := json.Marshal(question)
	require.NoError(b.t, err)
	b.do(chromedp.WaitVisible(chromedp.CSS(".cm-content")),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => { document.querySelector('.cm-content').focus();
			document.execCommand('selectAll'); document.execCommand('insertText', false, %s) })()`, content)),
		chromedp.Sleep(200*time.Millisecond), chromedp.KeyEvent(kb.Enter, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
}

// A person asks in the console: what there is is shown and completed, an answer of very many rows is as quick as one of
// few, mistakes say where they are, and a question is shared. Longer than a screen: it is one story.
func TestAskingInTheConsole(t *testing.T) {
	a := newAsked(t)
	b := newBrowser(t, a.service)
	b.signIn(a.service, "/ask")
	b.sees("each answer is one cut", "kept.loans", "pay.fines")
	b.asks("SELECT id, title, fee FROM kept.loans ORDER BY id")
	b.sees("2 rows", "Low Tide", "1.50", "∅", "decimal(8,2)", "Yours")
	b.asks("SELECT id,\n  nothing FROM kept.loans")
	b.sees("Line 2, column 3:", `"nothing" not found`)

	b.asks("SELECT range AS n, 'the row ' || range AS said FROM range(150000)")
	b.sees("100\u202f000 rows", "and more: the files have all", "the row 7")
	drawn := func() int {
		n, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](`document.querySelectorAll('.answer tbody tr').length`))
		require.NoError(t, err)
		return n
	}
	require.Less(t, drawn(), 100, "rows that are out of sight are not drawn")
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('.answer').scrollTop = 1e9`))
	b.sees("the row 99999")
	require.Less(t, drawn(), 100)

	b.asks("SELECT sum(a.range * b.range) FROM range(10000000) a, range(10000000) b")
	b.click("Stop")
	b.sees("The question was stopped.")
	require.Eventually(t, func() bool {
		list, err := a.client.Questions(t.Context(), client.QuestionFilter{State: "running"})
		return err == nil && len(list) == 0
	}, 10*time.Second, 100*time.Millisecond, "nothing goes on for a page that does not wait for it")

	b.asks("SELECT title, count(*) AS loans FROM kept.loans GROUP BY title ORDER BY title")
	b.sees("2 rows", "The Weir")
	b.do(chromedp.Click(chromedp.Search(`//span[contains(@class, "el-radio-button__inner")][contains(., "Chart")]`)),
		chromedp.WaitVisible(chromedp.CSS(".chart canvas")))
	b.click("Save…")
	b.do(chromedp.SendKeys(chromedp.CSS(`.el-dialog input`), "loans by title"),
		chromedp.Click(chromedp.Search(`//footer//button[contains(., "Save")]`)))
	b.sees("shared with all who may ask the warehouse")
	saved, err := a.client.SavedQuestions(t.Context())
	require.NoError(t, err)
	require.Len(t, saved, 1)
	require.Contains(t, a.must("questions", "saved"), "loans by title")
	require.Contains(t, a.must("questions", "unsave", "loans by title"), "shared no more")

	// What is typed is completed from what is there.
	b.do(chromedp.Evaluate[chromedp.Void](`(() => { document.querySelector('.cm-content').focus();
		document.execCommand('selectAll'); document.execCommand('delete') })()`),
		chromedp.KeyEvent("SELECT * FROM kept."), chromedp.WaitVisible(chromedp.CSS(".cm-tooltip-autocomplete")))
	b.sees("loans")

	// Who may not ask learns who lets them.
	look, err := a.client.AddToken(t.Context(), client.NewToken{Name: "looker", Role: "look"})
	require.NoError(t, err)
	b.click("Sign out")
	b.sees("Sign in")
	b.fill("#token", look.Secret)
	b.click("Sign in")
	b.sees("Overview")
	b.open("/ask")
	b.sees("You may not ask a warehouse yet.", "noemata users change looker --ask WAREHOUSE")
}
