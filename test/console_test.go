package test

import (
	"cmp"
	"context"
	"fmt"
	"html/template"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"github.com/chromedp/chromedp/kb"
	"soba.invalid/soba/internal/wire"
)

// page is a tab of a headless Chromium, showing the console of a service.
type page struct {
	t      *testing.T
	ctx    context.Context
	server *process

	mu         sync.Mutex
	complaints []string // errors, and what the page's policy blocked
}

func open(t *testing.T, server *process, path string, width, height int64, dark bool) *page {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("chromium"), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("hide-scrollbars", true), chromedp.Env("TZ=UTC"))
	allocator, cancel := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(cancel)
	ctx, cancelTab := chromedp.NewContext(allocator)
	t.Cleanup(cancelTab)
	ctx, cancelTime := context.WithTimeout(ctx, 90*time.Second)
	t.Cleanup(cancelTime)
	p := &page{t: t, ctx: ctx, server: server}
	messages := chromedp.Console(ctx)
	go func() {
		for m, err := range messages {
			if err != nil {
				return
			}
			if m.Type == chromedp.ConsoleError || m.Type == chromedp.ConsoleException {
				p.mu.Lock()
				p.complaints = append(p.complaints, m.Text+" "+m.URL)
				p.mu.Unlock()
			}
		}
	}()
	scheme := "light"
	if dark {
		scheme = "dark"
	}
	media := emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}}
	p.do(chromedp.EmulateViewport(width, height), chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, emulation.SetEmulatedMedia, media)
		return err
	}), chromedp.Navigate(server.address+path))
	return p
}

func (p *page) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := chromedp.Do(p.ctx, actions...); err != nil {
		p.t.Fatal(err)
	}
}

// read evaluates an expression in the page.
func read[T any](p *page, expression string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
	if err != nil {
		p.t.Fatal(err)
	}
	return v
}

// await waits until an expression is true in the page, looking whenever the page changes.
func (p *page) await(what, expression string) {
	p.t.Helper()
	p.awaitFor(15, what, expression)
}

// awaitFor is await for what takes its time.
func (p *page) awaitFor(seconds int, what, expression string) {
	p.t.Helper()
	_, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`new Promise((resolve, reject) => {
		const check = () => { try { return !!(`+expression+`); } catch { return false; } };
		if (check()) return resolve(true);
		const observer = new MutationObserver(() => { if (check()) { observer.disconnect(); resolve(true); } });
		observer.observe(document, { subtree: true, childList: true, attributes: true, characterData: true });
		setTimeout(() => { observer.disconnect(); check() ? resolve(true) : reject(new Error('not in time')); }, `+strconv.Itoa(seconds)+`000);
	})`, chromedp.EvalAwaitPromise))
	if err != nil {
		p.t.Fatalf("%s: %v\nthe page says: %.1500s", what, err, read[string](p, "document.body.innerText"))
	}
}

func (p *page) press(keys ...string) {
	p.t.Helper()
	for _, k := range keys {
		p.do(chromedp.KeyEvent(k))
	}
}

// click clicks what an XPath finds.
func (p *page) click(path string) {
	p.t.Helper()
	p.do(chromedp.Click(chromedp.Search(path)))
}

// fill types into a field in place of what is there.
func (p *page) fill(field, text string) {
	p.t.Helper()
	p.do(chromedp.Focus(field))
	read[any](p, `document.activeElement.select()`)
	p.do(chromedp.SendKeys(field, text))
}

// silent fails the test when the browser had something to complain of, but for
// answers with a status that the test provoked.
func (p *page) silent(but ...string) {
	p.t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
next:
	for _, c := range p.complaints {
		for _, expected := range but {
			if strings.Contains(c, expected) {
				continue next
			}
		}
		p.t.Errorf("the browser complains: %s", c)
	}
}

const rowsShown = `[...document.querySelectorAll('tbody th')].map(e => e.innerText.trim().split(/\s/)[0])`

