package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

const twoTables = `welkin: 1
name: forms
parameters:
  - {name: secret, type: text, default: larkfell}
steps:
  - step: huts
    does: pasted rows
    rows: |
      code,name,class,since
      H01,Larkfell,warden,2026-01-01
      H02,Ormskell,self,2026-01-01
      H03,Fennwick,self,2026-06-01
  - step: stays
    does: pasted rows
    rows: |
      hut,guest,night,beds,price,m_1,m_2,parts,said
      H01,ann@larkfell.example,2026-07-01,2,19.50,4,5,a-b,"{""x"": 1}"
      H01,bo,2026-07-02,1,19.50,6,,c-d,"{""x"": 2}"
      H02,cy,2026-07-02,4,24.00,1,2,e-f,"{""x"": 3}"
      H09,,2026-07-03,0,24.00,,3,g,"{""x"": 4}"
  - {step: records, does: parse text, from: stays, column: said, as: json, type: "record{x int}"}
  - {step: lists, does: derive columns, from: stays, columns: [{name: nights, value: "ARRAY[m_1, m_2]"}]}
`

// hand is one thing that a person does in a form.
type hand func(b *browser)

func writes(setting, text string) hand {
	return func(b *browser) {
		b.fill(`[data-setting="`+setting+`"] :is(input:not([type=checkbox]),textarea,.cm-content)`, text)
	}
}
func writesAt(label, text string) hand {
	return func(b *browser) { b.fill(`[aria-label="`+label+`"]`, text) }
}
func chooses(selector, value string) hand { return func(b *browser) { b.pick(selector, value) } }
func choose(setting, value string) hand {
	return chooses(`[data-setting="`+setting+`"] select`, value)
}
func ticks(label string) hand {
	return func(b *browser) {
		b.there(`input[type=checkbox][aria-label="` + label + `"]`)
		b.until("tick "+label, `(() => { document.querySelector('input[type=checkbox][aria-label="`+label+`"]').click(); return true })()`)
	}
}

// word presses a column's name, or another word, in the list of a setting.
func word(setting, name string) hand {
	return func(b *browser) {
		find := `[...document.querySelectorAll('[data-setting="` + setting + `"] button')].find((e) => e.innerText.trim() === ` + quoted(name) + `)`
		b.until("find the word "+name, find+` !== undefined`)
		b.until("press the word "+name, `(() => { `+find+`.click(); return true })()`)
	}
}

// also opens a setting that stands folded among those with their usual value.
func also(setting string) hand {
	return func(b *browser) {
		find := `[...document.querySelectorAll('.also button')].find((e) => e.innerText.trim() === ` + quoted(setting) + `)`
		b.until("find the setting "+setting, find+` !== undefined`)
		b.until("open the setting "+setting, `(() => { `+find+`.click(); return true })()`)
	}
}
func pushes(text string) hand { return func(b *browser) { b.push(text) } }
func sees(text string) hand   { return func(b *browser) { b.see(text) } }

