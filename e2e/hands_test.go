package e2e

import (
	"strings"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// hands are the two ways in which a person works on a page. Both take the same
// scripts, so that whatever can be done by one can be done by the other.
type hands interface {
	// reach goes to an element: for the keyboard it has the focus then, for the
	// mouse it has been pressed.
	reach(find string)
	// act presses the button that has been found.
	act(find string)
	// choose takes an option of a select.
	choose(find, value string)
	// begin asks for a further step.
	begin()
	// take takes what is offered first.
	take()
}

// builder builds a sheet by hand.
type builder struct {
	*browser
	hands
}

// element is JavaScript that finds an element by a selector, and by how its text
// begins if that is given.
func element(selector, text string) string {
	if text == "" {
		return `document.querySelector(` + quoted(selector) + `)`
	}
	return `[...document.querySelectorAll(` + quoted(selector) + `)].find((e) => !e.disabled && e.innerText.replace(/\s+/g, ' ').trim().startsWith(` + quoted(text) + `))`
}

// await waits for an element.
func (b *browser) await(find string) {
	b.t.Helper()
	b.until("find "+find, `(`+find+` ?? null) !== null`)
}

// eval asks the page something.
func eval[T any](b *browser, expression string) T {
	b.t.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](expression))
	require.NoError(b.t, err, expression)
	return v
}

// keyboard touches no mouse: it goes by Tab, and by the keys that the app has.
type keyboard struct{ *browser }

func (k keyboard) reach(find string) {
	k.t.Helper()
	k.await(find)
	for range 400 {
		if eval[bool](k.browser, `document.activeElement === (`+find+`)`) {
			return
		}
		// Back where that is the shorter way, as one sees on the page.
		key := kb.Tab
		if eval[bool](k.browser, `document.activeElement !== document.body && !!((`+find+`).compareDocumentPosition(document.activeElement) & Node.DOCUMENT_POSITION_FOLLOWING)`) {
			k.do("go back", chromedp.KeyEvent(key, chromedp.KeyModifiers(chromedp.ModifierShift)))
			continue
		}
		k.press(key)
	}
	k.shot("failed")
	require.Fail(k.t, "not reached by Tab", find)
}

func (k keyboard) act(find string) {
	k.t.Helper()
	k.reach(find)
	if eval[bool](k.browser, `(`+find+`).type === 'checkbox'`) {
		k.press(" ")
		return
	}
	k.press(kb.Enter)
}

func (k keyboard) choose(find, value string) {
	k.t.Helper()
	k.until("option "+value, `[...((`+find+`)?.options ?? [])].some((o) => o.value === `+quoted(value)+`)`)
	k.reach(find)
	for range 100 {
		away := eval[int](k.browser, `((e) => [...e.options].findIndex((o) => o.value === `+quoted(value)+`) - e.selectedIndex)(`+find+`)`)
		if away == 0 {
			return
		}
		if away > 0 {
			k.press(kb.ArrowDown)
		} else {
			k.press(kb.ArrowUp)
		}
	}
	require.Fail(k.t, "not chosen by keys", value)
}

func (k keyboard) begin() {
	k.t.Helper()
	k.until("no field has the keys", `(() => { const e = document.activeElement; return !e?.closest('input,textarea,select,[contenteditable=true]') })() || true`)
	for range 5 {
		if eval[bool](k.browser, `!document.activeElement?.closest('input,textarea,select,[contenteditable=true]')`) {
			break
		}
		k.press(kb.Escape)
	}
	k.press("a")
}

func (k keyboard) take() { k.press(kb.Enter) }

// mouse goes nowhere by keys; it types only what has to be typed.
type mouse struct{ *browser }

func (m mouse) reach(find string) {
	m.t.Helper()
	m.await(find)
	m.until("it is in view", `(() => { const e = `+find+`; if (!e) return false; e.scrollIntoView({block: 'nearest'}); const r = e.getBoundingClientRect(); return r.width > 0 && r.top >= 0 && r.bottom <= innerHeight })()`)
	at := eval[[]float64](m.browser, `((r) => [r.left + Math.min(r.width / 2, 40), r.top + r.height / 2])((`+find+`).getBoundingClientRect())`)
	m.do("press "+find, chromedp.MouseClickXY(at[0], at[1]))
}

func (m mouse) act(find string) { m.t.Helper(); m.reach(find) }