func TestConsoleShowsTheTableAsTheCommandLineDoes(t *testing.T) {
	t.Parallel()
	p := open(t, shared, "/lists/growth?view=quotes", 1280, 800, false)
	p.await("the rows", rowsShown+`.includes('OARS.XCVH')`)
	cells := read[map[string]string](p, `Object.fromEntries([...document.querySelectorAll('tbody tr')].filter(r => r.querySelector('th')).map(r => [r.querySelector('th').innerText.trim().split(/\s/)[0], r.querySelectorAll('td')[0].innerText.trim()]))`)
	terminal := shared.must(t, nil, "table", "growth", "--columns", "quote.last")
	for symbol, text := range cells {
		line := ""
		for _, l := range strings.Split(terminal, "\n") {
			if strings.HasPrefix(l, symbol+" ") {
				line = strings.ReplaceAll(l, "not_", "not ")
			}
		}
		if symbol == "USD/JPY" { // it is traded, and another test may have refreshed it in between
			continue
		}
		if text == "" || !strings.Contains(line, text) {
			t.Errorf("%s: the console says %q, the terminal %q", symbol, text, line)
		}
	}
	if label := read[string](p, `[...document.querySelectorAll('tbody tr')].find(r => r.innerText.includes('NETS.XPLR')).querySelector('td svg').getAttribute('aria-label')`); !strings.Contains(label, "stale, ended") {
		t.Errorf("the mark of a delisted name says %q", label)
	}
	p.silent()
}

func TestConsoleByKeyboardAlone(t *testing.T) {
	t.Parallel()
	shared.must(t, nil, "watchlist", "new", "keys")
	shared.must(t, nil, "watchlist", "add", "keys", "KELP.XCVH", "FERY.XCVH")
	p := open(t, shared, "/lists/keys", 1280, 800, false)
	p.await("two rows", rowsShown+`.length === 2`)
	// Find a listing and add it, then undo.
	p.press("/")
	p.await("the search has the focus", `document.activeElement.matches('input[role=combobox]')`)
	p.fill("input[role=combobox]", "slackwater tid")
	p.await("a listing is found", `document.querySelector('[role=option]')?.innerText.includes('TIDE.XPLR')`)
	p.press(kb.Enter)
	p.await("it is added", rowsShown+`.join() === 'KELP.XCVH,FERY.XCVH,TIDE.XPLR'`)
	p.await("and shown beside", `document.querySelector('aside')?.innerText.includes('Slackwater Tidal Power')`)
	p.do(chromedp.Focus(`.toast .btn-primary`))
	p.press(kb.Enter)
	p.await("undone", rowsShown+`.join() === 'KELP.XCVH,FERY.XCVH'`)
	// Walk to a cell and have it explained.
	p.press(kb.Escape)
	p.do(chromedp.Focus("table[role=grid]"))
	p.press(kb.ArrowDown, kb.ArrowRight, kb.ArrowRight)
	p.press(kb.Enter)
	p.await("the account", `document.querySelector('aside section')?.innerText.includes('quote.last - quote.previous_close')`)
	if q := read[string](p, "location.search"); !strings.Contains(q, "row=FERY.XCVH") || !strings.Contains(q, "field=quote.change") {
		t.Errorf("the address does not hold what is shown: %s", q)
	}
	p.press(kb.Escape)
	p.await("the panel is closed", `!document.querySelector('aside')`)
	p.silent()
}

const changes = `[...document.querySelectorAll('tbody tr')].filter(r => r.querySelector('th')).map(r => Number(r.querySelectorAll('td')[2].innerText.replace('−', '-')))`

func TestConsoleSortsFiltersAndExplainsBadFilters(t *testing.T) {
	t.Parallel()
	p := open(t, shared, "/lists/everything?view=quotes", 1280, 800, false)
	p.await("rows", rowsShown+`.length > 10`)
	if n := read[int](p, `document.querySelectorAll('tbody tr').length`); n > 80 {
		t.Errorf("%d rows are drawn for 500", n)
	}
	p.click(`//th[contains(., 'Change')][contains(., '%')]/button`)
	p.await("sorted upward", `location.search.includes('sort=quote.change_pct') && document.querySelector('th[aria-sort=ascending]') && (c => c.length > 8 && c.every((x, i) => i === 0 || c[i - 1] <= x))(`+changes+`)`)
	p.fill("input[aria-label=Filter]", "quote.lst > 3"+kb.Enter)
	p.await("the nearest field is proposed", `document.querySelector('#where-trouble').innerText.includes('"quote.last"')`)
	if n := read[int](p, rowsShown+`.length`); n == 0 {
		t.Error("a bad filter empties the table")
	}
	p.fill("input[aria-label=Filter]", `profile.kind = "bond"`+kb.Enter)
	p.await("bonds alone", rowsShown+`.length === 4`)
	p.click(`//button[contains(., 'stale')]`)
	p.await("an empty result says so", `document.body.innerText.includes('No row of 500 meets the filter')`)
	p.silent("422")
}

