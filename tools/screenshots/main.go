// Command screenshots takes a picture of each main page of the console of a demo
// that runs: go run ./tools/screenshots -demo .demo -out docs/screenshots
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"
)

func main() {
	demo := flag.String("demo", ".demo", "the demo's folder")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "take only this one")
	key := flag.String("key", "1", "the patron whose versions are shown")
	flag.Parse()
	if err := run(*demo, *out, *only, *key); err != nil {
		log.Fatal(err)
	}
}

// signIn is what a demo that runs leaves for those who open it.
type signIn struct{ Address, Token string }

func readSignIn(demo string) (s signIn, err error) {
	content, err := os.ReadFile(filepath.Join(demo, "sign-in.json"))
	if err != nil {
		return s, fmt.Errorf("find a demo that runs: %w", err)
	}
	return s, json.Unmarshal(content, &s)
}

func run(demo, out, only, key string) error {
	signIn, err := readSignIn(demo)
	if err != nil {
		return err
	}
	browser, cancel := chromedp.NewExecAllocator(context.Background(),
		append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.WindowSize(1280, 800))...)
	defer cancel()
	tab, cancel := chromedp.NewContext(browser)
	defer cancel()
	ctx, cancel := context.WithTimeout(tab, 2*time.Minute)
	defer cancel()
	shoot := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
			if only != "" && only != name {
				return nil
			}
			time.Sleep(1200 * time.Millisecond)
			picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
			if err != nil {
				return err
			}
			fmt.Println(name)
			return os.WriteFile(filepath.Join(out, name+".png"), picture, 0o644)
		})
	}
	table := "/feeds/circulation-lake/table?name=" + url.QueryEscape("public.patrons")
	history := "/feeds/circulation-live/table?name=" + url.QueryEscape("public.patrons")
	open := func(path, waitFor string) chromedp.Action[chromedp.Void] {
		return chromedp.Steps(chromedp.Navigate(signIn.Address+path), chromedp.WaitVisible(chromedp.CSS(waitFor)))
	}
	theme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("localStorage.setItem('theme', '%s')", name))
	}
	click := func(text string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(fmt.Sprintf(`//button[contains(., %q)]`, text)))
	}
	draft := `localStorage.setItem('set-up', JSON.stringify({step: 1, source: 'circulation', warehouse: 'lake',
		name: 'reading-room', chosen: ['public.loans', 'public.patrons', 'public.fines', 'public.visits'],
		later: ['public'], file: '', of: '', at: new Date().toISOString()}))`
	question := "localStorage.setItem('question', `SELECT t.name AS title, b.name AS branch, count(*) AS loans, max(l.lent_at) AS last_lent\n" +
		"FROM live.loans l\nJOIN catalogue.copies c ON c.barcode = l.copy AND c.nm_current\nJOIN catalogue.titles t ON t.id = c.title_id\n" +
		"JOIN catalogue.branches b ON b.id = c.branch_id\nGROUP BY ALL ORDER BY loans DESC, title`)"
	return chromedp.Do(ctx,
		chromedp.EmulateViewport(1280, 800),
		open("/sign-in", "#token"), theme("light"), open("/sign-in", "#token"), shoot("sign-in"),
		chromedp.SendKeys(chromedp.CSS("#token"), signIn.Token), click("Sign in"),
		chromedp.WaitVisible(chromedp.CSS("table.rows")), shoot("overview"),
		open("/feeds/circulation-lake", "table.rows"), shoot("feed"),
		open("/feeds/circulation-live", ".chart canvas"), shoot("log"),
		open("/people", "table.rows"), shoot("people"),
		open(history, ".ask input"), chromedp.SendKeys(chromedp.CSS(".ask input"), key), click("Look"),
		chromedp.WaitVisible(chromedp.CSS(".strip")),
		chromedp.Evaluate[chromedp.Void](`scrollTo(0, 0)`), shoot("versions"),
		open(table, ".facts"), click("Prove equal"), chromedp.Sleep(3*time.Second), click("Count both sides"),
		click("Show rows"), chromedp.WaitVisible(chromedp.CSS("td.side")), shoot("table"),
		open("/feeds/circulation-reports/table?name=public.patrons", ".facts"), click("Prove equal"),
		chromedp.Sleep(4*time.Second), scrollTo("Proofs"), shoot("proof"),
		open("/runs", "table.rows td a"), shoot("runs"),
		chromedp.Click(chromedp.CSS("table.rows td a")), chromedp.WaitVisible(chromedp.CSS("td.sql")), shoot("run"),
		open("/sources", ".facts"), click("Tables"), chromedp.WaitVisible(chromedp.CSS("table.rows")), shoot("sources"),
		open("/service", "table.rows"), shoot("service"),
		open("/", "table.rows"), click("Apply a feed file"), chromedp.WaitVisible(chromedp.CSS("textarea")),
		click("Check"), chromedp.Sleep(time.Second), shoot("feed-file"),
		chromedp.Evaluate[chromedp.Void](question), open("/ask", ".cm-content"), choose("Warehouse", "lake"), click("Ask "),
		chromedp.WaitVisible(chromedp.CSS(".answer td")), shoot("ask"),
		open("/derived", "table.rows"), click("reading.lending_by_day"), chromedp.WaitVisible(chromedp.CSS("pre")),
		shoot("derived"),
		open("/set-up", ".steps"), chromedp.Evaluate[chromedp.Void](draft), open("/set-up", ".el-tree-node__content"),
		shoot("set-up"), click("Next: shape"), chromedp.WaitVisible(chromedp.CSS("table.rows")),
		chromedp.Click(chromedp.Search(`//tr[contains(., "public.patrons")]//button`)),
		chromedp.WaitVisible(chromedp.CSS("td.value")), shoot("shape"),
		chromedp.Evaluate[chromedp.Void](`localStorage.removeItem('set-up')`),
		open("/feeds/circulation-reports", "table.rows"), click("File"), chromedp.WaitVisible(chromedp.CSS("textarea")),
		click("Preview"), chromedp.WaitVisible(chromedp.CSS("td.value")), shoot("preview"),
		theme("dark"), open("/", "table.rows"), shoot("overview-dark"),
	)
}

// choose takes an option of a list.
func choose(label, option string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(
		chromedp.Click(chromedp.Search(fmt.Sprintf(`//input[@aria-label=%q]/ancestor::div[contains(@class, "el-select__wrapper")]`,
			label))),
		chromedp.Sleep(time.Second),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`[...document.querySelectorAll('.el-select-dropdown__item')].find((o) => `+
			`o.innerText.trim() === %q).click()`, option)))
}

// scrollTo shows a part of a page.
func scrollTo(label string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector('[aria-label=%q]').scrollIntoView()`,
		label))
}