// choose: the list of a select is drawn by the system, where no test can press;
// what pressing an option does is done by the page.
func (m mouse) choose(find, value string) {
	m.t.Helper()
	m.until("option "+value, `(() => { const e = `+find+`; if (![...(e?.options ?? [])].some((o) => o.value === `+quoted(value)+`)) return false; e.value = `+quoted(value)+`; e.dispatchEvent(new Event('change', {bubbles: true})); return true })()`)
}

func (m mouse) begin() { m.t.Helper(); m.reach(element("button.invite", "")) }
func (m mouse) take()  { m.t.Helper(); m.reach(element(".hits li", "")) }

// add adds a step of a kind after the chosen one.
func (b *builder) add(kind string) {
	b.t.Helper()
	now := eval[string](b.browser, `document.querySelector("[aria-label='Name of the step']")?.value ?? ''`)
	if !eval[bool](b.browser, `document.querySelector("input[aria-label='What next']") !== null`) {
		b.begin()
	}
	b.reach(element("input[aria-label='What next']", ""))
	// The key that opened the field is in it: the browser is driven by key events, not by keys.
	b.do("select all", chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	b.do("type "+kind, chromedp.KeyEvent(kind))
	b.until("it is offered first", `document.querySelector('.hits li')?.innerText.startsWith(`+quoted(kind)+`)`)
	b.take()
	b.until("the step is there", `(document.querySelector("[aria-label='Name of the step']")?.value ?? '') !== `+quoted(now))
}

// write replaces the text of a field.
func (b *builder) write(selector, text string) {
	b.t.Helper()
	b.reach(element(selector, ""))
	b.do("select all of "+selector, chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	b.do("type "+text, chromedp.KeyEvent(text))
	if eval[bool](b.browser, `!!document.activeElement?.closest('.cm-editor')`) {
		b.press(kb.Escape) // what is offered to complete it is left
		b.until("the field is left", `(() => { if (document.activeElement?.closest('.cm-editor')) { return false } return true })() || !document.querySelector('.cm-tooltip-autocomplete')`)
	}
}

// set writes a setting.
func (b *builder) set(setting, text string) {
	b.t.Helper()
	b.write(`[data-setting="`+setting+`"] :is(input:not([type=checkbox]),textarea,.cm-content)`, text)
}

// pickFor chooses a setting's value among those there are.
func (b *builder) pickFor(setting, value string) {
	b.t.Helper()
	b.choose(element(`[data-setting="`+setting+`"] select`, ""), value)
}

// pushOn presses a button by its text, within what a selector gives.
func (b *builder) pushOn(selector, text string) {
	b.t.Helper()
	find := element(selector, text)
	b.await(find)
	b.act(find)
}

// go to a step of the ledger.
func (b *builder) goTo(step string) {
	b.t.Helper()
	b.pushOn(".steps .line", step)
	b.until("at "+step, `document.querySelector("[aria-label='Name of the step']")?.value === `+quoted(step))
}

// name names the chosen step.
func (b *builder) name(step string) {
	b.t.Helper()
	b.write("[aria-label='Name of the step']", step)
	b.press(kb.Enter)
	b.until("it is called "+step, `[...document.querySelectorAll('.steps .line b')].some((e) => e.innerText.startsWith(`+quoted(step)+`))`)
}

// ready waits until the chosen step has rows after the last edit.
func (b *builder) ready() {
	b.t.Helper()
	b.until("rows come", `[...document.querySelectorAll('[role=tab]')].some((e) => /^(After|Before)/.test(e.innerText)) && !document.querySelector('.bad[role=alert]')`)
}

// run saves and runs the sheet.
func (b *builder) run() {
	b.t.Helper()
	b.pushOn("button.main", "Save and run")
	b.see("The books balance.")
}

// sheetNamed begins a new sheet.
func (b *builder) sheetNamed(name string) {
	b.t.Helper()
	b.fresh("/pipelines/new")
	b.write("[aria-label='Name of the pipeline']", name)
	b.press(kb.Tab)
}

// lines gives the records of a file's text, sorted, the header first.
func lines(text string) []string {
	all := strings.Split(strings.TrimRight(strings.ReplaceAll(text, "\r\n", "\n"), "\n"), "\n")
	return append(all[:1:1], sorted(all[1:])...)
}