func TestConsoleRefreshShowsProgressAndCost(t *testing.T) {
	t.Parallel()
	p := open(t, shared, "/lists/everything", 1280, 800, false)
	p.await("rows", rowsShown+`.length > 10`)
	p.click(`//button[normalize-space()='Plan']`)
	p.await("the plan", `document.querySelector('dialog')?.innerText.includes('left today')`)
	p.click(`//button[normalize-space()='Refresh all']`)
	p.await("progress", `/\d+ of \d+ requests, \d+ units/.test(document.body.innerText)`)
	p.awaitFor(90, "the end", `/Refreshed everything: \d+ requests, \d{4,5} units\./.test(document.body.innerText)`)
	p.silent()
}

func TestConsoleHealthLeadsToTheCell(t *testing.T) {
	t.Parallel()
	p := open(t, shared, "/lists/income/health", 1280, 800, false)
	p.await("the conflict with a vendor", `document.querySelector('table[aria-labelledby=conflicts]')?.innerText.includes('CABL.XNMK')`)
	p.do(chromedp.Navigate(shared.address + "/lists/growth/health"))
	p.await("reasons", `document.body.innerText.includes('missing: rejected')`)
	p.click(`//section[@aria-label='By reason']//a[text()='OARS.XCVH']`)
	p.await("the account of the cell", `document.querySelector('aside section')?.innerText.includes('n/a*')`)
	p.do(chromedp.Navigate(shared.address + "/sources"))
	p.await("the source", `document.body.innerText.includes('Gannet market data') && document.body.innerText.includes('works')`)
	p.silent()
}

func TestConsoleOnAPhoneAndInBothThemes(t *testing.T) {
	t.Parallel()
	for _, dark := range []bool{false, true} {
		p := open(t, shared, "/lists/income?row=ROPE.XNMK&field=quote.last", 390, 780, dark)
		p.await("the panel", `document.querySelector('aside section')`)
		if wide := read[int](p, `document.documentElement.scrollWidth`); wide > 390 {
			t.Errorf("the page is %d pixels wide on a screen of 390", wide)
		}
		if theme := read[string](p, `getComputedStyle(document.documentElement).colorScheme`); (theme == "dark") != dark {
			t.Errorf("the theme is %s", theme)
		}
		for _, c := range read[[]contrast](p, contrasts) {
			if c.Ratio < 4.5 {
				t.Errorf("dark %t: contrast %.2f of %q", dark, c.Ratio, c.Text)
			}
		}
		if nameless := read[[]string](p, `[...document.querySelectorAll('button, a, input, select, summary')].filter(e => !(e.textContent?.trim() || e.getAttribute('aria-label') || e.labels?.length || e.title)).map(e => e.outerHTML.slice(0, 120))`); len(nameless) > 0 {
			t.Errorf("controls without a name: %v", nameless)
		}
		p.silent()
	}
}

type contrast struct {
	Text  string
	Ratio float64
}

// contrasts measures the visible texts of a page against what they stand on, by
// the formula of WCAG 2.2, drawing the colours so that any notation is read.
const contrasts = `(() => {
	const ctx = Object.assign(document.createElement('canvas'), { width: 1, height: 1 }).getContext('2d', { willReadFrequently: true });
	const rgba = (c) => { ctx.clearRect(0, 0, 1, 1); ctx.fillStyle = c; ctx.fillRect(0, 0, 1, 1); const d = ctx.getImageData(0, 0, 1, 1).data; return [d[0], d[1], d[2], d[3] / 255]; };
	const light = ([r, g, b]) => [r, g, b].map(v => v / 255).map(v => v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4).reduce((s, v, i) => s + v * [0.2126, 0.7152, 0.0722][i], 0);
	const ground = (e) => { for (; e; e = e.parentElement) { const c = rgba(getComputedStyle(e).backgroundColor); if (c[3] > 0.99) return c; } return [255, 255, 255, 1]; };
	const out = [];
	for (const e of document.querySelectorAll('body *')) {
		const text = [...e.childNodes].filter(n => n.nodeType === 3).map(n => n.textContent.trim()).join('');
		const box = e.getBoundingClientRect();
		if (!text || !box.width || e.closest('[disabled], .sr-only, .skeleton') || getComputedStyle(e).visibility === 'hidden') continue;
		const [back, ink] = [ground(e), rgba(getComputedStyle(e).color)];
		const mixed = ink.slice(0, 3).map((v, i) => v * ink[3] + back[i] * (1 - ink[3]));
		const [a, b] = [light(mixed), light(back)].sort((x, y) => y - x);
		out.push({ Text: text.slice(0, 40), Ratio: (a + 0.05) / (b + 0.05) });
	}
	return out;
})()`