// TestEachStepIsBuiltByItsForm adds every kind of step that needs nothing from
// outside, sets it by its form alone, and sees its rows.
func TestEachStepIsBuiltByItsForm(t *testing.T) {
	b := start(t, 0.02).withDemo().open().sign()
	b.visit("/pipelines")
	b.keep(twoTables)
	for _, c := range []struct {
		kind   string // after " after ": the step it is added to, stays when left out
		with   bool
		does   []hand
		rows   string // how many come out
		column string // among the columns that come out
	}{
		{"choose columns", false, []hand{ticks("take hut"), ticks("take beds"), writesAt("new name of beds", "sleepers"), writesAt("type of beds", "decimal(6,1)")}, "4", "sleepers"},
		{"derive columns", false, []hand{pushes("Write one"), writesAt("columns 1 name", "total"), writesAt("columns 1 value", "beds * price")}, "4", "total"},
		{"tidy names", false, nil, "4", "hut"},
		{"split column", false, []hand{writes("column", "parts"), also("at"), writes("at", "-"), pushes("Add one"), writesAt("into 1", "first"), pushes("Add one"), writesAt("into 2", "second")}, "4", "second"},
		{"calendar parts", false, []hand{writes("column", "night"), ticks("year"), pushes("All of them")}, "4", "fiscal_month"},
		{"mask", false, []hand{word("columns", "guest"), choose("how", "keep last")}, "4", "guest"},
		{"find personal data", false, []hand{choose("do", "mask"), sees("e-mail address")}, "4", "guest"},
		{"parse text", false, []hand{writes("column", "said"), choose("as", "json")}, "4", "said"},
		{"flatten records after records", false, []hand{word("columns", "said")}, "4", "said_x"},
		{"spread list after lists", false, []hand{writes("column", "nights")}, "8", "nights"},
		{"keep rows", false, []hand{writes("where", "beds > 0")}, "3", "hut"},
		{"route", false, []hand{pushes("Add a branch"), writesAt("branches 1 name", "many"), writesAt("branches 1 where", "beds > 1")}, "4", "hut"},
		{"drop duplicates", false, []hand{word("by", "hut")}, "3", "hut"},
		{"sort", false, []hand{pushes("Add one"), writesAt("by 1 by", "beds"), chooses("[aria-label='by 1 order']", "falling")}, "4", "hut"},
		{"sample", false, []hand{writes("rows", "2")}, "2", "hut"},
		{"limit", false, []hand{writes("rows", "3")}, "3", "hut"},
		{"stack", true, nil, "7", "code"},
		{"join", true, []hand{pushes("hut = code"), sees("without")}, "3", "class"},
		{"look up", true, []hand{pushes("hut = code"), sees("without")}, "4", "class"},
		{"match names", true, []hand{writes("column", "guest"), writes("name", "name"), sees("too far")}, "4", "score"},
		{"find valid", true, []hand{pushes("Add a key"), chooses("[aria-label='on 1 left']", "hut"), chooses("[aria-label='on 1 right']", "code"), writes("at", "night"), writes("valid_from", "since"), writes("valid_to", "since")}, "4", "class"},
		{"compare", true, []hand{pushes("Add a key"), chooses("[aria-label='on 1 left']", "hut"), chooses("[aria-label='on 1 right']", "code"), sees("gone")}, "4", "mark"},
		{"group", false, []hand{word("by", "hut"), chooses("[aria-label='what is computed']", "sum"), chooses("[aria-label='of which column']", "beds"), pushes("Add it")}, "3", "beds_sum"},
		{"pivot", false, []hand{word("by", "hut"), writes("column", "night"), chooses("[aria-label='what is computed']", "sum"), chooses("[aria-label='of which column']", "beds"), pushes("Use it")}, "3", "2026-07-02"},
		{"unpivot", false, []hand{word("columns", "m_1"), word("columns", "m_2")}, "6", "value"},
		{"window", false, []hand{word("by", "hut"), chooses("[aria-label='what is computed']", "row number"), pushes("Add it")}, "4", "row_number"},
		{"check rules", false, []hand{pushes("Add a rule"), word("rules", "beds"), chooses("[aria-label='rules 1 check']", "from – to"), writesAt("rules 1 least", "1")}, "3", "beds"},
		{"sql", false, []hand{writes("query", "SELECT hut, count(*) AS n FROM stays GROUP BY hut")}, "3", "n"},
		{"script", false, []hand{writes("code", "def row(r):\n    return r\n")}, "4", "hut"},
		{"generate rows", false, []hand{writes("column", "day"), writes("from_value", "date '2026-01-01'"), writes("to_value", "date '2026-01-31'")}, "31", "day"},
		{"pasted rows", false, []hand{writes("rows", "a,b\n1,2\n")}, "1", "b"},
	} {
		t.Run(c.kind, func(t *testing.T) {
			b.t = t
			kind, at, found := strings.Cut(c.kind, " after ")
			if !found {
				at = "stays"
			}
			b.fresh("/pipelines/3?step=" + at)
			b.see("What next after")
			b.press("a")
			b.fill("input[aria-label='What next']", kind)
			b.until("it is offered first", `document.querySelector('.hits li')?.innerText.startsWith(`+quoted(kind)+`)`)
			b.press(kb.Enter)
			b.until("the step is there", `document.querySelector("[aria-label='Name of the step']")?.value !== `+quoted(at))
			if c.with {
				b.pick("select[aria-label=with]", "huts")
			}
			for _, do := range c.does {
				do(b)
			}
			b.until("its rows come: "+c.rows, `[...document.querySelectorAll('[role=tab]')].some((e) => /^After/.test(e.innerText) && e.innerText.replace(/\D/g, '') === '`+c.rows+`')
				|| [...document.querySelectorAll('.steps .line.on .num')].some((e) => e.innerText.replace(/\D/g, '') === '`+c.rows+`')`)
			b.until("its columns come: "+c.column, `(() => { const g = document.querySelector('.cells'); if (g) g.scrollLeft = g.scrollLeft ? 0 : 9999; return true })() && [...document.querySelectorAll('[role=columnheader]')].some((e) => e.innerText.startsWith(`+quoted(c.column)+`))`)
			b.shot("form " + c.kind)
			require.Empty(t, b.errors)
		})
	}
	b.t = t
}