func TestConsoleKeepsTheTableWhenTheServiceIsAway(t *testing.T) {
	t.Parallel()
	own := start(t, "demo", "--data", filepath.Join(folder, "away"), "--listen", "127.0.0.1:0", "--listings", "60", "--clock", "2026-03-07T12:00:00Z")
	p := open(t, own, "/lists/income", 1280, 800, false)
	p.await("rows", rowsShown+`.includes('KELP.XCVH')`)
	if err := own.interrupt(); err != nil {
		t.Fatal(err)
	}
	p.await("the notice", `document.body.innerText.includes('The service does not answer.')`)
	if !read[bool](p, rowsShown+`.includes('KELP.XCVH')`) {
		t.Error("the table is gone")
	}
}

// What the console says of a listing is what the command line says.
func TestConsoleShowsAListingInFull(t *testing.T) {
	t.Parallel()
	dividends := shared.must(t, nil, "dividends", "KELP.XCVH", "--format", "csv")
	first := ""
	for _, line := range strings.Split(dividends, "\r\n")[1:] {
		if cells := strings.Split(line, ","); len(cells) == 7 && cells[6] == "paid" {
			first = cells[0]
			break
		}
	}
	p := open(t, shared, "/lists/income?row=KELP.XCVH", 1280, 800, false)
	p.await("the panel", `document.querySelector('aside polyline')`)
	p.click(`//aside//h2/a`)
	p.await("the page", `location.pathname === '/listings/KELP.XCVH' && document.querySelectorAll('figure svg path').length > 5`)
	if !read[bool](p, `[...document.querySelectorAll('td')].some(c => c.innerText === '`+first+`')`) {
		t.Errorf("the newest dividend, of %s, is not there", first)
	}
	p.click(`//button[normalize-space()='1 month']`)
	p.await("the shorter range", `location.search === '?from=-1m' && document.querySelector('figcaption').innerText.startsWith('By day, from gannet')`)
	p.do(chromedp.SetValue(`select[aria-label="Adjustment"]`, "none"))
	read[any](p, `document.querySelector('select[aria-label="Adjustment"]').dispatchEvent(new Event('change', { bubbles: true }))`)
	p.await("the adjustment in the address", `location.search.includes('adjust=none')`)
	p.silent()
	// Its accounts are those of the command line, line by line.
	var accounts wire.Statements
	shared.must(t, &accounts, "statements", "KELP.XCVH", "--by", "quarter", "--of", "income", "--count", "8", "--growth", "--format", "json")
	p.click(`//button[normalize-space()='Quarters']`)
	p.await("the quarters", `location.search.includes('by=quarter') && document.querySelector('section[aria-labelledby=accounts] thead')?.innerText.includes('`+accounts.Periods[7].Label+`')`)
	lines := `[...document.querySelectorAll('section[aria-labelledby=accounts] tbody tr')]`
	if n := read[int](p, lines+`.length`); n != len(accounts.Lines) {
		t.Errorf("%d lines of accounts in the console, %d on the command line", n, len(accounts.Lines))
	}
	revenue := fmt.Sprintf("%.2f m", accounts.Lines[0].Cells[3].V.(float64)/1e6)
	if got := read[string](p, lines+`[0].children[4].innerText`); !strings.HasPrefix(got, revenue) || !strings.Contains(got, " %") {
		t.Errorf("revenue is %q in the console and %s on the command line", got, revenue)
	}
	p.silent()
	// Bars within the day are fetched where they are looked at.
	p = open(t, shared, "/listings/SALT.XCVH?from=-1w", 1280, 800, false)
	p.await("that there are none", `document.querySelector('section[aria-label=Prices]')?.innerText.includes('never fetched')`)
	p.click(`//main//button[normalize-space()='Refresh']`)
	p.await("the week", `document.querySelector('figcaption')?.innerText.startsWith('By quarter of an hour (UTC), from gannet')`)
	p.silent()
	// Nothing to draw is said in words.
	p = open(t, shared, "/listings/LIME.XTSG", 1280, 800, false)
	p.await("the reason", `document.body.innerText.includes('not covered')`)
	p.silent()
}

// A model's assumptions are typed in per cent, kept with the name and taken away again,
// which can be undone; the scores and holders beside it are those of the command line.
func TestConsoleValuesAShare(t *testing.T) {
	t.Parallel()
	var before, after wire.Model
	shared.must(t, &before, "model", "MUSL.XCVH", "--format", "json")
	p := open(t, shared, "/listings/MUSL.XCVH", 1280, 800, false)
	worth := `document.querySelector('section[aria-labelledby=model] p[role=status] span')?.innerText`
	p.await("the value", worth+fmt.Sprintf(` === '%.2f'`, *before.Value))
	p.fill("#model-discount", "7.5%")
	p.press("\t")
	p.await("another value", worth+fmt.Sprintf(` !== '%.2f'`, *before.Value))
	p.click(`//button[normalize-space()='Keep with MUSL.XCVH']`)
	p.await("a note", `document.body.innerText.includes('kept with MUSL.XCVH')`)
	shared.must(t, &after, "model", "MUSL.XCVH", "--format", "json")
	if a := after.Assumptions[6]; *a.Value != 0.075 || !a.Yours || after.Saved == nil {
		t.Errorf("kept %+v", a)
	}
	if got := read[string](p, worth); got != fmt.Sprintf("%.2f", *after.Value) {
		t.Errorf("the console says %s, the command line %v", got, *after.Value)
	}
	p.click(`//button[normalize-space()='Follow the history again']`)
	p.await("the first value", worth+fmt.Sprintf(` === '%.2f'`, *before.Value))
	p.click(`//button[normalize-space()='Undo']`)
	p.await("it is undone", worth+fmt.Sprintf(` === '%.2f'`, *after.Value))
	shared.must(t, nil, "model", "MUSL.XCVH", "--reset")
	p.click(`//button[normalize-space()='Dividends for ever']`)
	p.await("the other model", `document.querySelectorAll('section[aria-labelledby=model] input').length === 3`)
	p.fill("#model-discount", "hope")
	p.press("\t")
	p.await("what is wrong", `document.body.innerText.includes('"hope" is no number')`)
	var score wire.Explanation
	shared.must(t, &score, "score", "MUSL.XCVH", "--period", "FY", "--format", "json")
	if got := read[string](p, `document.querySelector('section[aria-labelledby=scores] tbody tr:last-child').children[2].innerText`); got != score.Readable {
		t.Errorf("the F-score of the year is %s in the console and %s on the command line", got, score.Readable)
	}
	if n := read[int](p, `document.querySelectorAll('section[aria-labelledby=holders] tbody tr').length`); n != 18 {
		t.Errorf("%d lines of holders", n)
	}
	p.silent("422")
}

func TestConsoleShowsFiguresAcrossNames(t *testing.T) {
	t.Parallel()
	p := open(t, shared, "/lists/contrasts", 1280, 800, false)
	p.click(`//a[normalize-space()='Years']`)
	table := `document.querySelector('table[aria-label="Figures across names"]')`
	p.await("six blocks", table+`?.querySelectorAll('tbody').length === 6`)
	if blanks := read[[]string](p, `[...`+table+`.querySelectorAll('td')].map(c => c.innerText.trim()).filter(c => !/[0-9]/.test(c))`); len(blanks) == 0 || slices.ContainsFunc(blanks, func(s string) bool {
		return !strings.Contains(s, "not applicable") && !strings.Contains(s, "input missing")
	}) {
		t.Errorf("blanks say %q", blanks)
	}
	p.click(`//button[normalize-space()='By figure']`)
	p.await("twelve blocks", table+`?.querySelectorAll('tbody').length === 12 && location.search === '?shape=figure'`)
	p.do(chromedp.SetValue(`select[aria-label="Figures"]`, "accounts"))
	read[any](p, `document.querySelector('select[aria-label="Figures"]').dispatchEvent(new Event('change', { bubbles: true }))`)
	p.click(`//label[contains(., 'all have')]/input`)
	p.await("one day for all", `location.search.includes('common=yes') && document.body.innerText.includes('to which every name has accounts')`)
	p.silent()
}

func TestConsoleShowsIncomeAndOneCurrency(t *testing.T) {
	t.Parallel()
	var x wire.Income
	shared.must(t, &x, "income", "income", "--format", "json")
	p := open(t, shared, "/lists/income", 1280, 800, false)
	p.click(`//a[normalize-space()='Income']`)
	p.await("the chart", `location.pathname === '/lists/income/income' && document.querySelectorAll('figure svg path').length > 5`)
	if n := read[int](p, `document.querySelectorAll('section[aria-labelledby=payments] tbody tr').length`); n != len(x.Payments) {
		t.Errorf("%d payments in the calendar, %d on the command line", n, len(x.Payments))
	}
	p.do(chromedp.Navigate(shared.address + "/lists/growth?view=holdings"))
	p.await("a weight that lacks a rate", `document.body.innerText.includes('input missing')`)
	p.do(chromedp.SetValue(`select[aria-label="Currency"]`, "EUR"))
	read[any](p, `document.querySelector('select[aria-label="Currency"]').dispatchEvent(new Event('change', { bubbles: true }))`)
	p.await("one currency", `location.search.includes('in=EUR') && document.querySelector('thead').innerText.includes('EUR') && !document.querySelector('thead').innerText.includes('own currency')`)
	p.silent()
	p = open(t, shared, "/lists/everything/income", 390, 780, true)
	p.await("nothing held", `document.body.innerText.includes('Nothing is held in everything')`)
	p.silent()
}

func TestConsoleImportsAList(t *testing.T) {
	t.Parallel()
	shared.must(t, nil, "watchlist", "new", "pasted")
	p := open(t, shared, "/lists/pasted", 1280, 800, false)
	p.await("the list", `document.body.innerText.includes('pasted is empty')`)
	p.click(`//button[contains(., 'paste a list')]`)
	p.do(chromedp.SendKeys("#import-text", "Code;Shares;Number\nKELP.XCVH;120;3\nTIDE.XPLR;5;1\nNONE.XCVH;9;1"))
	const dialog = `document.querySelector('dialog[open]')`
	p.await("what was understood", dialog+`.innerText.includes('To add: 2. There already: 0. Cannot be added: 1.')`)
	if text := read[string](p, dialog+`.querySelector('tbody').innerText`); !strings.Contains(text, "Marram Kelp Farms") || !strings.Contains(text, "NONE.XCVH") {
		t.Errorf("the lines say %q", text)
	}
	if n := read[int](p, `[...`+dialog+`.querySelectorAll('tbody tr')].filter(r => r.innerText.includes('120')).length`); n != 1 {
		t.Errorf("%d lines with the quantity", n)
	}
	// A wrong guess is put right, here by saying that there are no quantities.
	p.do(chromedp.SetValue(chromedp.Search(`//dialog//label[contains(., 'quantity')]/select`), ""))
	read[any](p, dialog+`.querySelectorAll('select')[4].dispatchEvent(new Event('change', { bubbles: true }))`)
	p.await("no quantity", `!`+dialog+`.querySelector('tbody').innerText.includes('120')`)
	p.click(`//dialog//button[normalize-space()='Add']`)
	p.await("the rows", rowsShown+`.join() === 'KELP.XCVH,TIDE.XPLR'`)
	p.await("what was done", `document.body.innerText.includes('could not be added: 1')`)
	p.silent()
}

func TestConsoleSchedulesAList(t *testing.T) {
	t.Parallel()
	shared.must(t, nil, "watchlist", "new", "timed")
	shared.must(t, nil, "watchlist", "add", "timed", "KELP.XCVH")
	p := open(t, shared, "/lists/timed", 1280, 800, false)
	p.await("the list", rowsShown+`.length === 1`)
	p.click(`//summary[normalize-space()='List']`)
	p.click(`//button[normalize-space()='Schedule…']`)
	p.click(`//dialog//label[contains(., 'set times')]/input`)
	p.fill(`dialog input[aria-label="Five fields"]`, "0 8 * *")
	p.fill(`dialog input[aria-label="Time zone"]`, "UTC")
	p.click(`//dialog//button[normalize-space()='Set']`)
	p.await("what is wrong with it", `document.querySelector('dialog[open] [role=alert]').innerText.includes('0 8 * *')`)
	p.fill(`dialog input[aria-label="Five fields"]`, "0 8 * * 1-5")
	p.click(`//dialog//button[normalize-space()='Set']`)
	p.await("the dialog is closed", `!document.querySelector('dialog[open]')`)
	if said := shared.must(t, nil, "watchlist", "schedule", "timed"); !strings.Contains(said, "0 8 * * 1-5") {
		t.Errorf("the command line says %s", said)
	}
	p.silent("422")
}

func TestConsoleChecksASourceAndSetsWhoIsAskedFirst(t *testing.T) {
	t.Parallel()
	own := start(t, "demo", "--data", filepath.Join(folder, "checked"), "--listen", "127.0.0.1:0", "--listings", "60", "--clock", "2026-03-07T12:00:00Z")
	p := open(t, own, "/sources", 1280, 800, false)
	p.await("the sources", `document.querySelectorAll('section[aria-label=gannet]').length === 1`)
	p.click(`//section[@aria-label='gannet']//button[normalize-space()='Check']`)
	p.await("raw beside mapped", `document.querySelector('[aria-label="Check of gannet"] table')`)
	p.click(`//*[@aria-label='Check of gannet']//button[contains(., 'quotes')]`)
	const sample = `[...document.querySelectorAll('[aria-label="Check of gannet"] tbody tr')].map(r => [...r.cells].map(c => c.innerText.trim()).join(' '))`
	p.await("the last price", sample+`.some(r => /^last last \d+(\.\d+)? \d+(\.\d+)?$/.test(r))`)
	p.click(`//*[@aria-label='Check of gannet']//button[normalize-space()='Close']`)
	p.click(`//section[@aria-label='whimbrel']//input[@type='checkbox']`)
	p.await("it is off", `document.querySelector('section[aria-label=whimbrel]').innerText.includes('switched off')`)
	p.click(`//*[contains(@class, 'toast')]//button[normalize-space()='Undo']`)
	p.await("it is on again", `!document.querySelector('section[aria-label=whimbrel]').innerText.includes('switched off')`)
	p.do(chromedp.SetValue(`select[aria-label="First source for listings"]`, "dunlin"))
	read[any](p, `document.querySelector('select[aria-label="First source for listings"]').dispatchEvent(new Event('change', { bubbles: true }))`)
	p.await("the order", `[...document.querySelectorAll('section[aria-label=Preference] tbody tr')].some(r => r.cells[0].innerText === 'listings' && r.cells[2].innerText === 'gannet')`)
	if said := own.must(t, nil, "source", "prefer"); !strings.Contains(said, "dunlin, then gannet") {
		t.Errorf("the command line says %s", said)
	}
	p.silent()
}

func TestConsoleEmptyStates(t *testing.T) {
	t.Parallel()
	shared.must(t, nil, "watchlist", "new", "nothing yet")
	p := open(t, shared, "/lists/nothing%20yet", 1280, 800, false)
	p.await("what to do", `document.body.innerText.includes('nothing yet is empty')`)
	p.do(chromedp.Navigate(shared.address + "/lists/no-such"))
	p.await("what there is", `document.body.innerText.includes('there is no watchlist "no-such"') && document.body.innerText.includes('There are:')`)
	p.silent("404")
}

// Pictures for the documentation, when a folder is named for them.
func TestScreenshots(t *testing.T) {
	into := os.Getenv("SOBA_SCREENSHOTS")
	if into == "" {
		t.Skip("SOBA_SCREENSHOTS names no folder")
	}
	shown := rowsShown + `.length > 10`
	button := func(name string) string { return `//button[normalize-space()='` + name + `']` }
	for name, c := range map[string]struct {
		path          string
		width, height int64
		dark          bool
		before        string
		clicks        []string
		paste         string
		ready         string
	}{
		"watchlist":      {path: "/lists/income?row=KELP.XCVH&field=quote.change_pct", ready: `document.querySelector('aside section') && document.querySelector('aside polyline')`},
		"watchlist-dark": {path: "/lists/everything?view=prices&sort=-price.return_13w", dark: true, ready: shown},
		"health":         {path: "/lists/growth/health", ready: `document.body.innerText.includes('missing: rejected')`},
		"income":         {path: "/lists/income/income", ready: `document.querySelectorAll('figure svg path').length > 10`},
		"listing":        {path: "/listings/WIND.XCVH?from=-5y", ready: `document.querySelectorAll('figure svg path').length > 10 && document.querySelectorAll('main svg').length > 1`},
		"accounts":       {path: "/listings/WIND.XCVH?by=quarter", before: `document.querySelector('section[aria-labelledby=accounts] thead')?.innerText.includes('Q4')`, clicks: []string{button("Cash flow"), button("Income")}, ready: `document.querySelector('section[aria-labelledby=accounts] tbody')?.innerText.includes('Revenue')`},
		"analysts":       {path: "/listings/KELP.XCVH", before: `document.querySelector('section[aria-labelledby=analysts] svg')`, ready: `(document.querySelector('#analysts').scrollIntoView(), true)`},
		"model":          {path: "/listings/KELP.XCVH", before: `document.querySelector('section[aria-labelledby=model] table') && document.querySelector('section[aria-labelledby=scores] table') && document.querySelector('section[aria-labelledby=analysts] svg')`, ready: `(document.querySelector('#scores').scrollIntoView(), true)`},
		"across":         {path: "/lists/contrasts/across", ready: `document.querySelector('table[aria-label="Figures across names"]')`},
		"sources":        {path: "/sources", before: `document.querySelector('section[aria-label=whimbrel]')`, clicks: []string{`//section[@aria-label='whimbrel']` + button("Check")}, ready: `document.querySelector('[aria-label="Check of whimbrel"] table')`},
		"plan":           {path: "/lists/everything", before: shown, clicks: []string{button("Plan")}, ready: `document.querySelector('dialog[open]')?.innerText.includes('left today')`},
		"import":         {path: "/lists/income", before: shown, clicks: []string{`//summary[normalize-space()='List']`, button("Add many…")}, paste: "Security;Shares;Unit cost\nKELP.XCVH;120;31,20\nTIDE.XPLR;40;17,05\nMUSL;15;9\nMUSL.XNMK;15;9,60\nKELPS.XCVH;5;30\n", ready: `document.querySelector('dialog[open] tbody')`},
		"phone":          {path: "/lists/growth", width: 390, height: 780, dark: true, ready: shown},
	} {
		p := open(t, shared, c.path, cmp.Or(c.width, 1280), cmp.Or(c.height, 800), c.dark)
		if c.before != "" {
			p.await("the page", c.before)
		}
		for _, path := range c.clicks {
			p.click(path)
		}
		if c.paste != "" {
			p.do(chromedp.SendKeys("dialog textarea", c.paste))
		}
		p.await(name, c.ready)
		p.await("the fonts", `document.fonts.status === 'loaded'`)
		read[any](p, `new Promise(done => setTimeout(done, 500, 0))`) // a dialog fades in
		picture, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(into, fmt.Sprintf("%s.png", name)), picture, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for name, line := range map[string]string{
		"terminal-table":   "soba table income --view holdings",
		"terminal-explain": "soba explain KELP.XCVH quote.change_pct",
		"terminal-source":  "soba source list && soba source try whimbrel ratios KELP.XCVH && soba source try gannet funds",
		"terminal-health":  "soba health growth",
		"terminal-prices":  "soba prices KELP.XCVH MUSL.XNMK COLD.XTSG --from 2025-12-22 --to 2026-01-05 -c close --shape wide --gaps carry",
		"terminal-across":  "soba across HBNK.XCVH CHRT.XNMK --count 4",
	} {
		r := shared.with(t, "", "sh", "-c", line)
		if r.code != 0 {
			t.Fatalf("%s: %s", line, r.err)
		}
		sheet := filepath.Join(folder, name+".html")
		html := `<meta charset="utf-8"><style>body{margin:0;background:#101a22;color:#dfe7ea}pre{font:14px/1.45 "DejaVu Sans Mono",monospace;padding:20px;margin:0}b{color:#6cc3cf}</style><pre><b>$ ` + template.HTMLEscapeString(line) + "</b>\n" + template.HTMLEscapeString(r.out) + "</pre>"
		if err := os.WriteFile(sheet, []byte(html), 0o644); err != nil {
			t.Fatal(err)
		}
		p := open(t, &process{address: "file://" + sheet}, "", 1280, 800, true)
		picture, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(into, name+".png"), picture, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
